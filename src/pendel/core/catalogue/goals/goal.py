"""What a goal is, and how a drive is made from one."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

from pendel.core.catalogue.index import kinds
from pendel.core.drive import commands
from pendel.core.drive.document import Drive, End, FluxTable
from pendel.core.drive.user_text import known_name
from pendel.core.errors import DriveProblem, ExpressionProblem
from pendel.core.quantities.expressions import is_plain, read, value_in_field
from pendel.core.quantities.named import Names, check_name

Asked = Callable[[Mapping[str, str]], bool]


def always(options: Mapping[str, str]) -> bool:
    return True


@dataclass(frozen=True)
class Entry:
    """Something that a sheet gives: it becomes a quantity of this name. ``default`` is in ``unit``; ``asked`` says
    under which options it is needed; ``zero`` whether it may be 0, ``signed`` below that."""

    name: str
    title: str
    unit: str
    default: str
    group: str = ""
    asked: Asked = always
    zero: bool = False
    signed: bool = False


@dataclass(frozen=True)
class Option:
    """``options`` by what they are called in a call and in words."""

    name: str
    title: str
    options: tuple[tuple[str, str], ...]


@dataclass(frozen=True)
class Fact:
    """What follows from the entries, for a line of its own: an SI value and the unit in which it is shown."""

    title: str
    value: float
    unit: str


@dataclass
class Looked:
    """What is to be said of entries before a drive is made: facts, what is doubtful, and what cannot work."""

    facts: list[Fact] = field(default_factory=list)
    doubts: list[str] = field(default_factory=list)
    problems: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class Goal:
    """``build`` puts cards on a sheet that has the entries as quantities; ``look`` gets the SI values of all quantities
    of the drive that came of it."""

    id: str
    title: str
    sentence: str
    entries: tuple[Entry, ...]
    build: Callable[[Sheet, Mapping[str, str]], None]
    look: Callable[[Mapping[str, float], Mapping[str, str]], Looked]
    options: tuple[Option, ...] = ()
    refused: Callable[[Mapping[str, str]], str] = lambda options: ""
    """Why options do not go together; empty where they do."""

    def chosen(self, options: Mapping[str, str]) -> dict[str, str]:
        """All options, with the first of each where none is chosen. Raises `DriveProblem`."""
        for name in options:
            known_name("option", name, (o.name for o in self.options), self.id)
        whole = {}
        for option in self.options:
            ids = [each for each, _ in option.options]
            whole[option.name] = options.get(option.name, ids[0])
            known_name(option.name, whole[option.name], ids, self.id)
        return whole

    def ways(self) -> Iterator[dict[str, str]]:
        """All options that go together."""
        for each in itertools.product(*([(o.name, name) for name, _ in o.options] for o in self.options)):
            if not self.refused(dict(each)):
                yield dict(each)

    def asked(self, options: Mapping[str, str]) -> list[Entry]:
        whole = self.chosen(options)
        return [entry for entry in self.entries if entry.asked(whole)]


class Sheet:
    """A drive that is put together."""

    def __init__(self, title: str):
        self.drive = Drive(title)

    def quantity(self, name: str, text: str, note: str) -> None:
        commands.set_quantity(self.drive, name, text, note).apply(self.drive)

    def quantities(self, *rows: tuple[str, str, str]) -> None:
        for row in rows:
            self.quantity(*row)

    def settings(self, **texts: str) -> None:
        for name, text in texts.items():
            commands.set_setting(self.drive, name, text).apply(self.drive)

    def add(
        self,
        kind: str,
        name: str,
        at: tuple[int, int],
        *,
        values: Mapping[str, str] | None = None,
        profile: Iterable[tuple[str, str]] = (),
        choices: Mapping[str, str] | None = None,
        starts: Mapping[str, str] | None = None,
        **more: str,
    ) -> str:
        """Put a card at a place, in steps of the grid; returns its key. Raises `DriveProblem` for a kind that there is
        not, as of a package that was taken away."""
        if kind not in kinds():
            raise DriveProblem(
                f"{name}: this goal needs the kind “{kind}”, which is not installed here. Install what brings "
                "it, or begin with an empty sheet."
            )
        facts: dict[str, Any] = {
            "choices": dict(choices or {}),
            "starts": dict(starts or {}),
            "profile": tuple(profile),
        }
        command = commands.add_card(self.drive, kind, name, *at, values={**(values or {}), **more}, **facts)
        command.apply(self.drive)
        key: str = command.changes[0].key
        return key

    def si(self, name: str) -> float:
        """A quantity as a number, for what cannot be an expression."""
        return Names({n: q.text for n, q in self.drive.quantities.items()})(name).si

    def flux(self, table: FluxTable, *cards: str) -> None:
        """Give machine and blocks the same flux tables."""
        for card in cards:
            commands.set_flux(self.drive, card, table).apply(self.drive)

    def ranges(self, card: str, **ends: str) -> None:
        """Signals that stay between such a value and its negative, for words of fixed point."""
        for name, end in ends.items():
            commands.set_range(self.drive, card, name, (f"-{end}", end)).apply(self.drive)

    def wire(self, *pairs: tuple[str, str]) -> None:
        for a, b in pairs:
            commands.add_wire(self.drive, End.parse(a), End.parse(b)).apply(self.drive)


def entered(goal: Goal, texts: Mapping[str, str], options: Mapping[str, str]) -> dict[str, str]:
    """Texts of all entries that are asked, each with its unit.

    Raises
    ------
    DriveProblem
        naming the entry, its value and what belongs there.
    """
    asked = goal.asked(options)
    for name in texts:
        known_name("entry", name, (entry.name for entry in goal.entries), goal.id)
    whole = {}
    for entry in asked:
        text = texts.get(entry.name, "").strip() or entry.default
        try:
            value = value_in_field(text, entry.unit, Names({}))
            plain = is_plain(text) and not any(letter.isalpha() for letter in text.replace("e", ""))
        except ExpressionProblem as problem:
            raise DriveProblem(f"{entry.title}: {problem}") from problem
        if (
            not math.isfinite(value)
            or value < 0
            and not entry.signed
            or value == 0
            and not (entry.zero or entry.signed)
        ):
            low = "0 or more" if entry.zero else "above 0"
            raise DriveProblem(f"{entry.title} is {text}; it must be {low}.")
        check_name(entry.name)
        read(text)
        whole[entry.name] = f"{text} {entry.unit}".strip() if plain else text
    return whole


def made(goal: Goal, texts: Mapping[str, str], options: Mapping[str, str]) -> Drive:
    """A complete drive. Raises `DriveProblem`."""
    whole, chosen = entered(goal, texts, options), goal.chosen(options)
    if sentence := goal.refused(chosen):
        raise DriveProblem(sentence)
    sheet = Sheet(goal.title)
    for entry in goal.asked(chosen):
        sheet.quantity(entry.name, whole[entry.name], entry.title)
    goal.build(sheet, chosen)
    return sheet.drive


def looked_at(goal: Goal, drive: Drive, options: Mapping[str, str]) -> Looked:
    """What follows from the entries of a drive that was made. Raises `DriveProblem`."""
    names = Names({name: quantity.text for name, quantity in drive.quantities.items()})
    try:
        values = {name: names(name).si for name in drive.quantities}
    except ExpressionProblem as problem:
        raise DriveProblem(str(problem)) from problem
    return goal.look(values, goal.chosen(options))
