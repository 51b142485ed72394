"""A DC machine and a load at the two ends of an elastic shaft, with current and speed loop."""

from __future__ import annotations

import math
from collections.abc import Mapping

from pendel.core.catalogue.goals import brushed_dc
from pendel.core.catalogue.goals.goal import Entry, Fact, Goal, Looked, Sheet
from pendel.core.catalogue.goals.parts import LOAD, MACHINE, finest_speed, reach, rigid_load, supply


def build(sheet: Sheet, options: Mapping[str, str]) -> None:
    sheet.quantities(
        ("J_all", "J_m + J_load", "all that turns"),
        ("f_swing", "sqrt(k_s*J_all/(J_m*J_load))/(2*pi)", "both swing against each other at"),
        ("f_still", "sqrt(k_s/J_load)/(2*pi)", "the load swings against a machine that stands, at"),
        ("f_i", "f_p/20", "current loop: crossover"),
        ("K_i", "2*pi*f_i*L_a", "proposed: cancels the pole of the winding"),
        ("T_i", "L_a/R_a", "proposed"),
    )
    finest = finest_speed(sheet, "k_t*I_max")
    sheet.quantities(
        ("f_w", f"min(f_still/4, f_p*min({finest}, J_m/J_all/500))", "speed loop: crossover, below both"),
        ("K_w", "2*pi*f_w*J_all/k_t", "proposed"),
        ("T_w", "4 rad/(2*pi*f_w)", "proposed"),
        ("t_up", "J_all*n_set/(0.6*k_t*I_max)/(1 rad)", "to the speed that is wanted, at 60 % of the largest current"),
    )
    sheet.quantity("t_end", "3*t_up + 16*T_w", "run length")
    sheet.settings(tick="1/f_p", until="t_end")
    brushed_dc.motor_with_loops(sheet)
    brushed_dc.speed_demand(sheet)
    sheet.add("elastic_shaft", "Shaft", (119, 10), k="k_s", d="d_s")
    sheet.wire(("motor.shaft", "shaft.a"))
    rigid_load(sheet, "shaft.b", step_at="2*t_up + 6*T_w", at=(157, 10))


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
    brushed_dc.check_current(looked, v)
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
