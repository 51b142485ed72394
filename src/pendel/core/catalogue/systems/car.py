"""A car on its road: mass, rolling resistance, air, slope over the place.

m dv/dt = M/r − f_0 − f_1 v − f_2 (v + w)² − m g sin α(x), w the head wind, with coefficients as a coast-down
gives them (UN GTR 15, annex 4; from memory). The wheels do not slip. What resists rolling has the sign of the speed."""

from __future__ import annotations

import math

import casadi as ca

from pendel.core.catalogue.declare import Contradiction, Figure, Link, Part, Port, Rows, Signal, State, Value, Values
from pendel.core.catalogue.mechanics.road import GRAVITY
from pendel.core.catalogue.systems.curves import along, rising, with_slopes
from pendel.core.drive.document import Card
from pendel.core.equations.context import PartContext
from pendel.core.vocabulary import Group, SignalRole

SOFT = 0.1
"""m/s over which rolling resistance comes up: a car that stands is held by nothing but this."""


def build(c: PartContext) -> None:
    wheel, torque = c.flange("axle")
    speed, gain = c.state("v")
    place, moved = c.state("x")
    r, m = c.value("r"), c.value("m")
    c.equation(wheel * r - speed)
    c.equation(moved - speed)
    slope = along(c, place, "x", "slope") if c.rows else ca.SX(0)
    climb = m * GRAVITY * ca.sin(ca.atan(slope))
    rolling = c.value("f_0") * ca.tanh(speed / SOFT)
    air = speed + c.value("wind")
    drag = rolling + c.value("f_1") * speed + c.value("f_2") * air * ca.fabs(air)
    c.equation(torque - r * (m * (1 + c.value("turning")) * gain + drag + climb))
    c.signal("speed", speed)
    c.signal("place", place)
    c.signal("slope", slope)
    c.signal("force", torque / r)
    c.signal("drag", drag)
    c.signal("climb", climb)
    c.signal("power", torque * wheel)
    c.stored(m * (1 + c.value("turning")) * speed * speed / 2)
    c.delivered((drag + climb) * speed)


def equation_values(v: Values, card: Card) -> dict[str, float]:
    return with_slopes(dict(v), len(card.rows), "x", "slope") if card.rows else dict(v)


def contradictions(v: Values, card: Card) -> list[Contradiction]:
    if (row := rising(dict(v), len(card.rows), "x")) is not None:
        return [Contradiction(f"The place of row {row + 1} is not behind that of the row before.", f"rows:{row}")]
    return []


def follows(v: Values, card: Card) -> list[Figure]:
    at = 50 / 3.6
    drag = v["f_0"] + v["f_1"] * at + v["f_2"] * at * at
    steep = math.sin(math.atan(0.1))
    return [
        Figure("Force on the level at 50 km/h", "F", drag, "N"),
        Figure("Power there", "P", drag * at, "kW"),
        Figure("Force for a slope of 10 %", "F", v["m"] * GRAVITY * steep, "N"),
    ]


KIND = Part(
    id="car",
    title="Car on its road",
    sentence="Mass, rolling resistance, air and slope, at the axle of wheels that do not slip.",
    group=Group.LOAD,
    keywords="vehicle road load coast down slope gradient trip driving cycle wheel bus cabin",
    ports=(Port("axle", Link.SHAFT, "Axle", "left"),),
    values=(
        Value("m", "Mass", "kg", "1200", low=0.0, open_low=True),
        Value("turning", "Turning mass", "%", "4", low=0.0),
        Value("r", "Wheel radius", "mm", "290", low=0.0, open_low=True),
        Value("f_0", "Rolling resistance", "N", "120", low=0.0),
        Value("f_1", "Drag by speed", "N·s/m", "0.8", low=0.0),
        Value("f_2", "Air", "N·s²/m²", "0.42", low=0.0),
        Value("wind", "Head wind", "m/s", "0"),
    ),
    rows=Rows(
        "Road",
        (Value("x", "Place", "m", "0"), Value("slope", "Slope", "%", "0", low=-1.0, high=1.0)),
        ("1000 m", "0 %"),
        (),
    ),
    states=(State("v", "speed", "m/s"), State("x", "place", "m")),
    signals=(
        Signal("speed", "speed", "m/s", role=SignalRole.SPEED),
        Signal("place", "place", "m", role=SignalRole.DISTANCE),
        Signal("slope", "slope", "%"),
        Signal("force", "force of the axle", "N"),
        Signal("drag", "rolling and air", "N", role=SignalRole.LOAD),
        Signal("climb", "force of the slope", "N"),
        Signal("power", "power of the axle", "W"),
    ),
    build=build,
    equation_values=equation_values,
    contradictions=contradictions,
    follows=follows,
    summary=lambda v, card: (v["m"], f"{len(card.rows)} places" if card.rows else "level"),
    main_signal="speed",
    spine="↯",
)
