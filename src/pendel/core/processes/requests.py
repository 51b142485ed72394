"""What the process beside a window is asked for. Requests hold texts and numbers alone, as they cross to
it."""

from __future__ import annotations

from dataclasses import dataclass

from pendel.core.drive.document import KeptTransfer
from pendel.core.drive.plans import Plan
from pendel.core.loops.regulators.judged_at import JudgedAt
from pendel.core.worked_out import Work


@dataclass(frozen=True)
class RunRequest:
    """Run the drive in ``drive_text`` and keep the result at ``path``. ``own_c`` tells that C it brings was
    allowed."""

    drive_text: str
    name: str
    differs: str
    path: str
    own_c: bool = False


@dataclass(frozen=True)
class CheckRequest:
    """Build the controller of the drive as it is shipped, and replay a kept run through it."""

    drive_text: str
    run: bytes
    """The kept run as its file holds it."""
    own_c: bool = False


@dataclass(frozen=True)
class RangesRequest:
    """Find what all signals of the controller came to in a kept run: `pendel.core.firmware.ranges`."""

    drive_text: str
    run: bytes
    own_c: bool = False


@dataclass(frozen=True)
class ProcessorRequest:
    """Replay a kept run through the controller on emulated processors: `pendel.core.firmware.processors`."""

    drive_text: str
    run: bytes
    processors: tuple[str, ...]
    own_c: bool = False


@dataclass(frozen=True)
class FormatsRequest:
    """Propose number formats that stay within an error: `pendel.core.firmware.propose`."""

    drive_text: str
    wanted: float
    own_c: bool = False


@dataclass(frozen=True)
class OrderRequest:
    """Order the equations of the drive, and keep them where other processes find them."""

    drive_text: str


@dataclass(frozen=True)
class WriteRequest:
    """The C of its controller, and all that is said of it: `pendel.core.firmware.written`."""

    drive_text: str


@dataclass(frozen=True)
class DescribeRequest:
    """What a board with the drive would have: `pendel.core.bench.described`."""

    drive_text: str


@dataclass(frozen=True)
class JudgeRequest:
    """Order the equations of the drive and judge its loops: `pendel.core.loops.judging.judgement.judgement_of`."""

    drive_text: str
    at: JudgedAt = JudgedAt.REST
    own_c: bool = False


@dataclass(frozen=True)
class ProposeRequest:
    """First gains of all its loops: `pendel.core.loops.judging.judgement.proposed_gains`."""

    drive_text: str
    at: JudgedAt = JudgedAt.REST
    own_c: bool = False


@dataclass(frozen=True)
class TransferRequest:
    """The linear model between two points, and what is shown of it: `pendel.core.loops.judging.looked_at`."""

    drive_text: str
    kept: KeptTransfer
    own_c: bool = False


@dataclass(frozen=True)
class SweepRequest:
    """The same measured in runs at frequencies (Hz), with an amplitude (SI) or one that is found:
    `pendel.core.loops.models.sweep`."""

    drive_text: str
    kept: KeptTransfer
    frequencies: tuple[float, ...]
    amplitude: float | None = None
    own_c: bool = False


@dataclass(frozen=True)
class TolerateRequest:
    """Judge a loop while values spread by shares of themselves: `pendel.core.loops.tuning.tolerances`."""

    drive_text: str
    loop: str
    spreads: tuple[tuple[str, float], ...]
    samples: int
    at: JudgedAt = JudgedAt.REST
    own_c: bool = False


@dataclass(frozen=True)
class ModesRequest:
    """What swings in a drive, about an operating point: `pendel.core.loops.mechanics.mechanics`."""

    drive_text: str
    at: str
    own_c: bool = False


@dataclass(frozen=True)
class CalmRequest:
    """What to put against a mode of it: `pendel.core.loops.mechanics.calming`."""

    drive_text: str
    by: str
    mode: int
    behind: str
    speed: str
    damping: float
    own_c: bool = False


@dataclass(frozen=True)
class SeriesRequest:
    """Run rows of a plan, so many at once: `pendel.core.series.rows`. Of no rows, look whether they could run.
    ``texts`` are what varies in each, where it is not what the plan's points say."""

    drive_text: str
    plan: Plan
    numbers: tuple[int, ...]
    threads: int
    texts: tuple[tuple[str, ...], ...] = ()
    own_c: bool = False


@dataclass(frozen=True)
class FlowsRequest:
    """Where the energy of a kept run went between two times (s): `pendel.core.runs.found.flows`."""

    drive_text: str
    run: bytes
    begin: float
    end: float
    own_c: bool = False


@dataclass(frozen=True)
class BestSplitRequest:
    """The least fuel by any split of the power, of a kept run between two times (s): `pendel.core.trips.best`.
    ``step`` as it was typed."""

    drive_text: str
    run: bytes
    begin: float
    end: float
    step: str
    own_c: bool = False


@dataclass(frozen=True)
class HeatRequest:
    """How warm the drive gets over a duty that it keeps, or by how much ``highest``, something that it sets, may be
    larger: `pendel.core.heat.over`."""

    drive_text: str
    duty: str
    highest: str = ""
    own_c: bool = False


@dataclass(frozen=True)
class EnvelopeRequest:
    """Limits and losses of a machine with its converter: `pendel.core.envelope.fitted`. Texts as they were typed;
    ``file`` is the name of the drive's file."""

    drive_text: str
    machine: str
    torque: str
    top: str
    top_speed: str
    speeds: str
    torques: str
    checks: str
    file: str
    own_c: bool = False


@dataclass(frozen=True)
class HeldRequest:
    """What torque heat allows over speed: `pendel.core.heat.held`. Texts as they were typed."""

    drive_text: str
    machine: str
    torque: str
    top: str
    top_speed: str
    times: tuple[str, ...]
    speeds: str
    before: str
    own_c: bool = False


@dataclass(frozen=True)
class WorkRequest:
    """Work out what takes long: `pendel.core.worked_out`. It holds no drive."""

    work: Work


WithRun = CheckRequest | RangesRequest | ProcessorRequest | FlowsRequest | BestSplitRequest
"""Requests that bring a run."""
Request = (
    RunRequest
    | FormatsRequest
    | OrderRequest
    | WriteRequest
    | DescribeRequest
    | JudgeRequest
    | ProposeRequest
    | TransferRequest
    | SweepRequest
    | TolerateRequest
    | ModesRequest
    | CalmRequest
    | SeriesRequest
    | HeatRequest
    | EnvelopeRequest
    | HeldRequest
    | WithRun
    | WorkRequest
)
OWN_ANSWERS = (WriteRequest, DescribeRequest, WorkRequest)
"""Requests that run no C of a drive and read nothing but what they hold."""


def runs_own_c(request: Request) -> bool:
    """Whether it was made behind the question to run C of the drive's author, where the drive brings some."""
    return bool(getattr(request, "own_c", False))  # which each has that may run any
