"""A new drive: an empty sheet, or a whole drive from what a data sheet gives."""

from __future__ import annotations

import math
from itertools import pairwise

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import (
    QButtonGroup,
    QDialog,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from pendel.app.session.jobs import JUDGE_GOAL, End, Job
from pendel.app.session.judging import Study, judged_beside
from pendel.app.session.session import Session
from pendel.app.widgets.basic import button, clear, column, label, literal, row, scrolled, wrapped
from pendel.app.widgets.small_sheet import SmallSheet
from pendel.app.widgets.theme import colour, font
from pendel.app.widgets.timers import Later
from pendel.core.catalogue.goals.goal import Goal, Looked, looked_at, made
from pendel.core.catalogue.goals.table import GOALS
from pendel.core.catalogue.index import kinds
from pendel.core.drive.document import Drive
from pendel.core.errors import PendelError
from pendel.core.loops.regulators.judged_at import JudgedAt
from pendel.core.quantities.units import figure, with_symbols

LOOK_AFTER_MS, JUDGE_AFTER_MS = 120, 500


class GoalButton(QPushButton):
    """A goal with its sentence below."""

    def __init__(self, title: str, sentence: str):
        super().__init__()
        self.setCheckable(True)
        self.setAccessibleName(f"{title}: {sentence}" if sentence else title)
        self.setObjectName("goal")
        inside = column(self, (10, 6, 10, 6), 1)
        name = wrapped(title)
        name.setFont(font(12, bold=True))
        inside.addWidget(name)
        if sentence:
            inside.addWidget(wrapped(sentence, "muted"))
        for part in self.findChildren(QWidget):
            part.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.setMinimumHeight(16 + 17 * (math.ceil(len(title) / 33) + math.ceil(len(sentence) / 38)))


class NewDriveDialog(QDialog):
    """``chosen`` gives the drive that is wanted, and what it is called; an empty one for an empty sheet."""

    chosen = pyqtSignal(object, str)

    def __init__(self, session: Session, parent: QWidget):
        super().__init__(parent)
        self.session = session
        self.setWindowTitle("New drive")
        self.resize(1120, 740)
        self.goal: Goal | None = None
        self.drive: Drive | None = None
        self.fields: dict[str, QLineEdit] = {}
        self.options: dict[str, str] = {}
        self._typed: dict[str, str] = {}
        self._look = Later(self, LOOK_AFTER_MS, self.look)
        self._judge = Later(self, JUDGE_AFTER_MS, self._judge_loops)
        body = QHBoxLayout(self)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(0)
        body.addWidget(self._build_goals())
        body.addWidget(self._build_entries(), 5)
        body.addWidget(self._build_side(), 6)
        self.choose(None)
        self.goals.button(0).setFocus()

    def _build_goals(self) -> QWidget:
        side = QWidget()
        side.setObjectName("side")
        side.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        side.setFixedWidth(262)
        inner = QWidget()
        column(side, (0, 0, 0, 0)).addWidget(scrolled(inner))
        inside = column(inner, (10, 12, 10, 12), 6)
        inside.addWidget(label("What do you want to build?", "heading"))
        self.goals = QButtonGroup(self)
        choices = [("An empty sheet", "", None), *((goal.title, goal.sentence, goal) for goal in GOALS.values())]
        for place, (title, sentence, goal) in enumerate(choices):
            push = GoalButton(title, sentence)
            push.clicked.connect(lambda _, g=goal: self.choose(g))
            push.setChecked(place == 0)
            self.goals.addButton(push, place)
            inside.addWidget(push)
        inside.addStretch(1)
        return side

    def _build_entries(self) -> QWidget:
        middle = QWidget()
        inside = column(middle, (18, 14, 18, 14), 6)
        self.title = label("", "title")
        self.sentence = wrapped("", "muted")
        inside.addWidget(self.title)
        inside.addWidget(self.sentence)
        inner = QWidget()
        self.entries = QGridLayout(inner)
        self.entries.setContentsMargins(0, 6, 6, 6)
        self.entries.setHorizontalSpacing(10)
        self.entries.setVerticalSpacing(5)
        self.entries.setColumnStretch(0, 1)
        inside.addWidget(scrolled(inner), 1)
        self.choices = QVBoxLayout()
        inside.addLayout(self.choices)
        self.make_button = button("Make it", self.make, "primary")
        self.make_button.setDefault(True)
        cancel = button("Cancel", self.reject)
        cancel.setAutoDefault(False)
        inside.addLayout(row(self.make_button, cancel, 1, spacing=8))
        return middle

    def _build_side(self) -> QWidget:
        right = QWidget()
        right.setObjectName("inspector")
        right.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        inside = column(right, (18, 14, 18, 14), 6)
        inside.addWidget(label("What follows", "title"))
        self.facts = QGridLayout()
        self.facts.setColumnStretch(0, 1)
        self.facts.setHorizontalSpacing(12)
        self.facts.setVerticalSpacing(3)
        inside.addLayout(self.facts)
        self.said = wrapped("", "")
        inside.addWidget(self.said)
        self.loops_title = label("Loops that it starts with", "heading")
        inside.addWidget(self.loops_title)
        self.loops = wrapped("", "")
        inside.addWidget(self.loops)
        inside.addWidget(label("The drive", "heading"))
        self.sheet = SmallSheet()
        inside.addWidget(self.sheet, 1)
        return right

    # what is chosen ----------------------------------------------------------------

    def choose(self, goal: Goal | None) -> None:
        self._remember()
        self.goal = goal
        place = 0 if goal is None else 1 + list(GOALS).index(goal.id)
        chosen = self.goals.button(place)
        assert chosen is not None
        chosen.setChecked(True)
        self.options = goal.chosen({}) if goal is not None else {}
        self.title.setText(goal.title if goal is not None else "An empty sheet")
        words = "Enter what your sheet gives; the rest follows on the right."
        empty = "Press A on it to add parts and blocks, and drag from port to port to wire them."
        self.sentence.setText(words if goal is not None else empty)
        self._fill_choices()
        self._fill_entries()
        self.look()

    def _remember(self) -> None:
        self._typed |= {name: field.text() for name, field in self.fields.items()}

    def _fill_choices(self) -> None:
        clear(self.choices)
        for option in self.goal.options if self.goal is not None else ():
            buttons: list[QWidget | int] = [label(option.title, "muted")]
            for each, words in option.options:
                push = button(literal(words), lambda o=option.name, e=each: self._choose_option(o, e), "small")
                push.setCheckable(True)
                push.setAutoDefault(False)
                push.setChecked(self.options[option.name] == each)
                push.setAccessibleName(f"{option.title}: {words}")
                buttons.append(push)
            self.choices.addLayout(row(*buttons, 1, spacing=6))

    def _choose_option(self, name: str, option: str) -> None:
        self.options[name] = option
        self._remember()
        self._fill_choices()
        self._fill_entries()
        self.look()

    def _fill_entries(self) -> None:
        clear(self.entries)
        for line in range(self.entries.rowCount()):
            self.entries.setRowStretch(line, 0)
        self.fields = {}
        group, line = "", 0
        for entry in self.goal.asked(self.options) if self.goal is not None else ():
            if entry.group != group:
                group = entry.group
                self.entries.addWidget(label(group, "heading"), line, 0, 1, 3)
                line += 1
            name = wrapped(entry.title)
            field = QLineEdit(self._typed.get(entry.name, entry.default))
            field.setAccessibleName(entry.title)
            field.setAlignment(Qt.AlignmentFlag.AlignRight)
            field.setFixedWidth(110)
            field.textEdited.connect(lambda _: self._look.start())
            field.setToolTip(f"A number in {entry.unit}, or a number with another unit" if entry.unit else "A number")
            self.fields[entry.name] = field
            self.entries.addWidget(name, line, 0)
            self.entries.addWidget(field, line, 1)
            self.entries.addWidget(label(shown_unit(entry.unit), "muted"), line, 2)
            line += 1
        self.entries.setRowStretch(line, 1)
        for before, after in pairwise(self.fields.values()):
            QWidget.setTabOrder(before, after)

    def look(self) -> None:
        """Make the drive, and say what follows of the entries."""
        self._look.stop()
        clear(self.facts)
        self.loops.setText("")
        self.drive = None
        if self.goal is None:
            self._say(Looked())
            self.sheet.show_drive(None)
            self.loops_title.hide()
            self.make_button.setEnabled(True)
            return
        try:
            drive = made(self.goal, {name: field.text() for name, field in self.fields.items()}, self.options)
            looked = looked_at(self.goal, drive, self.options)
        except PendelError as problem:
            self._say(Looked(problems=[str(problem)]))
            self.make_button.setEnabled(False)
            return
        for line, fact in enumerate(looked.facts):
            value = label(shown_unit(figure(fact.value, fact.unit)))
            value.setAlignment(Qt.AlignmentFlag.AlignRight)
            self.facts.addWidget(wrapped(fact.title, "muted"), line, 0)
            self.facts.addWidget(value, line, 1)
        self._say(looked)
        self.drive = drive
        self.sheet.show_drive(drive)
        self.make_button.setEnabled(True)
        self.loops_title.setVisible(any(getattr(kinds()[c.kind], "regulates", ()) for c in drive.cards.values()))
        self._judge.start()

    def _say(self, looked: Looked) -> None:
        """Problems and doubts; a drive can be made all the same, for whoever wants to see it."""
        self.said.setText("\n".join([*looked.problems, *looked.doubts]))
        name = "brick" if looked.problems else "brass"
        style = f"border: 1px solid {colour(name).name()}; background: {colour(name + '_tint').name()}; padding: 6px;"
        self.said.setStyleSheet(style if self.said.text() else "")
        self.said.setVisible(bool(self.said.text()))

    def _judge_loops(self) -> None:
        drive = self.drive
        if drive is None or not self.loops_title.isVisible():
            return
        copy = drive.copy()

        def then(job: Job) -> None:
            if drive is self.drive:
                self.loops.setText(loop_lines(job.result) if job.end is End.FINISHED else job.sentence)

        worker = self.session.beside_worker
        turns = any(getattr(kinds()[c.kind], "only_turning", False) for c in copy.cards.values())
        self.loops.setText("Being judged …")
        at = JudgedAt.STEADY if turns else JudgedAt.REST
        self.loops_title.setText("Loops in steady rotation" if turns else "Loops that it starts with")
        self.session.jobs.start(JUDGE_GOAL, lambda job: judged_beside(worker, copy, lambda: job.stopping, at=at), then)

    def make(self) -> None:
        if self._look.isActive():
            self.look()
        if self.goal is not None and self.drive is None:
            return
        title = f"Make {self.goal.title[:1].lower()}{self.goal.title[1:]}" if self.goal is not None else ""
        self.chosen.emit(self.drive if self.drive is not None else Drive(), title)
        self.accept()


def shown_unit(text: str) -> str:
    for typed, shown in (("*", "·"), ("^2", "²"), ("/us", "/µs"), (" deg", "°")):
        text = text.replace(typed, shown)
    return with_symbols(text)


def loop_lines(study: Study) -> str:
    """Crossover and phase margin of each loop, in a line each."""
    lines = []
    for status in study.loops:
        judged = status.judged
        if judged is not None and math.isfinite(judged.margins.crossover):
            margins = judged.margins
            lines.append(f"{status.loop.label}: {figure(margins.crossover, 'Hz', 3)}, {margins.phase:.0f}° margin")
        elif status.problem:
            lines.append(f"{status.loop.label}: to be measured in runs")
    return "\n".join(lines) or study.problem
