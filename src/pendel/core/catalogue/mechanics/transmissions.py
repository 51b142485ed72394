"""Gear with efficiency and elastic belt."""

from pendel.core.catalogue.declare import Link, Part, Port, Signal, State, Value


DEAD_BAND = 1e-9
"""Power (W) below which the direction does not change, so that rounding at standstill flips nothing."""


def build_gear(c):
    """ω_b = ω_a / ratio. Torque with the losses on the side that is driven.

    The efficiency acts with the direction of power: M_b = η·ratio·M_a when the motor side drives,
    M_a = η·M_b/ratio when the load side does.
    """
    speed_a, torque_a = c.flange("a")
    speed_b, torque_b = c.flange("b")
    ratio, eta = c.value("ratio"), c.value("eta")
    c.equation(speed_a - ratio * speed_b)
    mode = c.mode("driven_back", 0)
    back = mode.symbol
    factor = (1 - back) * eta + back / eta
    c.equation(torque_b + factor * ratio * torque_a)
    power = torque_a * speed_a
    mode.exits += [(0, -power - DEAD_BAND, 1), (1, power - DEAD_BAND, 0)]
    loss = power + torque_b * speed_b
    c.signal("speed", speed_b)
    c.signal("torque", -torque_b)
    c.signal("input_torque", torque_a)
    c.signal("power", -torque_b * speed_b)
    c.signal("loss", loss)
    c.lost(loss)


def build_belt(c):
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
    ports=(Port("a", Link.SHAFT, "Fast shaft", "left"), Port("b", Link.SHAFT, "Slow shaft", "right")),
    values=(
        Value("ratio", "Ratio, fast to slow", "", "12", low=0.0, open_low=True),
        Value("eta", "Efficiency", "%", "94", low=0.0, high=1.0, open_low=True),
    ),
    signals=(Signal("speed", "output speed", "rad/s"), Signal("torque", "output torque", "N·m"), Signal("input_torque", "input torque", "N·m"), Signal("power", "output power", "W"), Signal("loss", "loss", "W")),
    build=build_gear,
    telling=lambda v, card: (f"{v['ratio']} : 1", f"η {v['eta']}"),
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
    signals=(Signal("force", "belt force", "N"), Signal("stretch", "stretch", "m"), Signal("speed", "belt speed", "m/s"), Signal("torque", "pulley torque", "N·m"), Signal("power", "power", "W"), Signal("loss", "loss", "W")),
    build=build_belt,
    telling=lambda v, card: (f"r {v['r']}", f"k {v['k_b']}"),
    main_signal="force",
    spine="∞",
)

KINDS = (GEAR, BELT)
