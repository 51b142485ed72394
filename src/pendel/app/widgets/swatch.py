"""The colour of a line as an icon."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor, QIcon, QPainter, QPen, QPixmap

from pendel.app.widgets.theme import colour


def swatch(tint: str, side: int = 16) -> QIcon:
    """A small square in a colour; empty where there is none, as of a run that is not shown. ``side`` in px."""
    picture = QPixmap(side, side)
    picture.fill(Qt.GlobalColor.transparent)
    painter = QPainter(picture)
    painter.setPen(QPen(colour("hairline")))
    painter.setBrush(QColor(tint) if tint else Qt.BrushStyle.NoBrush)
    painter.drawRoundedRect(1, 1, side - 3, side - 3, 2, 2)
    painter.end()
    return QIcon(picture)
