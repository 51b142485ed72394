"""How a result of the search line looks: symbol, title, and its sentence in full."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QModelIndex, QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QFontMetricsF, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QStyle, QStyledItemDelegate, QStyleOptionViewItem

from pendel.app.drive.sheet.symbols import path_of
from pendel.app.widgets.theme import colour, font
from pendel.core.catalogue.declare import Kind, Part

ICON, MARGIN = QRectF(8, 8, 38, 30), 56.0
"""Where the symbol is, and where the words begin, px."""
TITLE, LINE = 18.0, 15.0
"""Height of the title, and of a line of the sentence, px."""
ROLE = Qt.ItemDataRole.UserRole + 1
"""Of an item: title, sentence, words at the right, and the kind, where it is of one."""


def lines_of(text: str, width: float) -> list[str]:
    """A sentence broken at its words."""
    metrics, lines = QFontMetricsF(font(11)), [""]
    for word in text.split():
        longer = f"{lines[-1]} {word}".strip()
        if metrics.horizontalAdvance(longer) <= width or not lines[-1]:
            lines[-1] = longer
        else:
            lines.append(word)
    return lines


class MatchDelegate(QStyledItemDelegate):
    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex) -> QSize:
        entry = index.data(ROLE)
        if entry is None:
            return super().sizeHint(option, index)
        parent = self.parent()
        width = parent.viewport().width() - MARGIN - 8
        return QSize(100, int(max(ICON.bottom() + 8, 12 + TITLE + LINE * len(lines_of(entry[1], width)))))

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        assert painter is not None
        entry = index.data(ROLE)
        if entry is None:
            super().paint(painter, option, index)
            return
        title, sentence, aside, kind = entry
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if option.state & QStyle.StateFlag.State_Selected:
            painter.fillRect(option.rect, colour("petrol_tint"))
        painter.translate(QPointF(option.rect.topLeft()))
        if kind is not None:
            self._symbol(painter, kind)
        width = option.rect.width() - MARGIN - 8
        painter.setFont(font(12, bold=True))
        painter.setPen(colour("ink"))
        room = QRectF(MARGIN, 5, width, TITLE)
        painter.drawText(room, Qt.AlignmentFlag.AlignVCenter, title)
        painter.setFont(font(11))
        painter.setPen(colour("petrol"))
        painter.drawText(room, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, aside)
        painter.setPen(colour("muted"))
        for n, line in enumerate(lines_of(sentence, width)):
            painter.drawText(QRectF(MARGIN, 5 + TITLE + LINE * n, width, LINE), Qt.AlignmentFlag.AlignVCenter, line)
        painter.restore()

    def _symbol(self, painter: QPainter, kind: Kind) -> None:
        """As its card has it: a symbol, a step's answer, or a mark."""
        if isinstance(kind, Part) and kind.symbol is not None:
            painter.setPen(QPen(colour("ink"), 1.3))
            path = path_of(kind.symbol)
            painter.drawPath(path.translated(ICON.center() - path.boundingRect().center()))
            return
        painter.setPen(QPen(colour("hairline"), 1))
        mark = kind.mark or (kind.spine if isinstance(kind, Part) else "")
        if isinstance(kind, Part):
            painter.drawRoundedRect(ICON, 4, 4)
        else:
            painter.drawRect(ICON)
        if mark:
            painter.setFont(font(13, bold=True))
            painter.setPen(colour("ink" if isinstance(kind, Part) else "petrol"))
            painter.drawText(ICON, Qt.AlignmentFlag.AlignCenter, mark)
        elif len(points := np.array(kind.shape)):
            box = ICON.adjusted(6, 6, -6, -6)
            painter.setPen(QPen(colour("petrol"), 1.4))
            line = [QPointF(box.x() + x * box.width(), box.bottom() - y * box.height()) for x, y in points]
            painter.drawPolyline(QPolygonF(line))
