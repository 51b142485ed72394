"""Rigid bodies: rotating inertia and moving mass. Newton's law in one direction."""

from __future__ import annotations

from pendel.core.catalogue.declare import Link, Part, Port, Signal, State, Value
from pendel.core.catalogue.settled import ONE_SPEED
from pendel.core.equations.context import PartContext


def build_inertia(c: PartContext) -> None:
    _body(c, inertia="J", speed="omega", place="phi", names=("speed", "angle", "torque"))


def build_mass(c: PartContext) -> None:
    _body(c, inertia="m", speed="v", place="x", names=("speed", "position", "force"))


def _body(c: PartContext, *, inertia: str, speed: str, place: str, names: tuple[str, ...]) -> None:
    across_a, through_a = c.flange("a")
    across_b, through_b = c.flange("b")
    w, dw = c.state(speed)
    s, ds = c.state(place)
    m = c.value(inertia)
    c.equation(w - across_a)
    c.equation(across_a - across_b)
    c.equation(m * dw - (through_a + through_b))
    c.equation(ds - w)
    c.signal(names[0], w)
    c.signal(names[1], s)
    c.signal(names[2], through_a + through_b)
    c.signal("power", w * (through_a + through_b))
    c.stored(m * w * w / 2)


INERTIA = Part(
    id="inertia",
    title="Inertia",
    sentence="A rotating mass on a shaft.",
    group="mechanics",
    keywords="rotor flywheel shaft moment",
    ports=(
        Port("a", Link.SHAFT, "Shaft", "left", required=False),
        Port("b", Link.SHAFT, "Shaft", "right", required=False),
    ),
    values=(Value("J", "Moment of inertia", "kg·m²", "1e-4", low=0.0, open_low=True),),
    states=(State("omega", "speed", "rad/s"), State("phi", "angle", "rad")),
    signals=(
        Signal("speed", "speed", "rad/s"),
        Signal("angle", "angle", "rad"),
        Signal("torque", "accelerating torque", "N·m"),
        Signal("power", "accelerating power", "W"),
    ),
    build=build_inertia,
    settled=ONE_SPEED,
    summary=lambda v, card: ("inertia", v["J"]),
    main_signal="speed",
    spine="J",
)

MASS = Part(
    id="mass",
    title="Moving mass",
    sentence="A mass that moves along a line.",
    group="mechanics",
    keywords="leaf car slide linear",
    ports=(
        Port("a", Link.ROD, "Rod", "left", required=False),
        Port("b", Link.ROD, "Rod", "right", required=False),
    ),
    values=(Value("m", "Mass", "kg", "38", low=0.0, open_low=True),),
    states=(State("v", "speed", "m/s"), State("x", "position", "m")),
    signals=(
        Signal("speed", "travel speed", "m/s"),
        Signal("position", "position", "m"),
        Signal("force", "accelerating force", "N"),
        Signal("power", "accelerating power", "W"),
    ),
    build=build_mass,
    settled=ONE_SPEED,
    summary=lambda v, card: ("moving mass", v["m"]),
    main_signal="speed",
    spine="▭",
)

KINDS = (INERTIA, MASS)
