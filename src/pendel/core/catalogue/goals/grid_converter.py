"""A converter that feeds current into a grid of one or three phases, or takes it, in phase or not."""

from __future__ import annotations

import math
from collections.abc import Mapping

from pendel.core.catalogue.goals.goal import Entry, Fact, Goal, Looked, Option, Sheet
from pendel.core.catalogue.goals.parts import SAG

GRID, CONVERTER = "Grid", "Converter"


def three(options: Mapping[str, str]) -> bool:
    return options["phases"] == "three"


def build(sheet: Sheet, options: Mapping[str, str]) -> None:
    sheet.quantities(
        ("U_peak", "U_grid*sqrt(2/3)" if three(options) else "U_grid*sqrt(2)", "of a phase"),
        ("I_feed", "P_feed/(sqrt(3)*U_grid)*sqrt(2)" if three(options) else "P_feed/U_grid*sqrt(2)", "peak"),
        ("f_c", "f_p/25", "current loop: crossover"),
        ("K_c", "2*pi*f_c*L_g", "proposed"),
        (
            "I_seen",
            "3*abs(I_feed) + U_peak/K_c",
            "range of current sensors: what is fed, and what the grid drives at first",
        ),
        ("t_lock", "5/f_g", "until the angle of the grid is found"),
    )
    sheet.quantity("t_end", "12/f_g", "run length")
    sheet.settings(tick="1/f_p", until="t_end")
    sheet.add("dc_source", "Link", (5, 10), U_0="U_link", R_i="10 mohm")
    (three_phases if three(options) else one_phase)(sheet)


def three_phases(sheet: Sheet) -> None:
    """Currents regulated in d and q, with the grid's voltage along q, as a machine's EMF is."""
    sheet.add("inverter", "Inverter", (43, 10), choices={"device": "igbt"}, f_p="f_p", t_dead="0.02/f_p")
    sheet.add("line_reactor", "Reactor", (81, 10), L="L_g", R="R_g")
    sheet.add("three_phase_source", "Grid", (119, 10), U="U_grid", f="f_g", R_i="10 mohm", L_i="L_g/50")
    sheet.add("three_phase_modulator", "Modulator", (5, 60), U_dc="U_link")
    sheet.add("dq_to_abc", "Voltage demand", (43, 60))
    gains = {"K_d": "K_c", "T_d": "T_c", "K_q": "K_c", "T_q": "T_c", "L_d": "L_g", "L_q": "L_g"}
    sheet.quantity("T_c", "10/(2*pi*f_c)", "proposed")
    regulator = {**gains, "psi": "U_peak/(2*pi*f_g)", "U_dc": "U_link"}
    sheet.add("dq_current_regulator", "Current regulator", (83, 60), values=regulator)
    sheet.add("step", "Active current", (123, 60), before="0 A", after="I_feed", t_0="t_lock")
    sheet.add("constant", "Reactive current", (123, 82), value="0 A")
    sheet.add("abc_to_dq", "Measured currents", (83, 88))
    sheet.add("pll_3", "Grid angle", (43, 88), choices={"axis": "q"}, f_0="f_g", f_b="20 Hz")
    wires = [
        ("link.dc", "inverter.dc"),
        ("inverter.out", "reactor.in"),
        ("reactor.out", "grid.out"),
        ("active_current.out", "current_regulator.set_q"),
        ("reactive_current.out", "current_regulator.set_d"),
        ("measured_currents.d", "current_regulator.d"),
        ("measured_currents.q", "current_regulator.q"),
        ("grid_angle.speed", "current_regulator.speed"),
        ("grid_angle.angle", "measured_currents.angle"),
        ("grid_angle.ahead", "voltage_demand.angle"),
        ("current_regulator.u_d", "voltage_demand.d"),
        ("current_regulator.u_q", "voltage_demand.q"),
    ]
    for place, phase in enumerate("abc"):
        sheet.add("current_sensor", f"Current {phase}", (5 + 38 * place, 116), range="I_seen")
        sheet.add("voltage_sensor", f"Voltage {phase}", (5 + 38 * place, 138), range="2*U_peak")
        wires += [
            (f"reactor.current_{phase}", f"current_{phase}.measured"),
            (f"reactor.voltage_out_{phase}", f"voltage_{phase}.measured"),
            (f"current_{phase}.value", f"measured_currents.{phase}"),
            (f"voltage_{phase}.value", f"grid_angle.{phase}"),
            (f"voltage_demand.{phase}", f"modulator.u_{phase}"),
            (f"modulator.d_{phase}", f"inverter.d_{phase}"),
        ]
    sheet.wire(*wires)


