"""Builds the example *Haul drive over a duty*: the haul drive with the bodies that its losses warm."""

from pathlib import Path

import pendel
from pendel.core.drive import commands, file
from pendel.core.drive.duties import DutyPlan
from pendel.core.drive.duty_edits import set_duty

TARGET = Path(pendel.__file__).parent / "examples" / "warm_haul_drive.pendel"
DOWN = 78
"""How far the sheet of the haul drive goes down, to leave room for the bodies."""
BODIES = (
    ("heat_capacity", "Winding", (86, 4), {"C": "3.2 kJ/K", "T_0": "T_hall", "T_max": "155 °C"}),
    ("heat_resistance", "Slots", (124, 4), {"R": "0.016 K/W"}),
    ("heat_capacity", "Housing", (162, 4), {"C": "26 kJ/K", "T_0": "T_hall", "T_max": "110 °C"}),
    ("convection", "Ribs", (200, 4), {"h": "14 W/m²/K", "A": "2.4 m²"}),
    ("transient_impedance", "Junctions", (86, 40), {"T_0": "T_hall", "T_max": "150 °C"}),
    ("heat_capacity", "Heat sink", (124, 40), {"C": "5 kJ/K", "T_0": "T_hall", "T_max": "85 °C"}),
    ("heat_resistance", "Fan", (162, 40), {"R": "0.035 K/W"}),
    ("ambient", "Hall", (200, 40), {"T": "T_hall"}),
)
TERMS = (("0.006 K/W", "2 ms"), ("0.02 K/W", "30 ms"), ("0.03 K/W", "250 ms"))
WAYS = (
    ("haul_machine.heat", "winding.a"),
    ("winding.b", "slots.a"),
    ("slots.b", "housing.a"),
    ("haul_machine.magnet", "housing.a"),
    ("housing.b", "ribs.a"),
    ("ribs.b", "hall.a"),
    ("inverter.heat", "junctions.a"),
    ("junctions.b", "heat_sink.a"),
    ("heat_sink.b", "fan.a"),
    ("fan.b", "hall.a"),
)


def warm_haul_drive() -> pendel.Drive:
    d = pendel.open_example("haul_drive")
    d.document.settings["title"] = "Ostrelle funicular · haul drive over a duty"
    outside = {key: (card.x, card.y + DOWN) for key, card in d.document.cards.items() if not card.inside}
    commands.move_cards(d.document, outside, "Make room").apply(d.document)
    commands.set_quantity(d.document, "T_hall", "30 °C", "air of the machine hall").apply(d.document)
    for kind, name, _, values in BODIES:
        d.add(kind, name, **values, **({"rows": TERMS} if kind == "transient_impedance" else {}))
    for a, b in WAYS:
        d.connect(a, b)
    d.choose("inverter", over_temperature="two")
    d.set("inverter.T_warm", "125 °C")
    d.set("inverter.R_on_warm", "9 mohm")
    d.set("inverter.V_d_warm", "0.75 V")
    d.set("inverter.e_warm", "1.25")
    places = {name.lower().replace(" ", "_"): at for _, name, at, _ in BODIES}
    commands.move_cards(d.document, places, "Place").apply(d.document)
    hoists = DutyPlan(
        ("torque_demand.after",),
        (("90 s", "400 N*m"), ("60 s", "40 N*m"), ("90 s", "-300 N*m"), ("240 s", "0 N*m")),
    )
    set_duty(d.document, "Hoist and rest", hoists).apply(d.document)
    intermittent = DutyPlan(("torque_demand.after",), (("4 min", "400 N*m"), ("6 min", "0 N*m")))
    set_duty(d.document, "S3 40 %", intermittent).apply(d.document)
    return d


if __name__ == "__main__":
    TARGET.unlink(missing_ok=True)
    file.save(warm_haul_drive().document, TARGET)
