"""Symbols that kinds declare, as paths to paint."""

from __future__ import annotations

from functools import lru_cache

from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtGui import QPainterPath

from pendel.core.vocabulary import Symbol


@lru_cache(maxsize=64)
def path_of(symbol: Symbol) -> QPainterPath:
    """The strokes of a symbol, in its box."""
    path = QPainterPath()
    for points in symbol.lines:
        path.moveTo(*points[0])
        for point in points[1:]:
            path.lineTo(*point)
    for box in symbol.boxes:
        path.addRect(QRectF(*box))
    for ring in symbol.rings:
        path.addEllipse(QRectF(*ring))
    for x, y, width, height in symbol.bows:
        lower = height < 0
        bow = QRectF(x, y, width, abs(height))
        path.arcMoveTo(bow, 180)
        path.arcTo(bow, 180, 180 if lower else -180)
    for begin, *others in symbol.curves:
        path.moveTo(*begin)
        path.cubicTo(*(QPointF(*p) for p in others))
    return path
