"""What a catalogue entry declares. The inspector, the search line, the docs and the checks derive from it."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Any, ClassVar

import numpy as np

from pendel.core.controllers.deck import Regulation
from pendel.core.controllers.language import Update
from pendel.core.drive.document import Card, OwnEquations
from pendel.core.drive.findings import Finding, Remark
from pendel.core.vocabulary import (
    DRIVE_LEVEL,
    Conduction,
    Deck,
    Group,
    Link,
    Nature,
    Shape,
    SignalRole,
    Symbol,
    ValueRole,
)
from pendel.core.vocabulary.levels import make_known, nearest

if TYPE_CHECKING:
    from pendel.core.catalogue.remarks.seen import Seen
    from pendel.core.catalogue.settled import Settled
    from pendel.core.equations.context import PartContext


@dataclass(frozen=True)
class Port:
    """``side`` is left, right, top or bottom of the card; ``unit`` is for signals, as are ``low`` and
    ``high``, beyond which a part cannot follow what it is given. ``usual`` are the units of what a port for
    any signal is made for."""

    name: str
    link: Link
    label: str
    side: str = "left"
    unit: str = ""
    required: bool = True
    low: float | None = None
    high: float | None = None
    usual: tuple[str, ...] = ()
    role: SignalRole | None = None
    only_wired: bool = False
    """Whether it is no port to the equations where it is left alone, as one for heat that may be."""

    @property
    def takes(self) -> tuple[str, ...]:
        """Units of the signals it is made for; empty where any will do or none is known."""
        return self.usual or ((self.unit,) if self.unit not in ("", ANY) else ())


ANY = "*"
"""Unit of a value whose dimension depends on what is wired to it."""


@dataclass(frozen=True)
class Value:
    """A value of a card: ``default`` as a user would write it; empty means it may stay empty.

    ``low`` and ``high`` are in SI; ``open_low`` excludes ``low`` itself.
    """

    name: str
    label: str
    unit: str
    default: str
    low: float | None = None
    high: float | None = None
    open_low: bool = False
    whole: bool = False
    levels: tuple[str, ...] = ()
    """Levels of detail at which the value counts, for parts that have several; empty means all."""
    role: ValueRole | None = None
    at: str = "out"
    """For a value that may be of any unit: the port whose unit it has."""
    rate: bool = False
    """Whether it is of that unit per second."""

    @property
    def optional(self) -> bool:
        return self.default == ""


@dataclass(frozen=True)
class State:
    name: str
    label: str
    unit: str


@dataclass(frozen=True)
class Signal:
    """``levels`` names the levels of detail that have the signal; empty means all."""

    name: str
    label: str
    unit: str
    levels: tuple[str, ...] = ()
    role: SignalRole | None = None


@dataclass(frozen=True)
class Leg:
    """Two switches in series across a pair of lines, the port ``rails``; ``name`` may be empty where there is
    but one. ``side`` is
    upper or lower."""

    name: str
    rails: str = "dc"

    def gate(self, side: str) -> str:
        """Gate of `PartContext.gate`."""
        return f"{self.name}_{side}_gate" if self.name else f"{side}_gate"

    def signal(self, what: str, side: str) -> str:
        """Signal of a switch, such as its current."""
        return f"{what}_{self.name}_{side}" if self.name else f"{what}_{side}"

    def switch(self, side: str) -> str:
        return f"{self.name} {side}".strip()


@dataclass(frozen=True)
class Switched:
    """A device that loses energy when it switches: its name, gate, signals, and the device whose diode gives
    way to it."""

    name: str
    gate: str
    current: str
    voltage: str
    partner: str = ""


@dataclass(frozen=True)
class Element:
    """One symbol of a circuit drawing, from its first point to its last.

    ``symbol`` is wire, node, terminal, voltage, transistor, diode, inductor, capacitor or resistor.
    ``current``, ``voltage`` and ``gates`` name signals of the part; a current counts from the first point to
    the last."""

    symbol: str
    points: tuple[tuple[float, float], ...]
    name: str = ""
    current: str = ""
    gates: tuple[str, ...] = ()
    voltage: str = ""


@dataclass(frozen=True)
class Drawing:
    """A part's circuit on a grid of ``width`` by ``height`` steps."""

    width: float
    height: float
    elements: tuple[Element, ...]


