"""Resistor, inductor, capacitor, coupled inductors and transformers, each between single lines.

The current of a part flows in at a and out at b. Erickson, Maksimović: Fundamentals of Power Electronics, 3rd
ed., chapters 2 and 10; transformer: Fitzgerald, Kingsley, Umans: Electric Machinery, 6th ed., chapter 2 (from
memory)."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import replace

import casadi as ca

from pendel.core.catalogue.declare import (
    Contradiction,
    Figure,
    Link,
    Part,
    Port,
    Signal,
    State,
    Value,
    Values,
)
from pendel.core.catalogue.electrical import symbols
from pendel.core.catalogue.heat.port import heat_port
from pendel.core.drive.document import Card
from pendel.core.equations.context import HEAT, PartContext

ENDS = (Port("a", Link.LINE, "First line", "left"), Port("b", Link.LINE, "Second line", "right"))
TWO_ENDED = (
    Signal("voltage", "voltage", "V"),
    Signal("current", "current", "A"),
    Signal("power", "power", "W"),
)


def between(c: PartContext, first: str = "a", second: str = "b") -> tuple[ca.SX, ca.SX]:
    """Voltage from one line to another and the current in at the first; what flows in flows out."""
    a, b = c.line(first), c.line(second)
    c.equation(a.through + b.through)
    return a.across - b.across, a.through


def report(c: PartContext, u: ca.SX, i: ca.SX) -> None:
    c.signal("voltage", u)
    c.signal("current", i)
    c.signal("power", u * i)


def by_temperature(c: PartContext, name: str) -> ca.SX:
    """A resistance at the temperature of the heat port, where that is wired; as entered at 20 °C."""
    if c.is_zero(name) or not c.has(HEAT):
        return c.parasitic(name)
    return c.value(name) * ca.fmax(0.0, 1.0 + c.value(OVER_KELVIN.name) * (c.temperature(20.0) - 20.0))


OVER_KELVIN = Value("alpha", "R over temperature", "%/K", "0", low=-0.05, high=0.05)
"""About 20 °C; 0.393 %/K for copper (IEC 60034-1, from memory). It counts where the heat port is wired."""
COPPER = "0.393"


def build_resistor(c: PartContext) -> None:
    u, i = between(c)
    c.equation(u - by_temperature(c, "R") * i)
    report(c, u, i)
    c.lost(u * i)


def build_inductor(c: PartContext) -> None:
    u, i = between(c)
    current, slope = c.state("i")
    r, inductance, g = by_temperature(c, "R_s"), c.value("L"), c.parasitic("G_p")
    coil = c.unknown("u_coil")
    c.equation(inductance * slope - (coil - r * current))
    c.equation(coil - u)
    c.equation(i - current - g * u)
    report(c, u, i)
    c.signal("flux", inductance * current)
    c.lost(r * current * current + g * u * u)
    c.stored(inductance * current * current / 2)


def build_capacitor(c: PartContext) -> None:
    u, i = between(c)
    voltage, slope = c.state("u")
    r, capacity, g = c.parasitic("R_s"), c.value("C"), c.parasitic("G_p")
    c.equation(i - capacity * slope - g * voltage)
    c.equation(u - voltage - r * i)
    report(c, u, i)
    c.signal("charge", capacity * voltage)
    c.lost(r * i * i + g * voltage * voltage)
    c.stored(capacity * voltage * voltage / 2)


def build_coupled(c: PartContext) -> None:
    """u_1 = R_1·i_1 + L_1·di_1/dt + M·di_2/dt, likewise for 2; M = k·√(L_1·L_2). Dots at a and c."""
    first, second = between(c), between(c, "c", "d")
    l_1, l_2 = c.value("L_1"), c.value("L_2")
    mutual = c.value("k") * ca.sqrt(l_1 * l_2)
    (i_1, di_1), (i_2, di_2) = c.state("i_1"), c.state("i_2")
    for (u, i), own, r, state, d_own, d_other in (
        (first, l_1, c.parasitic("R_1"), i_1, di_1, di_2),
        (second, l_2, c.parasitic("R_2"), i_2, di_2, di_1),
    ):
        c.equation(i - state)
        c.equation(own * d_own + mutual * d_other - (u - r * state))
    for n, (u, i) in enumerate((first, second), 1):
        c.signal(f"voltage_{n}", u)
        c.signal(f"current_{n}", i)
    c.lost(c.parasitic("R_1") * i_1 * i_1 + c.parasitic("R_2") * i_2 * i_2)
    c.stored(l_1 * i_1 * i_1 / 2 + l_2 * i_2 * i_2 / 2 + mutual * i_1 * i_2)


def build_ideal_transformer(c: PartContext) -> None:
    """u_1 = n·u_2, i_1 = −i_2/n."""
    (u_1, i_1), (u_2, i_2) = between(c), between(c, "c", "d")
    n = c.value("ratio")
    c.equation(u_1 - n * u_2)
    c.equation(n * i_1 + i_2)
    for k, (u, i) in enumerate(((u_1, i_1), (u_2, i_2)), 1):
        c.signal(f"voltage_{k}", u)
        c.signal(f"current_{k}", i)


def build_transformer(c: PartContext) -> None:
    """The T circuit: leakages and resistances of both windings, main inductance and iron loss on the first
    side."""
    (u_1, i_1), (u_2, i_2) = between(c), between(c, "c", "d")
    n = c.value("ratio")
    # The state named last gives way where there is no iron loss; see the three-phase transformer.
    (s_m, ds_m), (s_2, ds_2), (s_1, ds_1) = c.state("i_m"), c.state("i_2"), c.state("i_1")
    main = c.unknown("u_main")
    iron = c.parasitic("G_fe") * main
    c.equation(i_1 - s_1)
    c.equation(i_2 - s_2)
    c.equation(c.value("L_1") * ds_1 - (u_1 - c.parasitic("R_1") * s_1 - main))
    c.equation(c.value("L_2") * ds_2 - (u_2 - c.parasitic("R_2") * s_2 - main / n))
    c.equation(c.value("L_m") * ds_m - main)
    c.equation(s_1 + s_2 / n - s_m - iron)
    for k, (u, i) in enumerate(((u_1, i_1), (u_2, i_2)), 1):
        c.signal(f"voltage_{k}", u)
        c.signal(f"current_{k}", i)
    c.signal("magnetising_current", s_m)
    c.lost(c.parasitic("R_1") * s_1 * s_1 + c.parasitic("R_2") * s_2 * s_2 + iron * main)
    c.stored(c.value("L_1") * s_1 * s_1 / 2 + c.value("L_2") * s_2 * s_2 / 2 + c.value("L_m") * s_m * s_m / 2)


def parasitic(v: Mapping[str, str], main: str) -> tuple[str, ...]:
    """What the card tells: the series resistance only where there is one."""
    return (v[main],) if v["R_s"].startswith("0 ") else (v[main], v["R_s"])


def leak(name: str, conductance: str) -> Callable[[Values, Card], dict[str, float]]:
    """Circuit values with an optional parallel resistance turned into a conductance; none means zero."""
    return lambda v, card: {**v, conductance: 0.0 if math.isnan(v[name]) else 1.0 / v[name]}


def coupling(v: Values, card: Card) -> list[Contradiction]:
    if v["k"] >= 1.0:
        return [
            Contradiction(
                "a coupling of 1 leaves no leakage, and the currents without a solution. Write 0.999, or "
                "take the ideal transformer.",
                "k",
            )
        ]
    return []


WINDINGS = (
    *ENDS,
    Port("c", Link.LINE, "Second winding, first line", "left"),
    Port("d", Link.LINE, "Second winding, second line", "right"),
)
WINDING_SIGNALS = (
    Signal("voltage_1", "voltage of winding 1", "V"),
    Signal("current_1", "current of winding 1", "A"),
    Signal("voltage_2", "voltage of winding 2", "V"),
    Signal("current_2", "current of winding 2", "A"),
)
APART = lambda level: (("a", "b"), ("c", "d"))  # noqa: E731
KINDS = (
    Part(
        id="resistor",
        title="Resistor",
        sentence="A resistance between two lines.",
        group="circuit",
        keywords="resistive load ohm r",
        ports=(*ENDS, heat_port()),
        values=(Value("R", "Resistance", "Ω", "10", low=0.0), OVER_KELVIN),
        signals=TWO_ENDED,
        build=build_resistor,
        summary=lambda v, card: (v["R"],),
        main_signal="current",
        symbol=symbols.RESISTOR,
    ),
    Part(
        id="inductor",
        title="Inductor",
        sentence="An inductance between two lines, with its winding resistance.",
        group="circuit",
        keywords="coil choke reactor l",
        ports=(*ENDS, heat_port()),
        values=(
            Value("L", "Inductance", "mH", "1", low=0.0, open_low=True),
            Value("R_s", "Series resistance", "mΩ", "0", low=0.0),
            Value("R_p", "Parallel resistance", "Ω", "", low=0.0, open_low=True),
            replace(OVER_KELVIN, default=COPPER),
        ),
        states=(State("i", "current", "A"),),
        signals=(*TWO_ENDED, Signal("flux", "flux linkage", "Wb")),
        equation_values=leak("R_p", "G_p"),
        build=build_inductor,
        summary=lambda v, card: parasitic(v, "L"),
        main_signal="current",
        symbol=symbols.INDUCTOR,
    ),
    Part(
        id="capacitor",
        title="Capacitor",
        sentence="A capacitance between two lines, with its series resistance.",
        group="circuit",
        keywords="condenser c link filter",
        ports=(*ENDS, heat_port()),
        values=(
            Value("C", "Capacitance", "µF", "100", low=0.0, open_low=True),
            Value("R_s", "Series resistance", "mΩ", "0", low=0.0),
            Value("R_p", "Parallel resistance", "Ω", "", low=0.0, open_low=True),
        ),
        states=(State("u", "voltage", "V"),),
        signals=(*TWO_ENDED, Signal("charge", "charge", "C")),
        equation_values=leak("R_p", "G_p"),
        build=build_capacitor,
        summary=lambda v, card: parasitic(v, "C"),
        main_signal="voltage",
        symbol=symbols.CAPACITOR,
    ),
    Part(
        id="coupled_inductors",
        title="Coupled inductors",
        sentence="Two windings with a common field.",
        group="circuit",
        keywords="mutual inductance flyback winding",
        ports=(*WINDINGS, heat_port()),
        values=(
            Value("L_1", "Inductance 1", "mH", "1", low=0.0, open_low=True),
            Value("L_2", "Inductance 2", "mH", "1", low=0.0, open_low=True),
            Value("k", "Coupling", "", "0.98", low=-1.0, high=1.0),
            Value("R_1", "Resistance 1", "mΩ", "10", low=0.0),
            Value("R_2", "Resistance 2", "mΩ", "10", low=0.0),
        ),
        states=(State("i_1", "current of winding 1", "A"), State("i_2", "current of winding 2", "A")),
        signals=WINDING_SIGNALS,
        potentials=APART,
        contradictions=coupling,
        build=build_coupled,
        follows=lambda v, card: [
            Figure("Mutual inductance", "M", v["k"] * math.sqrt(v["L_1"] * v["L_2"]), "H"),
            Figure("Leakage", "σ", 1 - v["k"] ** 2, "%"),
        ],
        summary=lambda v, card: (f"{v['L_1']} · {v['L_2']}", f"k {v['k']}"),
        main_signal="current_1",
        symbol=symbols.WINDINGS,
    ),
    Part(
        id="ideal_transformer",
        title="Ideal transformer",
        sentence="Turns voltages by its ratio and currents by the inverse, at any frequency.",
        group="circuit",
        keywords="ratio windings",
        ports=WINDINGS,
        values=(Value("ratio", "Turns ratio", "", "2", low=0.0, open_low=True),),
        signals=WINDING_SIGNALS,
        potentials=APART,
        build=build_ideal_transformer,
        summary=lambda v, card: (f"{v['ratio']} : 1",),
        main_signal="voltage_2",
        symbol=symbols.WINDINGS,
    ),
    Part(
        id="transformer",
        title="Transformer",
        sentence="A single-phase transformer with leakage, main inductance and losses.",
        group="circuit",
        keywords="windings mains leakage magnetising",
        ports=(*WINDINGS, heat_port()),
        values=(
            Value("ratio", "Turns ratio", "", "2", low=0.0, open_low=True),
            Value("R_1", "Resistance 1", "Ω", "0.4", low=0.0),
            Value("L_1", "Leakage of winding 1", "mH", "1", low=0.0, open_low=True),
            Value("R_2", "Resistance 2", "Ω", "0.1", low=0.0),
            Value("L_2", "Leakage of winding 2", "mH", "0.25", low=0.0, open_low=True),
            Value("L_m", "Main inductance", "H", "1.2", low=0.0, open_low=True),
            Value("R_fe", "Iron-loss resistance", "Ω", "", low=0.0, open_low=True),
        ),
        states=(
            State("i_1", "current of winding 1", "A"),
            State("i_2", "current of winding 2", "A"),
            State("i_m", "magnetising current", "A"),
        ),
        signals=(*WINDING_SIGNALS, Signal("magnetising_current", "magnetising current", "A")),
        potentials=APART,
        equation_values=leak("R_fe", "G_fe"),
        build=build_transformer,
        follows=lambda v, card: [Figure("Short-circuit inductance", "L_k", v["L_1"] + v["ratio"] ** 2 * v["L_2"], "H")],
        summary=lambda v, card: (f"{v['ratio']} : 1", v["L_m"]),
        main_signal="current_1",
        symbol=symbols.WINDINGS,
    ),
)
__all__ = ["ENDS", "KINDS", "TWO_ENDED", "between", "report"]
