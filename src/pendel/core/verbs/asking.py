"""Verbs that report on a drive: what is wrong with it, which signals it has, the margins of its loops."""

from __future__ import annotations

import math
from dataclasses import dataclass

from pendel.core.check import examine
from pendel.core.drive import view_edits
from pendel.core.drive.document import Drive
from pendel.core.drive.findings import Finding
from pendel.core.errors import DriveHasFindings


@dataclass(frozen=True)
class FindingReport:
    """``severity`` is “fault”, before whose cure nothing runs, or “attention”."""

    severity: str
    card: str
    field: str
    sentence: str

    @property
    def stops(self) -> bool:
        return self.severity == "fault"

    @property
    def where(self) -> str:
        return ".".join(name for name in (self.card, self.field) if name) or "drive"


@dataclass(frozen=True)
class AboutReport:
    """What a drive says of itself, in Markdown, and the signals of each strip that its file lays out."""

    title: str
    text: str
    strips: tuple[tuple[str, ...], ...]


@dataclass(frozen=True)
class SignalReport:
    """A signal that a run shows: its key, what it is in words, and the unit it is shown in."""

    key: str
    card: str
    label: str
    unit: str


@dataclass(frozen=True)
class LoopReport:
    """The margins of a loop with its gains. Figures are NaN where there is none; ``problem`` says why a loop
    has no
    linear model.

    ``crossover`` is in Hz, ``phase_margin`` in degrees, ``gain_margin`` in dB; ``ms`` is the largest of |S|.
    ``phase_at`` (Hz)
    is the crossing with the least phase margin, where |L| crosses one several times.
    """

    name: str
    regulator: str
    closed: bool
    stable: bool
    damped: bool
    crossover: float = math.nan
    phase_margin: float = math.nan
    gain_margin: float = math.nan
    ms: float = math.nan
    problem: str = ""
    changed_inside: tuple[str, ...] = ()
    """Regulators further in whose gains are others than when those of this loop were taken."""
    phase_at: float = math.nan


def report_of(finding: Finding) -> FindingReport:
    return FindingReport(finding.severity.value, finding.card, finding.field, finding.sentence)


def check(drive: Drive) -> list[FindingReport]:
    """All that is found in a drive, contradictions among its equations included."""
    from pendel.core.runs.preparing.simulate import prepare_run  # slow to load

    findings = list(examine(drive).findings)
    try:
        prepare_run(drive)
    except DriveHasFindings as problem:
        known = {f.sentence for f in findings}
        findings += [f for f in problem.findings if f.sentence not in known]
    return [report_of(f) for f in findings]


def signals(drive: Drive) -> list[SignalReport]:
    """What a run of the drive can show. Raises `DriveHasFindings` where it cannot run."""
    from pendel.core.runs.preparing.simulate import prepare_run  # slow to load

    prepared = prepare_run(drive)
    there = {*prepared.structure.signals, *prepared.deck.signals}
    return [SignalReport(i.key, i.card, i.label, i.unit) for key, i in prepared.infos.items() if key in there]


def loops(drive: Drive, *, at: str | None = None, continuous: bool = False) -> list[LoopReport]:
    """The loops of a drive, inside out, with margins.

    Parameters
    ----------
    at
        ``steady`` for the steady rotation in which a run ends; ``measured`` for sines in runs, with converters at
        their level of detail; without it, at rest.
    continuous
        margins as of a continuous loop, with delays as such, where a loop can be seen so.

    Raises
    ------
    DriveHasFindings
        where it cannot run.
    DriveProblem
        where it does not turn steadily.
    """
    from pendel.core.loops.regulators.judged_at import judged_at
    from pendel.core.loops.tuning.tuning import loop_statuses  # slow to load

    reports = []
    for each in loop_statuses(drive, at=judged_at(at)):
        loop, plain = each.loop, (each.loop.label, each.loop.regulator, each.loop.closed)
        if each.judged is None:
            reports.append(LoopReport(*plain, stable=False, damped=False, problem=each.problem))
            continue
        judged = each.judged
        if continuous and each.study is not None and each.study.can_be_continuous:
            each.study.continuous = True
            judged = each.study.analyse(each.study.gains_now)
        m = judged.margins
        reports.append(
            LoopReport(
                loop.label,
                loop.regulator,
                loop.closed,
                m.stable,
                m.damped,
                m.crossover,
                m.phase,
                m.gain_db,
                m.ms,
                changed_inside=each.changed_inside,
                phase_at=m.phase_at,
            )
        )
    return reports


def about(drive: Drive) -> AboutReport:
    """What a drive says of itself, and what its strips show."""
    strips = tuple(strip.signals for strip in view_edits.view_of_runs(drive).strips)
    return AboutReport(drive.title, view_edits.about(drive), strips)
