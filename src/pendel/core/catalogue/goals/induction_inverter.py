"""An induction machine behind an inverter, oriented to its rotor flux."""

from __future__ import annotations

import math
from collections.abc import Mapping

from pendel.core.catalogue.goals.goal import Entry, Fact, Goal, Looked, Option, Sheet
from pendel.core.catalogue.goals.induction_grid import CIRCUIT, CIRCUIT_VALUES, nameplate
from pendel.core.catalogue.goals.parts import (
    MACHINE,
    compensation,
    duties,
    link_and_inverter,
    reach,
    rigid_load,
    shaft_load,
    supply,
    without_sensor,
)


def gains(sheet: Sheet, *, share: float, slower: int, blind: bool) -> None:
    """Quantities from which the loops follow. Without a sensor what is left of dead time acts on the estimated speed,
    by a voltage that follows the current about its zero; a speed PI that answers with more than that swings (no
    source; seen in runs of machines with twice the ``f_w``)."""
    sheet.quantities(
        ("couple", "L_m/(L_m + L_r)", "of the rotor flux in the stator"),
        ("L_short", "L_s + L_m*(1 - couple)", "leakage seen from the stator"),
        ("T_rotor", "(L_m + L_r)/R_r", "rotor time constant"),
        ("k_m", "1.5*pairs*couple*psi_w", "torque per ampere along q"),
        ("J_all", "J_m + J_load", "all that turns"),
        ("f_c", "f_p/25", "current loops: crossover"),
        ("K_c", "2*pi*f_c*L_short", "proposed"),
        ("T_c", "L_short/(R_s + R_r)", "proposed"),
        ("f_psi", "f_p/1500", "flux loop: crossover"),
        ("K_psi", "2*pi*f_psi*T_rotor/L_m", "proposed"),
    )
    crossover = f"f_p/{slower}"
    if blind:
        sheet.quantities(
            ("R_felt", "0.04*L_short*(f_p/(1 Hz))/(1 s)", "voltage that dead time takes, over the current about zero"),
            ("k_felt", "pairs*psi_w*k_m/(R_felt*J_all*2*pi*f_p)*(1 rad)", "of f_p: a speed PI that it makes swing"),
        )
        crossover = f"f_p*min(1/{slower}, k_felt)"
    sheet.quantities(
        ("f_w", crossover, "speed loop: crossover"),
        ("K_w", "2*pi*f_w*J_all/k_m", "proposed"),
        ("T_w", "5 rad/(2*pi*f_w)", "proposed"),
        ("psi_low", "1.5*psi_w*L_m/(T_rotor*K_c)", "flux taken at least: with less, slip and decoupling swing up"),
        ("I_d", "psi_w/L_m", "current that holds the flux"),
        ("t_flux", "3*T_rotor", "until the flux is there"),
        ("t_up", f"J_all*n_set/({share}*k_m*I_q)/(1 rad)", f"to the speed, at {share} of the largest torque"),
    )
    sheet.quantity("t_end", "t_flux + 3*t_up + 20*T_w", "run length")


