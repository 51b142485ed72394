"""Convection by what a fan on a shaft blows: heat transfer that grows with a speed.

h = h_0 + h_n (|ω|/ω_n)^m, with m = 0.8 for a turbulent and 0.5 for a laminar flow along a plate (Incropera, DeWitt:
Fundamentals of Heat and Mass Transfer, chapter 7, Nu by Re^(4/5) and Re^(1/2); from memory). h_0 is what is left at
standstill."""

from __future__ import annotations

from pendel.core.catalogue.declare import Link, Part, Port, Value
from pendel.core.catalogue.heat.bodies import BOTH, WAY, way
from pendel.core.equations.context import PartContext
from pendel.core.vocabulary import Group

SHAFT, SPEED = "shaft", "n"
SMOOTH = 1e-3
"""Of the speed ω_n, below which the root is smooth."""


def build(c: PartContext) -> None:
    a, b = c.line("a"), c.line("b")
    speed = c.value(SPEED)
    if c.has(SHAFT):
        speed, torque = c.flange(SHAFT)
        c.equation(torque)  # what the fan takes is a load of its own
    share = speed / c.value("n_n")
    grown = (share * share + SMOOTH * SMOOTH) ** (c.value("m") / 2)
    way(c, (c.value("h_0") + c.value("h_n") * grown) * c.value("A") * (a.across - b.across))


KIND = Part(
    id="blown_convection",
    title="Convection by a fan on a shaft",
    sentence="Carries heat from a surface to the air that a fan blows along it, more the faster its shaft turns.",
    group=Group.HEAT,
    keywords="thermal air fan cooling surface forced self-ventilated speed shaft",
    ports=(*BOTH, Port(SHAFT, Link.SHAFT, "Shaft of the fan", "bottom", required=False, only_wired=True)),
    values=(
        Value("h_0", "Heat transfer standing", "W/m²/K", "8", low=0.0),
        Value("h_n", "More at speed", "W/m²/K", "40", low=0.0),
        Value("n_n", "Speed for that", "rpm", "1500", low=0.0, open_low=True),
        Value("m", "Exponent", "", "0.8", low=0.0, open_low=True, high=3.0),
        Value("A", "Surface", "m²", "0.1", low=0.0, open_low=True),
        Value(SPEED, "Without a shaft, at", "rpm", "0"),
    ),
    signals=WAY,
    build=build,
    summary=lambda v, card: ("blown", v["h_n"]),
    main_signal="heat",
    spine="h",
)
