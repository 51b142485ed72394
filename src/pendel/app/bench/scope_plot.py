"""The oscilloscope's picture: channels over time, two cursors, the trigger's instant, an overlaid run."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QEvent, QPointF, Qt, pyqtSignal

from pendel.app.plots.frame import Frame, FrameView
from pendel.app.plots.lean_curve import LeanCurve
from pendel.app.plots.reading import Reading, TimeCurve
from pendel.app.widgets.explained import explained_by
from pendel.app.widgets.theme import font, tokens, trace_colour
from pendel.core.quantities.units import number_text

AXIS_WIDTH = 64
"""px"""


class ScopePlot(FrameView):
    """Wheel zooms time at the pointer, with Shift the other axis; a double click fits."""

    cursors_moved = pyqtSignal()

    def __init__(self) -> None:
        super().__init__(Frame(AXIS_WIDTH))
        self.setAccessibleName("Oscilloscope")
        explained_by(self, "plot:scope")
        self.setMinimumHeight(110)
        self.frame.label(self.frame.bottom, "time, s")
        self.curves: list[pg.PlotCurveItem] = []
        self.overlays: list[pg.PlotCurveItem] = []
        self.event_line = pg.InfiniteLine(0.0, angle=90, pen=pg.mkPen(tokens().muted, width=1))
        self.event_line.setVisible(False)
        self.add(self.event_line, fitted=False)
        self.cursors = []
        for number in (1, 2):
            line = pg.InfiniteLine(
                0.0,
                angle=90,
                movable=True,
                pen=pg.mkPen(tokens().brass, width=1.2, style=Qt.PenStyle.DashLine),
                hoverPen=pg.mkPen(tokens().brass, width=2.5),
            )
            tag = pg.InfLineLabel(
                line,
                f" {number} ",
                position=0.05,
                color=tokens().on_brass,
                fill=pg.mkBrush(tokens().brass),
                movable=False,
            )
            tag.setFont(font(10.5, bold=True))
            line.setZValue(15)
            line.hide()  # until there is a frame to place it in
            line.sigPositionChanged.connect(lambda _: self.cursors_moved.emit())
            self.add(line, fitted=False)
            self.cursors.append(line)
        self.words_of: Callable[[int, float], str] = lambda number, y: number_text(y)
        """What a channel is, in words, at a height of the picture."""
        self._reading = Reading(self.frame, tokens().plot, 3)
        self._pointer = QPointF(math.nan, math.nan)
        self.scene().sigMouseMoved.connect(self._read)
        self._window: tuple[float, float] | None = None
        """The times that were fitted last."""
        self._heights: tuple[float, float] | None = None
        self._placed = False
        """Whether the cursors were ever brought into a frame."""

    def show_channels(self, count: int, shown: Sequence[bool]) -> None:
        """Have a curve for each channel."""
        while len(self.curves) > count:
            self.frame.remove(self.curves.pop())
        while len(self.curves) < count:
            curve = LeanCurve(pen=pg.mkPen(trace_colour(len(self.curves)), width=1.5), antialias=True, connect="finite")
            self.add(curve)
            self.curves.append(curve)
        for curve, visible in zip(self.curves, shown):
            curve.setVisible(visible)

    def show_data(self, times: np.ndarray, columns: Sequence[np.ndarray], *, triggered: bool) -> None:
        """Put a frame onto the curves."""
        for curve, y in zip(self.curves, columns):
            curve.opts["antialias"] = len(times) < 4000
            curve.setData(times, y)
        self.event_line.setVisible(triggered)
        self._follow()
        self._read(self._pointer)

    def _read(self, at: QPointF) -> None:
        """Show what the nearest channel is at the pointer."""
        self._pointer = at
        shown = [(n, c) for n, c in enumerate(self.curves) if c.isVisible() and c.xData is not None]
        self._reading.read(
            at,
            [TimeCurve(c.xData, c.yData, trace_colour(n), lambda y, n=n: self.words_of(n, y)) for n, c in shown],
        )

    def leaveEvent(self, event: QEvent | None) -> None:
        super().leaveEvent(event)
        self._read(QPointF(math.nan, math.nan))

    def _follow(self) -> None:
        """Keep what is shown fitted, as long as nobody zoomed."""
        times = [c.xData for c in self.curves if c.xData is not None and len(c.xData)]
        if not times:
            return
        window = (min(float(t[0]) for t in times), max(float(t[-1]) for t in times))
        (left, right), (low, high) = self.vb.viewRange()
        if self._window is None or near((left, right), self._window):
            if not near(window, self._window):
                self.vb.setXRange(*window, padding=0)
            self._window = window
        ys = [c.yData for c in self.curves if c.isVisible() and c.yData is not None and len(c.yData)]
        finite = [y[np.isfinite(y)] for y in ys]
        finite = [y for y in finite if len(y)]
        if not finite:
            return
        bottom, top = min(float(y.min()) for y in finite), max(float(y.max()) for y in finite)
        room = 0.06 * (top - bottom) or 0.1 * abs(top) or 1.0
        wanted = (bottom - room, top + room)
        if self._heights is None or near((low, high), self._heights):
            # Heights grow at once, and shrink only when there is much too much room, so that the picture is calm.
            if self._heights is not None:
                held = (min(wanted[0], self._heights[0]), max(wanted[1], self._heights[1]))
                if held[1] - held[0] < 1.6 * (wanted[1] - wanted[0]):
                    wanted = held
            self.vb.setYRange(*wanted, padding=0)
            self._heights = wanted

    def fit(self) -> None:
        self._window = self._heights = None
        self._follow()

    def mouseDoubleClickEvent(self, event) -> None:
        super().mouseDoubleClickEvent(event)
        self.fit()

    def wheelEvent(self, event) -> None:
        vertical = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        turned = event.angleDelta().y() or event.angleDelta().x()
        event.accept()
        if not turned:  # a touch pad begins and ends with turns of nothing
            return
        at = self.vb.mapSceneToView(event.position())
        factor = 0.85 if turned > 0 else 1 / 0.85
        self.vb.scaleBy(x=None if vertical else factor, y=factor if vertical else None, center=at)

    def place_cursors(self) -> None:
        """Bring the cursors into what is shown, where they are not."""
        left, right = self.vb.viewRange()[0]
        for line, part in zip(self.cursors, (0.25, 0.75)):
            line.show()
            if not self._placed or not left <= line.value() <= right:
                line.setValue(left + part * (right - left))
        self._placed = True

    def show_units(self, units: Sequence[str]) -> None:
        """What the figures on the left count."""
        words = ", ".join(dict.fromkeys(u or "1" for u in units))
        self.frame.label(self.frame.left, words)

    @property
    def cursor_times(self) -> tuple[float, float]:
        a, b = sorted(line.value() for line in self.cursors)
        return a, b

    def show_overlays(self, traces: Sequence[tuple[np.ndarray, np.ndarray, int]]) -> None:
        """Lines of a run, each in the colour of its channel, dashed."""
        for curve in self.overlays:
            self.frame.remove(curve)
        self.overlays = []
        for t, y, number in traces:
            pen = pg.mkPen(trace_colour(number), width=1.2, style=Qt.PenStyle.DashLine)
            curve = LeanCurve(t, y, pen=pen, antialias=True)
            self.add(curve, fitted=False)
            self.overlays.append(curve)


def near(a: tuple[float, float], b: tuple[float, float] | None) -> bool:
    return b is not None and max(abs(a[0] - b[0]), abs(a[1] - b[1])) <= 1e-6 * (abs(b[1] - b[0]) or 1.0)
