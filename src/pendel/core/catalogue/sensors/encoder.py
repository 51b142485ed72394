"""Incremental encoder: four edges a line; speed from the counts of one period, or from the time between
edges.

By timing, a capture unit notes when the last edge came, on its own clock: speed is the edges since the edge
noted before over the time between both. While none comes it falls as one edge over the time waited. Common
practice, no source."""

import math

from pendel.core.catalogue.declare import Block, Choice, Deck, Link, Port, Value
from pendel.core.catalogue.sensors.sensing import MODE
from pendel.core.vocabulary import SignalRole, ValueRole


def update(
    angle,
    position,
    speed,
    lines,
    clock,
    timed,
    wraps,
    count,
    last_angle,
    noted,
    waited,
    known,
    started,
    ideal,
    dt,
):
    """The counter begins again after ``wraps`` counts, where it has an end; what passes within a period is
    measured up to half of them."""
    edges = 4.0 * lines / 6.283185307179586
    counted = floor(angle * edges)
    if started < 0.5:
        count = counted
        noted = count
        last_angle = angle
        started = 1.0
    if ideal > 0.5:
        position = angle
        speed = (angle - last_angle) / dt
    else:
        passed = counted - count
        shown = counted
        if wraps > 0.5:
            passed = passed - wraps * floor(passed / wraps + 0.5)
            shown = counted - wraps * floor(counted / wraps + 0.5)
        position = shown / edges
        speed = passed / edges / dt
        if timed > 0.5:
            waited = waited + dt
            if absolute(counted - count) > 0.5:
                edge = counted if counted > count else counted + 1.0
                since = (angle - edge / edges) / (angle - last_angle) * dt
                since = floor(since * clock) / clock
                known = (edge - noted) / edges / (waited - since) if waited - since > 0.0 else 0.0
                noted = edge
                waited = since
            most = 1.0 / edges / maximum(waited, dt)
            speed = saturate(known, -most, most) if waited > dt else known
    count = counted
    last_angle = angle


KIND = Block(
    id="encoder",
    title="Incremental encoder",
    sentence="Counts the edges of a line disc; speed is the counts of one period, or from the time between edges.",
    group="sensor",
    keywords="speed position counting lines sensor measure",
    deck=Deck.SENSOR,
    ports=(
        Port("angle", Link.SIGNAL_IN, "Shaft angle", "top", "rad", role=SignalRole.SHAFT_ANGLE),
        Port("speed", Link.SIGNAL_OUT, "Speed", "bottom", "rad/s"),
        Port("position", Link.SIGNAL_OUT, "Position", "bottom", "rad"),
    ),
    choices=(
        MODE,
        Choice("speed_by", "Speed by", (("counting", "counting edges"), ("timing", "timing between edges"))),
    ),
    where_read_often={"speed_by": "timing"},
    smooth={"ideal": 1.0},
    values=(
        Value("lines", "Lines per turn", "", "512", low=1.0, high=10_000_000.0, whole=True),
        Value("clock", "Clock of the timing", "MHz", "10", low=0.0, open_low=True),
        Value("counter_bits", "Counter bits", "", "", low=2.0, high=32.0, whole=True),
        Value("every", "Every … ticks", "", "20", low=1.0, high=100000.0, whole=True, role=ValueRole.PERIODS),
    ),
    update=update,
    derive=lambda v, card, period: {
        "ideal": 1.0 if card.choices.get("mode") == "ideal" else 0.0,
        "timed": 1.0 if card.choices.get("speed_by") == "timing" else 0.0,
        "wraps": 0.0 if math.isnan(v["counter_bits"]) else 2.0 ** v["counter_bits"],
    },
    follows=lambda v, card: [],
    summary=lambda v, card: (
        f"{v['lines']} lines",
        "ideal" if card.choices.get("mode") == "ideal" else card.choices.get("speed_by", "counting"),
    ),
    shape=(
        (0, 0),
        (0.2, 0),
        (0.2, 0.25),
        (0.4, 0.25),
        (0.4, 0.5),
        (0.6, 0.5),
        (0.6, 0.75),
        (0.8, 0.75),
        (0.8, 1),
        (1, 1),
    ),
)
