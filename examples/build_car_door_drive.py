"""Builds the shipped example ``car_door_drive.pendel`` with the script interface.

Ostrelle funicular, car door drive: a brushed DC machine behind a four-quadrant bridge opens a sliding door
leaf through a gear and an elastic belt. Names and values are invented.
"""

from pathlib import Path

import pendel
from pendel.core.drive import commands

TARGET = Path(__file__).parent.parent / "src" / "pendel" / "examples" / "car_door_drive.pendel"

PLACES = {
    "supply": (5, 10),
    "bridge": (43, 10),
    "door_motor": (81, 10),
    "gear": (119, 10),
    "belt": (157, 10),
    "door_leaf": (157, 43),
    "rail": (119, 43),
    "rubbing": (81, 43),
    "pulse_stage": (5, 83),
    "current_pi": (43, 83),
    "current_sensor": (81, 83),
    "encoder": (157, 105),
    "travel_speed": (119, 105),
    "speed_pi": (81, 105),
    "travel_plan": (119, 127),
}


def build() -> pendel.Drive:
    d = pendel.Drive("Ostrelle funicular · car door drive")
    for name, text, note in (
        ("U_link", "48 V", "supply, open circuit"),
        ("m_leaf", "38 kg", "door leaf with glass"),
        ("r_pulley", "22 mm", "belt pulley"),
        ("z_gear", "12", "gear ratio"),
        ("v_max", "0.71 m/s", "travel speed of the leaf"),
        ("K_p", "35 A*s/m", "speed loop, gain"),
        ("T_i", "90 ms", "speed loop, integral time"),
        ("K_i", "1.2 V/A", "current loop, gain"),
        ("T_a", "0.67 ms", "current loop, integral time"),
        ("i_max", "24 A", "current limit"),
    ):
        commands.set_quantity(d.document, name, text, note).apply(d.document)
    for name, text in (("until", "1.2 s"), ("tick", "50 us")):
        d.set(name, text)
    d.add("dc_source", "Supply", U_0="U_link", R_i="35 mohm")
    d.add("four_quadrant_bridge", "Bridge", R_on="6 mohm")
    d.add(
        "brushed_dc",
        "Door motor",
        choices={"entry": "rated"},
        U_n="48",
        P_n="240",
        n_n="3800",
        n_0="4250",
        L_a="0.61",
        J_m="1.9e-4",
        b_m="2e-5",
    )
    d.add("gear", "Gear", ratio="z_gear", eta="94")
    d.add("belt", "Belt", r="r_pulley", k_b="41000", d_b="140")
    d.add("mass", "Door leaf", m="m_leaf")
    d.add("rail_friction", "Rail", F_c="11", F_s="14", b="6")
    d.add(
        "load_force",
        "Rubbing",
        profile=[
            ("0 s", "0"),
            ("0.62 s", "0"),
            ("0.63 s", "160"),
            ("0.88 s", "160"),
            ("0.89 s", "0"),
            ("1.2 s", "0"),
        ],
    )
    d.add("pulse_stage", "Pulse stage", U_dc="U_link")
    d.add("pi", "Current PI", K_p="K_i", T_i="T_a", low="-0.96*U_link", high="0.96*U_link")
    d.add("current_sensor", "Current sensor")
    d.add("encoder", "Encoder", lines="512", every="20")
    d.add("gain", "Travel speed", K="r_pulley/z_gear", every="20")
    d.add("pi", "Speed PI", K_p="K_p", T_i="T_i", low="-i_max", high="i_max", every="20")
    d.add(
        "travel_plan",
        "Travel plan",
        distance="0.7 m",
        v_max="v_max",
        a_max="4 m/s/s".replace("/s/s", "/s^2"),
        d_max="4 m/s^2",
        t_0="0.05",
        every="20",
    )
    for a, b in (
        ("supply.dc", "bridge.dc"),
        ("bridge.out", "door_motor.winding"),
        ("door_motor.shaft", "gear.a"),
        ("gear.b", "belt.pulley"),
        ("belt.rod", "door_leaf.a"),
        ("door_leaf.b", "rail.a"),
        ("rail.b", "rubbing.a"),
        ("pulse_stage.duty", "bridge.duty"),
        ("current_pi.out", "pulse_stage.u"),
        ("current_sensor.value", "current_pi.actual"),
        ("door_motor.current", "current_sensor.measured"),
        ("speed_pi.out", "current_pi.setpoint"),
        ("door_motor.angle", "encoder.angle"),
        ("encoder.speed", "travel_speed.x"),
        ("travel_speed.out", "speed_pi.actual"),
        ("travel_plan.speed", "speed_pi.setpoint"),
    ):
        d.connect(a, b)
    d.tap("i_set", "speed_pi.out")
    d.tap("i_door", "door_motor.current")
    d.keep_transfer("setpoint to current", "i_set", "i_door", opened=["speed_pi.out"], at="rest")
    d.keep_transfer("load to door speed", "rubbing.profile", "door_leaf.speed", at="rest")
    commands.move_cards(d.document, PLACES).apply(d.document)
    return d


if __name__ == "__main__":
    drive = build()
    for finding in drive.check():
        print(finding)
    drive.save(TARGET)
    print(TARGET)
