"""A card of a drive, and how cards are wired, for scripts and notebooks."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import TYPE_CHECKING

from pendel.core.catalogue.assembly import kind_in
from pendel.core.catalogue.declare import Kind, Part
from pendel.core.check import end_exists, fits
from pendel.core.drive.document import Card, End
from pendel.core.drive.document import Drive as Document
from pendel.core.drive.findings import Finding
from pendel.core.drive.nesting import resolved
from pendel.core.drive.user_text import known_name, near_words
from pendel.core.equations.flatten import equation_values
from pendel.core.errors import DriveHasFindings, DriveProblem
from pendel.core.verbs.changing import kind_of_card

if TYPE_CHECKING:
    from pendel.interface.api import Drive


class CardView:
    """A card of a drive: its values in SI by name, and what it can be asked.

    ``card["R_a"]`` is a value in SI, and ``card["R_a"] = "0.5 ohm"`` sets it, as text with a unit or as a
    number in the
    value's own unit; ``card.R_a`` is the same.

    Example
    -------
    >>> import pendel
    >>> motor = pendel.open_example("car_door_drive").card("door_motor")
    >>> motor, round(motor.R_a, 3), motor.texts["L_a"]  # R_a follows from the rated point that is entered
    (<Door motor: Brushed DC machine, permanent magnet>, 0.907, '0.61')
    >>> motor.L_a = "0.5 mH"
    >>> motor.values["L_a"]
    0.0005
    """

    def __init__(self, drive: Drive, key: str):
        vars(self).update(_drive=drive, key=key)

    if TYPE_CHECKING:
        _drive: Drive
        key: str

    def __repr__(self) -> str:
        return f"<{self.name}: {self.kind.title}>"

    @property
    def _card(self) -> Card:
        kind_of_card(self._drive.document, self.key)
        return self._drive.document.cards[self.key]

    @property
    def kind(self) -> Kind:
        """What it is: its declaration in the catalogue."""
        return kind_of_card(self._drive.document, self.key)

    @property
    def name(self) -> str:
        """What it is called."""
        return self._card.name

    @property
    def values(self) -> dict[str, float]:
        """Values in force, in SI, those on an assembly's face among them; what another way of entering decides is what
        follows from that, and not-a-number where nothing does or a text has no value."""
        return {v.name: self._value(v.name) for v in self.kind.values}

    def _value(self, name: str) -> float:
        end = resolved(self._drive.document, End(self.key, name))
        examined = self._drive._examined()
        kind, card = kind_of_card(self._drive.document, end.card), self._drive.document.cards[end.card]
        known: Mapping[str, float] = examined.values.get(end.card, {})
        if isinstance(kind, Part) and all(v.name != end.port for v in kind.values_in_force(card)):
            if kind.equation_values is None:
                return math.nan
            try:
                known = equation_values(end.card, card, kind, examined)
            except DriveHasFindings:
                return math.nan
        return known.get(end.port, math.nan)

    @property
    def texts(self) -> dict[str, str]:
        """Values as they are written, or as the catalogue has them; of an assembly's face those of the cards inside."""
        found = {}
        for value in self.kind.values:
            end = resolved(self._drive.document, End(self.key, value.name))
            found[value.name] = self._drive.document.cards[end.card].values.get(end.port, value.default)
        return found

    @property
    def choices(self) -> dict[str, str]:
        """Its choices by name, as made or as the catalogue has them."""
        return {c.name: self._card.choices.get(c.name, c.default) for c in self.kind.choices}

    @property
    def ports(self) -> list[str]:
        """Its ports, as `Drive.connect` takes them."""
        return [f"{self.key}.{p.name}" for p in self.kind.ports]

    @property
    def signals(self) -> list[str]:
        """Keys of what a run shows of it. Raises `DriveHasFindings` where the drive cannot run."""
        return [s.key for s in self._drive.signals() if s.key.partition(".")[0] == self.key]

    @property
    def findings(self) -> list[Finding]:
        """What is wrong with it."""
        return [f for f in self._drive.check() if f.card == self.key]

    @property
    def summary(self) -> str:
        """Its values in one line."""
        return ", ".join(f"{name} = {text}" for name, text in self.texts.items())

    def __getitem__(self, name: str) -> float:
        known_name("value", name, (v.name for v in self.kind.values), self.key)
        return self.values[name]

    def __setitem__(self, name: str, value: str | float) -> None:
        known_name("value", name, (v.name for v in self.kind.values), self.key)
        self._drive.set(f"{self.key}.{name}", value)

    def __getattr__(self, name: str) -> float:
        if name.startswith("_") or all(v.name != name for v in self.kind.values):
            raise AttributeError(f"{self.key} has no value {name}")
        return self[name]

    def __setattr__(self, name: str, value: str | float) -> None:
        try:
            self[name] = value
        except DriveProblem as problem:
            raise AttributeError(str(problem)) from problem

    def __dir__(self) -> list[str]:
        return [*super().__dir__(), *(v.name for v in self.kind.values)]


def ways(drive: Document, a: str, b: str) -> list[tuple[End, End]]:
    """How two ends can be wired: each is a port, or a card whose ports are all tried. Raises `DriveProblem`
    where there
    is no way."""
    known = {key: kind_in(drive, key) for key in drive.cards}

    def ends(text: str) -> list[End]:
        if "." in text:
            end = End.parse(text)
            if end_exists(drive, known, end) is None:
                near = [f"{key}.{p.name}" for key, kind in known.items() for p in kind.ports]
                raise DriveProblem(f"There is no port or signal {end}.{near_words(text, near)}")
            return [end]
        return [End(text, p.name) for p in kind_of_card(drive, text).ports]

    firsts, seconds = ends(a), ends(b)
    if len(firsts) == len(seconds) == 1 and "." in a and "." in b:
        return [(firsts[0], seconds[0])]
    links = {end: end_exists(drive, known, end) for end in (*firsts, *seconds)}
    pairs = [(x, y, links[x], links[y]) for x in firsts for y in seconds if x != y]
    fitting = [(x, y) for x, y, one, other in pairs if one and other and fits(one, other)]
    wired = {end for wire in drive.wires.values() for end in (wire.a, wire.b)}
    free = [pair for pair in fitting if not wired.intersection(pair)]
    fitting_ways = free or fitting
    if not fitting_ways:
        raise DriveProblem(f"No port of {a} fits one of {b}.")
    return fitting_ways
