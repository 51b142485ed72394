"""The verb that tunes loops within limits."""

from __future__ import annotations

import math
from dataclasses import dataclass

from pendel.core.drive.document import Drive
from pendel.core.errors import DriveProblem
from pendel.core.verbs.changing import apply


@dataclass(frozen=True)
class TunedReport:
    """What was found for a loop: gains by name (SI), figures, and the limits that stop at better ones; or why
    nothing was."""

    loop: str
    gains: dict[str, float]
    crossover: float
    phase_margin: float
    ms: float
    overshoot: float
    settling: float
    stopping: list[str]
    problem: str = ""


def tune_loops(
    drive: Drive,
    *,
    loop: str | None = None,
    goal: str | None = None,
    phase_margin: str | None = None,
    ms: str | None = None,
    overshoot: str | None = None,
    effort: str | None = None,
    crossover: str | None = None,
    fastest: str | None = None,
    at: str | None = None,
) -> list[TunedReport]:
    """Take the gains that are best by a goal within limits, of one loop or of all, inside out.

    Parameters
    ----------
    loop
        a regulator, or the key of a loop; all closed loops without it.
    goal
        disturbance, settling or effort; disturbance without it.
    phase_margin, ms, overshoot, effort, crossover, fastest
        as for `pendel.core.loops.tuning.within_limits.Limits`.
    at
        where loops are judged: rest, steady or measured; at rest without it.

    Raises
    ------
    DriveHasFindings, DriveProblem
    """
    from pendel.core.drive.user_text import read_figure
    from pendel.core.loops.regulators.judged_at import judged_at
    from pendel.core.loops.tuning.within_limits import Goal, Limits, tune

    known = {g.value: g for g in Goal}
    if goal and goal not in known:
        raise DriveProblem(f"“{goal}” is no goal. Choose one of {', '.join(known)}.")
    given = {"phase_margin": phase_margin, "ms": ms, "overshoot": overshoot, "effort": effort}
    numbers = {n: read_figure(drive, text, "", 0.0) for n, text in given.items() if text}
    for name, text in (("crossover", crossover), ("fastest", fastest)):
        if text:
            numbers[name] = read_figure(drive, text, "Hz", 0.0)
    tuned = tune(drive, Limits(**numbers), known[goal or "disturbance"], loop or "", at=judged_at(at))
    if tuned.command.changes:
        apply(drive, tuned.command)
    reports = [
        TunedReport(
            key,
            dict(each.best.gains),
            each.best.analysis.margins.crossover,
            each.best.analysis.margins.phase,
            each.best.analysis.margins.ms,
            each.best.analysis.measures.overshoot,
            each.best.analysis.measures.settling,
            list(each.stopping),
        )
        for key, each in tuned.searched.items()
    ]
    return reports + [
        TunedReport(key, {}, math.nan, math.nan, math.nan, math.nan, math.nan, [], why)
        for key, why in tuned.left.items()
    ]


__all__ = ["TunedReport", "tune_loops"]
