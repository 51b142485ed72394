"""Choosing which columns of a text file, or of what was pasted, are the columns of a card's table."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import QComboBox, QDialog, QDialogButtonBox, QFileDialog, QGridLayout, QLineEdit, QWidget

from pendel.app.widgets.basic import column, label, row, wrapped
from pendel.core.errors import FileProblem
from pendel.core.formats.cells import Cells, cells_of, cells_of_file, is_unit_text, rows_of

Column = tuple[str, str]
"""Label and usual unit."""
SHOWN = 3
LEFT_OUT = "– not there"
WHERE = (("replace", "in place of what is there"), ("after", "after what is there"))


class TableDialog(QDialog):
    """By column of the card: a column of the file and its unit. Its first rows are shown as they will be. Columns from
    ``needed`` on may be left out."""

    def __init__(
        self, cells: Cells, wanted: Sequence[Column], parent: QWidget | None = None, needed: int | None = None
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle("Take a table")
        self.cells, self.wanted = cells, wanted
        self.needed = len(wanted) if needed is None else needed
        self.rows: list[tuple[str, ...]] = []
        body = column(self, (16, 12, 16, 12), 8)
        body.addWidget(wrapped(f"{cells.source}: {len(cells.rows)} rows, {len(cells.names)} columns", "muted"))
        grid = QGridLayout()
        self.columns, self.units = [], []
        for n, (words, unit_text) in enumerate(wanted):
            pick, unit = QComboBox(), QLineEdit(_unit_for(cells, min(n, len(cells.names) - 1), unit_text))
            pick.addItems(cells.names)
            pick.setCurrentIndex(min(n, len(cells.names) - 1))
            if n >= self.needed:
                pick.addItem(LEFT_OUT)
                pick.setCurrentIndex(min(n, len(cells.names)))
            pick.setAccessibleName(f"Column for {words}")
            unit.setAccessibleName(f"Unit of {words}")
            unit.setMaximumWidth(90)
            pick.currentIndexChanged.connect(lambda at, n=n: self._chosen(n, at))
            unit.textChanged.connect(self._follow)
            for place, widget in enumerate((label(words), pick, label("in", "muted"), unit)):
                grid.addWidget(widget, n, place)
            self.columns.append(pick)
            self.units.append(unit)
        grid.setColumnStretch(1, 1)
        body.addLayout(grid)
        self.where = QComboBox()
        self.where.setAccessibleName("Where the rows go")
        for _, words in WHERE:
            self.where.addItem(words)
        body.addLayout(row(label("Rows go", "muted"), self.where, 1))
        self.shown, self.note = wrapped("", "mono"), wrapped("", "wrong")
        body.addWidget(self.shown)
        body.addWidget(self.note)
        self.buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        self.buttons.accepted.connect(self.accept)
        self.buttons.rejected.connect(self.reject)
        body.addWidget(self.buttons)
        self._follow()

    def appends(self) -> bool:
        return WHERE[self.where.currentIndex()][0] == "after"

    def _chosen(self, n: int, at: int) -> None:
        if at < len(self.cells.names):
            self.units[n].setText(_unit_for(self.cells, at, self.wanted[n][1]))
        self._follow()

    def _follow(self) -> None:
        self.rows, problem = [], ""
        wrong = next((u.text() for u in self.units if u.text().strip() and not is_unit_text(u.text())), None)
        if wrong is not None:
            problem = f"“{wrong}” is no unit. Write one such as km/h, or leave it empty."
        else:
            try:
                picked = [pick.currentIndex() for pick in self.columns]
                units = [unit.text().strip() for unit in self.units]
                self.rows = rows_of(self.cells, picked, units, self.needed)
            except FileProblem as found:
                problem = str(found)
        lines = ["   ".join(texts) for texts in self.rows[:SHOWN]]
        more = ["…"] if len(self.rows) > SHOWN else []
        self.shown.setText("\n".join([*lines, *more]))
        self.note.setText(problem)
        ok = self.buttons.button(QDialogButtonBox.StandardButton.Ok)
        assert ok is not None
        ok.setEnabled(bool(self.rows))


def _unit_for(cells: Cells, at: int, usual: str) -> str:
    """The unit that the file says, else the field's where no cell brings its own."""
    if cells.units[at]:
        return cells.units[at]
    return usual if all(_is_plain(texts[at]) for texts in cells.rows[:SHOWN] if texts[at]) else ""


def _is_plain(text: str) -> bool:
    try:
        float(text)
    except ValueError:
        return False
    return True


def taken_from_file(
    parent: QWidget, wanted: Sequence[Column], path: str = "", needed: int | None = None
) -> tuple[list[tuple[str, ...]], bool] | None:
    """Rows of a file that is asked for, and whether they go behind those that are there; None where nothing is taken.

    Raises
    ------
    FileProblem
        where it holds no table.
    """
    if not path:
        kinds = "Tables (*.csv *.txt *.tsv *.mat *.h5 *.hdf5);;All files (*)"
        path, _ = QFileDialog.getOpenFileName(parent, "Take a table from a file", "", kinds)
    return _asked(parent, cells_of_file(Path(path)), wanted, needed) if path else None


def taken_from_text(
    parent: QWidget, wanted: Sequence[Column], text: str, needed: int | None = None
) -> list[tuple[str, ...]] | None:
    """Rows of what was pasted: at once where it has as many columns, or all that are ``needed``, else by asking. Raises
    `FileProblem`."""
    cells = cells_of(text)
    least = len(wanted) if needed is None else needed
    if least <= len(cells.names) <= len(wanted):
        return rows_of(cells, range(len(cells.names)), cells.units, least)
    asked = _asked(parent, cells, wanted, needed)
    return asked[0] if asked is not None else None


def _asked(
    parent: QWidget, cells: Cells, wanted: Sequence[Column], needed: int | None = None
) -> tuple[list[tuple[str, ...]], bool] | None:
    dialog = TableDialog(cells, wanted, parent, needed)
    took = dialog.exec() == QDialog.DialogCode.Accepted
    rows, behind = dialog.rows, dialog.appends()
    dialog.deleteLater()
    return (rows, behind) if took else None


def put_at(rows: Sequence[Sequence[str]], taken: Sequence[Sequence[str]], at: int) -> list[list[str]]:
    """Rows with those taken in place of as many from ``at`` on; behind all where nothing is chosen."""
    at = len(rows) if at < 0 else at
    return [list(r) for r in (*rows[:at], *taken, *rows[at + len(taken) :])]


def clipboard_text() -> str:
    clipboard = QGuiApplication.clipboard()
    return clipboard.text() if clipboard is not None else ""
