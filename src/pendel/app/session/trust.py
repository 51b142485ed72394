"""C and scripts that came with a drive are asked for once, before they run; what was typed here is not."""

from __future__ import annotations

from pathlib import Path
from textwrap import indent

from PyQt6.QtWidgets import QDialog, QDialogButtonBox, QPlainTextEdit, QWidget

from pendel.app.session.own_sections import SECTIONS
from pendel.app.session.session import Session
from pendel.app.widgets.basic import column, wrapped
from pendel.app.widgets.theme import code_font
from pendel.core.catalogue.own_block import C
from pendel.core.drive.document import Card
from pendel.core.trust import allow, allow_script, is_script_allowed, strange_c


def may_run(session: Session, parent: QWidget) -> bool:
    """Whether the drive's own C may run: it was typed in this session or allowed before, else the user is
    asked."""
    strange = [session.drive.cards[key] for key in strange_c(session.drive)]
    if not strange:
        return True
    if OwnCode(strange, parent).exec() != QDialog.DialogCode.Accepted:
        return False
    allow(c.own for c in strange if c.own is not None)
    session.check_deeply()
    return True


def script_may_run(name: str, text: str, parent: QWidget, given: Path | None = None) -> bool:
    """Whether a script may run: it was typed here or allowed before, else the user is asked. ``given`` is a folder of
    the user's that scripts may use."""
    if is_script_allowed(text):
        return True
    title = f"The script “{name}” came with this drive."
    if Question("Script", title, of_scripts(given), text, parent).exec() != QDialog.DialogCode.Accepted:
        return False
    allow_script(text)
    return True


def of_scripts(given: Path | None) -> str:
    besides = f" It may read and write in {given}, as your preferences say." if given else ""
    return (
        "It runs in a process that reaches no network and none of your files, and writes into the drive’s folder for "
        f"files alone; it may change this drive.{besides} If the drive came from someone else, read it first:"
    )


OF_C = "It runs on this computer with your rights. If the drive came from someone else, read it first:"


class Question(QDialog):
    """Whether code of a drive may run, with all of it. Escape and Enter say no."""

    def __init__(self, what: str, title: str, words: str, code: str, parent: QWidget):
        super().__init__(parent)
        self.setWindowTitle(what)
        self.resize(640, 480)
        body = column(self, (16, 14, 16, 14), 8)
        body.addWidget(wrapped(title, "title"))
        body.addWidget(wrapped(words))
        self.code = QPlainTextEdit(code)
        self.code.setReadOnly(True)
        self.code.setFont(code_font(12))
        self.code.setStyleSheet('font-family: "JetBrains Mono"; font-size: 12px;')
        self.code.setAccessibleName("The code in question")
        body.addWidget(self.code, 1)
        buttons = QDialogButtonBox()
        run = buttons.addButton("Run it", QDialogButtonBox.ButtonRole.AcceptRole)
        leave = buttons.addButton("Do not run", QDialogButtonBox.ButtonRole.RejectRole)
        assert run is not None and leave is not None
        run.setAutoDefault(False)
        leave.setDefault(True)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        body.addWidget(buttons)


class OwnCode(Question):
    """The question about C of cards."""

    def __init__(self, cards: list[Card], parent: QWidget):
        names = ", ".join(f"“{c.name}”" for c in cards)
        title = f"This drive brings C of its own in {names}."
        super().__init__("Own C", title, OF_C, "\n\n\n".join(printed(c) for c in cards), parent)


def printed(card: Card) -> str:
    """A card's C as its file has it, under the headings of its page."""
    parts = [card.name]
    for name, title, *_ in SECTIONS[C]:
        if lines := getattr(card.own, name):
            parts += ["", f"{title}:", indent("\n".join(lines), "    ")]
    return "\n".join(parts)
