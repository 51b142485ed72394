"""The drive's controller as C, written beside the window."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from pendel.core.check.formats import number_choices
from pendel.core.controllers.deck import ControlDeck
from pendel.core.controllers.numbers.lowering import Choices, Lowered, control_blocks, lower
from pendel.core.controllers.numbers.representation import NumberFormat
from pendel.core.controllers.numbers.source import Files, files
from pendel.core.controllers.numbers.tree import CannotLower
from pendel.core.drive.document import Drive
from pendel.core.drive.file import to_text
from pendel.core.drive.findings import Finding
from pendel.core.errors import DriveHasFindings
from pendel.core.firmware.facts import BlockFacts, facts_of
from pendel.core.firmware.findings import findings_of
from pendel.core.firmware.values import ValueFacts, values_of
from pendel.core.runs.simulate import is_ordered, prepare
from pendel.core.runs.worker import Beside, OrderRequest

LONGEST_ORDERING = 300.0
"""Seconds that ordering the drive's equations may take."""


@dataclass(frozen=True)
class Written:
    """A control deck in its number formats and its C, or why there is none; where a block has no C in its
    format, the blocks are told all the same."""

    deck: ControlDeck | None = None
    lowered: Lowered | None = None
    files: Files | None = None
    facts: tuple[BlockFacts, ...] = ()
    values: tuple[ValueFacts, ...] = ()
    findings: tuple[Finding, ...] = ()
    problem: str = ""


def written_c(drive: Drive, worker: Beside, stopping: Callable[[], bool]) -> Written:
    """The C of a drive's deck. What has to be ordered is ordered by the process beside."""
    try:
        if not is_ordered(drive):
            worker.ask(OrderRequest(to_text(drive)), LONGEST_ORDERING, stopping)
        prepared = prepare(drive)
    except DriveHasFindings as problem:
        return Written(problem=str(problem.findings[0]))
    deck = prepared.deck
    if not control_blocks(deck):
        return Written(
            problem="The control deck is empty: there is no code to make. Add a regulator on the Drive page."
        )
    try:
        made = prepared.lowered
    except DriveHasFindings as problem:
        chosen = number_choices(drive, prepared.examined)
        plain = in_float(deck, chosen)
        facts = facts_of(plain)
        facts = tuple(
            replace(f, number=chosen.of(f.block), own_format=f.block in chosen.blocks) for f in facts
        )
        values = values_of(drive, plain)
        return Written(deck, facts=facts, values=values, problem=str(problem.findings[0]))
    return Written(
        deck, made, files(made), facts_of(made), values_of(drive, made), tuple(findings_of(drive, made))
    )


def in_float(deck: ControlDeck, chosen: Choices) -> Lowered:
    """A deck that has no C as it is chosen, in float 64, with its live values where these are not the
    reason."""
    try:
        return lower(deck, replace(chosen, default=NumberFormat.FLOAT64, blocks={}))
    except CannotLower:
        return lower(deck, Choices(NumberFormat.FLOAT64))