@dataclass(frozen=True)
class Choice:
    name: str
    label: str
    options: tuple[tuple[str, str], ...]
    """Pairs of stored word and what the user reads; the first is the default."""
    ideal: str = ""
    """The option that leaves out all errors, for sensors."""

    @property
    def default(self) -> str:
        return self.options[0][0]


@dataclass(frozen=True)
class Figure:
    """A derived value to show: SI value and the unit to show it in, or the output `at` whose unit it has."""

    label: str
    symbol: str
    value: float
    unit: str
    at: str = ""


@dataclass(frozen=True, eq=False)
class Curve:
    """A derived curve to show: SI values and the units to show them in; ``x`` and ``y`` of shape (n,)."""

    label: str
    x_label: str
    x_unit: str
    y_unit: str
    x: np.ndarray
    y: np.ndarray
    mark: tuple[float, float] | None = None
    """A point of note, such as the rated one."""


@dataclass(frozen=True)
class Contradiction:
    """Two values that cannot both be right. ``remedy`` maps value names to texts that fix it."""

    sentence: str
    field: str
    remedy: Mapping[str, str] | None = None
    remedy_label: str = ""
    fault: bool = True


@dataclass(frozen=True)
class Rows:
    """A table whose rows the user adds; each column is like a value. ``new`` is the first row added."""

    label: str
    columns: tuple[Value, ...]
    new: tuple[str, ...]
    first: tuple[tuple[str, ...], ...] = ()
    """Rows of a card that was just added."""
    needed: int = 0
    """How many columns a table that is taken from elsewhere must have, from the first on; zero for all."""
    harmonics: bool = False
    """Whether the first column is the order of a harmonic of the card's frequency."""

    @property
    def least(self) -> int:
        return self.needed or len(self.columns)


Values = Mapping[str, float]
Corners = tuple[tuple[float, float], ...]


@dataclass(frozen=True, kw_only=True)
class Kind:
    """What parts and blocks have in common."""

    nature: ClassVar[Nature] = Nature.FOLDED

    id: str
    title: str
    sentence: str
    group: str
    """One of `Group`, or a word of its own."""
    keywords: str = ""
    ports: tuple[Port, ...] = ()
    values: tuple[Value, ...] = ()
    choices: tuple[Choice, ...] = ()
    deck: Deck = Deck.POWER
    summary: Callable[[Mapping[str, str], Card], Sequence[str]] | None = None
    """Up to two short lines for the card from shown values."""
    value_names_in_force: Callable[[Card], set[str]] | None = None
    """Names of the values in force for a card's choices; all when absent."""
    choice_names_in_force: Callable[[Card], set[str]] | None = None
    """Names of the choices in force, which other choices may decide; all when absent."""
    contradictions: Callable[[Values, Card], list[Contradiction]] | None = None
    rules: tuple[Callable[[Card, str, Any], list[Finding]], ...] = ()
    """What else is looked at in a card, its key and what was examined of the drive."""
    follows: Callable[[Values, Card], list[Figure]] | None = None
    curve: Callable[[Values, Card], Curve | None] | None = None
    has_profile: tuple[str, str] | None = None
    """Label and unit of the profile's value, for cards that carry one."""
    first_profile: tuple[tuple[str, str], ...] = (("0 s", "0"), ("0.5 s", "0"), ("0.5 s", "1"))
    """Times and values of a new card's profile."""
    profile_optional: bool = False
    """Whether it is as usual to leave the profile empty, which gives 0."""
    rows: Rows | None = None
    takes_flux: bool = False
    """Whether a card of this kind carries flux tables."""
    own: OwnEquations | None = None
    """What a new card brings to be changed, for kinds that the user writes."""
    mark: str = ""
    """A few letters that stand in a block, where no curve says more."""
    shape: Shape = ()
    """The curve drawn in a block, in the unit square: its step response, or the wave it makes."""
    usual: tuple[tuple[str, ...], ...] = ()
    """Signals that are looked at first, strip by strip."""
    remarks: tuple[Callable[[Seen, str], Remark | None], ...] = ()
    """What is looked for in a run with a card of this kind, given its key."""

    @cached_property
    def _ports_by_name(self) -> dict[str, Port]:
        return {p.name: p for p in self.ports}

    @cached_property
    def _values_by_name(self) -> dict[str, Value]:
        return {v.name: v for v in self.values}

    @cached_property
    def _value_names_by_role(self) -> dict[ValueRole, tuple[str, ...]]:
        roles = {v.role for v in self.values if v.role is not None}
        return {role: tuple(v.name for v in self.values if v.role is role) for role in roles}

    def port(self, name: str) -> Port | None:
        return self._ports_by_name.get(name)

    def value(self, name: str) -> Value | None:
        return self._values_by_name.get(name)

    def value_names(self, role: ValueRole) -> tuple[str, ...]:
        return self._value_names_by_role.get(role, ())

    def value_name(self, role: ValueRole) -> str:
        """The value of a role; empty where there is none."""
        return next(iter(self.value_names(role)), "")

    def port_names(self, role: SignalRole) -> tuple[str, ...]:
        return tuple(p.name for p in self.ports if p.role is role)

    def signal_names(self, role: SignalRole) -> tuple[str, ...]:
        """Signals of a role, in the order of their declaration; a block's are its outputs."""
        return tuple(p.name for p in self.ports if p.role is role and p.link is Link.SIGNAL_OUT)

    def values_in_force(self, card: Card) -> list[Value]:
        names = self.value_names_in_force
        return list(self.values) if names is None else [v for v in self.values if v.name in names(card)]

    def choices_in_force(self, card: Card) -> list[Choice]:
        names = self.choice_names_in_force
        return [c for c in self.choices if names is None or c.name in names(card)]

    def choice(self, card: Card, name: str) -> str:
        default = next(c.default for c in self.choices if c.name == name)
        return card.choices.get(name, default)


