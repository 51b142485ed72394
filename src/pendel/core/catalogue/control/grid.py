"""Phase-locked loops on a three-phase and on a single-phase grid.

Three phases: the voltage is turned into the frame of the estimated angle, whose PI regulator turns until the
part across is zero. One phase: a second-order integrator, tuned to the estimated frequency, makes the part a
quarter turn behind. Teodorescu, Liserre, Rodríguez: Grid Converters for Photovoltaic and Wind Power Systems,
sections 4.3 and 8.3 (from memory)."""

from __future__ import annotations

import math

from pendel.core.catalogue.control.ports import EVERY, gives, reads
from pendel.core.catalogue.declare import Block, Choice, Figure, Value, Values
from pendel.core.drive.document import Card


def update_three(a, b, c, angle, ahead, speed, amplitude, w_0, reach, K, T_i, lead, quarter, theta, integral, size, dt):
    """The error is the sine of the angle's error: the part across over the whole, never beyond 1. ``quarter`` puts the
    voltage along q. The integral ends with the range of frequencies, so that a grid that is away for long is found
    again."""
    x = 0.6666666666666666 * a - 0.3333333333333333 * (b + c)
    y = 0.5773502691896258 * (b - c)
    along = x * cos(theta) + y * sin(theta)
    across = y * cos(theta) - x * sin(theta)
    size = sqrt(x * x + y * y)
    amplitude = along
    error = saturate(across / maximum(size, 0.001), -1.0, 1.0)
    integral = integral + K * dt / T_i * error
    integral = saturate(integral, -reach * w_0, reach * w_0)
    speed = w_0 + integral + K * error
    angle = theta - quarter
    ahead = theta - quarter + lead * speed * dt
    theta = theta + speed * dt
    theta = wrapped(theta)


def update_one(
    u, angle, ahead, speed, amplitude, w_0, reach, K, T_i, k, lead, quarter, theta, integral, x, y, w, late, dt
):
    """x follows the voltage's fundamental and y the same a quarter turn behind. The trapezoidal rule takes
    the mean of this voltage and the one before, and a step of tan(w·dt/2) keeps the oscillator's
    frequency."""
    if w < 1.0:
        w = w_0
    h = 0.5 * dt * w
    h = h * (1.0 + 0.3333333333333333 * h * h)
    below = 1.0 + h * k + h * h
    e = x + h * (k * (u + late) - k * x - y)
    late = u
    f = y + h * x
    x = (e - h * f) / below
    y = f + h * x
    along = x * cos(theta) + y * sin(theta)
    across = y * cos(theta) - x * sin(theta)
    amplitude = along
    size = sqrt(x * x + y * y)
    error = saturate(across / maximum(size, 0.001), -1.0, 1.0)
    integral = integral + K * dt / T_i * error
    integral = saturate(integral, -reach * w_0, reach * w_0)
    speed = w_0 + integral + K * error
    w = w_0 + integral
    angle = theta - quarter
    ahead = theta - quarter + lead * speed * dt
    theta = theta + speed * dt
    theta = wrapped(theta)


def derive(v: Values, card: Card, period: float) -> dict[str, float]:
    """Gains of a loop 1/s with a PI at the wanted bandwidth and damping: K = 2·D·w, T_i = 2·D/w."""
    w = 2 * math.pi * v["f_b"]
    return {
        "w_0": 2 * math.pi * v["f_0"],
        "K": 2 * v["D"] * w,
        "T_i": 2 * v["D"] / w,
        "quarter": math.pi / 2 if card.choices.get("axis") == "q" else 0.0,
    }


def gains(v: Values, card: Card) -> list[Figure]:
    d = derive(v, card, 0.0)
    return [Figure("Gain", "K", d["K"], "rad/s"), Figure("Integral time", "T_i", d["T_i"], "s")]


AXIS = Choice("axis", "Voltage lies along", (("d", "d"), ("q", "q, as a machine's EMF")))
OUTPUTS = (
    gives("angle", "Angle", unit="rad"),
    gives("ahead", "Angle when the voltage acts", unit="rad"),
    gives("speed", "Angular frequency", unit="rad/s"),
    gives("amplitude", "Amplitude", unit="V"),
)
VALUES = (
    Value("f_0", "Grid frequency", "Hz", "50", low=0.0, open_low=True),
    Value("f_b", "Loop frequency", "Hz", "20", low=0.0, open_low=True),
    Value("D", "Damping", "", "0.707", low=0.0, open_low=True),
)
LEAD = Value("lead", "Ticks ahead", "", "1.5", low=0.0, high=10.0)


def off_by(default: str, high: float | None = None) -> Value:
    return Value("reach", "Frequency within ±", "%", default, low=0.0, open_low=True, high=high)


def loop(id, title, sentence, keywords, inputs, update, mark, values=()):
    return Block(
        id=id,
        title=title,
        sentence=sentence,
        group="transform",
        keywords="pll phase-locked loop grid mains synchronisation angle frequency " + keywords,
        ports=(*inputs, *OUTPUTS),
        values=(*VALUES, *values, LEAD, EVERY),
        choices=(AXIS,),
        turns=frozenset({"angle", "ahead"}),
        update=update,
        derive=derive,
        follows=gains,
        mark=mark,
        summary=lambda v, card: (v["f_0"], v["f_b"]),
    )


KINDS = (
    loop(
        "pll_3",
        "Phase-locked loop, three-phase",
        "Angle, frequency and amplitude of three voltages.",
        "three-phase",
        tuple(reads(n, f"Phase {n}", unit="V") for n in "abc"),
        update_three,
        "3~ ϑ",
        (off_by("200"),),
    ),
    loop(
        "pll_1",
        "Phase-locked loop, single-phase",
        "Angle, frequency and amplitude of one voltage.",
        "single-phase quadrature",
        (reads("u", "Voltage", unit="V"),),
        update_one,
        "~ ϑ",
        (off_by("50", high=0.9), Value("k", "Filter's gain", "", "1.414", low=0.0, open_low=True)),
    ),
)
