"""The drive run many times with values that vary: plans and their rows."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence

import numpy as np
from PyQt6.QtCore import QModelIndex, Qt
from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import (
    QHBoxLayout,
    QLineEdit,
    QSplitter,
    QStackedWidget,
    QWidget,
)

from pendel.app.plots.plot import fit_plots
from pendel.app.series.out import RowsOut
from pendel.app.series.plan_panel import PlanPanel
from pendel.app.series.reading import (
    CROWDED,
    NO_PLAN,
    NO_ROWS,
    ReadSeries,
    bring_along,
    expected_words,
    read_series,
    rows_kept,
    traces_kept,
    varied_words,
)
from pendel.app.series.row_panel import RowPanel
from pendel.app.series.runner import SEARCHED, SeriesRunner
from pendel.app.series.table import RowsModel, RowsTable
from pendel.app.series.views import RowsViews
from pendel.app.session.jobs import BRING_SERIES, READ_SERIES, RUN, End, Job
from pendel.app.session.trust import may_run
from pendel.app.widgets.basic import button, column, label, row, wrapped
from pendel.app.widgets.timers import Later, RefreshWhenShown
from pendel.core.check.targets import set_target
from pendel.core.drive import commands
from pendel.core.drive.assemblies import completed
from pendel.core.drive.document import Drive
from pendel.core.drive.plans import Plan
from pendel.core.errors import FileProblem, PendelError
from pendel.core.runs.preparing.simulate import signal_infos
from pendel.core.series.gathered import Gathered, short_name
from pendel.core.series.mattering import shares, slopes
from pendel.core.series.rows import Row
from pendel.core.series.running import State, same_rows
from pendel.core.series.store import store_path
from pendel.core.series.traces import RowTrace

MOST_OPENED = 12
"""Rows that are opened as runs in one go: as many as are shown at once."""
FEWEST_TINTED = 3
"""Opened rows from which on colours tell the value that varied first."""
FRESH_MS = 250
"""Between two looks at rows that come."""
NOTHING = "–"


class PlansPage(RowsOut):
    """Say what varies, run it, look at the rows."""

    def building(self) -> Iterator[None]:
        self.runner = SeriesRunner(self.session, self)
        self.gathered: Gathered | None = None
        self.state = State()
        self.kept_drive: Drive | None = None
        """That which the rows are of."""
        self.rows_of = ""
        """The series whose rows are shown, or its last search."""
        self.chosen: Row | None = None
        self._to_open: list[Row] = []  # as ordinary runs
        self._known: set[str] | None = None
        """Runs that there were before rows were opened; none once all are shown."""
        self._late_open = Later(self, 0, self._open_next)
        self.sorted_by, self.falling = -1, False
        self._fresh = Later(self, FRESH_MS, self._show_rows)
        body = QHBoxLayout(self.body())
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(0)
        self.panel = PlanPanel(self.session)
        self.panel.chosen.connect(lambda _: self.read())
        self.panel.start_wanted.connect(self.start_or_pause)
        self.panel.anew_wanted.connect(lambda: self.start(anew=True))
        body.addWidget(self.panel)
        yield
        self.middle = QStackedWidget()
        self.hint = wrapped("", "muted")
        self.hint.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.hint.setContentsMargins(120, 0, 120, 0)
        self.middle.addWidget(self.hint)
        middle = QWidget()
        self.middle.addWidget(middle)
        inside = column(middle, (14, 10, 14, 10), 6)
        self.views = RowsViews(self._traces_of)
        self.views.row_chosen.connect(self.choose_place)
        self.views.narrowed.connect(self.narrow)
        self.views.figure_chosen.connect(self._tell_what_matters)
        self.views.said.connect(self.status_message)
        yield
        parts = QSplitter(Qt.Orientation.Vertical)
        parts.addWidget(self.views)
        parts.addWidget(self._build_table())
        parts.setStretchFactor(0, 1)
        parts.setStretchFactor(1, 1)
        inside.addWidget(parts, 1)
        body.addWidget(self.middle, 1)
        yield
        self.side = RowPanel()
        self.side.taken.connect(self.take_values)
        self.side.run_wanted.connect(self.open_as_run)
        self.side.goals.search_wanted.connect(self.search_or_stop)
        body.addWidget(self.side)
        self._follow = RefreshWhenShown(self, self.refresh)
        self.session.changed.connect(lambda _: self._follow())
        self.session.opened.connect(self._forget)
        self._place = self.runner.place
        self.session.file_changed.connect(self._go_along)
        self.session.runs_changed.connect(self._tell_state)
        self.session.runs_changed.connect(self._late_open.start)
        self.runner.came.connect(self._rows_came)
        self.runner.ended.connect(self._ended)
        self._follow()

    def body(self) -> QWidget:
        """Where plans are shown."""
        return self

    def _build_table(self) -> QWidget:
        whole = QWidget()
        inside = column(whole, (0, 4, 0, 0), 4)
        self.filter = QLineEdit()
        self.filter.setAccessibleName("Which rows are shown")
        self.filter.setPlaceholderText("rows … such as overshoot < 5 % and R_load > 40 ohm, or failed")
        self.filter.setClearButtonEnabled(True)
        self.filter.textChanged.connect(lambda _: self._fresh.start())
        self.found = label("", "muted")
        self.copy_button = button("Copy", self.copy, "link")
        self.save_button = button("Save …", self.save, "link")
        self.back_button = button("Rows of the series", self.read, "link")
        self.back_button.setToolTip("These are the trials of the last search")
        self.back_button.hide()
        line = row(self.filter, self.found, self.back_button, self.copy_button, self.save_button, spacing=10)
        line.setStretch(0, 1)
        inside.addLayout(line)
        self.model = RowsModel(self)
        self.table = RowsTable()
        self.table.setModel(self.model)
        heads, chosen = self.table.horizontalHeader(), self.table.selectionModel()
        assert heads is not None and chosen is not None
        heads.sectionClicked.connect(self.sort_by)
        chosen.currentRowChanged.connect(self._row_chosen)
        inside.addWidget(self.table, 1)
        return whole

    # what is shown -----------------------------------------------------------------

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        if hasattr(self, "_follow"):
            self._follow.shown()

    def fit(self) -> None:
        fit_plots(self)

    def vary(self, name: str) -> None:
        self.panel.add_varied(name)

    def rename(self) -> None:
        self.panel.rename()

    def look_for(self) -> bool:
        self.filter.setFocus()
        return True

    def _go_along(self) -> None:
        """The drive may have been saved elsewhere."""
        before, self._place = self._place, self.runner.place
        if before != self._place:
            now = self._place
            self.session.jobs.start(BRING_SERIES, lambda _: bring_along(before, now), lambda _: self._follow())

    def _forget(self) -> None:
        """Another drive is open."""
        self._place = self.runner.place
        self.runner.stop()
        self._to_open, self._known = [], None
        self.panel.name, self.gathered, self.chosen = "", None, None
        self.state = State()
        self._follow()

    def refresh(self) -> None:
        """Follow the drive."""
        self.panel.follow()
        plan = self.panel.plan
        self.side.goals.offer([(short_name(text), text) for text in plan.measures] if plan is not None else [])
        if plan is None or self.rows_of != self.name + SEARCHED:  # trials stay until somebody goes back
            self.read()

    def read(self) -> None:
        """Read the rows of the chosen series."""
        name, plan = self.name, self.panel.plan
        if plan is None:
            self._take_read(ReadSeries("", State()))
            return
        if self.runner.running and self.runner.name in (name, name + SEARCHED):
            self._tell_state()
            return
        folder, drive = self.runner.place, self.session.drive.copy()

        def then(job: Job) -> None:
            if job.end is End.FINISHED and name == self.name:
                self._take_read(job.result)
            elif job.end is End.FAILED:
                self._take_read(ReadSeries(name, State()))
                self.panel.problem.setText(job.sentence)

        self.session.jobs.start(READ_SERIES, lambda _: read_series(folder, name, drive, plan), then, at_once=0.05)

    def _take_read(self, read: ReadSeries) -> None:
        now, before = read.state, self.state
        if read.name == self.rows_of and self.gathered is not None and read.gathered is not None:
            if (now.begun, now.done) == (before.begun, before.done) == (before.begun, self.gathered.count):
                self.state = now  # the same rows, of a drive that may be another by now
                self._tell_state()
                return
        self.state, self.gathered, self.kept_drive = now, read.gathered, read.drive
        self.rows_of, self.chosen = read.name, None
        self.back_button.hide()
        self._offer()
        self._show_rows()
        self.side.show_row(None, None)
        self._tell_state()

    def _show_rows(self) -> None:
        """The rows that fulfil what is typed, in their order."""
        gathered = self.gathered
        self.middle.setCurrentIndex(0 if gathered is None or not gathered.count else 1)
        if gathered is not None and not gathered.count:
            self.hint.setText("The first rows are under way …" if self.runner.running else "There is no row yet.")
        if gathered is None:
            self.hint.setText(NO_PLAN if self.panel.plan is None else NO_ROWS)
            self.model.show(None, np.zeros(0, dtype=np.int64))
            self.found.setText("")
            self.side.show_shares("", [], "")
            return
        try:
            kept = gathered.matching(self.filter.text())
            self.found.setText(f"{int(kept.sum())} of {gathered.count} rows")
            self.found.setToolTip("")
        except PendelError as problem:
            kept = np.ones(gathered.count, dtype=bool)
            self.found.setText("?")
            self.found.setToolTip(str(problem))
            if not self.filter.hasFocus():
                self.status_message.emit(str(problem))
        places = gathered.order(self.sorted_by, falling=self.falling, kept=kept)
        first_time = self.model.columnCount() != 1 + len(gathered.heads)
        chosen = self.model.places[self.table.chosen_rows()] if self.chosen is not None else []
        self.model.show(gathered, places)
        self.table.choose_again(np.flatnonzero(np.isin(places, chosen)).tolist())
        if first_time:
            self.table.fit_columns()
        self.views.show_rows(gathered, places, self._chosen_place())

    def narrow(self, ranges: dict[int, tuple[float, float]]) -> None:
        """Keep rows whose columns lie in ranges (SI), beside what is typed of other columns."""
        if self.gathered is not None:
            self.filter.setText(self.gathered.narrowed(self.filter.text(), ranges))

    def sort_by(self, section: int) -> None:
        """Sort by a column; a second time, the other way round."""
        column_ = section - 1
        self.falling = not self.falling if column_ == self.sorted_by else False
        self.sorted_by = column_
        self.table.show_order(section, falling=self.falling)
        self._show_rows()

    def _tell_what_matters(self, up: int) -> None:
        gathered = self.gathered
        assert gathered is not None
        if self.rows_of.endswith(SEARCHED):
            self.side.show_shares("", [], CROWDED)
            self.side.show_slopes(None, up, [])
            return
        self.side.show_slopes(gathered, up, slopes(gathered, up) if up >= gathered.axes else [])
        if up < gathered.axes or gathered.axes < 2:
            self.side.show_shares("", [], "Of two or more things that vary, the page shows how much each explains.")
            return
        found = shares(gathered, up)
        words = (
            "share of the spread that each explains by itself, with its 95 % interval"
            if found
            else "Too few rows yet, or the figure is the same in all."
        )
        if found and (rest := 1 - sum(s.share for s in found)) > 0.1:
            words += f"; {100 * rest:.0f} % only together"
        if found and not math.isnan(found[0].total):
            words += ". Pale, and the figure: with all that it does together with others"
        self.side.show_shares(gathered.heads[up].short, found, words)

    # a row -----------------------------------------------------------------------

    def _chosen_place(self) -> int:
        gathered = self.gathered
        if gathered is None or self.chosen is None:
            return -1
        found = np.flatnonzero(gathered.numbers == self.chosen.number)
        return int(found[0]) if len(found) else -1

    def _row_chosen(self, now: QModelIndex, _: QModelIndex) -> None:
        if self.gathered is not None and now.isValid() and now.row() < len(self.model.places):
            self._show_place(int(self.model.places[now.row()]))

    def choose_place(self, place: int) -> None:
        """Choose a row by its place among those that came."""
        at = np.flatnonzero(self.model.places == place)
        if len(at):
            self.table.choose_row(int(at[0]))

    def _show_place(self, place: int) -> None:
        gathered = self.gathered
        assert gathered is not None
        number = int(gathered.numbers[place])
        self.chosen = self._row_of(number)
        self.side.show_row(gathered, self.chosen)
        self.views.choose_place(place)

    def _row_of(self, number: int) -> Row | None:
        """A row as it is kept. Nothing where its file cannot be read, which is said."""
        try:
            return next(iter(rows_kept(store_path(self.runner.place, self.rows_of), [number])), None)
        except FileProblem as problem:
            self.status_message.emit(str(problem))
            return None

    def _offer(self) -> None:
        self.views.infos = signal_infos(self.kept_drive) if self.kept_drive is not None else {}
        self.views.offer(self.gathered)

    def _traces_of(self, signal: str, numbers: Sequence[int]) -> list[RowTrace]:
        """Kept traces of rows. None where their file cannot be read, which is said."""
        path = store_path(self.runner.place, self.rows_of)
        try:
            return traces_kept(path, signal, numbers) if path.is_file() else []
        except FileProblem as problem:
            self.status_message.emit(str(problem))
            return []

    def _with_values(self, drive: Drive, of: Row) -> Drive:
        """A drive with what varied as it was in a row. Raises `DriveProblem`."""
        assert self.gathered is not None
        for axis, text in zip(self.gathered.points.axes, of.texts):
            completed(drive, set_target(drive, axis.target.name, text)).apply(drive)
        return drive

    def take_values(self) -> None:
        """Write what varied in the chosen row into the drive, as one step of undo."""
        if self.chosen is None:
            return
        drive, chosen, number = self.session.drive, self.chosen, self.chosen.number
        title = f"Take values of row {number}"
        self.session.attempt(lambda: commands.as_in(drive, self._with_values(drive.copy(), chosen), title))
        self.status_message.emit(f"The drive has the values of row {number}. Ctrl+Z takes them back.")

    def open_as_run(self) -> None:
        """Run the drives of the chosen rows once more, and keep them among the runs, one after the other."""
        if self.chosen is None or self.kept_drive is None or self.gathered is None:
            return
        places = [int(self.model.places[r]) for r in self.table.chosen_rows()[:MOST_OPENED]]
        numbers = [int(self.gathered.numbers[place]) for place in places] or [self.chosen.number]
        self._to_open = [row for number in numbers if (row := self._row_of(number)) is not None]
        self._known = {run.name for run in self.session.runs}
        self._open_next()

    def _open_next(self) -> None:
        gathered, of = self.gathered, self.kept_drive
        if not self._to_open and self._known is not None and not self.session.jobs.busy(RUN):
            new = [run.name for run in self.session.runs if run.name not in self._known]
            self._known = None
            if len(new) > 1:
                by = gathered.heads[0].name if gathered is not None and len(new) >= FEWEST_TINTED else ""
                self.session.overlay_wanted.emit(new, by)
        if not self._to_open or gathered is None or of is None or self.session.jobs.busy(RUN):
            return  # each run that ends asks again
        row_, self._to_open = self._to_open[0], self._to_open[1:]
        try:
            drive = self._with_values(of.copy(), row_)
        except PendelError as problem:
            self.status_message.emit(str(problem))
            return
        if "seed" not in (axis.target.name for axis in gathered.points.axes):
            drive.settings["seed"] = str(row_.seed)
        self.drive_run_wanted.emit(drive, f"{self.rows_of}, row {row_.number}: {varied_words(gathered, row_)}")

    # running -----------------------------------------------------------------------

    def start_or_pause(self) -> None:
        if self.runner.running:
            self.runner.stop()
            self.panel.start_button.setText("Pausing …")
        else:
            self.start()

    def start(self, *, anew: bool = False) -> None:
        """Run what is missing of the series, or all of it ``anew``."""
        if self.runner.running:
            return
        if not self.panel.count_words():
            self.status_message.emit(self.panel.problem.text() or "Nothing varies in this series yet.")
            return
        if self.session.examined.faults and (anew or not self.state.begun):
            self.panel.problem.setText("The drive cannot run before its faults are fixed.")
            return
        if not may_run(self.session, self):
            return
        self.panel.problem.setText("")
        try:
            self.runner.start(self.name, anew=anew, workers=self.panel.workers.text().strip())
        except PendelError as problem:
            self.panel.problem.setText(str(problem))
            return
        plan, drive = self.panel.plan, self.session.drive.copy()
        assert plan is not None
        if anew or not self.state.begun:
            self._show_new(self.name, Gathered(drive, plan), drive)
        elif self.gathered is not None and self.kept_drive is not None and self._other_figures(plan):
            self.gathered = self.gathered.with_figures(self.kept_drive, plan)
            self._offer()
            self._show_rows()
        self._tell_state()

    def _other_figures(self, plan: Plan) -> bool:
        """Whether the plan reports other figures of the same rows than are shown."""
        shown = self.gathered.plan if self.gathered is not None else None
        return shown is not None and shown != plan and same_rows(shown, plan)

    def _show_new(self, name: str, gathered: Gathered, drive: Drive) -> None:
        """Rows that are still to come."""
        self.rows_of, self.gathered, self.kept_drive, self.chosen = name, gathered, drive, None
        self.state = State(gathered.points.count, 0, 0, "now")
        self.back_button.hide()
        self._offer()

    def search_or_stop(self) -> None:
        """Search values for the goal that is entered, or stop the search."""
        if self.runner.running:
            self.runner.stop()
            return
        goals = self.side.goals
        goals.words.setText("")
        if self.panel.plan is None or not may_run(self.session, self):
            return
        if self.session.examined.faults:
            goals.words.setText("The drive cannot run before its faults are fixed.")
            return
        try:
            searching = self.runner.search(self.name, goals.goal())
        except PendelError as problem:
            goals.words.setText(str(problem))
            return
        drive = self.session.drive.copy()
        self._show_new(self.runner.name, Gathered(drive, searching.plan), drive)
        self._tell_state()

    def _tell_search(self) -> None:
        goals, searching = self.side.goals, self.runner.running and self.runner.name.endswith(SEARCHED)
        goals.show_searching(searching)
        goals.button.setEnabled(goals.figure.count() > 0 and (searching or not self.runner.running))
        if searching and self.gathered is not None:
            goals.words.setText(f"trial {self.gathered.count} of {self.gathered.points.count} at most")

    def _rows_came(self) -> None:
        rows = self.runner.taken()
        if self.gathered is not None and self.runner.name == self.rows_of and self.runner.folder == self.runner.place:
            before = [head.unit for head in self.gathered.heads]
            self.gathered.add(rows)
            if not self._fresh.isActive():
                self._fresh.start()
            if before != [head.unit for head in self.gathered.heads]:
                self.table.fit_columns()
        self._tell_state()

    def _ended(self, sentence: str, failed: bool) -> None:
        found = self.runner.found
        if self.runner.name.endswith(SEARCHED):
            self.side.goals.words.setText(sentence or (found.words if found is not None else "Stopped."))
            if self.rows_of == self.runner.name and self.gathered is not None:
                self.back_button.show()
                self._show_rows()
                if found is not None and found.best is not None:
                    self.choose_place(int(np.flatnonzero(self.gathered.numbers == found.best.number)[0]))
            self._tell_state()
            return
        self.read()
        if failed:
            self.panel.problem.setText(sentence)
            self.status_message.emit(sentence)
        self._tell_state()

    def _tell_state(self) -> None:
        """How far the series is, and what can be done."""
        panel, running = self.panel, self.runner.running and self.runner.name == self.name
        self._tell_search()
        if panel.plan is None or self.rows_of.endswith(SEARCHED):
            panel.start_button.setEnabled(not self.runner.running)
            return
        wanted = panel.count_words()
        done = self.state.done + (self.runner.done if running else 0)
        failed = int(self.gathered.failed.sum()) if self.gathered is not None else 0
        count = self.gathered.points.count if self.gathered is not None else 0
        wrong = f" · {failed} failed" if failed else ""
        panel.start_button.setEnabled(not self.runner.running or running)
        panel.anew_button.setVisible(bool(self.state.begun) and not running)
        panel.anew_button.setEnabled(not self.runner.running)
        if running:
            left = f" · about {(count - done) / self.runner.rate:.0f} s left" if self.runner.rate > 0 else ""
            panel.start_button.setText("Pause")
            panel.state.setText(f"{done} of {count} rows{wrong}{left}")
        elif self.state.begun:
            differs = f" {self.state.differs[:1].upper()}{self.state.differs[1:]}." if self.state.differs else ""
            fresh = len(self.state.fresh)
            other = panel.plan is not None and self._other_figures(panel.plan)
            go_on = f"Run again for {fresh} new figure{'s' if fresh > 1 else ''}" if fresh else "Go on"
            if fresh and any(each.startswith("trace of ") for each in self.state.fresh):
                go_on = "Run again for what is new"
            go_on = "Take these figures" if other and not fresh and done >= count else go_on
            panel.start_button.setText(go_on if done < count or other else "All rows are there")
            panel.start_button.setEnabled((done < count or other) and not self.runner.running)
            there = "0 rows have them" if fresh else f"{done} of {count} rows"
            panel.state.setText(f"{there}{wrong}, begun {self.state.begun.replace('T', ' ')}.{differs}")
        else:
            panel.start_button.setText("Run the series")
            panel.state.setText(wanted and wanted + expected_words(self.session.last_run, panel.plan, wanted))
