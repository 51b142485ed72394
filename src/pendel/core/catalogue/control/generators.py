"""Sources of setpoints: step, ramp, sine, profile."""

import math

from pendel.core.catalogue.control.ports import EVERY, gives
from pendel.core.catalogue.declare import ANY, Block, Value


def update_constant(out, value, dt):
    out = value


def update_step(out, before, after, t_0, n, dt):
    """Jumps at the tick nearest to t_0, in every number format."""
    out = after if n * dt >= t_0 - 0.5 * dt else before
    n = n + 1.0


def update_ramp(out, before, after, t_0, duration, n, dt):
    share = saturate((n * dt - t_0) / duration, 0.0, 1.0)
    out = before + (after - before) * share
    n = n + 1.0


def update_sine(out, amplitude, mean, omega, phase, angle, started, dt):
    """The angle is carried on and wrapped: a count of ticks would stand still after 2^24 of them in 32-bit float."""
    if started < 0.5:
        angle = phase
        started = 1.0
    out = mean + amplitude * sin(angle)
    angle = angle + omega * dt
    if angle > 6.283185307179586:
        angle = angle - 6.283185307179586


def update_profile(out, table, n, dt):
    out = interpolated(table, n * dt)
    n = n + 1.0


LEVELS = (
    Value("before", "Before", ANY, "0"),
    Value("after", "After", ANY, "1"),
    Value("t_0", "Starts at", "s", "0.1"),
)
KINDS = (
    Block(
        id="constant", title="Constant", sentence="A value that stays.", group="setpoint", keywords="setpoint source generator fixed number",
        ports=(gives(),), values=(Value("value", "Value", ANY, "1"), EVERY), update=update_constant, telling=lambda v, card: (v["value"],),
    ),
    Block(
        id="step", title="Step", sentence="Jumps from one value to another at a time.", group="setpoint", keywords="setpoint source generator jump",
        ports=(gives(),), values=(*LEVELS, EVERY), update=update_step, telling=lambda v, card: (f"{v['before']} → {v['after']}", f"at {v['t_0']}"),
    ),
    Block(
        id="ramp", title="Ramp", sentence="Goes from one value to another within a time.", group="setpoint", keywords="setpoint source generator",
        ports=(gives(),), values=(*LEVELS, Value("duration", "Takes", "s", "0.5", low=0.0, open_low=True), EVERY), update=update_ramp,
        telling=lambda v, card: (f"{v['before']} → {v['after']}", f"in {v['duration']}"),
    ),
    Block(
        id="sine", title="Sine", sentence="A sine of given amplitude and frequency.", group="setpoint", keywords="setpoint source generator wave",
        ports=(gives(),),
        values=(Value("amplitude", "Amplitude", ANY, "1"), Value("mean", "Mean value", ANY, "0"), Value("f", "Frequency", "Hz", "5", low=0.0, open_low=True),
                Value("angle", "Phase", "deg", "0"), EVERY),
        update=update_sine, derive=lambda v, card, period: {"omega": 2.0 * math.pi * v["f"], "phase": v["angle"]},
        telling=lambda v, card: (v["amplitude"], v["f"]),
    ),
    Block(
        id="profile", title="Profile", sentence="A value over time, drawn with corners.", group="setpoint", keywords="setpoint source generator table curve",
        ports=(gives(),), values=(EVERY,), update=update_profile, has_profile=("Value", ANY),
        telling=lambda v, card: (f"{len(card.profile)} corners",),
    ),
)  # fmt: skip
