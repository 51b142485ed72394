"""Editor for a part's own equations: lines on the left, typeset as they are typed, findings at the line."""

from __future__ import annotations

from PyQt6.QtGui import QColor, QTextCharFormat, QTextCursor
from PyQt6.QtWidgets import QPlainTextEdit, QTextEdit, QWidget

from pendel.app.drive.editors.typeset import Typeset
from pendel.app.session.own_sections import SECTIONS
from pendel.app.session.session import Session
from pendel.app.widgets.basic import button, column, label, row, wrapped
from pendel.app.widgets.theme import code_font, colour
from pendel.app.widgets.timers import Later
from pendel.core.catalogue import own_block
from pendel.core.catalogue.card_names import names_of
from pendel.core.catalogue.own import PART, OwnModel, read_own
from pendel.core.drive import commands
from pendel.core.drive.document import OwnEquations
from pendel.core.errors import PendelError
from pendel.core.trust import allow, is_allowed

HINTS = {
    PART: "What flows through a port counts positive into the part; ask: in, M_ask, N*m is a signal that comes in. "
    "der(x) is the change of a state; time is the time; table(q, 0, 88 V, 1, 110 V) looks up along points, in pairs.",
    own_block.LANGUAGE: "Assignments, if/elif/else, + − * /, < <= > >=, and, or, not; dt is the period in "
    f"seconds, all in SI. Known are {', '.join(sorted(own_block.INTRINSICS_SHOWN))}.",
    own_block.MODES: "name: what it does each period, parted by semicolons. name -> other: when it "
    "changes; they are tried in order. elapsed is the time in the mode in seconds. The "
    "first mode is where it starts.",
    own_block.MATRICES: "x' = A·x + B·u, y = C·x + D·u in SI, u and y in the order of the ports; entries apart by "
    "commas, rows by semicolons or lines, expressions of the drive's quantities too. It is sampled by Tustin's rule "
    "for the block's period; a line “sampled” says that they are those of one period. Without A it is the gain D.",
    own_block.C: "Statements in C99 with real_t numbers in SI; the names above are variables, dt is the "
    "period in seconds. The functions of math.h are there. For fixed point, ports and what is remembered are "
    "whole numbers of wide_t (twice as long as a word): x is x_q binary digits behind the point, what is "
    "remembered "
    "as you choose. moved(n, k) takes k digits off, rounded; values are real_t numbers where they are turned "
    "into "
    "words, and dt is only there. Without it the block stays in float.",
}


class OwnEditor(QWidget):
    """All sections of a part's own equations. A pause in typing is one undo step."""

    def __init__(self, session: Session, card: str):
        super().__init__()
        self.session, self.card = session, card
        self._edited = False
        """Whether anything was typed since the last commit. Comparing texts would not do: lines of a file can
        show as others than they are."""
        self.edits: dict[str, QPlainTextEdit] = {}
        body = column(self, (0, 4, 0, 4), 3)
        own = session.drive.cards[card].own or OwnEquations()
        self.kind = session.drive.cards[card].kind
        for name, title, example, lines in SECTIONS[self.kind]:
            body.addWidget(label(title, "heading"))
            edit = QPlainTextEdit("\n".join(getattr(own, name)))
            edit.setFont(code_font(12))
            edit.setStyleSheet('font-family: "JetBrains Mono"; font-size: 12px;')
            edit.setPlaceholderText(example)
            edit.setAccessibleName(title)
            edit.setTabChangesFocus(True)
            edit.setFixedHeight(19 * max(lines, len(getattr(own, name)) + 1) + 12)
            edit.textChanged.connect(self._typed)
            self.edits[name] = edit
            body.addWidget(edit)
        self.problems = wrapped("", "wrong")
        body.addWidget(self.problems)
        self.printed = Typeset(session)
        if self.kind == PART:
            body.addWidget(label("As printed", "heading"))
            body.addWidget(self.printed)
        if self.kind in (own_block.LANGUAGE, own_block.MATRICES, own_block.C):
            fill = button("Write what is missing", self.write_frame, "link")
            fill.setToolTip(
                "Outputs that nothing assigns yet give 0, so that the block can be built; what is there stays"
            )
            body.addLayout(row(fill, 1))
        body.addWidget(wrapped(HINTS[self.kind], "muted"))
        self._late = Later(self, 500, self.commit)
        self.refresh()

    def written(self) -> OwnEquations:
        return OwnEquations(
            **{
                name: tuple(line for line in edit.toPlainText().split("\n")) if edit.toPlainText() else ()
                for name, edit in self.edits.items()
            }
        )

    def write_frame(self) -> None:
        """Add to the typed lines what a block needs that can be built."""
        names = names_of(self.session.drive)
        try:
            framed = own_block.framed(self.written(), self.kind, names)
        except PendelError as problem:
            self.problems.setText(str(problem))
            return
        for name, edit in self.edits.items():
            text = "\n".join(getattr(framed, name))
            if edit.toPlainText() != text:
                edit.setPlainText(text)
        self.commit()

    def _typed(self) -> None:
        self._edited = True
        self._show(self.written())
        self._late.start()

    def commit(self) -> None:
        self._late.stop()
        edited, self._edited = self._edited, False
        if not edited or self.card not in self.session.drive.cards:
            return
        before = self.session.drive.cards[self.card].own or OwnEquations()
        written = self.written()
        if written == before:
            return
        if self.kind == own_block.C and (before == OwnEquations() or is_allowed(before)):
            # A letter typed into somebody else's C does not make it the user's own.
            allow([written])
        self.session.attempt(lambda: commands.set_own(self.session.drive, self.card, written))

    def refresh(self) -> None:
        """Follow the drive, as after undo, without disturbing what is being typed."""
        own = self.session.drive.cards[self.card].own or OwnEquations()
        if not self._late.isActive():
            for name, edit in self.edits.items():
                text = "\n".join(getattr(own, name))
                if edit.toPlainText() != text:
                    edit.blockSignals(True)
                    edit.setPlainText(text)
                    edit.blockSignals(False)
        self._show(self.written())

    def _show(self, own: OwnEquations) -> None:
        names = names_of(self.session.drive)
        model: own_block.BlockModel | OwnModel
        model = read_own(own, names) if self.kind == PART else own_block.read_block(own, self.kind, names)
        titles = {name: title.split(",")[0].lower() for name, title, *_ in SECTIONS[self.kind]}
        self.problems.setText(
            "\n".join(
                f"{titles[section]}, line {line + 1}: {sentence}" for section, line, sentence in model.problems[:4]
            )
        )
        for name, edit in self.edits.items():
            marks = []
            for section, line, _ in model.problems:
                if section == name:
                    marks.append(line_mark(edit, line))
            edit.setExtraSelections(marks)
        if self.kind == PART:
            self.printed.show_lines(own.equations)


def line_mark(edit: QPlainTextEdit, line: int) -> QTextEdit.ExtraSelection:
    mark = QTextEdit.ExtraSelection()
    mark.format = QTextCharFormat()
    mark.format.setUnderlineStyle(QTextCharFormat.UnderlineStyle.WaveUnderline)
    mark.format.setUnderlineColor(QColor(colour("brick")))
    document = edit.document()
    assert document is not None
    cursor = QTextCursor(document.findBlockByLineNumber(line))
    cursor.select(QTextCursor.SelectionType.LineUnderCursor)
    mark.cursor = cursor
    return mark
