"""Two-level inverter, diode bridges and a load in star.

Mohan, Undeland, Robbins: Power Electronics, 3rd ed., chapters 5 and 8 (from memory).
"""

from __future__ import annotations

import casadi as ca

from pendel.core.catalogue.declare import Choice, Leg, Link, Part, Port, Signal, State, Value
from pendel.core.catalogue.electrical import devices, drawings, symbols
from pendel.core.catalogue.electrical.devices import Ratings
from pendel.core.catalogue.electrical.legs import leg_converter, leg_port, mean_leg, pulsed_leg
from pendel.core.catalogue.electrical.pulse_values import CARRIER, SAMPLING, ratings
from pendel.core.catalogue.electrical.switches import DIODE, R_OFF, blocking
from pendel.core.catalogue.heat.port import heat_port
from pendel.core.equations.context import PartContext, Pin
from pendel.core.vocabulary import SignalRole

PHASES = ("a", "b", "c")


def build_inverter(c: PartContext) -> None:
    """Averaged: each pole at its share of u_dc above the minus line, less the drops of its leg; switching:
    three legs."""
    plus, minus = c.pins("dc")
    poles = c.pins("out")
    u_dc = plus.across - minus.across
    link, loss, delivered, switched = ca.SX(0), ca.SX(0), ca.SX(0), ca.SX(0)
    opens = c.choice("below") == "opens"
    for name, pole in zip(PHASES, poles):
        load = -pole.through
        duty = ca.fmax(0.0, ca.fmin(1.0, c.input(f"d_{name}")))
        height = pole.across - minus.across
        if c.level == "averaged":
            leg = mean_leg(c, name, duty, load, u_dc)
            share, drop = leg.share, leg.drop
            switched += leg.switched
            if opens:
                driven = 1 - open_mode(c, name)
                into_link, lost = open_or_driven(c, name, driven, height - share * u_dc + drop, pole, plus, minus)
            else:
                c.equation(height - share * u_dc + drop)
                driven, into_link, lost = ca.SX(1), ca.SX(0), ca.SX(0)
            link += driven * share * load - into_link
            of_leg = driven * drop * load + lost
            c.lost(of_leg, to=leg_port(c, name))
            c.warms(leg.switched, leg_port(c, name))
            loss += of_leg
        else:
            upper, lower = pulsed_leg(
                c,
                Leg(name),
                f"d_{name}",
                plus.across,
                pole.across,
                minus.across,
                carrier=c.choice("carrier"),
                opens=opens,
            )
            c.equation(load - upper.i + lower.i)
            link += upper.i
            loss += upper.loss + lower.loss
        delivered += height * load
        c.signal(f"pole_{name}", height)
        c.signal(f"current_{name}", load)
    c.equation(plus.through - link)
    c.equation(plus.through + minus.through + sum((p.through for p in poles), ca.SX(0)))
    if c.level == "averaged":
        c.signal("switching_loss", switched)
    c.signal("link_voltage", u_dc)
    c.signal("link_current", plus.through)
    c.signal("line_voltage", poles[0].across - poles[1].across)
    c.signal("power", delivered)
    c.signal("loss", loss)


TINY_DUTY = 1e-9


def open_mode(c: PartContext, name: str) -> ca.SX:
    """1 while the leg's duty is below zero. A mode, as what is stiff and what is not depends on it."""
    mode = c.mode(f"{name}_open", 0)
    duty = c.input(f"d_{name}")
    mode.transitions += [(0, -duty - TINY_DUTY, 1), (1, duty + TINY_DUTY, 0)]
    return mode.symbol


def open_or_driven(
    c: PartContext, name: str, driven: ca.SX, averaged: ca.SX, pole: Pin, plus: Pin, minus: Pin
) -> tuple[ca.SX, ca.SX]:
    """A leg that is averaged while driven (residual ``averaged``, V); open, only its diodes lead its current.

    Returns the current (A) that its open leg's diodes bring into the link and what they lose (W).
    """
    r = ratings(c, leg_port(c, name))
    upper = devices.diode(c, f"{name}_upper_free", pole.across - plus.across, r)
    lower = devices.diode(c, f"{name}_lower_free", minus.across - pole.across, r)
    c.equation(driven * averaged / r.r_on + (1 - driven) * (upper.i - lower.i - pole.through))
    return (1 - driven) * upper.i, (1 - driven) * (upper.loss + lower.loss)


