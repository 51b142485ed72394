"""Brushed DC machine with permanent magnet.

u = R_a·i + L_a·di/dt + k·ω,  J·dω/dt = k·i − b·ω − M_load.
Leonhard: Control of Electrical Drives, 3rd ed., chapter 5.
"""

from __future__ import annotations

import math
from typing import Any

from pendel.core.catalogue.declare import (
    Choice,
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
from pendel.core.catalogue.machines.losses import HEAT_PORT, WINDING_TEMPERATURE, by_temperature, drags
from pendel.core.drive.document import Card
from pendel.core.drive.findings import Finding
from pendel.core.equations.context import PartContext
from pendel.core.quantities.units import figure
from pendel.core.vocabulary import SignalRole

RPM = 2.0 * math.pi / 60.0


def build(c: PartContext) -> None:
    u, i = c.pair("winding")
    omega, torque = c.flange("shaft")
    current, d_current = c.state("i")
    speed, d_speed = c.state("omega")
    angle, d_angle = c.state("phi")
    r, inductance, k = c.value("R_a"), c.value("L_a"), c.value("k")
    j, b = c.value("J_m"), c.value("b_m")
    r = by_temperature(c, r, 20.0)
    c.equation(current - i)
    c.equation(speed - omega)
    c.equation(inductance * d_current - (u - r * i - k * omega))
    c.equation(j * d_speed - (k * i - b * omega + torque))
    c.equation(d_angle - omega)
    c.signal("current", current)
    c.signal("voltage", u)
    c.signal("speed", speed)
    c.signal("angle", angle)
    c.signal("torque", k * i)
    c.signal("emf", k * omega)
    c.signal("shaft_torque", -torque)
    c.signal("power", -torque * omega)
    c.signal("copper_loss", r * i * i)
    c.signal("loss", r * i * i + b * omega * omega)
    c.lost(r * i * i)
    c.lost(b * omega * omega, to="")
    c.stored(inductance * current * current / 2 + j * speed * speed / 2)


COMMON = {"L_a", "J_m", "b_m"}
ENTRY_VALUES = {
    "circuit": {"U_n", "R_a", "k_t", "k_e"},
    "stall": {"U_n", "M_0", "n_0"},
    "rated": {"U_n", "P_n", "n_n", "n_0", "I_n"},
}


def value_names_in_force(card: Card) -> set[str]:
    return ENTRY_VALUES[card.choices.get("entry", "circuit")] | COMMON


def friction(card: Card, key: str, examined: Any) -> list[Finding]:
    """The other two sets have the speed without load."""
    if card.choices.get("entry", "circuit") != "circuit":
        return []
    v = examined.values[key]
    return drags(card, key, v["b_m"], v["R_a"], v["k_t"] ** 2)


def circuit(v: Values, card: Card) -> dict[str, float]:
    """Circuit values from the entered set.

    The line of u = R_a·M/k + k·ω through the sheet's two points, M with the friction b·ω that the machine
    has to turn against without load too (the straight speed-torque line of the machine, Leonhard section 5.2).
    """
    entry = card.choices.get("entry", "circuit")
    if entry == "circuit":
        r, k = v["R_a"], v["k_t"]
    elif entry == "stall":
        k = v["U_n"] / v["n_0"] * (1.0 - v["b_m"] * v["n_0"] / v["M_0"])
        r = v["U_n"] * k / v["M_0"]
    else:
        torque, idle = inner_torques(v)
        k = v["U_n"] * (torque - idle) / (v["n_0"] * torque - v["n_n"] * idle)
        r = (v["U_n"] - k * v["n_n"]) * k / torque
    return {"R_a": r, "k": k, **{name: v[name] for name in COMMON}}


def inner_torques(v: Values) -> tuple[float, float]:
    """Torque (N·m) that the current gives at the rated point, and without load."""
    return v["P_n"] / v["n_n"] + v["b_m"] * v["n_n"], v["b_m"] * v["n_0"]


def rpm(omega: float) -> str:
    return figure(omega, "rpm")


def contradictions(v: Values, card: Card) -> list[Contradiction]:
    entry = card.choices.get("entry", "circuit")
    contradictions = []
    if entry == "circuit" and not math.isnan(v["k_e"]) and abs(v["k_e"] - v["k_t"]) > 0.01 * abs(v["k_t"]):
        contradictions.append(constants_differ(v))
    if entry == "rated":
        if v["n_n"] >= v["n_0"]:
            contradictions.append(
                Contradiction(
                    f"The rated speed n_n ({rpm(v['n_n'])}) is not below the no-load speed n_0 "
                    f"({rpm(v['n_0'])}): the rated point would lie "
                    "above the no-load line. Correct one of the two.",
                    "n_n",
                )
            )
        if not math.isnan(v["I_n"]) and v["P_n"] > v["U_n"] * v["I_n"]:
            efficiency = 100 * v["P_n"] / (v["U_n"] * v["I_n"])
            contradictions.append(
                Contradiction(
                    f"The rated power P_n ({figure(v['P_n'], 'W')}) and the rated current I_n "
                    f"({figure(v['I_n'], 'A')}) disagree: the efficiency "
                    f"would be {efficiency:.0f} %. Correct one of the two.",
                    "P_n",
                )
            )
        elif not math.isnan(v["I_n"]) and v["n_n"] < v["n_0"]:
            follows = inner_torques(v)[0] / circuit(v, card)["k"]
            if 0.0 < v["I_n"] < 0.9 * follows:
                contradictions.append(
                    Contradiction(
                        f"The rated current I_n ({figure(v['I_n'], 'A')}) cannot give the rated torque: "
                        "power, speed and no-load speed n_0 ask for "
                        f"{figure(follows, 'A')}. Correct I_n or n_0.",
                        "I_n",
                    )
                )
    if not contradictions and circuit(v, card)["k"] <= 0:
        contradictions.append(
            Contradiction(
                f"The friction b_m ({figure(v['b_m'], 'N·m·s')}) takes all torque before the no-load speed is "
                "reached. Check it.",
                "b_m",
            )
        )
    elif not contradictions and circuit(v, card)["R_a"] <= 0:
        contradictions.append(
            Contradiction("The armature resistance that follows is not above zero. Check the entered values.", "R_a")
        )
    return contradictions


def constants_differ(v: Values) -> Contradiction:
    """In SI both constants are one number (power in equals power out; common practice, no source)."""
    ratio = v["k_e"] / v["k_t"]
    guesses = {"V/rpm": 1 / RPM, "V per 1000 rpm": 1e-3 / RPM}
    text, why = "", "Correct one of them, or leave the EMF constant empty."
    label = "Leave k_e empty: it follows from k_t"
    for unit, factor in guesses.items():
        if abs(ratio * factor - 1) < 0.05:
            in_rpm = v["k_e"] if unit == "V/rpm" else v["k_e"] / 1000
            text, why = f"{in_rpm:.6g} V/rpm", f"k_e is probably in {unit}."
            label = f"Read k_e in {unit}"
    return Contradiction(
        f"The torque constant k_t ({figure(v['k_t'], 'N·m/A')}) and the EMF constant k_e "
        f"({figure(v['k_e'], 'V·s/rad')}) must be the same number in "
        f"SI units; one is probably in rpm units. {why}",
        "k_e",
        {"k_e": text},
        label,
    )


def follows(v: Values, card: Card) -> list[Figure]:
    c = circuit(v, card)
    r, k, j, inductance = c["R_a"], c["k"], c["J_m"], c["L_a"]
    voltage = v.get("U_n", math.nan)
    figures = [
        Figure("Armature resistance", "R_a", r, "Ω"),
        Figure("Torque constant", "k", k, "N·m/A"),
        Figure("EMF constant", "k", k, "V·s/rad"),
    ]
    if not math.isnan(voltage):
        figures += [
            Figure("Stall torque", "M_0", k * voltage / r, "N·m"),
            Figure("Stall current", "I_0", voltage / r, "A"),
            Figure("No-load speed", "n_0", voltage / (k + r * v["b_m"] / k), "rpm"),
        ]
    else:
        figures.append(Figure("Torque per speed, stalled", "k²/R_a", k * k / r, "N·m·s"))
    return [
        *figures,
        Figure("Electrical time constant", "T_a", inductance / r, "s"),
        Figure("Mechanical time constant", "T_m", j * r / (k * k), "s"),
    ]


KIND = Part(
    id="brushed_dc",
    title="Brushed DC machine, permanent magnet",
    sentence="Torque follows current, EMF follows speed; with its own rotor inertia.",
    group="machine",
    keywords="dc motor pmdc commutator generator data sheet",
    ports=(Port("winding", Link.DC, "Winding", "left"), Port("shaft", Link.SHAFT, "Shaft", "right"), HEAT_PORT),
    choices=(
        Choice(
            "entry",
            "Enter from",
            (
                ("circuit", "circuit values"),
                ("stall", "stall torque and no-load speed"),
                ("rated", "rated point and no-load speed"),
            ),
        ),
    ),
    values=(
        Value("U_n", "Rated voltage", "V", "48", low=0.0, open_low=True),
        Value("P_n", "Rated power", "W", "240", low=0.0, open_low=True),
        Value("n_n", "Rated speed", "rpm", "3800", low=0.0, open_low=True),
        Value("I_n", "Rated current", "A", "", low=0.0, open_low=True),
        Value("M_0", "Stall torque", "N·m", "11.6", low=0.0, open_low=True),
        Value("n_0", "No-load speed", "rpm", "4250", low=0.0, open_low=True),
        Value("R_a", "Armature resistance", "Ω", "0.46", low=0.0, open_low=True),
        Value("k_t", "Torque constant", "N·m/A", "0.108", low=0.0, open_low=True),
        Value("k_e", "EMF constant", "V·s/rad", "", low=0.0, open_low=True),
        Value("L_a", "Armature inductance", "mH", "0.61", low=0.0, open_low=True),
        Value("J_m", "Rotor inertia", "kg·m²", "1.9e-4", low=0.0, open_low=True),
        Value("b_m", "Viscous friction", "N·m·s", "2e-5", low=0.0),
    ),
    states=(State("i", "current", "A"), State("omega", "speed", "rad/s"), State("phi", "angle", "rad")),
    signals=(
        Signal("speed", "speed", "rad/s", role=SignalRole.SPEED),
        Signal("current", "current", "A", role=SignalRole.MACHINE_CURRENT),
        Signal("voltage", "voltage", "V"),
        Signal("torque", "torque", "N·m", role=SignalRole.TORQUE),
        Signal("shaft_torque", "shaft torque", "N·m"),
        Signal("angle", "angle", "rad", role=SignalRole.SHAFT_ANGLE),
        Signal("emf", "EMF", "V"),
        Signal("power", "shaft power", "W"),
        Signal("copper_loss", "copper loss", "W", role=SignalRole.COPPER_LOSS),
        Signal("loss", "loss", "W"),
        WINDING_TEMPERATURE,
    ),
    build=build,
    equation_values=circuit,
    value_names_in_force=value_names_in_force,
    contradictions=contradictions,
    rules=(friction,),
    follows=follows,
    summary=lambda v, card: ("brushed DC", f"{v.get('R_a', '')} · {v['L_a']}" if "R_a" in v else v["L_a"]),
    main_signal="speed",
    spine="M",
)
