"""Step-down, step-up and inverting converter with choke and capacitor, and the half bridge.

Switching: a transistor and a diode around the choke. Averaged: the choke's mean current i and the capacitor's
voltage; while the transistor conducts (share d of a period) the choke sees u_1, while the diode conducts
(share d_2) u_2. In discontinuous conduction d_2 = 2·L·f·i/(d·u_1) − d, which the share 1 − d bounds, so that
one set of equations holds in both; where u_2 charges the choke too, d_2 is 1 − d. Sun, Mitchell, Greuel,
Krein, Bass: IEEE Trans. Power Electronics 16 (2001) 482."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import casadi as ca

from pendel.core.catalogue.declare import Figure, Leg, Link, Part, Port, Signal, State, Value, Values
from pendel.core.catalogue.electrical import devices, drawings
from pendel.core.catalogue.electrical import pulse_values as pulses
from pendel.core.catalogue.electrical.legs import leg_converter, mean_leg, pulsed_leg
from pendel.core.catalogue.electrical.pulse_values import (
    CARRIER,
    LEVEL_CHOICE,
    PULSED,
    SAMPLING,
    ratings,
    with_off_resistance,
)
from pendel.core.catalogue.heat.port import heat_port
from pendel.core.drive.document import Card
from pendel.core.equations.context import PartContext
from pendel.core.vocabulary import SignalRole

SMALLEST_SHARE = 1e-4
SMALLEST_VOLTAGE = 1e-3
ALL_THE_TIME = 1e-3
"""Of the input voltage: from there on what charges the choke while its diode conducts keeps it conducting."""


@dataclass(frozen=True)
class Shape:
    """Where the current of the choke goes."""

    name: str
    feeds_while_on: bool
    """Whether the choke's current reaches the output while the transistor conducts."""
    draws_while_off: bool
    """Whether the input supplies the choke's current while the diode conducts."""


STEP_DOWN = Shape("step-down", True, False)
STEP_UP = Shape("step-up", False, True)
INVERTING = Shape("inverting", False, False)


def choke_voltages(shape: Shape, u_in: ca.SX, u_out: ca.SX) -> tuple[ca.SX, ca.SX]:
    """Voltage of the choke while the transistor and while the diode conducts."""
    return {
        STEP_DOWN: (u_in - u_out, -u_out),
        STEP_UP: (u_in, u_in - u_out),
        INVERTING: (u_in, -u_out),
    }[shape]


def builder(shape: Shape) -> Callable[[PartContext], None]:
    def build(c: PartContext) -> None:
        plus, minus = c.pins("dc")
        out_plus, out_minus = c.pins("out")
        u_in = plus.across - minus.across
        # The inverting converter's output is turned round, so that its plus line is the input's minus line.
        common, hot = (out_plus, out_minus) if shape is INVERTING else (out_minus, out_plus)
        c.equation(common.across - minus.across)
        u_out = out_plus.across - out_minus.across
        current, slope = c.state("i")
        voltage, rise = c.state("u")
        fed, drawn = c.unknown("fed"), c.unknown("drawn")
        load = -out_plus.through
        into_capacitor = fed - load
        c.equation(c.value("C") * rise - into_capacitor)
        c.equation(u_out - voltage - c.parasitic("R_C") * into_capacitor)
        c.equation(out_plus.through + out_minus.through + plus.through + minus.through)
        c.equation(plus.through - drawn)
        circuit = Circuit(shape, u_in, u_out, plus.across, minus.across, hot.across, current, slope, fed, drawn)
        loss = (averaged if c.level == "averaged" else switching)(c, circuit)
        loss += c.parasitic("R_C") * into_capacitor * into_capacitor
        c.signal("loss", loss)
        c.lost(loss)
        c.signal("input_voltage", u_in)
        c.signal("input_current", plus.through)
        c.signal("output_voltage", u_out)
        c.signal("output_current", load)
        c.signal("choke_current", current)
        c.signal("power", u_out * load)
        c.stored(c.value("L") * current * current / 2 + c.value("C") * voltage * voltage / 2)

    return build


