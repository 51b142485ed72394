"""Sensors as they are: gain error, offset, noise, delay, quantisation. One law for four measured quantities.

Order of the errors: delay, bandwidth, gain and offset, noise, quantisation, as the signal passes transducer, amplifier
and converter.
"""

from __future__ import annotations

import math
from collections.abc import Mapping

from pendel.core.catalogue.control.shapes import LAG
from pendel.core.catalogue.declare import Block, Choice, Deck, Link, Port, Value, Values
from pendel.core.drive.document import Card
from pendel.core.vocabulary import ValueRole


def update(
    measured,
    value,
    gain_error,
    offset,
    noise_relative,
    noise_absolute,
    step,
    bottom,
    top,
    delay_ticks,
    share,
    slow,
    begun,
    line,
    rng,
    ideal,
    dt,
):
    """The noise is normal, of zero mean; its relative part is in percent of the momentary signal. Behind a bandwidth a
    first-order lag begins with what is measured first; ``share`` is how far it goes in a period."""
    late = delayed(line, measured, delay_ticks)
    if begun < 0.5:
        slow = late
    begun = 1.0
    slow = slow + share * (late - slow)
    late = slow if share < 1.0 else late
    seen = late * (1.0 + gain_error) + offset
    scatter = noise_absolute + noise_relative * absolute(late)
    if scatter > 0.0:
        seen = seen + normal(rng) * scatter
    if step > 0.0:
        seen = step * floor(seen / step + 0.5)
    seen = saturate(seen, bottom, top)
    value = measured if ideal > 0.5 else seen


UNBOUNDED = 1e30


def derive(v: Values, card: Card, period: float) -> dict[str, float]:
    """A converter of n bits has 2ⁿ codes from −range up; what lies beyond reads as the last of them."""
    levels = 0.0
    if not math.isnan(v["bits"]) and not math.isnan(v["range"]):
        levels = 2.0 * v["range"] / 2.0 ** v["bits"]
    bounded = not math.isnan(v["range"])
    return {
        "step": levels,
        "bottom": -v["range"] if bounded else -UNBOUNDED,
        "top": v["range"] - levels if bounded else UNBOUNDED,
        "delay_ticks": v["delay"] / period,
        "share": 1.0 if math.isnan(v["bandwidth"]) else -math.expm1(-2.0 * math.pi * v["bandwidth"] * period),
        "ideal": 1.0 if card.choices.get("mode") == "ideal" else 0.0,
    }


MODE = Choice("mode", "Behaves", (("as it is", "as it is, with its errors"), ("ideal", "ideal")), "ideal")


def tell_errors(v: Mapping[str, str]):
    """The first error that is not zero."""
    words = {
        "noise_relative": "noise",
        "noise_absolute": "noise",
        "offset": "offset",
        "gain_error": "gain error",
    }
    errors = [f"{word} {v[name]}" for name, word in words.items() if not v[name].startswith("0 ") and v[name] != "0"]
    return errors or ["no errors set"]


def sensor(id, title, word, unit, keywords, usual=(), *, shape):
    return Block(
        id=id,
        title=title,
        sentence=f"Measures a {word} with gain error, offset, noise, delay and quantisation.",
        group="sensor",
        keywords="measure sensor noise offset " + keywords,
        deck=Deck.SENSOR,
        shape=shape,
        ports=(
            Port("measured", Link.SIGNAL_IN, f"Measured {word}", "top", unit, usual=usual),
            Port("value", Link.SIGNAL_OUT, "Sampled value", "bottom", unit),
        ),
        choices=(MODE,),
        values=(
            Value("gain_error", "Gain error", "%", "0"),
            Value("offset", "Offset", unit, "0", at="value"),
            Value("noise_relative", "Noise", "%", "0", low=0.0),
            Value("noise_absolute", "Noise", unit, "0", low=0.0, at="value"),
            Value("delay", "Delay", "us", "0", low=0.0, high=0.01),
            Value("bandwidth", "Bandwidth", "kHz", "", low=0.0, open_low=True),
            Value("bits", "Converter bits", "", "", low=1.0, high=32.0, whole=True),
            Value("range", "Converter range ±", unit, "", low=0.0, open_low=True, at="value"),
            Value("every", "Every … ticks", "", "1", low=1.0, high=100000.0, whole=True, role=ValueRole.PERIODS),
        ),
        update=update,
        smooth={"begun": 1.0, "noise_relative": 0.0, "noise_absolute": 0.0, "step": 0.0},
        derive=derive,
        summary=lambda v, card: ("ideal",) if card.choices.get("mode") == "ideal" else tell_errors(v),
    )


KINDS = (
    sensor(
        "current_sensor",
        "Current sensor",
        "current",
        "A",
        "shunt hall ampere",
        shape=LAG,
    ),
    sensor(
        "voltage_sensor",
        "Voltage sensor",
        "voltage",
        "V",
        "divider volt",
        shape=LAG,
    ),
    sensor(
        "speed_sensor",
        "Speed sensor",
        "speed",
        "*",
        "tachometer",
        ("rad/s", "m/s"),
        shape=LAG,
    ),
    sensor(
        "position_sensor",
        "Position sensor",
        "position",
        "*",
        "potentiometer resolver angle",
        ("rad", "m"),
        shape=LAG,
    ),
    sensor(
        "charge_sensor",
        "Charge gauge",
        "charge",
        "%",
        "battery soc state of charge gauge",
        shape=LAG,
    ),
    sensor(
        "temperature_sensor",
        "Temperature sensor",
        "temperature",
        "°C",
        "thermometer ntc ptc pt100 heat winding",
        shape=LAG,
    ),
)
