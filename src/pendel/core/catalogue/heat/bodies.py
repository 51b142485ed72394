"""Bodies of one temperature, ways between them, and what is around: heat stored and carried.

C·dT/dt is the heat that flows in, a resistance carries (T_a − T_b)/R (Incropera, DeWitt: Fundamentals of Heat and
Mass Transfer, chapters 3 and 5; free convection at a plate: h grows with ΔT^¼ where the flow is laminar, chapter 9; a
small grey body in large surroundings, chapter 12; from memory). Temperatures are in °C; heat that flows through a port
counts positive into the part."""

from __future__ import annotations

import casadi as ca

from pendel.core.catalogue.declare import Block, Choice, Link, Part, Port, Signal, State, Value
from pendel.core.catalogue.remarks.too_warm import too_warm
from pendel.core.equations.context import PartContext
from pendel.core.vocabulary import Group, SignalRole, ValueRole

ENDS = (
    Port("a", Link.HEAT, "Warm side", "left", required=False),
    Port("b", Link.HEAT, "Cold side", "right", required=False),
)
ABSOLUTE_ZERO = -273.15
"""°C."""
LIMIT = Value("T_max", "Limit", "°C", "", low=ABSOLUTE_ZERO, role=ValueRole.TEMPERATURE_LIMIT)
"""Of the sheet; none where nothing is entered."""


def build_capacity(c: PartContext) -> None:
    rise, slope = c.state("rise")
    temperature = c.value("T_0") + rise
    flow = ca.SX(0)
    for name in ("a", "b"):
        if c.has(name):
            pin = c.line(name)
            c.equation(pin.across - temperature)
            flow += pin.through
    c.equation(c.value("C") * slope - flow)
    c.signal("temperature", temperature)
    c.signal("heat", flow)
    c.signal("energy", c.value("C") * rise)


CAPACITY = Part(
    id="heat_capacity",
    title="Heat capacity",
    sentence="A body that is as warm everywhere: its temperature rises with the heat that flows in.",
    group=Group.HEAT,
    keywords="thermal mass body housing heat sink winding temperature kelvin celsius",
    ports=ENDS,
    values=(
        Value("C", "Heat capacity", "J/K", "200", low=0.0, open_low=True),
        Value("T_0", "At the start", "°C", "20", low=ABSOLUTE_ZERO),
        LIMIT,
    ),
    states=(State("rise", "rise above its start", "K"),),
    signals=(
        Signal("temperature", "temperature", "°C", role=SignalRole.TEMPERATURE),
        Signal("heat", "heat flow in", "W"),
        Signal("energy", "heat stored since the start", "J"),
    ),
    build=build_capacity,
    summary=lambda v, card: ("capacity", v["C"]),
    main_signal="temperature",
    spine="C",
    remarks=(too_warm("temperature", LIMIT.name),),
)


def way(c: PartContext, flow: ca.SX) -> None:
    """What flows in at the one end flows out at the other."""
    a, b = c.line("a"), c.line("b")
    c.equation(a.through - flow)
    c.equation(b.through + flow)
    c.signal("heat", flow)
    c.signal("difference", a.across - b.across)


def build_resistance(c: PartContext) -> None:
    a, b = c.line("a"), c.line("b")
    way(c, (a.across - b.across) / c.value("R"))


WAY = (Signal("heat", "heat flow", "W"), Signal("difference", "temperature difference", "K"))
BOTH = (Port("a", Link.HEAT, "Warm side", "left"), Port("b", Link.HEAT, "Cold side", "right"))
RESISTANCE = Part(
    id="heat_resistance",
    title="Heat resistance",
    sentence="Carries heat from the warm to the cold side: the temperature difference over a resistance.",
    group=Group.HEAT,
    keywords="thermal resistance conduction case sink grease pad r_th",
    ports=BOTH,
    values=(Value("R", "Heat resistance", "K/W", "0.5", low=0.0, open_low=True),),
    signals=WAY,
    build=build_resistance,
    summary=lambda v, card: ("resistance", v["R"]),
    main_signal="heat",
    spine="R",
)


def build_convection(c: PartContext) -> None:
    a, b = c.line("a"), c.line("b")
    difference = a.across - b.across
    flow = c.value("h") * c.value("A") * difference
    if c.choice("law") == "free":
        # ΔT^¼ about a reference, smooth at zero, where the flow has no slope of its own.
        share = (difference * difference + SMOOTH * SMOOTH) / (c.value("dT_h") * c.value("dT_h"))
        flow = flow * share**0.125
    way(c, flow)


