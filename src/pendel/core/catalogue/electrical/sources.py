"""AC and three-phase sources with impedance, sources a controller sets, and what opens pairs and three-phase
lines."""

from __future__ import annotations

import math

import casadi as ca

from pendel.core.catalogue.declare import ANY, Link, Part, Port, Rows, Signal, State, Value
from pendel.core.catalogue.electrical import symbols
from pendel.core.catalogue.electrical.passives import ENDS, TWO_ENDED, between, report
from pendel.core.equations.context import PartContext
from pendel.core.vocabulary import Conduction, SignalRole, ValueRole

PHASES = ("a", "b", "c")


def wave(c: PartContext, angle: ca.SX) -> ca.SX:
    """sin(angle) with the harmonics of the card's table: + share·sin(order·angle + phase) for each."""
    total = ca.sin(angle)
    for n in range(c.rows):
        total += c.value(f"share_{n}") * ca.sin(c.value(f"order_{n}") * angle + c.value(f"phase_{n}"))
    return total


def build_ac(c: PartContext) -> None:
    """u = √2·U·sin(2πft + φ) and harmonics, behind R and L; the current flows out at the first line."""
    u, i = between(c)
    current, slope = c.state("i")
    e = math.sqrt(2.0) * c.value("U") * wave(c, 2.0 * math.pi * c.value("f") * c.time + c.value("angle"))
    r = c.parasitic("R_i")
    c.equation(current + i)
    c.equation(c.value("L_i") * slope - (e - r * current - u))
    c.signal("voltage", u)
    c.signal("current", current)
    c.signal("power", u * current)
    c.signal("emf", e)
    c.supplied(e * current)
    c.lost(r * current * current)
    c.stored(c.value("L_i") * current * current / 2)


def build_three_phase(c: PartContext) -> None:
    """Three voltages a third of a turn apart, in star; an unconnected star point is open."""
    pins, neutral = c.pins("out"), c.line("star")
    star = neutral.across
    total = ca.SX(0)
    r, inductance = c.parasitic("R_i"), c.value("L_i")
    supplied, lost, stored = ca.SX(0), ca.SX(0), ca.SX(0)
    volts, amps = [], []
    for n, (name, pin) in enumerate(zip(PHASES, pins)):
        current, slope = c.state(f"i_{name}")
        angle = 2.0 * math.pi * c.value("f") * c.time + c.value("angle") - 2.0 * math.pi * n / 3.0
        e = math.sqrt(2.0 / 3.0) * c.value("U") * wave(c, angle)
        c.equation(current + pin.through)
        c.equation(inductance * slope - (e - r * current - (pin.across - star)))
        total += current
        supplied += e * current
        lost += r * current * current
        stored += inductance * current * current / 2
        volts.append(pin.across - star)
        amps.append(current)
    c.equation(neutral.through - total)
    for name, u, i in zip(PHASES, volts, amps):
        c.signal(f"voltage_{name}", u)
        c.signal(f"current_{name}", i)
    c.signal("power", sum((u * i for u, i in zip(volts, amps)), ca.SX(0)))
    c.supplied(supplied)
    c.lost(lost)
    c.stored(stored)


def build_set_voltage(c: PartContext) -> None:
    u, i = between(c)
    c.equation(u - c.input("set"))
    report(c, u, -i)
    c.supplied(-u * i)


def build_set_current(c: PartContext) -> None:
    u, i = between(c)
    c.equation(i + c.input("set"))
    report(c, u, -i)
    c.supplied(-u * i)


def build_opener(c: PartContext) -> None:
    for line, pin in zip(("plus", "minus"), c.pins("pair")):
        other = c.line(line)
        c.equation(pin.across - other.across)
        c.equation(pin.through + other.through)


def build_phase_opener(c: PartContext) -> None:
    for name, pin in zip(PHASES, c.pins("phases")):
        other = c.line(name)
        c.equation(pin.across - other.across)
        c.equation(pin.through + other.through)
        c.signal(f"current_{name}", pin.through)
        c.signal(f"voltage_{name}", pin.across)


