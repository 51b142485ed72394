"""Gear with efficiency and elastic belt."""

from __future__ import annotations

import casadi as ca

from pendel.core.catalogue.declare import Link, Part, Port, Signal, State, Value
from pendel.core.catalogue.heat.port import heat_port
from pendel.core.catalogue.settled import Rigid
from pendel.core.equations.context import PartContext

DEAD_BAND = 1e-9
"""Torque (N·m) below which its sign does not change, so that rounding flips nothing."""


def build_gear(c: PartContext) -> None:
    """ω_b = ω_a / ratio. Torque with the losses on the side that is driven.

    With the torque M_a into the fast shaft and what comes out reflected to it, M_b' = M_a − M_loss: driving,
    M_b' = η·M_a; driven back, M_a = η·M_b'. In both the loss opposes the movement and is proportional to M_a,
    so it acts as a friction whose level follows the load, and it can hold the gear at rest.
    """
    speed_a, torque_a = c.flange("a")
    speed_b, torque_b = c.flange("b")
    w, dw = c.state("w", helper=True)
    ratio, eta = c.value("ratio"), c.value("eta")
    c.equation(w - speed_a)
    c.equation(speed_a - ratio * speed_b)
    negative = c.mode("torque_negative", 0)
    sign = 1 - 2 * negative.symbol
    negative.transitions += [(0, -torque_a - DEAD_BAND, 1), (1, torque_a - DEAD_BAND, 0)]

    def level(direction: ca.SX) -> ca.SX:
        drives = (1 + direction * sign) / 2
        return torque_a * (drives * (1 - eta) + (1 - drives) * (1 - 1 / eta))

    lost_torque = c.loss_by_load(w, dw, sliding=level, forward=level(ca.SX(1)), backward=-level(ca.SX(-1)))
    c.equation(torque_b + ratio * (torque_a - lost_torque))
    loss = torque_a * speed_a + torque_b * speed_b
    c.signal("speed", speed_b)
    c.signal("torque", -torque_b)
    c.signal("input_torque", torque_a)
    c.signal("power", -torque_b * speed_b)
    c.signal("loss", loss)
    c.lost(loss)


def build_belt(c: PartContext) -> None:
    """Pulley, elastic belt with damping, rod: F = k·s + d·ds/dt, ds/dt = r·ω − v."""
    omega, torque = c.flange("pulley")
    v, force = c.flange("rod")
    s, ds = c.state("stretch")
    r, k, d = c.value("r"), c.value("k_b"), c.value("d_b")
    tension = c.unknown("tension")
    c.equation(ds - (r * omega - v))
    c.equation(tension - k * s - d * ds)
    c.equation(torque - r * tension)
    c.equation(force + tension)
    c.signal("force", tension)
    c.signal("stretch", s)
    c.signal("speed", v)
    c.signal("torque", torque)
    c.signal("power", tension * v)
    c.signal("loss", d * ds * ds)
    c.lost(d * ds * ds)
    c.stored(k * s * s / 2)


GEAR = Part(
    id="gear",
    title="Gear",
    sentence="Turns speed down and torque up by a fixed ratio, with an efficiency in both directions.",
    group="mechanics",
    keywords="gearbox ratio reduction transmission",
    ports=(Port("a", Link.SHAFT, "Fast shaft", "left"), Port("b", Link.SHAFT, "Slow shaft", "right"), heat_port()),
    values=(
        Value("ratio", "Ratio, fast to slow", "", "12", low=0.0, open_low=True),
        Value("eta", "Efficiency", "%", "94", low=0.0, high=1.0, open_low=True),
    ),
    signals=(
        Signal("speed", "output speed", "rad/s"),
        Signal("torque", "output torque", "N·m"),
        Signal("input_torque", "input torque", "N·m"),
        Signal("power", "output power", "W"),
        Signal("loss", "loss", "W"),
    ),
    build=build_gear,
    settled=Rigid(lambda v: ({"a": 1.0, "b": -v["ratio"]},)),
    summary=lambda v, card: (f"{v['ratio']} : 1", f"η {v['eta']}"),
    main_signal="torque",
    spine="∞",
)

BELT = Part(
    id="belt",
    title="Belt",
    sentence="A pulley and an elastic belt turn rotation into travel.",
    group="mechanics",
    keywords="pulley rope linear spring elastic",
    ports=(Port("pulley", Link.SHAFT, "Pulley shaft", "left"), Port("rod", Link.ROD, "Belt", "bottom")),
    values=(
        Value("r", "Pulley radius", "mm", "22", low=0.0, open_low=True),
        Value("k_b", "Stiffness", "N/m", "41000", low=0.0, open_low=True),
        Value("d_b", "Damping", "N·s/m", "140", low=0.0),
    ),
    states=(State("stretch", "stretch", "m"),),
    signals=(
        Signal("force", "belt force", "N"),
        Signal("stretch", "stretch", "m"),
        Signal("speed", "belt speed", "m/s"),
        Signal("torque", "pulley torque", "N·m"),
        Signal("power", "power", "W"),
        Signal("loss", "loss", "W"),
    ),
    build=build_belt,
    summary=lambda v, card: (f"r {v['r']}", f"k {v['k_b']}"),
    main_signal="force",
    spine="∞",
)

KINDS = (GEAR, BELT)
