"""The Bench page: a board, its oscilloscope, its live values, its log."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from PyQt6.QtGui import QKeySequence, QShortcut
from PyQt6.QtWidgets import QButtonGroup, QHBoxLayout, QWidget

from pendel.app.bench.board import STAND_IN, Board
from pendel.app.bench.link_panel import LinkPanel
from pendel.app.bench.log_panel import LogPanel
from pendel.app.bench.panel_view import PanelView
from pendel.app.bench.scope_panel import ScopePanel
from pendel.app.bench.values_panel import ValuesPanel
from pendel.app.plots.plot import fit_plots
from pendel.app.session.page import Page
from pendel.app.session.trust import may_run
from pendel.app.widgets.basic import button, column, row, rule
from pendel.app.widgets.drawing import Drawing, drawing_of
from pendel.app.widgets.timers import Later


class BenchPage(Page):
    def building(self) -> Iterator[None]:
        self.board = Board(self.session, self)
        self.board.in_view = self.isVisible
        self.link = LinkPanel(self.board)
        yield
        self.scope = ScopePanel(self.board)
        yield
        self.values = ValuesPanel(self.board)
        self.log = LogPanel()
        body = QHBoxLayout(self)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(0)
        body.addWidget(self.link)
        middle = QWidget()
        inside = column(middle, (0, 0, 0, 0), 0)
        self.panel = PanelView(self.board)
        self.panel.hide()
        inside.addLayout(self._build_views())
        inside.addWidget(self.scope, 1)
        inside.addWidget(self.panel, 1)
        inside.addWidget(rule())
        inside.addWidget(self.log)
        body.addWidget(middle, 1)
        body.addWidget(self.values)
        self.board.logged.connect(self.log.add)
        for part in (self.scope, self.panel, self.values, self.log):
            part.status_message.connect(self.status_message)
        self.board.may_run = self._may_run
        self._quit_again = Later(self, 0, lambda: self.wanted.emit("quit"))
        """In a turn of its own: a window cannot be closed while it asks whether it may be."""
        QShortcut(QKeySequence("Space"), self.scope.plot, self.scope.start_or_stop)

    def _build_views(self) -> QHBoxLayout:
        """What the middle shows."""
        self.scope_button = button("Oscilloscope", lambda: self.show_panel(False), "small")
        self.panel_button = button("Operator panel", lambda: self.show_panel(True), "small")
        self.views = QButtonGroup(self)
        for each in (self.scope_button, self.panel_button):
            each.setCheckable(True)
            self.views.addButton(each)
        self.scope_button.setChecked(True)
        bar = row(self.scope_button, self.panel_button, 1)
        bar.setContentsMargins(8, 2, 8, 0)
        return bar

    def show_panel(self, on: bool) -> None:
        self.panel.setVisible(on)
        self.scope.setVisible(not on)
        (self.panel_button if on else self.scope_button).setChecked(True)

    def _may_run(self, address: str) -> bool:
        """C of the drive's author runs in the stand-in board only behind the question."""
        if address != STAND_IN or may_run(self.session, self):
            return True
        self.status_message.emit("The board was not started: the drive's own C was not allowed.")
        return False

    def showEvent(self, event: Any) -> None:
        super().showEvent(event)
        if self.board.described is None:
            self.board.describe()

    def fit(self) -> None:
        self.scope.plot.fit()
        fit_plots(self)

    def may_close(self) -> bool:
        return self.scope.stream.may_be_lost("Before Pendel closes: save", self._quit_again.start)

    def drawing(self) -> Drawing:
        return drawing_of(self.scope.plot)
