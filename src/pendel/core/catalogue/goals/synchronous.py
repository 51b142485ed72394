"""A synchronous machine with field orientation, from a sheet's values line to line."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from pendel.core.catalogue.goals.goal import Entry, Fact, Goal, Looked, Option, Sheet
from pendel.core.catalogue.goals.parts import (
    ENCODER,
    MACHINE,
    compensation,
    duties,
    finest_speed,
    link_and_inverter,
    reach,
    rigid_load,
    supply,
    tell_steps,
    without_sensor,
)
from pendel.core.catalogue.machines.flux import table_of
from pendel.core.drive.document import FluxTable


def of_torque(options: Mapping[str, str]) -> bool:
    return options["regulate"] == "torque"


def with_speed(options: Mapping[str, str]) -> bool:
    return not of_torque(options)


def of_position(options: Mapping[str, str]) -> bool:
    return options["regulate"] == "position"


def by_tables(options: Mapping[str, str]) -> bool:
    return options["machine"] == "tables"


def linear(options: Mapping[str, str]) -> bool:
    return not by_tables(options)


def refused(options: Mapping[str, str]) -> str:
    if by_tables(options) and without_sensor(options):
        return "The EMF observer takes inductances that stay. Take a shaft sensor, or a machine with constants."
    if of_position(options) and without_sensor(options):
        return "At rest there is no EMF that could tell where the shaft is. Take a shaft sensor, or regulate the speed."
    return ""


def build(sheet: Sheet, options: Mapping[str, str]) -> None:
    sheet.quantities(
        ("R_ph", "R_ll/2", "of a phase"),
        ("L_ph", "L_ll/2", "of a phase") if linear(options) else ("L_ph", "L_qll/2", "of a phase along q"),
        ("psi_m", "K_E*sqrt(2/3)/(pairs*1000 rpm)", "magnet flux"),
        ("I_top", "1.5*sqrt(2)*I_n", "largest current, peak"),
        ("k_m", "1.5*pairs*psi_m", "torque per ampere of peak current"),
        ("f_c", "f_p/25", "current loops: crossover"),
    )
    if linear(options):
        sheet.quantity("K_c", "2*pi*f_c*L_ph", "proposed: cancels the pole of the winding")
        sheet.quantity("T_c", "L_ph/R_ph", "proposed")
    blind = without_sensor(options)
    share, slower = (0.15, 1000) if blind else (0.6, 500)
    if not of_torque(options):
        sheet.quantities(
            ("J_all", "J_m + J_load", "all that turns"),
        )
        crossover = f"f_p/{slower}" if blind else f"f_p*min(1/{slower}, {finest_speed(sheet, 'k_m*I_top')})"
        sheet.quantities(
            ("f_w", crossover, "speed loop: crossover"),
            ("K_w", "2*pi*f_w*J_all", "proposed, in N·m for a speed"),
            ("T_w", "4 rad/(2*pi*f_w)", "proposed"),
            ("t_up", f"J_all*n_set/({share}*k_m*I_top)/(1 rad)", f"to the speed, at {share} of the largest torque"),
        )
    if of_position(options):
        sheet.quantities(
            ("f_x", "f_w/5", "position loop: crossover"),
            ("t_go", "2*phi_set/n_set", "for the way, at half of the speed"),
        )
    link_and_inverter(sheet)
    machine = {"p": "pairs", "R_s": "R_ph", "J_m": "J_m", "b_m": "0", "I_max": "I_top"}
    if linear(options):
        machine |= {"L_d": "L_ph", "L_q": "L_ph", "psi_f": "psi_m", "U_dc": "U_link"}
    sheet.add("pmsm" if linear(options) else "pmsm_tables", "Machine", (86, 10), values=machine)
    sheet.wire(("inverter.out", "machine.phases"))
    field_orientation(sheet, options)
    if by_tables(options):
        sheet.flux(saturating(sheet), "machine", "current_regulator", "torque_to_currents")
    if of_torque(options):
        begin = [("0 s", "n_set")]
        if blind:
            sheet.quantity("t_find", "20/f_o", "for the observer to find the angle, while the bench speeds up")
            begin = [("0 s", "0 rpm"), ("t_find", "n_set")]
        step_at = "1.2*t_find" if blind else "60/f_p"
        sheet.quantity("t_end", f"{step_at} + 240/f_p", "run length")
        sheet.settings(tick="1/f_p", until="t_end")
        sheet.add("imposed_speed", "Test bench", (124, 10), profile=[*begin, ("1000 s", "n_set")])
        sheet.add("step", "Torque demand", (164, 60), before="0 N*m", after="M_load", t_0=step_at)
        sheet.wire(("machine.shaft", "test_bench.a"), ("torque_demand.out", "torque_to_currents.torque"))
        return
    last = "t_go" if of_position(options) else "t_up"
    sheet.quantity("t_end", f"3*{last} + 16*T_w", "run length")
    sheet.settings(tick="1/f_p", until="t_end")
    rigid_load(sheet, "machine.shaft", step_at=f"2*{last} + 6*T_w")
    torque = "k_m*I_top"
    sheet.add("pi", "Speed PI", (164, 60), K_p="K_w", T_i="T_w", low=f"-{torque}", high=torque, every="10")
    sheet.wire(("speed_pi.out", "torque_to_currents.torque"))
    if blind:
        sheet.wire(("start.shaft", "speed_pi.actual"))
    else:
        sheet.add("encoder", "Encoder", (164, 102), values=ENCODER)
        sheet.ranges("encoder", speed="2*n_set")
        sheet.wire(("machine.angle", "encoder.angle"), ("encoder.speed", "speed_pi.actual"))
    if of_position(options):
        sheet.ranges("encoder", position="2*phi_set")
        sheet.add("p", "Position P", (202, 60), K_p="2*pi*f_x", low="-n_set", high="n_set", every="10")
        sheet.add(
            "ramp", "Position demand", (202, 82), before="0 rad", after="phi_set", t_0="0.1*t_go", duration="t_go"
        )
        sheet.wire(
            ("position_p.out", "speed_pi.setpoint"),
            ("encoder.position", "position_p.actual"),
            ("position_demand.out", "position_p.setpoint"),
        )
    else:
        sheet.add("ramp", "Speed demand", (202, 60), before="0 rpm", after="n_set", t_0="0.2*t_up", duration="t_up")
        sheet.wire(("speed_demand.out", "speed_pi.setpoint"))
        if blind:
            sheet.wire(("speed_demand.out", "start.wanted"))


def saturating(sheet: Sheet) -> FluxTable:
    """Flux tables of a machine whose q axis saturates, ψ_q = L_2 i_q + L_s I_s tanh(i_q/I_s) with I_s half of the
    largest current: what it has at small currents and at the largest is the sheet's. No source: the shape is assumed,
    and measured tables take its place."""
    top, L_q = sheet.si("I_top"), sheet.si("L_qll") / 2
    knee = top / 2
    lost = L_q * (1 - sheet.si("k_sat")) / (1 - math.tanh(top / knee) * knee / top)
    i_d, i_q = np.linspace(-1.2 * top, 0.4 * top, 17), np.linspace(-1.2 * top, 1.2 * top, 25)
    d, q = np.meshgrid(i_d, i_q, indexing="ij")
    psi_q = (L_q - lost) * q + lost * knee * np.tanh(q / knee)
    return table_of(i_d, i_q, sheet.si("psi_m") + sheet.si("L_dll") / 2 * d, psi_q, "made from the sheet")


@dataclass(frozen=True)
class Oriented:
    """Signals that a field orientation takes: angle, angle when the voltage acts, electrical speed, currents wanted."""

    angle: str
    ahead: str
    speed: str
    i_d: str = "torque_to_currents.i_d"
    i_q: str = "torque_to_currents.i_q"


def with_sensor(sheet: Sheet) -> Oriented:
    sheet.add("electrical_angle", "Electrical angle", (125, 90), p="pairs")
    sheet.add("position_sensor", "Rotor angle", (125, 116))
    sheet.wire(("machine.angle", "rotor_angle.measured"), ("rotor_angle.value", "electrical_angle.position"))
    return Oriented("electrical_angle.angle", "electrical_angle.ahead", "electrical_angle.speed")


def with_observer(sheet: Sheet, options: Mapping[str, str]) -> Oriented:
    """From standstill by a current that turns. A machine that is turned from outside needs no start, but the speed in
    its frame."""
    sheet.quantities(
        ("n_over", "n_set/6", "from here on the observer leads"),
        ("f_o", "f_p/250", "observer: bandwidth of the angle"),
    )
    values = {
        "p": "pairs",
        "R": "R_ph",
        "L_d": "L_ph",
        "L_q": "L_ph",
        "psi": "psi_m",
        "f_c": "f_p/20",
        "f_b": "f_o",
        "e_min": "pairs*psi_m*n_over/(4 rad)",
        "n_max": "3*n_set",
    }
    sheet.add("emf_observer", "Observer", (125, 90), values=values)
    compensation(sheet, "U_link/(2*L_ph*f_p)")
    sheet.wire(
        *((f"voltage_demand.{n}", f"observer.u_{n}") for n in "abc"),
        *((f"current_{n}.value", f"observer.{n}") for n in "abc"),
    )
    if of_torque(options):
        sheet.add("gain", "Electrical speed", (163, 90), values={"K": "pairs"})
        sheet.wire(("observer.speed", "electrical_speed.x"))
        return Oriented("observer.angle", "observer.ahead", "electrical_speed.out")
    values = {
        "p": "pairs",
        "psi": "psi_m",
        "I_drag": "0.5*I_top",
        "n_over": "n_over",
        "n_back": "0.6*n_over",
        "a_drag": "n_set/t_up",
        "t_agree": "2/f_o",
        "t_slide": "2/f_o",
    }
    sheet.add("observer_start", "Start", (163, 90), values=values)
    sheet.wire(
        ("torque_to_currents.i_d", "start.set_d"),
        ("torque_to_currents.i_q", "start.set_q"),
        *((f"observer.{n}", f"start.{n}") for n in ("angle", "speed", "emf")),
    )
    return Oriented("start.frame", "start.acts", "start.field", "start.i_d", "start.i_q")


def field_orientation(sheet: Sheet, options: Mapping[str, str]) -> None:
    """Angle, currents, regulator, modulator: all between torque and duties."""
    blind = without_sensor(options)
    machine = {"psi": "psi_m", "L_d": "L_ph", "L_q": "L_ph", "U_dc": "U_link"}
    sheet.add("three_phase_modulator", "Space vector", (5, 60), U_dc="U_link")
    sheet.add("dq_to_abc", "Voltage demand", (45, 60))
    gains = {"K_d": "K_c", "T_d": "T_c", "K_q": "K_c", "T_q": "T_c", **machine}
    limits = {"p": "pairs", "I_max": "I_top", **machine}
    ending = ""
    if by_tables(options):
        gains = {"f_c": "f_c", "R": "R_ph", "U_dc": "U_link"}
        limits = {"p": "pairs", "I_max": "I_top", "U_dc": "U_link"}
        ending = "_tables"
    kind = "dq_regulator_tables" if ending else "dq_current_regulator"
    sheet.add(kind, "Current regulator", (85, 60), values=gains)
    sheet.add(f"torque_to_currents{ending}", "Torque to currents", (125, 60), values=limits)
    sheet.add("abc_to_dq", "Measured currents", (85, 90))
    wires = [
        ("measured_currents.d", "current_regulator.d"),
        ("measured_currents.q", "current_regulator.q"),
        ("current_regulator.u_d", "voltage_demand.d"),
        ("current_regulator.u_q", "voltage_demand.q"),
    ]
    for place, phase in enumerate("abc"):
        sheet.add("current_sensor", f"Current {phase}", (5 + 38 * place, 116), range="2*I_top")
        wires += [
            (f"machine.current_{phase}", f"current_{phase}.measured"),
            (f"current_{phase}.value", f"measured_currents.{phase}"),
            (f"voltage_demand.{phase}", f"space_vector.u_{phase}"),
            *duties(phase, compensated=blind),
        ]
    o = with_observer(sheet, options) if blind else with_sensor(sheet)
    wires += [
        (o.speed, "torque_to_currents.speed"),
        (o.i_d, "current_regulator.set_d"),
        (o.i_q, "current_regulator.set_q"),
        (o.angle, "measured_currents.angle"),
        (o.ahead, "voltage_demand.angle"),
        (o.speed, "current_regulator.speed"),
    ]
    sheet.wire(*wires)


def look(v: Mapping[str, float], options: Mapping[str, str]) -> Looked:
    per_ampere, current = v["k_m"], v["M_load"] / v["k_m"]
    frequency = v["pairs"] * v["n_set"]
    volts = math.hypot(frequency * v["psi_m"] + v["R_ph"] * current, frequency * v["L_ph"] * current)
    looked = Looked(
        [
            Fact("torque constant, for rms current", per_ampere * math.sqrt(2), "N*m/A"),
            Fact("magnet flux", v["psi_m"], "Wb"),
            Fact("current for the load, rms", current / math.sqrt(2), "A"),
            Fact("electrical time constant", v["L_ph"] / v["R_ph"], "s"),
            Fact("output frequency", frequency / (2 * math.pi), "Hz"),
            Fact("speed without weakening, no load", v["U_link"] / math.sqrt(3) / v["psi_m"] / v["pairs"], "rpm"),
        ]
    )
    if "t_up" in v:
        looked.facts.append(Fact("time to the speed", v["t_up"], "s"))
    if by_tables(options) and not 0.5 < v["k_sat"] <= 1:
        looked.problems.append(
            f"At the largest current {100 * v['k_sat']:.4g} % of the inductance along q are left; the shape that is "
            "assumed here goes from 50 to 100 %. Enter that, or load the machine's own tables later."
        )
    reach(looked, needed=math.sqrt(3) * volts, link=v["U_link"], speed=v["n_set"])
    if current >= v["I_top"]:
        looked.problems.append(
            f"The load of {v['M_load']:.4g} N·m takes {current / math.sqrt(2):.4g} A rms, and 1.5 times the rated "
            f"current are {v['I_top'] / math.sqrt(2):.4g} A. Take a lower load."
        )
    sheet_torque = per_ampere * math.sqrt(2) * v["I_n"]
    off = abs(sheet_torque - v["M_n"]) / v["M_n"]
    words = f"The rated {v['M_n']:.4g} N·m at {v['I_n']:.4g} A and the EMF, which gives {sheet_torque:.4g} N·m, "
    if off > 0.25:
        looked.doubts.append(
            f"{words}contradict each other by {100 * off:.0f} %. Is one of them a peak or a phase value?"
        )
    elif off > 0.02:
        looked.doubts.append(f"{words}differ by {100 * off:.0f} %, which sheets often do; the EMF is used.")
    tell_steps(looked, v, 1 / 500)
    if v["f_p"] < 12 * frequency / (2 * math.pi):
        looked.doubts.append("There are fewer than 12 pulse periods in one of the output. Raise the pulse frequency.")
    return looked


GOAL = Goal(
    "synchronous",
    "Synchronous machine, field orientation",
    "torque, speed or position",
    (
        Entry("pairs", "Pole pairs", "", "5", MACHINE),
        Entry("R_ll", "Resistance, line to line", "ohm", "0.84", MACHINE),
        Entry("L_ll", "Inductance, line to line", "mH", "5.2", MACHINE, asked=linear),
        Entry("L_dll", "Inductance along d, line to line", "mH", "4.4", MACHINE, asked=by_tables),
        Entry("L_qll", "Inductance along q, line to line", "mH", "7.2", MACHINE, asked=by_tables),
        Entry("k_sat", "Of that at the largest current", "%", "70", MACHINE, asked=by_tables),
        Entry("K_E", "EMF at 1000 rpm, line rms", "V", "98", MACHINE),
        Entry("M_n", "Rated torque", "N*m", "14.5", MACHINE),
        Entry("I_n", "Rated current, rms", "A", "9.1", MACHINE),
        Entry("J_m", "Rotor inertia", "kg*m^2", "0.0021", MACHINE),
        *supply("540", pulse="8"),
        Entry("J_load", "Inertia at the shaft", "kg*m^2", "0.01", "Load", asked=with_speed, zero=True),
        Entry("M_load", "Torque of the load", "N*m", "9", "Load"),
        Entry("n_set", "Speed that is wanted", "rpm", "2400", "Load"),
        Entry("phi_set", "Way, as an angle", "rad", "60", "Load", asked=of_position),
    ),
    build,
    look,
    (
        Option("regulate", "Regulate", (("speed", "speed"), ("torque", "torque"), ("position", "position"))),
        Option("machine", "Inductances", (("linear", "constant"), ("tables", "saturating, by tables"))),
        Option("sensor", "Shaft sensor", (("angle", "angle sensor"), ("none", "none: an EMF observer"))),
    ),
    refused,
)
