"""Synchronous machine by tables of its flux linkages; without a magnet, a synchronous reluctance machine.

u_d = R·i_d + L_dd·di_d/dt + L_dq·di_q/dt − ω_e·ψ_q, u_q likewise, M = 3/2·p·(ψ_d·i_q − ψ_q·i_d), with
fluxes and incremental inductances from one co-energy; see ``flux.py``. Tables and resistance are those of a star;
tables of a delta are turned into such when they are loaded. Beyond the table the fluxes go on along the
border's slopes.
"""

from __future__ import annotations

import math

import casadi as ca
import numpy as np

from pendel.core.catalogue.declare import Contradiction, Curve, Figure, Part, Signal, State, Value, Values
from pendel.core.catalogue.machines import flux
from pendel.core.catalogue.machines.losses import (
    HEAT_PORT,
    IRON,
    IRON_PORT,
    TEMPERATURE,
    WINDING_TEMPERATURE,
    by_temperature,
    iron_drag,
    lose,
    warmer,
)
from pendel.core.catalogue.machines.optima import envelope_of_tables, strongest, torque_at
from pendel.core.catalogue.machines.pmsm import THIRD
from pendel.core.catalogue.machines.three_phase import PORTS, SIGNALS, Rotor, report_phases
from pendel.core.catalogue.remarks.flux_tables import left_tables
from pendel.core.drive.document import Card, FluxTable
from pendel.core.equations.context import PartContext
from pendel.core.equations.kinds import SurfaceNumbers
from pendel.core.vocabulary import SignalRole, ValueRole


def build(c: PartContext) -> None:
    pins, rotor = c.pins("phases"), Rotor(c)
    i_d, slope_d = c.state("i_d")
    i_q, slope_q = c.state("i_q")
    p, r, b, k_fe = (c.value(n) for n in ("p", "R", "b_m", "k_fe"))
    r = by_temperature(c, r, c.value("T_w"))
    w_co = c.surface("flux", i_d, i_q)
    psi_d, psi_q, l_dd, l_dq, l_qq = (w_co[n] for n in ("x", "y", "xx", "xy", "yy"))
    electrical, w = p * rotor.angle, p * rotor.speed
    angles = [electrical - THIRD * n for n in range(3)]
    u_d = 2.0 / 3.0 * sum((pin.across * ca.cos(a) for pin, a in zip(pins, angles)), ca.SX(0))
    u_q = -2.0 / 3.0 * sum((pin.across * ca.sin(a) for pin, a in zip(pins, angles)), ca.SX(0))
    c.equation(l_dd * slope_d + l_dq * slope_q - (u_d - r * i_d + w * psi_q))
    c.equation(l_dq * slope_d + l_qq * slope_q - (u_q - r * i_q - w * psi_d))
    report_phases(c, [i_d * ca.cos(a) - i_q * ca.sin(a) for a in angles])
    rotor.turn(1.5 * p * (psi_d * i_q - psi_q * i_d), b + k_fe)
    copper, iron = 1.5 * r * (i_d * i_d + i_q * i_q), k_fe * rotor.speed * rotor.speed
    loss = copper + iron + b * rotor.speed * rotor.speed
    for name, value in (
        ("i_d", i_d),
        ("i_q", i_q),
        ("u_d", u_d),
        ("u_q", u_q),
        ("flux_d", psi_d),
        ("flux_q", psi_q),
        ("L_dd", l_dd),
        ("L_qq", l_qq),
        ("L_dq", l_dq),
        ("angle_e", ca.atan2(ca.sin(electrical), ca.cos(electrical))),
        ("current", ca.sqrt(i_d * i_d + i_q * i_q)),
        ("copper_loss", copper),
        ("iron_loss", iron),
        ("loss", loss),
    ):
        c.signal(name, value)
    lose(c, copper, iron, b * rotor.speed * rotor.speed)
    c.stored(1.5 * (psi_d * i_d + psi_q * i_q - w_co["f"]) + rotor.energy)


def surfaces(card: Card, v: Values | None) -> SurfaceNumbers:
    assert card.flux is not None  # a card without them has a finding
    fit = flux.fitted(card.flux)
    return {"flux": (fit.cells, fit.numbers)}


def circuit(v: Values, card: Card) -> dict[str, float]:
    return {**v, "R": v["R_s"] * warmer(v), "k_fe": iron_drag(v)}


