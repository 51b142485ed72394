"""Three-phase transformer in Yy, Yd or Dy: three equal single-phase transformers, connected.

Winding by winding u_1 = R_1·i_1 + L_1·di_1/dt + u_m, u_2 = R_2·i_2 + L_2·di_2/dt + u_m/n, L_m·di_m/dt = u_m.
The ratio is that of the rated line voltages. A delta side lags a star side by 30° (clock number 1) when fed
from the star, and a star side leads a delta by 30° (clock number 11): Fitzgerald, Kingsley, Umans: Electric
Machinery, 6th ed., section 2.7 (from memory).
"""

from __future__ import annotations

import math
from collections.abc import Sequence

import casadi as ca

from pendel.core.catalogue.declare import Choice, Figure, Link, Part, Port, Signal, State, Value, Values
from pendel.core.catalogue.electrical import symbols
from pendel.core.catalogue.heat.port import heat_port
from pendel.core.drive.document import Card
from pendel.core.equations.context import PartContext, Pin

PHASES = ("a", "b", "c")
GROUPS = (("Yy0", "Yy0"), ("Yd1", "Yd1"), ("Dy11", "Dy11"))


def winding_sides(group: str) -> tuple[str, str]:
    """Connection of the first and the second side."""
    return {"Yy0": ("star", "star"), "Yd1": ("star", "delta"), "Dy11": ("delta", "star")}[group]


def turns_ratio(group: str, ratio: float) -> float:
    """Turns of a first winding over those of a second, from the ratio of line voltages."""
    return ratio * {"Yy0": 1.0, "Yd1": 1.0 / math.sqrt(3.0), "Dy11": math.sqrt(3.0)}[group]


def connected(c: PartContext, pins: Sequence[Pin], connection: str, name: str) -> list[tuple[ca.SX, ca.SX]]:
    """Voltage of each winding and the current into it, from the lines of a side; a delta winding leads to the
    next phase."""
    if connection == "star":
        point = c.unknown(f"star_{name}")
        currents = [pin.through for pin in pins]
        c.equation(sum(currents, ca.SX(0)))
        return [(pin.across - point, pin.through) for pin in pins]
    windings = []
    currents = [c.unknown(f"winding_{name}_{n}") for n in PHASES]
    for k, pin in enumerate(pins):
        windings.append((pin.across - pins[(k + 1) % 3].across, currents[k]))
        c.equation(pin.through - currents[k] + currents[(k - 1) % 3])
    return windings


def build(c: PartContext) -> None:
    first_side, second_side = winding_sides(c.choice("group"))
    firsts = connected(c, c.pins("first"), first_side, "first")
    seconds = connected(c, c.pins("second"), second_side, "second")
    n = c.value("n")
    # Of states that depend on each other those named last give way. The small magnetising currents must not:
    # their voltages
    # would follow from the difference of large slopes.
    states = {f"{i}{name}": c.state(f"{i}{name}") for i in ("i_m", "i_2", "i_1") for name in PHASES}
    lost, stored = ca.SX(0), ca.SX(0)
    for name, (u_1, i_1), (u_2, i_2) in zip(PHASES, firsts, seconds):
        (s_m, ds_m), (s_2, ds_2), (s_1, ds_1) = (states[f"{i}{name}"] for i in ("i_m", "i_2", "i_1"))
        main = c.unknown(f"u_m{name}")
        c.equation(i_1 - s_1)
        c.equation(i_2 - s_2)
        c.equation(c.value("L_1") * ds_1 - (u_1 - c.parasitic("R_1") * s_1 - main))
        c.equation(c.value("L_2") * ds_2 - (u_2 - c.parasitic("R_2") * s_2 - main / n))
        c.equation(c.value("L_m") * ds_m - main)
        c.equation(s_1 + s_2 / n - s_m)
        lost += c.parasitic("R_1") * s_1 * s_1 + c.parasitic("R_2") * s_2 * s_2
        stored += c.value("L_1") * s_1 * s_1 / 2 + c.value("L_2") * s_2 * s_2 / 2 + c.value("L_m") * s_m * s_m / 2
        c.signal(f"magnetising_{name}", s_m)
    for side in ("first", "second"):
        pins = c.pins(side)
        for k, name in enumerate(PHASES):
            c.signal(f"current_{side}_{name}", pins[k].through)
        c.signal(f"voltage_{side}", pins[0].across - pins[1].across)
    c.signal("loss", lost)
    c.lost(lost)
    c.stored(stored)


def windings(v: Values, card: Card) -> dict[str, float]:
    return {**v, "n": turns_ratio(card.choices.get("group", GROUPS[0][0]), v["ratio"])}


SIDES = (("first", "first side"), ("second", "second side"))
KIND = Part(
    id="three_phase_transformer",
    title="Three-phase transformer",
    sentence="Changes three-phase voltages, in Yy, Yd or Dy.",
    group="circuit",
    keywords="mains vector group star delta windings",
    ports=(
        Port("first", Link.AC3, "First side", "left"),
        Port("second", Link.AC3, "Second side", "right"),
        heat_port(),
    ),
    values=(
        Value("ratio", "Ratio of line voltages", "", "2", low=0.0, open_low=True),
        Value("R_1", "Resistance, first", "Ω", "0.2", low=0.0),
        Value("L_1", "Leakage, first", "mH", "0.8", low=0.0, open_low=True),
        Value("R_2", "Resistance, second", "Ω", "0.05", low=0.0),
        Value("L_2", "Leakage, second", "mH", "0.2", low=0.0, open_low=True),
        Value("L_m", "Main inductance", "H", "0.9", low=0.0, open_low=True),
    ),
    choices=(Choice("group", "Vector group", GROUPS),),
    equation_values=windings,
    build=build,
    potentials=lambda level: (("first",), ("second",)),
    states=tuple(
        State(f"{s}{n}", f"{words} {n}", "A")
        for s, words in (
            ("i_1", "current of first winding"),
            ("i_2", "current of second winding"),
            ("i_m", "magnetising current"),
        )
        for n in PHASES
    ),
    signals=(
        *(Signal(f"current_{side}_{n}", f"current of the {words}, {n}", "A") for side, words in SIDES for n in PHASES),
        *(Signal(f"voltage_{side}", f"voltage from a to b, {words}", "V") for side, words in SIDES),
        *(Signal(f"magnetising_{n}", f"magnetising current {n}", "A") for n in PHASES),
        Signal("loss", "loss", "W"),
    ),
    follows=lambda v, card: [
        Figure(
            "Turns ratio of the windings",
            "n",
            turns_ratio(card.choices.get("group", GROUPS[0][0]), v["ratio"]),
            "",
        )
    ],
    summary=lambda v, card: (card.choices.get("group", GROUPS[0][0]), f"{v['ratio']} : 1"),
    main_signal="voltage_second",
    symbol=symbols.WINDINGS,
)
