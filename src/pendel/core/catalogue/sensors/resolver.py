"""A resolver with its converter: a tracking loop of second order follows the angle, and steps of its word remain.

The converter turns its own angle until the sine of what is missing is zero: with w_0 its bandwidth and e the error, its
speed gains w_0**2*e, its angle 2*D*w_0*e more than the speed (a phase-locked loop; Gardner: Phaselock Techniques,
chapter 2; D = 1/sqrt(2): common practice, no source). At constant speed it lags by nothing, under an acceleration a by
a/w_0**2. The angle that is given goes on beyond a turn."""

from __future__ import annotations

import math

from pendel.core.catalogue.control.shapes import LAG
from pendel.core.catalogue.declare import Block, Deck, Link, Port, Value, Values
from pendel.core.catalogue.sensors.sensing import MODE
from pendel.core.drive.document import Card
from pendel.core.vocabulary import SignalRole, ValueRole


def update(angle, position, speed, p, ripple, step, push, slew, shown, turning, started, ideal, dt):
    """``push`` and ``slew`` are shares of the error that angle and speed take in a period. The ripple is an error that
    repeats twice an electrical turn."""
    seen = angle + ripple * sin(2.0 * p * angle)
    if started < 0.5:
        shown = seen
        started = 1.0
    ahead = shown + turning * dt
    error = sin(p * (seen - ahead)) / p if ideal < 0.5 else seen - ahead
    shown = ahead + push * error
    turning = turning + slew * error / dt
    position = step * floor(shown / step + 0.5) if step > 0.0 else shown
    speed = turning


def derive(v: Values, card: Card, period: float) -> dict[str, float]:
    """Shares that give the sampled loop the poles of the continuous one, r*exp(+-j*turn): 1 - r**2 for the angle and
    1 + r**2 - 2*r*cos(turn) for the speed (an alpha-beta filter; Benedict, Bordner: IRE Trans. AC-7 (1962) 27, from
    memory). An ideal one follows at once."""
    ideal = card.choices.get("mode", "ideal") == "ideal"
    w = math.sqrt(2.0) * math.pi * v["bandwidth"] * period
    radius = 0.0 if ideal else math.exp(-w)
    return {
        "step": 0.0 if ideal else 2.0 * math.pi / v["p"] / 2.0 ** v["bits"],
        "push": 1.0 - radius * radius,
        "slew": 1.0 + radius * radius - 2.0 * radius * math.cos(w),
        "ideal": 1.0 if ideal else 0.0,
        **({"ripple": 0.0} if ideal else {}),
    }


KIND = Block(
    id="resolver",
    title="Resolver",
    sentence="Gives angle and speed by a tracking converter with a bandwidth, a word and an error of its windings.",
    group="sensor",
    keywords="resolver position angle speed rdc tracking sine cosine measure",
    deck=Deck.SENSOR,
    shape=LAG,
    ports=(
        Port("angle", Link.SIGNAL_IN, "Shaft angle", "top", "rad", role=SignalRole.SHAFT_ANGLE),
        Port("position", Link.SIGNAL_OUT, "Position", "bottom", "rad"),
        Port("speed", Link.SIGNAL_OUT, "Speed", "bottom", "rad/s"),
    ),
    choices=(MODE,),
    values=(
        Value("p", "Pole pairs of the resolver", "", "1", low=1.0, whole=True),
        Value("bandwidth", "Bandwidth", "kHz", "1", low=0.0, open_low=True),
        Value("bits", "Bits of a turn", "", "12", low=4.0, high=24.0, whole=True),
        Value("ripple", "Error of the windings", "deg", "0", low=0.0, high=math.radians(10)),
        Value("every", "Every … ticks", "", "1", low=1.0, high=100000.0, whole=True, role=ValueRole.PERIODS),
    ),
    update=update,
    smooth={"started": 1.0, "step": 0.0},
    derive=derive,
    summary=lambda v, card: ("ideal",) if card.choices.get("mode") == "ideal" else (f"{v['bandwidth']}",),
)
