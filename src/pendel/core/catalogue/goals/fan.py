"""A block-commutated fan or pump with Hall sensors."""

from __future__ import annotations

from collections.abc import Mapping

from pendel.core.catalogue.goals.goal import Entry, Fact, Goal, Looked, Sheet
from pendel.core.catalogue.goals.parts import LOAD, LOAD_INERTIA, MACHINE, reach, supply


def build(sheet: Sheet, options: Mapping[str, str]) -> None:
    sheet.quantities(
        ("R_ph", "R_ll/2", "of a phase"),
        ("L_ph", "L_ll/2", "of a phase"),
        ("k_e", "k_t/2", "EMF of a phase, peak"),
        ("J_all", "J_m + J_load", "all that turns"),
        ("T_m", "R_ll*J_all/k_t^2", "mechanical time constant"),
        ("f_w", "5 Hz", "speed loop: crossover"),
        ("K_w", "2*pi*f_w*T_m*k_t", "proposed: cancels the pole of the machine"),
        ("t_up", "0.4 s", "to the speed that is wanted"),
    )
    sheet.quantity("t_end", "3*t_up", "run length")
    sheet.settings(tick="1/f_p", until="t_end")
    sheet.add("dc_source", "Link", (5, 10), U_0="U_link", R_i="20 mohm")
    sheet.add("inverter", "Inverter", (43, 10), choices={"below": "opens"}, f_p="f_p", t_dead="0.01/f_p")
    machine = {"p": "pairs", "R_s": "R_ph", "L_s": "L_ph", "k_phase": "k_e", "J_m": "J_m", "b_m": "0", "U_dc": "U_link"}
    sheet.add("trapezoidal", "Motor", (83, 10), values=machine)
    sheet.add("inertia", "Wheel", (121, 10), J=LOAD_INERTIA)
    sheet.add("air_load", "Air", (157, 10), M_n="M_load", w_n="n_set")
    sheet.add("six_step", "Commutation", (43, 60), U_dc="U_link")
    sheet.add("pi", "Speed PI", (83, 60), K_p="K_w", T_i="T_m", low="-U_link", high="U_link")
    sheet.add("ramp", "Speed demand", (123, 60), before="0 rpm", after="n_set", t_0="0.1*t_up", duration="t_up")
    sheet.add("hall_decoder", "Hall decoder", (83, 88), p="pairs")
    sheet.add("hall_sensors", "Hall sensors", (123, 88), p="pairs")
    wires = [
        ("link.dc", "inverter.dc"),
        ("inverter.out", "motor.phases"),
        ("motor.shaft", "wheel.a"),
        ("wheel.b", "air.a"),
        ("motor.angle", "hall_sensors.angle"),
        ("speed_demand.out", "speed_pi.setpoint"),
        ("hall_decoder.speed", "speed_pi.actual"),
        ("speed_pi.out", "commutation.voltage"),
        ("hall_decoder.sector", "commutation.sector"),
    ]
    for phase in "abc":
        wires += [
            (f"hall_sensors.h_{phase}", f"hall_decoder.h_{phase}"),
            (f"commutation.d_{phase}", f"inverter.d_{phase}"),
        ]
    sheet.wire(*wires)


def look(v: Mapping[str, float], options: Mapping[str, str]) -> Looked:
    current = v["M_load"] / v["k_t"]
    looked = Looked(
        [
            Fact("speed without load", v["U_link"] / v["k_t"], "rpm"),
            Fact("current for the load", current, "A"),
            Fact("power of the load", v["M_load"] * v["n_set"], "W"),
            Fact("mechanical time constant", v["T_m"], "s"),
            Fact("current at standstill, full voltage", v["U_link"] / v["R_ll"], "A"),
        ]
    )
    reach(looked, needed=v["k_t"] * v["n_set"] + v["R_ll"] * current, link=v["U_link"], speed=v["n_set"])
    return looked


GOAL = Goal(
    "fan",
    "Block-commutated fan or pump",
    "Hall sensors, speed loop",
    (
        Entry("pairs", "Pole pairs", "", "4", MACHINE),
        Entry("R_ll", "Resistance, line to line", "mohm", "360", MACHINE),
        Entry("L_ll", "Inductance, line to line", "uH", "640", MACHINE),
        Entry("k_t", "Torque constant", "N*m/A", "0.048", MACHINE),
        Entry("J_m", "Rotor inertia", "kg*cm^2", "0.6", MACHINE),
        *supply("24"),
        Entry("J_load", "Inertia of the wheel", "kg*cm^2", "4", LOAD, zero=True),
        Entry("M_load", "Torque at the speed, grows with its square", "N*m", "0.036", LOAD),
        Entry("n_set", "Speed that is wanted", "rpm", "1800", LOAD),
    ),
    build,
    look,
)
