"""What of a drive can vary from run to run, by name.

A quantity (``R_load``), a setting (``until``), a value or choice of a card (``step_up.L``), a starting value
(``step_up.start:i``), and a corner of a profile (``load.corner:2:time``, counted from 1)."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from pendel.core.catalogue.assembly import kind_in
from pendel.core.catalogue.declare import ANY, Kind, Part
from pendel.core.catalogue.index import kinds
from pendel.core.check.formats import CONTROLLERS
from pendel.core.drive import commands
from pendel.core.drive.commands import Command
from pendel.core.drive.document import SETTING_UNITS, Drive
from pendel.core.drive.user_text import near_words
from pendel.core.errors import DriveProblem
from pendel.core.plant.methods import METHODS
from pendel.core.vocabulary import levels
from pendel.core.wording import sentence_case

LABELS = {"until": "Run length", "tick": "Sampling period", "step": "Fixed step", "seed": "Seed of random sources"}
VARY = "Vary this …"
"""What menus of fields call it."""
START, CORNER = "start:", "corner:"
CORNER_NAME = re.compile(rf"{CORNER}(\d+):(time|value)")


@dataclass(frozen=True)
class Target:
    """``text`` is what it is now; a plain figure is in ``unit``, of which None stands for any. What is a word has
    ``options``."""

    name: str
    title: str
    text: str
    unit: str | None = None
    options: tuple[str, ...] = ()


def targets(drive: Drive) -> list[Target]:
    """All of them, quantities first."""
    found = [Target(name, q.note or "quantity", q.text) for name, q in drive.quantities.items()]
    found += _settings(drive)
    for key in drive.cards:
        found += targets_of(drive, key)
    return found


def _settings(drive: Drive) -> list[Target]:
    numbers = [
        Target(name, LABELS.get(name, sentence_case(name.replace("_", " "))), drive.settings[name], unit)
        for name, unit in SETTING_UNITS.items()
    ]
    words = {
        "level": levels(),
        "method": tuple(method.id for method in METHODS),
        "sensors": ("as they are", "ideal"),
        "controller": CONTROLLERS,
    }
    return numbers + [Target(n, sentence_case(n), drive.settings[n], options=known) for n, known in words.items()]


def targets_of(drive: Drive, key: str) -> Iterator[Target]:
    """Those of a card; of one whose kind is not known, none."""
    try:
        kind = kind_in(drive, key)
    except DriveProblem:
        return
    card = drive.cards[key]
    for value in kind.values_in_force(card):
        unit = None if value.unit == ANY else value.unit
        yield Target(
            f"{key}.{value.name}", f"{card.name}: {value.label}", card.values.get(value.name, value.default), unit
        )
    for choice in kind.choices_in_force(card):
        options = tuple(stored for stored, _ in choice.options)
        text = card.choices.get(choice.name, choice.default)
        yield Target(f"{key}.{choice.name}", f"{card.name}: {choice.label}", text, options=options)
    if isinstance(kind, Part):
        for state in kind.states:
            text = card.starts.get(state.name, "0")
            title = f"{card.name}: {state.label} at the start"
            yield Target(f"{key}.{START}{state.name}", title, text, state.unit)
    yield from _corners(key, kind, drive)


MOST_CORNERS = 100
"""Of a profile whose corners are offered; a recorded one has a million."""


def _corners(key: str, kind: Kind, drive: Drive) -> Iterator[Target]:
    card = drive.cards[key]
    if kind.has_profile is None or len(card.profile) > MOST_CORNERS:
        return
    unit = None if kind.has_profile[1] == ANY else kind.has_profile[1]
    for number, (time, value) in enumerate(card.profile, 1):
        yield Target(f"{key}.{CORNER}{number}:time", f"{card.name}: time of corner {number}", time, "s")
        yield Target(f"{key}.{CORNER}{number}:value", f"{card.name}: value of corner {number}", value, unit)


def target(drive: Drive, name: str) -> Target:
    """What a name stands for.

    Raises
    ------
    DriveProblem
        where the drive has nothing of that name.
    """
    card, dot, _ = name.partition(".")
    if dot and card in drive.cards:
        known = list(targets_of(drive, card))
    else:
        known = [Target(n, q.note or "quantity", q.text) for n, q in drive.quantities.items()] + _settings(drive)
    found = next((each for each in known if each.name == name), None)
    if found is None:
        names = [each.name for each in known] + ([] if dot else list(drive.cards))
        if name in _declared(drive, card):
            raise DriveProblem(
                f"{name} takes no part while {drive.cards[card].name} has the choices that it has, so it cannot vary. "
                "Choose there what takes it in."
            )
        raise DriveProblem(
            f"Nothing in this drive is called {name}, so it cannot vary.{near_words(name, names)} Name a quantity, a "
            "setting, or a value, choice, start or corner of a card, such as card.value."
        )
    return found


def _declared(drive: Drive, card: str) -> set[str]:
    """Values and choices of a card, in force or not."""
    kind = kinds().get(drive.cards[card].kind) if card in drive.cards else None
    names = [v.name for v in kind.values] + [c.name for c in kind.choices] if kind else []
    return {f"{card}.{name}" for name in names}


def set_target(drive: Drive, name: str, text: str) -> Command:
    """The command that gives something that can vary another text.

    Raises
    ------
    DriveProblem
        where the drive has nothing of that name, or it has no such option.
    """
    found = target(drive, name)
    if found.options and text not in found.options:
        raise DriveProblem(f"{found.title} cannot be “{text}”. Choose one of {', '.join(found.options)}.")
    card, dot, item = name.partition(".")
    if not dot:
        return (commands.set_quantity if name in drive.quantities else commands.set_setting)(drive, name, text)
    if item.startswith(START):
        return commands.set_start(drive, card, item.removeprefix(START), text)
    if corner := CORNER_NAME.fullmatch(item):
        place, profile = int(corner[1]) - 1, list(drive.cards[card].profile)
        time, value = profile[place]
        profile[place] = (text, value) if corner[2] == "time" else (time, text)
        return commands.set_profile(drive, card, profile)
    if found.options:
        return commands.set_choice(drive, card, item, text)
    return commands.set_value(drive, card, item, text)
