"""The least fuel of a trip, from the terminal."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from pendel.core.drive import commands
from pendel.core.drive.document import Drive
from pendel.core.drive.user_text import read_figure

if TYPE_CHECKING:
    from pendel.core.trips.best import BestSplit


@dataclass(frozen=True)
class SplitReport:
    """Fuel (kg) of the run, of its own splits as the model of the trip has them, of the best way that was found, and
    below which none goes; charges at the end as shares of 1."""

    engine: str
    store: str
    words: str
    fuel_run: float
    fuel_own: float
    fuel: float
    fuel_bound: float
    charge_run: float
    charge_own: float
    table: BestSplit | None = None

    def save(self, path: Path) -> None:
        """The steps as CSV. Raises `FileProblem`."""
        assert self.table is not None
        self.table.save(path)


def best_split(
    drive: Drive,
    begin: str | None = None,
    end: str | None = None,
    step: str | None = None,
    until: str | None = None,
) -> SplitReport:
    """Run a trip, and find the least fuel with which it can be driven to the same charge by any split of the power.

    Parameters
    ----------
    begin, end
        of the trip; the whole run without them.
    step
        of the model; 1 s without it.
    until
        run length, such as “195 s”.

    Raises
    ------
    DriveHasFindings, DriveProblem, RunProblem
    """
    from pendel.core.errors import RunProblem
    from pendel.core.runs.preparing.simulate import prepare_run, run_drive  # slow to load
    from pendel.core.trips.best import best_split as found_in
    from pendel.core.trust import refuse_strange_c

    if until:
        commands.set_setting(drive, "until", until).apply(drive)
    refuse_strange_c(drive, "add --own-c")
    run = run_drive(prepare_run(drive))
    if run.message:
        raise RunProblem(run.message)
    span = [read_figure(drive, text, "s", 0.0) if text else at for text, at in ((begin, 0.0), (end, run.end))]
    best = found_in(run, span[0], span[1], step or "1 s")
    return SplitReport(
        best.engine,
        best.store,
        best.words,
        best.fuel_run,
        best.fuel_own,
        best.fuel,
        best.fuel_bound,
        float(best.charge_run[-1]),
        float(best.charge_own[-1]),
        table=best,
    )


__all__ = ["SplitReport", "best_split"]
