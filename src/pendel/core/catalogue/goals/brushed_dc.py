"""A brushed DC machine behind a four-quadrant bridge, with current and speed loop, and one of position around them."""

from __future__ import annotations

import math
from collections.abc import Mapping

from pendel.core.catalogue.goals.goal import Entry, Fact, Goal, Looked, Option, Sheet
from pendel.core.catalogue.goals.parts import (
    ENCODER,
    MACHINE,
    RPM,
    finest_speed,
    reach,
    rigid_load,
    shaft_load,
    supply,
    tell_steps,
)


def of_position(options: Mapping[str, str]) -> bool:
    return options["regulate"] == "position"


def build(sheet: Sheet, options: Mapping[str, str]) -> None:
    position = of_position(options)
    sheet.quantities(
        ("J_all", "J_m + J_load", "all that turns"),
        ("f_i", "f_p/20", "current loop: crossover"),
        ("K_i", "2*pi*f_i*L_a", "proposed: cancels the pole of the winding"),
        ("T_i", "L_a/R_a", "proposed"),
    )
    finest = finest_speed(sheet, "k_t*I_max")
    sheet.quantities(
        ("f_w", f"f_p*min(1/500, {finest})", "speed loop: crossover"),
        ("K_w", "2*pi*f_w*J_all/k_t", "proposed"),
        ("T_w", "4 rad/(2*pi*f_w)", "proposed"),
        ("t_up", "J_all*n_set/(0.6*k_t*I_max)/(1 rad)", "to the speed that is wanted, at 60 % of the largest current"),
    )
    if position:
        sheet.quantity("f_x", "f_w/5", "position loop: crossover")
        sheet.quantity("t_go", "2*phi_set/n_set", "for the way, at half of the speed")
    last = "t_go" if position else "t_up"
    sheet.quantity("t_end", f"3*{last} + 16*T_w", "run length")
    sheet.settings(tick="1/f_p", until="t_end")
    motor_with_loops(sheet)
    rigid_load(sheet, "motor.shaft", step_at=f"2*{last} + 6*T_w", at=(119, 10))
    if not position:
        speed_demand(sheet)
        return
    sheet.add("p", "Position P", (119, 60), K_p="2*pi*f_x", low="-n_set", high="n_set", every="10")
    sheet.add("ramp", "Position demand", (157, 60), before="0 rad", after="phi_set", t_0="0.1*t_go", duration="t_go")
    sheet.wire(
        ("position_p.out", "speed_pi.setpoint"),
        ("encoder.position", "position_p.actual"),
        ("position_demand.out", "position_p.setpoint"),
    )
    sheet.ranges("encoder", position="2*phi_set")


def motor_with_loops(sheet: Sheet) -> None:
    """Link, bridge and motor with current and speed loop, whose gains are quantities of these names."""
    sheet.add("dc_source", "Link", (5, 10), U_0="U_link", R_i="10 mohm")
    sheet.add("four_quadrant_bridge", "Bridge", (43, 10), f_p="f_p")
    values = {"R_a": "R_a", "L_a": "L_a", "k_t": "k_t", "J_m": "J_m", "b_m": "0"}
    sheet.add("brushed_dc", "Motor", (81, 10), choices={"entry": "circuit"}, values=values)
    sheet.wire(("link.dc", "bridge.dc"), ("bridge.out", "motor.winding"))
    sheet.add("pulse_stage", "Pulse stage", (5, 60), U_dc="U_link")
    sheet.add("pi", "Current PI", (43, 60), K_p="K_i", T_i="T_i", low="-U_link", high="U_link")
    sheet.add("current_sensor", "Current sensor", (43, 82), range="2*I_max")
    sheet.add("pi", "Speed PI", (81, 60), K_p="K_w", T_i="T_w", low="-I_max", high="I_max", every="10")
    sheet.add("encoder", "Encoder", (81, 82), values=ENCODER)
    sheet.ranges("encoder", speed="2*n_set")
    sheet.wire(
        ("pulse_stage.duty", "bridge.duty"),
        ("current_pi.out", "pulse_stage.u"),
        ("motor.current", "current_sensor.measured"),
        ("current_sensor.value", "current_pi.actual"),
        ("speed_pi.out", "current_pi.setpoint"),
        ("motor.angle", "encoder.angle"),
        ("encoder.speed", "speed_pi.actual"),
    )


def speed_demand(sheet: Sheet) -> None:
    """A ramp to the requested speed."""
    sheet.add("ramp", "Speed demand", (119, 60), before="0 rpm", after="n_set", t_0="0.2*t_up", duration="t_up")
    sheet.wire(("speed_demand.out", "speed_pi.setpoint"))


def check_current(looked: Looked, v: Mapping[str, float]) -> None:
    """Whether the motor carries its load within its largest current."""
    current = v["M_load"] / v["k_t"]
    if current >= v["I_max"]:
        looked.problems.append(
            f"The load of {v['M_load']:.4g} N·m takes {current:.4g} A, and the largest current is {v['I_max']:.4g} A. "
            "Raise it, or take a lower load."
        )


def look(v: Mapping[str, float], options: Mapping[str, str]) -> Looked:
    current = v["M_load"] / v["k_t"]
    looked = Looked(
        [
            Fact("speed without load", v["U_link"] / v["k_t"], "rpm"),
            Fact("current at standstill, full voltage", v["U_link"] / v["R_a"], "A"),
            Fact("current for the load", current, "A"),
            Fact("electrical time constant", v["L_a"] / v["R_a"], "s"),
            Fact("mechanical time constant", v["R_a"] * v["J_all"] / v["k_t"] ** 2, "s"),
            Fact("current ripple at half duty", v["U_link"] / (8 * v["L_a"] * v["f_p"]), "A"),
            Fact("time to the speed", v["t_up"], "s"),
        ]
    )
    reach(looked, needed=v["k_t"] * v["n_set"] + v["R_a"] * current, link=v["U_link"], speed=v["n_set"])
    check_current(looked, v)
    tell_steps(looked, v, 1 / 500)
    if 0.4 * v["I_max"] < current < v["I_max"]:
        looked.doubts.append("With this load less than 60 % of the largest current are left to speed up.")
    if 2 * math.pi * v["f_i"] < 2 * v["R_a"] / v["L_a"]:
        looked.doubts.append(
            "The winding is nearly as fast as its loop: at this pulse frequency it is regulated slowly. Raise that."
        )
    if v["n_set"] > 1.2 * 20_000 * RPM:
        looked.doubts.append("The speed is far above those of brushed machines.")
    return looked


GOAL = Goal(
    "brushed_dc",
    "Brushed DC drive",
    "current and speed loop, or position",
    (
        Entry("R_a", "Winding resistance", "ohm", "0.46", MACHINE),
        Entry("L_a", "Winding inductance", "mH", "0.61", MACHINE),
        Entry("k_t", "Torque constant", "N*m/A", "0.108", MACHINE),
        Entry("J_m", "Rotor inertia", "kg*cm^2", "1.9", MACHINE),
        Entry("I_max", "Largest current", "A", "24", MACHINE),
        *supply("48"),
        *shaft_load("6", "0.6", "2500", "kg*cm^2"),
        Entry("phi_set", "Way, as an angle", "rad", "60", "Load", asked=of_position),
    ),
    build,
    look,
    (Option("regulate", "Regulate", (("speed", "speed"), ("position", "position"))),),
)