def build(sheet: Sheet, options: Mapping[str, str]) -> None:
    blind = without_sensor(options)
    gains(sheet, share=0.3 if blind else 0.6, slower=2000 if blind else 1000, blind=blind)
    sheet.settings(tick="1/f_p", until="t_end")
    link_and_inverter(sheet)
    sheet.quantities(
        ("U_full", "U_link/sqrt(2)", "line to line, rms, of the whole link"),
        ("f_full", "U_link/sqrt(3)/(2*pi*psi_w)", "where the flux takes all of it"),
    )
    sheet.add("induction", "Machine", (86, 10), values={**CIRCUIT_VALUES, **nameplate(sheet, "U_full", "f_full")})
    sheet.wire(("inverter.out", "machine.phases"))
    rigid_load(sheet, "machine.shaft", step_at="t_flux + 2*t_up + 8*T_w")
    sheet.add("three_phase_modulator", "Space vector", (5, 60), U_dc="U_link")
    sheet.add("dq_to_abc", "Voltage demand", (45, 60))
    regulator = {"K_d": "K_c", "T_d": "T_c", "K_q": "K_c", "T_q": "T_c", "L_d": "L_short", "L_q": "L_short"}
    sheet.add(
        "dq_current_regulator", "Current regulator", (85, 60), psi="couple*psi_w", U_dc="U_link", values=regulator
    )
    sheet.add("pi", "Flux PI", (125, 60), K_p="K_psi", T_i="T_rotor", low="0 A", high="3*I_d")
    sheet.add("constant", "Flux demand", (163, 60), value="psi_w")
    cage = {"p": "pairs", "L_m": "L_m", "L_r": "L_r", "R_r": "R_r"}
    sheet.add("rotor_flux_model", "Flux model", (85, 92), least="psi_low", values=cage)
    sheet.add("pi", "Speed PI", (125, 82), K_p="K_w", T_i="T_w", low="-I_q", high="I_q")
    sheet.add("ramp", "Speed demand", (163, 82), before="0 rpm", after="n_set", t_0="t_flux", duration="t_up")
    wires = [
        ("speed_demand.out", "speed_pi.setpoint"),
        ("flux_demand.out", "flux_pi.setpoint"),
        ("flux_model.flux", "flux_pi.actual"),
        ("flux_pi.out", "current_regulator.set_d"),
        ("speed_pi.out", "current_regulator.set_q"),
        ("flux_model.d", "current_regulator.d"),
        ("flux_model.q", "current_regulator.q"),
        ("flux_model.field", "current_regulator.speed"),
        ("current_regulator.u_d", "voltage_demand.d"),
        ("current_regulator.u_q", "voltage_demand.q"),
        ("flux_model.ahead", "voltage_demand.angle"),
    ]
    if blind:
        sheet.quantity("K_a", "2*pi*f_p/160", "adaptation of the estimated speed")
        compensation(sheet, "U_link/(2*L_short*f_p)")
        estimator = {**cage, "R_s": "R_s", "L_s": "L_s", "K": "K_a", "T_i": "2 rad/K_a", "n_max": "2*n_set"}
        sheet.add("speed_estimator", "Speed estimator", (125, 116), values=estimator)
        speed = "speed_estimator.speed"
    else:
        sheet.add("speed_sensor", "Tachometer", (125, 116), range="2*n_set")
        speed = "tachometer.value"
        wires.append(("machine.speed", "tachometer.measured"))
    wires += [(speed, "flux_model.speed"), (speed, "speed_pi.actual")]
    for place, phase in enumerate("abc"):
        sheet.add("current_sensor", f"Current {phase}", (5 + 38 * place, 120), range="2*(3*I_d + I_q)")
        wires += [
            (f"machine.current_{phase}", f"current_{phase}.measured"),
            (f"current_{phase}.value", f"flux_model.{phase}"),
            (f"voltage_demand.{phase}", f"space_vector.u_{phase}"),
            *duties(phase, compensated=blind),
        ]
        if blind:
            wires += [
                (f"voltage_demand.{phase}", f"speed_estimator.u_{phase}"),
                (f"current_{phase}.value", f"speed_estimator.{phase}"),
            ]
    sheet.wire(*wires)


def look(v: Mapping[str, float], options: Mapping[str, str]) -> Looked:
    i_q = v["M_load"] / v["k_m"]
    slip = i_q * v["L_m"] * v["R_r"] / (v["L_m"] + v["L_r"]) / v["psi_w"]
    field = v["pairs"] * v["n_set"] + slip
    u_d = v["R_s"] * v["I_d"] - field * v["L_short"] * i_q
    u_q = v["R_s"] * i_q + field * (v["L_short"] * v["I_d"] + v["couple"] * v["psi_w"])
    looked = Looked(
        [
            Fact("current that holds the flux, rms", v["I_d"] / math.sqrt(2), "A"),
            Fact("current with the load, rms", math.hypot(v["I_d"], i_q) / math.sqrt(2), "A"),
            Fact("rotor time constant", v["T_rotor"], "s"),
            Fact("slip frequency with the load", slip / (2 * math.pi), "Hz"),
            Fact("output frequency", field / (2 * math.pi), "Hz"),
            Fact("time to the speed", v["t_up"], "s"),
        ]
    )
    reach(looked, needed=math.sqrt(3) * math.hypot(u_d, u_q), link=v["U_link"], speed=v["n_set"])
    if i_q >= v["I_q"]:
        looked.problems.append(
            f"The load of {v['M_load']:.4g} N·m takes {i_q:.4g} A along q, and {v['I_q']:.4g} A are the largest. "
            "Raise that, or take a lower load."
        )
    return looked


GOAL = Goal(
    "induction_inverter",
    "Induction machine behind an inverter",
    "speed, oriented to its rotor flux",
    (
        *CIRCUIT,
        Entry("psi_w", "Rotor flux, peak", "Wb", "0.95", MACHINE),
        Entry("I_q", "Largest current along q, peak", "A", "30", MACHINE),
        *supply("560", pulse="8"),
        *shaft_load("0.05", "20", "1200"),
    ),
    build,
    look,
    (Option("sensor", "Shaft sensor", (("speed", "speed sensor"), ("none", "none: the speed is estimated"))),),
)
