"""Permanent-magnet synchronous machine, linear, in its rotor's frame (d along the magnet).

u_d = R·i_d + L_d·di_d/dt − ω_e·L_q·i_q,  u_q = R·i_q + L_q·di_q/dt + ω_e·(L_d·i_d + ψ),
M = 3/2·p·(ψ·i_q + (L_d − L_q)·i_d·i_q), J·dω/dt = M − b·ω − k_fe·ω − M_load.
Krishnan: Permanent Magnet Synchronous and Brushless DC Motor Drives, chapter 3 (from memory).

The star point is open. A winding in delta is taken as the star it is equivalent to: a third of R and L, ψ/√3.
Iron loss is the eddy share alone, which grows with the square of the speed; it brakes and does not enter the
currents."""

from __future__ import annotations

import math
from typing import Any

import casadi as ca
import numpy as np

from pendel.core.catalogue.declare import (
    Choice,
    Contradiction,
    Curve,
    Figure,
    Part,
    Signal,
    State,
    Value,
    Values,
)
from pendel.core.catalogue.machines.losses import (
    HEAT_PORT,
    IRON,
    IRON_PORT,
    MAGNET,
    MAGNET_PORT,
    MAGNET_TEMPERATURE,
    TEMPERATURE,
    WINDING_TEMPERATURE,
    by_temperature,
    drags,
    iron_drag,
    lose,
    magnet_flux,
    warmer,
)
from pendel.core.catalogue.machines.three_phase import PORTS, SIGNALS, Rotor, report_phases
from pendel.core.drive.document import Card
from pendel.core.drive.findings import Finding
from pendel.core.equations.context import PartContext
from pendel.core.quantities.units import figure
from pendel.core.vocabulary import SignalRole, ValueRole

THIRD = 2.0 * math.pi / 3.0
THOUSAND_RPM = 1000.0 * 2.0 * math.pi / 60.0
FORMS = {"line rms": math.sqrt(2.0 / 3.0), "line peak": 1.0 / math.sqrt(3.0), "phase peak": 1.0}
"""Phase peak over the EMF as the sheet gives it."""


def build(c: PartContext) -> None:
    pins, rotor = c.pins("phases"), Rotor(c)
    i_d, slope_d = c.state("i_d")
    i_q, slope_q = c.state("i_q")
    p, r, l_d, l_q, psi = (c.value(n) for n in ("p", "R", "L_d", "L_q", "psi"))
    r, psi = by_temperature(c, r, c.value("T_w")), magnet_flux(c, psi)
    b, k_fe = c.value("b_m"), c.value("k_fe")
    electrical, w = p * rotor.angle, p * rotor.speed
    angles = [electrical - THIRD * n for n in range(3)]
    u_d = 2.0 / 3.0 * sum((pin.across * ca.cos(a) for pin, a in zip(pins, angles)), ca.SX(0))
    u_q = -2.0 / 3.0 * sum((pin.across * ca.sin(a) for pin, a in zip(pins, angles)), ca.SX(0))
    flux_d, flux_q = l_d * i_d + psi, l_q * i_q
    c.equation(l_d * slope_d - (u_d - r * i_d + w * flux_q))
    c.equation(l_q * slope_q - (u_q - r * i_q - w * flux_d))
    report_phases(c, [i_d * ca.cos(a) - i_q * ca.sin(a) for a in angles])
    rotor.turn(1.5 * p * (flux_d * i_q - flux_q * i_d), b + k_fe)
    copper = 1.5 * r * (i_d * i_d + i_q * i_q)
    iron = k_fe * rotor.speed * rotor.speed
    loss = copper + iron + b * rotor.speed * rotor.speed
    for name, value in (
        ("i_d", i_d),
        ("i_q", i_q),
        ("u_d", u_d),
        ("u_q", u_q),
        ("flux_d", flux_d),
        ("flux_q", flux_q),
        ("angle_e", ca.atan2(ca.sin(electrical), ca.cos(electrical))),
        ("current", ca.sqrt(i_d * i_d + i_q * i_q)),
        ("copper_loss", copper),
        ("iron_loss", iron),
        ("loss", loss),
    ):
        c.signal(name, value)
    lose(c, copper, iron, b * rotor.speed * rotor.speed)
    c.stored(0.75 * (l_d * i_d * i_d + l_q * i_q * i_q) + rotor.energy)


CIRCUIT = {"R_s", "L_d", "L_q", "psi_f"}
SHEET = {"R_ll", "L_ll", "L_ll_q", "K_E", "k_t"}
COMMON = {"p", "J_m", "b_m", "T_w", "k_psi", "P_fe", "n_fe", "U_dc", "I_max"}


def value_names_in_force(card: Card) -> set[str]:
    return COMMON | (SHEET if card.choices.get("entry") == "sheet" else CIRCUIT)


