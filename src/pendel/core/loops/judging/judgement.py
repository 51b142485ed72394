"""What a process beside finds out about a drive: whether its equations have a solution, and how its loops
stand.

Ordering equations and making them linear takes seconds for a large drive, and holds the interpreter; a window
asks another
process. What comes back is texts and arrays alone; from these and the drive, `statuses_of` makes in a moment
what pages show.
"""

from __future__ import annotations

import contextlib
import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace

from pendel.core.catalogue.index import kind_of
from pendel.core.check import examine
from pendel.core.controllers.symbolic import LinearBlock
from pendel.core.drive.commands import Command
from pendel.core.drive.document import Drive
from pendel.core.equations.flatten import control_deck
from pendel.core.errors import DriveHasFindings, DriveProblem, PendelError, Stopped
from pendel.core.loops.mechanics.mechanics import mechanics_of
from pendel.core.loops.mechanics.modes import Mechanics
from pendel.core.loops.models.linear import LinearPlant, SampledDrive
from pendel.core.loops.models.linear_models import LiftedModel, LinearModel
from pendel.core.loops.models.points import WorkingPoint
from pendel.core.loops.models.turning import BlocksAround, Rotation, TurningDrive
from pendel.core.loops.regulators.find import Loop, find_loops
from pendel.core.loops.regulators.judged_at import JudgedAt
from pendel.core.loops.regulators.measured import Measured, MeasuredDrive
from pendel.core.loops.tuning.gains import changed_inside, take_gains
from pendel.core.loops.tuning.tuning import (
    LoopAnalysis,
    LoopStatus,
    LoopStudy,
    Proposal,
    loop_statuses,
    propose_all,
    silent_beside,
)
from pendel.core.runs.preparing.simulate import averaged, prepare


@dataclass(frozen=True)
class LoopRecord:
    """How a loop stands, by its key. Without a linear model there is but the ``problem``."""

    key: str
    problem: str = ""
    point: WorkingPoint | None = None
    plant: LinearPlant | None = None
    blocks: Mapping[str, LinearBlock] = field(default_factory=dict)
    model: LinearModel | LiftedModel | None = None
    judged: LoopAnalysis | None = None
    begin: float = math.nan
    rotation: Rotation | None = None
    """Where it was judged in a frame that turns; ``around`` has the blocks there."""
    around: BlocksAround = ()
    measured: Measured | None = None
    """Where it was measured."""


@dataclass(frozen=True)
class Judgement:
    """``findings`` are faults as sentence, card and field; ``problem`` says why there are no ``loops`` where
    that is no fault of
    the drive."""

    findings: tuple[tuple[str, str, str], ...] = ()
    loops: tuple[LoopRecord, ...] = ()
    problem: str = ""
    mechanics: Mechanics = Mechanics()


@dataclass(frozen=True)
class ProposedGains:
    """Gains by the keys of loops, in the order in which they are taken, and why other loops are left."""

    gains: Mapping[str, Mapping[str, float]]
    left: Mapping[str, str]


def judgement_of(
    drive: Drive, stopping: Callable[[], bool] = lambda: False, *, at: JudgedAt = JudgedAt.REST
) -> Judgement:
    """Order the equations of a drive and judge its loops, ``at`` as for `loop_statuses`. Raises `Stopped` once
    ``stopping`` holds."""
    mechanics = Mechanics()
    try:
        prepared = prepare(drive)
        plain = averaged(drive)
        ready = prepared if plain is drive else prepare(plain)
        with contextlib.suppress(DriveProblem):  # asked for by itself, it says why
            mechanics = mechanics_of(ready)
        measured = at is JudgedAt.MEASURED
        statuses = loop_statuses(drive if measured else plain, prepared if measured else ready, stopping, at=at)
    except Stopped:
        raise
    except DriveHasFindings as problem:
        return Judgement(tuple((f.sentence, f.card, f.field) for f in problem.findings))
    except PendelError as problem:  # a loop that cannot be judged is no fault of the drive
        return Judgement(problem=str(problem), mechanics=mechanics)
    return Judgement(loops=tuple(map(record_of, statuses)), mechanics=mechanics)


def record_of(status: LoopStatus) -> LoopRecord:
    study = status.study
    if study is None:
        return LoopRecord(status.loop.key, status.problem)
    linear = study.drive
    turning = linear if isinstance(linear, TurningDrive) else None
    return LoopRecord(
        status.loop.key,
        "",
        linear.point,
        linear.plant,
        dict(linear.linear) if turning is None else {},
        study.plant_model,
        status.judged,
        status.begin,
        turning.rotation if turning is not None else None,
        turning.known if turning is not None else (),
        linear.measured if isinstance(linear, MeasuredDrive) else None,
    )


def statuses_of(judgement: Judgement, drive: Drive) -> list[LoopStatus]:
    """The loops of the drive that was judged, each with a study that gains can be tried on."""
    plain = averaged(drive)
    deck = control_deck(plain, examine(plain), kind_of)
    loops = {loop.key: loop for loop in find_loops(plain, deck)}

    def status(loop: Loop, record: LoopRecord) -> LoopStatus:
        return replace(judged(loop, record), changed_inside=changed_inside(drive, deck, loop.regulator))

    def judged(loop: Loop, record: LoopRecord) -> LoopStatus:
        if record.point is None or record.plant is None:
            return LoopStatus(loop, problem=record.problem)
        if record.measured is not None:
            measured = MeasuredDrive(deck, loop, record.measured)
            return LoopStatus(loop, LoopStudy(measured, loop, record.model), record.judged, "", record.begin)
        silent = silent_beside(deck, loop)
        if record.rotation is not None:
            turning = TurningDrive(deck, record.rotation, silent=silent, known=record.around)
            return LoopStatus(loop, LoopStudy(turning, loop, record.model), record.judged, "", record.begin)
        linear = SampledDrive(deck, record.point, record.plant, silent=silent, linear=dict(record.blocks))
        return LoopStatus(loop, LoopStudy(linear, loop, record.model), record.judged, "", record.begin)

    return [status(loops[r.key], r) for r in judgement.loops if r.key in loops]


def proposed_gains(
    drive: Drive, at: JudgedAt = JudgedAt.REST, stopping: Callable[[], bool] = lambda: False
) -> ProposedGains:
    """Gains that `propose_all` would take. Raises as it."""
    proposal = propose_all(drive, at=at, stopping=stopping)
    return ProposedGains(proposal.gains, proposal.left)


def command_for(proposed: ProposedGains, drive: Drive) -> Proposal:
    """One command that takes proposed gains for the loops that the drive has."""
    scratch, command, served = drive.copy(), Command("Propose gains of all loops", ()), []
    plain = averaged(drive)
    loops = {loop.key: loop for loop in find_loops(plain, control_deck(plain, examine(plain), kind_of))}
    for key, gains in proposed.gains.items():
        if key in loops:
            step = take_gains(scratch, loops[key], gains)
            step.apply(scratch)
            command = command.then(step)
            served.append(key)
    return Proposal(command, tuple(served), proposed.left, dict(proposed.gains))
