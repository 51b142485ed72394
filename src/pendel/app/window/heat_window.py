"""Heat over a duty: what the drive does over minutes or hours, and how warm it gets."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from pathlib import Path

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QCompleter,
    QDialog,
    QHBoxLayout,
    QHeaderView,
    QInputDialog,
    QTableWidget,
    QTableWidgetItem,
    QWidget,
)

from pendel.app.plots.plot import Plot
from pendel.app.session.jobs import HEAT
from pendel.app.session.session import Session
from pendel.app.widgets.asked_path import asked_path
from pendel.app.widgets.basic import button, column, label, row, wrapped
from pendel.app.widgets.explained import explained_by
from pendel.app.widgets.figure_table import FigureTable
from pendel.app.widgets.swatch import swatch
from pendel.app.widgets.theme import tokens
from pendel.app.window.beside_work import BesideWork
from pendel.app.window.life_row import LifeRow
from pendel.core.check.targets import targets
from pendel.core.drive.duties import STEADY, DutyPlan
from pendel.core.drive.duty_edits import remove_duty, rename_duty, set_duty
from pendel.core.drive.file import to_text
from pendel.core.errors import PendelError
from pendel.core.heat.duty import duty_of_plan
from pendel.core.heat.over import HeatOver
from pendel.core.processes.requests import HeatRequest
from pendel.core.quantities.units import figure, number_text
from pendel.core.trust import brings_allowed_c

ROUNDS = ((STEADY, "the cycle that repeats itself"), ("1", "once from the start"), ("3", "3 times"), ("10", "10 times"))
TIME, AT_LIMIT = "time", 0.99
HEADS = ("place", "warmest, °C", "at", "begin, °C", "end, °C", "limit, °C", "used", "heat, W")
NOTHING = (
    "A duty is a table: how long, and what is set meanwhile, such as the torque that is asked. Name what is set, fill "
    "in the stretches, and work it out. Temperatures start at those of the bodies."
)


class HeatWindow(QDialog):
    """A duty of the drive on the left, what follows on the right. It stays beside the window."""

    def __init__(self, session: Session, parent: QWidget):
        super().__init__(parent)
        self.session = session
        self.setWindowTitle("Heat over a duty")
        explained_by(self, "plot:duty")
        self.setModal(False)
        self.resize(1060, 640)
        self.result_: HeatOver | None = None
        self._filling = False
        body = QHBoxLayout(self)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(0)
        body.addWidget(self._build_duty())
        right = QWidget()
        inside = column(right, (14, 12, 14, 12), 8)
        self.plot = Plot("temperatures", "°C", bottom="time, min")
        self.plot.setMinimumHeight(260)
        self.table = FigureTable("Places", HEADS)
        self.words = wrapped(NOTHING, "muted")
        self.save_button = button("Save curves …", self.save_curves)
        inside.addWidget(self.words)
        inside.addWidget(self.plot, 3)
        inside.addWidget(self.table, 2)
        self.life = LifeRow(session)
        inside.addWidget(self.life)
        inside.addLayout(row(self.save_button, 1, spacing=8))
        body.addWidget(right, 1)
        session.changed.connect(self._follow)
        self._fill_names()
        self._show(None)

    def _build_duty(self) -> QWidget:
        side = QWidget()
        side.setObjectName("side")
        side.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        side.setFixedWidth(360)
        inside = column(side, (14, 12, 14, 12), 8)
        self.name = QComboBox()
        self.name.setAccessibleName("Duty")
        self.name.currentTextChanged.connect(lambda _: self._chosen())
        self.rename_button = button("Rename …", self.rename, "small")
        self.delete_button = button("Delete", self.delete, "small")
        line = row(self.name, button("New", self.new, "small"), self.rename_button, self.delete_button, spacing=6)
        line.setStretch(0, 1)
        inside.addLayout(line)
        self.target = QComboBox()
        self.target.setAccessibleName("What the duty sets")
        self.target.setEditable(True)
        self.target.setInsertPolicy(QComboBox.InsertPolicy.NoInsert)
        line_edit = self.target.lineEdit()
        assert line_edit is not None
        line_edit.setPlaceholderText("what is set, such as a torque …")
        add = button("Add", self.add_target, "small")
        add.setToolTip("Set this too, in a column of its own")
        line = row(self.target, add, spacing=6)
        line.setStretch(0, 1)
        inside.addLayout(line)
        self.stretches = QTableWidget(0, 1)
        self.stretches.setAccessibleName("Stretches of the duty")
        rows = self.stretches.verticalHeader()
        assert rows is not None
        rows.setDefaultSectionSize(24)
        self.stretches.itemChanged.connect(lambda _: self._typed())
        inside.addWidget(self.stretches, 1)
        inside.addLayout(
            row(
                button("Add stretch", self.add_stretch, "small"),
                button("Remove stretch", self.remove_stretch, "small"),
                button("Remove column", self.remove_column, "small"),
                1,
            )
        )
        self.rounds = QComboBox()
        self.rounds.setAccessibleName("How often")
        for text, words in ROUNDS:
            self.rounds.addItem(words, text)
        self.rounds.activated.connect(lambda _: self._typed())
        line = row(label("go through", "muted"), self.rounds, spacing=8)
        line.setStretch(1, 1)
        inside.addLayout(line)
        self.changes = QCheckBox("starts, brakes and other changes warm, too")
        self.changes.toggled.connect(lambda _: self._typed())
        inside.addWidget(self.changes)
        self.start_button = button("Work it out", self.start_or_stop, "primary")
        self.state = wrapped("", "muted")
        self.work = BesideWork(self.session, HEAT, self.start_button, self.state, self._take)
        self.highest_button = button("How much more?", self.find_highest)
        self.highest_button.setToolTip(
            "By which factor the loads of the chosen column may be larger until the first limit is reached"
        )
        inside.addLayout(row(self.start_button, self.highest_button, 1, spacing=8))
        inside.addWidget(self.state)
        return side

    # The duty ------------------------------------------------------------------------

    @property
    def duty(self) -> DutyPlan | None:
        return self.session.drive.duties.get(self.name.currentText())

    def _fill_names(self) -> None:
        shown, names = self.name.currentText(), list(self.session.drive.duties)
        self.name.blockSignals(True)
        self.name.clear()
        self.name.addItems(names)
        self.name.setCurrentText(shown if shown in names else names[0] if names else "")
        self.name.blockSignals(False)
        self._chosen()

    def _chosen(self) -> None:
        """Show the duty of the chosen name."""
        duty = self.duty
        for each in (self.rename_button, self.delete_button, self.start_button, self.highest_button, self.changes):
            each.setEnabled(duty is not None)
        known = targets(self.session.drive)
        text = self.target.currentText()
        self.target.clear()
        self.target.addItems([each.name for each in known if not each.options])
        completer = QCompleter([each.name for each in known if not each.options], self.target)
        completer.setFilterMode(Qt.MatchFlag.MatchContains)
        completer.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
        self.target.setCompleter(completer)
        self.target.setEditText(text)
        self._filling = True
        columns = (TIME, *(duty.targets if duty else ()))
        self.stretches.setColumnCount(len(columns))
        self.stretches.setHorizontalHeaderLabels(columns)
        self.stretches.setRowCount(len(duty.rows) if duty else 0)
        for r, texts in enumerate(duty.rows if duty else ()):
            for c in range(len(columns)):
                self.stretches.setItem(r, c, QTableWidgetItem(texts[c] if c < len(texts) else ""))
        header = self.stretches.horizontalHeader()
        assert header is not None
        header.setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        if duty is not None:
            place = self.rounds.findData(duty.rounds)
            if place < 0:
                self.rounds.addItem(f"{duty.rounds} times", duty.rounds)
                place = self.rounds.count() - 1
            self.rounds.setCurrentIndex(place)
            self.changes.setChecked(duty.changes)
        self._filling = False

    def _follow(self, touched: Iterable[tuple[str, str]]) -> None:
        if not self._filling and any(table == "duties" for table, _ in touched):
            self._fill_names()

    def _put(self, duty: DutyPlan, gesture: str = "") -> None:
        name = self.name.currentText()
        self._filling = True
        self.session.attempt(lambda: set_duty(self.session.drive, name, duty, gesture))
        self._filling = False
        self._chosen()

    def new(self) -> None:
        """A duty of two stretches, to be filled in."""
        taken = self.session.drive.duties
        name = next(f"Duty {n}" for n in range(1, len(taken) + 2) if f"Duty {n}" not in taken)
        duty = DutyPlan((), (("4 min",), ("6 min",)))
        self.session.attempt(lambda: set_duty(self.session.drive, name, duty))
        self._fill_names()
        self.name.setCurrentText(name)
        self.target.setFocus()

    def rename(self) -> None:
        old = self.name.currentText()
        new, good = QInputDialog.getText(self, "Rename the duty", "Name", text=old)
        if good and new.strip() != old:
            self.session.attempt(lambda: rename_duty(self.session.drive, old, new))
            self._fill_names()
            self.name.setCurrentText(new.strip())

    def delete(self) -> None:
        self.session.attempt(lambda: remove_duty(self.session.drive, self.name.currentText()))
        self._fill_names()

    def add_target(self) -> None:
        """A column for what is typed, with its present text in each stretch."""
        if self.duty is None:
            self.new()
        duty, name = self.duty, self.target.currentText().strip()
        found = next((each for each in targets(self.session.drive) if each.name == name), None)
        if duty is None or found is None:
            self.state.setText(f"“{name}” is nothing that can be set. Choose a value, a quantity or a setting.")
            return
        if name in duty.targets:
            self.state.setText(f"The duty sets {name} already.")
            return
        rows = tuple((*texts, found.text) for texts in duty.rows)
        self.target.setEditText("")
        self.state.setText("")
        self._put(replace(duty, targets=(*duty.targets, name), rows=rows))

    def add_stretch(self) -> None:
        if self.duty is None:
            self.new()
        duty = self.duty
        if duty is not None:
            last = duty.rows[-1] if duty.rows else ("1 min", *("" for _ in duty.targets))
            self._put(replace(duty, rows=(*duty.rows, last)))
            self.stretches.setCurrentCell(len(duty.rows), 0)

    def remove_stretch(self) -> None:
        duty, at = self.duty, self.stretches.currentRow()
        if duty is not None and 0 <= at < len(duty.rows):
            self._put(replace(duty, rows=duty.rows[:at] + duty.rows[at + 1 :]))

    def remove_column(self) -> None:
        duty, at = self.duty, self.stretches.currentColumn() - 1
        if duty is not None and 0 <= at < len(duty.targets):
            rows = tuple(texts[: at + 1] + texts[at + 2 :] for texts in duty.rows)
            self._put(replace(duty, targets=duty.targets[:at] + duty.targets[at + 1 :], rows=rows))

    def _typed(self) -> None:
        """What stands in the table goes into the drive."""
        duty = self.duty
        if self._filling or duty is None:
            return
        rows = tuple(
            tuple(self._cell(r, c) for c in range(self.stretches.columnCount()))
            for r in range(self.stretches.rowCount())
        )
        self._put(DutyPlan(duty.targets, rows, str(self.rounds.currentData()), self.changes.isChecked()))

    def _cell(self, r: int, c: int) -> str:
        item = self.stretches.item(r, c)
        return item.text().strip() if item is not None else ""

    # What follows --------------------------------------------------------------------

    @property
    def working(self) -> bool:
        return self.work.working

    def start_or_stop(self) -> None:
        if not self.work.stop():
            self._start("")

    def find_highest(self) -> None:
        """By which factor the chosen column, or the only one, may be larger."""
        duty, at = self.duty, self.stretches.currentColumn() - 1
        if self.working or duty is None:
            return
        if len(duty.targets) == 1:
            at = 0
        if not 0 <= at < len(duty.targets):
            self.state.setText("Choose a cell of the column whose loads may grow, then ask again.")
            return
        self._start(duty.targets[at])

    def _start(self, highest: str) -> None:
        duty, name = self.duty, self.name.currentText()
        if duty is None:
            return
        try:
            duty_of_plan(self.session.drive, duty, name)
        except PendelError as problem:
            self.state.setText(str(problem))
            return
        if self.session.examined.faults:
            self.state.setText("The drive cannot run before its faults are fixed.")
            return
        own_c = brings_allowed_c(self.session.drive)
        request = HeatRequest(to_text(self.session.drive), name, highest=highest, own_c=own_c)
        self.work.start(request, "Short runs at the operating points …")

    def _take(self, result: HeatOver) -> None:
        self._show(result)
        self.state.setText("\n".join(filter(None, (factor_words(result), f"By {result.runs} short runs."))))

    def _show(self, result: HeatOver | None) -> None:
        self.result_ = result
        self.plot.wipe()
        for each in (self.plot, self.table, self.life, self.save_button):
            each.setVisible(result is not None)
        self.words.setVisible(result is None)
        if result is None:
            return
        tints = (*tokens().traces, tokens().ink)
        uses = {use.key: use for use in result.uses}
        means, rows = result.means, list[tuple[str, ...]]()
        shown = distinct(result)
        minutes = result.times / 60.0
        for key in shown:
            y = result.temperatures[key]
            self.plot.curve(minutes, y, tints[shown.index(key) % len(tints)], 1.6)
            peak = result.peaks[key]
            at, use = int(np.argmax(peak)), uses.get(key)
            source = next((joint for joint in result.heat if np.array_equal(result.temperatures[joint], y)), "")
            rows.append(
                (
                    result.titles[key],
                    number_text(float(peak[at]), 4),
                    figure(float(result.times[at]), "s", 3),
                    number_text(float(y[0]), 4),
                    number_text(float(y[-1]), 4),
                    number_text(use.limit, 4) if use else "–",
                    f"{100 * use.share:.0f} %" if use else "–",
                    number_text(means[source], 4) if source else "–",
                )
            )
        for use in result.uses:
            if use.key in shown:
                tint = tints[shown.index(use.key) % len(tints)]
                ends = minutes[[0, -1]]
                self.plot.curve(ends, np.full(2, use.limit), tint, 1.0, Qt.PenStyle.DashLine)
        limits = "; dashed: limits" if result.uses else ""
        how = "the cycle that repeats itself" if result.steady else "from the start"
        self.plot.set_caption("temperatures", f"°C; {how}{limits}")
        self.table.show_rows(rows)
        self.life.show_places(result, shown)
        for r, _ in enumerate(shown):
            item = self.table.item(r, 0)
            if item is not None:
                item.setIcon(swatch(tints[r % len(tints)], 12))
        self.plot.fit()

    def save_curves(self) -> None:
        if self.result_ is None:
            return
        path = asked_path(self, "Save curves", f"{self.name.currentText()}.csv", {".csv": "CSV"})
        if path:
            try:
                self.result_.save(Path(path))
                self.state.setText(f"Saved {Path(path).name}.")
            except PendelError as problem:
                self.state.setText(str(problem))


def factor_words(result: HeatOver) -> str:
    """How much larger a load may be, where that was asked."""
    if not result.scaled:
        return ""
    factor = f"{number_text(result.factor, 4)} times as large"
    if result.uses and result.uses[0].share > AT_LIMIT:
        return f"{result.scaled} may be {factor}: the limit of {result.uses[0].what} is reached then, as shown."
    return f"{result.scaled} may be {factor} at least; no more was tried. That is shown."


def distinct(result: HeatOver) -> list[str]:
    """Places to show: of those that have one temperature all the time, the body."""
    shown: list[str] = []
    for key, y in reversed(result.temperatures.items()):
        if not any(np.array_equal(y, result.temperatures[other]) for other in shown):
            shown.append(key)
    return shown[::-1]