def one_phase(sheet: Sheet) -> None:
    """A full bridge; its current follows a sine in phase with the grid, whose voltage is fed forward."""
    sheet.quantity("T_c", "10/(2*pi*f_c)", "proposed")
    sheet.add("four_quadrant_bridge", "Bridge", (43, 10), choices={"device": "igbt"}, f_p="f_p", t_dead="0.02/f_p")
    sheet.add("pair_opener", "Bridge lines", (81, 10))
    sheet.add("inductor", "Choke", (119, 10), L="L_g", R_s="R_g")
    sheet.add("ac_source", "Grid", (157, 10), U="U_grid", f="f_g", R_i="10 mohm", L_i="L_g/50")
    sheet.add("pulse_stage", "Pulse stage", (5, 60), U_dc="U_link")
    sheet.add("sum", "With the grid's voltage", (43, 60))
    sheet.add("pi", "Current PI", (83, 60), K_p="K_c", T_i="T_c", low="-U_link", high="U_link")
    sheet.add("inverse_park", "Current demand", (123, 60))
    sheet.add("step", "Active current", (163, 60), before="0 A", after="I_feed", t_0="t_lock")
    sheet.add("constant", "Reactive current", (163, 82), value="0 A")
    sheet.add("current_sensor", "Current sensor", (83, 88), range="I_seen")
    sheet.add("voltage_sensor", "Voltage sensor", (43, 88), range="2*U_peak")
    sheet.add("pll_1", "Grid angle", (123, 88), f_0="f_g", f_b="20 Hz")
    sheet.wire(
        ("link.dc", "bridge.dc"),
        ("bridge.out", "bridge_lines.pair"),
        ("bridge_lines.plus", "choke.a"),
        ("choke.b", "grid.a"),
        ("grid.b", "bridge_lines.minus"),
        ("choke.current", "current_sensor.measured"),
        ("grid.voltage", "voltage_sensor.measured"),
        ("voltage_sensor.value", "grid_angle.u"),
        ("grid_angle.angle", "current_demand.angle"),
        ("active_current.out", "current_demand.d"),
        ("reactive_current.out", "current_demand.q"),
        ("current_demand.alpha", "current_pi.setpoint"),
        ("current_sensor.value", "current_pi.actual"),
        ("current_pi.out", "with_the_grid_s_voltage.a"),
        ("voltage_sensor.value", "with_the_grid_s_voltage.b"),
        ("with_the_grid_s_voltage.out", "pulse_stage.u"),
        ("pulse_stage.duty", "bridge.duty"),
    )


def look(v: Mapping[str, float], options: Mapping[str, str]) -> Looked:
    """Voltage that the converter needs: the grid's with the drop at the reactor, a quarter turn ahead of it."""
    drop = 2 * math.pi * v["f_g"] * v["L_g"] * v["I_feed"]
    needed = math.hypot(v["U_peak"] + v["R_g"] * v["I_feed"], drop)
    limit = v["U_link"] / (math.sqrt(3) if three(options) else 1.0)
    ripple = v["U_link"] / ((8 if three(options) else 4) * v["L_g"] * v["f_p"])
    looked = Looked(
        [
            Fact("current, rms", v["I_feed"] / math.sqrt(2), "A"),
            Fact("grid voltage of a phase, peak", v["U_peak"], "V"),
            Fact("voltage that the converter needs, peak", needed, "V"),
            Fact("drop at the reactor, peak", drop, "V"),
            Fact("current ripple, at most about", ripple, "A"),
        ]
    )
    if needed > SAG * limit:
        looked.problems.append(
            f"The grid needs {needed:.4g} V peak from the converter, and a link of {v['U_link']:.4g} V gives "
            f"{SAG * limit:.4g} V. Raise the link voltage."
        )
    if ripple > 0.5 * v["I_feed"]:
        looked.doubts.append(
            "The current ripples by more than half of its peak. Take a larger reactor, or pulse faster."
        )
    return looked


GOAL = Goal(
    "grid_converter",
    "Grid converter",
    "one or three phases; feeds or takes current",
    (
        Entry("U_grid", "Grid voltage, rms; line to line of three phases", "V", "230", GRID),
        Entry("f_g", "Grid frequency", "Hz", "50", GRID),
        Entry("P_feed", "Power that is fed in; below 0 it is taken", "kW", "2", GRID, signed=True),
        Entry("U_link", "Link voltage", "V", "420", CONVERTER),
        Entry("L_g", "Inductance of the reactor", "mH", "3", CONVERTER),
        Entry("R_g", "Resistance of the reactor", "mohm", "40", CONVERTER, zero=True),
        Entry("f_p", "Pulse frequency", "kHz", "16", CONVERTER),
    ),
    build,
    look,
    (Option("phases", "Phases", (("three", "three"), ("one", "one"))),),
)
