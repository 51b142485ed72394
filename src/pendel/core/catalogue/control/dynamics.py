"""Integrator, PT1, derivative, slew limiter and delay."""

import math

from pendel.core.catalogue.control.ports import EVERY, LIMITS, LONGEST, gives, limits_cross, reads
from pendel.core.catalogue.control.shapes import LAG
from pendel.core.catalogue.declare import ANY, Block, Value
from pendel.core.vocabulary import ValueRole


def update_integrator(x, out, K_i, low, high, start, total, started, dt):
    """Forward sum: the input acts at the next tick, so that it may stand in a loop."""
    if started < 0.5:
        total = start
        started = 1.0
    out = total
    total = total + K_i * dt * x
    total = saturate(total, low, high)


def update_pt1(x, out, K, share, level, dt):
    """Exact for an input that is constant within a tick: share = 1 − exp(−dt/T)."""
    level = level + share * (K * x - level)
    out = level


def update_derivative(x, out, K_D, share, level, started, dt):
    """K_D·s/(1 + T·s), sampled so that a ramp has its slope at any T: share = 1 − exp(−dt/T). It begins at the
    first input, so that a signal that stands has no slope."""
    if started < 0.5:
        level = x
        started = 1.0
    out = K_D * share / dt * (x - level)
    level = level + share * (x - level)


def update_slew(x, out, rise, fall, level, dt):
    level = saturate(x, level - fall * dt, level + rise * dt)
    out = level


def update_delay(x, out, line, ticks, dt):
    out = recalled(line, ticks)
    remember(line, x)


def block(id, title, sentence, keywords, values, update, **more):
    return Block(
        id=id,
        title=title,
        sentence=sentence,
        group="dynamics",
        keywords=keywords,
        ports=(reads("x", "Input"), gives()),
        values=(*values, EVERY),
        update=update,
        **more,
    )


KINDS = (
    block(
        "integrator",
        "Integrator",
        "Sums its input over time, between limits.",
        "integral sum",
        (
            Value("K_i", "Gain", ANY, "1", role=ValueRole.GAIN),
            *LIMITS,
            Value("start", "Starts from", ANY, "0"),
        ),
        update_integrator,
        gain=("K_i", "x"),
        integrates=True,
        passes_unit=False,
        holds=frozenset({"x"}),
        contradictions=limits_cross,
        summary=lambda v, card: (v["K_i"],),
        shape=((0, 0), (1, 1)),
    ),
    block(
        "pt1",
        "PT1",
        "First-order lag.",
        "lag filter low-pass lowpass smoothing",
        (
            Value("K", "Gain", ANY, "1", role=ValueRole.GAIN),
            Value("T", "Time constant", "ms", "2", low=0.0, open_low=True),
        ),
        update_pt1,
        gain=("K", "x"),
        derive=lambda v, card, period: {"share": -math.expm1(-period / v["T"])},
        summary=lambda v, card: (v["T"],),
        shape=LAG,
    ),
    block(
        "derivative",
        "Derivative",
        "The slope of a signal, smoothed by a lag.",
        "differentiate d term dt1 slope rate",
        (
            Value("K_D", "Gain", ANY, "1", role=ValueRole.GAIN),
            Value("T", "Time constant", "ms", "2", low=0.0, open_low=True),
        ),
        update_derivative,
        passes_unit=False,
        derive=lambda v, card, period: {"share": -math.expm1(-period / v["T"])},
        summary=lambda v, card: (v["T"],),
        shape=((0, 0), (0.1, 0), (0.1, 1), (0.3, 0.4), (0.6, 0.1), (1, 0)),
    ),
    block(
        "slew_limiter",
        "Slew limiter",
        "Limits how fast a signal may rise and fall.",
        "rate limit ramp",
        (
            Value("rise", "Rise per second", ANY, "10", low=0.0, open_low=True, rate=True),
            Value("fall", "Fall per second", ANY, "10", low=0.0, open_low=True, rate=True),
        ),
        update_slew,
        bounds={"level": "x", "out": "x"},  # it goes towards the input, and never beyond
        summary=lambda v, card: (f"{v['rise']} a second",),
        shape=((0, 0), (0.8, 1), (1, 1)),
    ),
    block(
        "delay",
        "Delay",
        "Gives its input some periods later.",
        "dead time memory previous",
        (Value("ticks", "Periods", "", "1", low=1.0, high=float(LONGEST), whole=True),),
        update_delay,
        holds=frozenset({"x"}),
        summary=lambda v, card: (f"{v['ticks']} periods",),
        shape=((0, 0), (0.45, 0), (0.45, 1), (1, 1)),
    ),
)
