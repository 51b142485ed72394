"""The numbers of a drive's parts, apart from their equations."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field


@dataclass(frozen=True, eq=False)
class Numbers:
    """By card, in SI. What the equations use is worked out already from what was entered."""

    values: Mapping[str, Mapping[str, float]]
    starts: Mapping[str, Mapping[str, float]] = field(default_factory=dict)
    given_starts: frozenset[str] = frozenset()
    """``card.state`` of those that were entered."""
    profiles: Mapping[str, tuple[Sequence[float], Sequence[float]]] = field(default_factory=dict)
    """Times (s) and levels of their corners."""
    surfaces: Mapping[str, Sequence[float]] = field(default_factory=dict)
    """By ``card.surface``."""

    def start(self, state: str) -> float:
        """Of ``card.state``; zero where nothing is known of it."""
        card, _, name = state.partition(".")
        return self.starts.get(card, {}).get(name, 0.0)
