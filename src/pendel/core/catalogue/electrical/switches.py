"""Single devices and op-amps for circuits drawn from parts."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace

import casadi as ca

from pendel.core.catalogue.declare import (
    Choice,
    Contradiction,
    Link,
    Part,
    Port,
    Signal,
    State,
    Switched,
    Value,
    Values,
)
from pendel.core.catalogue.electrical import devices, recovery, symbols
from pendel.core.catalogue.electrical.devices import Ratings, off_resistance
from pendel.core.catalogue.electrical.legs import DEVICE, ON_DROP, book, leg_values
from pendel.core.catalogue.electrical.passives import ENDS, TWO_ENDED, between, report
from pendel.core.catalogue.electrical.pulse_values import (
    CARRIER,
    DEVICE_VALUES,
    OVER_TEMPERATURE,
    SAMPLING,
    WARM_VALUES,
    at_temperature,
    warm_contradictions,
)
from pendel.core.catalogue.heat.port import heat_port, temperature_of
from pendel.core.drive.document import Card
from pendel.core.equations.context import HEAT, PartContext
from pendel.core.vocabulary import Conduction, ValueRole

NOT_USED = ca.SX(1)


def build_diode(c: PartContext) -> None:
    u, i = between(c)
    ratings = Ratings(NOT_USED, c.value("R_off"), c.value("V_d"), c.value("R_d"))
    recovers = c.is_given("tau")
    device = (recovery if recovers else devices).diode(c, "diode", u, ratings)
    c.equation(i - device.i)
    report(c, u, i)
    c.lost(u * i)


def gate_of(c: PartContext, **delays: str) -> ca.SX:
    """The gate as its signal drives it: a level, or a duty compared with a carrier; ``inverse`` is on when
    that is off."""
    by = c.choice("gate")
    if by == "level":
        c.pulse("on", "gate", carrier="level", sampling="at once", numbers=delays)
    else:
        numbers = {"f": "f_p", "phase": "shift", **delays}
        gates = ("gate", "") if by == "duty" else ("", "gate")
        c.pulse("on", *gates, carrier=c.choice("carrier"), sampling=c.choice("sampling"), numbers=numbers)
    return c.gate("gate")


def build_switch(c: PartContext) -> None:
    u, i = between(c)
    gate = gate_of(c)
    device = devices.switch(c, u, gate, Ratings(c.value("R_on"), c.value("R_off"), ca.SX(0), NOT_USED), "switch")
    c.equation(i - device.i)
    report(c, u, i)
    c.signal("gate", gate)
    c.lost(u * i)


def build_transistor(c: PartContext) -> None:
    u, i = between(c)
    gate = gate_of(c, on_delay="t_on", off_delay="t_off")
    drop = at_temperature(c, "V_0", HEAT) if c.choice("device") == "igbt" else None
    r_on, diode_drop = (at_temperature(c, name, HEAT) for name in ("R_on", "V_d"))
    ratings = Ratings(r_on, c.value("R_off"), diode_drop, c.value("R_d"), on_drop=drop)
    device = devices.transistor(c, "transistor", u, gate, ratings)
    c.equation(i - device.i)
    report(c, u, i)
    c.signal("gate", gate)
    c.signal("temperature", c.temperature(c.value("T_j")))
    c.lost(u * i)
    book(c, "gate", device, HEAT, recovers=False)


def build_op_amp(c: PartContext) -> None:
    """Ideal: no voltage between the inputs. Limited: dv/dt = 2π·f_1·(u_+ − u_−), slew and output limited.

    Single-pole model: Tietze, Schenk: Electronic Circuits, chapter 5 (from memory).
    """
    plus, minus, out = c.line("plus"), c.line("minus"), c.line("out")
    c.equation(plus.through)
    c.equation(minus.through)
    difference = plus.across - minus.across
    if c.choice("model") == "ideal":
        c.equation(difference)
    else:
        inner, slope = c.state("v")
        fast = 2.0 * math.pi * c.value("f_1") * difference
        rate = ca.fmax(-c.value("slew"), ca.fmin(c.value("slew"), fast))
        # The inner voltage stops at the supply and comes back at once when the input turns.
        rate = ca.if_else(inner >= c.value("U_high"), ca.fmin(rate, 0.0), rate)
        rate = ca.if_else(inner <= c.value("U_low"), ca.fmax(rate, 0.0), rate)
        c.equation(slope - rate)
        c.equation(out.across - inner - c.parasitic("R_out") * out.through)
    c.signal("output", out.across)
    c.signal("difference", difference)
    c.signal("current", -out.through)
    c.supplied(-out.across * out.through)


def build_voltmeter(c: PartContext) -> None:
    u, i = between(c)
    c.equation(i)
    c.signal("voltage", u)


def build_ammeter(c: PartContext) -> None:
    u, i = between(c)
    c.equation(u)
    c.signal("current", i)


def blocking(v: Values, card: Card) -> dict[str, float]:
    return {**v, "R_off": off_resistance(v["R_on"] if "R_on" in v else v["R_d"], v["R_off"])}


def crossed(v: Values, card: Card) -> list[Contradiction]:
    if card.choices.get("model") == "limited" and v["U_low"] >= v["U_high"]:
        return [Contradiction("its lower output limit is not below the upper one. Swap them.", "U_low")]
    return []


ON = Port("on", Link.SIGNAL_IN, "Gate: on while above one half, or its duty", "bottom")
GATE_BY = Choice(
    "gate",
    "Gate",
    (
        ("level", "on while above one half"),
        ("duty", "pulsed by a duty"),
        ("inverse", "pulsed, on when a duty is off"),
    ),
)
PULSED_GATE = (
    Value("f_p", "Pulse frequency", "kHz", "20", low=0.0, open_low=True),
    Value("shift", "Carrier phase", "deg", "0"),
)


def gate_choices(card: Card) -> set[str]:
    pulsed = card.choices.get("gate", "level") != "level"
    return {"device", "gate", OVER_TEMPERATURE.name, *(("carrier", "sampling") if pulsed else ())}


def gate_values(values: tuple[Value, ...]) -> Callable[[Card], set[str]]:
    """Names of the values in force, for `Kind.value_names_in_force`: the carrier's only where the gate is
    pulsed."""
    by_device = leg_values((*values, *PULSED_GATE))

    def value_names_in_force(card: Card) -> set[str]:
        pulsed = card.choices.get("gate", "level") != "level"
        return by_device(card) - (set() if pulsed else {v.name for v in PULSED_GATE})

    return value_names_in_force


R_ON = Value("R_on", "On-resistance", "mΩ", "10", low=0.0, open_low=True)
R_OFF = Value("R_off", "Blocking resistance", "Ω", "", low=0.0, open_low=True)
DIODE = (
    Value("V_d", "Diode drop", "V", "0.8", low=0.0, role=ValueRole.DROP),
    Value("R_d", "Diode resistance", "mΩ", "10", low=0.0, open_low=True),
)
GATE = Signal("gate", "gate", "")
OWN = {"t_on", "t_off", "E_on", "E_off", "E_rec", "t_tr", "U_ref", "I_ref"}
TRANSISTOR = (
    R_ON,
    ON_DROP,
    *DIODE,
    R_OFF,
    *(
        replace(v, levels=(), default=v.default if v.name.endswith("_ref") else "0")
        for v in DEVICE_VALUES
        if v.name in OWN
    ),
    *WARM_VALUES,
)
LIMITED = {"f_1", "slew", "U_low", "U_high", "R_out"}
KINDS = (
    Part(
        id="diode",
        title="Diode",
        sentence="Conducts from its first to its second line.",
        group="circuit",
        keywords="rectifier freewheel",
        ports=(*ENDS, heat_port()),
        values=(*DIODE, R_OFF, *recovery.VALUES),
        contradictions=recovery.contradictions,
        follows=recovery.follows,
        states=(State("q", "stored charge", "C"),),
        signals=TWO_ENDED,
        equation_values=lambda v, card: recovery.with_times(blocking(v, card)),
        build=build_diode,
        summary=lambda v, card: (v["V_d"], v["R_d"]),
        main_signal="current",
        symbol=symbols.DIODE,
        conduction=Conduction(ends=(("a", 0), ("b", 0)), conducts=("diode",)),
    ),
    Part(
        id="switch",
        title="Switch",
        sentence="Conducts both ways while its signal is above one half.",
        group="circuit",
        keywords="contactor relay ideal",
        ports=(*ENDS, ON, heat_port()),
        values=(R_ON, R_OFF, *PULSED_GATE),
        choices=(GATE_BY, CARRIER, SAMPLING),
        choice_names_in_force=gate_choices,
        value_names_in_force=gate_values((R_ON, R_OFF)),
        signals=(*TWO_ENDED, GATE),
        equation_values=blocking,
        build=build_switch,
        summary=lambda v, card: (v["R_on"],),
        main_signal="current",
        symbol=symbols.SWITCH,
        conduction=Conduction(ends=(("a", 0), ("b", 0)), conducts=("gate",)),
    ),
    Part(
        id="transistor",
        title="Transistor",
        sentence="A switch with an antiparallel diode.",
        group="circuit",
        keywords="mosfet igbt valve",
        ports=(*ENDS, ON, heat_port()),
        values=(*TRANSISTOR, *PULSED_GATE),
        choices=(DEVICE, GATE_BY, CARRIER, SAMPLING, OVER_TEMPERATURE),
        choice_names_in_force=gate_choices,
        value_names_in_force=gate_values(TRANSISTOR),
        switches=(Switched("", "gate", "current", "voltage"),),
        signals=(*TWO_ENDED, GATE, temperature_of("device")),
        equation_values=blocking,
        contradictions=warm_contradictions,
        build=build_transistor,
        summary=lambda v, card: (v["R_on"], v["V_d"]),
        main_signal="current",
        symbol=symbols.TRANSISTOR,
        conduction=Conduction(ends=(("a", 0), ("b", 0)), conducts=("gate", "transistor")),
    ),
    Part(
        id="op_amp",
        title="Op-amp",
        sentence="An operational amplifier, ideal or limited in bandwidth, slew rate and output.",
        group="circuit",
        keywords="operational amplifier analogue analog controller",
        ports=(
            Port("plus", Link.LINE, "Non-inverting input", "left"),
            Port("minus", Link.LINE, "Inverting input", "left"),
            Port("out", Link.LINE, "Output", "right"),
        ),
        values=(
            Value("f_1", "Unity-gain frequency", "MHz", "3", low=0.0, open_low=True),
            Value("slew", "Slew rate", "V/µs", "10", low=0.0, open_low=True),
            Value("U_low", "Output at least", "V", "-12"),
            Value("U_high", "Output at most", "V", "12"),
            Value("R_out", "Output resistance", "Ω", "50", low=0.0),
        ),
        choices=(Choice("model", "Model", (("ideal", "ideal"), ("limited", "limited"))),),
        states=(State("v", "inner voltage", "V"),),
        value_names_in_force=lambda card: LIMITED if card.choices.get("model") == "limited" else set(),
        contradictions=crossed,
        signals=(
            Signal("output", "output voltage", "V"),
            Signal("difference", "voltage between the inputs", "V"),
            Signal("current", "output current", "A"),
        ),
        build=build_op_amp,
        summary=lambda v, card: ("limited", v["f_1"]) if card.choices.get("model") == "limited" else ("ideal",),
        main_signal="output",
        symbol=symbols.OP_AMP,
    ),
    Part(
        id="voltmeter",
        title="Voltage meter",
        sentence="Shows the voltage between two lines and takes no current.",
        group="circuit",
        keywords="measure probe",
        ports=ENDS,
        signals=(Signal("voltage", "voltage", "V"),),
        build=build_voltmeter,
        main_signal="voltage",
        symbol=symbols.VOLTMETER,
    ),
    Part(
        id="ammeter",
        title="Current meter",
        sentence="Shows the current through it and drops no voltage.",
        group="circuit",
        keywords="measure probe",
        ports=ENDS,
        signals=(Signal("current", "current", "A"),),
        build=build_ammeter,
        main_signal="current",
        symbol=symbols.AMMETER,
        conduction=Conduction(joined=((("a", 0), ("b", 0)),)),
    ),
)
