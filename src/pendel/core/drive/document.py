"""The drive: cards, wires, quantities, taps and settings, as immutable records in ordered tables.

Only commands change it (`pendel.core.drive.commands`); whoever shows it listens.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace

from pendel.core.drive.duties import DutyPlan
from pendel.core.drive.plans import Plan
from pendel.core.drive.scripts import Script
from pendel.core.drive.views import Note, Text, View
from pendel.core.errors import DriveProblem
from pendel.core.quantities.stepping import factor_mark

Point = tuple[str, str]
"""A profile corner as the user wrote it: time, value."""

LONGEST_NAME, LONGEST_ID, ROOM_FOR_NUMBER = 200, 40, 8
"""Letters of a card's name, of the id made of it, and of what tells equal ones apart."""
BESIDE_TABLES = ("panel", "transfers", "plans", "scripts", "duties", "texts", "notes", "views")
"""What a drive has beside itself; none of it changes a run."""
TABLES = ("settings", "quantities", "cards", "wires", "taps", *BESIDE_TABLES)

SETTING_UNITS = {"until": "s", "tick": "s", "step": "s", "tolerance": "", "computing_delay": "", "seed": ""}
"""Settings that are expressions, which may name quantities; the others are words."""
DEFAULT_SETTINGS: Mapping[str, str] = {
    "until": "1 s",
    "tick": "50 us",
    "computing_delay": "1",
    "level": "averaged",
    "method": "auto",
    "step": "1 us",
    "tolerance": "1e-6",
    "sensors": "as they are",
    "seed": "1",
    "controller": "as modelled",
    "number_format": "float32",
}


@dataclass(frozen=True)
class Quantity:
    """A named value. ``text`` is the expression as written."""

    text: str
    note: str = ""


@dataclass(frozen=True)
class OwnEquations:
    """What the user typed for a part of his own, one entry a line each."""

    ports: tuple[str, ...] = ()
    values: tuple[str, ...] = ()
    states: tuple[str, ...] = ()
    unknowns: tuple[str, ...] = ()
    equations: tuple[str, ...] = ()
    convert: tuple[str, ...] = ()
    """Of a block in C: what turns its values into words, for fixed point, ..."""
    words: tuple[str, ...] = ()
    """... and its update in words."""


@dataclass(frozen=True)
class FluxTable:
    """Flux linkages (Wb) over currents along d and q (A, peak): ``psi_d[k][j]`` at ``i_d[k]``, ``i_q[j]``."""

    i_d: tuple[float, ...]
    i_q: tuple[float, ...]
    psi_d: tuple[tuple[float, ...], ...]
    psi_q: tuple[tuple[float, ...], ...]
    source: str = ""
    """Name of the file it came from."""


@dataclass(frozen=True)
class FaceItem:
    """A value or a port of a card inside, shown on an assembly's face. ``path`` names the card by its
    roles."""

    name: str
    path: str
    item: str


@dataclass(frozen=True)
class Face:
    """What makes a card an assembly: the values and ports it shows of the cards inside.

    Assemblies of one ``design`` that follow are kept alike in all but the values on their faces.
    """

    design: str
    values: tuple[FaceItem, ...] = ()
    ports: tuple[FaceItem, ...] = ()
    follows: bool = True


BASES = ("decimal", "hexadecimal", "binary")
"""In whose digits a word can be shown."""


YES = "yes"