def contradictions(v: Values, card: Card) -> list[Contradiction]:
    if card.flux is None:
        return [Contradiction("It has no flux tables yet. Load them on its page “Tables”.", "flux")]
    concerns = flux.concerns(card.flux, v["I_max"])
    return [Contradiction(c.sentence, "flux", fault=c.fault) for c in concerns]


def usable(card: Card) -> FluxTable | None:
    """Its tables, where they have no faults."""
    return card.flux if card.flux is not None and not flux.faults(card.flux) else None


def follows(v: Values, card: Card) -> list[Figure]:
    table = usable(card)
    if table is None:
        return []
    fit = flux.fitted(table)
    psi = [f[0, 0] for f in fit.fluxes(0.0, 0.0)]
    l_dd, l_dq, l_qq = (float(f[0, 0]) for f in fit.inductances(0.0, 0.0))
    torque, i_d, i_q = strongest(fit, v["p"], v["I_max"])
    far = fit.inductances(0.0, v["I_max"])
    return [
        Figure("Phase resistance, warm", "R", circuit(v, card)["R"], "Ω"),
        Figure("Flux without current", "ψ", float(psi[0]), "Wb"),
        Figure("Inductance along d, no current", "L_dd", l_dd, "H"),
        Figure("Inductance along q, no current", "L_qq", l_qq, "H"),
        Figure("the same at the current limit", "L_qq", float(far[2][0, 0]), "H"),
        Figure("Torque at most", "M_max", torque, "N·m"),
        Figure("at a lead of the current of", "β", math.atan2(-i_d, i_q), "deg"),
        Figure("Fit misses the tables by up to", "Δψ", fit.misfit, "%"),
    ]


def most_torque(v: Values, card: Card, link: float) -> Curve | None:
    """None where the run has no link, or the card no tables."""
    if card.flux is None or not math.isfinite(link):
        return None
    speeds, torques = envelope_of_tables(card.flux, v["p"], v["I_max"], link)
    return Curve("Torque at most", "Speed", "rpm", "N·m", speeds, torques)


def torque_curve(v: Values, card: Card) -> Curve | None:
    table = usable(card)
    if table is None:
        return None
    fit = flux.fitted(table)
    maximum, i_d, i_q = strongest(fit, v["p"], v["I_max"])
    leads = np.linspace(0, math.pi / 2, 61) if i_d <= 0 else np.linspace(-math.pi / 2, math.pi / 2, 121)
    torques = torque_at(fit, v["p"], -v["I_max"] * np.sin(leads), v["I_max"] * np.cos(leads))
    return Curve("Torque at the current limit", "Lead", "deg", "N·m", leads, torques, (math.atan2(-i_d, i_q), maximum))


KIND = Part(
    id="pmsm_tables",
    title="Synchronous machine by tables",
    sentence="A three-phase machine from tables of its fluxes, with saturation; with or without magnets.",
    group="machine",
    keywords="pmsm synrm reluctance saturation flux linkage table map finite element field calculation "
    "cross coupling ipm",
    ports=(*PORTS, HEAT_PORT, IRON_PORT),
    values=(
        Value("p", "Pole pairs", "", "4", low=1.0, whole=True, role=ValueRole.POLE_PAIRS),
        Value("R_s", "Phase resistance", "mΩ", "40", low=0.0, open_low=True),
        Value("J_m", "Rotor inertia", "kg·m²", "0.08", low=0.0, open_low=True),
        Value("b_m", "Viscous friction", "N·m·s", "0.01", low=0.0),
        TEMPERATURE,
        *IRON,
        Value("I_max", "Current limit, peak", "A", "250", low=0.0, open_low=True, role=ValueRole.CURRENT_LIMIT),
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
        Signal("L_dd", "incremental inductance dd", "H"),
        Signal("L_qq", "incremental inductance qq", "H"),
        Signal("L_dq", "incremental inductance dq", "H"),
        Signal("angle_e", "electrical angle", "rad", role=SignalRole.ROTOR_ANGLE),
        Signal("iron_loss", "iron loss", "W"),
        WINDING_TEMPERATURE,
    ),
    build=build,
    equation_values=circuit,
    surfaces=surfaces,
    contradictions=contradictions,
    follows=follows,
    curve=torque_curve,
    potentials=lambda level: (("phases",),),
    summary=lambda v, card: ("by tables", f"{v['p']} pole pairs"),
    main_signal="speed",
    spine="M3",
    takes_flux=True,
    usual=(("torque",), ("i_q", "i_d"), ("current_a", "current_b", "current_c")),
    remarks=(left_tables,),
    most_torque=most_torque,
)
