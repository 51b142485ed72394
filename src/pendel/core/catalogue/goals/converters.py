"""Step-down, step-up and two-way converters with a voltage loop."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

from pendel.core.catalogue.goals.goal import Entry, Fact, Goal, Looked, Option, Sheet

PASSIVE = "Choke and capacitor"


def down(options: Mapping[str, str]) -> bool:
    """Whether the output is below the input: also where power flows both ways."""
    return options["way"] != "up"


def both(options: Mapping[str, str]) -> bool:
    return options["way"] == "both"


def build(sheet: Sheet, options: Mapping[str, str]) -> None:
    lower = down(options)
    kind, name, forms = ("step_down", "Step-down", DOWN) if lower else ("step_up", "Step-up", UP)
    sheet.quantities(
        ("D_0", forms.duty, "duty without losses"),
        ("R_load", "U_out^2/P_out", "load, as a resistance"),
    )
    voltage_loop(sheet, forms, loaded=not both(options))
    sheet.quantity("t_up", "2/f_u", "of the soft start")
    sheet.quantity("t_end", "4*t_up", "run length")
    sheet.settings(tick="1/f_p", until="t_end")
    sheet.add("dc_source", "Input", (5, 10), U_0="U_in", R_i="10 mohm")
    first = "0 V" if lower else "U_in"
    sheet.add("gain", "Duty", (5, 60), K="1")
    sheet.add("pi", "Voltage PI", (43, 60), K_p="K_u", T_i="T_u", low="0", high="0.9")
    sheet.add("voltage_sensor", "Voltage sensor", (81, 82), range="2*U_out")
    sheet.add("ramp", "Soft start", (81, 60), before=first, after="U_out", t_0="0.1*t_up", duration="t_up")
    key = half_bridge(sheet) if both(options) else whole_converter(sheet, kind, name)
    sheet.wire(
        ("input.dc", f"{key}.dc"),
        ("soft_start.out", "voltage_pi.setpoint"),
        ("voltage_sensor.value", "voltage_pi.actual"),
        ("voltage_pi.out", "duty.x"),
        ("duty.out", f"{key}.duty"),
    )


@dataclass(frozen=True)
class Forms:
    """Closed forms of a converter, as expressions; with ``gaps`` where the choke current comes to zero in each period
    (Erickson, Maksimović, Fundamentals of Power Electronics, 2nd ed., tables 5.2, 11.3; from memory)."""

    duty: str
    swing: str
    """Frequency of choke and capacitor, with `impedance` and `loss`, a resistance, there."""
    impedance: str
    loss: str
    gain: str
    """Voltage over duty."""
    edge: str
    """Of 2 L f/R, below which there are gaps."""
    duty_with_gaps: str
    pole_with_gaps: str
    """Over that of load and capacitor."""
    slower: int
    """Crossover below the swing, where that is damped well."""


DOWN = Forms(
    duty="U_out/U_in",
    swing="1/(2*pi*sqrt(L_c*C_out))",
    impedance="sqrt(L_c/C_out)",
    loss="R_L + R_C",
    gain="U_in",
    edge="1 - D_0",
    duty_with_gaps="D_0*sqrt(k_c/max(1 - D_0, 0.001))",
    pole_with_gaps="(1 - D_0)/max(2 - D_0, 0.001)",
    slower=25,
)
UP = Forms(
    duty="1 - U_in/U_out",
    swing="(1 - D_0)/(2*pi*sqrt(L_c*C_out))",
    impedance="sqrt(L_c/C_out)/(1 - D_0)",
    loss="R_L/(1 - D_0)^2 + R_C",
    gain="U_in/(1 - D_0)^2",
    edge="D_0*(1 - D_0)^2",
    duty_with_gaps="sqrt(k_c*max(D_0, 0.001))/(1 - D_0)",
    pole_with_gaps="D_0/max(1 + D_0, 0.001)",
    slower=20,
)


def voltage_loop(sheet: Sheet, forms: Forms, *, loaded: bool) -> None:
    """Quantities of a PI that integrates far below the swing of choke and capacitor, so that this stays below one
    however little damps it. With gaps there is no swing, but a slow pole, which the PI cancels. What is not ``loaded``
    by a resistor has no gaps either, as both its switches conduct."""
    sheet.quantities(
        ("f_0", forms.swing, "choke and capacitor swing at"),
        ("Z_0", forms.impedance, "their impedance there"),
        ("d_0", f"{'Z_0/R_load + ' if loaded else ''}({forms.loss})/Z_0 + 0.02", "how they are damped, 0.02 at least"),
        ("f_u", f"f_0*min(1/{forms.slower}, 0.22*d_0)", "voltage loop: crossover, where the swing is below one"),
    )
    if not loaded:
        sheet.quantities(("T_u", "1/(2*pi*f_0)", "proposed"), ("g_u", forms.gain, "voltage over duty"))
    else:
        sheet.quantities(
            ("k_c", "2*L_c*f_p/R_load", "choke over load"),
            ("gaps", f"(1 - sign(k_c - {forms.edge}))/2", "1 where the choke current comes to zero"),
            ("D_gaps", forms.duty_with_gaps, "duty with gaps"),
            ("p_gaps", forms.pole_with_gaps, "their slow pole, over that of load and capacitor"),
            ("T_u", "max(1/(2*pi*f_0), gaps*R_load*C_out*p_gaps)", "proposed: cancels the slow pole, if there is one"),
            ("g_full", forms.gain, "voltage over duty without gaps"),
            ("g_u", "g_full + gaps*(2*U_out*p_gaps/D_gaps - g_full)", "voltage over duty"),
        )
    sheet.quantity("K_u", "2*pi*f_u*T_u/g_u", "proposed: an integral far below the swing")


def whole_converter(sheet: Sheet, kind: str, name: str) -> str:
    """One card with choke and capacitor in it, and a resistor as its load."""
    parts = {"L": "L_c", "C": "C_out", "R_L": "R_L", "R_C": "R_C", "f_p": "f_p"}
    charged = {"u": "U_in"} if kind == "step_up" else {}  # which its diode has done before
    key = sheet.add(kind, name, (43, 10), values=parts, starts=charged)
    sheet.add("pair_opener", "Output", (81, 10))
    sheet.add("resistor", "Load", (119, 10), R="R_load")
    sheet.wire(
        (f"{key}.out", "output.pair"),
        ("output.plus", "load.a"),
        ("load.b", "output.minus"),
        (f"{key}.output_voltage", "voltage_sensor.measured"),
    )
    return key


def half_bridge(sheet: Sheet) -> str:
    """A half bridge with choke and capacitor; what is connected takes its power, and gives half of it back later."""
    key = sheet.add("half_bridge", "Half bridge", (43, 10), f_p="f_p")
    sheet.add("pair_opener", "Bridge lines", (81, 10))
    sheet.add("inductor", "Choke", (119, 10), L="L_c", R_s="R_L")
    sheet.add("capacitor", "Capacitor", (157, 10), C="C_out", R_s="R_C")
    sheet.add("set_current", "Load", (157, 44))
    corners = [("0 s", "0 A"), ("1.6*t_up", "0 A"), ("1.7*t_up", "P_out/U_out"), ("2.6*t_up", "P_out/U_out")]
    corners += [("2.7*t_up", "-0.5*P_out/U_out"), ("1000 s", "-0.5*P_out/U_out")]
    sheet.add("profile", "Load current", (119, 60), profile=corners)
    sheet.wire(
        (f"{key}.out", "bridge_lines.pair"),
        ("bridge_lines.plus", "choke.a"),
        ("choke.b", "capacitor.a"),
        ("capacitor.b", "bridge_lines.minus"),
        ("capacitor.a", "load.b"),
        ("load.a", "bridge_lines.minus"),
        ("load_current.out", "load.set"),
        ("capacitor.voltage", "voltage_sensor.measured"),
    )
    return key


def look(v: Mapping[str, float], options: Mapping[str, str]) -> Looked:
    lower = down(options)
    duty, out = v["D_0"], v["P_out"] / v["U_out"]
    mean = out if lower else v["P_out"] / v["U_in"]
    ripple = (v["U_out"] * (1 - duty) if lower else v["U_in"] * duty) / (v["L_c"] * v["f_p"])
    swing = ripple / (8 * v["f_p"] * v["C_out"]) if lower else out * duty / (v["f_p"] * v["C_out"])
    looked = Looked(
        [
            Fact("duty without losses", duty, "%"),
            Fact("output current", out, "A"),
            Fact("choke current, mean", mean, "A"),
            Fact("ripple of the choke current", ripple, "A"),
            Fact("ripple of the output, without the capacitor's resistance", swing, "V"),
            Fact("choke and capacitor swing at", v["f_0"], "Hz"),
        ]
    )
    if not 0 < duty < 0.9:
        way, other = ("down", "step-up") if lower else ("up", "step-down")
        looked.problems.append(
            f"From {v['U_in']:.4g} V no {v['U_out']:.4g} V can be had by a step-{way} converter: its duty would be "
            f"{100 * duty:.0f} %. Take a {other} one, or other voltages."
        )
        return looked
    if ripple / 2 > mean and not both(options):
        looked.doubts.append(
            "The choke current comes to zero in each period (discontinuous conduction): the loop is slower there."
        )
    if not lower:
        zero = (1 - duty) ** 2 * v["R_load"] / v["L_c"] / (2 * math.pi)
        looked.facts.append(Fact("zero of the right half plane", zero, "Hz"))
        if v["f_u"] > zero / 3:
            looked.doubts.append("The loop is not far below its zero of the right half plane. Take a smaller choke.")
    return looked


GOAL = Goal(
    "dc_converter",
    "DC-DC converter with voltage loop",
    "step-down, step-up, two-way",
    (
        Entry("U_in", "Input voltage", "V", "48", "Voltages and load"),
        Entry("U_out", "Output voltage", "V", "24", "Voltages and load"),
        Entry("P_out", "Power of the load", "W", "120", "Voltages and load"),
        Entry("L_c", "Inductance of the choke", "uH", "68", PASSIVE),
        Entry("R_L", "Resistance of the choke", "mohm", "25", PASSIVE, zero=True),
        Entry("C_out", "Capacitor", "uF", "220", PASSIVE),
        Entry("R_C", "Resistance of the capacitor", "mohm", "30", PASSIVE, zero=True),
        Entry("f_p", "Pulse frequency", "kHz", "100", PASSIVE),
    ),
    build,
    look,
    (Option("way", "Converter", (("down", "step-down"), ("up", "step-up"), ("both", "two-way"))),),
)
