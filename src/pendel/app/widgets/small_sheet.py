"""A small picture of a drive's sheet: its cards and what joins them."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPixmap
from PyQt6.QtWidgets import QWidget

from pendel.app.widgets.theme import font, tokens
from pendel.core.catalogue.assembly import kind_in
from pendel.core.drive.document import Card, Drive
from pendel.core.errors import DriveProblem
from pendel.core.vocabulary import Link

CARD_WIDTH, CARD_HEIGHT, MARGIN = 34, 17, 4
"""Of a card, and around all, in steps of the sheet's grid."""
SIGNALS = (Link.SIGNAL_IN, Link.SIGNAL_OUT)


class SmallSheet(QWidget):
    """The cards of a drive as they lie on its sheet."""

    def __init__(self) -> None:
        super().__init__()
        self.setMinimumHeight(190)
        self.setAccessibleName("The drive")
        self.drive: Drive | None = None

    def show_drive(self, drive: Drive | None) -> None:
        self.drive = drive
        self.setAccessibleDescription(", ".join(card.name for card in drive.cards.values()) if drive else "")
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802
        painter = QPainter(self)
        painter.fillRect(self.rect(), QColor(tokens().paper))
        if self.drive is not None:
            draw_sheet(painter, QRectF(self.rect()), self.drive)


def small_picture(drive: Drive, size: QSize) -> QPixmap:
    """Of a list, drawn for a screen of twice as many dots."""
    picture = QPixmap(size * 2)
    picture.setDevicePixelRatio(2.0)
    picture.fill(QColor(tokens().paper))
    painter = QPainter(picture)
    draw_sheet(painter, QRectF(0, 0, size.width(), size.height()), drive)
    painter.end()
    return picture


def draw_sheet(painter: QPainter, room: QRectF, drive: Drive) -> None:
    """The cards of the drive's own sheet, those within assemblies as these; nothing where there is none."""
    cards = {key: card for key, card in drive.cards.items() if not card.inside}
    if not cards:
        return
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    t = tokens()
    xs, ys = [card.x for card in cards.values()], [card.y for card in cards.values()]
    wide = max(xs) - min(xs) + CARD_WIDTH + 2 * MARGIN
    high = max(ys) - min(ys) + CARD_HEIGHT + 2 * MARGIN
    scale = min(room.width() / wide, room.height() / high)
    left, top = (room.width() - scale * wide) / 2 + room.x(), (room.height() - scale * high) / 2 + room.y()

    def place(card: Card) -> QRectF:
        x, y = left + scale * (card.x - min(xs) + MARGIN), top + scale * (card.y - min(ys) + MARGIN)
        return QRectF(x, y, scale * CARD_WIDTH, scale * CARD_HEIGHT)

    power_of: dict[str, set[str]] = {}
    for wire in drive.wires.values():
        a, b = (outermost(drive, end.card) for end in (wire.a, wire.b))
        if a in cards and b in cards and a != b:
            if wire.a.card not in power_of:
                power_of[wire.a.card] = power_ports(drive, wire.a.card)
            power = wire.a.port in power_of[wire.a.card]
            painter.setPen(QPen(QColor(t.ink if power else t.petrol), 1.6 if power else 0.8))
            painter.drawLine(place(cards[a]).center(), place(cards[b]).center())
    painter.setFont(font(9))
    for card in cards.values():
        box = place(card)
        painter.setPen(QPen(QColor(t.hairline), 1))
        painter.setBrush(QColor(t.card))
        painter.drawRoundedRect(box, 2, 2)
        painter.setPen(QColor(t.ink))
        inside = box.adjusted(3, 1, -2, -1)
        metrics = painter.fontMetrics()
        if metrics.horizontalAdvance("mmm") < inside.width() and metrics.height() < inside.height():
            words = metrics.elidedText(card.name, Qt.TextElideMode.ElideRight, int(inside.width()))
            painter.drawText(inside, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, words)


def outermost(drive: Drive, key: str) -> str:
    """The card of the drive's own sheet in which a card lies."""
    while key in drive.cards and drive.cards[key].inside:
        key = drive.cards[key].inside
    return key


def power_ports(drive: Drive, key: str) -> set[str]:
    """Ports of a card that join circuits, shafts or heat, and not signals."""
    try:
        return {p.name for p in kind_in(drive, key).ports if p.link not in SIGNALS}
    except (DriveProblem, KeyError):  # of a newer file
        return set()
