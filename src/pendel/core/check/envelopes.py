"""Whether envelopes can stand for their machines, where the drive is at the level *system*."""

from __future__ import annotations

from pendel.core.check.examined import Subject
from pendel.core.drive.findings import attention
from pendel.core.errors import DriveHasFindings, DriveProblem
from pendel.core.vocabulary.levels import SYSTEM


def envelopes(of: Subject) -> None:
    """Report what keeps one from it, and one that is older than what it was made of."""
    if of.drive.settings["level"] != SYSTEM or of.unknown:
        return
    from pendel.core.check.rules import examine
    from pendel.core.envelope.origin import is_older  # needed at this level alone
    from pendel.core.system.fold import at_level, carriers

    try:
        folded = at_level(of.drive)
    except DriveHasFindings as problem:
        of.result.findings += problem.findings
        return
    of.result.aside = frozenset(of.drive.cards) - frozenset(folded.cards)
    keys = carriers(of.drive)
    of.result.findings += [each for each in examine(folded).faults if each.card in keys]
    for key in keys:
        name = of.drive.cards[key].name
        try:
            if not is_older(of.drive, key):
                continue
            why = "is older than the drive: what it was made of was changed since"
        except DriveProblem as problem:
            why = f"cannot be compared with what it was made of. {problem}"
        sentence = f"The envelope of {name} {why}. Recreate it (Run, Make envelope …), or run at another level."
        of.result.findings.append(attention(sentence, key, "envelope"))
