"""Values, choices and checks that all converters with pulsed legs share."""

from __future__ import annotations

from typing import Any

import casadi as ca

from pendel.core.catalogue.declare import DRIVE_LEVEL, Choice, Contradiction, Figure, Value, Values
from pendel.core.catalogue.electrical.devices import Ratings, off_resistance
from pendel.core.drive.document import Card
from pendel.core.drive.findings import Finding, attention
from pendel.core.equations.context import HEAT, PartContext
from pendel.core.quantities.units import figure
from pendel.core.vocabulary import ValueRole
from pendel.core.vocabulary.levels import nearest

ALL_LEVELS = ("averaged", "switching", "device")
PULSED = ALL_LEVELS[1:]
LEVEL_CHOICE = Choice(
    "level", "Level of detail", ((DRIVE_LEVEL, "as the drive"), *((name, name) for name in ALL_LEVELS))
)
SAMPLING = Choice(
    "sampling",
    "A new duty acts",
    (("once", "once a period, at the valley"), ("twice", "twice a period"), ("at once", "at once")),
)
CARRIER = Choice("carrier", "Carrier", (("triangle", "triangle"), ("sawtooth", "saw-tooth")))
PULSE_VALUES = (
    Value("f_p", "Pulse frequency", "kHz", "20", low=0.0, open_low=True),
    Value("t_dead", "Dead time", "µs", "0", low=0.0, role=ValueRole.DEAD_TIME),
    Value("t_least", "Min. pulse width", "µs", "0", low=0.0),
    Value("shift", "Carrier phase", "deg", "0"),
)
SWITCH_VALUES = (
    Value("R_on", "On-resistance", "mΩ", "6", low=0.0),
    Value("V_d", "Diode drop", "V", "0.8", low=0.0, role=ValueRole.DROP),
    Value("R_d", "Diode resistance", "mΩ", "6", low=0.0, open_low=True),
    Value("R_off", "Blocking resistance", "Ω", "", low=0.0, open_low=True, levels=PULSED),
)
DEVICE_VALUES = (
    Value("t_on", "Turn-on delay", "ns", "40", low=0.0, levels=("device",)),
    Value("t_off", "Turn-off delay", "ns", "120", low=0.0, levels=("device",)),
    Value("I_sat", "Saturation current", "A", "300", low=0.0, open_low=True, levels=("device",)),
    Value("E_on", "Turn-on energy", "µJ", "60", low=0.0, role=ValueRole.TURN_ON_ENERGY),
    Value("E_off", "Turn-off energy", "µJ", "80", low=0.0, role=ValueRole.TURN_OFF_ENERGY),
    Value("E_rec", "Recovery energy", "µJ", "0", low=0.0, role=ValueRole.RECOVERY_ENERGY),
    Value("t_tr", "Transition time", "ns", "0", low=0.0, role=ValueRole.TRANSITION_TIME),
    Value("U_ref", "Energies hold at", "V", "48", low=0.0, open_low=True, role=ValueRole.REFERENCE_VOLTAGE),
    Value("I_ref", "Energies hold at", "A", "20", low=0.0, open_low=True, role=ValueRole.REFERENCE_CURRENT),
)
"""Delays move the edges; energies and the transition's ½·u·i·t_tr are booked at each switching."""
OVER_TEMPERATURE = Choice(
    "over_temperature",
    "Over temperature",
    (("one", "the same at any temperature"), ("two", "values at two temperatures")),
)
WARM_VALUES = (
    Value("T_j", "Devices at", "°C", "25", low=-60.0, high=400.0),
    Value("T_ref", "Values hold at", "°C", "25", low=-60.0, high=400.0),
    Value("T_warm", "warm ones at", "°C", "125", low=-60.0, high=400.0),
    Value("R_on_warm", "R_on, warm", "mΩ", "9", low=0.0),
    Value("V_d_warm", "V_d, warm", "V", "0.7", low=0.0),
    Value("V_0_warm", "V_0, warm", "V", "0.95", low=0.0),
    Value("e_warm", "Energies, factor", "", "1.2", low=0.0),
)
"""Straight between the two temperatures and beyond, as sheets give them (common practice, no source). Where a heat port
is wired, its temperature counts, else T_j."""
LEAST_RESISTANCE = 1e-6
"""Ohm; what a switch of no resistance is taken for, since its conductance must be finite."""
SMOOTH_CURRENT = 0.05
"""A. Below it the sign of a current fades where nothing holds it against the pulses."""
SMOOTH_SHARE, LEAST_SMOOTH = 0.01, 5e-3
"""Where something does: the same, over the ripple's height, and A at least."""


def with_off_resistance(v: Values, card: Card) -> dict[str, float]:
    """The values with the blocking resistance filled in where the user gave none."""
    return {**v, "R_off": off_resistance(v["R_on"], v["R_off"])}


