"""A DC machine and a load at the two ends of an elastic shaft, with current and speed loop."""

from __future__ import annotations

import math
from collections.abc import Mapping

from pendel.core.catalogue.goals import brushed_dc
from pendel.core.catalogue.goals.goal import Entry, Fact, Goal, Looked, Sheet
from pendel.core.catalogue.goals.parts import LOAD, MACHINE, reach, supply


def build(sheet: Sheet, options: Mapping[str, str]) -> None:
    sheet.quantities(
        ("J_all", "J_m + J_load", "all that turns"),
        ("f_swing", "sqrt(k_s*J_all/(J_m*J_load))/(2*pi)", "both swing against each other at"),
        ("f_still", "sqrt(k_s/J_load)/(2*pi)", "the load swings against a machine that stands, at"),
        ("f_i", "f_p/20", "current loop: crossover"),
        ("K_i", "2*pi*f_i*L_a", "proposed: cancels the pole of the winding"),
        ("T_i", "L_a/R_a", "proposed"),
        ("f_w", "f_still/4", "speed loop: crossover, below both"),
        ("K_w", "2*pi*f_w*J_all/k_t", "proposed"),
        ("T_w", "4 rad/(2*pi*f_w)", "proposed"),
        ("t_up", "J_all*n_set/(0.6*k_t*I_max)/(1 rad)", "to the speed that is wanted, at 60 % of the largest current"),
    )
    sheet.quantity("t_end", "3*t_up + 16*T_w", "run length")
    sheet.settings(tick="1/f_p", until="t_end")
    sheet.add("dc_source", "Link", (5, 10), U_0="U_link", R_i="10 mohm")
    sheet.add("four_quadrant_bridge", "Bridge", (43, 10), f_p="f_p")
    values = {"R_a": "R_a", "L_a": "L_a", "k_t": "k_t", "J_m": "J_m", "b_m": "0"}
    sheet.add("brushed_dc", "Motor", (81, 10), choices={"entry": "circuit"}, values=values)
    sheet.add("elastic_shaft", "Shaft", (119, 10), k="k_s", d="d_s")
    sheet.add("inertia", "Load inertia", (157, 10), J="J_load")
    later = "2*t_up + 6*T_w"
    corners = [("0 s", "0 N*m"), (later, "0 N*m"), (f"{later} + 1 ms", "M_load"), ("1000 s", "M_load")]
    sheet.add("load_torque", "Load", (195, 10), profile=corners)
    sheet.add("pulse_stage", "Pulse stage", (5, 60), U_dc="U_link")
    sheet.add("pi", "Current PI", (43, 60), K_p="K_i", T_i="T_i", low="-U_link", high="U_link")
    sheet.add("current_sensor", "Current sensor", (43, 82))
    sheet.add("pi", "Speed PI", (81, 60), K_p="K_w", T_i="T_w", low="-I_max", high="I_max", every="10")
    sheet.add("encoder", "Encoder", (81, 82), lines="2048", every="10")
    sheet.add("ramp", "Speed demand", (119, 60), before="0 rpm", after="n_set", t_0="0.2*t_up", duration="t_up")
    sheet.wire(
        ("link.dc", "bridge.dc"),
        ("bridge.out", "motor.winding"),
        ("motor.shaft", "shaft.a"),
        ("shaft.b", "load_inertia.a"),
        ("load_inertia.b", "load.a"),
        ("pulse_stage.duty", "bridge.duty"),
        ("current_pi.out", "pulse_stage.u"),
        ("motor.current", "current_sensor.measured"),
        ("current_sensor.value", "current_pi.actual"),
        ("speed_pi.out", "current_pi.setpoint"),
        ("motor.angle", "encoder.angle"),
        ("encoder.speed", "speed_pi.actual"),
        ("speed_demand.out", "speed_pi.setpoint"),
    )


def look(v: Mapping[str, float], options: Mapping[str, str]) -> Looked:
    current = v["M_load"] / v["k_t"]
    looked = Looked(
        [
            Fact("both swing against each other at", v["f_swing"], "Hz"),
            Fact("the load against a machine that stands", v["f_still"], "Hz"),
            Fact("load over machine, inertia", v["J_load"] / v["J_m"], ""),
            Fact("damping of the swing", math.pi * v["f_swing"] * v["d_s"] / v["k_s"], ""),
            Fact("current for the load", current, "A"),
            Fact("time to the speed", v["t_up"], "s"),
        ]
    )
    reach(looked, needed=v["k_t"] * v["n_set"] + v["R_a"] * current, link=v["U_link"], speed=v["n_set"])
    if current >= v["I_max"]:
        looked.problems.append(
            f"The load of {v['M_load']:.4g} N·m takes {current:.4g} A, and the largest current is {v['I_max']:.4g} A. "
            "Raise it, or take a lower load."
        )
    if v["f_swing"] > v["f_i"] / 2:
        looked.doubts.append("The swing is as fast as the current loop: nothing can be put against it there.")
    return looked


GOAL = Goal(
    "two_masses",
    "Two masses on a spring",
    "speed loop below the swing; what can be put against it is on Loops, Modes",
    (
        *brushed_dc.GOAL.entries[:5],
        Entry("k_s", "Stiffness of the shaft", "N*m/rad", "12", MACHINE),
        Entry("d_s", "Damping of the shaft", "N*m*s/rad", "0.004", MACHINE, zero=True),
        *supply("48"),
        Entry("J_load", "Inertia of the load", "kg*cm^2", "12", LOAD),
        Entry("M_load", "Load torque", "N*m", "0.6", LOAD, zero=True),
        Entry("n_set", "Speed that is wanted", "rpm", "2000", LOAD),
    ),
    build,
    look,
)
