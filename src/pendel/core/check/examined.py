"""What the texts of a drive amount to, and what a rule looks at."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from pendel.core.catalogue.declare import Kind
from pendel.core.drive.document import Drive
from pendel.core.drive.findings import Finding
from pendel.core.quantities.named import Names


@dataclass
class Examined:
    """What the texts of a drive amount to, in SI, and what is wrong with them."""

    findings: list[Finding] = field(default_factory=list)
    quantities: dict[str, float] = field(default_factory=dict)
    settings: dict[str, float] = field(default_factory=dict)
    values: dict[str, dict[str, float]] = field(default_factory=dict)
    starts: dict[str, dict[str, float]] = field(default_factory=dict)
    given_starts: set[str] = field(default_factory=set)
    """``card.state`` of every starting value that was entered and does not follow from a default."""
    profiles: dict[str, tuple[list[float], list[float]]] = field(default_factory=dict)

    ranges: dict[str, tuple[float, float]] = field(default_factory=dict)
    """Lowest and highest values set by hand, by ``card.signal``."""
    live: dict[str, tuple[float, float]] = field(default_factory=dict)
    """Lowest and highest of values that can be changed while the code runs, by ``card.value``."""
    phases: dict[str, int] = field(default_factory=dict)
    """Ticks of their period at which blocks run, by card, where it is not the first."""
    pinned_keys: dict[str, int] = field(default_factory=dict)
    """Numbers by which blocks are found in the shipped code, by card."""
    level: str = ""
    """Of detail, of the drive."""
    aside: frozenset[str] = frozenset()
    """Cards that are not in a run at the level *system*, as an envelope stands for them."""

    @property
    def faults(self) -> list[Finding]:
        return [f for f in self.findings if f.stops]

    def finding_at(self, card: str, field_name: str) -> Finding | None:
        return next((f for f in self.findings if f.card == card and f.field == field_name), None)


@dataclass(frozen=True)
class Subject:
    """A drive with its known kinds by card and its names; what rules find goes into ``result``."""

    drive: Drive
    kinds: dict[str, Kind]
    names: Names
    result: Examined
    unknown: tuple[Finding, ...] = ()
    """What is said of cards whose kind is not known."""


Rule = Callable[[Subject], None]
"""Looks at one thing and adds findings, and what it evaluated."""
