"""Legs of two transistors, averaged and switching: what all bridges and inverters are made of."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Any

import casadi as ca

from pendel.core.catalogue.declare import Choice, Leg, Part, Port, Signal, Value
from pendel.core.catalogue.electrical import devices
from pendel.core.catalogue.electrical import pulse_values as pulses
from pendel.core.catalogue.electrical.pulse_values import (
    LEAST_SMOOTH,
    OVER_TEMPERATURE,
    PULSED,
    SMOOTH_CURRENT,
    SMOOTH_SHARE,
    WARM_VALUES,
    energy_factor,
    pulse_numbers,
    ratings,
    tempered,
)
from pendel.core.catalogue.heat.port import heat_port, temperature_of
from pendel.core.drive.document import Card
from pendel.core.equations.context import HEAT, PartContext
from pendel.core.vocabulary import ENERGY_FACTOR, ValueRole

SIDES = ("upper", "lower")
ONLY = "leg"
"""What a converter's only leg is called where a name is needed."""
DEVICE = Choice("device", "Switches", (("mosfet", "MOSFETs"), ("igbt", "IGBTs")))
ON_DROP = Value("V_0", "On-state drop", "V", "0.9", low=0.0, role=ValueRole.DROP)
"""Of an IGBT; a MOSFET has none."""


LEG_VALUES = (*pulses.SWITCH_VALUES, ON_DROP, *pulses.PULSE_VALUES, *pulses.DEVICE_VALUES, *WARM_VALUES)


def is_igbt(card: Card) -> bool:
    return card.choices.get("device") == "igbt"


def leg_values(values: Iterable[Value]) -> Callable[[Card], set[str]]:
    """Names of the values in force, for `Kind.value_names_in_force`: the on-state drop belongs to IGBTs."""
    names = {v.name for v in values}
    drops = {ON_DROP.name, f"{ON_DROP.name}_warm"}
    return lambda card: tempered(names if is_igbt(card) else names - drops, card)


def leg_port(c: PartContext, name: str) -> str:
    """The port to which a leg's heat goes: its own where that is wired."""
    own = f"{HEAT}_{name}"
    return own if name and c.has(own) else HEAT


def heat_ports(names: Iterable[str]) -> tuple[Port, ...]:
    """Of all devices, and of each leg's where there are several."""
    return heat_port("Heat of its devices"), *(heat_port(f"Heat of leg {n}", f"{HEAT}_{n}") for n in names if n)


def temperature_signal(name: str) -> str:
    return "temperature" if name in ("", ONLY) else f"temperature_{name}"


def report_temperature(c: PartContext, name: str) -> None:
    c.signal(temperature_signal(name), c.temperature(c.value("T_j"), leg_port(c, name)))


def leg_signals(names: Iterable[str]) -> tuple[Signal, ...]:
    """Gate, current, voltage and conduction loss of each switch."""
    what = (
        ("gate", "gate", ""),
        ("current", "current of switch", "A"),
        ("voltage", "voltage of switch", "V"),
        ("loss", "conduction loss of switch", "W"),
    )
    legs = [Leg(n) for n in names]
    return (
        Signal("switching_loss", "switching loss", "W", ("averaged",)),
        *(temperature_of(f"leg {leg.name}:" if leg.name else "device", temperature_signal(leg.name)) for leg in legs),
        *(
            Signal(leg.signal(name, side), f"{words} {leg.switch(side)}", unit, PULSED)
            for name, words, unit in what
            for leg in legs
            for side in SIDES
        ),
    )


def leg_converter(
    *,
    names: Iterable[str],
    ports: tuple[Port, ...],
    choices: tuple[Choice, ...],
    signals: tuple[Signal, ...],
    values: tuple[Value, ...] = (),
    **more: Any,
) -> Part:
    """A converter of pulsed legs at all levels; ``choices``, ``signals`` and ``values`` come beside those of
    its legs."""
    every = (*LEG_VALUES, *values)
    settled: dict[str, Any] = {
        "potentials": lambda level: (("dc", "out"),),
        "summary": lambda v, card: (v["f_p"], f"{v['R_on']} a switch"),
        "main_signal": "output_voltage",
    }
    return Part(
        group="converter",
        values=every,
        value_names_in_force=leg_values(every),
        ports=(*ports, *heat_ports(names)),
        choices=(pulses.LEVEL_CHOICE, DEVICE, *choices, OVER_TEMPERATURE),
        levels=pulses.ALL_LEVELS,
        legs=tuple(map(Leg, names)),
        signals=(*signals, *leg_signals(names)),
        equation_values=pulses.with_off_resistance,
        contradictions=pulses.pulse_contradictions,
        rules=(pulses.shorts,),
        follows=pulses.pulse_follows,
        spine="≡",
        **{**settled, **more},
    )


