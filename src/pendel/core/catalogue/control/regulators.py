"""P, PI and PID regulators with limits and anti-windup.

PI: u = K_p·(e + ∫e dt / T_i). PID adds a derivative filtered by T_f. Integration stops while the output is at
a limit and the error drives it further out (conditional integration; Åström, Hägglund: Advanced PID Control,
section 3.5). The integral uses backward differences, so that T_i acts within the same tick.
"""

from __future__ import annotations

from pendel.core.catalogue.control.ports import EVERY, LIMITS, gives, limits_cross, reads
from pendel.core.catalogue.control.shapes import STEP
from pendel.core.catalogue.declare import ANY, Block, Choice, Value, Values
from pendel.core.controllers.deck import Regulation
from pendel.core.drive.document import Card
from pendel.core.vocabulary import SignalRole, ValueRole


def update_p(setpoint, actual, feedforward, out, K_p, low, high, closed, open_output, dt):
    unlimited = K_p * (setpoint - actual) + feedforward
    if closed < 0.5:
        unlimited = open_output
    out = saturate(unlimited, low, high)


def update_pi(setpoint, actual, feedforward, out, K_p, T_i, low, high, closed, open_output, integral, dt):
    e = setpoint - actual
    step = K_p * e * dt / T_i
    unlimited = K_p * e + (integral + step) + feedforward
    out = saturate(unlimited, low, high)
    if not ((unlimited > high and e > 0.0) or (unlimited < low and e < 0.0)):
        integral = integral + step
        integral = saturate(integral, low, high)
    if closed < 0.5:
        integral = 0.0
        out = saturate(open_output, low, high)


def update_pid(
    setpoint,
    actual,
    feedforward,
    out,
    K_p,
    T_i,
    T_d,
    T_f,
    low,
    high,
    closed,
    open_output,
    integral,
    slope,
    last_e,
    started,
    dt,
):
    e = setpoint - actual
    if started < 0.5:
        last_e = e
        started = 1.0
    slope = (T_f * slope + K_p * T_d * (e - last_e)) / (T_f + dt)
    last_e = e
    step = K_p * e * dt / T_i
    unlimited = K_p * e + (integral + step) + slope + feedforward
    out = saturate(unlimited, low, high)
    if not ((unlimited > high and e > 0.0) or (unlimited < low and e < 0.0)):
        integral = integral + step
        integral = saturate(integral, low, high)
    if closed < 0.5:
        integral = 0.0
        slope = 0.0
        out = saturate(open_output, low, high)


LOOP = Choice("loop", "Loop", (("closed", "closed"), ("open", "open: gives the held output")))
PORTS = (
    reads("setpoint", "Setpoint", role=SignalRole.SETPOINT),
    reads("actual", "Actual value", role=SignalRole.ACTUAL),
    reads("feedforward", "Feed-forward", side="top", required=False),
    gives(),
)
GAIN = Value("K_p", "Gain", ANY, "1", role=ValueRole.GAIN)
INTEGRAL = Value("T_i", "Integral time", "ms", "10", low=0.0, open_low=True)
CLOSED, INTEGRATES = "closed", "integral"
"""Value of an update that says whether the loop is closed, and what it remembers of the error."""
HELD = Value("open_output", "When open", ANY, "0")


def closed(v: Values, card: Card, period: float):
    return {CLOSED: 0.0 if card.choices.get("loop") == "open" else 1.0}


def regulator(id, title, sentence, update, values, summary, shape):
    return Block(
        id=id,
        title=title,
        sentence=sentence,
        group="regulator",
        keywords="controller loop current speed position gain " + id,
        ports=PORTS,
        choices=(LOOP,),
        opens=LOOP.name,
        shape=shape,
        values=(GAIN, *values, *LIMITS, HELD, EVERY),
        update=update,
        derive=closed,
        gain=("K_p", "actual"),
        passes_unit=False,
        alike=(("setpoint", "actual"),),
        contradictions=limits_cross,
        regulates=(Regulation(gains={n: n for n in ("K_p", "T_i", "T_d") if n in ("K_p", *(v.name for v in values))}),),
        summary=lambda v, card: (
            ("open",) if card.choices.get("loop") == "open" else (" / ".join(v[n] for n in summary),)
        ),
    )


DERIVATIVE = (
    Value("T_d", "Derivative time", "ms", "1", low=0.0),
    Value("T_f", "Derivative filter", "ms", "0.2", low=0.0),
)
KINDS = (
    regulator(
        "p",
        "P regulator",
        "Output follows the error by a gain, with limits.",
        update_p,
        (),
        ("K_p",),
        shape=STEP,
    ),
    regulator(
        "pi",
        "PI regulator",
        "Gain and integral of the error, with limits and anti-windup.",
        update_pi,
        (INTEGRAL,),
        ("K_p", "T_i"),
        shape=((0, 0), (0, 0.35), (1, 1)),
    ),
    regulator(
        "pid",
        "PID regulator",
        "Gain, integral and filtered derivative, with limits and anti-windup.",
        update_pid,
        (INTEGRAL, *DERIVATIVE),
        ("K_p", "T_i", "T_d"),
        shape=((0, 0), (0, 1), (0.08, 0.35), (1, 0.95)),
    ),
)