IMPEDANCE = (
    Value("R_i", "Internal resistance", "mΩ", "50", low=0.0),
    Value("L_i", "Internal inductance", "mH", "0.1", low=0.0, open_low=True),
)
HARMONICS = Rows(
    "Harmonics",
    (
        Value("order", "Order", "", "5", low=2.0, whole=True),
        Value("share", "Share", "%", "3", low=0.0),
        Value("phase", "Phase", "deg", "0"),
    ),
    ("5", "3", "0"),
    harmonics=True,
)
GRID_POWER = Signal("power", "power", "W", role=SignalRole.GRID_POWER)
SET = Port("set", Link.SIGNAL_IN, "Set value", "bottom", ANY)
KINDS = (
    Part(
        id="ac_source",
        title="AC source",
        sentence="A sine voltage behind a resistance and an inductance.",
        group="supply",
        keywords="mains grid single-phase sine alternating",
        ports=ENDS,
        values=(
            Value("U", "Voltage, rms", "V", "230", low=0.0),
            Value("f", "Frequency", "Hz", "50", low=0.0, open_low=True, role=ValueRole.FREQUENCY),
            Value("angle", "Phase", "deg", "0"),
            *IMPEDANCE,
        ),
        rows=HARMONICS,
        states=(State("i", "current", "A"),),
        signals=(*TWO_ENDED[:2], GRID_POWER, Signal("emf", "voltage without load", "V")),
        build=build_ac,
        summary=lambda v, card: (f"{v['U']} · {v['f']}", v["L_i"]),
        main_signal="voltage",
        spine="~",
        symbol=symbols.AC_SOURCE,
        conduction=Conduction(ends=(("a", 0), ("b", 0)), holds_voltage=True),
    ),
    Part(
        id="three_phase_source",
        title="Three-phase source",
        sentence="Three sine voltages in star behind resistances and inductances.",
        group="supply",
        keywords="mains grid three-phase alternating",
        ports=(
            Port("out", Link.AC3, "Three phases", "right"),
            Port("star", Link.LINE, "Star point", "bottom", required=False),
        ),
        values=(
            Value("U", "Voltage, line to line, rms", "V", "400", low=0.0),
            Value("f", "Frequency", "Hz", "50", low=0.0, open_low=True, role=ValueRole.FREQUENCY),
            Value("angle", "Phase of a", "deg", "0"),
            *IMPEDANCE,
        ),
        rows=HARMONICS,
        states=tuple(State(f"i_{n}", f"current of phase {n}", "A") for n in PHASES),
        signals=(
            *(Signal(f"voltage_{n}", f"voltage of phase {n}", "V") for n in PHASES),
            *(Signal(f"current_{n}", f"current of phase {n}", "A") for n in PHASES),
            GRID_POWER,
        ),
        build=build_three_phase,
        summary=lambda v, card: (f"{v['U']} · {v['f']}", v["L_i"]),
        main_signal="power",
        spine="3~",
        symbol=symbols.THREE_PHASE_SOURCE,
    ),
    Part(
        id="set_voltage",
        title="Controlled voltage source",
        sentence="A voltage that a block sets.",
        group="supply",
        keywords="ideal amplifier",
        ports=(*ENDS, SET),
        signals=TWO_ENDED,
        build=build_set_voltage,
        summary=lambda v, card: ("voltage as set",),
        main_signal="voltage",
        symbol=symbols.VOLTAGE_SOURCE,
        conduction=Conduction(ends=(("a", 0), ("b", 0)), holds_voltage=True, stiff=True),
    ),
    Part(
        id="set_current",
        title="Controlled current source",
        sentence="A current that a block sets; it flows out at the first line.",
        group="supply",
        keywords="ideal load injection",
        ports=(*ENDS, SET),
        signals=TWO_ENDED,
        build=build_set_current,
        summary=lambda v, card: ("current as set",),
        main_signal="current",
        symbol=symbols.CURRENT_SOURCE,
    ),
    Part(
        id="pair_opener",
        title="Pair opener",
        sentence="Opens a DC pair into its plus and minus lines, or joins two lines to a pair.",
        group="circuit",
        keywords="terminals split plus minus",
        ports=(
            Port("pair", Link.DC, "Pair", "left"),
            Port("plus", Link.LINE, "Plus line", "right"),
            Port("minus", Link.LINE, "Minus line", "right"),
        ),
        potentials=lambda level: (("pair", "plus", "minus"),),
        build=build_opener,
        summary=lambda v, card: ("+ −",),
        symbol=symbols.PAIR_OPENER,
        conduction=Conduction(joined=((("pair", 0), ("plus", 0)), (("pair", 1), ("minus", 0)))),
    ),
    Part(
        id="phase_opener",
        title="Phase opener",
        sentence="Opens a three-phase connection into single lines, or joins three lines to one.",
        group="circuit",
        keywords="three-phase split fault single",
        ports=(
            Port("phases", Link.AC3, "Three phases", "left"),
            *(Port(n, Link.LINE, f"Phase {n}", "right") for n in PHASES),
        ),
        signals=(
            *(Signal(f"current_{n}", f"current of phase {n}", "A") for n in PHASES),
            *(Signal(f"voltage_{n}", f"potential of phase {n}", "V") for n in PHASES),
        ),
        potentials=lambda level: (("phases", "a", "b", "c"),),
        build=build_phase_opener,
        summary=lambda v, card: ("a b c",),
        symbol=symbols.PHASE_OPENER,
    ),
)
