"""Steps on the way from the sheet to the board."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from pendel.app.widgets.basic import label, wrapped
from pendel.app.widgets.theme import tokens

WATCHED = {None: "", True: " · typed C watched", False: " · typed C not watched: install libubsan"}
"""What is said of typed C, by whether it ran under the compiler's checks."""


def step_row(number: int, name: str, text: str, done: bool) -> QWidget:
    """One step on the way to the board, with a tick where it is done."""
    made = QWidget()
    inside = QHBoxLayout(made)
    inside.setContentsMargins(0, 0, 0, 0)
    ring = label("✓" if done else str(number))
    ring.setFixedSize(20, 20)
    ring.setAlignment(Qt.AlignmentFlag.AlignCenter)
    ring.setStyleSheet(
        f"background: {tokens().moss if done else tokens().brass}; color: {tokens().card}; "
        "border-radius: 10px; font-weight: bold; font-size: 11px;"
    )
    words = QVBoxLayout()
    words.setSpacing(0)
    words.addWidget(label(name))
    words.addWidget(wrapped(text, "muted"))
    inside.addWidget(ring, 0, Qt.AlignmentFlag.AlignTop)
    inside.addLayout(words, 1)
    return made
