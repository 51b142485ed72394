"""Builds the ready bodies of machines on the shelf: winding and housing, with the iron between, with the rotor, too.

Two, three and four bodies joined by resistances, as machines are taken thermally where their losses are known in parts
(Pyrhönen, Jokinen, Hrabovcová: Design of Rotating Electrical Machines, chapter 9, from memory). The figures are those
of no machine: a totally enclosed one of some 30 kW, invented."""

from pathlib import Path

import pendel
from pendel.core.drive import assemblies, commands, file, shelf
from pendel.core.drive.document import End, slug

SHELF = Path(pendel.__file__).parent / "shelf"
START, CLASS_F = "25 °C", "155 °C"
WINDING = ("heat_capacity", "Winding", (8, 8), {"C": "3.2 kJ/K", "T_0": START, "T_max": CLASS_F})
IRON = ("heat_capacity", "Iron", (84, 8), {"C": "14 kJ/K", "T_0": START})
HOUSING = ("heat_capacity", "Housing", (160, 8), {"C": "12 kJ/K", "T_0": START})
ROTOR = ("heat_capacity", "Rotor", (84, 76), {"C": "9 kJ/K", "T_0": START, "T_max": "120 °C"})
SLOTS = ("heat_resistance", "Slots", (46, 8), {"R": "0.016 K/W"})
FIT = ("heat_resistance", "Fit of the housing", (122, 8), {"R": "0.004 K/W"})
GAP = ("heat_resistance", "Air gap", (84, 42), {"R": "0.09 K/W"})
TWO = (WINDING, SLOTS, (*HOUSING[:3], {"C": "26 kJ/K", "T_0": START}))
WAYS = (("winding.b", "slots.a"), ("slots.b", "iron.b"), ("iron.b", "fit_of_the_housing.a"))
TO_HOUSING = (("fit_of_the_housing.b", "housing.a"),)
BODIES = {
    "Machine body, 2 nodes": (TWO, (("winding.b", "slots.a"), ("slots.b", "housing.a"))),
    "Machine body, 3 nodes": ((WINDING, SLOTS, IRON, FIT, HOUSING), (*WAYS, *TO_HOUSING)),
    "Machine body, 4 nodes": (
        (WINDING, SLOTS, IRON, FIT, HOUSING, GAP, ROTOR),
        (*WAYS, *TO_HOUSING, ("rotor.b", "air_gap.a"), ("air_gap.b", "iron.b")),
    ),
}


def machine_bodies(name: str) -> pendel.Drive:
    """A drive with the assembly alone."""
    d = pendel.Drive(name)
    cards, ways = BODIES[name]
    keys = [d.add(kind, title, **values) for kind, title, _, values in cards]
    for a, b in ways:
        d.connect(a, b)
    face = {"C_winding": "winding.C", "T_max_winding": "winding.T_max", "R_slots": "slots.R", "C_housing": "housing.C"}
    if "iron" in keys:
        face |= {"C_iron": "iron.C", "R_fit": "fit_of_the_housing.R"}
    if "rotor" in keys:
        face |= {"C_rotor": "rotor.C", "T_max_rotor": "rotor.T_max", "R_gap": "air_gap.R"}
    group = d.group(keys, name, face=face)
    open_ends = ["winding.a", *(["iron.a"] if "iron" in keys else []), *(["rotor.a"] if "rotor" in keys else [])]
    for end in (*open_ends, "housing.b"):
        d.do(assemblies.show_port(d.document, group, End.parse(end), True))
    places = {key: at for key, (_, _, at, _) in zip(keys, cards)}
    commands.move_cards(d.document, places, "Place").apply(d.document)
    return d


if __name__ == "__main__":
    for name in BODIES:
        made = machine_bodies(name).document
        top = next(key for key, card in made.cards.items() if card.face is not None)
        target = SHELF / f"{slug(name)}.pendel"
        target.unlink(missing_ok=True)
        file.save(shelf.only_assembly(made, top), target)