@dataclass(frozen=True, kw_only=True)
class Part(Kind):
    """A physical part: states, signals and equations.

    ``build`` receives the equation context of `pendel.core.equations.context` and states the equations.
    ``equation_values`` turns entered values into those the equations use.
    """

    nature: ClassVar[Nature] = Nature.PART

    build: Callable[[PartContext], None]
    states: tuple[State, ...] = ()
    signals: tuple[Signal, ...] = ()
    equation_values: Callable[[Values, Card], dict[str, float]] | None = None
    surfaces: Callable[[Card, Values | None], Mapping[str, tuple[tuple[int, int], Sequence[float]]]] | None = None
    """Smooth functions of two variables that its equations look into: cells along both axes, and their
    numbers."""
    drawing: Drawing | None = None
    """The circuit inside, for parts that can be opened."""
    legs: tuple[Leg, ...] = ()
    """Pairs of switches that must not conduct at once."""
    switches: tuple[Switched, ...] = ()
    """Single switches; those of legs follow from the legs."""
    levels: tuple[str, ...] = ("averaged",)
    """Levels of detail the part has of its own; a part that has but one is the same at every level."""
    potentials: Callable[[str], tuple[tuple[str, ...], ...]] | None = None
    """For a level, groups of electrical ports that share a potential; without it, each pair stands by
    itself."""
    main_signal: str = ""
    """What is drawn of it where nobody chose."""
    face_signal: str = ""
    """The figure on its card, where that is another than the main signal's."""
    spine: str = ""
    """Mark in the energy path; empty leaves the part out of it."""
    symbol: Symbol | None = None
    """Of IEC 60617, drawn on its card."""
    conduction: Conduction = Conduction()
    settled: Settled | None = None
    """What it does once its lags are over, where whole trips are looked at."""
    most_torque: Callable[[Values, Card, float], Curve | None] | None = None
    """Torque (N·m) at most over speed (rad/s) at a link voltage (V); without it, its curve where that is one
    over speed."""

    def __post_init__(self) -> None:
        make_known(self.levels)

    def signal_names(self, role: SignalRole) -> tuple[str, ...]:
        return tuple(s.name for s in self.signals if s.role is role)

    @property
    def all_switches(self) -> tuple[Switched, ...]:
        sides = (("upper", "lower"), ("lower", "upper"))
        return (
            *self.switches,
            *(
                Switched(g.switch(s), g.gate(s), g.signal("current", s), g.signal("voltage", s), g.switch(o))
                for g in self.legs
                for s, o in sides
            ),
        )

    def counts(self, value: Value, card: Card, of_drive: str) -> bool:
        """Whether a value acts at the card's present level of detail."""
        return not value.levels or self.level(card, of_drive) in value.levels

    def level(self, card: Card, of_drive: str) -> str:
        """Level of detail of a card: its own, else the drive's, else the nearest coarser one the part has."""
        wanted = card.choices.get("level", DRIVE_LEVEL)
        return nearest(of_drive if wanted == DRIVE_LEVEL else wanted, self.levels)


