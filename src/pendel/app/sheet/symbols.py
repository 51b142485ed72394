"""Symbols of IEC 60617 for the cards of circuit parts, drawn in a box of 40 by 26."""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache

from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtGui import QPainterPath

WIDTH, HEIGHT = 40.0, 26.0
MIDDLE = HEIGHT / 2


def line(path: QPainterPath, *points: tuple[float, float]) -> None:
    path.moveTo(*points[0])
    for point in points[1:]:
        path.lineTo(*point)


def leads(path: QPainterPath, left: float, right: float) -> None:
    line(path, (0, MIDDLE), (left, MIDDLE))
    line(path, (right, MIDDLE), (WIDTH, MIDDLE))


def resistor(path: QPainterPath) -> None:
    leads(path, 8, 32)
    path.addRect(QRectF(8, MIDDLE - 4.5, 24, 9))


def coil(path: QPainterPath, left: float, y: float, bows: int, *, down: bool = False) -> None:
    path.moveTo(left, y)
    for k in range(bows):
        path.arcTo(QRectF(left + 7 * k, y - 3.5, 7, 7), 180, 180 if down else -180)


def inductor(path: QPainterPath) -> None:
    leads(path, 6, 34)
    coil(path, 6, MIDDLE, 4)


def capacitor(path: QPainterPath) -> None:
    leads(path, 17, 23)
    line(path, (17, 3), (17, 23))
    line(path, (23, 3), (23, 23))


def diode(path: QPainterPath) -> None:
    leads(path, 12, 28)
    line(path, (12, 5), (12, 21), (27, MIDDLE), (12, 5))
    line(path, (28, 5), (28, 21))
    line(path, (12, MIDDLE), (28, MIDDLE))


def switch(path: QPainterPath) -> None:
    leads(path, 11, 29)
    line(path, (11, MIDDLE), (28, 4))


def transistor(path: QPainterPath) -> None:
    leads(path, 10, 30)
    line(path, (10, MIDDLE), (10, 9))
    line(path, (30, MIDDLE), (30, 9))
    for x in (8, 17, 26):
        line(path, (x, 9), (x + 6, 9))
    line(path, (9, 5), (31, 5))
    line(path, (20, 5), (20, 0))
    line(path, (10, MIDDLE), (10, 21), (16, 21))
    line(path, (16, 17), (16, 25), (24, 21), (16, 17))
    line(path, (24, 17), (24, 25))
    line(path, (24, 21), (30, 21), (30, MIDDLE))


def op_amp(path: QPainterPath) -> None:
    path.addRect(QRectF(8, 1, 24, 24))
    line(path, (20, 5), (20, 11), (26, 8), (20, 5))
    for y, vertical in ((7, False), (19, True)):
        line(path, (0, y), (8, y))
        line(path, (10.5, y), (14.5, y))
        if vertical:
            line(path, (12.5, y - 2), (12.5, y + 2))
    line(path, (32, MIDDLE), (WIDTH, MIDDLE))


def ground(path: QPainterPath) -> None:
    line(path, (20, 0), (20, 11))
    for k, half in enumerate((11, 7, 3)):
        line(path, (20 - half, 11 + 5 * k), (20 + half, 11 + 5 * k))


def ring(path: QPainterPath) -> None:
    leads(path, 9, 31)
    path.addEllipse(QPointF(20, MIDDLE), 11, 11)


def ac_source(path: QPainterPath) -> None:
    ring(path)
    path.moveTo(13, MIDDLE)
    path.cubicTo(16, 4, 18, 6, 20, MIDDLE)
    path.cubicTo(22, 20, 24, 22, 27, MIDDLE)


def voltage_source(path: QPainterPath) -> None:
    ring(path)
    line(path, (9, MIDDLE), (31, MIDDLE))


def current_source(path: QPainterPath) -> None:
    ring(path)
    line(path, (20, 2), (20, 24))


def three_phase(path: QPainterPath) -> None:
    path.addEllipse(QPointF(16, MIDDLE), 11, 11)
    for y in (7, 13, 19):
        line(path, (26.5 if y != MIDDLE else 27, y), (WIDTH, y))
    path.moveTo(10, MIDDLE)
    path.cubicTo(12.5, 5, 14.5, 7, 16, MIDDLE)
    path.cubicTo(17.5, 19, 19.5, 21, 22, MIDDLE)


def windings(path: QPainterPath) -> None:
    for y, down in ((8.0, False), (18.0, True)):
        line(path, (0, y), (6, y))
        line(path, (34, y), (WIDTH, y))
        coil(path, 6, y, 4, down=not down)


def meter(letter: str) -> Callable[[QPainterPath], None]:
    def drawn(path: QPainterPath) -> None:
        ring(path)
        if letter == "V":
            line(path, (15, 7.5), (20, 18.5), (25, 7.5))
        else:
            line(path, (15, 18.5), (20, 7.5), (25, 18.5))
            line(path, (17, 14.5), (23, 14.5))

    return drawn


def opener(count: int) -> Callable[[QPainterPath], None]:
    def drawn(path: QPainterPath) -> None:
        places = [MIDDLE + 8 * (k - (count - 1) / 2) for k in range(count)]
        for k, y in enumerate(places):
            start = MIDDLE + 3 * (k - (count - 1) / 2)
            line(path, (0, start), (14, start), (22, y), (34, y))
            path.addEllipse(QPointF(36.5, y), 2.5, 2.5)

    return drawn


def star(path: QPainterPath) -> None:
    for y in (4, 13, 22):
        line(path, (0, y), (8, y))
        path.addRect(QRectF(8, y - 2.5, 16, 5))
        line(path, (24, y), (33, y))
    line(path, (33, 4), (33, 22))


SYMBOLS: dict[str, Callable[[QPainterPath], None]] = {
    "resistor": resistor,
    "inductor": inductor,
    "capacitor": capacitor,
    "diode": diode,
    "switch": switch,
    "transistor": transistor,
    "op_amp": op_amp,
    "ground": ground,
    "ac_source": ac_source,
    "set_voltage": voltage_source,
    "set_current": current_source,
    "three_phase_source": three_phase,
    "coupled_inductors": windings,
    "ideal_transformer": windings,
    "transformer": windings,
    "three_phase_transformer": windings,
    "voltmeter": meter("V"),
    "ammeter": meter("A"),
    "pair_opener": opener(2),
    "phase_opener": opener(3),
    "star_load": star,
}


@lru_cache(maxsize=64)
def symbol(kind: str) -> QPainterPath | None:
    """The symbol of a kind of part, or none where its card tells enough."""
    if kind not in SYMBOLS:
        return None
    path = QPainterPath()
    SYMBOLS[kind](path)
    return path
