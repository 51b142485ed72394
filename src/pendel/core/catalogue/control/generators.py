"""Sources of setpoints: step, ramp, sine, profile."""

from __future__ import annotations

import math

import numpy as np

from pendel.core.catalogue.control.ports import EVERY, gives
from pendel.core.catalogue.control.shapes import SINE
from pendel.core.catalogue.declare import ANY, Block, Corners, Value, Values
from pendel.core.drive.document import Card
from pendel.core.vocabulary import ValueRole


def update_constant(out, value, dt):
    out = value


def update_step(out, before, after, wait, wait_more, n, started, dt):
    """Jumps at the first tick at or after its time. Ticks are counted from below zero, so that the instant is
    exact in every number format after any time."""
    if started < 0.5:
        n = -wait
        n = n - wait_more
        started = 1.0
    out = after if n >= 0.0 else before
    n = n + 1.0


def update_ramp(out, before, after, wait, wait_more, early, duration, n, started, dt):
    """``early`` is by how much of a tick it begins before tick zero."""
    if started < 0.5:
        n = -wait
        n = n - wait_more
        started = 1.0
    share = saturate((n + early) * dt / duration, 0.0, 1.0)
    out = before + (after - before) * share
    n = n + 1.0


def update_sine(out, amplitude, mean, turn, turn_more, phase, theta, started, dt):
    """The angle is carried on and wrapped; ``turn`` and ``turn_more`` add up to its step."""
    if started < 0.5:
        theta = phase
        started = 1.0
    out = mean + amplitude * sin(theta)
    theta = theta + turn
    theta = theta + turn_more
    theta = wrapped(theta)


def update_profile(out, table, n, dt):
    """The table is over ticks, so that a corner on a tick is met in every number format."""
    out = interpolated(table, n)
    n = n + 1.0


def over_ticks(corners: Corners, period: float) -> Corners:
    """Corners by ticks instead of seconds, those that are a tick's but for rounding on it."""
    table = []
    for time, value in corners:
        ticks = min(time / period, NEVER)
        near = abs(ticks - round(ticks)) < max(SAME_TICK, 4e-15 * ticks)
        table.append((float(round(ticks)) if near else ticks, value))
    return tuple(table)


def in_two(name: str, number: float) -> dict[str, float]:
    """A value as two that 32-bit float holds: it, and what that rounds away."""
    number = max(-LARGEST, min(LARGEST, number))
    coarse = float(np.float32(number))
    return {name: coarse, f"{name}_more": number - coarse}


def waiting(v: Values, card: Card, period: float):
    """Ticks until the first at or after the start, and how long that is after it, in ticks."""
    ticks = min(v["t_0"] / period, NEVER)
    first = round(ticks) if abs(ticks - round(ticks)) < SAME_TICK else math.ceil(ticks)
    return {**in_two("wait", float(first)), "early": max(0.0, first - ticks)}


def start_counted_on(v: Values, begins: float):
    return {"t_0": v["t_0"] - begins}


def angle_counted_on(frequency: str, phase: str):
    """Where an angle is at the first tick, by the names of frequency and phase."""
    return lambda v, begins: {phase: v[phase] + 2.0 * math.pi * math.fmod(v[frequency] * begins, 1.0)}


def turning(frequency: str, phase: str):
    """The step of an angle, and where it begins, by the names of frequency and phase."""
    return lambda v, card, period: {
        **in_two("turn", 2.0 * math.pi * v[frequency] * period),
        "phase": v[phase],
    }


LARGEST, NEVER = 3e38, 1e15
"""What 32-bit float holds, and ticks that no run has."""
SAME_TICK = 1e-6
"""Of a tick: rounding of a time over the period."""
LEVELS = (
    Value("before", "Before", ANY, "0"),
    Value("after", "After", ANY, "1"),
    Value("t_0", "Starts at", "s", "0.1", role=ValueRole.BEGINS),
)
KINDS = (
    Block(
        id="constant",
        title="Constant",
        sentence="A value that stays.",
        group="setpoint",
        keywords="setpoint source generator fixed number",
        ports=(gives(),),
        values=(Value("value", "Value", ANY, "1"), EVERY),
        update=update_constant,
        stated_by=(("out", "value"),),
        summary=lambda v, card: (v["value"],),
        mark="1",
    ),
    Block(
        id="step",
        title="Step",
        sentence="Jumps from one value to another at a time.",
        group="setpoint",
        keywords="setpoint source generator jump",
        ports=(gives(),),
        values=(*LEVELS, EVERY),
        update=update_step,
        stated_by=(("out", "after"),),
        derive=waiting,
        from_first_tick=start_counted_on,
        summary=lambda v, card: (f"{v['before']} → {v['after']}", f"at {v['t_0']}"),
        shape=((0, 0), (0.35, 0), (0.35, 1), (1, 1)),
    ),
    Block(
        id="ramp",
        title="Ramp",
        sentence="Goes from one value to another within a time.",
        group="setpoint",
        keywords="setpoint source generator",
        ports=(gives(),),
        values=(*LEVELS, Value("duration", "Takes", "s", "0.5", low=0.0, open_low=True), EVERY),
        update=update_ramp,
        stated_by=(("out", "after"),),
        derive=waiting,
        from_first_tick=start_counted_on,
        summary=lambda v, card: (f"{v['before']} → {v['after']}", f"in {v['duration']}"),
        shape=((0, 0), (0.25, 0), (0.75, 1), (1, 1)),
    ),
    Block(
        id="sine",
        title="Sine",
        sentence="A sine of given amplitude and frequency.",
        group="setpoint",
        keywords="setpoint source generator wave",
        ports=(gives(),),
        values=(
            Value("amplitude", "Amplitude", ANY, "1"),
            Value("mean", "Mean value", ANY, "0"),
            Value("f", "Frequency", "Hz", "5", low=0.0, open_low=True),
            Value("angle", "Phase", "deg", "0"),
            EVERY,
        ),
        update=update_sine,
        stated_by=(("out", "amplitude"),),
        derive=turning("f", "angle"),
        from_first_tick=angle_counted_on("f", "angle"),
        summary=lambda v, card: (v["amplitude"], v["f"]),
        shape=SINE,
    ),
    Block(
        id="profile",
        title="Profile",
        sentence="A value over time, drawn with corners.",
        group="setpoint",
        keywords="setpoint source generator table curve",
        ports=(gives(),),
        values=(EVERY,),
        update=update_profile,
        profile_table=over_ticks,
        has_profile=("Value", ANY),
        summary=lambda v, card: (f"{len(card.profile)} corners",),
        shape=((0, 0), (0.3, 0.8), (0.6, 0.5), (1, 0.9)),
    ),
)
