"""What a board with a drive would have, or why there is none."""

from __future__ import annotations

from dataclasses import dataclass

from pendel.core.bench.description import Description, describe
from pendel.core.controllers.numbers.lowering import Lowered
from pendel.core.drive.document import Drive
from pendel.core.errors import DriveHasFindings
from pendel.core.plant.program import profiles_of
from pendel.core.runs.preparing.simulate import prepare

EMPTY = "The control deck is empty: there is nothing to load. Add a regulator on Drive."


@dataclass(frozen=True)
class Described:
    """What a board with this drive has, or why there is none."""

    description: Description | None = None
    lowered: Lowered | None = None
    """Its controller, of which programs are built."""
    plant: bytes = b""
    """Values and profiles of the drive's parts."""
    problem: str = ""


def described(drive: Drive) -> Described:
    """What a board with this drive would have; what is wrong with the drive is the result's problem."""
    try:
        prepared = prepare(drive)
        lowered = prepared.lowered
        if not lowered.blocks:
            return Described(problem=EMPTY)
        profiles = profiles_of(prepared.structure, prepared.numbers)
        plant = prepared.parameters.tobytes() + repr(profiles).encode()
        return Described(describe(drive, lowered), lowered, plant)
    except DriveHasFindings as problem:
        return Described(problem=str(problem.findings[0]))
