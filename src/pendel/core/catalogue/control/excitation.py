"""Sources that excite a loop or a plant over a band of frequencies: a sine that sweeps, and noise."""

from __future__ import annotations

import math

from pendel.core.catalogue.control.ports import EVERY, gives
from pendel.core.catalogue.declare import ANY, Block, Choice, Deck, Figure, Value, Values
from pendel.core.drive.document import Card


def update_sweep(out, amplitude, mean, first, grow, more, ticks, n, f, theta, started, dt):
    """The frequency holds for a tick, at what it should be in its middle, so that the angle is right at each tick. It
    begins again after the last one; the angle goes on without a jump."""
    if started < 0.5:
        f = first
        started = 1.0
    out = mean + amplitude * sin(theta)
    theta = wrapped(theta + 6.283185307179586 * dt * f)
    n = n + 1.0
    if n >= ticks:
        n = 0.0
        f = first
    else:
        f = f + (grow * f + more)


def sweeping(v: Values, card: Card, period: float) -> dict[str, float]:
    """What the frequency grows by from tick to tick, and what it is in the middle of the first."""
    ticks = max(1.0, float(round(v["duration"] / period)))
    if card.choices.get("way") == "in even steps":
        more = (v["f_1"] - v["f_0"]) / ticks
        return {"ticks": ticks, "grow": 0.0, "more": more, "first": v["f_0"] + 0.5 * more}
    step = math.log(v["f_1"] / v["f_0"]) / ticks
    return {"ticks": ticks, "grow": math.expm1(step), "more": 0.0, "first": v["f_0"] * math.exp(0.5 * step)}


def update_noise(out, mean, rms, rng, dt):
    """Normal, each tick's value independent of those before."""
    out = mean + rms * normal(rng)


def band(v: Values, card: Card) -> list[Figure]:
    return [Figure("Octaves", "", abs(math.log2(v["f_1"] / v["f_0"])), "")]


KINDS = (
    Block(
        id="swept_sine",
        title="Swept sine",
        sentence="A sine whose frequency goes from one to another within a time, again and again.",
        group="setpoint",
        keywords="setpoint source generator chirp sweep excitation identification frequency response",
        ports=(gives(),),
        choices=(
            Choice("way", "Frequency goes", (("in equal ratios", "in equal ratios"), ("in even steps", "evenly"))),
        ),
        values=(
            Value("amplitude", "Amplitude", ANY, "1"),
            Value("mean", "Mean value", ANY, "0"),
            Value("f_0", "Frequency from", "Hz", "1", low=0.0, open_low=True),
            Value("f_1", "Frequency to", "Hz", "100", low=0.0, open_low=True),
            Value("duration", "Takes", "s", "1", low=0.0, open_low=True),
            EVERY,
        ),
        update=update_sweep,
        bounds={"n": "ticks", "f": "f_0 + f_1"},
        stated_by=(("out", "amplitude"),),
        derive=sweeping,
        follows=band,
        summary=lambda v, card: (v["amplitude"], f"{v['f_0']} → {v['f_1']}"),
        shape=tuple((x / 60, 0.5 - 0.5 * math.sin(18.0 * (x / 60) ** 2)) for x in range(61)),
    ),
    Block(
        id="noise",
        title="Noise",
        sentence="Normal noise of a given rms value, a new number at each of its ticks.",
        group="setpoint",
        keywords="setpoint source generator random white gaussian excitation disturbance",
        deck=Deck.SENSOR,
        ports=(gives(),),
        values=(
            Value("rms", "Rms value", ANY, "1", low=0.0),
            Value("mean", "Mean value", ANY, "0"),
            EVERY,
        ),
        update=update_noise,
        stated_by=(("out", "rms"),),
        summary=lambda v, card: (v["rms"],),
        shape=tuple(
            (x / 24, y)
            for x, y in enumerate(
                (0.5, 0.3, 0.62, 0.45, 0.8, 0.35, 0.55, 0.2, 0.6, 0.7, 0.4, 0.5, 0.9)
                + (0.3, 0.48, 0.66, 0.25, 0.58, 0.42, 0.74, 0.36, 0.52, 0.1, 0.6, 0.5)
            )
        ),
    ),
)
