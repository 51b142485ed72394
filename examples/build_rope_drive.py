"""Builds the haul drive with its elastic rope: a torque step winds it up, a loop from the speed damps it: ``python
examples/build_rope_drive.py``."""

from pathlib import Path

from build_haul_drive import haul_drive

import pendel
from pendel.core.drive import commands, file

EXAMPLES = Path(__file__).parent.parent / "src" / "pendel" / "examples"
QUANTITIES = (
    ("k_rope", "200 kN/m", "stiffness of the rope"),
    ("m_car", "1500 kg", "car"),
    ("ratio", "8", "gear"),
    ("r_drum", "0.6 m", "drum"),
    ("J_rotor", "0.42 kg*m^2", "rotor"),
    ("k_shaft", "k_rope*(r_drum/ratio)^2", "the rope seen from the machine"),
    ("J_car", "m_car*(r_drum/ratio)^2", "the car seen from the machine"),
    ("w_rope", "sqrt(k_shaft*(1/J_rotor + 1/J_car))", "natural frequency, two masses"),
    ("K_damp", "2*0.35*w_rope*J_rotor", "damping loop, proposed: a third of critical"),
    ("damping", "0", "1 switches the damping loop on"),
)


def rope_drive() -> pendel.Drive:
    d = haul_drive()
    doc = d.document
    d.set("title", "Ostrelle funicular · haul drive on its rope")
    for name, text, note in QUANTITIES:
        commands.set_quantity(doc, name, text, note).apply(doc)
    commands.remove_cards(doc, ["test_bench"]).apply(doc)
    d.set("until", "2 s")
    for name, text in (("before", "0 N*m"), ("after", "60 N*m"), ("t_0", "100 ms")):
        d.set(f"torque_demand.{name}", text)
    d.set("haul_machine.J_m", "J_rotor")
    d.set("current_a.gain_error", "4 %")
    d.set("current_b.gain_error", "-3 %")
    d.add("gear", "Gear", ratio="ratio", eta="100 %")
    d.add("drum", "Drum", r="r_drum")
    d.add("rope", "Rope", k="k_rope", d="300 N*s/m")
    d.add("mass", "Car", m="m_car")
    d.add("rail_friction", "Rails", F_c="250 N", F_s="300 N", b="120 N*s/m")
    d.add("pt1", "Slow speed", K="1", T="250 ms")
    d.add("pi", "Damping", K_p="K_damp*damping", T_i="1 s", low="-80 N*m", high="80 N*m")
    d.add("sum", "Torque in all")
    d.add("speed_sensor", "Tachometer")
    direct = [key for key, w in doc.wires.items() if str(w.a) == "torque_demand.out"]
    commands.remove_wires(doc, direct).apply(doc)
    for a, b in (
        ("haul_machine.shaft", "gear.a"),
        ("gear.b", "drum.shaft"),
        ("drum.rope", "rope.a"),
        ("rope.b", "car.a"),
        ("car.b", "rails.a"),
        ("haul_machine.speed", "tachometer.measured"),
        ("tachometer.value", "slow_speed.x"),
        ("slow_speed.out", "damping.setpoint"),
        ("tachometer.value", "damping.actual"),
        ("torque_demand.out", "torque_in_all.a"),
        ("damping.out", "torque_in_all.b"),
        ("torque_in_all.out", "torque_to_currents.torque"),
    ):
        d.connect(a, b)
    places = {
        "gear": (124, 10),
        "drum": (160, 10),
        "rope": (160, 40),
        "car": (124, 40),
        "rails": (88, 40),
        "tachometer": (168, 60),
        "torque_in_all": (80, 98),
        "torque_demand": (122, 98),
        "damping": (80, 120),
        "slow_speed": (122, 120),
    }
    everything = {key: (card.x, card.y) for key, card in doc.cards.items() if not card.inside} | places
    lowered = {key: (x, y + 28 if y >= 58 else y) for key, (x, y) in everything.items()}
    commands.move_cards(doc, lowered, "Place").apply(doc)
    d.keep_transfer("torque to speed", "torque_in_all.out", "haul_machine.speed", at="rest")
    d.keep_transfer("torque to pull in the rope", "torque_in_all.out", "rope.force", at="rest")
    return d


if __name__ == "__main__":
    target = EXAMPLES / "haul_drive_rope.pendel"
    target.unlink(missing_ok=True)
    file.save(rope_drive().document, target)