@dataclass(frozen=True)
class Card:
    """A part or a block on the sheet, or an assembly of such.

    ``values``, ``choices`` and ``starts`` hold only what differs from the catalogue's defaults. ``x``, ``y``
    are grid steps of 4 px. ``inside`` is the id of the assembly that holds the card, and ``role`` what the
    card is called in there, the same in every assembly of that design.
    """

    kind: str
    name: str
    x: int = 0
    y: int = 0
    values: Mapping[str, str] = field(default_factory=dict)
    choices: Mapping[str, str] = field(default_factory=dict)
    starts: Mapping[str, str] = field(default_factory=dict)
    profile: tuple[Point, ...] = ()
    own: OwnEquations | None = None
    inside: str = ""
    role: str = ""
    face: Face | None = None
    rows: tuple[tuple[str, ...], ...] = ()
    """Rows of the card's table, such as a source's harmonics."""
    flux: FluxTable | None = None
    proposed: Mapping[str, str] = field(default_factory=dict)
    """Texts of values as a rule proposed them; one that has been written over since is a proposal no more."""
    number_format: str = ""
    """Of a block, as shipped; empty for the drive's."""
    ranges: Mapping[str, tuple[str, str]] = field(default_factory=dict)
    """Lowest and highest value of signals for formats in fixed point, as the user wrote them."""
    seen: Mapping[str, float] = field(default_factory=dict)
    """Largest absolute values (SI) of its signals and of what it remembers, in the run in which ranges were
    found."""
    live: Mapping[str, tuple[str, str]] = field(default_factory=dict)
    """Values of a block that can be changed while its code runs: lowest and highest, as the user wrote
    them."""
    steps: Mapping[str, str] = field(default_factory=dict)
    """By how much a key or a turn of the wheel changes a value: what it adds, or “×” and a factor."""
    digits: Mapping[str, str] = field(default_factory=dict)
    """To how many significant digits steps round a value, and a board's is read."""
    bases: Mapping[str, str] = field(default_factory=dict)
    """In which of `BASES` the word of a value is shown, where not in decimal figures."""
    phase: str = ""
    """Of a block that runs every so many ticks: at which of them, counted from 0."""
    pinned_key: str = ""
    """Number by which a block is found in the shipped code; empty for one that follows from the running
    order."""
    tuned_on: Mapping[str, float] = field(default_factory=dict)
    """Of a regulator whose gains were taken: what the gains of those further in were then (SI), by
    ``card.value``."""
    outside: str = ""
    """`YES` for a block whose outputs come from outside on the board, such as a setpoint: it is in the simulation only,
    and the shipped controller takes its outputs as inputs."""
    made_from: Mapping[str, str] = field(default_factory=dict)
    """Of values that were worked out from another drive: its `file`, the `machine` and `torque` there, and a `digest`
    of what was looked at, by which a later change of it is seen."""
    envelope: Mapping[str, str] = field(default_factory=dict)
    """Of a machine, what stands for it, its converter and inner loops at the level *system*: values, and where its
    torque is asked for; see `pendel.core.system.fold`."""

    def rewritten(self, change: Callable[[str], str]) -> Card:
        """The same with each of its expressions, which may name quantities, changed."""

        def each(texts: Mapping[str, str]) -> dict[str, str]:
            return {name: change(text) for name, text in texts.items()}

        def ends(pairs: Mapping[str, tuple[str, str]]) -> dict[str, tuple[str, str]]:
            return {name: (change(low), change(high)) for name, (low, high) in pairs.items()}

        def right_sides(lines: tuple[str, ...]) -> tuple[str, ...]:
            parts = [line.partition("=") for line in lines]
            return tuple(name + sign + (change(text) if sign else text) for name, sign, text in parts)

        def step(text: str) -> str:
            mark = factor_mark(text)
            return mark + change(text.removeprefix(mark))

        own = self.own
        return replace(
            self,
            values=each(self.values),
            starts=each(self.starts),
            profile=tuple((change(time), change(value)) for time, value in self.profile),
            own=own and replace(own, values=right_sides(own.values), states=right_sides(own.states)),
            rows=tuple(tuple(map(change, row)) for row in self.rows),
            ranges=ends(self.ranges),
            live=ends(self.live),
            steps={name: step(text) for name, text in self.steps.items()},
        )

    @property
    def texts(self) -> list[str]:
        """All its expressions, which may name quantities."""
        found: list[str] = []

        def noted(text: str) -> str:
            found.append(text)
            return text

        self.rewritten(noted)
        return found

    def is_proposed(self, name: str) -> bool:
        return name in self.proposed and self.values.get(name) == self.proposed[name]

    def with_value(self, name: str, text: str) -> Card:
        return replace(self, values={**self.values, name: text})


@dataclass(frozen=True)
class End:
    """One end of a wire, or a tapped signal: a port or signal of a card."""

    card: str
    port: str

    def __str__(self) -> str:
        return f"{self.card}.{self.port}"

    @classmethod
    def parse(cls, text: str) -> End:
        card, dot, port = text.partition(".")
        if not dot or not card or not port:
            raise DriveProblem(f"“{text}” names no port. Write card.port.")
        return cls(card, port)


def renamed_signal(signal: str, old: str, new: str) -> str:
    """``card.signal`` where the card is called otherwise; the name of a tap stays, whatever cards are called."""
    card, dot, name = signal.partition(".")
    return new + dot + name if dot and card == old else signal


@dataclass(frozen=True)
class Wire:
    """A connection. For signals ``a`` is the source and ``b`` the reader. A ``named`` one is drawn as two ends that
    bear one name instead of a line between them."""

    a: End
    b: End
    named: bool = False

    @property
    def key(self) -> str:
        return f"{self.a} -> {self.b}"


PANEL_INPUTS = ("button", "switch", "selector", "slider", "number")
PANEL_OUTPUTS = ("lamp", "figure", "bar", "strip", "name", "events")
PANEL_FORMS = (*PANEL_INPUTS, *PANEL_OUTPUTS)
"""Forms of controls that change a value, and of those that show a signal."""
PANEL_ORDERS = ("order.enable", "order.idle", "order.acknowledge")
"""What a button can do with a board, in place of a value."""