def star_values(v: Values, card: Card) -> dict[str, float]:
    """R (at 20 °C), L_d, L_q, psi of a phase of the equivalent star, from whichever set was entered."""
    if card.choices.get("entry") == "sheet":
        # Between two lines lie two phases of a star, whether the winding is one or not.
        l_q = v["L_ll"] if math.isnan(v["L_ll_q"]) else v["L_ll_q"]
        peak = v["K_E"] * FORMS[card.choices.get("emf", "line rms")]
        return {
            "R": v["R_ll"] / 2,
            "L_d": v["L_ll"] / 2,
            "L_q": l_q / 2,
            "psi": peak / (v["p"] * THOUSAND_RPM),
        }
    third, root = (3.0, math.sqrt(3.0)) if card.choices.get("winding") == "delta" else (1.0, 1.0)
    return {"R": v["R_s"] / third, "L_d": v["L_d"] / third, "L_q": v["L_q"] / third, "psi": v["psi_f"] / root}


def circuit(v: Values, card: Card) -> dict[str, float]:
    star = star_values(v, card)
    return {**v, **star, "R": star["R"] * warmer(v), "k_fe": iron_drag(v)}


def contradictions(v: Values, card: Card) -> list[Contradiction]:
    star = star_values(v, card)
    if star["psi"] == 0 and star["L_d"] == star["L_q"]:
        sentence = "It has neither magnets nor different inductances along d and q, so no torque. Enter one of both."
        return [Contradiction(sentence, "psi_f")]
    if card.choices.get("entry") != "sheet" or math.isnan(v["k_t"]):
        return []
    psi = star_values(v, card)["psi"]
    follows_ = 1.5 * v["p"] * psi * math.sqrt(2.0)
    if abs(follows_ / v["k_t"] - 1.0) < 0.05:
        return []
    form = card.choices.get("emf", "line rms")
    fits = next((f for f, s in FORMS.items() if abs(follows_ * s / FORMS[form] / v["k_t"] - 1.0) < 0.05), "")
    why = (
        f"They agree if the EMF is given as {fits}."
        if fits
        else "Check pole pairs, EMF and torque constant, which is taken per ampere rms."
    )
    return [
        Contradiction(
            f"EMF and torque constant contradict each other: {figure(v['K_E'], 'V')} ({form}) at 1000 rpm "
            f"gives {figure(follows_, 'N·m')} per ampere rms, not {figure(v['k_t'], 'N·m')}. {why}",
            "k_t",
            fault=False,
        )
    ]


def friction(card: Card, key: str, examined: Any) -> list[Finding]:
    star = star_values(v := examined.values[key], card)
    return drags(card, key, v["b_m"], star["R"], 1.5 * (v["p"] * star["psi"]) ** 2)


def best_point(m: dict[str, float], current: float, speed: float, voltage: float) -> tuple[float, float]:
    """Currents (A) of the largest torque at a shaft speed (rad/s) within a current and a phase voltage, both
    peak.

    Along i_d the largest i_q that both limits allow; Morimoto et al.: IEEE Trans. Ind. Appl. 26 (1990) 866.
    """
    # With the larger inductance along d, reluctance adds to the torque where i_d strengthens the magnets.
    i_d = np.linspace(-current, 0.0, 4001) if m["L_d"] <= m["L_q"] else np.linspace(-current, current, 8001)
    flux = voltage / max(m["p"] * speed, 1e-9)
    room = np.maximum(flux**2 - (m["L_d"] * i_d + m["psi"]) ** 2, 0.0)
    i_q = np.minimum(np.sqrt(np.maximum(current**2 - i_d**2, 0.0)), np.sqrt(room) / m["L_q"])
    best = int(np.argmax(torque_of(m, i_d, i_q)))
    return float(i_d[best]), float(i_q[best])


def torque_of(m: dict[str, float], i_d: Any, i_q: Any) -> Any:
    return 1.5 * m["p"] * (m["psi"] + (m["L_d"] - m["L_q"]) * i_d) * i_q


def most_torque(m: dict[str, float], current: float, speed: float, voltage: float) -> float:
    """Largest torque (N·m) at a speed; see `best_point`."""
    return float(torque_of(m, *best_point(m, current, speed, voltage)))


def envelope(v: Values, card: Card) -> Curve:
    """Largest torque over speed at the link voltage and the current limit."""
    m = circuit(v, card)
    voltage = v["U_dc"] / math.sqrt(3.0)
    top = most_torque(m, v["I_max"], 0.0, voltage)
    weakest = max(m["psi"], 0.2 * abs(m["L_q"] - m["L_d"]) * v["I_max"])  # without magnets the field ends never
    end = 3.0 * voltage / (m["p"] * weakest)
    speeds = np.linspace(0.0, end, 121)
    torques = np.array([most_torque(m, v["I_max"], w, voltage) for w in speeds])
    last = int(np.max(np.flatnonzero(torques > 1e-3 * top))) + 2 if top > 0 else len(speeds)
    return Curve("Torque at most", "Speed", "rpm", "N·m", speeds[:last], torques[:last])


def corner(m: dict[str, float], current: float, voltage: float) -> float:
    """Speed (rad/s) up to which the largest torque lasts: where its flux uses up the voltage."""
    i_d, i_q = best_point(m, current, 0.0, voltage)
    return voltage / (m["p"] * math.hypot(m["L_d"] * i_d + m["psi"], m["L_q"] * i_q))