@dataclass(frozen=True)
class Circuit:
    """What both levels work on: voltages and potentials (V), the choke's current (A) and its slope, what is
    fed and drawn (A)."""

    shape: Shape
    u_in: ca.SX
    u_out: ca.SX
    plus: ca.SX
    ground: ca.SX
    hot: ca.SX
    current: ca.SX
    slope: ca.SX
    fed: ca.SX
    drawn: ca.SX


def averaged(c: PartContext, circuit: Circuit) -> ca.SX:
    r, shape, current = ratings(c), circuit.shape, circuit.current
    d = ca.fmax(SMALLEST_SHARE, ca.fmin(1.0, c.input("duty")))
    on, off = choke_voltages(shape, circuit.u_in, circuit.u_out)
    inductance, f = c.value("L"), c.value("f_p")
    # The smallest choke voltage keeps the share finite while the converter is without input.
    d_2 = 2.0 * inductance * f * current / (d * ca.fmax(on, SMALLEST_VOLTAGE)) - d
    # A choke that the diode does not discharge, as in a step-up converter whose output is below its input,
    # carries current all
    # the time. Without this, no current would be an unstable equilibrium, at which implicit methods stay.
    charges = (off - r.drop) / (ALL_THE_TIME * ca.fmax(on, SMALLEST_VOLTAGE))
    d_2 = ca.fmax(d_2, (1.0 - d) * ca.fmin(1.0, charges))
    d_2 = ca.fmax(0.0, ca.fmin(1.0 - d, d_2))
    share = d + d_2
    while_conducting = current / share
    drop = d * r.r_on * while_conducting + d_2 * (r.drop + r.r_diode * while_conducting) + c.parasitic("R_L") * current
    c.equation(inductance * circuit.slope - (d * on + d_2 * off - drop))
    c.equation(circuit.fed - while_conducting * (d * shape.feeds_while_on + d_2))
    c.equation(circuit.drawn - while_conducting * (d + d_2 * shape.draws_while_off))
    c.signal("duty_ratio", d)
    c.signal("conduction_share", share)
    return drop * while_conducting


def switching(c: PartContext, circuit: Circuit) -> ca.SX:
    r, shape, current = ratings(c), circuit.shape, circuit.current
    gate = c.gate("gate")
    c.pulse(
        "duty",
        "gate",
        carrier=c.choice("carrier"),
        sampling=c.choice("sampling"),
        numbers=pulses.pulse_numbers(c),
    )
    node = c.unknown("node")
    """Potential between transistor, diode and choke."""
    plus, ground, hot = circuit.plus, circuit.ground, circuit.hot
    transistor_u, diode_u, coil_u = {
        STEP_DOWN: (plus - node, ground - node, node - hot),
        STEP_UP: (node - ground, node - hot, plus - node),
        INVERTING: (plus - node, hot - node, node - ground),
    }[shape]
    transistor = devices.transistor(c, "transistor", transistor_u, gate, r)
    diode = devices.diode(c, "diode", diode_u, r)
    c.equation(c.value("L") * circuit.slope - (coil_u - c.parasitic("R_L") * current))
    c.equation(current - transistor.i - diode.i)
    c.equation(circuit.fed - (current if shape is STEP_DOWN else diode.i))
    c.equation(circuit.drawn - (current if shape is STEP_UP else transistor.i))
    c.signal("duty_ratio", ca.fmax(0.0, ca.fmin(1.0, c.input("duty"))))
    c.signal("gate", gate)
    c.signal("transistor_current", transistor.i)
    c.signal("diode_current", diode.i)
    c.signal("transistor_voltage", transistor_u)
    return transistor.loss + diode.loss + c.parasitic("R_L") * current * current


def build_half_bridge(c: PartContext) -> None:
    """Averaged: u_out = d·u_dc less the drops of the leg; switching: one leg, its pole against the minus
    line."""
    plus, minus = c.pins("dc")
    pole, back = c.pins("out")
    u_dc, u_out = plus.across - minus.across, pole.across - back.across
    load = -pole.through
    c.equation(back.across - minus.across)
    c.equation(plus.through + minus.through + pole.through + back.through)
    drawn, loss = one_leg(c, plus.across, pole.across, minus.across, load)
    c.equation(plus.through - drawn)
    report_bridge(c, u_out, load, u_dc, plus.through, loss)


