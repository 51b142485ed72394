"""Builds the works car of the made-up Ostrelle funicular, on a trip to the upper station's depot and back: ``python
examples/build_works_car.py``."""

from pathlib import Path

import pendel
from pendel.core.drive import commands, file

TARGET = Path(__file__).parent.parent / "src" / "pendel" / "examples" / "works_car.pendel"
MACHINE = TARGET.with_name("works_machine.pendel")
PLAN = (
    (0, 0),
    (8, 0),
    (20, 25),
    (55, 25),
    (65, 0),
    (85, 0),
    (103, 38),
    (170, 38),
    (182, 15),
    (215, 15),
    (222, 0),
    (262, 0),
    (274, 20),
    (310, 20),
    (330, 45),
    (395, 45),
    (412, 0),
    (430, 0),
)
"""Seconds and km/h."""
ROAD = ((0, 0), (300, 1), (700, 6), (1100, 7), (1350, 0), (1600, -6), (2000, -7), (2400, -1), (3000, 0))
"""Metres and percent."""


def works_car() -> pendel.Drive:
    d = pendel.Drive("Ostrelle funicular · works car on a trip")
    for name, text, note in (
        ("m_car", "1350 kg", "car with tools and one driver"),
        ("z_gear", "7.2", "motor over axle"),
        ("K_d", "260 N*m*s/m", "driver: torque for a speed that is missing"),
        ("T_d", "9 s", "driver: patience"),
        ("M_top", "130 N*m", "largest torque"),
    ):
        commands.set_quantity(d.document, name, text, note).apply(d.document)
    for name, text in (("tick", "0.1 s"), ("until", "430 s")):
        d.set(name, text)
    d.add("battery", "Battery", Q="60 Ah", charge_0="80 %", R="18 mohm", R_1="12 mohm")
    made = pendel.open(MACHINE).envelope("machine", "torque_demand.out", "130 N*m", "3000 rpm", checks=40)
    d.add_envelope(made, "Traction")
    for name, text in (("P_max", "18 kW"), ("U_low", "60 V"), ("U_full", "80 V")):  # what the car's fuse allows
        d.set(f"traction.{name}", text)
    d.add("gear", "Gear", ratio="z_gear", eta="97")
    road = [(f"{x} m", f"{slope} %") for x, slope in ROAD]
    d.add("car", "Works car", m="m_car", rows=road)
    d.add("converter_by_losses", "On-board supply")
    d.add("power_load", "Lights and heater", P="420 W")
    d.add("profile", "Plan", profile=[(f"{t} s", f"{v} km/h") for t, v in PLAN])
    d.add("speed_sensor", "Speed")
    d.add("pi", "Driver", K_p="K_d", T_i="T_d", low="-M_top", high="M_top")
    for a, b in (
        ("battery.dc", "traction.dc"),
        ("traction.shaft", "gear.a"),
        ("gear.b", "works_car.axle"),
        ("battery.dc", "on_board_supply.dc"),
        ("on_board_supply.out", "lights_and_heater.dc"),
        ("works_car.speed", "speed.measured"),
        ("speed.value", "driver.actual"),
        ("plan.out", "driver.setpoint"),
        ("driver.out", "traction.torque"),
    ):
        d.connect(a, b)
    places = {
        "battery": (5, 10),
        "traction": (43, 10),
        "gear": (81, 10),
        "works_car": (119, 10),
        "on_board_supply": (43, 42),
        "lights_and_heater": (81, 42),
        "driver": (43, 84),
        "plan": (81, 84),
        "speed": (81, 106),
    }
    commands.move_cards(d.document, places, "Place").apply(d.document)
    return d


if __name__ == "__main__":
    TARGET.unlink(missing_ok=True)
    file.save(works_car().document, TARGET)
