"""The table of a card, such as a source's harmonics, edited row by row."""

from __future__ import annotations

from PyQt6.QtWidgets import QWidget

from pendel.app.drive.editors.text_table import TextTable
from pendel.app.session.session import Session
from pendel.app.widgets.basic import button, column, row, wrapped
from pendel.app.widgets.table_dialog import Column, put_at, taken_from_file, taken_from_text
from pendel.core.catalogue.declare import Rows
from pendel.core.drive import commands
from pendel.core.errors import FileProblem


class RowsEditor(QWidget):
    def __init__(self, session: Session, card: str, spec: Rows):
        super().__init__()
        self.session, self.card, self.spec = session, card, spec
        body = column(self, (0, 4, 0, 4), 6)
        self.table = TextTable(spec.label, [f"{c.label}, {c.unit}" if c.unit else c.label for c in spec.columns])
        self.table.typed.connect(self._typed)
        body.addWidget(self.table)
        self.table.pasted.connect(self.paste)
        body.addLayout(row(button("Add row", self.append), button("Delete row", self.remove), 1))
        body.addLayout(row(button("Take from a file …", self.take), 1))
        self.note = wrapped("", "wrong")
        body.addWidget(self.note)
        self.refresh()

    def rows(self) -> list[list[str]]:
        """The rows as written, each filled up to all columns."""
        texts = [list(r) for r in self.session.drive.cards[self.card].rows]
        return [[*r, *(c.default for c in self.spec.columns[len(r) :])] for r in texts]

    def refresh(self) -> None:
        self.table.show_rows(self.rows())
        findings = self.session.examined.findings
        wrong = [f for f in findings if f.card == self.card and f.field.startswith("rows")]
        self.note.setText(wrong[0].sentence if wrong else "")

    def _set(self, rows: list[list[str]]) -> None:
        for texts in rows:  # what the card has by itself is not written down
            while len(texts) > self.spec.least and texts[-1] == self.spec.columns[len(texts) - 1].default:
                texts.pop()
        self.session.attempt(lambda: commands.set_rows(self.session.drive, self.card, rows))

    def _typed(self, n: int, place: int, text: str) -> None:
        rows = self.rows()
        if n < len(rows) and rows[n][place] != text:
            rows[n][place] = text
            self._set(rows)

    def _wanted(self) -> list[Column]:
        return [(c.label, c.unit) for c in self.spec.columns]

    def take(self, path: str = "") -> None:
        """Rows of a text file, in place of those that are there or behind them."""
        try:
            taken = taken_from_file(self, self._wanted(), path or "", self.spec.least)
        except FileProblem as problem:
            self.note.setText(str(problem))
            return
        if taken is not None:
            rows, behind = taken
            self._set([*(self.rows() if behind else []), *(list(r) for r in rows)])

    def paste(self, at: int, text: str) -> None:
        try:
            taken = taken_from_text(self, self._wanted(), text, self.spec.least)
        except FileProblem as problem:
            self.note.setText(str(problem))
            return
        if taken is not None:
            self._set(put_at(self.rows(), taken, at))

    def append(self) -> None:
        rows = self.rows()
        self._set([*rows, list(rows[-1] if rows else self.spec.new)])

    def remove(self) -> None:
        rows, n = self.rows(), self.table.currentRow()
        if rows:
            del rows[n if 0 <= n < len(rows) else -1]
            self._set(rows)
