"""Wires what is obvious, and asks in one small table about the rest."""

from __future__ import annotations

from PyQt6.QtWidgets import QComboBox, QDialog, QDialogButtonBox, QGridLayout, QWidget

from pendel.app.session.session import Session
from pendel.app.widgets.basic import column, label, scrolled, wrapped
from pendel.core.catalogue.assembly import kind_in
from pendel.core.catalogue.declare import Part
from pendel.core.drive.document import End
from pendel.core.wiring.obvious import Obvious, Question, obvious, obvious_command

LEAVE = "leave it open"


def wire_obvious(session: Session, parent: QWidget) -> str:
    """Wire what is selected, or the whole sheet, as one step of undo; returns what is to be said."""
    cards = session.selection or [k for k, c in session.drive.cards.items() if c.inside == session.inside]
    found = obvious(session.drive, cards)
    if not found:
        return "Nothing here is obvious to wire: no open port has a partner among these cards."
    answers: list[tuple[End, End]] = []
    if found.asked:
        dialog = AskDialog(session, found, parent)
        if dialog.exec() != QDialog.DialogCode.Accepted:
            return ""
        answers = dialog.answers()
    if not found.sure and not found.sensors and not answers:
        return "No wire was added."
    session.attempt(lambda: obvious_command(session.drive, found, answers))
    count = len(found.sure) + 2 * len(found.sensors) + len(answers)
    sensors = f" and {len(found.sensors)} sensors" if found.sensors else ""
    return f"Added {count} {'wire' if count == 1 else 'wires'}{sensors}."


class AskDialog(QDialog):
    """One line for each port that several things could be joined to."""

    def __init__(self, session: Session, found: Obvious, parent: QWidget):
        super().__init__(parent)
        self.session, self.found = session, found
        self.setWindowTitle("Wire what is obvious")
        self.resize(560, min(560, 150 + 32 * len(found.asked)))
        body = column(self, (16, 14, 16, 12), 8)
        sure = len(found.sure) + 2 * len(found.sensors)
        words = f"{sure} wires are obvious. " if sure > 1 else "One wire is obvious. " if sure else ""
        body.addWidget(wrapped(f"{words}These could be joined to more than one thing:", "muted"))
        inner = QWidget()
        grid = QGridLayout(inner)
        grid.setColumnStretch(1, 1)
        self.boxes: list[tuple[Question, QComboBox]] = []
        for line, question in enumerate(found.asked):
            box = QComboBox()
            box.addItem(LEAVE, None)
            for source in question.sources:
                box.addItem(self.words(source), source)
            box.setAccessibleName(f"{self.words(question.target)} from")
            grid.addWidget(label(self.words(question.target)), line, 0)
            grid.addWidget(box, line, 1)
            self.boxes.append((question, box))
        grid.setRowStretch(len(found.asked), 1)
        body.addWidget(scrolled(inner), 1)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        ok = buttons.button(QDialogButtonBox.StandardButton.Ok)
        assert ok is not None
        ok.setText("Wire")
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        body.addWidget(buttons)
        if self.boxes:
            self.boxes[0][1].setFocus()

    def words(self, end: End) -> str:
        """Card and port as they are called."""
        kind = kind_in(self.session.drive, end.card)
        port = kind.port(end.port)
        signals = kind.signals if isinstance(kind, Part) else ()
        said = port.label if port else next((s.label for s in signals if s.name == end.port), end.port)
        return f"{self.session.drive.cards[end.card].name}: {said}"

    def answers(self) -> list[tuple[End, End]]:
        """Pairs of a target and its source."""
        return [(q.target, box.currentData()) for q, box in self.boxes if box.currentData() is not None]
