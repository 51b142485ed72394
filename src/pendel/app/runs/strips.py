"""Strips: plots of traces over a common time axis with two cursors."""

from __future__ import annotations

import math
from collections import Counter
from html import escape

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QEvent, QPointF, QRect, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QDragEnterEvent, QDragMoveEvent, QDropEvent, QKeyEvent
from PyQt6.QtWidgets import QMenu, QWidget

from pendel.app.plots.frame import Frame
from pendel.app.plots.lean_curve import LeanCurve
from pendel.app.plots.reading import Reading
from pendel.app.runs.sector_bands import Bands
from pendel.app.runs.strip_plot import StripView, heights
from pendel.app.runs.strip_rows import StripRows
from pendel.app.runs.strip_view import look_as_in
from pendel.app.runs.trace import Trace
from pendel.app.session.usual_strips import StripSpec
from pendel.app.widgets.basic import literal
from pendel.app.widgets.drawing import drawing_of
from pendel.app.widgets.explained import explained_by
from pendel.app.widgets.pictures import offer_pictures
from pendel.app.widgets.signal_drag import accept_signals
from pendel.app.widgets.theme import font, tokens, trace_colour
from pendel.core.drive.views import View
from pendel.core.runs.found.sectors import Sectors
from pendel.core.runs.record.display_units import OTHERS, ShownUnits, factor
from pendel.core.runs.record.drawn import stepped
from pendel.core.runs.record.kept import KeptRun

ANYBODYS = ("power", "loss", "voltage", "current")
"""Signals that say little without their card."""
TAG_WIDTH = 24.0
"""Pixels that a cursor's number takes beside its line."""
CAPTION = 25.0
"""Height kept free above the traces of a strip, px."""
FINEST, LEAST_SHOWN = 1e-6, 1e-12
"""Least height shown, over the peak of the traces, and by itself: below it lies rounding."""
HIGHER = 1.5
"""By which “Higher” makes a strip so."""
AXIS_WIDTH = 56
"""px"""
DASHES = (
    (Qt.PenStyle.SolidLine, ""),
    (Qt.PenStyle.DotLine, " (dotted)"),
    (Qt.PenStyle.DashDotLine, " (dash-dot)"),
    (Qt.PenStyle.DashDotDotLine, " (dash-dot-dot)"),
)
"""Lines of the signals that share a strip, and what the caption says of them, where colours tell runs
apart."""
SETPOINT = (Qt.PenStyle.DashLine, " (dashed)")


def without_common_words(titles: list[str]) -> list[str]:
    """Of three and more titles that begin alike only the first says so: current of switch a upper, a lower, b
    upper."""
    words = [title.split(" ") for title in titles]
    common = 0
    while len(titles) > 2 and all(len(w) > common + 1 and w[common] == words[0][common] for w in words):
        common += 1
    return titles[:1] + [" ".join(w[common:]) for w in words[1:]]


