"""Units of what a linear model speaks of, in SI."""

from __future__ import annotations

from collections.abc import Iterable

from pendel.core.catalogue.declare import Part
from pendel.core.catalogue.index import kind_of
from pendel.core.drive.document import Drive
from pendel.core.quantities.units import si_unit_of, turn, unit
from pendel.core.runs.preparing.simulate import signal_infos

WAITING = ("pending ", "held ")
"""Before the name of a signal that waits for its tick."""


def units_of(drive: Drive, names: Iterable[str]) -> dict[str, str]:
    """By name, as far as they are known: of signals, and of states of parts."""
    known = {key: info.unit for key, info in signal_infos(drive).items()}
    kinds = {key: kind_of(card) for key, card in drive.cards.items()}
    for key, kind in kinds.items():
        if isinstance(kind, Part):
            known |= {f"{key}.{state.name}": state.unit for state in kind.states}
    units = {}
    for name in names:
        of = next((name.removeprefix(word) for word in WAITING if name.startswith(word)), name)
        if known.get(of):
            units[name] = in_si(known[of])
    return units


def in_si(text: str) -> str:
    """The unit of SI for one that is shown: rad/s for rpm."""
    return si_unit_of(unit(text)[1], turn(text))


__all__ = ["units_of"]
