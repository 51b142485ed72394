"""C that came with a drive runs with the user's rights, so it is asked for once; what was typed here is not."""

from __future__ import annotations

from PyQt6.QtWidgets import QMessageBox, QWidget

from pendel.app.session import Session
from pendel.core.catalogue.own_block import C


def may_run(session: Session, parent: QWidget) -> bool:
    """Whether the drive's own C may run: it was typed in this session or allowed before, else the user is asked."""
    cards = [c for c in session.drive.cards.values() if c.kind == C and c.own is not None]
    strange = [c for c in cards if c.own not in session.known_c]
    if not strange:
        return True
    names = ", ".join(f"“{c.name}”" for c in strange)
    answer = QMessageBox.question(
        parent,
        "Own C",
        f"This drive brings C of its own in {names}. It runs on this computer with your rights. "
        "If the drive came from someone else, read it first on the card's page Update.\n\nRun it?",
        QMessageBox.StandardButton.Yes | QMessageBox.StandardButton.No,
        QMessageBox.StandardButton.No,
    )
    if answer != QMessageBox.StandardButton.Yes:
        return False
    session.known_c.update(c.own for c in strange if c.own is not None)
    return True
