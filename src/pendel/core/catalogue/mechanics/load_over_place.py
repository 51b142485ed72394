"""Loads whose torque or force follows from where a shaft or a mass is: crank, cam, press, slope, rope of a hoist.

The curve through the rows is monotone between them (`pendel.core.catalogue.systems.curves`). It repeats after its last
row, as at each turn of a crank, or holds its ends."""

from __future__ import annotations

import math

import casadi as ca

from pendel.core.catalogue.declare import (
    Choice,
    Contradiction,
    Link,
    Part,
    Port,
    Rows,
    Signal,
    State,
    Value,
    Values,
)
from pendel.core.catalogue.systems.curves import along, rising, with_slopes
from pendel.core.drive.document import Card
from pendel.core.equations.context import PartContext
from pendel.core.vocabulary import SignalRole

REPEATS = Choice(
    "beyond",
    "Beyond its rows",
    (("holds", "holds what the first and the last row say"), ("repeats", "repeats after its last row")),
)


def build(c: PartContext) -> None:
    speed, through = c.flange("a")
    place, slope = c.state("place")
    c.equation(slope - speed)
    first, last = c.value("x_0"), c.value(f"x_{c.rows - 1}")
    if c.choice("beyond") == "repeats":
        # The angle of a turn, half a turn on, is the share of a period without a jump in the curve.
        turn = 2 * math.pi * place / last
        at = last * (0.5 + ca.atan2(-ca.sin(turn), -ca.cos(turn)) / (2 * math.pi))
    else:
        at = ca.fmin(ca.fmax(place, first), last)
    load = along(c, at, "x", "y")
    c.equation(through - load)
    c.signal("load", load)
    c.signal("place", place)
    c.signal("power", load * speed)
    c.delivered(load * speed)


def equation_values(v: Values, card: Card) -> dict[str, float]:
    return with_slopes(dict(v), len(card.rows), "x", "y")


def contradictions(v: Values, card: Card) -> list[Contradiction]:
    count = len(card.rows)
    if count < 2:
        return [Contradiction("Its curve has fewer than two rows. Add where it is and what it pulls there.", "rows:0")]
    if (row := rising(dict(v), count, "x")) is not None:
        return [Contradiction(f"Row {row + 1} is not beyond the row before. Sort the rows.", f"rows:{row}")]
    if card.choices.get("beyond") != "repeats":
        return []
    if v["x_0"] != 0:
        return [Contradiction("A curve that repeats begins at 0. Move its first row there.", "rows:0")]
    if v["y_0"] != v[f"y_{count - 1}"]:
        words = "A curve that repeats ends as it begins, else it would jump. Let the last row say what the first does."
        return [Contradiction(words, f"rows:{count - 1}")]
    return []


def load(
    id: str, title: str, sentence: str, keywords: str, port: Port, units: tuple[str, str, str], rows: Rows
) -> Part:
    angle, force, words = units
    return Part(
        id=id,
        title=title,
        sentence=sentence,
        group="load",
        keywords=keywords,
        ports=(port,),
        choices=(REPEATS,),
        rows=rows,
        states=(State("place", "place", angle),),
        signals=(
            Signal("load", f"load {words}", force, role=SignalRole.LOAD),
            Signal("place", "place", angle),
            Signal("power", "power", "W"),
        ),
        build=build,
        equation_values=equation_values,
        contradictions=contradictions,
        summary=lambda v, card: (f"{len(card.rows)} rows", card.choices.get("beyond", "holds")),
        main_signal="load",
        spine="↯",
    )


KINDS = (
    load(
        "load_over_angle",
        "Load over angle",
        "A torque that follows from a shaft's angle, as of a crank or a cam.",
        "position angle crank cam press ripple cogging",
        Port("a", Link.SHAFT, "Shaft", "left"),
        ("rad", "N·m", "torque"),
        Rows(
            "Curve",
            (Value("x", "Angle", "deg", "0"), Value("y", "Torque", "N·m", "0")),
            ("360 deg", "0"),
            (("0", "0"), ("180 deg", "1 N*m"), ("360 deg", "0")),
        ),
    ),
    load(
        "load_over_place",
        "Load over place",
        "A force that follows from where a mass is, as of a spring, a slope or a rope.",
        "position place slope spring rope hoist cut",
        Port("a", Link.ROD, "Rod", "left"),
        ("m", "N", "force"),
        Rows(
            "Curve",
            (Value("x", "Place", "m", "0"), Value("y", "Force", "N", "0")),
            ("1 m", "0"),
            (("0", "0"), ("1 m", "10 N")),
        ),
    ),
)