def build_split_bridge(c: PartContext) -> None:
    """One leg against the middle of two capacitors in series on the link: C·du/dt of each, and half the link
    about it."""
    plus, minus = c.pins("dc")
    pole, middle = c.pins("out")
    upper, rise_upper = c.state("u_upper")
    lower, rise_lower = c.state("u_lower")
    load = -pole.through
    c.equation(plus.across - middle.across - upper)
    c.equation(middle.across - minus.across - lower)
    drawn, loss = one_leg(c, plus.across, pole.across, minus.across, load)
    capacity = c.value("C")
    c.equation(plus.through - drawn - capacity * rise_upper)
    c.equation(middle.through + capacity * rise_upper - capacity * rise_lower)
    c.equation(plus.through + minus.through + pole.through + middle.through)
    c.stored(capacity * (upper * upper + lower * lower) / 2)
    c.signal("middle_voltage", lower)
    report_bridge(c, pole.across - middle.across, load, upper + lower, plus.through, loss)


def one_leg(c: PartContext, top: ca.SX, pole: ca.SX, bottom: ca.SX, load: ca.SX) -> tuple[ca.SX, ca.SX]:
    """State the leg; the current it draws from the top (A) and its loss (W)."""
    duty = ca.fmax(0.0, ca.fmin(1.0, c.input("duty")))
    c.signal("duty_ratio", duty)
    if c.level == "averaged":
        leg = mean_leg(c, "leg", duty, load, top - bottom)
        c.equation(pole - bottom - leg.share * (top - bottom) + leg.drop)
        c.signal("switching_loss", leg.switched)
        c.lost(leg.drop * load)
        c.warms(leg.switched)
        return leg.share * load, leg.drop * load
    upper, lower = pulsed_leg(c, Leg(""), "duty", top, pole, bottom, carrier=c.choice("carrier"))
    c.equation(load - upper.i + lower.i)
    return upper.i, upper.loss + lower.loss


def report_bridge(c: PartContext, u_out: ca.SX, load: ca.SX, u_dc: ca.SX, i_dc: ca.SX, loss: ca.SX) -> None:
    c.signal("output_voltage", u_out)
    c.signal("output_current", load)
    c.signal("link_voltage", u_dc)
    c.signal("link_current", i_dc)
    c.signal("power", u_out * load)
    c.signal("loss", loss)


def conduction(v: Values, card: Card) -> list[Figure]:
    return [
        *pulses.pulse_follows(v, card),
        Figure("Critical load resistance at duty ½", "R_krit", critical_resistance(v, card), "Ω"),
    ]


def critical_resistance(v: Values, card: Card) -> float:
    """Load above which conduction is discontinuous at duty ½: K = 2L·f/R equals K_crit(½).

    Erickson, Maksimović, table 5.2: K_crit = 1 − d (step-down), d·(1 − d)² (step-up), (1 − d)² (inverting).
    """
    critical = {"step_down": 0.5, "step_up": 0.125, "inverting": 0.25}[card.kind]
    return 2.0 * v["L"] * v["f_p"] / critical


PAIRS = (
    Port("dc", Link.DC, "Input", "left"),
    Port("out", Link.DC, "Output", "right"),
    Port("duty", Link.SIGNAL_IN, "Duty, 0 to 1", "bottom", low=0.0, high=1.0),
)
FILTER = (
    Value("L", "Choke inductance", "µH", "100", low=0.0, open_low=True),
    Value("R_L", "Choke resistance", "mΩ", "20", low=0.0),
    Value("C", "Output capacitance", "µF", "220", low=0.0, open_low=True),
    Value("R_C", "Capacitor resistance", "mΩ", "5", low=0.0),
)
CHOICES = (LEVEL_CHOICE, CARRIER, SAMPLING)
SIGNALS = (
    Signal("input_voltage", "input voltage", "V"),
    Signal("input_current", "input current", "A"),
    Signal("output_voltage", "output voltage", "V"),
    Signal("output_current", "output current", "A"),
    Signal("choke_current", "choke current", "A"),
    Signal("duty_ratio", "duty", ""),
    Signal("power", "power", "W"),
    Signal("loss", "loss", "W"),
    Signal("conduction_share", "share of conduction", "", ("averaged",)),
    Signal("gate", "gate", "", PULSED),
    Signal("transistor_current", "current of the transistor", "A", PULSED),
    Signal("diode_current", "current of the diode", "A", PULSED),
    Signal("transistor_voltage", "voltage of the transistor", "V", PULSED),
)


