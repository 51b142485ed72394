"""What comes of making an envelope: values of a card, how far they are off, and where they come from."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from pendel.core.catalogue.systems.envelope import KIND
from pendel.core.drive import commands
from pendel.core.drive.commands import Command
from pendel.core.drive.document import Drive
from pendel.core.drive.file import save
from pendel.core.envelope.fitted import Made


@dataclass(frozen=True)
class EnvelopeReport:
    """Values of a card, and how far they miss points that the fit did not see, as a fraction of the link's power."""

    machine: str
    values: dict[str, str]
    worst: float
    rms: float
    points: int
    checks: int
    run: None = None
    made: Made | None = None
    origin: dict[str, str] | None = None

    def save(self, path: Path) -> None:
        """Write a drive with the card alone. Raises `FileProblem`."""
        drive = Drive()
        adding(drive, self, "Envelope").apply(drive)
        save(drive, path)


def report_of(made: Made, origin: dict[str, str]) -> EnvelopeReport:
    counts = len(made.points), len(made.checks)
    return EnvelopeReport(made.machine, dict(made.values), made.worst, made.rms, *counts, made=made, origin=origin)


def adding(drive: Drive, report: EnvelopeReport, name: str) -> Command:
    """A card with these values, which keeps where they come from."""
    origin = dict(report.origin or {})
    return commands.add_card(drive, KIND.id, name, values=dict(report.values), made_from=origin)
