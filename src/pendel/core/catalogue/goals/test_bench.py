"""A synchronous machine alone, turned by a test bench: its EMF, and its currents into a load."""

from __future__ import annotations

import math
from collections.abc import Mapping

from pendel.core.catalogue.goals.goal import Entry, Fact, Goal, Looked, Sheet
from pendel.core.catalogue.goals.parts import MACHINE


def build(sheet: Sheet, options: Mapping[str, str]) -> None:
    sheet.quantities(
        ("R_ph", "R_ll/2", "of a phase"),
        ("L_ph", "L_ll/2", "of a phase"),
        ("psi_m", "K_E*sqrt(2/3)/(pairs*1000 rpm)", "magnet flux"),
        ("t_turn", "2*pi/(pairs*n_set)", "a period"),
    )
    sheet.settings(until="6*t_turn")
    machine = {"p": "pairs", "R_s": "R_ph", "L_d": "L_ph", "L_q": "L_ph", "psi_f": "psi_m", "J_m": "J_m", "b_m": "0"}
    sheet.add("star_load", "Load", (5, 10), R="R_load", L="1 uH")
    sheet.add("pmsm", "Machine", (45, 10), values=machine)
    sheet.add("imposed_speed", "Test bench", (85, 10), profile=[("0 s", "n_set"), ("1000 s", "n_set")])
    sheet.wire(("load.in", "machine.phases"), ("machine.shaft", "test_bench.a"))


def look(v: Mapping[str, float], options: Mapping[str, str]) -> Looked:
    speed = v["pairs"] * v["n_set"]
    emf = speed * v["psi_m"]
    current = emf / math.hypot(v["R_ph"] + v["R_load"], speed * v["L_ph"])
    return Looked(
        [
            Fact("EMF, line rms", emf * math.sqrt(1.5), "V"),
            Fact("frequency", speed / (2 * math.pi), "Hz"),
            Fact("current, rms", current / math.sqrt(2), "A"),
            Fact("torque", 1.5 * (v["R_ph"] + v["R_load"]) * current**2 / v["n_set"], "N*m"),
            Fact("voltage at the load, line rms", v["R_load"] * current * math.sqrt(1.5), "V"),
        ]
    )


GOAL = Goal(
    "test_bench",
    "Machine on a test bench",
    "imposed speed; EMF, and currents into a load",
    (
        Entry("pairs", "Pole pairs", "", "5", MACHINE),
        Entry("R_ll", "Resistance, line to line", "ohm", "0.84", MACHINE),
        Entry("L_ll", "Inductance, line to line", "mH", "5.2", MACHINE),
        Entry("K_E", "EMF at 1000 rpm, line rms", "V", "98", MACHINE),
        Entry("J_m", "Rotor inertia", "kg*m^2", "0.0021", MACHINE),
        Entry("n_set", "Speed of the bench", "rpm", "1500", "Test bench"),
        Entry("R_load", "Load of a phase; large for EMF alone", "ohm", "20", "Test bench"),
    ),
    build,
    look,
)
