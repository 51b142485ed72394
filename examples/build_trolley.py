"""Builds the service trolley of the made-up Ostrelle funicular: the haul machine by its tables on two wheels that may
slip, and an EMF observer beside its resolver: ``python examples/build_trolley.py``."""

import dataclasses
from pathlib import Path

from build_haul_drive import haul_drive
from build_haul_tables import give_tables, tables

import pendel
from pendel.core.drive import commands, file
from pendel.core.drive.document import FaceItem

EXAMPLES = Path(__file__).parent.parent / "src" / "pendel" / "examples"
QUANTITIES = (
    ("m_trolley", "900 kg", "with its load"),
    ("r_wheel", "280 mm", "all four wheels"),
    ("ratio", "5", "gear to the rear axle"),
    ("mu_rail", "0.9", "0.3 when wet"),
    ("v_0", "3 m/s", "at the start"),
)


def trolley() -> pendel.Drive:
    d = haul_drive()
    doc = d.document
    d.set("title", "Ostrelle funicular · service trolley")
    for name, text, note in QUANTITIES:
        commands.set_quantity(doc, name, text, note).apply(doc)
    d.set("until", "1.6 s")
    table = tables()
    give_tables(doc, table)
    for key, kind, values in (
        ("torque_to_currents", "torque_to_currents_tables", {"p": "pairs", "I_max": "I_top", "U_dc": "U_link"}),
        ("current_regulator", "dq_regulator_tables", {"f_c": "f_c", "R": "R_ph", "U_dc": "U_link"}),
    ):
        doc.cards[key] = dataclasses.replace(doc.cards[key], kind=kind, values=values, flux=table)
    face = doc.cards["field_orientation"].face
    shown = tuple(item for item in face.values if item.name == "I_max") + (FaceItem("f_c", "current_regulator", "f_c"),)
    doc.cards["field_orientation"] = dataclasses.replace(
        doc.cards["field_orientation"],
        face=dataclasses.replace(face, design="Field orientation by tables", values=shown),
    )
    for name in ("K_d", "T_d", "K_q", "T_q"):
        commands.remove_quantity(doc, name).apply(doc)
    commands.remove_cards(doc, ["test_bench"]).apply(doc)
    for name, text in (("before", "0 N*m"), ("after", "240 N*m"), ("t_0", "0.2 s")):
        d.set(f"torque_demand.{name}", text)
    d.add("gear", "Gear", ratio="ratio", eta="96 %")
    d.add(
        "vehicle",
        "Trolley",
        m="m_trolley",
        r="r_wheel",
        J_w="1.5 kg*m^2",
        l="1.6 m",
        h="0.6 m",
        c_wA="1.8 m^2",
        mu="mu_rail",
        kappa="3 %",
        starts={"v": "v_0", "omega_front": "v_0/r_wheel", "omega_rear": "v_0/r_wheel"},
        profile=[("0 s", "0"), ("1 s", "0"), ("1.2 s", "8 %"), ("9 s", "8 %")],
    )
    d.add("emf_observer", "EMF observer", p="pairs", R="R_ph", L_d="L_d", L_q="L_q", psi="psi_m")
    wires = [("haul_machine.shaft", "gear.a"), ("gear.b", "trolley.rear")]
    for n in "abc":
        wires += [(f"voltage_demand.{n}", f"emf_observer.u_{n}"), (f"current_{n}.value", f"emf_observer.{n}")]
    for a, b in wires:
        d.connect(a, b)
    commands.move_cards(doc, {"gear": (124, 10), "trolley": (160, 10), "emf_observer": (28, 112)}, "Place").apply(doc)
    return d


if __name__ == "__main__":
    target = EXAMPLES / "service_trolley.pendel"
    target.unlink(missing_ok=True)
    file.save(trolley().document, target)
