"""Signals that travel together, drawn as one wire that opens. The drive knows nothing of it: files, C and Python have
single signals."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Mapping

from pendel.core.catalogue.declare import Part
from pendel.core.catalogue.index import known_kind
from pendel.core.drive.document import Drive, Wire

Way = tuple[str, str]
"""Two cards, from and to."""
SIGNALS = ("continuous", "sampled")
"""Styles of wires that can be bundled; what carries power stays as it is."""


class Bundles:
    """Those of one sheet. ``opened`` are the ways on which signals are drawn one by one; ``on`` whether any are
    bundled."""

    def __init__(self) -> None:
        self.on = True
        self.opened: set[Way] = set()
        self._together: dict[str, tuple[str, ...]] = {}
        """All signals of a bundle, by each of them."""

    def sort(self, wires: Mapping[str, Wire], styles: Mapping[str, str], alone: Collection[str]) -> None:
        """Find the bundles among wires, by their styles: two signals and more from one card to another. Those of
        ``alone`` go by themselves, as their names are written at them."""
        ways: dict[tuple[str, str, str, bool], list[str]] = defaultdict(list)
        for key, wire in wires.items():
            way = (wire.a.card, wire.b.card)
            if self.on and way not in self.opened and key not in alone and styles[key] in SIGNALS:
                ways[*way, styles[key], wire.named].append(key)
        self._together = {key: tuple(keys) for keys in ways.values() if len(keys) > 1 for key in keys}

    def of(self, key: str) -> tuple[str, ...]:
        """All signals of the line of a wire; the wire alone where it is no bundle."""
        return self._together.get(key, (key,))

    def line_of(self, key: str) -> str:
        """The wire whose line is drawn for it."""
        return self.of(key)[0]

    def known(self, key: str, wire: Wire) -> bool:
        """Whether a wire lies in a bundle, or in one that is open."""
        return len(self.of(key)) > 1 or (wire.a.card, wire.b.card) in self.opened

    def toggle(self, key: str, wire: Wire) -> bool:
        """Open the bundle of a wire, or close it again; returns whether anything changes."""
        known = self.known(key, wire)
        if known:
            self.opened ^= {(wire.a.card, wire.b.card)}
        return known


def signal_words(drive: Drive, wire: Wire) -> str:
    """From where to where a signal of a bundle goes, in a line."""
    return f"{drive.cards[wire.a.card].name}.{wire.a.port} → {drive.cards[wire.b.card].name}.{wire.b.port}"


def wire_label(drive: Drive, wire: Wire) -> str:
    """A measured signal's name, since a part has many; block outputs need none."""
    kind = known_kind(drive.cards[wire.a.card])
    if isinstance(kind, Part) and kind.port(wire.a.port) is None:
        return next((s.label for s in kind.signals if s.name == wire.a.port), "")
    return ""
