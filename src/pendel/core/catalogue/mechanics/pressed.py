"""Dry friction that a signal presses: a brake against the frame and a clutch between two shafts. Both really stick
(`pendel.core.equations.friction`)."""

from __future__ import annotations

import casadi as ca

from pendel.core.catalogue.declare import Link, Part, Port, Signal, Value
from pendel.core.catalogue.heat.port import heat_port
from pendel.core.catalogue.settled import ONE_SPEED
from pendel.core.equations.context import PartContext

PRESS = Port("press", Link.SIGNAL_IN, "How much it is pressed, 0 to 1", "bottom")
M_MAX = Value("M_max", "Largest torque", "N·m", "600", low=0.0, open_low=True)
STICKS = Value("sticks", "Holds, over slides", "", "1.1", low=1.0)
SIGNALS = (
    Signal("torque", "torque", "N·m"),
    Signal("pressed", "pressed", "%"),
    Signal("loss", "loss", "W"),
)


def pressed(c: PartContext) -> ca.SX:
    return ca.fmin(1, ca.fmax(0, c.input("press")))


def build_brake(c: PartContext) -> None:
    across_a, through_a = c.flange("a")
    across_b, through_b = c.flange("b")
    w, dw = c.state("w", helper=True)
    level = pressed(c)
    sliding = level * c.value("M_max")
    torque = c.dry_friction(w, dw, sliding=sliding, breakaway=c.value("sticks") * sliding)
    c.equation(w - across_a)
    c.equation(across_a - across_b)
    c.equation(through_a + through_b - torque)
    c.signal("torque", torque)
    c.signal("pressed", level)
    c.signal("loss", torque * w)
    c.lost(torque * w)


def build_clutch(c: PartContext) -> None:
    across_a, through_a = c.flange("a")
    across_b, through_b = c.flange("b")
    slip, change = c.state("slip", helper=True)
    level = pressed(c)
    sliding = level * c.value("M_max")
    torque = c.dry_friction(slip, change, sliding=sliding, breakaway=c.value("sticks") * sliding)
    c.equation(slip - (across_a - across_b))
    c.equation(through_a - torque)
    c.equation(through_b + torque)
    c.signal("torque", torque)
    c.signal("slip", slip)
    c.signal("pressed", level)
    c.signal("loss", torque * slip)
    c.lost(torque * slip)


KINDS = (
    Part(
        id="brake",
        title="Brake",
        sentence="Dry friction against the frame, as much as a signal presses it; holds at standstill.",
        group="mechanics",
        keywords="friction disc drum blending stop hold vehicle",
        ports=(
            Port("a", Link.SHAFT, "Shaft", "left"),
            Port("b", Link.SHAFT, "Shaft", "right", required=False),
            PRESS,
            heat_port(),
        ),
        values=(M_MAX, STICKS),
        signals=SIGNALS,
        build=build_brake,
        settled=ONE_SPEED,
        summary=lambda v, card: ("brake", v["M_max"]),
        main_signal="torque",
        spine="◑",
    ),
    Part(
        id="clutch",
        title="Clutch",
        sentence="Dry friction between two shafts, as much as a signal presses it; closes without slip.",
        group="mechanics",
        keywords="friction coupling engage disengage gearbox hybrid",
        ports=(Port("a", Link.SHAFT, "Shaft", "left"), Port("b", Link.SHAFT, "Shaft", "right"), PRESS, heat_port()),
        values=(M_MAX, STICKS),
        signals=(*SIGNALS[:1], Signal("slip", "slip", "rad/s"), *SIGNALS[1:]),
        build=build_clutch,
        summary=lambda v, card: ("clutch", v["M_max"]),
        main_signal="torque",
        spine="◐",
    ),
)