def pulsed_leg(
    c: PartContext,
    leg: Leg,
    command: str,
    top: ca.SX,
    pole: ca.SX,
    bottom: ca.SX,
    *,
    flipped: bool = False,
    **pulse: Any,
) -> tuple[devices.Device, devices.Device]:
    """Two transistors on potentials ``top`` and ``bottom``, pulsed by the duty ``command``; ``flipped`` swaps
    their gates."""
    gates = c.gate(leg.gate("upper")), c.gate(leg.gate("lower"))
    order = SIDES[::-1] if flipped else SIDES
    c.pulse(
        command,
        *(leg.gate(side) for side in order),
        sampling=c.choice("sampling"),
        numbers=pulse_numbers(c),
        **pulse,
    )
    port = leg_port(c, leg.name)
    r = ratings(c, port)
    name = leg.name or ONLY
    upper = devices.transistor(c, f"{name}_upper", top - pole, gates[0], r)
    lower = devices.transistor(c, f"{name}_lower", pole - bottom, gates[1], r)
    for side, gate, device in zip(SIDES, gates, (upper, lower)):
        c.signal(leg.signal("gate", side), gate)
        c.signal(leg.signal("current", side), device.i)
        c.signal(leg.signal("voltage", side), device.u)
        c.signal(leg.signal("loss", side), device.loss)
        c.lost(device.loss, to=port)
        book(c, leg.gate(side), device, port, recovers=True)
    report_temperature(c, leg.name)
    return upper, lower


def book(c: PartContext, gate: str, device: devices.Device, port: str, *, recovers: bool) -> None:
    """Switching energies of a device to its heat port; see `pendel.core.runs.record.device_events.energies_of`.
    ``recovers``: another diode gives way where it turns on."""
    factor = energy_factor(c, port)
    if pulses.over_temperature(c):
        c.signal(f"{gate}{ENERGY_FACTOR}", factor)
    scale = factor / (c.value("U_ref") * c.value("I_ref"))
    transition = 0.5 * c.value("t_tr")
    on = (c.value("E_on") + (c.value("E_rec") if recovers else 0.0)) * scale + transition
    off = c.value("E_off") * scale + transition
    c.switched(gate, device.u, device.i, on=on, off=off, decay=1.0 / c.value("f_p"), port=port)


ROUND = 0.1
"""Of the way of a share from 0 to 1: how round its corners are."""
LEAST_PULSE, LEAST_SHARE = 1e-6, 1e-3
"""Below these a duty or its product with the rest no longer divides."""


@dataclass(frozen=True)
class MeanLeg:
    """A leg averaged over a period: the share of time for which its pole is at the upper rail, the voltage
    (V) lost in its devices, and what its switching costs beside that (W)."""

    share: ca.SX
    drop: ca.SX
    switched: ca.SX


def mean_leg(c: PartContext, name: str, duty: ca.SX, load: ca.SX, link: ca.SX, *, opposed: bool = False) -> MeanLeg:
    """A leg averaged over a period, at the current ``load`` (A) out of its pole and the voltage ``link`` (V).

    Dead time moves the share of the upper rail against the current, by t_d·f/2 at each edge; that shifts the
    voltage and with it what is drawn from the link, and costs no power by itself. What counts is the current
    at the edge: the mean less the ripple where a pulse begins, the mean and the ripple where it ends. Where
    the ripple turns the current within a period, the pole follows by itself at both edges and dead time does
    nothing; where its crest just reaches zero, no device conducts for a part of the dead time (`Edges`; Muñoz,
    Lipo: On-line dead-time compensation technique for open-loop PWM-VSI drives, IEEE Trans.
    Power Electronics 14 (1999) 683, from memory). With MOSFETs the current flows through a channel, but in
    dead time through a diode. With IGBTs it flows through the transistor for its share of the period and else
    through the diode of the other switch. Mohan, Undeland, Robbins: Power Electronics, 3rd ed., sections 8-5
    and 25-6 (from memory)."""
    r = ratings(c, leg_port(c, name))
    report_temperature(c, name)
    r_on = r.r_on
    leg = c.pulsed_mean(name, load, link, duty, opposed=opposed)
    # A leg that stays at one rail, as in block commutation, has neither dead time nor ripple.
    pulsed = ca.if_else(ca.logic_and(duty > 0, duty < 1), 1.0, 0.0)
    dead = pulsed * c.parasitic("t_dead") * c.value("f_p")
    upper = duty
    for part in (0.5, 1.0):  # what dead time leaves of a pulse decides the ripple, and that what it leaves
        of_duty = (upper * (1 - upper) + LEAST_PULSE) / (duty * (1 - duty) + LEAST_PULSE)
        edges = Edges(load, leg.ripple * of_duty, dead, upper)
        moved = 0.5 * dead * (edges.sign_at_begin + edges.sign_at_end)
        upper = (1 - part) * upper + part * ca.fmax(0.0, ca.fmin(1.0, duty - moved))
    through_diode = edges.mean_sign * r.drop + r.r_diode * load
    if r.on_drop is not None:
        transistor = 0.5 + edges.mean_sign * (upper - 0.5)
        through_transistor = edges.mean_sign * r.on_drop + r_on * load
        drop = transistor * through_transistor + (1 - transistor) * through_diode
    else:
        drop = (1 - 2 * dead) * r_on * load + 2 * dead * through_diode
    return MeanLeg(upper, drop - leg.nudge, pulsed * switching_power(c, edges, link, leg_port(c, name)))


