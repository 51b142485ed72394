"""Incremental encoder, counting: four edges a line, speed from the counts of one period."""

from pendel.core.catalogue.declare import Block, Deck, Link, Port, Value
from pendel.core.catalogue.sensors.sensing import MODE


def update(angle, position, speed, lines, count, last_angle, started, ideal, dt):
    edges = 4.0 * lines / 6.283185307179586
    counted = floor(angle * edges)
    if started < 0.5:
        count = counted
        last_angle = angle
        started = 1.0
    if ideal > 0.5:
        position = angle
        speed = (angle - last_angle) / dt
    else:
        position = counted / edges
        speed = (counted - count) / edges / dt
    count = counted
    last_angle = angle


KIND = Block(
    id="encoder",
    title="Incremental encoder",
    sentence="Counts the edges of a line disc; speed is the counts of one period.",
    group="sensor",
    keywords="speed position counting lines sensor measure",
    deck=Deck.SENSOR,
    ports=(
        Port("angle", Link.SIGNAL_IN, "Shaft angle", "top", "rad"),
        Port("speed", Link.SIGNAL_OUT, "Speed", "bottom", "rad/s"),
        Port("position", Link.SIGNAL_OUT, "Position", "bottom", "rad"),
    ),
    choices=(MODE,),
    values=(
        Value("lines", "Lines per turn", "", "512", low=1.0, high=10_000_000.0, whole=True),
        Value("every", "Every … ticks", "", "20", low=1.0, high=100000.0, whole=True),
    ),
    update=update,
    derive=lambda v, card, period: {"ideal": 1.0 if card.choices.get("mode") == "ideal" else 0.0},
    follows=lambda v, card: [],
    telling=lambda v, card: (
        f"{v['lines']} lines",
        "ideal" if card.choices.get("mode") == "ideal" else "counting",
    ),
)
