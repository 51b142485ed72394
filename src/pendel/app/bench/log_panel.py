"""What happened on the bench, with times; filtered, cleared, saved."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QLineEdit, QListWidget, QWidget

from pendel.app.widgets.asked_path import asked_path
from pendel.app.widgets.basic import button, column, label, row
from pendel.core.errors import FileProblem
from pendel.core.files.writing import write_atomically

MOST = 2000
"""Lines that are kept."""


class LogPanel(QWidget):
    status_message = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.lines: list[str] = []
        inside = column(self, (12, 2, 12, 8), 4)
        self.filter = QLineEdit()
        self.filter.setPlaceholderText("filter …")
        self.filter.setAccessibleName("Filter the log")
        self.filter.setFixedWidth(150)
        self.filter.textChanged.connect(lambda _: self._fill())
        inside.addLayout(
            row(
                label("Log", "heading"),
                1,
                self.filter,
                button("Clear", self.clear),
                button("Save …", self.save),
                spacing=4,
            )
        )
        self.list = QListWidget()
        self.list.setAccessibleName("Log")
        self.list.setWordWrap(True)
        inside.addWidget(self.list)
        self.setFixedHeight(104)

    def add(self, sentence: str) -> None:
        line = f"{datetime.now().strftime('%H:%M:%S.%f')[:-3]}  {sentence}"
        self.lines.append(line)
        del self.lines[:-MOST]
        if self._shows(line):
            self.list.addItem(line)
            while self.list.count() > MOST:
                self.list.takeItem(0)
            self.list.scrollToBottom()

    def _shows(self, line: str) -> bool:
        return self.filter.text().strip().casefold() in line.casefold()

    def _fill(self) -> None:
        self.list.clear()
        self.list.addItems([line for line in self.lines if self._shows(line)])
        self.list.scrollToBottom()

    def clear(self) -> None:
        self.lines = []
        self.list.clear()

    def save(self, path: str = "") -> None:
        path = path or asked_path(self, "Save the log", "bench.txt", {".txt": "Text", ".log": "Text"})
        if not path:
            return
        try:
            write_atomically(Path(path), "\n".join(self.lines) + "\n")
        except FileProblem as problem:
            self.status_message.emit(str(problem))
            return
        self.status_message.emit(f"Saved {path}.")
