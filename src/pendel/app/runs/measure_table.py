"""Measures of all shown runs in a table, where there are more than fit beside the strips."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from PyQt6.QtWidgets import QDialog, QWidget

from pendel.app.widgets.basic import button, column, label, row
from pendel.app.widgets.figure_table import FigureTable
from pendel.core.runs.record.kept import KeptRun


class MeasureTable(QDialog):
    """A run to a line, a measure to a column; it stays beside the window and shows what it was opened with."""

    def __init__(self, title: str, span: str, rows: Sequence[tuple[KeptRun, Mapping[str, str]]], parent: QWidget):
        super().__init__(parent)
        self.setWindowTitle("Measures of all runs shown")
        self.setModal(False)
        self.resize(820, 420)
        names = list(dict.fromkeys(name for _, figures in rows for name in figures))
        body = column(self, (14, 12, 14, 12), 8)
        body.addWidget(label(title, "heading"))
        body.addWidget(label(span, "muted"))
        self.table = FigureTable("Measures of all runs shown", ("run", "what differs", *names))
        self.table.show_rows(
            [(run.name, run.differs, *(figures.get(name, "–") for name in names)) for run, figures in rows]
        )
        body.addWidget(self.table, 1)
        body.addLayout(row(button("Copy all", self.copy), 1))

    def copy(self) -> None:
        self.table.copy_all()


__all__ = ["MeasureTable"]
