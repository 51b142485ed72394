"""A current in a coil, regulated by an op-amp with two resistors and a capacitor: a loop without a processor.

The op-amp adds the voltage of a shunt and a setpoint of the other sign, and drives the coil: from its inputs to its
output it is a PI regulator, −(R_2/R_1)(1 + 1/(s R_2 C_2)), whose zero takes the coil's pole, so that the loop is an
integrator with its crossover at R_2 R_s/(R_1 2π L) (Horowitz, Hill: The Art of Electronics, 3rd ed., chapter 4, from
memory)."""

from __future__ import annotations

import math
from collections.abc import Mapping

from pendel.core.catalogue.goals.goal import Entry, Fact, Goal, Looked, Sheet

COIL, AMPLIFIER = "Coil", "Power op-amp"


def build(sheet: Sheet, options: Mapping[str, str]) -> None:
    sheet.quantities(
        ("R_all", "R_c + R_s + R_o", "all in the coil's way"),
        ("R_1", "10 kohm", "from shunt and setpoint to the op-amp"),
        ("R_2", "2*pi*f_c*L_c*R_1/R_s", "proposed: the crossover"),
        ("C_2", "L_c/(R_all*R_2)", "proposed: takes the coil's pole"),
        ("t_end", "10/f_c", "run length"),
    )
    sheet.settings(tick="t_end/2000", computing_delay="0", until="t_end")
    sheet.add("step", "Current demand", (5, 116), before="0 V", after="-R_s*I_set", t_0="t_end/10")
    sheet.add("set_voltage", "Setpoint", (5, 10))
    sheet.add("resistor", "Setpoint resistor", (43, 10), R="R_1")
    sheet.add("resistor", "Feedback resistor", (81, 10), R="R_2")
    sheet.add("capacitor", "Capacitor", (119, 10), C="C_2")
    sheet.add("resistor", "Shunt resistor", (43, 42), R="R_1")
    limits = {"U_low": "-U_s", "U_high": "U_s", "R_out": "R_o", "f_1": "f_1", "slew": "slew"}
    sheet.add("op_amp", "Amplifier", (81, 42), choices={"model": "limited"}, values=limits)
    sheet.add("inductor", "Coil", (119, 42), L="L_c")
    sheet.add("resistor", "Winding", (157, 42), R="R_c")
    sheet.add("resistor", "Shunt", (157, 74), R="R_s")
    sheet.add("ground", "Earth", (5, 42))
    sheet.wire(
        ("current_demand.out", "setpoint.set"),
        ("setpoint.b", "earth.line"),
        ("setpoint.a", "setpoint_resistor.a"),
        ("setpoint_resistor.b", "amplifier.minus"),
        ("shunt_resistor.b", "amplifier.minus"),
        ("feedback_resistor.a", "amplifier.minus"),
        ("feedback_resistor.b", "capacitor.a"),
        ("capacitor.b", "amplifier.out"),
        ("amplifier.plus", "earth.line"),
        ("amplifier.out", "coil.a"),
        ("coil.b", "winding.a"),
        ("winding.b", "shunt.a"),
        ("winding.b", "shunt_resistor.a"),
        ("shunt.b", "earth.line"),
    )


def look(v: Mapping[str, float], options: Mapping[str, str]) -> Looked:
    held, jump = v["I_set"] * v["R_all"], 2 * math.pi * v["f_c"] * v["L_c"] * v["I_set"]
    own = v["f_1"] / (1 + 2 * v["R_2"] / v["R_1"])
    looked = Looked(
        [
            Fact("feedback resistor", v["R_2"], "ohm"),
            Fact("feedback capacitor", v["C_2"], "nF"),
            Fact("time to 63 %", 1 / (2 * math.pi * v["f_c"]), "s"),
            Fact("voltage that holds the current", held, "V"),
            Fact("voltage at the step", jump, "V"),
            Fact("the op-amp's own corner in this circuit", own, "Hz"),
            Fact("phase margin", math.pi / 2 - math.atan(v["f_c"] / own), "deg"),
        ]
    )
    if held >= v["U_s"]:
        looked.problems.append(
            f"{held:.4g} V hold {v['I_set']:.4g} A, and the op-amp gives {v['U_s']:.4g} V. Raise its supply, or take a "
            "smaller current."
        )
    elif max(held, jump) > v["U_s"]:
        looked.doubts.append(
            f"The step asks for {jump:.4g} V of {v['U_s']:.4g} V: the op-amp is at its limit for a time, the current "
            "rises more slowly and swings over. Lower the crossover, or raise the supply."
        )
    if own < 3 * v["f_c"]:
        looked.doubts.append(
            "The op-amp is hardly faster than the loop. Take a faster one, a larger shunt or a lower crossover."
        )
    return looked


GOAL = Goal(
    "analogue_loop",
    "Analogue current loop",
    "a coil, a shunt and an op-amp as PI regulator",
    (
        Entry("L_c", "Inductance", "mH", "4", COIL),
        Entry("R_c", "Resistance", "ohm", "2.1", COIL),
        Entry("R_s", "Shunt", "ohm", "0.5", COIL),
        Entry("U_s", "Supply, both ways", "V", "24", AMPLIFIER),
        Entry("f_1", "Unity-gain frequency", "MHz", "3", AMPLIFIER),
        Entry("slew", "Slew rate", "V/us", "10", AMPLIFIER),
        Entry("R_o", "Output resistance", "ohm", "0.2", AMPLIFIER, zero=True),
        Entry("I_set", "Current that is wanted", "A", "0.8", "Loop"),
        Entry("f_c", "Crossover", "Hz", "800", "Loop"),
    ),
    build,
    look,
)