def build_rectifier(c: PartContext) -> None:
    """Diodes from every input line to plus and from minus to every input line."""
    plus, minus = c.pins("dc")
    lines = c.pins("in") if c.has("in") else [c.line("a"), c.line("b")]
    r = Ratings(ca.SX(1), c.value("R_off"), c.value("V_d"), c.value("R_d"))
    link, loss = ca.SX(0), ca.SX(0)
    names = PHASES if len(lines) == 3 else ("a", "b")
    for name, line in zip(names, lines):
        upper = devices.diode(c, f"{name}_upper", line.across - plus.across, r)
        lower = devices.diode(c, f"{name}_lower", minus.across - line.across, r)
        c.equation(line.through - upper.i + lower.i)
        link += upper.i
        loss += upper.loss + lower.loss
        c.signal(f"current_{name}", line.through)
        c.signal(f"current_{name}_upper", upper.i)
        c.signal(f"current_{name}_lower", lower.i)
    c.equation(plus.through + link)
    c.equation(plus.through + minus.through + sum((line.through for line in lines), ca.SX(0)))
    u_dc = plus.across - minus.across
    c.signal("output_voltage", u_dc)
    c.signal("output_current", link)
    c.signal("power", u_dc * link)
    c.signal("loss", loss)
    c.lost(loss)


def build_star_load(c: PartContext) -> None:
    """u = R·i + L·di/dt in each phase; an unconnected star point is open."""
    star = c.line("star")
    total, lost, stored = ca.SX(0), ca.SX(0), ca.SX(0)
    r, inductance = c.parasitic("R"), c.value("L")
    for name, pin in zip(PHASES, c.pins("in")):
        current, slope = c.state(f"i_{name}")
        u = pin.across - star.across
        c.equation(pin.through - current)
        c.equation(inductance * slope - (u - r * current))
        total += current
        lost += r * current * current
        stored += inductance * current * current / 2
        c.signal(f"voltage_{name}", u)
        c.signal(f"current_{name}", current)
    c.equation(star.through + total)
    c.signal("star_voltage", star.across)
    c.signal("power", lost)
    c.lost(lost)
    c.stored(stored)


def build_reactor(c: PartContext) -> None:
    """u_in − u_out = R·i + L·di/dt in each line; the current flows in at the first side."""
    lost, stored = ca.SX(0), ca.SX(0)
    r, inductance = c.parasitic("R"), c.value("L")
    pins = c.pins("in")
    others = c.pins("out")
    star, far_star = (sum((pin.across for pin in side), ca.SX(0)) / 3.0 for side in (pins, others))
    for name, pin, other in zip(PHASES, pins, others):
        current, slope = c.state(f"i_{name}")
        c.equation(pin.through - current)
        c.equation(other.through + current)
        c.equation(inductance * slope - (pin.across - other.across - r * current))
        lost += r * current * current
        stored += inductance * current * current / 2
        c.signal(f"voltage_{name}", pin.across - star)
        c.signal(f"voltage_out_{name}", other.across - far_star)
        c.signal(f"current_{name}", current)
    c.signal("power", sum(((pin.across - star) * pin.through for pin in pins), ca.SX(0)))
    c.signal("loss", lost)
    c.lost(lost)
    c.stored(stored)


def phase_signals(name: str, words: str, unit: str, levels: tuple[str, ...] = ()) -> tuple[Signal, ...]:
    return tuple(Signal(f"{name}_{n}", f"{words} {n}", unit, levels) for n in PHASES)


def rectifier(id: str, title: str, sentence: str, ports: tuple[Port, ...], names: tuple[str, ...]) -> Part:
    return Part(
        id=id,
        title=title,
        sentence=sentence,
        group="converter",
        keywords="diode bridge rectifier b2 b6",
        values=(*DIODE, R_OFF),
        equation_values=blocking,
        build=build_rectifier,
        drawing=drawings.rectifier(names),
        ports=(*ports, Port("dc", Link.DC, "DC output", "right"), heat_port("Heat of its diodes")),
        potentials=lambda level: ((*(p.name for p in ports), "dc"),),
        signals=(
            Signal("output_voltage", "output voltage", "V"),
            Signal("output_current", "output current", "A"),
            Signal("power", "power", "W"),
            Signal("loss", "loss", "W"),
            *(Signal(f"current_{n}", f"current of line {n}", "A") for n in names),
            *(Signal(f"current_{n}_{s}", f"current of diode {n}, {s}", "A") for n in names for s in ("upper", "lower")),
        ),
        summary=lambda v, card: ("diodes", f"drop {v['V_d']}"),
        main_signal="output_voltage",
        spine="≡",
    )


