"""What gives way between inertias: an elastic shaft with backlash, a rope that only pulls, and the drum it
winds on.

Torque of a spring and a damper side by side, M = k·s + d·ds/dt; within the backlash nothing touches. Contact
begins where the play is used up and ends where the torque would pull. Nordin, Gutman: Controlling mechanical
systems with backlash, Automatica 38 (2002) 1633 (from memory).
"""

from __future__ import annotations

import casadi as ca

from pendel.core.catalogue.declare import Figure, Link, Part, Port, Signal, State, Value, Values
from pendel.core.drive.document import Card
from pendel.core.equations.context import PartContext


def spring(c: PartContext, slip: ca.SX, rate: ca.SX, *, play: ca.SX | None, pulls_only: bool = False) -> ca.SX:
    """Force of spring and damper at a stretch ``slip`` that grows at ``rate``; ``play`` is what is free in
    all."""
    k, d = c.value("k"), c.value("d")
    if play is None and not pulls_only:
        return k * slip + d * rate
    half = play / 2 if play is not None else ca.SX(0)
    ahead, behind = k * (slip - half) + d * rate, k * (slip + half) + d * rate
    mode = c.mode("contact", 0)
    at = mode.symbol
    # With damping the force ends before the play does: contact begins again only when it would push.
    mode.transitions += [(0, ca.fmin(slip - half, ahead), 1), (1, -ahead, 0)]
    if pulls_only:
        return at * ahead
    mode.transitions += [(0, ca.fmin(-slip - half, -behind), -1), (-1, behind, 0)]
    return (at > 0.5) * ahead + (at < -0.5) * behind


def stretched(
    c: PartContext, name: str, through: str, *, play: ca.SX | None = None, pulls_only: bool = False
) -> tuple[ca.SX, ca.SX, ca.SX]:
    """State a spring between the ports a and b; its stretch, the rate of that, and its force, positive where
    it pulls."""
    across_a, through_a = c.flange("a")
    across_b, through_b = c.flange("b")
    slip, rate = c.state(name)
    force = c.unknown(through)
    c.equation(rate - (across_a - across_b))
    c.equation(force - spring(c, slip, rate, play=play, pulls_only=pulls_only))
    c.equation(through_a - force)
    c.equation(through_b + force)
    c.signal(through, force)
    c.signal(name, slip)
    c.signal("speed", across_b)
    c.signal("power", force * across_b)
    return slip, rate, force


def build_shaft(c: PartContext) -> None:
    play = c.value("play") if c.is_positive("play") else None
    twist, rate, torque = stretched(c, "twist", "torque", play=play)
    wound = twist
    if play is not None:
        wound = ca.fmax(twist - play / 2, 0) + ca.fmin(twist + play / 2, 0)
    report_energy(c, wound, rate, torque)


def build_rope(c: PartContext) -> None:
    stretch, rate, force = stretched(c, "stretch", "force", pulls_only=True)
    report_energy(c, ca.fmax(stretch, 0), rate, force)


def report_energy(c: PartContext, wound: ca.SX, rate: ca.SX, force: ca.SX) -> None:
    """Energy of the spring, and what the damper loses."""
    c.stored(c.value("k") * wound * wound / 2)
    loss = (force - c.value("k") * wound) * rate
    c.signal("loss", loss)
    c.lost(loss)


def build_drum(c: PartContext) -> None:
    """v = r·ω, M = r·F."""
    omega, torque = c.flange("shaft")
    v, force = c.flange("rope")
    r = c.value("r")
    c.equation(v - r * omega)
    c.equation(torque + r * force)
    c.signal("speed", v)
    c.signal("force", -force)
    c.signal("torque", torque)
    c.signal("power", -force * v)


def stiff_time(v: Values, card: Card) -> list[Figure]:
    return [Figure("Damping over stiffness", "d/k", v["d"] / v["k"], "s")]


SHAFTS = (Port("a", Link.SHAFT, "Driving shaft", "left"), Port("b", Link.SHAFT, "Driven shaft", "right"))
RODS = (Port("a", Link.ROD, "Pulling end", "left"), Port("b", Link.ROD, "Pulled end", "right"))
KINDS = (
    Part(
        id="elastic_shaft",
        title="Elastic shaft",
        sentence="Winds up under torque, with damping and backlash.",
        group="mechanics",
        keywords="spring torsion coupling backlash play stiffness compliance two-mass",
        ports=SHAFTS,
        values=(
            Value("k", "Stiffness", "N·m/rad", "4000", low=0.0, open_low=True),
            Value("d", "Damping", "N·m·s", "4", low=0.0),
            Value("play", "Backlash", "deg", "0", low=0.0),
        ),
        states=(State("twist", "twist", "rad"),),
        signals=(
            Signal("torque", "torque", "N·m"),
            Signal("twist", "twist", "rad"),
            Signal("speed", "speed of the driven side", "rad/s"),
            Signal("power", "power", "W"),
            Signal("loss", "loss", "W"),
        ),
        follows=stiff_time,
        build=build_shaft,
        summary=lambda v, card: (v["k"], f"play {v['play']}" if v["play"] != "0 °" else v["d"]),
        main_signal="torque",
        spine="∿",
    ),
    Part(
        id="rope",
        title="Rope",
        sentence="Stretches under a pull, with damping; it goes slack instead of pushing.",
        group="mechanics",
        keywords="cable spring elastic hoist winch slack",
        ports=RODS,
        values=(
            Value("k", "Stiffness", "N/m", "600000", low=0.0, open_low=True),
            Value("d", "Damping", "N·s/m", "4000", low=0.0),
        ),
        states=(State("stretch", "stretch", "m"),),
        signals=(
            Signal("force", "force", "N"),
            Signal("stretch", "stretch", "m"),
            Signal("speed", "speed of the pulled end", "m/s"),
            Signal("power", "power", "W"),
            Signal("loss", "loss", "W"),
        ),
        follows=stiff_time,
        build=build_rope,
        summary=lambda v, card: (v["k"],),
        main_signal="force",
        spine="∿",
    ),
    Part(
        id="drum",
        title="Drum",
        sentence="Turns rotation into the travel of a rope, without slip.",
        group="mechanics",
        keywords="winch pulley sheave rack wheel linear",
        ports=(Port("shaft", Link.SHAFT, "Shaft", "left"), Port("rope", Link.ROD, "Rope", "right")),
        values=(Value("r", "Radius", "mm", "750", low=0.0, open_low=True),),
        signals=(
            Signal("speed", "rope speed", "m/s"),
            Signal("force", "rope force", "N"),
            Signal("torque", "torque", "N·m"),
            Signal("power", "power", "W"),
        ),
        build=build_drum,
        summary=lambda v, card: (f"r {v['r']}",),
        main_signal="speed",
        spine="○",
    ),
)
