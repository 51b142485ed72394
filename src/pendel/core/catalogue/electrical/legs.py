"""Legs of two transistors, averaged and switching: what all bridges and inverters are made of."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import casadi as ca

from pendel.core.catalogue.declare import LEVELS, Choice, Leg, Part, Signal, Value
from pendel.core.catalogue.electrical import devices
from pendel.core.catalogue.electrical import pulse_values as pulses
from pendel.core.catalogue.electrical.pulse_values import PULSED, SMOOTH_CURRENT, pulse_numbers, ratings

SIDES = ("upper", "lower")
DEVICE = Choice("device", "Switches", (("mosfet", "MOSFETs"), ("igbt", "IGBTs")))
ON_DROP = Value("V_0", "On-state drop", "V", "0.9", low=0.0)
"""Of an IGBT; a MOSFET has none."""


LEG_VALUES = (*pulses.SWITCH_VALUES, ON_DROP, *pulses.PULSE_VALUES, *pulses.DEVICE_VALUES)


def is_igbt(card) -> bool:
    return card.choices.get("device") == "igbt"


def leg_values(values: Iterable[Value]):
    """Names of the values in force, for `Kind.shown`: the on-state drop belongs to IGBTs."""
    names = {v.name for v in values}
    return lambda card: names if is_igbt(card) else names - {ON_DROP.name}


def leg_signals(names: Iterable[str]) -> tuple[Signal, ...]:
    """Gate, current, voltage and conduction loss of each switch."""
    what = (("gate", "gate", ""), ("current", "current of switch", "A"), ("voltage", "voltage of switch", "V"), ("loss", "conduction loss of switch", "W"))  # fmt: skip
    legs = [Leg(n) for n in names]
    return tuple(
        Signal(leg.signal(name, side), f"{words} {leg.switch(side)}", unit, PULSED)
        for name, words, unit in what
        for leg in legs
        for side in SIDES
    )


def leg_converter(*, names: Iterable[str], choices: tuple[Choice, ...], signals: tuple[Signal, ...], values: tuple[Value, ...] = (), **more: Any) -> Part:  # fmt: skip
    """A converter of pulsed legs at all levels; ``choices``, ``signals`` and ``values`` come beside those of its legs."""
    every = (*LEG_VALUES, *values)
    settled: dict[str, Any] = {
        "potentials": lambda level: (("dc", "out"),),
        "telling": lambda v, card: (v["f_p"], f"{v['R_on']} a switch"),
        "main_signal": "output_voltage",
    }
    return Part(
        group="converter",
        values=every,
        shown=leg_values(every),
        choices=(pulses.LEVEL_CHOICE, DEVICE, *choices),
        levels=LEVELS,
        legs=tuple(map(Leg, names)),
        signals=(*signals, *leg_signals(names)),
        circuit=pulses.with_off_resistance,
        contradictions=pulses.pulse_contradictions,
        follows=pulses.pulse_follows,
        spine="≡",
        **{**settled, **more},
    )


def pulsed_leg(c, leg: Leg, command: str, top: ca.SX, pole: ca.SX, bottom: ca.SX, *, flipped: bool = False, **pulse: Any) -> tuple[devices.Device, devices.Device]:  # fmt: skip
    """Two transistors on potentials ``top`` and ``bottom``, pulsed by the duty ``command``; ``flipped`` swaps their gates."""
    gates = c.gate(leg.gate("upper")), c.gate(leg.gate("lower"))
    order = SIDES[::-1] if flipped else SIDES
    c.pulse(command, *(leg.gate(side) for side in order), sampling=c.choice("sampling"), numbers=pulse_numbers(c), **pulse)  # fmt: skip
    r = ratings(c)
    name = leg.name or "leg"
    upper = devices.transistor(c, f"{name}_upper", top - pole, gates[0], r)
    lower = devices.transistor(c, f"{name}_lower", pole - bottom, gates[1], r)
    for side, gate, device in zip(SIDES, gates, (upper, lower)):
        c.signal(leg.signal("gate", side), gate)
        c.signal(leg.signal("current", side), device.i)
        c.signal(leg.signal("voltage", side), device.u)
        c.signal(leg.signal("loss", side), device.loss)
    return upper, lower


def mean_leg(c, duty: ca.SX, load: ca.SX) -> tuple[ca.SX, ca.SX]:
    """Of a leg averaged over a period, at the current ``load`` (A) out of its pole: the share of time for which the pole is at the
    upper rail, and the voltage lost in its devices.

    Dead time moves the share against the current, by t_d·f; that shifts the voltage and with it what is drawn from the
    link, and costs no power by itself. With MOSFETs the current flows through a channel, but in dead time through a
    diode. With IGBTs it flows through the transistor for its share of the period and else through the diode of the other switch.
    Mohan, Undeland, Robbins: Power Electronics, 3rd ed., sections 8-5 and 25-6 (from memory).
    """
    r_on = ratings(c).r_on
    sign = load / ca.sqrt(load * load + SMOOTH_CURRENT**2)
    # A leg that stays at one rail, as in block commutation, has no dead time.
    pulsed = ca.if_else(ca.logic_and(duty > 0, duty < 1), 1.0, 0.0)
    dead = pulsed * c.value("t_dead") * c.value("f_p")
    upper = ca.fmax(0.0, ca.fmin(1.0, duty - dead * sign))
    through_diode = sign * c.value("V_d") + c.value("R_d") * load
    if c.choice("device") != "igbt":
        return upper, (1 - 2 * dead) * r_on * load + 2 * dead * through_diode
    transistor = 0.5 + sign * (upper - 0.5)
    through_transistor = sign * c.value("V_0") + r_on * load
    return upper, transistor * through_transistor + (1 - transistor) * through_diode
