"""What a worker does for each request. Other modules are loaded with the first request that wants them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any, Protocol

from pendel.core.drive.document import Drive
from pendel.core.last_few import LastFew
from pendel.core.processes.requests import (
    BestSplitRequest,
    CalmRequest,
    CheckRequest,
    DescribeRequest,
    EnvelopeRequest,
    FlowsRequest,
    FormatsRequest,
    HeatRequest,
    HeldRequest,
    JudgeRequest,
    ModesRequest,
    OrderRequest,
    ProcessorRequest,
    ProposeRequest,
    RunRequest,
    SeriesRequest,
    SweepRequest,
    TolerateRequest,
    TransferRequest,
    WithRun,
    WriteRequest,
)


class Watched(Protocol):
    """What its asker sees meanwhile: `pendel.core.processes.worker.Shared`."""

    stop: Any
    progress: Any
    keeping: Any

    def stopping(self) -> bool: ...
    def report(self, share: float) -> None: ...


def run_and_save(request: RunRequest, drive: Drive, watched: Watched, path: Path) -> tuple[str, bool]:
    """A run's message, and whether it was stopped. Raises `DriveProblem` and `FileProblem`."""
    from pendel.core.plant.program import Outcome
    from pendel.core.plant.simulator import Watch
    from pendel.core.runs.preparing.simulate import prepare_run, run_drive
    from pendel.core.runs.record.kept import save

    watch = Watch(watched.stop, watched.progress, watched.keeping)
    run = run_drive(prepare_run(drive), name=request.name, watch=watch)
    watched.keeping[0] = 1
    run.differs = request.differs
    save(run, path)
    return run.message, run.outcome is Outcome.STOPPED


def with_a_run(request: WithRun, drive: Drive, path: Path) -> Any:
    """What is found out about the controller by the run that comes with the request."""
    from pendel.core.firmware.processors import on_processor, processor_of
    from pendel.core.firmware.propose import in_closed_loop
    from pendel.core.firmware.ranges import sizes_in
    from pendel.core.firmware.ship import build_and_check
    from pendel.core.runs.preparing.simulate import prepare, reopen

    path.write_bytes(request.run)
    try:
        if isinstance(request, FlowsRequest):
            from pendel.core.runs.found.flows import flows_of

            return flows_of(reopen(path), request.begin, request.end)
        if isinstance(request, BestSplitRequest):
            from pendel.core.trips.best import best_split

            return best_split(reopen(path), request.begin, request.end, request.step)
        prepared, run = prepare(drive), reopen(path)
        if isinstance(request, CheckRequest):
            return replace(build_and_check(prepared.lowered, run), closed=in_closed_loop(drive))
        if isinstance(request, ProcessorRequest):
            return tuple(on_processor(prepared.lowered, run, processor_of(name)) for name in request.processors)
        return sizes_in(prepared.deck, run)
    finally:
        path.unlink(missing_ok=True)


def ordered(request: OrderRequest, drive: Drive, watched: Watched) -> None:
    from pendel.core.runs.preparing.simulate import prepare_run

    prepare_run(drive)


def written(request: WriteRequest, drive: Drive, watched: Watched) -> Any:
    from pendel.core.firmware.written import write_c

    return write_c(drive)


def as_described(request: DescribeRequest, drive: Drive, watched: Watched) -> Any:
    from pendel.core.bench.described import described

    return described(drive)


def judged(request: JudgeRequest, drive: Drive, watched: Watched) -> Any:
    from pendel.core.loops.judging.judgement import judgement_of

    return judgement_of(drive, watched.stopping, at=request.at)


def proposed(request: ProposeRequest, drive: Drive, watched: Watched) -> Any:
    from pendel.core.loops.judging.judgement import proposed_gains

    return proposed_gains(drive, request.at, watched.stopping)


def transferred(request: TransferRequest, drive: Drive, watched: Watched) -> Any:
    from pendel.core.loops.judging.looked_at import looked_at

    return looked_at(drive, request.kept, watched.stopping)


