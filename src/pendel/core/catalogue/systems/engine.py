"""A combustion engine by Willans' line: fuel in proportion to the torque at its pistons.

Fuel power P_f = M_i ω/η_i with M_i the torque of combustion, of which friction M_f takes its part: at the shaft
M = M_i − M_f, so that fuel over torque is a straight line that meets the axis at −M_f (Guzzella, Onder:
Introduction to Modeling and Control of Internal Combustion Engine Systems, section 2.5; from memory). It fires from a
speed on that something else turns it to, keeps itself at idle, and burns nothing where it is dragged."""

from __future__ import annotations

from collections.abc import Callable

import casadi as ca
import numpy as np

from pendel.core.catalogue.declare import Contradiction, Figure, Link, Part, Port, Signal, State, Value, Values
from pendel.core.catalogue.heat.port import heat_port
from pendel.core.catalogue.remarks.seen import Seen
from pendel.core.catalogue.settled import Burner, OfPlace
from pendel.core.drive.document import Card
from pendel.core.drive.findings import Remark
from pendel.core.equations.context import PartContext
from pendel.core.quantities.units import figure
from pendel.core.vocabulary import Group, SignalRole

FIRES_OVER = 0.2
"""Of the speed from which it fires: combustion comes up over this much below it."""
GIVES_WAY_OVER = 0.03
"""Of the top speed: beyond it, torque goes within this much."""
DROOP = 0.2
"""Of the idle speed: so far below it the idle governor gives all torque."""
STALLED = 1.0
"""s. An engine that is switched on and does not fire for longer is reported."""


def by_line(c: PartContext, speed: ca.SX, inside: ca.SX) -> ca.SX:
    """Fuel power over that at the pistons: Willans' line."""
    return 1 / c.value("eta_i")


def build(c: PartContext) -> None:
    state(c, by_line)


def state(c: PartContext, taken: Callable[[PartContext, ca.SX, ca.SX], ca.SX]) -> None:
    """The equations, with what of fuel is taken for a power at the pistons, by speed and torque there."""
    across, through = c.flange("shaft")
    speed, gain = c.state("omega")
    burning, change = c.state("M_i")
    fuel, burnt = c.state("fuel")
    on = ca.fmin(1, ca.fmax(0, c.input("on")))
    friction = c.dry_friction(speed, gain, sliding=c.value("M_f"), breakaway=c.value("M_f"))
    from_speed, idle = c.value("n_fire"), c.value("n_idle")
    fires = on * ca.fmin(1, ca.fmax(0, 1 + (speed - from_speed) / (FIRES_OVER * from_speed)))
    room = ca.fmin(1, ca.fmax(0, 1 - (speed / c.value("n_max") - 1) / GIVES_WAY_OVER))
    corner = c.value("P_max") / c.value("M_max")
    most = room * ca.fmin(c.value("M_max"), c.value("P_max") / ca.fmax(speed, corner))
    governor = c.value("M_max") * (idle - speed) / (DROOP * idle)
    wanted = ca.fmin(most, ca.fmax(c.input("torque"), governor))
    inside = fires * ca.fmax(0, wanted + c.value("M_f") * room)
    c.equation(c.value("T_lag") * change - (inside - burning))
    power = burning * speed * taken(c, speed, burning)
    c.equation(c.value("H_u") * burnt - power)
    c.equation(speed - across)
    c.equation(c.value("J") * gain - (through + burning - friction))
    loss = power - burning * speed + friction * speed
    c.signal("speed", speed)
    c.signal("torque", -through)
    c.signal("power", -through * speed)
    c.signal("fuel", fuel)
    c.signal("fuel_rate", power / c.value("H_u"))
    c.signal("fuel_power", power)
    c.signal("fires", fires)
    c.signal("most", most)
    c.signal("loss", loss)
    c.stored(c.value("J") * speed * speed / 2)
    c.supplied(power)
    c.lost(loss)


def most_torque(v: Values, card: Card, speed: np.ndarray) -> np.ndarray:
    """What it may give at speeds (rad/s) that it runs at."""
    return np.minimum(v["M_max"], v["P_max"] / np.maximum(speed, v["P_max"] / v["M_max"]))


def least_torque(v: Values, card: Card, speed: np.ndarray) -> np.ndarray:
    """What the idle governor gives at speeds (rad/s), whatever is asked."""
    governor = v["M_max"] * (v["n_idle"] - speed) / (DROOP * v["n_idle"])
    return np.clip(governor, 0.0, most_torque(v, card, speed))


def fuel_power(v: Values, card: Card, speed: np.ndarray, torque: np.ndarray) -> np.ndarray:
    """W at speeds (rad/s) and torques at the shaft (N·m)."""
    return (torque + v["M_f"]) * speed / v["eta_i"]


def settled(fuel: OfPlace) -> Burner:
    return Burner(
        fuel=fuel,
        least=least_torque,
        most=most_torque,
        slowest=lambda v: v["n_fire"],
        fastest=lambda v: v["n_max"],
        drag=lambda v: v["M_f"],
        heating=lambda v: v["H_u"],
    )


