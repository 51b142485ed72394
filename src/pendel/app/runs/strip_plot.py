"""The view of one strip, and how high its traces are drawn."""

from __future__ import annotations

import pyqtgraph as pg
from PyQt6.QtCore import Qt, pyqtSignal

FAR, FLATTEST = 0.6, 0.05
"""Shares of the peak; see `heights`."""


class StripView(pg.ViewBox):
    """Wheel zooms time at the pointer, Shift-wheel the other axis; double-click fits."""

    menu_wanted = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__(enableMenu=False)
        self.setMouseMode(pg.ViewBox.PanMode)

    def wheelEvent(self, event, axis=None) -> None:
        wanted = axis if axis is not None else (1 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 0)
        super().wheelEvent(event, wanted)

    def mouseDoubleClickEvent(self, event) -> None:
        self.autoRange()
        event.accept()

    def mouseClickEvent(self, event) -> None:
        if event.button() == Qt.MouseButton.RightButton:
            self.menu_wanted.emit(event.screenPos())
            event.accept()


def heights(low: float, high: float) -> tuple[float, float]:
    """Between which heights data from ``low`` to ``high`` are drawn. What stays above `FAR` of its peak, such
    as the
    voltage of a link, is drawn by itself, and no finer than `FLATTEST` of it."""
    peak = max(abs(low), abs(high))
    if low * high > 0 and min(abs(low), abs(high)) > FAR * peak:
        middle, span = (low + high) / 2, max(high - low, FLATTEST * peak)
        low, high = middle - span / 2, middle + span / 2
    else:
        low, high = min(0.0, low), max(0.0, high)
    return low - ((high - low) * 0.06 or abs(high) * 0.1 or 1.0), high
