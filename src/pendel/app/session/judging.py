"""What needs the ordered equations of a drive: contradictions and loops, computed in the process beside the
window."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from pendel.core.drive import file
from pendel.core.drive.document import Drive
from pendel.core.drive.findings import Finding, fault
from pendel.core.errors import DriveHasFindings, PendelError, Stopped
from pendel.core.loops.mechanics.modes import Mechanics
from pendel.core.loops.regulators.judged_at import JudgedAt
from pendel.core.processes.requests import JudgeRequest
from pendel.core.processes.worker import Beside
from pendel.core.trust import brings_allowed_c

if TYPE_CHECKING:
    from pendel.core.loops.tuning.tuning import LoopStatus

LONGEST_JUDGING = 600.0
"""Seconds that it may take to order a drive and to judge its loops, with the runs that this takes."""


@dataclass(frozen=True)
class Study:
    """Contradictions between parts, the analysed loops, why there are none, where it is no finding, and what
    swings."""

    findings: list[Finding] = field(default_factory=list)
    loops: list[LoopStatus] = field(default_factory=list)
    problem: str = ""
    mechanics: Mechanics = Mechanics()


def judged_beside(
    worker: Beside,
    drive: Drive,
    stopping: Callable[[], bool] = lambda: False,
    *,
    at: JudgedAt = JudgedAt.REST,
) -> Study:
    """Another process orders and judges; here it is waited for. Raises `Stopped`."""
    from pendel.core.check.typed_c import refused_c
    from pendel.core.loops.judging.judgement import statuses_of  # slow to load, and not needed to start

    try:
        if refused := refused_c(drive):
            return Study(refused)
        own_c = at.runs and brings_allowed_c(drive)
        request = JudgeRequest(file.to_text(drive), at, own_c)
        judgement = worker.ask(request, LONGEST_JUDGING, stopping)
        findings = [fault(*f) for f in judgement.findings]
        return Study(findings, statuses_of(judgement, drive), judgement.problem, judgement.mechanics)
    except Stopped:
        raise
    except DriveHasFindings as problem:
        return Study(problem.findings)
    except PendelError as problem:
        return Study(problem=str(problem))
