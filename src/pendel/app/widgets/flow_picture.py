"""A picture of energy flows: blocks for parts, bands as wide as the energy between them, losses that leave."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QFontMetricsF, QPainter, QPainterPath, QPaintEvent
from PyQt6.QtWidgets import QWidget

from pendel.app.widgets.theme import colour, font
from pendel.core.quantities.units import figure
from pendel.core.runs.found.flow_layout import Band, Block, FlowLayout, laid_out
from pendel.core.runs.found.flows import EnergyFlows

BAR = 12.0
MARGIN, TOP, BOTTOM = 26.0, 52.0, 46.0
BETWEEN = 78.0
"""Pixels between two blocks of a column, for their words."""
LEAST = 1.5
"""Pixels that a band is wide at least."""
ENDS = 46.0
"""Pixels to the left and right of the outer columns, for what comes from outside and leaves."""


class FlowPicture(QWidget):
    """Shows `EnergyFlows`; nothing without them."""

    def __init__(self) -> None:
        super().__init__()
        self.flows: EnergyFlows | None = None
        self.setAccessibleName("Energy flow picture")
        self.setMinimumHeight(260)

    def sizeHint(self) -> QSize:  # noqa: N802
        return QSize(800, 340)

    def show_flows(self, flows: EnergyFlows | None) -> None:
        self.flows = flows
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), colour("plot"))
        if self.flows is not None:
            height = max(1.0, self.height() - TOP - BOTTOM)
            self._paint(painter, laid_out(self.flows, gap=BETWEEN / height))
        painter.end()

    def _paint(self, painter: QPainter, layout: FlowLayout) -> None:
        self._height = self.height() - TOP - BOTTOM
        self._step = (self.width() - 2 * (MARGIN + ENDS) - BAR) / max(1, layout.columns - 1)
        blocks = {block.node.key: block for block in layout.blocks}
        for band in layout.bands:
            self._band(painter, band, blocks)
        for block in layout.blocks:
            self._block(painter, block, layout)

    def _x(self, column: int) -> float:
        return MARGIN + ENDS + column * self._step

    def _y(self, share: float) -> float:
        return TOP + share * self._height

    def _wide(self, share: float) -> float:
        return max(LEAST, share * self._height)

    def _band(self, painter: QPainter, band: Band, blocks: dict[str, Block]) -> None:
        source, target = blocks[band.flow.source], blocks[band.flow.target]
        begin = QPointF(self._x(source.column) + BAR, self._y(band.begins))
        end = QPointF(self._x(target.column), self._y(band.ends))
        self._ribbon(painter, begin, end, self._wide(band.width), colour("petrol"))

    def _ribbon(self, painter: QPainter, begin: QPointF, end: QPointF, width: float, tint: QColor) -> None:
        """From a left to a right end, which are its upper corners."""
        middle = 0.5 * (begin.x() + end.x())
        path = QPainterPath(begin)
        path.cubicTo(QPointF(middle, begin.y()), QPointF(middle, end.y()), end)
        path.lineTo(end.x(), end.y() + width)
        path.cubicTo(
            QPointF(middle, end.y() + width), QPointF(middle, begin.y() + width), QPointF(begin.x(), begin.y() + width)
        )
        path.closeSubpath()
        pale = QColor(tint)
        pale.setAlphaF(0.34)
        painter.fillPath(path, pale)

    def _block(self, painter: QPainter, block: Block, layout: FlowLayout) -> None:
        node, x, y = block.node, self._x(block.column), self._y(block.top)
        height = self._wide(block.height)
        if node.supplied > 0:
            width = self._wide(layout.scale * node.supplied)
            self._ribbon(painter, QPointF(x - ENDS, y), QPointF(x, y), width, colour("moss"))
        down = y + sum(self._wide(b.width) for b in layout.bands if b.flow.source == node.key)
        for energy, tint in ((max(node.delivered, -node.supplied), "moss"), (max(0.0, node.stored), "brass")):
            if energy > 0:
                width = self._wide(layout.scale * energy)
                self._ribbon(painter, QPointF(x + BAR, down), QPointF(x + BAR + ENDS, down), width, colour(tint))
                down += width
        if node.lost > 0:
            self._loss(painter, x + BAR, down, self._wide(layout.scale * node.lost), y + height)
        painter.fillRect(QRectF(x, y, BAR, height), colour("ink"))
        self._words(painter, block, x, y, height)

    def _loss(self, painter: QPainter, x: float, y: float, width: float, bottom: float) -> None:
        """Turns down and ends in a point."""
        depth = max(bottom, y + width) + 14.0
        turn = min(width, 26.0)
        path = QPainterPath(QPointF(x, y))
        path.cubicTo(QPointF(x + turn, y), QPointF(x + turn, y), QPointF(x + turn, y + turn))
        path.lineTo(x + turn, depth)
        path.lineTo(x + 0.5 * turn, depth + 7)
        path.lineTo(x, depth)
        path.closeSubpath()
        pale = QColor(colour("brick"))
        pale.setAlphaF(0.5)
        painter.fillPath(path, pale)

    def _words(self, painter: QPainter, block: Block, x: float, y: float, height: float) -> None:
        node = block.node
        bold, plain = font(11, bold=True), font(10)
        room = max(60.0, self._step - 10)
        left = x if block.column == 0 else x - 4
        painter.setFont(bold)
        painter.setPen(colour("ink"))
        title = QFontMetricsF(bold).elidedText(node.title, Qt.TextElideMode.ElideRight, room)
        painter.drawText(QPointF(left, y - 20), title)
        painter.setFont(plain)
        painter.setPen(colour("muted"))
        painter.drawText(QPointF(left, y - 7), figure(node.through, "J", 3))
        if node.lost > 0.001 * node.through:
            painter.setPen(colour("brick"))
            words = f"lost {figure(node.lost, 'J', 3)}"
            painter.drawText(QPointF(left, max(y + height, y) + 36), words)