@dataclass(frozen=True)
class PanelControl:
    """One control of the operator panel. ``target`` is ``card.value`` or ``card.signal``; place and size are in cells
    of the panel's grid. ``low`` and ``high``, as written, are the ends of a slider or bar, what a switch or button
    writes when it is off and on, and the level above which a lamp is on. ``names`` pair numbers, as written, with
    words."""

    form: str
    target: str
    title: str = ""
    x: int = 0
    y: int = 0
    w: int = 2
    h: int = 1
    low: str = ""
    high: str = ""
    names: tuple[tuple[str, str], ...] = ()

    def rewritten(self, change: Callable[[str], str]) -> PanelControl:
        """The same with each of its expressions, which may name quantities, changed."""
        names = tuple((change(number), words) for number, words in self.names)
        return replace(self, low=change(self.low), high=change(self.high), names=names)

    @property
    def texts(self) -> list[str]:
        """All its expressions."""
        return [self.low, self.high, *(number for number, _ in self.names)]


@dataclass(frozen=True)
class KeptTransfer:
    """A way that is looked at again, by its name: from a signal to another, those that are opened, and the operating
    point as written (a name of one, or a time)."""

    source: str
    target: str
    opened: tuple[str, ...] = ()
    at: str = ""


UNTITLED = "Untitled drive"


class Drive:
    """A drive as a set of ordered tables of immutable records."""

    def __init__(self, title: str = UNTITLED):
        self.settings: dict[str, str] = {"title": title, **DEFAULT_SETTINGS}
        self.quantities: dict[str, Quantity] = {}
        self.cards: dict[str, Card] = {}
        self.wires: dict[str, Wire] = {}
        self.taps: dict[str, End] = {}
        self.panel: dict[str, PanelControl] = {}
        self.transfers: dict[str, KeptTransfer] = {}
        self.plans: dict[str, Plan] = {}
        """Of series, by their names."""
        self.scripts: dict[str, Script] = {}
        self.duties: dict[str, DutyPlan] = {}
        self.texts: dict[str, Text] = {}
        """What it says of itself."""
        self.notes: dict[str, Note] = {}
        """On its sheets."""
        self.views: dict[str, View] = {}
        """How it is looked at."""
        self.listeners: list[Callable[[set[tuple[str, str]]], None]] = []

    @property
    def title(self) -> str:
        return self.settings["title"]

    def table(self, name: str) -> dict:
        if name not in TABLES:
            raise DriveProblem(f"A drive has no table {name}.")
        return getattr(self, name)

    def print_line(self, touched: set[tuple[str, str]]) -> None:
        for listener in list(self.listeners):
            listener(touched)

    def copy(self) -> Drive:
        twin = Drive()
        for name in TABLES:
            setattr(twin, name, dict(self.table(name)))
        return twin

    def wires_of(self, card: str) -> list[Wire]:
        return [w for w in self.wires.values() if card in (w.a.card, w.b.card)]

    def free_id(self, name: str) -> str:
        """An id for a card of this name: its slug, numbered where taken."""
        stem = slug(name)
        number, candidate = 2, stem
        while candidate in self.cards:
            candidate, number = f"{stem}_{number}", number + 1
        return candidate

    def free_name(self, name: str) -> str:
        """The name, numbered where another card has it; also where it has only the id, as far as ids tell
        long names apart."""
        taken = {c.name for c in self.cards.values()}
        stem = re.sub(r" \d+$", "", name)[: LONGEST_NAME - ROOM_FOR_NUMBER]
        number, candidate = 2, name[:LONGEST_NAME]
        short = len(slug(stem)) < LONGEST_ID - ROOM_FOR_NUMBER
        while candidate in taken or (short and slug(candidate) in self.cards):
            candidate, number = f"{stem} {number}", number + 1
        return candidate


C_WORDS = frozenset(
    [
        "auto",
        "break",
        "case",
        "char",
        "const",
        "continue",
        "default",
        "do",
        "double",
        "else",
        "enum",
        "extern",
        "float",
        "for",
        "goto",
        "if",
        "inline",
        "int",
        "long",
        "register",
        "restrict",
        "return",
        "short",
        "signed",
        "sizeof",
        "static",
        "struct",
        "switch",
        "typedef",
        "union",
        "unsigned",
        "void",
        "volatile",
        "while",
    ]
)


def slug(name: str) -> str:
    """An identifier, valid in C, from a card's name."""
    plain = unicodedata.normalize("NFKD", name).encode("ascii", "ignore").decode().lower()
    plain = re.sub(r"[^a-z0-9]+", "_", plain).strip("_")[:LONGEST_ID].strip("_") or "card"
    if plain[0].isdigit() or plain in C_WORDS:
        plain = f"n_{plain}"
    return plain
