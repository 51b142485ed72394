"""Rows on other computers, by Dask (https://distributed.dask.org): a scheduler that somebody started, or workers that
are started here.

A worker gets the drive's text, the plan and numbers of rows, and gives rows; it keeps nothing that another task needs,
so a worker may go at any time. Whatever a drive brings runs there as it does here: in a process that confines itself
(`pendel.core.processes.worker`), which the worker keeps for the next rows."""

from __future__ import annotations

import contextlib
import math
import time
from collections.abc import Callable, Iterator, Sequence
from typing import TYPE_CHECKING, Any

from pendel.core.drive.document import Drive
from pendel.core.drive.file import from_text, to_text
from pendel.core.drive.plans import Plan
from pendel.core.errors import DriveProblem, RunProblem
from pendel.core.plant.structures import version as code_digest
from pendel.core.processes.requests import SeriesRequest
from pendel.core.processes.worker import Beside
from pendel.core.series.points import points_of, seed_of_row
from pendel.core.series.rows import FAILED, Row
from pendel.core.series.running import Runs
from pendel.core.trust import brings_allowed_c

if TYPE_CHECKING:
    import distributed

HERE = "local:"
"""Begins what asks for so many workers on this computer."""
ANSWERED_WITHIN = 10.0
"""s in which a scheduler answers that is there."""
LEFT_WITHIN = 2.0
"""s in which one that went away is given up."""
LONGEST_TASK = 7200.0
"""s after which a batch of rows that did not end costs its process."""
FIRST_BATCH, LONGEST_BATCH, BATCH_SECONDS = 2, 2000, 2.0
"""Rows of the first batch, of any, and how long one is to take: the scheduler needs some 2 ms a batch."""
AHEAD = 2
"""Batches that wait at each worker."""
LOOK = 0.1
"""s between two looks at whether to stop."""

# at a worker -------------------------------------------------------------------------------------------------------

_beside: list[Beside] = []


def known_here() -> tuple[str, str]:
    """Version of Pendel, and a digest of its code that makes numbers."""
    from pendel import __version__

    return __version__, code_digest()


def rows_here(text: str, plan: Plan, numbers: tuple[int, ...], own_c: bool) -> tuple[Row, ...] | str:
    """Rows of a plan, or a sentence where the process that runs them ended."""
    if not _beside:
        _beside.append(Beside())
    try:
        rows: tuple[Row, ...] = _beside[0].ask(SeriesRequest(text, plan, numbers, 1, (), own_c), LONGEST_TASK)
    except RunProblem as problem:
        return str(problem)
    return rows


# at who asks -------------------------------------------------------------------------------------------------------


@contextlib.contextmanager
def cluster(workers: str) -> Iterator[Runs]:
    """Rows run by Dask's workers: ``tcp://host:port`` of a scheduler, or ``local:N`` for so many here.

    Raises
    ------
    DriveProblem
        where Dask is not installed, nobody answers, there is no worker, or one has another Pendel.
    """
    try:
        import distributed
    except ImportError as problem:
        raise DriveProblem("A cluster needs Dask beside Pendel: pip install pendel[cluster].") from problem
    with contextlib.ExitStack() as opened:
        address: Any = workers
        if workers.startswith(HERE):
            count = workers.removeprefix(HERE)
            if not count.isdecimal() or not 1 <= int(count) <= 1024:
                raise DriveProblem(f"“{workers}” is no number of workers. Write local:N, N from 1 to 1024.")
            address = opened.enter_context(
                distributed.LocalCluster(
                    n_workers=int(count), threads_per_worker=1, dashboard_address=None, silence_logs=50
                )
            )
        elif "://" not in workers:
            raise DriveProblem(f"“{workers}” is no address. Write tcp://host:port of a scheduler, or local:N.")
        try:
            client = distributed.Client(address, timeout=ANSWERED_WITHIN, set_as_default=False)
            opened.callback(client.close, timeout=LEFT_WITHIN)
        except (OSError, ValueError) as problem:
            raise DriveProblem(
                f"Nobody answers at {workers}. Start a scheduler there, or look at the port."
            ) from problem
        check_workers(client, workers)
        yield on_cluster(client, workers)