def follows(v: Values, card: Card) -> list[Figure]:
    m = circuit(v, card)
    voltage = v["U_dc"] / math.sqrt(3.0)
    return [
        Figure("Phase resistance, star, warm", "R", m["R"], "Ω"),
        Figure("Inductance along d", "L_d", m["L_d"], "H"),
        Figure("Inductance along q", "L_q", m["L_q"], "H"),
        Figure("Magnet flux", "ψ", m["psi"], "Wb"),
        Figure("EMF at 1000 rpm, line rms", "K_E", m["psi"] * m["p"] * THOUSAND_RPM / FORMS["line rms"], "V"),
        Figure("Torque per ampere peak", "k", 1.5 * m["p"] * m["psi"], "N·m"),
        Figure("Characteristic current", "ψ/L_d", m["psi"] / m["L_d"], "A"),
        Figure("Time constant along q", "T_q", m["L_q"] / m["R"], "s"),
        Figure("Torque at most", "M_max", most_torque(m, v["I_max"], 0.0, voltage), "N·m"),
        Figure("Corner speed", "n_c", corner(m, v["I_max"], voltage), "rpm"),
    ]


KIND = Part(
    id="pmsm",
    title="Synchronous machine, permanent magnet",
    sentence="A three-phase machine with magnets in its rotor, linear, in star or delta.",
    group="machine",
    keywords="pmsm pmac servo brushless ac motor three-phase synchronous ipm spm generator data sheet",
    ports=(*PORTS, HEAT_PORT, IRON_PORT, MAGNET_PORT),
    choices=(
        Choice("entry", "Enter from", (("circuit", "values of a phase"), ("sheet", "data sheet, line to line"))),
        Choice("winding", "Winding", (("star", "star"), ("delta", "delta"))),
        Choice("emf", "EMF given as", tuple((f, f) for f in FORMS)),
    ),
    values=(
        Value("p", "Pole pairs", "", "4", low=1.0, whole=True, role=ValueRole.POLE_PAIRS),
        Value("R_s", "Phase resistance", "mΩ", "40", low=0.0, open_low=True),
        Value("L_d", "d inductance", "mH", "0.9", low=0.0, open_low=True),
        Value("L_q", "q inductance", "mH", "1.4", low=0.0, open_low=True),
        Value("psi_f", "Magnet flux", "Wb", "0.32", low=0.0),
        Value("R_ll", "Line to line", "mΩ", "80", low=0.0, open_low=True),
        Value("L_ll", "Line to line", "mH", "1.8", low=0.0, open_low=True),
        Value("L_ll_q", "the same along q", "mH", "", low=0.0, open_low=True),
        Value("K_E", "EMF at 1000 rpm", "V", "164", low=0.0, open_low=True),
        Value("k_t", "Torque per A rms", "N·m/A", "", low=0.0, open_low=True),
        Value("J_m", "Rotor inertia", "kg·m²", "0.08", low=0.0, open_low=True),
        Value("b_m", "Viscous friction", "N·m·s", "0.01", low=0.0),
        TEMPERATURE,
        MAGNET,
        *IRON,
        Value("U_dc", "Envelope, link", "V", "560", low=0.0, open_low=True, role=ValueRole.LINK_VOLTAGE),
        Value("I_max", "Envelope, peak", "A", "250", low=0.0, open_low=True, role=ValueRole.CURRENT_LIMIT),
    ),
    states=(
        State("i_d", "current along d", "A"),
        State("i_q", "current along q", "A"),
        State("omega", "speed", "rad/s"),
        State("phi", "angle", "rad"),
    ),
    signals=(
        *SIGNALS,
        Signal("i_d", "current along d", "A", role=SignalRole.CURRENT_DQ),
        Signal("i_q", "current along q", "A", role=SignalRole.CURRENT_DQ),
        Signal("u_d", "voltage along d", "V"),
        Signal("u_q", "voltage along q", "V"),
        Signal("flux_d", "flux along d", "Wb", role=SignalRole.FLUX_DQ),
        Signal("flux_q", "flux along q", "Wb", role=SignalRole.FLUX_DQ),
        Signal("angle_e", "electrical angle", "rad", role=SignalRole.ROTOR_ANGLE),
        Signal("iron_loss", "iron loss", "W"),
        WINDING_TEMPERATURE,
        MAGNET_TEMPERATURE,
    ),
    build=build,
    equation_values=circuit,
    value_names_in_force=value_names_in_force,
    choice_names_in_force=lambda card: (
        {"entry", "emf"} if card.choices.get("entry") == "sheet" else {"entry", "winding"}
    ),
    contradictions=contradictions,
    rules=(friction,),
    follows=follows,
    curve=envelope,
    potentials=lambda level: (("phases",),),
    summary=lambda v, card: ("PMSM", f"{v['p']} pole pairs"),
    main_signal="speed",
    spine="M3",
    usual=(("torque",), ("i_q", "i_d"), ("current_a", "current_b", "current_c")),
)
