"""Steps on the way from the sheet to the board."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from pendel.app.widgets.basic import clear, label, wrapped
from pendel.app.widgets.theme import tokens
from pendel.core.firmware.ship import Checked
from pendel.core.firmware.written import Written

WATCHED = {None: "", True: " · typed C watched", False: " · typed C not watched: install libubsan"}
"""What is said of typed C, by whether it ran under the compiler's checks."""


class Steps(QVBoxLayout):
    """What is done on the way from the sheet to the board, and what is next."""

    def __init__(self) -> None:
        super().__init__()
        self.setSpacing(7)

    def fill(self, written: Written, checked: Checked | None, saved_to: str, *, ranges_found: bool) -> None:
        clear(self)
        numbers = [b.number.label for b in written.facts]
        mix = ", ".join(f"{numbers.count(n)} × {n}" for n in dict.fromkeys(numbers)) or "–"
        files = written.files
        lines = files.source.count("\n") + files.header.count("\n") if files else 0
        build, check, same = "not built yet", "not checked yet", False
        if checked is not None:
            build = f"{checked.compiler} · no warnings{WATCHED[checked.watched]}"
            same = not checked.unlike
            check = "the same to the bit" if same else checked.unlike[0]
        rows = (
            ("Formats", mix, bool(numbers)),
            (
                "Ranges",
                "found in a run" if ranges_found else "proven only; none found in a run",
                ranges_found,
            ),
            ("Code", f"{lines} lines of source and header" if files else "–", bool(lines)),
            ("Build", build, checked is not None),
            ("Check", check, same),
            ("Save", saved_to or "not yet saved", bool(saved_to)),
        )
        for n, (name, text, done) in enumerate(rows, 1):
            self.addWidget(step_row(n, name, text, done))


def step_row(number: int, name: str, text: str, done: bool) -> QWidget:
    """One step on the way to the board, with a tick where it is done."""
    step = QWidget()
    inside = QHBoxLayout(step)
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
    return step
