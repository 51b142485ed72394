"""On the sheet of an assembly: where its ports lead out."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QFontMetricsF, QPainter, QPen
from PyQt6.QtWidgets import QGraphicsItem, QStyleOptionGraphicsItem, QWidget

from pendel.app.drive.sheet.geometry import GRID, Box
from pendel.app.drive.sheet.geometry import Link as Routed
from pendel.app.widgets.theme import colour, font
from pendel.core.catalogue.assembly import port_behind
from pendel.core.catalogue.declare import Kind, Link
from pendel.core.drive.assemblies import show_port
from pendel.core.drive.commands import Command
from pendel.core.drive.document import End
from pendel.core.drive.nesting import resolved, shown_end

if TYPE_CHECKING:
    from pendel.app.drive.sheet.view import SheetView

WIDTH, HEIGHT, GAP = 84, 24, 12
PITCH = HEIGHT + GAP
MARK = "@"
"""Begins the key of a terminal and of its line, which no card's or wire's key does."""


class TerminalItem(QGraphicsItem):
    """A port of the face, seen from inside."""

    def __init__(self, name: str):
        super().__init__()
        self.name = name
        self.setZValue(2)

    def box(self) -> Box:
        return Box(self.x(), self.y(), WIDTH, HEIGHT)

    def boundingRect(self) -> QRectF:
        return QRectF(-2, -2, WIDTH + 4, HEIGHT + 4)

    def paint(
        self, painter: QPainter | None, option: QStyleOptionGraphicsItem | None, widget: QWidget | None = None
    ) -> None:
        assert painter is not None
        painter.setPen(QPen(colour("muted"), 1.2, Qt.PenStyle.DashLine))
        painter.setBrush(colour("bar"))
        painter.drawRoundedRect(QRectF(0, 0, WIDTH, HEIGHT), HEIGHT / 2, HEIGHT / 2)
        painter.setPen(colour("ink"))
        painter.setFont(font(11))
        room = QRectF(8, 0, WIDTH - 16, HEIGHT)
        text = QFontMetricsF(font(11)).elidedText(self.name, Qt.TextElideMode.ElideMiddle, room.width())
        painter.drawText(room, Qt.AlignmentFlag.AlignCenter, text)


class Terminals:
    """The terminals of the open assembly, each joined by a line to the port it shows."""

    def __init__(self, view: SheetView):
        self.view = view
        self.items: dict[str, TerminalItem] = {}
        self.wires: dict[str, tuple[End, bool, bool]] = {}
        """By key: the end on this sheet, whether it is a signal, and whether that leads out."""

    def sync(self, kinds: dict[str, Kind]) -> None:
        session = self.view.session
        assembly = session.drive.cards.get(session.inside)
        face = assembly.face if assembly else None
        self.wires = {}
        for port in face.ports if face else ():
            shown = port_behind(session.drive, session.inside, port.name)
            end = shown_end(session.drive, resolved(session.drive, End(session.inside, port.name)), session.inside)
            if shown is None or end is None or end.card not in kinds:
                continue
            key = MARK + port.name
            signal = shown.link in (Link.SIGNAL_IN, Link.SIGNAL_OUT)
            self.wires[key] = (end, signal, shown.link is Link.SIGNAL_OUT)
            self.view.wire_item(key, "sampled" if signal else shown.link.value)
            if key not in self.items:
                self.items[key] = TerminalItem(port.name)
                self.view.sheet.addItem(self.items[key])
            self.items[key].setToolTip(
                f"{port.name}: {shown.label}, on the face of {assembly.name if assembly else ''}"
            )
        for key in [k for k in self.items if k not in self.wires]:
            self.view.sheet.removeItem(self.items.pop(key))

    def boxes(self) -> dict[str, Box]:
        return {key: item.box() for key, item in self.items.items()}

    def place(self, cards: dict[str, Box]) -> None:
        """Beside the cards, on the side nearer to the port, one below the other."""
        if not self.items or not cards:
            return
        left, right = min(b.x for b in cards.values()), max(b.x + b.w for b in cards.values())
        sides: dict[tuple[bool, float], list[str]] = {}
        for key, (end, signal, out) in self.wires.items():
            at_left = out if signal else self._lies_left(end, cards, (left + right) / 2)
            sides.setdefault((at_left, cards[end.card].centre[1]), []).append(key)
        taken: dict[bool, float] = {}
        for (at_left, centre), keys in sorted(sides.items(), key=lambda s: s[0][1]):
            y = max(centre - (len(keys) * PITCH - GAP) / 2, taken.get(at_left, -1e9))
            for key in keys:
                x = left - WIDTH - 56 if at_left else right + 56
                self.items[key].setPos(round(x / GRID) * GRID, round(y / GRID) * GRID)
                y += PITCH
            taken[at_left] = y

    def _lies_left(self, end: End, cards: dict[str, Box], middle: float) -> bool:
        """By the port's card, or where the port is wired inside already, by the cards it is wired to."""
        wires = self.view.shown_wires.values()
        others = [far.card for w in wires for near, far in ((w.a, w.b), (w.b, w.a)) if near == end]
        reached = [cards[c].centre[0] for c in others or [end.card]]
        return sum(reached) / len(reached) < middle

    def links(self) -> list[Routed]:
        routed = []
        for key, (end, signal, out) in self.wires.items():
            power = self.view.cards[end.card].face.power
            here, there = (key, key, False), (end.card, str(end), power)
            a, b = (there, here) if out else (here, there)
            routed.append(Routed(key, a[0], b[0], signal, a[1], b[1], a[2], b[2]))
        return routed

    def at(self, point: QPointF) -> str:
        return next((k for k, i in self.items.items() if i.sceneBoundingRect().contains(point)), "")

    def removal(self, key: str) -> Command:
        """Takes the port off the face, with the wires that lead to it from outside."""
        session = self.view.session
        end = resolved(session.drive, End(session.inside, key.removeprefix(MARK)))
        return show_port(session.drive, session.inside, end, False)
