"""What Pendel says of itself."""

from __future__ import annotations

from PyQt6.QtWidgets import QMessageBox, QWidget

from pendel import __version__
from pendel.core.extensions import all_left_out
from pendel.core.measures import MEASURES
from pendel.core.plant.methods import METHODS


def show_about(parent: QWidget, confined: str) -> None:
    """``confined`` says what holds compiled code."""
    words = (
        f"Pendel {__version__}\nModel, simulate, tune and ship motor drives.",
        confined,
        *what_was_left_out(),
        "GPL-3.0-or-later. C code made by Pendel is yours, free of any condition.\nFonts: B612 and "
        "JetBrains Mono, SIL Open Font License.",
    )
    QMessageBox.about(parent, "Pendel", "\n\n".join(words))


def what_was_left_out() -> list[str]:
    """Sentences on what installed packages offer and could not be taken."""
    from pendel.core.loops.tuning.rules import RULES  # slow to load, and not needed to start

    for table in (METHODS, MEASURES, RULES):
        len(table)  # which loads it
    return all_left_out()
