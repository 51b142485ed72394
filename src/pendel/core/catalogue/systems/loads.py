"""What else takes power from a link: a resistance, a load of constant power, and a converter by its losses."""

from __future__ import annotations

import casadi as ca

from pendel.core.catalogue.declare import Figure, Link, Part, Port, Signal, Value, Values
from pendel.core.catalogue.electrical.passives import OVER_KELVIN, TWO_ENDED, by_temperature, report
from pendel.core.catalogue.heat.port import heat_port
from pendel.core.drive.document import Card
from pendel.core.equations.context import PartContext
from pendel.core.vocabulary import Conduction, Group

DC = Port("dc", Link.DC, "DC input", "left")


def build_power(c: PartContext) -> None:
    """i = P/u; below a voltage it is a resistance, so that nothing is asked for without end."""
    u, i = c.pair("dc")
    low = c.value("U_low")
    power = c.value("P")
    current = ca.if_else(u > low, power / ca.fmax(u, low), power * u / (low * low))
    c.equation(i - current)
    c.signal("power", u * current)
    c.signal("current", current)
    c.signal("voltage", u)
    c.delivered(u * current)


def build_resistive(c: PartContext) -> None:
    """i = u/R, with R by its temperature where that is wired."""
    u, i = c.pair("dc")
    c.equation(u - by_temperature(c, "R") * i)
    report(c, u, i)
    c.lost(u * i)


def build_converter(c: PartContext) -> None:
    """Its output holds a voltage, and gives way with the input below what that needs; its input takes the power of the
    output and the losses."""
    u, i = c.pair("dc")
    out, out_through = c.pair("out")
    current = -out_through
    low = c.value("U_low")
    share = ca.fmin(1, ca.fmax(0, 2 * u / low - 1))
    c.equation(out - (share * c.value("U_out") - c.value("R_out") * current))
    loss = share * c.value("P_0") + c.value("U_d") * ca.fabs(current) + c.value("R_loss") * current * current
    c.equation(i - (out * current + loss) / ca.fmax(u, low / 2))
    c.signal("input_current", i)
    c.signal("output_voltage", out)
    c.signal("output_current", current)
    c.signal("power", out * current)
    c.signal("loss", u * i - out * current)
    c.lost(u * i - out * current)


def follows(v: Values, card: Card) -> list[Figure]:
    best = (v["P_0"] / v["R_loss"]) ** 0.5 if v["R_loss"] > 0 else 0.0
    out = v["U_out"] * best
    loss = v["P_0"] + v["U_d"] * best + v["R_loss"] * best**2
    if not out:
        return []
    return [
        Figure("Best efficiency", "η", out / (out + loss), "%"),
        Figure("at an output current of", "I", best, "A"),
    ]


ACROSS = Conduction(ends=(("dc", 0), ("dc", 1)))
CONVERTER_PORTS = (DC, Port("out", Link.DC, "DC output", "right"), heat_port())
HOLDS = (
    Value("U_out", "Output voltage", "V", "24", low=0.0, open_low=True),
    Value("R_out", "Output resistance", "mΩ", "5", low=0.0, open_low=True),
    Value("U_low", "Gives way below", "V", "60", low=0.0, open_low=True),
)
CONVERTER_SIGNALS = (
    Signal("input_current", "input current", "A"),
    Signal("output_voltage", "output voltage", "V"),
    Signal("output_current", "output current", "A"),
    Signal("power", "output power", "W"),
    Signal("loss", "loss", "W"),
)
CONVERTER_CONDUCTION = Conduction(ends=(("out", 0), ("out", 1)), holds_voltage=True, stiff=True)
KINDS = (
    Part(
        id="power_load",
        title="Load of constant power",
        sentence="Takes the same power whatever the voltage, such as what is fed by converters of its own.",
        group=Group.LOAD,
        keywords="auxiliaries constant power electronics heating lights",
        ports=(DC,),
        values=(
            Value("P", "Power", "W", "300", low=0.0),
            Value("U_low", "A resistance below", "V", "10", low=0.0, open_low=True),
        ),
        signals=(Signal("power", "power", "W"), Signal("current", "current", "A"), Signal("voltage", "voltage", "V")),
        build=build_power,
        summary=lambda v, card: ("constant power", v["P"]),
        main_signal="power",
        spine="P",
        conduction=ACROSS,
    ),
    Part(
        id="resistive_load",
        title="Resistive load",
        sentence="A resistance across a DC pair, as a heater or a load on the test bench.",
        group=Group.LOAD,
        keywords="resistor ohm heater brake chopper test dc link pair",
        ports=(DC, heat_port()),
        values=(Value("R", "Resistance", "Ω", "10", low=0.0, open_low=True), OVER_KELVIN),
        signals=TWO_ENDED,
        build=build_resistive,
        summary=lambda v, card: (v["R"],),
        main_signal="power",
        spine="R",
        conduction=ACROSS,
    ),
    Part(
        id="converter_by_losses",
        title="DC-DC converter, by its losses",
        sentence="Holds an output voltage and takes its power and its losses from the input.",
        group=Group.CONVERTER,
        keywords="dcdc efficiency map auxiliary supply system trip",
        ports=CONVERTER_PORTS,
        values=(
            *HOLDS,
            Value("P_0", "Loss without load", "W", "6", low=0.0),
            Value("U_d", "Loss by current", "V", "0.4", low=0.0),
            Value("R_loss", "Loss by current²", "mΩ", "15", low=0.0),
        ),
        signals=CONVERTER_SIGNALS,
        build=build_converter,
        follows=follows,
        summary=lambda v, card: (v["U_out"], "by losses"),
        main_signal="power",
        spine="= =",
        conduction=CONVERTER_CONDUCTION,
    ),
)
