"""Wires drawn as two ends that bear one name, instead of a line between cards that lie far apart."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen
from PyQt6.QtWidgets import QStyleOptionGraphicsItem, QWidget

from pendel.app.drive.sheet.bundles import wire_label
from pendel.app.drive.sheet.captions import ASCENT, HEIGHT, Obstacles, box_of
from pendel.app.drive.sheet.geometry import Anchor, Box, Point
from pendel.app.drive.sheet.geometry import Link as Routed
from pendel.app.drive.sheet.items import WireItem, with_halo, words_width
from pendel.app.widgets.theme import colour
from pendel.core.catalogue.declare import Link
from pendel.core.catalogue.index import known_kind
from pendel.core.drive.document import Drive, Wire

REACHES = (22.0, 11.0, 33.0, 44.0)
"""How far an end may reach out of its card, px: the first at which nothing is in the way of its name."""
APART = 5.0
"""Between an end and its name."""


class NamedLinkItem(WireItem):
    """Both ends of a wire with its name. While it is chosen a thin line shows where it leads."""

    def __init__(self, key: str, link: str):
        super().__init__(key, link, "")
        self.setZValue(1.2)  # its names stand above other wires
        self.name = ""
        self._anchors: tuple[Anchor, ...] = ()
        self._stubs: list[list[Point]] = []
        self._names_at: list[Point | None] = []

    @property
    def words(self) -> str:
        return self.name

    @property
    def lines(self) -> list[list[Point]]:
        return self._stubs

    @property
    def in_the_way(self) -> list[list[Point]]:
        return [stub(anchor, min(REACHES)) for anchor in self._anchors]

    def set_path(self, path: list[Point]) -> None:
        """A link has no path; see `place`."""

    def place(self, begin: Anchor, end: Anchor) -> None:
        """Begin at these places of its two cards."""
        if self._anchors != (begin, end):
            self.prepareGeometryChange()
            self._anchors = (begin, end)
            self._reach_out(REACHES[:1] * 2)

    def _reach_out(self, reaches: Sequence[float]) -> None:
        source, reader = map(stub, self._anchors, reaches)
        self._stubs = [source, reader[::-1]]

    def place_words(self, obstacles: Obstacles) -> None:
        """Write its name at both ends, where nothing crosses it, or at least no card and no words; where there is no
        such place it is shown on hover only."""
        self.prepareGeometryChange()
        where = [self.name, *self.bundle, "Double click opens them." if self.bundle else ""]
        self.setToolTip("\n".join(filter(None, where)))
        width, self._names_at, reaches = words_width(self.name), [], list[float]()
        for anchor in self._anchors:
            places = {at: reach for reach in REACHES for at in beyond(stub(anchor, reach)[-1], anchor, width)}
            place = obstacles.place(width, places) or obstacles.place(width, places, over_wires=True)
            self._names_at.append(place)
            reaches.append(places.get(self._names_at[-1], min(REACHES)))
        self._reach_out(reaches)

    def boxes(self) -> Iterator[Box]:
        width = words_width(self.name)
        return (box_of(at, width) for at in self._names_at if at is not None)

    def boundingRect(self) -> QRectF:
        room = QRectF()
        for line in self._stubs:
            room = room.united(QRectF(QPointF(*line[0]), QPointF(*line[-1])).normalized().adjusted(-10, -10, 10, 10))
        for box in self.boxes():
            room = room.united(QRectF(box.x - 4, box.y - 4, box.w + 8, box.h + 8))
        return room

    def distance(self, point: Point) -> float:
        inside = any(b.x <= point[0] <= b.x + b.w and b.y <= point[1] <= b.y + b.h for b in self.boxes())
        return 0.0 if inside else super().distance(point)

    def paint(
        self, painter: QPainter | None, option: QStyleOptionGraphicsItem | None, widget: QWidget | None = None
    ) -> None:
        assert painter is not None
        if not self._stubs:
            return
        if self.selected:
            painter.setPen(QPen(colour("petrol"), 1.0, Qt.PenStyle.DotLine))
            painter.drawLine(QPointF(*self._stubs[0][-1]), QPointF(*self._stubs[1][0]))
        super().paint(painter, option, widget)
        role = "petrol" if self.link in ("continuous", "sampled") else "ink"
        painter.setPen(QPen(colour(role), 1.3))
        painter.setBrush(colour("paper"))
        for end in (self._stubs[0][-1], self._stubs[1][0]):
            painter.drawEllipse(QPointF(*end), 3, 3)
        for box in self.boxes():
            painter.fillRect(QRectF(box.x, box.y, box.w, box.h), colour("paper"))  # it may lie over a wire
            with_halo(painter, QPointF(box.x, box.y + ASCENT), self.name, role)


def stub(anchor: Anchor, reach: float) -> list[Point]:
    (x, y), (dx, dy) = anchor.point, anchor.normal
    return [(x, y), (x + dx * reach, y + dy * reach)]


def beyond(end: Point, anchor: Anchor, width: float) -> list[Point]:
    """Baselines for a name at the end of a stub: on from it, then beside it."""
    (x, y), (dx, dy) = end, anchor.normal
    middle = y + ASCENT / 2
    if dx:
        on = x + APART if dx > 0 else x - APART - width
        return [(on, middle), (on, middle - HEIGHT), (on, middle + HEIGHT)]
    on = y + APART + ASCENT if dy > 0 else y - APART
    return [(x - width / 2, on), (x + APART, middle), (x - APART - width, middle)]


def link_name(drive: Drive, wire: Wire, signals: int, tap: str) -> str:
    """What a link is called: by its tap, by what it carries, or by the cards that it joins."""
    source = drive.cards[wire.a.card]
    kind = known_kind(source)
    port = kind.port(wire.a.port) if kind is not None else None
    if signals > 1:
        return f"{source.name} · {signals} signals"
    if tap:
        return tap
    if port is None:
        return f"{source.name} · {wire_label(drive, wire) or wire.a.port}"
    if port.link is not Link.SIGNAL_OUT:
        return f"{source.name} – {drive.cards[wire.b.card].name}"
    outputs = [p for p in kind.ports if p.link is Link.SIGNAL_OUT]
    return source.name if len(outputs) == 1 else f"{source.name} · {wire.a.port}"


def place_links(
    links: Sequence[Routed], wires: Mapping[str, WireItem], anchors: Mapping[tuple[str, str], Anchor]
) -> list[Routed]:
    """Lay the named ones of a sheet's links, and return those that need a path."""
    left = []
    for link in links:
        item = wires[link.key]
        if isinstance(item, NamedLinkItem):
            item.place(anchors[link.joint_a, link.a], anchors[link.joint_b, link.b])
        else:
            left.append(link)
    return left
