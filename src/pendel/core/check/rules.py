"""All rules, one after another."""

from __future__ import annotations

from pendel.core.catalogue.card_names import names_of
from pendel.core.catalogue.declare import Kind
from pendel.core.catalogue.index import kind_of
from pendel.core.check.cards import cards
from pendel.core.check.envelopes import envelopes
from pendel.core.check.examined import Examined, Rule, Subject
from pendel.core.check.fixed_steps import harmonics
from pendel.core.check.formats import formats
from pendel.core.check.panel import panel
from pendel.core.check.plans import plans
from pendel.core.check.rates import held_angles
from pendel.core.check.reach import limits_beyond
from pendel.core.check.settings import quantities, settings
from pendel.core.check.ties import ties
from pendel.core.check.unit_fit import unit_fit
from pendel.core.check.wires import ports, taps, wires
from pendel.core.drive.document import Drive
from pendel.core.drive.findings import Finding, fault
from pendel.core.errors import DriveProblem


def unknown_kinds(of: Subject) -> None:
    of.result.findings += of.unknown


RULES: tuple[Rule, ...] = (
    quantities,
    settings,
    unknown_kinds,
    cards,
    ties,
    formats,
    harmonics,
    wires,
    ports,
    taps,
    unit_fit,
    held_angles,
    limits_beyond,
    panel,
    plans,
    envelopes,
)
"""In an order in which each finds evaluated what it looks at. A kind adds its own by `Kind.rules`."""


def examine(drive: Drive) -> Examined:
    """Evaluate and check everything that needs no equations."""
    names = names_of(drive)
    kinds, unknown = known_kinds(drive)
    of = Subject(drive, kinds, names, Examined(level=drive.settings["level"]), tuple(unknown))
    for rule in RULES:
        rule(of)
    return of.result


def known_kinds(drive: Drive) -> tuple[dict[str, Kind], list[Finding]]:
    kinds: dict[str, Kind] = {}
    unknown = []
    for key, card in drive.cards.items():
        try:
            kinds[key] = kind_of(card)
        except DriveProblem as problem:
            unknown.append(fault(str(problem), key))
    return kinds, unknown