def check_workers(client: distributed.Client, workers: str) -> None:
    """Refuse workers that would compute with another Pendel. Raises `DriveProblem`."""
    try:
        told = client.run(known_here)
    except Exception as problem:  # whatever a worker without Pendel raises
        raise DriveProblem(f"A worker of {workers} has no Pendel: {problem}. Install the same there.") from problem
    if not told:
        raise DriveProblem(f"{workers} has no workers. Start some with “dask worker {workers}”.")
    ours = known_here()
    for where, theirs in told.items():
        if theirs != ours:
            raise DriveProblem(
                f"The worker at {where} has Pendel {theirs[0]} ({theirs[1]}), and this is {ours[0]} ({ours[1]}). "
                "Install the same there, so that rows are alike."
            )


def on_cluster(client: distributed.Client, workers: str) -> Runs:
    def runs(drive: Drive, plan: Plan, numbers: Sequence[int], stopping: Callable[[], bool]) -> Iterator[Row]:
        text, own_c = to_text(drive), brings_allowed_c(drive)
        if not numbers:
            told = client.submit(rows_here, text, plan, (), own_c, pure=False).result()
            if isinstance(told, str):
                raise DriveProblem(told)
            return
        yield from _Batches(client, workers, text, plan, own_c, stopping).rows(numbers)

    return runs


class _Batches:
    """Rows on their way: so many batches at each worker, whose size follows from how long they take."""

    def __init__(
        self,
        client: distributed.Client,
        workers: str,
        text: str,
        plan: Plan,
        own_c: bool,
        stopping: Callable[[], bool],
    ):
        self.client, self.workers, self.text, self.plan, self.own_c = client, workers, text, plan, own_c
        self.stopping, self.size = stopping, FIRST_BATCH
        self.under_way: dict[Any, tuple[tuple[int, ...], float]] = {}

    def _send(self, numbers: tuple[int, ...]) -> None:
        future = self.client.submit(rows_here, self.text, self.plan, numbers, self.own_c, pure=False, retries=0)
        self.under_way[future] = numbers, time.monotonic()

    def rows(self, numbers: Sequence[int]) -> Iterator[Row]:
        """All of them, in any order, until it is asked to stop. Raises `RunProblem` where the cluster goes away."""
        import distributed

        left, at = list(numbers), 0
        try:
            while (at < len(left) or self.under_way) and not self.stopping():
                room = AHEAD * max(1, len(self.client.nthreads()))
                while at < len(left) and len(self.under_way) < room:
                    self._send(tuple(left[at : at + self.size]))
                    at += self.size
                with contextlib.suppress(TimeoutError), self.client.as_current():
                    distributed.wait(list(self.under_way), timeout=LOOK, return_when="FIRST_COMPLETED")
                for future in [each for each in self.under_way if each.done()]:
                    yield from self._taken(future)
        except (OSError, TimeoutError) as problem:
            raise self._gone() from problem
        finally:
            if self.under_way:
                with contextlib.suppress(Exception):  # the cluster may be what went away
                    self.client.cancel(list(self.under_way))

    def _gone(self) -> RunProblem:
        return RunProblem(f"The cluster at {self.workers} went away. Rows that came are kept: go on with it, or here.")

    def _taken(self, future: Any) -> Iterator[Row]:
        numbers, begun = self.under_way.pop(future)
        if future.status in ("cancelled", "lost"):
            raise self._gone()
        if future.status == "error":
            told: Any = f"Its worker ended with it: {future.exception()}."
        else:
            told = future.result()
        if not isinstance(told, str):
            took = max(1e-3, time.monotonic() - begun) / AHEAD
            self.size = max(1, min(LONGEST_BATCH, 2 * self.size, round(BATCH_SECONDS * len(numbers) / took)))
            yield from told
        elif len(numbers) > 1:  # one of them is the one with which it ended
            for number in numbers:
                self._send((number,))
        else:
            yield self._failed(numbers[0], told)

    def _failed(self, number: int, why: str) -> Row:
        points = points_of(from_text(self.text), self.plan)
        seed, nothing = seed_of_row(points.seed, number), (math.nan,) * len(self.plan.measures)
        return Row(number, points.rows(number, number + 1)[0], FAILED, why, seed, 0.0, nothing)
