"""Signals of a run by what they are, whatever their kinds call them."""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache

from pendel.core.catalogue.declare import Kind
from pendel.core.catalogue.index import kind_of
from pendel.core.drive.file import from_text
from pendel.core.errors import DriveProblem, PendelError
from pendel.core.runs.record.kept import KeptRun
from pendel.core.system.fold import at_level
from pendel.core.vocabulary import SignalRole


def kinds_in(run: KeptRun) -> Mapping[str, Kind]:
    """The kinds of a run's cards, by the drive that it keeps; without those that this version does not
    have."""
    return _kinds_in(run.drive_text)


@lru_cache(maxsize=32)
def _kinds_in(text: str) -> Mapping[str, Kind]:
    try:
        drive = at_level(from_text(text))
    except PendelError:
        return {}
    kinds = {}
    for key, card in drive.cards.items():
        try:
            kinds[key] = kind_of(card)
        except DriveProblem:
            continue
    return kinds


def signals_of(run: KeptRun, card: str, role: SignalRole) -> list[str]:
    """Signals of a card, by their keys, in the order of their declaration; those that the run has."""
    kind = kinds_in(run).get(card)
    names = kind.signal_names(role) if kind is not None else ()
    return [k for n in names if (k := f"{card}.{n}") in run.structure.signals or k in run.tick_signals]


def machine_currents(run: KeptRun, machine: str) -> list[str]:
    """All currents of a machine by which its peak is found: those of its phases, and what it gives as one
    current."""
    return [
        key for role in (SignalRole.MACHINE_CURRENT, SignalRole.PHASE_CURRENT) for key in signals_of(run, machine, role)
    ]


def signals_with(run: KeptRun, role: SignalRole) -> list[str]:
    """The same of all cards, card by card."""
    return [key for card in kinds_in(run) for key in signals_of(run, card, role)]


def cards_with(run: KeptRun, *roles: SignalRole) -> list[str]:
    """Cards that have signals of all these roles."""
    return [card for card in kinds_in(run) if all(signals_of(run, card, role) for role in roles)]
