"""The Runs page: kept runs and signals, strips, measures."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import compress

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import (
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QMenu,
    QTreeWidgetItem,
    QWidget,
)

from pendel.app.plots.plot import fit_plots
from pendel.app.runs.arrangement import Arrangement
from pendel.app.runs.measure_table import MeasureTable
from pendel.app.runs.modes_panel import ModesPanel
from pendel.app.runs.panels import Panels
from pendel.app.runs.rotor_diagram import RotorDiagram
from pendel.app.runs.run_colours import RunColours
from pendel.app.runs.run_list import RunList
from pendel.app.runs.sector_panel import SectorPanel
from pendel.app.runs.signal_tree import SignalTree
from pendel.app.runs.span_table import SpanTable
from pendel.app.runs.spectrum_panel import SpectrumPanel
from pendel.app.runs.strips import Strips
from pendel.app.runs.torque_panel import TorquePanel
from pendel.app.session.page import Page
from pendel.app.session.run_figures import averaged_keys, measured, measured_keys, step_measured
from pendel.app.session.usual_strips import keys_of
from pendel.app.widgets.basic import Elided, button, clear, column, label, row, rule, scrolled
from pendel.app.widgets.drawing import Drawing, drawing_of
from pendel.app.widgets.explained import explained_by
from pendel.app.widgets.theme import trace_colour
from pendel.app.widgets.timers import Later, RefreshWhenShown
from pendel.core.catalogue.declare import Part
from pendel.core.catalogue.index import known_kind
from pendel.core.measures import Place, measures_at
from pendel.core.quantities.units import figure, number_text
from pendel.core.runs.found.run_roles import signals_of
from pendel.core.runs.found.vectors import machines, needed
from pendel.core.runs.record.kept import KeptRun
from pendel.core.vocabulary import SignalRole
from pendel.core.wording import sentence_case

LIVE = "Live"
NO_RUNS, READING_RUNS = "No run yet. Press Ctrl+R to run the drive.", "Reading the kept runs …"
MOST_MEASURED = 3
"""Runs with figures beside the strips, the newest."""


INSTANT = 2.0
"""Ticks shown on each side of an instant that a finding points to."""
LEAST_STRIPS = 340
"""px: with more panels below than fit, strips and panels are scrolled."""
MOST_USED = 6
"""Signals that were used last, on top of the others."""


class RunsPage(Page):
    def building(self) -> Iterator[None]:
        self.used: list[str] = []
        """Signals that were put on strips by hand, the last first."""
        body = QHBoxLayout(self)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(0)
        body.addWidget(self._build_left())
        yield
        middle = QWidget()
        inside = column(middle, (8, 8, 8, 4), 4)
        self.colours = RunColours()
        self.colours.changed.connect(self.draw)
        self.strips = Strips()
        self.strips.heights_changed.connect(lambda: self.arrangement.keep())
        self.strips.cursors_moved.connect(lambda *_: self._late_measures.start())
        self.strips.changed.connect(lambda: self.arrangement.keep())
        self.strips.changed.connect(lambda: self.draw(keep_view=False))
        self.strips.added.connect(self._used)
        self.strips.unit_chosen.connect(self.session.choose_unit)
        self.empty = label(NO_RUNS, "muted")
        self.empty.setAlignment(Qt.AlignmentFlag.AlignCenter)
        inside.addWidget(self.empty)
        self.strips.setMinimumHeight(LEAST_STRIPS)
        self.shown_part = QWidget()
        shown = column(self.shown_part, (0, 0, 0, 0), 2)
        shown.addWidget(self.colours)
        shown.addWidget(self.strips, 1)
        inside.addWidget(self.shown_part, 1)
        yield
        self.spectrum, self.rotor = SpectrumPanel(self.session.jobs), RotorDiagram(self.session.jobs)
        yield
        self.rotor.frames_wanted.connect(self.swap_frames)
        self.sectors, self.torque = SectorPanel(), TorquePanel(self.session.slow_work, lambda: self.session.held)
        self.modes = ModesPanel(self.strips.axis_place)
        self.strips.moved_along.connect(self.modes.bar.update)
        for panel in (self.modes, self.spectrum, self.rotor, self.sectors, self.torque):
            inside.addWidget(panel)
        area = scrolled(middle)
        body.addWidget(area, 1)
        self._panel: QWidget = self.spectrum
        self._reveal = Later(self, 0, lambda: area.ensureWidgetVisible(self._panel), at_last=True)
        self.panels = Panels(self._revealed)
        yield
        body.addWidget(self._build_right())
        self.drawn: list[tuple[KeptRun, str]] = []
        """Runs on the strips, with their colours. Long ones of those that are ticked come once evaluated."""
        self._waits, self._fit_then = False, False
        """Whether ticked runs are still evaluated, and whether the strips are to be fitted when they come."""
        self._fit_when_built = False
        self._build_when_shown = RefreshWhenShown(self, self._build)
        self._late_build = Later(self, 0, self._build_when_shown.shown)
        self._instant: tuple[float, float] | None = None
        self._live = False
        """Whether the live run is what is shown."""
        self.arrangement = Arrangement(self.session, self.strips, self.panels)
        self.session.evaluator.ended.connect(self._evaluated)
        self._late_measures = Later(self, 30, self.measure)
        self._late_tree = Later(self, 0, self._fill_tree)
        self.session.runs_changed.connect(self.refresh)
        self.session.shown_keys = lambda: self.arrangement.keys_ahead
        self.session.opened.connect(self._opened)
        self.session.held_changed.connect(self.torque.draw)
        self.refresh()

    def fit(self) -> None:
        self.strips.fit()
        fit_plots(self)

    def rename(self) -> None:
        self.kept.rename_current()

    def look_for(self) -> bool:
        self.find.setFocus()
        self.find.selectAll()
        return True

    def drawing(self) -> Drawing:
        return drawing_of(self.shown_part if self.strips.isVisible() else self)

    def _build_left(self) -> QWidget:
        side = QWidget()
        side.setObjectName("side")
        side.setFixedWidth(264)
        inside = column(side, (8, 12, 8, 8), 4)
        differs = label("what differs", "muted")
        inside.addLayout(row(label("Kept runs", "heading"), 1, differs))
        self.kept = RunList(self.session)
        self.kept.changed.connect(self.draw)
        self.kept.status_message.connect(self.status_message)
        inside.addWidget(self.kept)
        inside.addWidget(rule())
        self.find = QLineEdit()
        self.find.setPlaceholderText("find …")
        self.find.setAccessibleName("Find a signal")
        self.find.setFixedWidth(130)
        self.find.textChanged.connect(self._fill_tree)
        inside.addLayout(row(label("Signals", "heading"), 1, self.find))
        self.tree = SignalTree()
        self.tree.itemDoubleClicked.connect(self._own_strip)
        self.tree.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.tree.customContextMenuRequested.connect(self._signal_menu)
        inside.addWidget(self.tree, 1)
        inside.addWidget(label("Drag a signal to a strip; double-click: own strip", "muted"))
        return side

    def _build_right(self) -> QWidget:
        side = QWidget()
        side.setObjectName("inspector")
        side.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        side.setFixedWidth(300)
        inner = QWidget()
        explained_by(inner, "plot:measures")
        inside = column(inner, (14, 14, 12, 12), 6)
        self.heading = label("Measures", "title")
        inside.addWidget(self.heading)
        self.subheading = Elided("", "muted")
        inside.addWidget(self.subheading)
        self.grid = QGridLayout()
        self.grid.setVerticalSpacing(7)
        self.grid.setHorizontalSpacing(6)
        inside.addLayout(self.grid)
        self.all_button = button("", self.show_all_measures, "link")
        self.all_button.hide()
        inside.addWidget(self.all_button)
        inside.addSpacing(8)
        self.span = label("Between the cursors", "heading")
        inside.addWidget(self.span)
        self.between = SpanTable(lambda: not self.session.closing)
        inside.addLayout(self.between)
        inside.addSpacing(8)
        inside.addLayout(self._build_buttons())
        inside.addStretch(1)
        column(side, (0, 0, 0, 0)).addWidget(scrolled(inner))
        return side

    def _build_buttons(self) -> QGridLayout:
        """What adds to the strips, two in a row, and below it what takes their contents elsewhere."""
        add = self.panels.add
        toggles = (
            add("spectrum", "Spectrum", "Lines of a signal between the cursors", self.spectrum, self._show_spectrum),
            add(
                "rotor",
                "Rotor diagram",
                "Current, voltage and flux of a three-phase machine as vectors at cursor 2",
                self.rotor,
                self._show_rotor,
            ),
            add(
                "sectors",
                "Sectors",
                "Sectors of block commutation: shaded behind the traces, and dial and table at cursor 2",
                self.sectors,
                self._show_sectors,
            ),
            add(
                "torque",
                "Torque over speed",
                "The paths of the shown runs in the plane of torque and speed, with the envelope",
                self.torque,
                self._show_torque,
            ),
            add(
                "modes",
                "Modes",
                "Modes of a state machine as a bar under the strips, with time and energy by mode",
                self.modes,
                self._show_modes,
            ),
        )
        self.spectrum_button, self.rotor_button, self.sector_button, self.torque_button, self.modes_button = toggles
        self.save_button = button("Save traces …", lambda: self.wanted.emit("save_traces"))
        self.save_button.setToolTip("As CSV, MAT or HDF5")
        self.picture_button = button("Copy picture", lambda: self.wanted.emit("copy_picture"))
        new = button("New strip", lambda: self.strips.put([], None))
        usual = button("Usual strips", self.usual_strips)
        usual.setToolTip("As the drive's file has them; once more: as its parts ask for")
        grid = QGridLayout()
        grid.setSpacing(6)
        pairs = (toggles[:2], toggles[2:4], (toggles[4], usual), (new, self.picture_button), (self.save_button,))
        for line, pair in enumerate(pairs):
            for place, widget in enumerate(pair):
                grid.addWidget(widget, line, place)
        return grid

    def _opened(self) -> None:
        """Nothing holds runs of the drive before."""
        self.drawn = []
        self.strips.times, self._fit_when_built = [0.0, 0.0], True
        self.between.forget()
        self.sectors.show_run(None)
        self.rotor.show_run(None, 0.0)
        self.torque.show_runs([])
        self.modes.show_run(None)
        self.spectrum.show_runs([], 0.0, 0.0)
        self.kept.forget()
        self.refresh()

    # runs --------------------------------------------------------------------

    def refresh(self) -> None:
        self.kept.follow()
        self._fill_tree()
        if self.session.runs and self.arrangement.lay_out():
            self.strips.times = [0.0, 0.0]
            self.draw(keep_view=False)
        else:
            self.draw()

    def shown_runs(self) -> list[tuple[KeptRun, str]]:
        self.colours.follow([run for run, _ in self.kept.shown])
        self.kept.take_tints(self.colours.tints())
        return self.kept.shown

    def _fill_tree(self) -> None:
        shown = self.shown_runs()
        latest = self.session.live or (shown[-1][0] if shown else self.session.last_run)
        self.tree.fill(latest, self.find.text(), self.used)

    def _used(self, keys: list[str]) -> None:
        """Signals that were put on strips by hand stay at hand."""
        self.used = list(dict.fromkeys([*keys, *self.used]))[:MOST_USED]
        self._fill_tree()

    def _own_strip(self, item: QTreeWidgetItem) -> None:
        key = item.data(0, Qt.ItemDataRole.UserRole)
        if key:
            self.strips.put([key], None)

    def _signal_menu(self, at) -> None:
        item = self.tree.itemAt(at)
        key = item.data(0, Qt.ItemDataRole.UserRole) if item else None
        if not key:
            return
        menu = QMenu(self)
        menu.addAction("Strip of its own", lambda: self.strips.put([key], None))
        menu.addAction("Tap on this signal …", lambda: self.tap_wanted.emit(key))
        menu.exec(self.tree.mapToGlobal(at))

    def go_to_instant(self, time: float, card: str) -> None:
        """Show an instant closely, with the currents of the card's switches in a strip of their own."""
        run = self.session.last_run
        if run is None:
            return
        kind = known_kind(self.session.drive.cards[card]) if card in self.session.drive.cards else None
        legs = kind.legs if isinstance(kind, Part) else ()
        currents = [f"{card}.{leg.signal('current', side)}" for leg in legs for side in ("upper", "lower")]
        wanted = [k for k in currents if k in run.keys]
        if wanted and not any(set(wanted) <= set(spec.signals) for spec in self.strips.specs):
            self.strips.put(wanted, None)
        self._instant = (time, INSTANT * run.tick)
        self._look_at_instant()

    def _look_at_instant(self) -> None:
        if self._instant and not self._waits:
            self.strips.look_at(*self._instant)
            self._instant = None

    def _revealed(self, panel: QWidget) -> None:
        self._panel = panel
        self._reveal.start()  # once it is laid out

    def overlay(self, names: list[str], by: str = "") -> None:
        """Show these runs, as many as have a colour, which tells the value ``by`` if there is one."""
        self.colours.wanted = by
        self.kept.tick_only([name for name in names if any(run.name == name for run in self.session.runs)])

    def put_on_strips(self, signals: list[str]) -> None:
        """Each on a strip of its own, unless it lies alone on one; none take all off."""
        if not signals:
            self.strips.specs = []
            self.strips.changed.emit()
            return
        known = {key for run in self.session.runs for key in run.keys}
        for key in signals:
            if key in known and not any(spec.signals == [key] for spec in self.strips.specs):
                self.strips.put([key], None)

    def usual_strips(self) -> None:
        self.arrangement.take_kept_or_usual()
        self.draw(keep_view=False)

    def show_live(self) -> None:
        """Draw the live run, or the kept runs again once there is none."""
        if self.session.live is None:
            self._live = False
            self._fill_tree()
            self.draw(keep_view=False)
            return
        self.arrangement.lay_out()
        if not self._live:
            self._late_tree.start()
            self.measure()
        if self.isVisible():
            self.draw()
            self._live = True

    def draw(self, *, keep_view: bool = True) -> None:
        if self.session.live is not None:
            self.empty.hide()
            self.strips.show()
            self.drawn = []
            self.strips.build(self.strips.specs, [(self.session.live, trace_colour(0))], keep_view=keep_view)
            return
        runs = self.shown_runs()
        self.empty.setVisible(not self.session.runs)
        self.empty.setText(READING_RUNS if self.session.shelf.reading else NO_RUNS)
        self.strips.setVisible(bool(self.session.runs))
        ready = [
            (run, tint)
            for run, tint in runs
            if self.session.evaluator.ready(
                run, self._wanted_of(run), averaged_keys(run, (spec.signals for spec in self.strips.specs))
            )
        ]
        self._waits = len(ready) < len(runs)
        if self._waits:
            known = {id(run) for run in self.session.runs}
            if self.drawn and all(id(run) in known for run, _ in self.drawn):
                self._fit_then |= not keep_view
                return  # what is shown stays until then
        self.drawn = ready
        self.session.shelf.show([run for run, _ in ready])
        self._fit_when_built |= not keep_view
        self._build_when_shown()

    def _build(self) -> None:
        if self.session.live is not None:
            self.draw()
            return
        fit, self._fit_when_built = self._fit_when_built, False
        self.strips.build(self.strips.specs, self.drawn, keep_view=not fit)
        self._late_measures.start()  # traces first, figures a moment later

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        if self._build_when_shown.waiting:
            self._late_build.start()  # the page first

    def _wanted_of(self, run: KeptRun) -> list[str]:
        rotor = [k for m in machines(run) for k in needed(run, m)] if self.rotor.isVisibleTo(self) else []
        return [*keys_of(self.strips.specs), *measured_keys(run), *rotor]

    def _evaluated(self, problem: str) -> None:
        if not self._waits:
            return
        if problem:
            self.kept.ticked = [run.name for run, _ in self.drawn]
            self.kept.fill()
        else:
            fit, self._fit_then = self._fit_then, False
            self.draw(keep_view=not fit)
            self._look_at_instant()

    # measures ------------------------------------------------------------------

    def measured_signal(self, run: KeptRun) -> tuple[str | None, str | None]:
        """Actual value and setpoint of the first strip that has both of a run, else the run's first signal."""
        known = set(run.keys)
        strips = [([s for s in each.signals if s in known], each.setpoints) for each in self.strips.specs]
        for signals, setpoints in strips:
            actual = next((s for s in signals if s not in setpoints), None)
            setpoint = next((s for s in signals if s in setpoints), None)
            if actual and setpoint:
                return actual, setpoint
        return next((s for signals, _ in strips for s in signals), None), None

    def measure(self) -> None:
        if self.session.closing:
            return  # no signal is worked out any more
        if self.session.live is not None and self.heading.text() == LIVE:
            return  # strips that roll move their cursors
        clear(self.grid)
        self.between.clear()
        self._show_spectrum()
        self._show_rotor()
        self._show_sectors()
        self._show_torque()
        self._show_modes()
        self.all_button.setText(f"Measures of all {len(self.drawn)} runs …")
        self.all_button.setVisible(len(self.drawn) > MOST_MEASURED)
        newest = self._drawn_by_age()[-MOST_MEASURED:]
        runs = [(run, tint) for run, tint in self.drawn if any(run is each for each in newest)]
        latest = self._latest_shown()
        actual, setpoint = self.measured_signal(latest) if latest is not None else (None, None)
        # What has another name in a run is measured under that.
        pairs = [(actual, setpoint) if actual in run.keys else self.measured_signal(run) for run, _ in runs]
        if latest is None or actual is None:
            live = self.session.live is not None
            self.heading.setText(LIVE if live else "Measures")
            self.subheading.set_text("Keep the last part of it to measure it." if live else "")
            self.span.setText("")
            return
        info = latest.infos[actual]
        alike = [key is not None and run.infos[key].label == info.label for (run, _), (key, _) in zip(runs, pairs)]
        runs, pairs = list(compress(runs, alike)), list(compress(pairs, alike))
        self.heading.setText(sentence_case(info.label))
        a, b = sorted(self.strips.times)
        self.subheading.set_text(f"{step_measured(latest, actual, setpoint, a, b)}cursor 1 to 2")
        for c, (run, tint) in enumerate(runs, 1):
            head = label(run.name)
            head.setStyleSheet(f"font-weight: bold; color: {tint};")
            head.setAlignment(Qt.AlignmentFlag.AlignRight)
            self.grid.addWidget(head, 0, c)
        shown = keys_of(self.strips.specs)
        band = self.session.band
        reasons = {each.title_in(band): each.why_none_in(band) for each in measures_at(Place.RESPONSE)}
        pages = {each.title_in(band): f"measure:{each.id}" for each in measures_at(Place.RESPONSE)}
        rows = [measured(run, *pair, a, b, shown, band) for (run, _), pair in zip(runs, pairs)]
        for r, name in enumerate(dict.fromkeys(name for figures in rows for name in figures), 1):
            words = label(name, "muted")
            explained_by(words, pages[name])
            self.grid.addWidget(words, r, 0)
            for c, figures in enumerate(rows, 1):
                value = label(figures.get(name, "–"))
                explained_by(value, pages[name])
                if value.text() == "–":
                    value.setToolTip(reasons[name])
                value.setAlignment(Qt.AlignmentFlag.AlignRight)
                self.grid.addWidget(value, r, c)
        self.grid.setColumnStretch(0, 1)
        self.span.setText(f"{latest.name}, between the cursors, {figure(b - a, 's', 4)}")
        firsts = (next((s for s in spec.signals if s in latest.keys), None) for spec in self.strips.specs[:5])
        self.between.show(latest, [key for key in firsts if key], a, b)

    def show_all_measures(self) -> None:
        """Of all shown runs, in a window of its own."""
        latest = self._latest_shown()
        actual, setpoint = self.measured_signal(latest) if latest is not None else (None, None)
        if latest is None or actual is None:
            return
        label_of = latest.infos[actual].label
        a, b = sorted(self.strips.times)
        shown, rows = keys_of(self.strips.specs), []
        for run, _ in self.drawn:
            own, own_setpoint = (actual, setpoint) if actual in run.keys else self.measured_signal(run)
            if own is not None and run.infos[own].label == label_of:
                rows.append((run, measured(run, own, own_setpoint, a, b, shown, self.session.band)))
        span = f"{step_measured(latest, actual, setpoint, a, b)}cursor 1 to 2, {figure(b - a, 's', 4)}"
        table = MeasureTable(sentence_case(label_of), span, rows, self)
        table.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        table.show()

    def _show_sectors(self) -> None:
        shown = self.sectors.isVisibleTo(self)
        if shown:
            self.sectors.show_run(self._latest_shown())
            self.sectors.show_time(self.strips.times[1])
        self.strips.show_sectors(self.sectors.sectors if shown else None)

    def _show_rotor(self) -> None:
        if self.rotor.isVisibleTo(self):
            self.rotor.show_run(self._latest_shown(), self.strips.times[1])

    def _show_modes(self) -> None:
        if self.modes.isVisibleTo(self):
            self.modes.show_run(self._latest_shown())
            self.modes.show_span(*sorted(self.strips.times))

    def _show_torque(self) -> None:
        if self.torque.isVisibleTo(self):
            self.torque.show_runs(self.drawn)
            self.torque.show_time(self.strips.times[1])

    def _latest_shown(self) -> KeptRun | None:
        """Of the drawn runs the one made last, whatever the order in which they were ticked."""
        return next(reversed(self._drawn_by_age()), None)

    def _drawn_by_age(self) -> list[KeptRun]:
        drawn = {id(run) for run, _ in self.drawn}
        return [run for run in self.session.runs if id(run) in drawn]

    def swap_frames(self, machine: str) -> None:
        """Phase currents and currents along d and q change places on the strips."""
        run = self.session.last_run
        roles = (SignalRole.PHASE_CURRENT, SignalRole.CURRENT_DQ)
        phases, frame = (signals_of(run, machine, role) if run is not None else [] for role in roles)
        if not frame:
            self.status_message.emit("This machine has no currents along d and q of its own.")
            return
        specs = self.strips.specs
        in_phases, in_frame = (
            next((p for p in specs if set(names) & set(p.signals)), None) for names in (phases, frame)
        )
        if in_phases is not None:
            others = [s for s in in_phases.signals if s not in phases]
            in_phases.signals = others if in_frame is not None else [*frame, *others]
            if not in_phases.signals:
                specs.remove(in_phases)
        elif in_frame is not None:
            in_frame.signals = [*phases, *(s for s in in_frame.signals if s not in frame)]
        else:
            self.strips.put(phases, None)
        self.arrangement.keep()
        self.draw(keep_view=True)

    def _show_spectrum(self) -> None:
        runs = self.drawn
        offered = {
            s: f"{runs[-1][0].infos[s].card}: {runs[-1][0].infos[s].label}"
            for spec in self.strips.specs
            for s in spec.signals
            if runs and s in runs[-1][0].infos
        }
        current = next((s for s in offered if runs[-1][0].infos[s].unit == "A"), "")
        self.spectrum.offer(list(offered.items()), current)
        self.spectrum.modes = [
            (m.frequency, f"{m.name}, damping {number_text(100 * m.damping, 2)} %")
            for _, m in self.session.mechanics.modes
        ]
        self.spectrum.show_runs(runs, *sorted(self.strips.times))
