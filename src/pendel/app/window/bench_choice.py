"""Which machine is put on a test bench, and where its torque is asked for: the head of windows that do so."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QComboBox, QGridLayout, QLabel, QLineEdit, QWidget

from pendel.app.session.jobs import JobKind
from pendel.app.session.session import Session
from pendel.app.widgets.basic import button, column, label, row, wrapped
from pendel.app.window.beside_work import BesideWork
from pendel.core.envelope.bench import machines, torque_ends, unit_asked

WIDTH = 350
Fields = Sequence[tuple[str, str, str, str]]
Take = Callable[[Any], None]


class BenchChoice(QGridLayout):
    """Two lists and a line for each of the ``fields``: name, words, first text and hint. ``entered`` is called at
    Enter."""

    def __init__(self, session: Session, fields: Fields, entered: Callable[[], object]):
        super().__init__()
        self.session = session
        self.words = {name: words for name, words, *_ in fields}
        self.setVerticalSpacing(8)
        self.machine, self.torque = QComboBox(), QComboBox()
        self.machine.setAccessibleName("Machine")
        self.torque.setAccessibleName("Where its torque is asked for")
        self.torque.currentIndexChanged.connect(lambda _: self._name_top())
        for line, (words, box) in enumerate((("Machine", self.machine), ("Torque is asked at", self.torque))):
            self.addWidget(label(words, "muted"), line, 0)
            self.addWidget(box, line, 1)
        self.fields: dict[str, QLineEdit] = {}
        for line, (name, words, text, hint) in enumerate(fields, 2):
            self.fields[name] = QLineEdit(text)
            self.fields[name].setPlaceholderText(hint)
            self.fields[name].setAccessibleName(words)
            self.fields[name].setAlignment(Qt.AlignmentFlag.AlignRight)
            self.fields[name].returnPressed.connect(entered)
            self.addWidget(label(words, "muted"), line, 0)
            self.addWidget(self.fields[name], line, 1)
        self.setColumnStretch(1, 1)

    def fill(self) -> None:
        """Offer what the drive has now."""
        drive = self.session.drive
        machine, torque = self.machine.currentData(), self.torque.currentData()
        self.machine.clear()
        for key in machines(drive):
            self.machine.addItem(drive.cards[key].name, key)
        self.machine.setCurrentIndex(max(0, self.machine.findData(machine)))
        self.torque.blockSignals(True)
        self.torque.clear()
        for end in torque_ends(drive):
            self.torque.addItem(f"{drive.cards[end.card].name} · {end.port}", str(end))
        self.torque.setCurrentIndex(max(0, self.torque.findData(torque)))
        self.torque.blockSignals(False)
        self._name_top()

    def _name_top(self) -> None:
        torque = self.torque.currentData()
        unit = unit_asked(self.session.drive, torque) if torque else "N·m"
        self.fields["top"].setPlaceholderText(f"such as 400 {unit}")

    def texts(self, line: QLabel) -> Mapping[str, str]:
        """What is chosen and entered, ``machine`` and ``torque`` among it; nothing where the ``line`` says what is
        missing."""
        machine, torque = self.machine.currentData(), self.torque.currentData()
        if not machine or not torque:
            line.setText("This drive has no machine with a shaft whose torque a block asks for.")
            return {}
        if self.session.examined.faults:
            line.setText("The drive cannot run before its faults are fixed.")
            return {}
        texts = {name: field.text().strip() for name, field in self.fields.items()}
        for name, text in texts.items():
            if not text:
                line.setText(f"{self.words[name]} is empty. Fill it in.")
                self.fields[name].setFocus()
                return {}
        return {"machine": machine, "torque": torque, **texts}


class BenchSide(QWidget):
    """The left side of such a window: what is asked, the button that starts and stops, and a line that says how it
    goes. ``start`` is called by both; ``take`` gets the result."""

    def __init__(
        self, session: Session, fields: Fields, kind: JobKind, title: str, start: Callable[[], object], take: Take
    ) -> None:
        super().__init__()
        self.setObjectName("side")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedWidth(WIDTH)
        inside = column(self, (14, 12, 14, 12), 8)
        self.choice = BenchChoice(session, fields, start)
        inside.addLayout(self.choice)
        self.start_button = button(title, start, "primary")
        self.state = wrapped("", "muted")
        self.work = BesideWork(session, kind, self.start_button, self.state, take)
        inside.addLayout(row(self.start_button, 1))
        inside.addWidget(self.state)
        inside.addStretch(1)


__all__ = ["BenchChoice", "BenchSide"]
