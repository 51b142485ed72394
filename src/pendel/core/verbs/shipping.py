"""Verbs for the controller as shipped: number formats, ranges, C, what it is and whether it does the same."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from pendel.core.drive import commands
from pendel.core.drive.commands import Command
from pendel.core.drive.document import Drive
from pendel.core.drive.findings import Finding
from pendel.core.drive.user_text import near_words
from pendel.core.errors import DriveProblem
from pendel.core.verbs.changing import apply

if TYPE_CHECKING:
    from pendel.core.firmware.facts import BlockFacts
    from pendel.core.firmware.processors import OnProcessor
    from pendel.core.firmware.propose import ProposedFormats
    from pendel.core.firmware.values import ValueFacts
    from pendel.core.runs.record.kept import KeptRun


@dataclass(frozen=True)
class BuildFacts:
    """What building and checking found: sizes in bytes, ticks replayed, the largest difference of each signal
    from float 64 (SI) where both are fed with the run's inputs, builds that differ by a bit, and the rms difference
    where both run in closed loop, over the signal's span."""

    compiler: str
    code_bytes: int
    data_bytes: int
    ticks: int
    differences: dict[str, float]
    builds: tuple[str, ...]
    unlike: tuple[str, ...]
    closed: dict[str, float]


@dataclass(frozen=True)
class FirmwareReport:
    """A controller as shipped: its blocks, what wants attention, and where asked for how it was built and ran
    on processors."""

    blocks: list[BlockFacts]
    values: list[ValueFacts]
    findings: list[Finding]
    check: BuildFacts | None = None
    processors: list[OnProcessor] = field(default_factory=list)

    @property
    def unlike(self) -> bool:
        """Whether any build or processor gave another bit."""
        return bool(self.check and self.check.unlike) or any(p.unlike for p in self.processors)


def choose_formats(drive: Drive, number_format: str | None, blocks: Iterable[str]) -> None:
    """Set number formats from texts: one for the drive, and ``BLOCK=FORMAT``. Raises `DriveProblem`."""
    from pendel.core.check.formats import FORMATS

    def known(text: str) -> str:
        if text not in FORMATS:
            raise DriveProblem(f"There is no number format “{text}”. Choose one of {', '.join(FORMATS)}.")
        return text

    if number_format:
        apply(drive, commands.set_setting(drive, "number_format", known(number_format)))
    for choice in blocks:
        name, equals, text = choice.partition("=")
        if not equals:
            raise DriveProblem(f"“{choice}” is not BLOCK=FORMAT.")
        if name not in drive.cards:
            raise DriveProblem(f"There is no block “{name}”.{near_words(name, drive.cards)}")
        apply(drive, commands.set_number_format(drive, name, known(text)))


def run_modelled(drive: Drive) -> KeptRun:
    """A run of the drive with its controller as modelled. Raises `DriveHasFindings` and `DriveProblem`."""
    from pendel.core.runs.preparing.simulate import prepare, run_drive  # slow to load
    from pendel.core.trust import refuse_strange_c

    refuse_strange_c(drive, "add --own-c")
    modelled = drive.copy()
    modelled.settings["controller"] = "as modelled"
    return run_drive(prepare(modelled))


def ranges_of(drive: Drive) -> dict[str, dict[str, float]]:
    """Run a drive, and what the signals of its controller came to: largest absolute values (SI) by card and
    name. Raises `DriveHasFindings`, `DriveProblem` and `BuildProblem`."""
    from pendel.core.firmware.ranges import sizes_in
    from pendel.core.runs.preparing.simulate import prepare

    run = run_modelled(drive)
    return sizes_in(prepare(drive).deck, run)


def find_ranges(drive: Drive, *, until: str | None = None) -> Mapping[str, str]:
    """Run a drive and keep what the signals of its controller came to, for fixed point.

    Raises
    ------
    DriveHasFindings, DriveProblem, BuildProblem
    """
    if until:
        apply(drive, commands.set_setting(drive, "until", until))
    apply(drive, commands.set_seen(drive, ranges_of(drive)))
    return {}


def ranges_known(drive: Drive) -> bool:
    """Whether ranges were found, or none are needed."""
    texts = {drive.settings["number_format"], *(c.number_format for c in drive.cards.values())}
    fixed = any(text.startswith("fixed") for text in texts)
    return not fixed or any(card.seen for card in drive.cards.values())


def write_c(
    drive: Drive,
    *,
    folder: str | Path,
    number_format: str | None = None,
    blocks: Iterable[str] = (),
    board: bool = False,
) -> Sequence[Path]:
    """Write the controller as C into a folder: source, header, example, library. A ``main.c`` that is there and was
    changed since stays as it is.

    Parameters
    ----------
    number_format
        of all blocks: float64, float32, fixed32 or fixed16; the drive's without it.
    blocks
        ``BLOCK=FORMAT``, for single blocks.
    board
        write the slave of the protocol XCP as well, by which an own board is watched and changed.

    Raises
    ------
    DriveHasFindings, DriveProblem, FileProblem
    """
    from pendel.core.firmware.ship import write_sources
    from pendel.core.runs.preparing.simulate import prepare

    choose_formats(drive, number_format, blocks)
    if not ranges_known(drive):
        find_ranges(drive)
    return write_sources(prepare(drive).lowered, Path(folder), drive, board=board)


