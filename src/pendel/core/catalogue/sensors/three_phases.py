"""Current sensors in three phases as one card: common gain, bandwidth, noise and converter, an offset for each."""

from __future__ import annotations

from pendel.core.catalogue.control.shapes import LAG
from pendel.core.catalogue.declare import Block, Deck, Link, Port, Value, Values
from pendel.core.catalogue.sensors import sensing
from pendel.core.drive.document import Card
from pendel.core.vocabulary import ValueRole


def update(
    i_a,
    i_b,
    i_c,
    a,
    b,
    c,
    gain_error,
    offset_a,
    offset_b,
    offset_c,
    noise,
    step,
    bottom,
    top,
    share,
    slow_a,
    slow_b,
    slow_c,
    begun,
    rng,
    ideal,
    dt,
):
    """In the order of a single sensor: bandwidth, gain and offset, noise, quantisation."""
    if begun < 0.5:
        slow_a = i_a
        slow_b = i_b
        slow_c = i_c
    begun = 1.0
    slow_a = slow_a + share * (i_a - slow_a)
    slow_b = slow_b + share * (i_b - slow_b)
    slow_c = slow_c + share * (i_c - slow_c)
    seen_a = (slow_a if share < 1.0 else i_a) * (1.0 + gain_error) + offset_a
    seen_b = (slow_b if share < 1.0 else i_b) * (1.0 + gain_error) + offset_b
    seen_c = (slow_c if share < 1.0 else i_c) * (1.0 + gain_error) + offset_c
    if noise > 0.0:
        seen_a = seen_a + normal(rng) * noise
        seen_b = seen_b + normal(rng) * noise
        seen_c = seen_c + normal(rng) * noise
    if step > 0.0:
        seen_a = step * floor(seen_a / step + 0.5)
        seen_b = step * floor(seen_b / step + 0.5)
        seen_c = step * floor(seen_c / step + 0.5)
    a = i_a if ideal > 0.5 else saturate(seen_a, bottom, top)
    b = i_b if ideal > 0.5 else saturate(seen_b, bottom, top)
    c = i_c if ideal > 0.5 else saturate(seen_c, bottom, top)


def derive(v: Values, card: Card, period: float) -> dict[str, float]:
    """As of a single sensor without a delay."""
    single = sensing.derive({**v, "delay": 0.0}, card, period)
    return {name: value for name, value in single.items() if name != "delay_ticks"}


PHASES = "abc"
KIND = Block(
    id="three_phase_current_sensor",
    title="Three-phase current sensor",
    sentence="Measures the currents of three phases with gain error, offsets, noise, bandwidth and quantisation.",
    group="sensor",
    keywords="measure sensor current shunt hall ampere noise offset phases abc",
    deck=Deck.SENSOR,
    shape=LAG,
    ports=(
        *(Port(f"i_{n}", Link.SIGNAL_IN, f"Measured current {n}", "top", "A") for n in PHASES),
        *(Port(n, Link.SIGNAL_OUT, f"Sampled current {n}", "bottom", "A") for n in PHASES),
    ),
    choices=(sensing.MODE,),
    values=(
        Value("gain_error", "Gain error", "%", "0"),
        *(Value(f"offset_{n}", f"Offset {n}", "A", "0") for n in PHASES),
        Value("noise", "Noise", "A", "0", low=0.0),
        Value("bandwidth", "Bandwidth", "kHz", "", low=0.0, open_low=True),
        Value("bits", "Converter bits", "", "", low=1.0, high=32.0, whole=True),
        Value("range", "Converter range ±", "A", "", low=0.0, open_low=True),
        Value("every", "Every … ticks", "", "1", low=1.0, high=100000.0, whole=True, role=ValueRole.PERIODS),
    ),
    update=update,
    smooth={"begun": 1.0, "noise": 0.0, "step": 0.0},
    derive=derive,
    summary=lambda v, card: ("ideal",) if card.choices.get("mode") == "ideal" else ("three phases",),
)