@dataclass(frozen=True, kw_only=True)
class Block(Kind):
    """A block of the control deck or a sensor.

    ``update`` is written in the block language (`pendel.core.controllers.language`): arguments name inputs,
    values, states, outputs and ``dt``; assignments to states and outputs take effect.
    """

    nature: ClassVar[Nature] = Nature.BLOCK

    update: Callable[..., None] | Update
    states: tuple[State, ...] = ()
    deck: Deck = Deck.CONTROL
    derive: Callable[[Values, Card, float], dict[str, float]] | None = None
    """Values the update uses that follow from the entered ones and the block's period."""
    from_first_tick: Callable[[Values, float], dict[str, float]] | None = None
    """Of a source: values as they are by a clock that begins so many seconds (its first tick) into the run."""
    profile_table: Callable[[Corners, float], Corners] | None = None
    """Of a profile's corners (s, SI) and the block's period (s): the table that the update looks up."""
    holds: frozenset[str] = frozenset()
    """Inputs that do not act on the outputs within the same tick (they break loops)."""
    where_read_often: Mapping[str, str] = field(default_factory=dict)
    """Choices that suit a sensor which is read at each tick."""
    turns: frozenset[str] = frozenset()
    """Ports of an angle that may as well come within one turn; formats with few digits have it so."""
    only_turning: bool = False
    """Whether what it gives means nothing while nothing turns, as an estimate from an EMF."""
    tables: Callable[[Values, Card], list[tuple[float, float]]] | None = None
    smooth: Mapping[str, float] = field(default_factory=dict)
    """Values and remembered numbers that stand in for linear models, where the update as it is only moves in steps,
    or begins otherwise than it goes on."""
    bounds: Mapping[str, str] = field(default_factory=dict)
    """Largest absolute values of remembered and computed names that the update's own lines do not show, as sums of
    products of numbers, values and largest absolute values of inputs: ``"ticks * x"``. They must hold at each
    assignment, whatever comes."""
    regulates: tuple[Regulation, ...] = ()
    """The loops it closes."""
    compares: Regulation | None = None
    """The loop that it closes with whatever follows, which has no gains of its own."""
    gain: tuple[str, str] | None = None
    """A value and an input: the output has the unit of both multiplied, where the value was written with
    one."""
    integrates: bool = False
    """Whether that is gain times input times time."""
    passes_unit: bool = True
    """Whether the output is of the unit of its inputs, as behind a filter; with a gain, where that is plainly 1."""
    stated_by: tuple[tuple[str, str], ...] = ()
    """Outputs that have the unit of a value, where nothing that comes in and nothing that they go to has one."""
    alike: tuple[tuple[str, str], ...] = ()
    """Pairs of inputs that are of one unit."""
    opens: str = ""
    """The choice whose second option opens its loop."""
    lone: bool = False
    """Whether its update belongs to one card, whose name its C then carries."""


__all__ = [
    "ANY",
    "DRIVE_LEVEL",
    "Block",
    "Choice",
    "Conduction",
    "Contradiction",
    "Curve",
    "Deck",
    "Drawing",
    "Element",
    "Figure",
    "Group",
    "Kind",
    "Leg",
    "Link",
    "Part",
    "Port",
    "Regulation",
    "Rows",
    "Signal",
    "SignalRole",
    "State",
    "Switched",
    "Symbol",
    "Value",
    "ValueRole",
    "Values",
]