def swept(request: SweepRequest, drive: Drive, watched: Watched) -> Any:
    from pendel.core.loops.judging.looked_at import sweep_of

    sweep = sweep_of(request.drive_text, request.kept)
    return sweep.run(request.frequencies, request.amplitude, stopping=watched.stopping)


def swinging(request: ModesRequest, drive: Drive, watched: Watched) -> Any:
    from pendel.core.loops.judging.looked_at import mechanics_at

    return mechanics_at(drive, request.at)


def calmed(request: CalmRequest, drive: Drive, watched: Watched) -> Any:
    from pendel.core.loops.judging.looked_at import calming_of
    from pendel.core.loops.mechanics.calming import means_of

    how = means_of(request.by)
    return calming_of(drive, how, request.mode, request.behind, request.speed, request.damping)


def tolerated(request: TolerateRequest, drive: Drive, watched: Watched) -> Any:
    from pendel.core.loops.tuning.tolerances import Spread, tolerate

    spreads = [Spread(name, share) for name, share in request.spreads]
    return tolerate(
        drive,
        request.loop,
        spreads,
        request.samples,
        at=request.at,
        stopping=watched.stopping,
        report=watched.report,
    )


def formats_proposed(request: FormatsRequest, drive: Drive, watched: Watched) -> Any:
    from pendel.core.firmware.propose import propose_formats

    return propose_formats(drive, request.wanted, watched.stopping, watched.report)


def rows_run(request: SeriesRequest, drive: Drive, watched: Watched) -> Any:
    from pendel.core.series.rows import Series, run_rows

    key = (request.drive_text, request.plan)
    series = _series.get(key)
    if series is None:
        series = _series.keep(key, Series(drive, request.plan))
    return tuple(run_rows(series, request.numbers, request.threads, watched.stopping, request.texts))


def warmed(request: HeatRequest, drive: Drive, watched: Watched) -> Any:
    from pendel.core.drive.duties import STEADY
    from pendel.core.heat.duty import duty_of_plan
    from pendel.core.heat.over import MOST_TIMES, heat_over, highest
    from pendel.core.series.points import whole_number

    plan = drive.duties[request.duty]
    steady = plan.rounds == STEADY
    rounds = 1 if steady else whole_number("how often the duty is gone through", plan.rounds, 1, MOST_TIMES)
    duty = duty_of_plan(drive, plan, request.duty)
    if request.highest:
        many = None if steady else rounds
        return highest(drive, duty, request.highest, rounds=many, stopping=watched.stopping)[1]
    return heat_over(drive, duty, steady=steady, rounds=rounds, stopping=watched.stopping)


def enveloped(request: EnvelopeRequest, drive: Drive, watched: Watched) -> Any:
    from pendel.core.verbs.enveloping import envelope

    asked = (request.machine, request.torque, request.top, request.top_speed)
    counts = (request.speeds, request.torques, request.checks)
    file = Path(request.file) if request.file else None
    return envelope(drive, *asked, *counts, file=file, stopping=watched.stopping)


def held_over_speed(request: HeldRequest, drive: Drive, watched: Watched) -> Any:
    from pendel.core.verbs.heating import torque_held

    asked = (request.machine, request.torque, request.top, request.top_speed)
    return torque_held(drive, *asked, request.times, request.speeds, request.before, stopping=watched.stopping)


_series: LastFew[Any, Any] = LastFew(2)
"""What rows were run of last, by text and plan."""


ANSWERED: dict[type, Callable[[Any, Drive, Watched], Any]] = {
    OrderRequest: ordered,
    WriteRequest: written,
    DescribeRequest: as_described,
    JudgeRequest: judged,
    ProposeRequest: proposed,
    TransferRequest: transferred,
    SweepRequest: swept,
    ModesRequest: swinging,
    CalmRequest: calmed,
    TolerateRequest: tolerated,
    FormatsRequest: formats_proposed,
    SeriesRequest: rows_run,
    HeatRequest: warmed,
    EnvelopeRequest: enveloped,
    HeldRequest: held_over_speed,
}
"""By the kind of a request: what gives its result."""