def does_not_fire(seen: Seen, key: str) -> Remark | None:
    """Switched on, but turned too slowly: it was never started, or it stalled."""
    run, card, values = seen.run, seen.drive.cards[key], seen.values[key]
    fires, speed = run.on_rows([f"{key}.fires", f"{key}.speed"], slice(None)).T
    source = seen.source(key, "on")
    if source is None:
        return None
    t = run.rows[:, 0]
    on = run.trace(f"{source.card}.{source.port}").at(t) > 0.5
    dead = on & (fires < 0.01)
    starts = np.flatnonzero(dead & ~np.concatenate([[False], dead[:-1]]))
    alive = np.append(np.flatnonzero(~dead), len(t) - 1)
    ends = alive[np.searchsorted(alive[:-1], starts)]  # of a day these are thousands
    for start, end in zip(starts, ends):
        if t[end] - t[start] > STALLED:
            before = "stalls" if start > 0 and fires[start - 1] > 0.01 else "is switched on but does not fire"
            needed = figure(values["n_fire"], "rpm")
            return Remark(
                f"{card.name} {before} at {figure(float(t[start]), 's', 4)}: it turns at "
                f"{figure(float(speed[start]), 'rpm', 3)}, and fires from {needed} on. Turn it up first, or ask "
                "for less torque of what it drives.",
                key,
                float(t[start]),
            )
    return None


def contradictions(v: Values, card: Card) -> list[Contradiction]:
    order = (("n_fire", "n_idle"), ("n_idle", "n_max"))
    words = {"n_fire": "speed from which it fires", "n_idle": "idle speed", "n_max": "top speed"}
    return [
        Contradiction(f"The {words[low]} is not below the {words[high]}. Change one of them.", low)
        for low, high in order
        if v[low] >= v[high]
    ]


def follows(v: Values, card: Card) -> list[Figure]:
    corner = v["P_max"] / v["M_max"]
    best = v["eta_i"] * v["M_max"] / (v["M_max"] + v["M_f"])
    return [
        Figure("Best efficiency", "η", best, "%"),
        Figure("at most up to", "n", corner, "rpm"),
        Figure("Fuel at idle", "", v["M_f"] * v["n_idle"] / v["eta_i"] / v["H_u"] * 3600, "kg"),
    ]


PORTS = (
    Port("shaft", Link.SHAFT, "Shaft", "right"),
    Port("torque", Link.SIGNAL_IN, "Torque that is asked", "bottom", role=SignalRole.SETPOINT, unit="N·m"),
    Port("on", Link.SIGNAL_IN, "On, above a half", "bottom"),
    heat_port(),
)
LIMITS = (
    Value("M_max", "Largest torque", "N·m", "90", low=0.0, open_low=True),
    Value("P_max", "Largest power", "kW", "30", low=0.0, open_low=True),
    Value("T_lag", "Lag of the torque", "ms", "150", low=0.0, open_low=True),
    Value("n_idle", "Idle speed", "rpm", "1000", low=0.0, open_low=True),
    Value("n_fire", "Fires from", "rpm", "500", low=0.0, open_low=True),
    Value("n_max", "Top speed", "rpm", "5000", low=0.0, open_low=True),
)
REST = (
    Value("M_f", "Friction", "N·m", "14", low=0.0),
    Value("H_u", "Heating value", "MJ/kg", "42.5", low=0.0, open_low=True),
    Value("J", "Moment of inertia", "kg·m²", "0.12", low=0.0, open_low=True),
)
STATES = (
    State("omega", "speed", "rad/s"),
    State("M_i", "torque of combustion", "N·m"),
    State("fuel", "fuel", "kg"),
)
SIGNALS = (
    Signal("speed", "speed", "rad/s", role=SignalRole.SPEED),
    Signal("torque", "torque", "N·m", role=SignalRole.TORQUE),
    Signal("power", "power at the shaft", "W"),
    Signal("fuel", "fuel burnt", "kg", role=SignalRole.FUEL),
    Signal("fuel_rate", "fuel by time", "g/s"),
    Signal("fuel_power", "power of the fuel", "W"),
    Signal("fires", "fires, 1: whole", ""),
    Signal("most", "torque that it may give", "N·m"),
    Signal("loss", "loss", "W"),
)
KIND = Part(
    id="engine",
    title="Combustion engine",
    sentence="Torque within its limits for fuel by a straight line, with friction, idle and a lag.",
    group=Group.MACHINE,
    keywords="combustion hybrid fuel willans diesel petrol gas generator range extender trip",
    ports=PORTS,
    values=(
        *LIMITS,
        Value("eta_i", "Efficiency inside", "%", "39", low=0.0, high=1.0, open_low=True),
        *REST,
    ),
    states=STATES,
    signals=SIGNALS,
    build=build,
    usual=(("power", "fuel_power"), ("speed",)),
    contradictions=contradictions,
    follows=follows,
    remarks=(does_not_fire,),
    summary=lambda v, card: (v["M_max"], v["P_max"]),
    main_signal="power",
    spine="E",
    settled=settled(fuel_power),
)
