"""A blower: its torque grows with the square of its speed. M = M_n·(ω/ω_n)·|ω/ω_n| (affinity laws of fluid machines)."""

import casadi as ca

from pendel.core.catalogue.declare import Link, Part, Port, Signal, State, Value


def build(c):
    across, through = c.flange("shaft")
    speed, slope = c.state("omega")
    share = speed / c.value("n_n")
    torque = c.value("M_n") * share * ca.fabs(share)
    c.equation(across - speed)
    c.equation(c.value("J") * slope - (through - torque))
    c.signal("speed", speed)
    c.signal("torque", torque)
    c.signal("power", torque * speed)
    c.stored(c.value("J") * speed * speed / 2)
    c.delivered(torque * speed)


BLOWER = Part(
    id="blower",
    title="Blower",
    sentence="A fan whose torque grows with the square of its speed.",
    group="mechanics",
    keywords="fan air load quadratic",
    ports=(Port("shaft", Link.SHAFT, "Shaft", "left"),),
    values=(
        Value("M_n", "Torque at rated speed", "N·m", "2", low=0.0),
        Value("n_n", "Rated speed", "rpm", "3000", low=0.0, open_low=True),
        Value("J", "Moment of inertia", "kg·m²", "1e-3", low=0.0, open_low=True),
    ),
    states=(State("omega", "speed", "rad/s"),),
    signals=(
        Signal("speed", "speed", "rad/s"),
        Signal("torque", "torque", "N·m"),
        Signal("power", "power into the air", "W"),
    ),
    build=build,
    telling=lambda v, card: ("blower", v["M_n"]),
    main_signal="speed",
    spine="B",
)