BELOW = Choice("below", "A duty below 0", (("zero", "counts as 0"), ("opens", "opens the leg")))
KINDS = (
    leg_converter(
        id="inverter",
        title="Three-phase inverter",
        sentence="Three legs between a DC link and three phases; energy flows either way.",
        keywords="two-level active front end rectifier voltage source b6 bridge",
        ports=(
            Port("dc", Link.DC, "DC link", "left"),
            Port("out", Link.AC3, "Three phases", "right"),
            *(Port(f"d_{n}", Link.SIGNAL_IN, f"Duty of {n}, 0 to 1", "bottom", high=1.0) for n in PHASES),
        ),
        names=PHASES,
        choices=(CARRIER, SAMPLING, BELOW),
        drawing=drawings.INVERTER,
        signals=(
            Signal("link_voltage", "link voltage", "V", role=SignalRole.LINK_VOLTAGE),
            Signal("link_current", "link current", "A"),
            Signal("line_voltage", "voltage from a to b", "V"),
            Signal("power", "power", "W"),
            Signal("loss", "loss", "W"),
            *phase_signals("pole", "voltage of pole", "V"),
            *phase_signals("current", "current of phase", "A"),
        ),
        build=build_inverter,
        main_signal="line_voltage",
        face_signal="link_voltage",
    ),
    Part(
        id="line_reactor",
        title="Line reactor",
        sentence="A resistance and an inductance in each of three lines.",
        group="circuit",
        keywords="choke coil inductor three-phase commutation filter",
        ports=(Port("in", Link.AC3, "First side", "left"), Port("out", Link.AC3, "Second side", "right"), heat_port()),
        values=(
            Value("R", "Resistance of a line", "mΩ", "20", low=0.0),
            Value("L", "Inductance of a line", "mH", "1.5", low=0.0, open_low=True),
        ),
        states=tuple(State(f"i_{n}", f"current of phase {n}", "A") for n in PHASES),
        signals=(
            *phase_signals("voltage", "voltage before, phase", "V"),
            *phase_signals("voltage_out", "voltage behind, phase", "V"),
            *phase_signals("current", "current of phase", "A"),
            Signal("power", "power into the first side", "W"),
            Signal("loss", "loss", "W"),
        ),
        build=build_reactor,
        summary=lambda v, card: (v["L"], v["R"]),
        main_signal="current_a",
    ),
    rectifier(
        "diode_bridge",
        "Diode bridge",
        "Four diodes that rectify a single-phase voltage.",
        (Port("a", Link.LINE, "First AC line", "left"), Port("b", Link.LINE, "Second AC line", "left")),
        ("a", "b"),
    ),
    rectifier(
        "diode_bridge_3",
        "Three-phase diode bridge",
        "Six diodes that rectify three phases.",
        (Port("in", Link.AC3, "Three phases", "left"),),
        PHASES,
    ),
    Part(
        id="star_load",
        title="Load in star",
        sentence="Three equal resistances and inductances in star.",
        group="load",
        keywords="three-phase rl resistor inductor",
        ports=(
            Port("in", Link.AC3, "Three phases", "left"),
            Port("star", Link.LINE, "Star point", "bottom", required=False),
        ),
        values=(
            Value("R", "Resistance of a phase", "Ω", "5", low=0.0),
            Value("L", "Inductance of a phase", "mH", "5", low=0.0, open_low=True),
        ),
        states=tuple(State(f"i_{n}", f"current of phase {n}", "A") for n in PHASES),
        signals=(
            *phase_signals("voltage", "voltage of phase", "V"),
            *phase_signals("current", "current of phase", "A"),
            Signal("star_voltage", "potential of the star point", "V"),
            Signal("power", "power", "W"),
        ),
        build=build_star_load,
        summary=lambda v, card: (v["R"], v["L"]),
        main_signal="current_a",
        spine="⋏",
        symbol=symbols.STAR,
    ),
)
