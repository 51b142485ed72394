"""Loads and test-bench drives with a profile over time. A positive load brakes positive movement."""

from __future__ import annotations

from typing import Any

import casadi as ca

from pendel.core.catalogue.declare import Choice, Link, Part, Port, Signal, Value
from pendel.core.drive.document import Card
from pendel.core.drive.findings import Finding, attention
from pendel.core.equations.context import PartContext
from pendel.core.quantities.units import number_text
from pendel.core.vocabulary import SignalRole

ACTS = Choice("acts", "Acts as", (("rubs", "rubbing: brakes whatever moves"), ("pulls", "pulling: one direction")))


def build_load(c: PartContext) -> None:
    speed, through = c.flange("a")
    level = c.profile()
    if c.choice("acts") == "pulls":
        load = level
        c.equation(through - load)
    else:
        w, dw = c.state("w", helper=True)
        load = c.dry_friction(w, dw, sliding=level, breakaway=level)
        c.equation(w - speed)
        c.equation(through - load)
    c.signal("load", load)
    c.signal("level", level)
    c.signal("power", load * speed)
    c.delivered(load * speed)


def build_air(c: PartContext) -> None:
    """M = M_n·ω·|ω|/ω_n²: drag in turbulent flow."""
    speed, through = c.flange("a")
    load = c.value("M_n") * speed * ca.fabs(speed) / c.value("w_n") ** 2
    c.equation(through - load)
    c.signal("load", load)
    c.signal("speed", speed)
    c.signal("power", load * speed)
    c.delivered(load * speed)


def build_imposed_speed(c: PartContext) -> None:
    speed, through = c.flange("a")
    wanted = c.profile()
    c.equation(speed - wanted)
    c.signal("speed", wanted)
    c.signal("torque", -through)
    c.signal("power", -through * wanted)
    c.supplied(-through * wanted)


def build_imposed_torque(c: PartContext) -> None:
    speed, through = c.flange("a")
    wanted = c.profile()
    c.equation(through + wanted)
    c.signal("torque", wanted)
    c.signal("speed", speed)
    c.signal("power", wanted * speed)
    c.supplied(wanted * speed)


def load_signals(word: str, unit: str) -> tuple[Signal, ...]:
    return (
        Signal("load", f"load {word}", unit, role=SignalRole.LOAD),
        Signal("level", "profile", unit, role=SignalRole.LOAD_LEVEL),
        Signal("power", "power", "W"),
    )


LOAD_FORCE = Part(
    id="load_force",
    title="Load force",
    sentence="A force over time that rubs on, or pulls at, a moving mass.",
    group="load",
    keywords="rubbing profile disturbance brake",
    ports=(Port("a", Link.ROD, "Rod", "left"),),
    choices=(ACTS,),
    signals=load_signals("force", "N"),
    build=build_load,
    has_profile=("Force", "N"),
    summary=lambda v, card: ("load force", "rubs" if card.choices.get("acts", "rubs") == "rubs" else "pulls"),
    main_signal="load",
    spine="↯",
)

LOAD_TORQUE = Part(
    id="load_torque",
    title="Load torque",
    sentence="A torque over time that brakes, or pulls at, a shaft.",
    group="load",
    keywords="profile disturbance brake",
    ports=(Port("a", Link.SHAFT, "Shaft", "left"),),
    choices=(ACTS,),
    signals=load_signals("torque", "N·m"),
    build=build_load,
    has_profile=("Torque", "N·m"),
    summary=lambda v, card: (
        "load torque",
        "rubs" if card.choices.get("acts", "rubs") == "rubs" else "pulls",
    ),
    main_signal="load",
    spine="↯",
)

AIR_LOAD = Part(
    id="air_load",
    title="Air load",
    sentence="A torque that grows with the square of the speed, as of a fan.",
    group="load",
    keywords="fan pump blower drag quadratic square turbulent",
    ports=(Port("a", Link.SHAFT, "Shaft", "left"),),
    values=(
        Value("M_n", "Torque", "N·m", "0.1", low=0.0),
        Value("w_n", "at the speed", "rpm", "3000", low=0.0, open_low=True),
    ),
    signals=(
        Signal("load", "load torque", "N·m", role=SignalRole.LOAD),
        Signal("speed", "speed", "rad/s", role=SignalRole.SPEED),
        Signal("power", "power", "W"),
    ),
    build=build_air,
    summary=lambda v, card: (f"{v['M_n']} at {v['w_n']}",),
    main_signal="load",
    spine="↯",
)


def jumps(card: Card, key: str, examined: Any) -> list[Finding]:
    """An imposed speed that jumps needs infinite torque, which no run can show."""
    times, levels = examined.profiles.get(key, ([], []))
    return [
        attention(
            f"{card.name} jumps at {number_text(times[n])} s: whatever inertia is on the shaft jumps with "
            "it, and the torque of the jump is not shown. "
            "Give the jump a slope, such as 1 ms.",
            key,
            f"profile:{n}",
        )
        for n in range(1, len(times))
        if times[n] == times[n - 1] and levels[n] != levels[n - 1]
    ]


IMPOSED_SPEED = Part(
    id="imposed_speed",
    title="Imposed speed",
    sentence="A test bench that holds a shaft at a given speed over time, whatever the torque.",
    group="load",
    keywords="test bench dynamometer profile",
    ports=(Port("a", Link.SHAFT, "Shaft", "left"),),
    signals=(
        Signal("speed", "speed", "rad/s", role=SignalRole.SPEED),
        Signal("torque", "torque", "N·m", role=SignalRole.TORQUE),
        Signal("power", "power", "W"),
    ),
    build=build_imposed_speed,
    rules=(jumps,),
    has_profile=("Speed", "rad/s"),
    first_profile=(("0 s", "0"), ("0.5 s", "0"), ("0.6 s", "1")),
    summary=lambda v, card: ("imposed speed",),
    main_signal="speed",
    spine="→",
)

IMPOSED_TORQUE = Part(
    id="imposed_torque",
    title="Imposed torque",
    sentence="Drives a shaft with a given torque over time.",
    group="load",
    keywords="test bench profile drive",
    ports=(Port("a", Link.SHAFT, "Shaft", "left"),),
    signals=(
        Signal("torque", "torque", "N·m", role=SignalRole.TORQUE),
        Signal("speed", "speed", "rad/s", role=SignalRole.SPEED),
        Signal("power", "power", "W"),
    ),
    build=build_imposed_torque,
    has_profile=("Torque", "N·m"),
    summary=lambda v, card: ("imposed torque",),
    main_signal="torque",
    spine="→",
)

KINDS = (LOAD_FORCE, LOAD_TORQUE, AIR_LOAD, IMPOSED_SPEED, IMPOSED_TORQUE)
