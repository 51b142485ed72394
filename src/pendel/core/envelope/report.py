"""What comes of making an envelope: values of a card, how far they are off, and where they come from."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

from pendel.core.catalogue.systems.envelope import KIND
from pendel.core.drive import commands
from pendel.core.drive.commands import Command, changed
from pendel.core.drive.document import Drive
from pendel.core.drive.file import save
from pendel.core.envelope.fitted import Made
from pendel.core.envelope.maps import ENDINGS, save_map
from pendel.core.errors import DriveProblem
from pendel.core.files.writing import write_atomically
from pendel.core.quantities.units import number_text, si_unit, unit
from pendel.core.system.fold import DIGEST, LEVEL, PER, ROW, TORQUE, cut_of
from pendel.core.vocabulary import plainest
from pendel.core.vocabulary.levels import SYSTEM

ROW_UNITS = ("rad/s", "N*m", "N*m")
LARGEST_MISFIT = 0.05
"""Of the largest torque: by how much it may be off from what is asked for, where an envelope stands for its machine."""


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
    unit: str = "N·m"
    """In which its torque is asked for."""
    level: str = ""
    """Of detail, at which the runs were."""
    maps: tuple[tuple[float, Made], ...] = ()
    """What was found, by the temperature (°C) at which parts were held; not-a-number where none was said."""
    whole: str = ""
    """The drive, as its file holds it, with the machine carrying the envelope; where that was asked for."""

    def save(self, path: Path) -> None:
        """Write a drive with the card alone, or the ``whole``; the map where the file ends so. Raises `FileProblem`."""
        if path.suffix in ENDINGS:
            save_map(self.maps, path)
            return
        if self.whole:
            write_atomically(path, self.whole)
            return
        drive = Drive()
        adding(drive, self, "Envelope").apply(drive)
        save(drive, path)


def report_of(maps: tuple[tuple[float, Made], ...], origin: dict[str, str], unit: str, level: str) -> EnvelopeReport:
    """Of the first of the maps."""
    made = maps[0][1]
    return EnvelopeReport(
        made.machine,
        dict(made.values),
        made.worst,
        made.rms,
        len(made.points),
        len(made.checks),
        made=made,
        origin=origin,
        unit=unit,
        maps=maps,
        level=level if level != SYSTEM else plainest(),
    )


def carrying(drive: Drive, report: EnvelopeReport) -> Command:
    """Have the machine carry its envelope, for the level *system*.

    Raises
    ------
    DriveProblem
        where what is asked for gives no torque in proportion, the machine is not there any more, or what feeds it has
        no DC link.
    """
    made, origin = report.made, report.origin or {}
    card = commands.card_of(drive, report.machine)
    if made is None:
        raise DriveProblem("This envelope was not worked out here. Recreate it.")
    if made.torque_misfit > LARGEST_MISFIT:
        raise DriveProblem(
            f"The torque of {card.name} does not follow what is asked for at {origin.get(TORQUE)} in proportion (it is "
            f"off by up to {number_text(100 * made.torque_misfit, 2)} % of the largest), so an envelope cannot stand "
            "for it here. Choose where a torque is asked for."
        )
    cut_of(drive, report.machine)
    (linear, square), limits = made.drag, made.limits
    kept = {
        TORQUE: origin[TORQUE],
        PER: per_text(made.per, report.unit),
        DIGEST: origin[DIGEST],
        LEVEL: report.level,
        **report.values,
        "b": f"{linear:.5g} N*m*s",
        "b_2": f"{square:.5g} N*m*s^2",
        "U_0": f"{made.link:.5g} V",
        **{
            f"{name}_{k}": f"{number:.5g} {unit_text}"
            for k, row in enumerate(limits)
            for name, number, unit_text in zip(ROW, row, ROW_UNITS)
        },
    }
    after = replace(card, envelope=kept)
    return Command(f"Envelope of {card.name}", (changed(drive, "cards", report.machine, after),))


def per_text(per: float, asked_in: str) -> str:
    """Torque for one of what is asked for, as a gain's field takes it."""
    number, of = f"{per:.6g}", si_unit(unit(asked_in)[1])
    return f"{number} N*m/A" if of == "A" else number


def adding(drive: Drive, report: EnvelopeReport, name: str) -> Command:
    """A card with these values, which keeps where they come from."""
    origin = dict(report.origin or {})
    if origin and report.made is not None and report.made.torque_misfit <= LARGEST_MISFIT:
        origin[PER] = per_text(report.made.per, report.unit)
    return commands.add_card(drive, KIND.id, name, values=dict(report.values), made_from=origin)
