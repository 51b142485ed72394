"""Making an envelope of a machine with its converter, from the terminal and from Python."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from pendel.core.catalogue.card_names import names_of
from pendel.core.drive.document import Drive
from pendel.core.drive.file import to_text
from pendel.core.errors import DriveProblem, PendelError
from pendel.core.quantities.expressions import value_in_field
from pendel.core.quantities.named import Names

if TYPE_CHECKING:
    from pendel.core.envelope.report import EnvelopeReport


def envelope(
    drive: Drive,
    machine: str,
    torque: str,
    top_torque: str,
    top_speed: str,
    speeds: str | None = None,
    torques: str | None = None,
    checks: str | None = None,
    keep: bool = False,
    temperatures: Iterable[str] = (),
    *,
    file: Path | None = None,
    progress: Callable[[str], None] = lambda _: None,
    stopping: Callable[[], bool] = lambda: False,
) -> EnvelopeReport:
    """Limits and losses of a machine with its converter and inner loops, by short runs.

    Parameters
    ----------
    keep
        tell the drive with the machine carrying the envelope, too.
    temperatures
        at which all that gives heat away is held, one map for each; the envelope is of the first.

    Raises
    ------
    DriveProblem, DriveHasFindings, RunProblem
    """
    from pendel.core.envelope.bench import unit_asked
    from pendel.core.envelope.fitted import make
    from pendel.core.envelope.origin import origin_of
    from pendel.core.envelope.report import carrying, report_of
    from pendel.core.series.points import whole_number

    names = names_of(drive)
    held = [_number(text, "°C", names, "The temperature") for text in temperatures] or [math.nan]
    maps = tuple(
        (
            temperature,
            make(
                drive,
                machine,
                torque,
                _number(top_torque, unit_asked(drive, torque), names, "The largest torque"),
                _number(top_speed, "rad/s", names, "The largest speed"),
                speeds=whole_number("a number of speeds", speeds, 2, 60) if speeds else 8,
                torques=whole_number("a number of torques", torques, 4, 60) if torques else 12,
                checks=whole_number("a number of checks", checks, 1, 500) if checks else 12,
                temperature=temperature,
                progress=progress,
                stopping=stopping,
            ),
        )
        for temperature in held
    )
    origin, asked_in = origin_of(drive, file, machine, torque), unit_asked(drive, torque)
    report = report_of(maps, origin, asked_in, drive.settings["level"])
    if keep:
        whole = drive.copy()
        carrying(whole, report).apply(whole)
        report = replace(report, whole=to_text(whole))
    return report


def _number(text: str, unit: str, names: Names, what: str) -> float:
    try:
        return value_in_field(str(text), unit, names)
    except PendelError as problem:
        raise DriveProblem(f"{what}: {problem}") from problem
