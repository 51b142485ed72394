"""The menus of the window, made of `ACTIONS` and of the pages."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject, Qt
from PyQt6.QtGui import QAction, QKeySequence
from PyQt6.QtWidgets import QHBoxLayout, QMenu, QMenuBar, QWidget

from pendel.app.widgets.basic import Elided
from pendel.app.window.actions import ACTIONS, EVERYWHERE, ON_SHEET
from pendel.app.window.do_line import DoLine
from pendel.app.window.pages import PAGES

if TYPE_CHECKING:
    from pendel.app.window.main_window import MainWindow


class Menus(QObject):
    """Fills the window's ``actions_by_name``, and puts the menus on top with the name of the file beside them."""

    def __init__(self, window: MainWindow):
        super().__init__(window)
        bar = QMenuBar()
        self.by_title: dict[str, QMenu] = {}
        self._build_actions(bar, window)
        window.unit_choices.follow(window.actions_by_name["speeds"])
        window.editing.follow_bundles(window.actions_by_name["bundles"])
        self.do_line = DoLine(window.actions_by_name, self._build_pages(window), window)
        self.file_label = Elided("", "muted", right=True)
        top = QWidget()
        top.setObjectName("menu")
        top.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        line = QHBoxLayout(top)
        line.setContentsMargins(0, 0, 14, 0)
        line.addWidget(bar)
        line.addWidget(self.file_label, 1)
        window.setMenuWidget(top)

    def _build_actions(self, bar: QMenuBar, window: MainWindow) -> None:
        fills = {
            "recent": window.files.fill_recent,
            "examples": window.files.fill_examples,
            "unshelve": window.files.fill_shelf,
        }
        for spec in ACTIONS:
            if spec.menu not in self.by_title:
                made = bar.addMenu(f"&{spec.menu}")
                assert made is not None
                self.by_title[spec.menu] = made
            menu = self.by_title[spec.menu]
            if not spec.title:
                menu.addSeparator()
                continue
            if spec.name in fills:
                inner = QMenu(spec.title, menu)
                inner.aboutToShow.connect(lambda inner=inner, fill=fills[spec.name]: fill(inner))
                menu.addMenu(inner)
                continue
            action = QAction(spec.title, window)
            if spec.name in ON_SHEET:
                action.setShortcutContext(Qt.ShortcutContext.WidgetWithChildrenShortcut)
                window.drive_page.sheet.addAction(action)
            if spec.name in EVERYWHERE:
                action.setShortcutContext(Qt.ShortcutContext.ApplicationShortcut)
            action.triggered.connect(lambda _=False, does=spec.does: does(window))
            window.actions_by_name[spec.name] = action
            menu.addAction(action)

    def _build_pages(self, window: MainWindow) -> dict[str, QAction]:
        actions = {}
        for spec, name in zip(PAGES, window.pages):
            action = QAction(name, window)
            action.setShortcut(QKeySequence(f"Alt+{spec.key}"))
            action.triggered.connect(lambda _=False, page=name: window.show_page(page))
            self.by_title["View"].addAction(action)
            actions[name] = action
        return actions