class Strips(StripRows):
    """The plots of the Runs page. Strips share time; cursors run through all of them."""

    cursors_moved = pyqtSignal(float, float)
    changed = pyqtSignal()
    moved_along = pyqtSignal()
    """The times that are shown are others."""
    added = pyqtSignal(list)
    """Signals that somebody puts on a strip."""
    unit_chosen = pyqtSignal(str, str)
    """A signal, and the unit in which it is to be shown."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.setAcceptDrops(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setToolTip("← → move cursor 2, with Shift cursor 1; + − zoom, F fits")
        self.setAccessibleName("Strips")
        explained_by(self, "plot:strips")
        self.view: View | None = None
        """How the next runs are to be looked at."""
        self._spare: list[Frame] = []
        """All plots that were ever needed; strips use them from the first on."""
        self._captions: list[pg.TextItem] = []
        self._building = False
        self.traces: list[list[Trace]] = []
        self.cursors: list[list[pg.InfiniteLine]] = []
        self.tags: list[pg.InfLineLabel] = []
        self.times = [0.0, 0.0]
        self.sectors: Sectors | None = None
        self.bands: list[Bands] = []
        self._shape: object = None
        self._fits: dict[int, tuple[float, float]] = {}
        """The heights strips were given by `_fit_height`."""
        self._begin, self._end = 0.0, 1.0
        """The whole time that `_fit_length` showed, s."""
        self.run_begin, self.run_end = 0.0, 1.0
        self._limited: tuple[float, float] | None = None
        self.rolls = False
        """Whether what is shown goes on."""
        """End of the longest run shown, s; the cursors stay before it."""
        self.said_of: dict[str, str] = {}
        """Signals of the runs shown, in words."""
        self.units_of: dict[str, tuple[str, ShownUnits]] = {}
        """The units they are declared with, and what is shown instead."""
        self.readings: list[Reading] = []
        """One for each of the spare plots."""
        self._pointer = QPointF(math.nan, math.nan)
        """Where the pointer is, in the scene; NaN once it has left."""
        self.scene().sigMouseMoved.connect(self._read)
        self.heights_changed.connect(self._refit)

    def build(self, specs: list[StripSpec], runs: list[tuple[KeptRun, str]], *, keep_view: bool = True) -> None:
        """Draw the strips for the ticked runs, each with its colour."""
        self.paint_in_turn()
        for run, _ in runs:
            run.fetch(key for spec in specs for key in spec.signals)
        at_ends = [self.times[0] == self.run_begin, self.times[1] == self.run_end]
        self.run_end = max((run.end for run, _ in runs), default=1.0)
        rolls = any(getattr(run, "rolls", False) for run, _ in runs)
        keep_view = keep_view and rolls == self.rolls  # what goes on and what has ended are of other times
        self.rolls = rolls
        self.run_begin = min((run.begin for run, _ in runs), default=0.0)
        for which, end in enumerate((self.run_begin, self.run_end)):
            if self.rolls or at_ends[which]:  # who looks at all of a run looks at all of the next
                self.times[which] = end
        self.said_of = {k: f"{i.card}: {i.label}" for run, _ in runs for k, i in run.infos.items()}
        self.units_of = {k: (i.unit, run.units) for run, _ in runs for k, i in run.infos.items()}
        if keep_view and self._refill(specs, runs):
            return
        kept = keep_view and len(specs) == len(self.plots) and bool(self.plots)
        whole = kept and self._shows_whole_time()
        ranges = [(p.vb.viewRange(), self._is_fitted(n)) for n, p in enumerate(self.plots)] if kept else None
        self._building = True
        self._clear(len(specs))
        self.specs = specs
        for n, spec in enumerate(specs):
            self._add_plot(n, spec, runs, last=n == len(specs) - 1)
        self.stretch()
        end = self.run_end
        if not any(self.times) or self.times[1] > end or self.times[0] < self.run_begin:
            self.times = [self.run_begin, end]
        for n, plot in enumerate(self.plots):
            self._add_cursors(plot, n == 0)
        self._limited = None
        self._limit_time()
        if ranges:
            for n, (plot, ((_, y), fitted)) in enumerate(zip(self.plots, ranges)):
                plot.vb.setYRange(*y, padding=0)
                if fitted:
                    self._fits[n] = y  # also where there are no data yet
                    self._fit_height(n)
            # A linked strip that has no place yet would hand on a range of its own.
            self.plots[0].vb.setXRange(*ranges[0][0][0], padding=0)
            if whole:
                self._fit_length()
        elif self.plots:
            self.fit()
        if self.view is not None and self.shows_runs:
            view, self.view = self.view, None
            look_as_in(view, self)
        self._building = False
        self._thin()

    def _clear(self, wanted: int) -> None:
        """Empty the plots and lay out as many as are wanted. They are used again, as they are slow to make."""
        before, captions = self.plots, self._captions
        self.plots, self.traces, self.cursors, self.tags, self.bands = [], [], [], [], []
        self._fits = {}
        self._captions = []
        for reading in self.readings:
            reading.clear()
        for plot, caption in zip(before, captions):
            plot.wipe()
            plot.vb.setXLink(None)
            plot.vb.setAutoVisible(y=False)
            plot.vb.setLimits(xMin=None, xMax=None, minYRange=None)
            plot.vb.setRange(QRectF(0, 0, 1, 1), padding=0)
            plot.vb.enableAutoRange()
            self.scene().removeItem(caption)
        while len(self._spare) < wanted:
            self._spare.append(self._new_plot(len(self._spare)))
        for n in range(wanted, len(before)):
            self._rows.removeItem(self._spare[n])
        for n in range(len(before), wanted):
            self._rows.addItem(self._spare[n], row=n, col=0)

    def show_sectors(self, sectors: Sectors | None) -> None:
        """Shade the sectors of block commutation behind the traces, or take the shades away."""
        if sectors is self.sectors and len(self.bands) == (len(self.plots) if sectors else 0):
            return
        self.sectors = sectors
        for plot, bands in zip(self.plots, self.bands):
            plot.remove(bands)
        self.bands = []
        for n, plot in enumerate(self.plots if sectors else ()):
            assert sectors is not None
            self.bands.append(Bands(sectors, numbered=n == len(self.plots) - 1))
            plot.add(self.bands[-1], fitted=False)

    def _refill(self, specs: list[StripSpec], runs: list[tuple[KeptRun, str]]) -> bool:
        """Put new data into the curves that stand, when only the runs' data differ; much faster than new
        plots."""
        shape = (
            [(tuple(s.signals), frozenset(s.setpoints)) for s in specs],
            [
                (
                    tint,
                    tuple(
                        run.units.of(s, run.declared_unit(s)) if s in run.keys else None
                        for spec in specs
                        for s in spec.signals
                    ),
                )
                for run, tint in runs
            ],
        )
        same, self._shape = shape == self._shape and bool(self.plots), shape
        if not same:
            return False
        for spec, traces in zip(specs, self.traces):
            pairs = [(run, key) for run, _ in runs for key in spec.signals if key in run.keys]
            for (run, key), known in zip(pairs, traces):
                trace = run.trace(key)
                y = trace.y_in()
                known.t, known.y = stepped(trace.t, y) if trace.sampled else (trace.t, y)
                known.run = run.name
        for n in range(len(self.plots)):
            if self._is_fitted(n):
                self._fit_height(n)
        whole = self._shows_whole_time()
        self._limit_time()
        if whole:
            self._fit_length()
        self.set_cursors(*self.times)
        self._thin()
        return True

    def _limit_time(self) -> None:
        """Nobody can look far beyond the runs."""
        if self._limited != (self.run_begin, self.run_end):
            self._limited = (self.run_begin, self.run_end)
            beyond = 0.1 * (self.run_end - self.run_begin)
            for plot in self.plots:
                plot.vb.setLimits(xMin=self.run_begin - beyond, xMax=self.run_end + beyond)

    def _is_fitted(self, n: int) -> bool:
        """Whether a strip still shows the height it was given for its data, or waits for its first, untouched by a
        zoom."""
        view, fit = self.plots[n].vb, self._fits.get(n)
        low, high = view.viewRange()[1]
        if fit is None:
            return bool(view.autoRangeEnabled()[1])
        return max(abs(low - fit[0]), abs(high - fit[1])) < 1e-6 * (fit[1] - fit[0])

    def _fit_height(self, n: int) -> None:
        """Show all of a strip's data, with room for the caption above them; and zero, unless they keep far
        from it."""
        lows = [float(np.nanmin(t.y)) for t in self.traces[n] if len(t.y)]
        highs = [float(np.nanmax(t.y)) for t in self.traces[n] if len(t.y)]
        if lows:
            low, high = heights(min(lows), max(highs))
            caption = min(0.4, CAPTION / max(1.0, (self.height() - 46) * self.share(n) - 8))
            high = low + (high - low) / (1 - caption)
            self._fits[n] = (low, high)
            self.plots[n].vb.setYRange(low, high, padding=0)

    def _refit(self) -> None:
        for n in range(len(self.plots)):
            if self._is_fitted(n):
                self._fit_height(n)

    @property
    def shows_runs(self) -> bool:
        return any(len(trace.t) for traces in self.traces for trace in traces) and not self.rolls

    def axis_by_hand(self, n: int) -> tuple[float, ...]:
        """Lowest and highest value that a strip shows, in SI; empty where it fits its traces."""
        if n >= len(self.plots) or not self.traces[n] or self._is_fitted(n) or self._fits.get(n) is None:
            return ()
        one = factor(self.traces[n][0].unit)
        low, high = self.plots[n].vb.viewRange()[1]
        return (low * one - self.traces[n][0].shift, high * one - self.traces[n][0].shift)

    def span_by_hand(self) -> tuple[float, ...]:
        """What is shown of the time, s; empty where that is all."""
        if not self.plots or self._shows_whole_time():
            return ()
        low, high = self.plots[0].vb.viewRange()[0]
        return (low, high)

    def _keep_from_rounding(self, n: int) -> None:
        """A look at a short span shows nothing finer than what the whole traces have digits for."""
        peak = max((float(np.nanmax(np.abs(t.y))) for t in self.traces[n] if len(t.y)), default=0.0)
        self.plots[n].vb.setLimits(minYRange=max(FINEST * peak, LEAST_SHOWN))

    def _new_plot(self, n: int) -> Frame:
        """An empty plot for the strip of that number."""
        view = StripView()
        plot = Frame(AXIS_WIDTH, view=view, levels=False)
        view.menu_wanted.connect(lambda at: self._menu(n, at))
        if n == 0:  # the others follow it; thinning once for all is enough
            view.sigXRangeChanged.connect(lambda *_: self._building or self._thin())
            view.sigXRangeChanged.connect(lambda *_: self.moved_along.emit())
        for axis in (plot.left, plot.bottom):
            axis.setStyle(tickTextOffset=4, maxTickLevel=0)
        plot.label(plot.bottom, "time, s")
        self.readings.append(Reading(plot, tokens().plot, 3))
        return plot

    def _add_plot(self, n: int, spec: StripSpec, runs: list[tuple[KeptRun, str]], *, last: bool) -> None:
        plot = self._spare[n]
        view = plot.vb
        plot.bottom.setStyle(showValues=last)
        plot.bottom.showLabel(last)
        if self.plots:
            plot.vb.setXLink(self.plots[0].vb)
        self.plots.append(plot)
        traces: list[Trace] = []
        names: list[tuple[str, str, str]] = []
        """Title, what its line looks like, and colour."""
        single = len(runs) == 1
        keys = [s for each in self.specs for s in each.signals]
        known_of = [set(run.keys) for run, _ in runs]
        labelled = {(run.trace(s).label, s) for (run, _), known in zip(runs, known_of) for s in keys if s in known}
        labels = Counter(text for text, _ in labelled)
        for (run, tint), known in zip(runs, known_of):
            actual_tint: dict[str, str] = {}
            solid = 0
            for k, key in enumerate(spec.signals):
                if key not in known:
                    continue
                trace = run.trace(key)
                t, y = trace.t, trace.y_in()
                if trace.sampled:
                    t, y = stepped(t, y)
                dashed = key in spec.setpoints
                shade = trace_colour(solid if single else 0) if single else tint
                if dashed:
                    shade = actual_tint.get("last", trace_colour(0) if single else tint)
                else:
                    solid += 1
                    actual_tint["last"] = shade
                style, dashes = SETPOINT if dashed else DASHES[0 if single else k % len(DASHES)]
                curve = LeanCurve(pen=pg.mkPen(shade, width=1.5, style=style), antialias=True)
                plot.add(curve)
                traces.append(Trace(curve, t, y, key, run.name, trace.unit, trace.shift))
                alone = labels[trace.label] == 1 and trace.label not in ANYBODYS
                title = trace.label if alone else f"{run.infos[key].card}: {trace.label}"
                name = (title, dashes, shade if single else tokens().ink)
                if name not in names:
                    names.append(name)
        self.traces.append(traces)
        units = list(dict.fromkeys(run.trace(s).unit for run, _ in runs for s in spec.signals if s in run.keys))
        titles = without_common_words([title for title, _, _ in names])
        shown = (
            f'<span style="color:{shade}"><b>{escape(title)}</b>{dashes}</span>'
            for title, (_, dashes, shade) in zip(titles, names)
        )
        none = "no trace yet" if spec.signals and not runs else "drag a signal here"
        words = "&nbsp;&nbsp; ".join(shown) or none
        caption = pg.TextItem(
            html=f'<div style="font-family:B612;font-size:11px">{words}&nbsp; <span '
            f'style="color:{tokens().muted}">{escape(", ".join(u for u in units if u))}</span></div>',
            anchor=(0, 0),
            fill=pg.mkBrush(tokens().plot),
        )
        caption.setParentItem(view)
        caption.setPos(4, 0)
        caption.setZValue(20)
        self._captions.append(caption)

    def _add_cursors(self, plot: Frame, first: bool) -> None:
        pair = []
        for which in (0, 1):
            line = pg.InfiniteLine(
                self.times[which],
                angle=90,
                movable=True,
                pen=pg.mkPen(tokens().brass, width=1.2, style=Qt.PenStyle.DashLine),
                hoverPen=pg.mkPen(tokens().brass, width=2.5),
            )
            line.setZValue(15)
            if first:
                label = pg.InfLineLabel(
                    line,
                    f" {which + 1} ",
                    position=0.07,
                    color=tokens().on_brass,
                    fill=pg.mkBrush(tokens().brass),
                    movable=False,
                )
                label.setFont(font(10.5, bold=True))
                self.tags.append(label)
            line.sigPositionChanged.connect(lambda moved, w=which: self._cursor_moved(w, moved.value()))
            plot.add(line, fitted=False)
            pair.append(line)
        self.cursors.append(pair)

    def _cursor_moved(self, which: int, value: float) -> None:
        known, value = self.times[which], min(self.run_end, max(self.run_begin, value))
        self.times[which] = value
        for pair in self.cursors:
            if pair[which].value() != value:
                pair[which].blockSignals(True)
                pair[which].setValue(value)
                pair[which].blockSignals(False)
        self._place_tags()
        if value != known:
            self.cursors_moved.emit(*self.times)

    def axis_place(self, of: QWidget) -> tuple[float, float, float, float]:
        """Left and right of the time axis (px, in a widget below) and the times there (s)."""
        if not self.plots:
            return 0.0, float(of.width()), self._begin, self._end
        view = self.plots[0].vb
        rect = self.mapFromScene(view.sceneBoundingRect()).boundingRect()
        shift = of.mapFromGlobal(self.mapToGlobal(rect.topLeft())).x()
        return float(shift), float(shift + rect.width()), *view.viewRange()[0]

    def _place_tags(self) -> None:
        """The number of the earlier cursor stands left of its line and that of the later one right, so that
        close ones do not cover each other, unless the edge is too near."""
        if not self.plots:
            return
        (low, high), width = self.plots[0].vb.viewRange()[0], max(1.0, self.plots[0].vb.width())
        room = TAG_WIDTH / width * (high - low)
        for which, tag in enumerate(self.tags):
            at, other = self.times[which], self.times[1 - which]
            left = (at, which) < (other, 1 - which)
            left = at - low > room if left else high - at < room
            tag.anchors = [(1.0 if left else 0.0, 0.5)] * 2
            tag.updatePosition()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Arrows move cursor 2, with Shift cursor 1; + and − zoom in time, F fits."""
        assert event is not None
        if not self.plots:
            return
        low, high = self.plots[0].vb.viewRange()[0]
        key = event.key()
        if key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            which = 0 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1
            step = (high - low) / 200 * (1 if key == Qt.Key.Key_Right else -1)
            self._cursor_moved(which, min(high, max(low, self.times[which] + step)))
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Minus):
            half = (high - low) / 2 * (0.5 if key == Qt.Key.Key_Plus else 2.0)
            middle = self.times[1] if low <= self.times[1] <= high else (low + high) / 2
            self.plots[0].vb.setXRange(middle - half, middle + half, padding=0)
        elif key == Qt.Key.Key_F:
            self.fit()
        else:
            super().keyPressEvent(event)

    def set_cursors(self, a: float, b: float) -> None:
        for which, value in enumerate((a, b)):
            self._cursor_moved(which, value)

    def _thin(self) -> None:
        if not self.plots:
            return
        low, high = self.plots[0].vb.viewRange()[0]
        for plot, traces in zip(self.plots, self.traces):
            columns = max(100, int(plot.vb.width()))
            for trace in traces:
                trace.show(low, high, columns, rolls=self.rolls)
        self._place_tags()
        self._read(self._pointer)

    def _read(self, at: QPointF) -> None:
        """Show what the nearest trace is at the pointer."""
        self._pointer = at
        for reading, traces in zip(self.readings, self.traces):
            reading.read(at, [trace.as_read() for trace in traces])

    def leaveEvent(self, event: QEvent | None) -> None:
        super().leaveEvent(event)
        self._read(QPointF(math.nan, math.nan))

    def resizeEvent(self, event) -> None:
        fitted = [n for n in range(len(self.plots)) if self._is_fitted(n)] if hasattr(self, "plots") else []
        if fitted:  # a panel that opens is painted first
            self.paint_in_turn()
        super().resizeEvent(event)
        for n in fitted:
            self._fit_height(n)
        if hasattr(self, "traces"):
            self._thin()

    def fit(self) -> None:
        if self.plots:
            self._fit_length()
            for n in range(len(self.plots)):
                self._fit_height(n)

    def _shows_whole_time(self) -> bool:
        """Whether the whole time of what is drawn is in view, untouched by a zoom."""
        low, high = self.plots[0].vb.viewRange()[0]
        begin, span = self._begin, self._end - self._begin
        return max(abs(low - begin + 0.01 * span), abs(high - begin - 1.01 * span)) <= 1e-6 * span

    def _fit_length(self) -> None:
        """Show the whole time."""
        shown = [t for traces in self.traces for t in traces if len(t.t)]
        self._end = max((float(t.t[-1]) for t in shown), default=self.run_end)
        self._begin = self.run_begin
        if self._end <= self._begin:
            self._end = self._begin + 1e-9
        self.plots[0].vb.setXRange(self._begin, self._end, padding=0.01)

    def look_at(self, time: float, around: float) -> None:
        """Put cursor 1 on a time (s) and show ``around`` on each side of it."""
        self._cursor_moved(0, time)
        if self.plots:
            self.plots[0].vb.setXRange(time - around, time + around, padding=0)
            for n, plot in enumerate(self.plots):
                self._keep_from_rounding(n)
                plot.vb.enableAutoRange(axis="y")
                plot.vb.setAutoVisible(y=True)

    def strip_at(self, at: QPointF) -> int | None:
        point = self.mapToScene(at.toPoint())
        return next((n for n, p in enumerate(self.plots) if p.sceneBoundingRect().contains(point)), None)

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        accept_signals(event)

    def dragMoveEvent(self, event: QDragMoveEvent | None) -> None:
        accept_signals(event)

    def dropEvent(self, event: QDropEvent | None) -> None:
        if event is not None and (keys := accept_signals(event)):
            self.put(keys, self.strip_at(event.position()))

    def put(self, keys: list[str], strip: int | None) -> None:
        """Add signals to a strip, or to a new one at the end."""
        if strip is None:
            self.specs.append(StripSpec(list(dict.fromkeys(keys))))
        else:
            self.specs[strip].signals = list(dict.fromkeys([*self.specs[strip].signals, *keys]))
        self.added.emit(keys)
        self.changed.emit()

    def place_of(self, n: int) -> QRect:
        """Where a strip is, px."""
        return self.mapFromScene(self.plots[n].sceneBoundingRect()).boundingRect()

    def _menu(self, n: int, at) -> None:
        menu = QMenu(self)
        for key in self.specs[n].signals:
            self.offer_units(menu, key)
        for key in self.specs[n].signals:
            menu.addAction(literal(f"Take off {self.said_of.get(key, key)}"), lambda k=key: self._take_off(n, k))
        menu.addSeparator()
        menu.addAction("Fit", self.fit)
        for words, times in (("Higher", HIGHER), ("Lower", 1 / HIGHER)):
            menu.addAction(words, lambda t=times: self.change_heights({n: self.specs[n].height * t}))
        menu.addAction("All of one height", self.alike)
        offer_pictures(menu, self, lambda: drawing_of(self, self.place_of(n)), "picture of this strip")
        menu.addAction("Remove this strip", lambda: (self.specs.pop(n), self.changed.emit()))
        menu.exec(at.toPoint())

    def offer_units(self, menu: QMenu, key: str) -> None:
        """The other units in which a signal can be read."""
        declared, units = self.units_of.get(key, ("", None))
        for other in OTHERS.get(declared, ()):
            if units is not None and other != units.of(key, declared):
                menu.addAction(
                    literal(f"Show {self.said_of.get(key, key)} in {other}"),
                    lambda k=key, u=other: self.unit_chosen.emit(k, u),
                )

    def _take_off(self, n: int, key: str) -> None:
        self.specs[n].signals.remove(key)
        if not self.specs[n].signals:
            del self.specs[n]
        self.changed.emit()
