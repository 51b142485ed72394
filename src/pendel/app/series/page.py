"""The Series page: plans of many runs, and scripts."""

from __future__ import annotations

from collections.abc import Iterator

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QButtonGroup, QHBoxLayout, QStackedWidget, QWidget

from pendel.app.series.plans import PlansPage
from pendel.app.series.scripts_view import ScriptsView
from pendel.app.widgets.basic import button, column


class SeriesPage(PlansPage):
    """Plans, and scripts behind a second tab."""

    def building(self) -> Iterator[None]:
        whole = column(self, (0, 0, 0, 0), 0)
        self.parts = QStackedWidget()
        self._plans = QWidget()
        self.parts.addWidget(self._plans)
        whole.addWidget(self._build_tabs())
        whole.addWidget(self.parts, 1)
        yield from super().building()
        yield
        self.scripts = ScriptsView(self.session)
        self.scripts.said.connect(self.status_message)
        self.parts.addWidget(self.scripts)

    def body(self) -> QWidget:
        return self._plans

    def _build_tabs(self) -> QWidget:
        bar = QWidget()
        bar.setObjectName("header")
        bar.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        bar.setFixedHeight(38)
        inside = QHBoxLayout(bar)
        inside.setContentsMargins(10, 0, 10, 0)
        inside.setSpacing(2)
        self.tabs = QButtonGroup(self)
        for place, title in enumerate(("Plans", "Scripts")):
            tab = button(title, lambda p=place: self.show_part(p), "tab")
            tab.setCheckable(True)
            tab.setChecked(place == 0)
            tab.setFixedHeight(38)
            self.tabs.addButton(tab, place)
            inside.addWidget(tab)
        inside.addStretch(1)
        return bar

    def show_part(self, place: int) -> None:
        """Plans, or scripts."""
        tab = self.tabs.button(place)
        assert tab is not None
        tab.setChecked(True)
        self.parts.setCurrentIndex(place)

    @property
    def shows_scripts(self) -> bool:
        return self.parts.currentIndex() == 1

    def vary(self, name: str) -> None:
        self.show_part(0)
        super().vary(name)

    def rename(self) -> None:
        if self.shows_scripts:
            self.scripts.list.editItem(self.scripts.list.currentItem())
        else:
            super().rename()

    def look_for(self) -> bool:
        return self.scripts.look_for() if self.shows_scripts else super().look_for()
