"""Rows of a series that leave the window: copied, or saved in a file."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import QFileDialog

from pendel.app.series.plan_panel import PlanPanel
from pendel.app.series.runner import SeriesRunner
from pendel.app.series.table import RowsModel, RowsTable
from pendel.app.session.page import Page
from pendel.core.errors import PendelError
from pendel.core.series.gathered import Gathered
from pendel.core.series.store import RowStore, store_path
from pendel.core.series.tables import WITH_TRACES, table_of


class RowsOut(Page):
    """A page with a table of rows."""

    table: RowsTable
    model: RowsModel
    gathered: Gathered | None
    runner: SeriesRunner
    rows_of: str
    panel: PlanPanel

    @property
    def name(self) -> str:
        """Name of the series."""
        return self.panel.name

    def copy(self) -> None:
        """All rows that are shown go to the clipboard, with their heads."""
        clipboard = QGuiApplication.clipboard()
        assert clipboard is not None
        rows = self.table.chosen_rows()
        clipboard.setText(self.table.as_text(rows if len(rows) > 1 else list(range(len(self.model.places)))))
        self.status_message.emit(f"Copied {len(rows) if len(rows) > 1 else len(self.model.places)} rows.")

    def save(self) -> None:
        """Save the rows that are shown."""
        if self.gathered is None or not len(self.model.places):
            self.status_message.emit("There are no rows to save.")
            return
        kinds = "Rows (*.csv *.json *.parquet);;Rows with their traces (*.h5)"
        path, _ = QFileDialog.getSaveFileName(self, "Save rows", f"{self.name}.csv", kinds)
        if path:
            self.save_to(Path(path))

    def save_to(self, path: Path) -> None:
        """Save the rows that are shown, by the ending of the file."""
        assert self.gathered is not None
        numbers = self.gathered.numbers[self.model.places].tolist()
        try:
            path = path if path.suffix else path.with_suffix(".csv")
            store = RowStore(store_path(self.runner.place, self.rows_of))
            try:
                table = table_of(store, numbers, traces=path.suffix == WITH_TRACES)
            finally:
                store.close()
            table.save(path)
        except PendelError as problem:
            self.status_message.emit(str(problem))
            return
        self.status_message.emit(f"Saved {len(numbers)} rows in {path}.")