def ratings(c: PartContext, port: str = HEAT) -> Ratings:
    """Of devices at the temperature of a heat port."""
    maximum = c.value("I_sat") if c.level == "device" else None
    drop = at_temperature(c, "V_0", port) if c.has_choice("device") and c.choice("device") == "igbt" else None
    r_on = ca.fmax(LEAST_RESISTANCE, at_temperature(c, "R_on", port))
    return Ratings(r_on, c.value("R_off"), at_temperature(c, "V_d", port), c.value("R_d"), maximum, drop)


def at_temperature(c: PartContext, name: str, port: str) -> ca.SX:
    """A value that is given at two temperatures, where it is, at that of the devices."""
    first = c.value(name)
    if not over_temperature(c):
        return first
    return ca.fmax(0.0, first + warmth(c, port) * (c.value(f"{name}_warm") - first))


def energy_factor(c: PartContext, port: str) -> ca.SX:
    """Switching energies at the temperature of the devices, over those that are entered."""
    return ca.fmax(0.0, 1.0 + warmth(c, port) * (c.value("e_warm") - 1.0)) if over_temperature(c) else ca.SX(1)


def over_temperature(c: PartContext) -> bool:
    return c.has_choice(OVER_TEMPERATURE.name) and c.choice(OVER_TEMPERATURE.name) == "two"


def warmth(c: PartContext, port: str) -> ca.SX:
    """0 where the first values hold, 1 where the second do."""
    cold = c.value("T_ref")
    return (c.temperature(c.value("T_j"), port) - cold) / (c.value("T_warm") - cold)


def tempered(names: set[str], card: Card) -> set[str]:
    """Names of values without those of a second temperature, where there is none."""
    if card.choices.get(OVER_TEMPERATURE.name) == "two":
        return names
    return names - {v.name for v in WARM_VALUES}


def pulse_numbers(c: PartContext) -> dict[str, str]:
    """The values that a pulse channel takes."""
    numbers = {
        "f": "f_p",
        "dead": "t_dead",
        "least": "t_least",
        "phase": "shift",
    }
    if c.level == "device":
        numbers |= {"on_delay": "t_on", "off_delay": "t_off"}
    return numbers


def warm_contradictions(v: Values, card: Card) -> list[Contradiction]:
    if card.choices.get(OVER_TEMPERATURE.name) == "two" and abs(v["T_warm"] - v["T_ref"]) < CLOSE:
        sentence = (
            f"its values are given twice for {v['T_ref']:.3g} °C. Enter the second temperature of the sheet, "
            "such as 125 °C or 150 °C."
        )
        return [Contradiction(sentence, "T_warm")]
    return []


CLOSE = 1.0
"""K; temperatures this close tell nothing of what lies between."""


def pulse_contradictions(v: Values, card: Card) -> list[Contradiction]:
    contradictions = warm_contradictions(v, card)
    period = 1.0 / v["f_p"]
    if v["t_dead"] >= 0.5 * period:
        contradictions.append(
            Contradiction(
                f"a dead time of {v['t_dead'] * 1e6:.3g} µs leaves nothing of half a pulse period of "
                f"{0.5e6 * period:.3g} µs. Shorten it or pulse more slowly.",
                "t_dead",
            )
        )
    if v["t_least"] >= 0.5 * period:
        contradictions.append(
            Contradiction(
                f"pulses of at least {v['t_least'] * 1e6:.3g} µs do not fit into half a period of "
                f"{0.5e6 * period:.3g} µs. Shorten them or pulse more slowly.",
                "t_least",
            )
        )
    return contradictions


def shorts(card: Card, key: str, examined: Any) -> list[Finding]:
    """Where a transistor still conducts when the other of its leg turns on, each pulse shorts the link."""
    wanted = card.choices.get(LEVEL_CHOICE.name, DRIVE_LEVEL)
    level = nearest(examined.level if wanted == DRIVE_LEVEL else wanted, ALL_LEVELS)
    v = examined.values[key]
    both = v["t_off"] - v["t_on"] - v["t_dead"] if level == "device" and card.choices.get("below") != "opens" else 0.0
    if not both > 0.0:
        return []
    sentence = (
        f"{card.name}: with a dead time of {figure(v['t_dead'], 's', 3)} both transistors of a leg conduct for "
        f"{figure(both, 's', 3)} at each switching, which shorts the link. Enter one of more than "
        f"{figure(v['t_off'] - v['t_on'], 's', 3)}, such as {figure(0.01 / v['f_p'], 's', 3)}."
    )
    return [attention(sentence, key, "t_dead")]


def pulse_follows(v: Values, card: Card) -> list[Figure]:
    lost = [Figure("Dead time of a period", "2·t_d·f", 2.0 * v["t_dead"] * v["f_p"], "%")] if "t_dead" in v else []
    return [
        Figure("Pulse period", "T_p", 1.0 / v["f_p"], "s"),
        *lost,
        Figure("Blocking resistance", "R_off", off_resistance(v["R_on"], v["R_off"]), "Ω"),
    ]
