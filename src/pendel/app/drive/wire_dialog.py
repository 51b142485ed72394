"""Wiring by keyboard: choose where a wire begins and ends from lists of what fits."""

from __future__ import annotations

from PyQt6.QtWidgets import QComboBox, QDialog, QDialogButtonBox, QFormLayout, QWidget

from pendel.app.session.session import Session
from pendel.core.catalogue.declare import Link, Part
from pendel.core.check import end_exists, fits
from pendel.core.drive.document import End
from pendel.core.drive.nesting import resolved


def all_ends(session: Session) -> list[tuple[str, End, Link]]:
    """Every port and signal with its words; the selected card's first."""
    ends = []
    kinds = session.kinds()
    for key, kind in sorted(kinds.items(), key=lambda pair: pair[0] not in session.selection):
        card = session.drive.cards[key]
        ends += [(f"{card.name}: {p.label}", End(key, p.name), p.link) for p in kind.ports]
        if isinstance(kind, Part):
            ends += [
                (f"{card.name}: {s.label}", End(key, s.name), Link.SIGNAL_OUT)
                for s in kind.signals
                if kind.port(s.name) is None
            ]
    return ends


def choose_wire(parent: QWidget, session: Session) -> tuple[End, End] | None:
    """Ask for both ends; signals come back from source to reader."""
    ends = all_ends(session)
    if not ends:
        return None
    dialog = QDialog(parent)
    dialog.setWindowTitle("Wire")
    form = QFormLayout(dialog)
    start, target = QComboBox(), QComboBox()
    for text, end, _ in ends:
        start.addItem(text, str(end))

    def fill() -> None:
        target.clear()
        chosen = ends[start.currentIndex()]
        fed = {w.b for w in session.drive.wires.values()}
        for text, end, link in ends:
            if (
                end.card != chosen[1].card
                and fits(chosen[2], link)
                and not (link is Link.SIGNAL_IN and resolved(session.drive, end) in fed)
            ):
                target.addItem(text, str(end))

    start.currentIndexChanged.connect(lambda _: fill())
    fill()
    form.addRow("From", start)
    form.addRow("To", target)
    box = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
    box.accepted.connect(dialog.accept)
    box.rejected.connect(dialog.reject)
    form.addRow(box)
    if dialog.exec() != QDialog.DialogCode.Accepted or not target.count():
        return None
    a, b = End.parse(start.currentData()), End.parse(target.currentData())
    return (b, a) if end_exists(session.drive, session.kinds(), a) is Link.SIGNAL_IN else (a, b)
