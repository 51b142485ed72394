"""What is opened below the strips, each by a button."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass

from PyQt6.QtWidgets import QPushButton, QWidget

from pendel.app.widgets.basic import button
from pendel.app.widgets.pictures import with_picture_menu


@dataclass(frozen=True)
class Panel:
    """``fill`` shows the present runs in it, where it is open."""

    widget: QWidget
    toggle: QPushButton
    fill: Callable[[], object]


class Panels:
    """Panels by their names. ``revealed`` gets one that somebody opened."""

    def __init__(self, revealed: Callable[[QWidget], object]):
        self.by_name: dict[str, Panel] = {}
        self.revealed = revealed

    def add(self, name: str, title: str, words: str, widget: QWidget, fill: Callable[[], object]) -> QPushButton:
        """A hidden panel, and the button that opens and closes it; ``words`` are its tool tip."""
        toggle = button(title, lambda: self.toggle(name))
        toggle.setToolTip(words)
        toggle.setCheckable(True)
        widget.hide()
        with_picture_menu(widget)
        self.by_name[name] = Panel(widget, toggle, fill)
        return toggle

    def toggle(self, name: str) -> None:
        panel = self.by_name[name]
        shown = not panel.widget.isVisible()
        self._set(panel, shown)
        if shown:
            self.revealed(panel.widget)

    def _set(self, panel: Panel, shown: bool) -> None:
        panel.widget.setVisible(shown)
        panel.toggle.setChecked(shown)
        panel.fill()

    def shown(self) -> tuple[str, ...]:
        """Names of those that are open."""
        return tuple(name for name, panel in self.by_name.items() if panel.toggle.isChecked())

    def show(self, names: Iterable[str]) -> None:
        """Open these, and no others."""
        wanted = set(names)
        for name, panel in self.by_name.items():
            if (name in wanted) != panel.toggle.isChecked():
                self._set(panel, name in wanted)
