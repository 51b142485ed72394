"""The drive's controller as C, with all that is said of it."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

from pendel.core.check.formats import number_choices
from pendel.core.controllers.deck import ControlDeck
from pendel.core.controllers.numbers.lowering import Choices, Lowered, control_blocks, lower
from pendel.core.controllers.numbers.representation import NumberFormat
from pendel.core.controllers.numbers.source import Files, files
from pendel.core.controllers.numbers.tree import CannotLower
from pendel.core.drive.document import Drive
from pendel.core.drive.findings import Finding
from pendel.core.errors import DriveHasFindings
from pendel.core.firmware.c_words import Line, Words, words_of
from pendel.core.firmware.facts import BlockFacts, facts_of
from pendel.core.firmware.findings import findings_of
from pendel.core.firmware.values import ValueFacts, values_of
from pendel.core.runs.preparing.simulate import prepare


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
    words: dict[Line, Words] = field(default_factory=dict)
    """The words of the C by line, for who shows it in colour."""


def write_c(drive: Drive) -> Written:
    """The C of a drive's deck; what is wrong with it is the result's problem."""
    try:
        prepared = prepare(drive)
    except DriveHasFindings as problem:
        return Written(problem=str(problem.findings[0]))
    deck = prepared.deck
    if not control_blocks(deck):
        return Written(
            problem="The control deck is empty: there is no code to make. Add a regulator on the Drive page."
        )
    try:
        lowered = prepared.lowered
    except DriveHasFindings as problem:
        chosen = number_choices(drive, prepared.examined)
        plain = in_float(deck, chosen)
        facts = facts_of(plain)
        facts = tuple(replace(f, number=chosen.of(f.block), own_format=f.block in chosen.blocks) for f in facts)
        values = values_of(drive, plain)
        return Written(deck, facts=facts, values=values, problem=str(problem.findings[0]))
    source = files(lowered)
    return Written(
        deck,
        lowered,
        source,
        facts_of(lowered),
        values_of(drive, lowered),
        tuple(findings_of(drive, lowered)),
        words=words_of(source.texts.values()),
    )


def in_float(deck: ControlDeck, chosen: Choices) -> Lowered:
    """A deck that has no C as it is chosen, in float 64, with its live values where these are not the
    reason."""
    try:
        return lower(deck, replace(chosen, default=NumberFormat.FLOAT64, blocks={}))
    except CannotLower:
        return lower(deck, Choices(NumberFormat.FLOAT64))