def converter(id: str, title: str, sentence: str, keywords: str, shape: Shape) -> Part:
    return Part(
        id=id,
        title=title,
        sentence=sentence,
        group="converter",
        keywords=keywords + " dc-dc chopper converter",
        ports=(*PAIRS, heat_port("Heat of devices and choke")),
        values=(*FILTER, *(replace(v, levels=()) for v in pulses.SWITCH_VALUES), *pulses.PULSE_VALUES[:1]),
        choices=CHOICES,
        levels=("averaged", "switching"),
        potentials=lambda level: (("dc", "out"),),
        states=(State("i", "choke current", "A"), State("u", "capacitor voltage", "V")),
        signals=SIGNALS,
        equation_values=lambda v, card: {
            **with_off_resistance(v, card),
            "t_dead": 0.0,
            "t_least": 0.0,
            "shift": 0.0,
        },
        follows=conduction,
        build=builder(shape),
        drawing={STEP_DOWN: drawings.STEP_DOWN, STEP_UP: drawings.STEP_UP, INVERTING: drawings.INVERTING}[shape],
        summary=lambda v, card: (v["f_p"], v["L"]),
        main_signal="output_voltage",
        spine="≡",
    )


BRIDGE_SIGNALS = (
    Signal("output_voltage", "output voltage", "V"),
    Signal("output_current", "output current", "A"),
    Signal("link_voltage", "link voltage", "V", role=SignalRole.LINK_VOLTAGE),
    Signal("link_current", "link current", "A"),
    Signal("duty_ratio", "duty", ""),
    Signal("power", "power", "W"),
    Signal("loss", "loss", "W"),
)


def half_bridge(out: str, signals: tuple[Signal, ...] = (), **more: Any) -> Part:
    ports = (PAIRS[0], Port("out", Link.DC, out, "right"), PAIRS[2])
    return leg_converter(
        names=("",), ports=ports, choices=(CARRIER, SAMPLING), signals=(*BRIDGE_SIGNALS, *signals), **more
    )


KINDS = (
    converter("step_down", "Step-down converter", "Lowers a DC voltage by its duty.", "buck", STEP_DOWN),
    converter("step_up", "Step-up converter", "Raises a DC voltage.", "boost", STEP_UP),
    converter(
        "inverting",
        "Inverting converter",
        "Turns a DC voltage into one of the other sign, lower or higher.",
        "buck-boost flyback",
        INVERTING,
    ),
    half_bridge(
        "Pole and minus",
        id="half_bridge",
        title="Half bridge",
        sentence="Two switches that pass energy both ways between a link and a lower voltage.",
        keywords="two-way bidirectional leg chopper synchronous",
        drawing=drawings.HALF_BRIDGE,
        build=build_half_bridge,
    ),
    half_bridge(
        "Pole and middle",
        (Signal("middle_voltage", "voltage of the lower half", "V"),),
        id="split_half_bridge",
        title="Half bridge with split link",
        sentence="A leg against the middle of two link capacitors; its output takes either sign.",
        keywords="midpoint divided grid single-phase inverter",
        values=(Value("C", "Capacitance, each", "µF", "1000", low=0.0, open_low=True),),
        drawing=drawings.SPLIT_HALF_BRIDGE,
        build=build_split_bridge,
        states=(
            State("u_upper", "voltage of the upper half", "V"),
            State("u_lower", "voltage of the lower half", "V"),
        ),
    ),
)
