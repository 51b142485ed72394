"""Symbols of IEC 60617 for parts of circuits."""

from __future__ import annotations

from pendel.core.vocabulary.pictures import HEIGHT, WIDTH, Point, Symbol

MIDDLE = HEIGHT / 2
Line = tuple[Point, ...]
Box = tuple[float, float, float, float]


def leads(left: float, right: float) -> tuple[Line, Line]:
    """From both rims to what is between ``left`` and ``right``."""
    return ((0, MIDDLE), (left, MIDDLE)), ((right, MIDDLE), (WIDTH, MIDDLE))


def coil(left: float, y: float, *, down: bool = False) -> tuple[Box, ...]:
    return tuple((left + 7 * k, y - 3.5, 7, -7 if down else 7) for k in range(4))


def opener(count: int) -> Symbol:
    """Lines of one connection that part."""
    shares = [k - (count - 1) / 2 for k in range(count)]
    return Symbol(
        lines=tuple(
            ((0, MIDDLE + 3 * s), (14, MIDDLE + 3 * s), (22, MIDDLE + 8 * s), (34, MIDDLE + 8 * s)) for s in shares
        ),
        rings=tuple((34, MIDDLE + 8 * s - 2.5, 5, 5) for s in shares),
    )


RING: Box = (9, MIDDLE - 11, 22, 22)
RESISTOR = Symbol(lines=leads(8, 32), boxes=((8, MIDDLE - 4.5, 24, 9),))
INDUCTOR = Symbol(lines=leads(6, 34), bows=coil(6, MIDDLE))
CAPACITOR = Symbol(lines=(*leads(17, 23), ((17, 3), (17, 23)), ((23, 3), (23, 23))))
DIODE = Symbol(
    lines=(
        *leads(12, 28),
        ((12, 5), (12, 21), (27, MIDDLE), (12, 5)),
        ((28, 5), (28, 21)),
        ((12, MIDDLE), (28, MIDDLE)),
    )
)
SWITCH = Symbol(lines=(*leads(11, 29), ((11, MIDDLE), (28, 4))))
TRANSISTOR = Symbol(
    lines=(
        *leads(10, 30),
        ((10, MIDDLE), (10, 9)),
        ((30, MIDDLE), (30, 9)),
        *(((x, 9), (x + 6, 9)) for x in (8, 17, 26)),
        ((9, 5), (31, 5)),
        ((20, 5), (20, 0)),
        ((10, MIDDLE), (10, 21), (16, 21)),
        ((16, 17), (16, 25), (24, 21), (16, 17)),
        ((24, 17), (24, 25)),
        ((24, 21), (30, 21), (30, MIDDLE)),
    )
)
OP_AMP = Symbol(
    boxes=((8, 1, 24, 24),),
    lines=(
        ((20, 5), (20, 11), (26, 8), (20, 5)),
        *(((0, y), (8, y)) for y in (7, 19)),
        *(((10.5, y), (14.5, y)) for y in (7, 19)),
        ((12.5, 17), (12.5, 21)),
        ((32, MIDDLE), (WIDTH, MIDDLE)),
    ),
)
GROUND = Symbol(
    lines=(
        ((20, 0), (20, 11)),
        *(((20 - half, 11 + 5 * k), (20 + half, 11 + 5 * k)) for k, half in enumerate((11, 7, 3))),
    )
)
AC_SOURCE = Symbol(
    lines=leads(9, 31),
    rings=(RING,),
    curves=(
        ((13, MIDDLE), (16, 4), (18, 6), (20, MIDDLE)),
        ((20, MIDDLE), (22, 20), (24, 22), (27, MIDDLE)),
    ),
)
VOLTAGE_SOURCE = Symbol(lines=(*leads(9, 31), ((9, MIDDLE), (31, MIDDLE))), rings=(RING,))
CURRENT_SOURCE = Symbol(lines=(*leads(9, 31), ((20, 2), (20, 24))), rings=(RING,))
THREE_PHASE_SOURCE = Symbol(
    rings=((5, MIDDLE - 11, 22, 22),),
    lines=tuple(((27 if y == MIDDLE else 26.5, y), (WIDTH, y)) for y in (7, 13, 19)),
    curves=(
        ((10, MIDDLE), (12.5, 5), (14.5, 7), (16, MIDDLE)),
        ((16, MIDDLE), (17.5, 19), (19.5, 21), (22, MIDDLE)),
    ),
)
WINDINGS = Symbol(
    lines=tuple(line for y in (8, 18) for line in (((0, y), (6, y)), ((34, y), (WIDTH, y)))),
    bows=(*coil(6, 8, down=True), *coil(6, 18)),
)
VOLTMETER = Symbol(lines=(*leads(9, 31), ((15, 7.5), (20, 18.5), (25, 7.5))), rings=(RING,))
AMMETER = Symbol(lines=(*leads(9, 31), ((15, 18.5), (20, 7.5), (25, 18.5)), ((17, 14.5), (23, 14.5))), rings=(RING,))
PAIR_OPENER, PHASE_OPENER = opener(2), opener(3)
STAR = Symbol(
    lines=(
        *(line for y in (4, 13, 22) for line in (((0, y), (8, y)), ((24, y), (33, y)))),
        ((33, 4), (33, 22)),
    ),
    boxes=tuple((8, y - 2.5, 16, 5) for y in (4, 13, 22)),
)
