"""The verb that makes a drive from a goal."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from pendel.cli.lines import print_aside, print_line
from pendel.core.catalogue.goals.goal import Goal, looked_at, made
from pendel.core.catalogue.goals.table import GOALS
from pendel.core.drive import file
from pendel.core.drive.document import Drive
from pendel.core.drive.user_text import known_name
from pendel.core.errors import DriveProblem
from pendel.core.verbs.verb import Parameter, Verb


def nothing(drive: Drive) -> None:
    """Its work is done by `made_new`."""


NEW = Verb(
    "new",
    "make a whole drive from what a data sheet gives; without a goal, list them",
    nothing,
    (
        Parameter("goal", "what is to be built", "GOAL", placed=True),
        Parameter(
            "entries",
            "what the sheet gives, such as R_a=0.5 ohm; an option, such as regulate=position; listed without --out",
            "NAME=VALUE",
            many=True,
            option="set",
        ),
    ),
    runs=False,
    opens=False,
    writes="the drive, such as door.pendel; without it, entries, options and what follows are listed",
)


def made_new(given: dict[str, Any], options: argparse.Namespace) -> int:
    """Exit code. Raises `DriveProblem` and `FileProblem`."""
    if given["goal"] is None:
        for each in GOALS.values():
            print_line(each.id, f"{each.title}: {each.sentence}")
        return 0
    known_name("goal", given["goal"], GOALS, "Pendel")
    goal = GOALS[given["goal"]]
    texts, chosen = parted(goal, given["entries"])
    drive = made(goal, texts, chosen)
    looked = looked_at(goal, drive, chosen)
    if options.out is None:
        tell(goal, drive, chosen)
        for fact in looked.facts:
            from pendel.core.quantities.units import figure

            print_line("follows", fact.title, figure(fact.value, fact.unit))
    elif options.out == "-":
        print(file.to_text(drive), end="")
    else:
        file.save(drive, options.result or Path(options.out))
    for sentence in [*looked.problems, *looked.doubts]:
        print_aside(f"found: {sentence}")
    return 1 if looked.problems else 0


def parted(goal: Goal, assignments: list[str]) -> tuple[dict[str, str], dict[str, str]]:
    """Entries and options. Raises `DriveProblem`."""
    names = {option.name for option in goal.options}
    texts: dict[str, str] = {}
    chosen: dict[str, str] = {}
    for each in assignments:
        name, equals, text = each.partition("=")
        if not equals:
            raise DriveProblem(f"“{each}” is no NAME=VALUE.")
        (chosen if name.strip() in names else texts)[name.strip()] = text.strip()
    return texts, chosen


def tell(goal: Goal, drive: Drive, chosen: dict[str, str]) -> None:
    """Entries and options as they are."""
    for option in goal.options:
        print_line(
            "option", option.name, goal.chosen(chosen)[option.name], "/".join(each for each, _ in option.options)
        )
    for entry in goal.asked(chosen):
        print_line("entry", entry.name, drive.quantities[entry.name].text, entry.title)