class Edges:
    """The current (A) of an averaged leg where its pulse begins and where it ends, and what dead time does to the
    pole's voltage there: 1 where the pole is at the lower rail for all of it, −1 at the upper one. A sign is smooth
    over what dead time moves the current meanwhile."""

    def __init__(self, load: ca.SX, ripple: ca.SX, dead: ca.SX, upper: ca.SX) -> None:
        minimum = ca.fmax(SMOOTH_SHARE * ripple, LEAST_SMOOTH)
        width = 2 * dead * ripple + ca.if_else(ripple > 0, minimum, SMOOTH_CURRENT)
        begin, end = load - ripple, load + ripple
        sizes = [ca.sqrt(i * i + width * width) for i in (begin, end)]
        share, still = ca.fmax(0.0, ca.fmin(1.0, upper)), 2 * dead * ripple
        at_begin = Valley(begin, share, still, minimum)
        at_end = Valley(-end, 1 - share, still, minimum)
        self.sign_at_begin = ca.if_else(ripple > 0, at_begin.sign, begin / sizes[0])
        self.sign_at_end = ca.if_else(ripple > 0, -at_end.sign, end / sizes[1])
        flows = 1 - ca.if_else(ripple > 0, dead * (at_begin.resting + at_end.resting), 0.0)
        """Share of the period in which there is a current."""
        self.begin, self.end = load / flows - ripple * flows, load / flows + ripple * flows
        self.mean_sign = 2 * load / (sizes[0] + sizes[1])
        """Over a triangle of this ripple."""


def gradual(way: ca.SX) -> ca.SX:
    """From 0 to 1 as ``way`` goes from 0 to 1, with round corners: steps over sharp ones err by more than they know."""
    return 0.5 * (1 + ca.sqrt(way**2 + ROUND**2) - ca.sqrt((way - 1) ** 2 + ROUND**2))


class Valley:
    """An edge at which a current turns up, over that current (A), for the pole's ``share`` of the upper rail: what
    dead time does to the pole's voltage, and the share of it for which no device conducts.

    Below zero the current holds the pole at the upper rail, until it has risen to zero; then no device conducts, and
    the pole has the load's own voltage, which is the pole's mean. That stretch shortens the ripple and brings the
    mean nearer to zero, by ``still`` (A) where it lasts for all of the dead time. From there on the current falls to
    zero within the dead time, the later the less is left of it. From the triangle's slopes; no source."""

    def __init__(self, valley: ca.SX, share: ca.SX, still: ca.SX, minimum: ca.SX) -> None:
        rising = ca.fmax(still * (1 / ca.fmax(share, LEAST_SHARE) - 1), minimum)
        falling = ca.fmax(still, minimum)
        risen = gradual(1 + (valley + falling) / rising)
        fallen = gradual(1 + valley / falling)
        self.sign = -1 + 2 * (1 - share) * risen + 2 * share * fallen
        self.resting = risen * (1 - fallen)


def switching_power(c: PartContext, edges: Edges, link: ca.SX, port: str) -> ca.SX:
    """Power (W) of a leg's switching by the energies of its devices, which scale with voltage and current:
    what turns on takes over the current at the beginning of its pulse, what turns off leaves that at the end.
    Half of u·i·t_tr for each transition. Mohan, Undeland, Robbins: Power Electronics, 3rd ed., section
    2-5."""
    off = ca.fmax(0, edges.end) + ca.fmax(0, -edges.begin)
    on = ca.fmax(0, edges.begin) + ca.fmax(0, -edges.end)
    energy = (c.value("E_on") + c.value("E_rec")) * on + c.value("E_off") * off
    energy *= energy_factor(c, port)
    scaled = energy / (c.value("U_ref") * c.value("I_ref")) + 0.5 * c.value("t_tr") * (on + off)
    return c.value("f_p") * ca.fabs(link) * scaled