SMOOTH = 0.1
"""K, below which free convection is taken as linear."""
CONVECTION = Part(
    id="convection",
    title="Convection",
    sentence="Carries heat from a surface to what flows along it.",
    group=Group.HEAT,
    keywords="thermal air fan cooling surface film natural free forced",
    ports=BOTH,
    choices=(
        Choice(
            "law",
            "Heat transfer",
            (("constant", "constant, as of a fan"), ("free", "free, grows with the difference to the power of 1/4")),
        ),
    ),
    values=(
        Value("h", "Heat transfer", "W/m²/K", "10", low=0.0, open_low=True),
        Value("A", "Surface", "m²", "0.1", low=0.0, open_low=True),
        Value("dT_h", "at the difference", "K", "30", low=0.0, open_low=True),
    ),
    value_names_in_force=lambda card: {"h", "A"} | ({"dT_h"} if card.choices.get("law") == "free" else set()),
    signals=WAY,
    build=build_convection,
    summary=lambda v, card: ("convection", v["h"]),
    main_signal="heat",
    spine="h",
)


STEFAN_BOLTZMANN = 5.670374419e-8
"""W/m²/K⁴ (CODATA 2018)."""


def build_radiation(c: PartContext) -> None:
    a, b = c.line("a"), c.line("b")
    fourth = (a.across - ABSOLUTE_ZERO) ** 4 - (b.across - ABSOLUTE_ZERO) ** 4
    way(c, c.value("eps") * STEFAN_BOLTZMANN * c.value("A") * fourth)


RADIATION = Part(
    id="heat_radiation",
    title="Radiation",
    sentence="Carries heat from a surface to all that is around it, by the fourth power of both temperatures.",
    group=Group.HEAT,
    keywords="thermal radiation surface emissivity grey body stefan boltzmann",
    ports=BOTH,
    values=(
        Value("eps", "Emissivity", "", "0.9", low=0.0, open_low=True, high=1.0),
        Value("A", "Surface", "m²", "0.1", low=0.0, open_low=True),
    ),
    signals=WAY,
    build=build_radiation,
    summary=lambda v, card: ("radiation", v["A"]),
    main_signal="heat",
    spine="ε",
)


def build_ambient(c: PartContext) -> None:
    pin = c.line("a")
    c.equation(pin.across - c.value("T"))
    c.signal("temperature", pin.across)
    c.signal("heat", pin.through)


AMBIENT = Part(
    id="ambient",
    title="Ambient",
    sentence="Holds a temperature, whatever heat flows into it: air, water, a large plate.",
    group=Group.HEAT,
    keywords="thermal ambient air water coolant surroundings temperature",
    ports=(Port("a", Link.HEAT, "Around", "left"),),
    values=(Value("T", "Temperature", "°C", "20", low=ABSOLUTE_ZERO),),
    signals=(Signal("temperature", "temperature", "°C"), Signal("heat", "heat flow in", "W")),
    build=build_ambient,
    summary=lambda v, card: ("ambient", v["T"]),
    main_signal="heat",
    spine="T",
)


def build_source(c: PartContext) -> None:
    pin = c.line("a")
    c.equation(pin.through + c.value("P"))
    c.signal("heat", c.value("P"))
    c.signal("temperature", pin.across)


SOURCE = Part(
    id="heat_source",
    title="Heat source",
    sentence="Gives a constant heat flow, whatever the temperature.",
    group=Group.HEAT,
    keywords="thermal power loss heater",
    ports=(Port("a", Link.HEAT, "Heat", "right"),),
    values=(Value("P", "Heat flow", "W", "10"),),
    signals=(Signal("heat", "heat flow", "W"), Signal("temperature", "temperature", "°C")),
    build=build_source,
    summary=lambda v, card: ("heat", v["P"]),
    main_signal="temperature",
    spine="P",
)


def build_calorimeter(c: PartContext) -> None:
    pin = c.line("a")
    energy, flow = c.state("energy")
    c.equation(pin.across - c.value("T"))
    c.equation(flow - pin.through)
    c.signal("temperature", pin.across)
    c.signal("heat", pin.through)
    c.signal("energy", energy)


CALORIMETER = Part(
    id="calorimeter",
    title="Calorimeter",
    sentence="Holds a temperature and counts the heat that flows into it.",
    group=Group.HEAT,
    keywords="thermal heat meter count energy loss measurement",
    ports=(Port("a", Link.HEAT, "Heat", "left"),),
    values=(Value("T", "Temperature", "°C", "20", low=ABSOLUTE_ZERO),),
    states=(State("energy", "heat taken", "J"),),
    signals=(
        Signal("temperature", "temperature", "°C", role=SignalRole.TEMPERATURE),
        Signal("heat", "heat flow in", "W"),
        Signal("energy", "heat taken", "J"),
    ),
    build=build_calorimeter,
    summary=lambda v, card: ("calorimeter", v["T"]),
    main_signal="energy",
    spine="J",
)

KINDS: tuple[Part | Block, ...] = (CAPACITY, RESISTANCE, CONVECTION, RADIATION, AMBIENT, SOURCE, CALORIMETER)
