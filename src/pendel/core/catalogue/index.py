"""All kinds of parts and blocks by id. A part or block is known once its module is named here."""

from __future__ import annotations

from functools import lru_cache
from importlib import import_module

from pendel.core.catalogue import own, own_block
from pendel.core.catalogue.declare import Kind, Link, Part
from pendel.core.drive.document import Card
from pendel.core.errors import DriveProblem

MODULES = (
    "electrical.dc_source", "electrical.four_quadrant_bridge", "electrical.ground", "electrical.passives", "electrical.sources", "electrical.switches",
    "electrical.dc_converters", "electrical.three_phase", "electrical.three_phase_transformer", "machines.brushed_dc", "machines.pmsm", "machines.pmsm_tables", "machines.induction", "machines.trapezoidal", "machines.wound_dc", "mechanics.inertias",
    "mechanics.friction", "mechanics.transmissions", "mechanics.elastic", "mechanics.wedges", "mechanics.road", "mechanics.loads", "sensors.sensing", "sensors.encoder", "sensors.hall", "control.generators",
    "control.travel_plan", "control.arithmetic", "control.regulators", "control.dynamics", "control.pulse_stage", "control.three_phase", "control.field_orientation", "control.rotor_flux", "control.commutation", "control.filters", "control.maps", "control.emf_observer", "control.grid",
)  # fmt: skip


ASSEMBLY = Kind(id="assembly", title="Assembly", sentence="Several cards in one.", group="assembly")
"""What is common to all assemblies; `pendel.core.catalogue.assembly.kind_in` tells the rest."""


@lru_cache(maxsize=1)
def kinds() -> dict[str, Kind]:
    """Every kind by its id. Duplicate ids fail at once."""
    found: dict[str, Kind] = {own.TEMPLATE.id: own.TEMPLATE, **own_block.TEMPLATES}
    for name in MODULES:
        module = import_module(f"pendel.core.catalogue.{name}")
        for kind in getattr(module, "KINDS", None) or (module.KIND,):
            if kind.id in found:
                raise ValueError(f"two catalogue entries are called {kind.id}")
            found[kind.id] = kind
    return found


def kind_of(card: Card) -> Kind:
    """The kind of a card; for own equations, the one its lines amount to.

    Raises
    ------
    DriveProblem
        when this version has no such kind.
    """
    if card.kind == "own":
        return _own_part(card.kind, card.own, card)
    if card.kind in own_block.TEMPLATES:
        return own_block.block_of(card)
    if card.face is not None:
        return ASSEMBLY
    if card.kind not in kinds():
        raise DriveProblem(
            f"{card.name} is of the kind “{card.kind}”, which this version of Pendel does not have. Delete the card or update Pendel."
        )
    return kinds()[card.kind]


def alternatives(kind: Kind) -> list[Kind]:
    """Kinds of the same group and ports, among them the kind itself: one can take another's place with all its wires."""

    def ports(k: Kind) -> list[tuple[str, Link, str]]:
        return [(p.name, p.link, p.unit) for p in k.ports]

    if kind.group == own.TEMPLATE.group or not kind.ports:
        return [kind]
    return [
        k
        for k in kinds().values()
        if type(k) is type(kind) and k.group == kind.group and ports(k) == ports(kind)
    ]


_cache: dict[object, Part] = {}


def _own_part(_: str, lines: object, card: Card) -> Part:
    if lines not in _cache:
        if len(_cache) > 200:
            _cache.clear()
        _cache[lines] = own.own_part(card)
    return _cache[lines]
