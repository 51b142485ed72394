"""Three Hall sensors on the stator, 120 electrical degrees apart.

Sensor a is on while the electrical angle lies between 30° and 210°, so that its edges meet the ends of the
flat EMF: common practice, no source.
"""

from __future__ import annotations

from pendel.core.catalogue.declare import Block, Choice, Deck, Link, Port, Value, Values
from pendel.core.catalogue.sensors.sensing import MODE
from pendel.core.drive.document import Card
from pendel.core.vocabulary import SignalRole, ValueRole


def update(angle, h_a, h_b, h_c, p, turned, off_a, off_b, off_c, first, second, dt):
    """``first`` and ``second`` tell which sensor's line comes out at a and b: 0, 1 or 2."""
    at = p * angle - turned - 0.5235987755982988
    s_a = 1.0 if sin(at - off_a) >= 0.0 else 0.0
    s_b = 1.0 if sin(at - off_b - 2.0943951023931953) >= 0.0 else 0.0
    s_c = 1.0 if sin(at - off_c - 4.1887902047863905) >= 0.0 else 0.0
    h_a = s_a if first < 0.5 else (s_b if first < 1.5 else s_c)
    h_b = s_a if second < 0.5 else (s_b if second < 1.5 else s_c)
    h_c = s_a + s_b + s_c - h_a - h_b


ORDERS = ("abc", "acb", "bac", "bca", "cab", "cba")
LETTERS = "abc"


def derive(v: Values, card: Card, period: float) -> dict[str, float]:
    order = card.choices.get("order", ORDERS[0])
    ideal = card.choices.get("mode") == "ideal"
    errors = dict.fromkeys(("turned", "off_a", "off_b", "off_c"), 0.0) if ideal else {}
    lines = ORDERS[0] if ideal else order
    return {**errors, "first": float(LETTERS.index(lines[0])), "second": float(LETTERS.index(lines[1]))}


KIND = Block(
    id="hall_sensors",
    title="Hall sensors",
    sentence="Three switches that tell the rotor's sector, with their errors of place and wiring.",
    group="sensor",
    keywords="hall sector block commutation bldc position measure order swapped",
    deck=Deck.SENSOR,
    ports=(
        Port("angle", Link.SIGNAL_IN, "Shaft angle", "top", "rad", role=SignalRole.SHAFT_ANGLE),
        *(Port(f"h_{n}", Link.SIGNAL_OUT, f"Sensor {n}", "bottom", "", role=SignalRole.HALL_LINE) for n in LETTERS),
    ),
    choices=(MODE, Choice("order", "Lines come out as", tuple((o, " ".join(o)) for o in ORDERS))),
    values=(
        Value("p", "Pole pairs", "", "4", low=1.0, whole=True, role=ValueRole.POLE_PAIRS),
        Value("turned", "All turned by, el.", "deg", "0"),
        *(Value(f"off_{n}", f"Sensor {n} off by, el.", "deg", "0") for n in LETTERS),
        Value("every", "Every … ticks", "", "1", low=1.0, high=100000.0, whole=True, role=ValueRole.PERIODS),
    ),
    update=update,
    derive=derive,
    summary=lambda v, card: (f"{v['p']} pole pairs", f"lines {card.choices.get('order', ORDERS[0])}"),
    mark="H",
)
