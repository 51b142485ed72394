"""Verbs for other simulators: a drive, its plant or its controller as a unit."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from pendel.core.drive.document import Drive
from pendel.core.errors import DriveProblem

if TYPE_CHECKING:
    from pendel.core.fmu.variables import Unit


@dataclass(frozen=True)
class UnitVariable:
    """What a unit has: ``use`` is input, parameter, output or local; ``start`` is in SI, as all is there."""

    name: str
    use: str
    unit: str
    start: float | None
    description: str


@dataclass(frozen=True)
class UnitReport:
    """A unit: its step (s) and its variables. It is built when it is saved."""

    what: str
    step: float
    variables: list[UnitVariable]
    unit_inside: Unit = field(repr=False)
    """What it is built of."""

    def save(self, path: Path) -> None:
        """Build it and write its file. Raises `BuildProblem`, `FileProblem`, and `DriveProblem` where the
        drive brings C that is not allowed."""
        from pendel.core.files.writing import write_atomically
        from pendel.core.fmu.export import archive_of

        write_atomically(path, archive_of(self.unit_inside))


def export_unit(
    drive: Drive, *, what: str | None = None, inputs: Iterable[str] = (), step: str | None = None
) -> UnitReport:
    """Make a drive, its plant or its controller a unit for other simulators (FMI 3.0, co-simulation).

    Parameters
    ----------
    what
        plant, controller or drive; the drive without it.
    inputs
        profiles, and values as ``card.value``, that come from outside.
    step
        time from tick to tick where no controller of the drive says so; 1 ms without it.

    Raises
    ------
    DriveHasFindings, DriveProblem
    """
    from pendel.core.drive.user_text import read_figure
    from pendel.core.fmu.model_description import coherent, role
    from pendel.core.fmu.variables import Unit, What, prepared_for

    if what not in (None, *(w.value for w in What)):
        raise DriveProblem(f"“{what}” cannot be exported. Choose plant, controller or drive.")
    seconds = read_figure(drive, step, "s", 0.0) if step else None
    chosen = What(what or "drive")
    unit = Unit(prepared_for(drive, chosen), chosen, tuple(inputs), seconds)
    listed = [
        UnitVariable(
            v.name,
            role(v)["causality"],
            coherent(v.unit),
            float(v.start) if v.is_input or v.is_parameter else None,
            v.description,
        )
        for v in unit.variables
    ]
    return UnitReport(unit.what.value, unit.tick, listed, unit)