def describe_for_tools(drive: Drive, *, number_format: str | None = None, blocks: Iterable[str] = ()) -> str:
    """Describe the numbers of the shipped controller for measurement and calibration: the text of an A2L 1.71 file.

    Raises
    ------
    DriveHasFindings, DriveProblem
    """
    from pendel.core.bench.description import describe
    from pendel.core.firmware.a2l import a2l_of
    from pendel.core.runs.preparing.simulate import prepare

    choose_formats(drive, number_format, blocks)
    if not ranges_known(drive):
        find_ranges(drive)
    lowered = prepare(drive).lowered
    return a2l_of(lowered, describe(drive, lowered))


def live_values(drive: Drive, *, wished: Iterable[str], off: bool = False) -> Mapping[str, str]:
    """Have values of blocks changeable while the code runs, or with ``off`` constants again.

    Parameters
    ----------
    wished
        ``BLOCK`` for all values of a block that were entered and are not 0, ``BLOCK.VALUE``, or
        ``BLOCK.VALUE=LOWEST…HIGHEST``. Without ends, a value goes from a quarter to four times of what it is.

    Raises
    ------
    DriveHasFindings, DriveProblem
    """
    for command in live_commands(drive, wished, off=off):
        apply(drive, command)
    return {}


def live_commands(drive: Drive, wished: Iterable[str], *, off: bool = False) -> list[Command]:
    """What `live_values` does to a drive. Raises `DriveHasFindings` and `DriveProblem`."""
    from pendel.core.controllers.numbers.lowering import Choices, lower
    from pendel.core.controllers.numbers.representation import NumberFormat
    from pendel.core.firmware.values import live_choices
    from pendel.core.runs.preparing.simulate import prepare

    if off:
        names_of: dict[str, dict[str, None]] = {}
        for path in wished:
            block, _, name = path.partition(".")
            live = drive.cards[block].live if block in drive.cards else {}
            if not (name in live if name else live):
                near = "" if block in drive.cards else near_words(block, drive.cards)
                raise DriveProblem(f"“{path}” has no live value.{near}")
            names_of.setdefault(block, {}).update(dict.fromkeys([name] if name else live, None))
        return [commands.set_live(drive, block, names) for block, names in names_of.items()]
    # In float 64, as ranges may not be known yet.
    lowered = lower(prepare(drive).deck, Choices(NumberFormat.FLOAT64))
    chosen = live_choices(drive, lowered, wished)
    return [commands.set_live(drive, block, names) for block, names in chosen.items()]


def propose_formats(drive: Drive, *, error: str | None = None) -> ProposedFormats:
    """Take the narrowest number formats that stay within an error of a run. Ranges are found first.

    Parameters
    ----------
    error
        the largest rms error of a signal of the controller over its span, such as “0.2 %”.

    Raises
    ------
    DriveHasFindings, DriveProblem
    """
    from pendel.core.drive.user_text import read_figure
    from pendel.core.firmware.propose import propose_formats as proposed

    wanted = read_figure(drive, error, "", 2e-3)
    if not 0.0 < wanted < 1.0:
        raise DriveProblem(f"An error of {error} cannot be wanted. Give one above 0 and below 100 %.")
    find_ranges(drive)
    proposal = proposed(drive, wanted)
    apply(drive, commands.set_number_formats(drive, proposal.formats, "Propose formats"))
    return proposal


def firmware(
    drive: Drive,
    *,
    number_format: str | None = None,
    blocks: Iterable[str] = (),
    check: bool = False,
    processor: Iterable[str] = (),
    clock: str | None = None,
) -> FirmwareReport:
    """Report the controller as shipped.

    Parameters
    ----------
    check
        build it, feed it with a run's inputs, and compare builds to the bit.
    processor
        m4f, m3 or m0: do the same there, emulated.
    clock
        of the processor, such as 72 MHz: how much of a period its longest tick takes is reported as well.

    Raises
    ------
    DriveHasFindings, DriveProblem, BuildProblem
    """
    from pendel.core.drive.user_text import read_figure
    from pendel.core.firmware.facts import facts_of
    from pendel.core.firmware.findings import findings_of
    from pendel.core.firmware.processors import on_processor, processor_of
    from pendel.core.firmware.propose import in_closed_loop
    from pendel.core.firmware.ship import build_and_check
    from pendel.core.firmware.values import values_of
    from pendel.core.runs.preparing.simulate import prepare

    wanted = [processor_of(name) for name in dict.fromkeys(processor)]
    hertz = read_figure(drive, clock, "MHz", math.nan)
    if hertz <= 0.0:
        raise DriveProblem(f"A clock of {clock} drives no processor. Give one above 0 Hz.")
    choose_formats(drive, number_format, blocks)
    if not ranges_known(drive):
        find_ranges(drive)
    lowered = prepare(drive).lowered
    report = FirmwareReport(list(facts_of(lowered)), list(values_of(drive, lowered)), findings_of(drive, lowered))
    if not (check or wanted):
        return report
    run = run_modelled(drive)
    checked = build_and_check(lowered, run)
    built = BuildFacts(
        checked.compiler,
        checked.code_bytes,
        checked.data_bytes,
        checked.ticks,
        {c.signal: c.largest for c in checked.compared},
        checked.builds,
        checked.unlike,
        in_closed_loop(drive),
    )
    ran = [on_processor(lowered, run, each, clock=hertz) for each in wanted]
    return FirmwareReport(report.blocks, report.values, report.findings, built, ran)
