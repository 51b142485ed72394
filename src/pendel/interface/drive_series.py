"""What a script asks of a drive a thousand times: series of runs."""

from __future__ import annotations

import shutil
import tempfile
import weakref
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

from pendel.core.cores import usable_cores
from pendel.core.drive import commands
from pendel.core.drive.plans import GRID, RANDOM, WAYS, Plan, Varied
from pendel.core.drive.user_text import known_name
from pendel.core.errors import DriveProblem
from pendel.core.trust import allow_all_of, refuse_strange_c
from pendel.interface.drive_edits import EditedDrive, changes_drive

if TYPE_CHECKING:
    import pandas
    import xarray

    from pendel.core.envelope.report import EnvelopeReport
    from pendel.core.heat.held import Held
    from pendel.core.series.mattering import Mattering
    from pendel.core.series.rows import Row
    from pendel.core.series.running import Going
    from pendel.core.series.traces import RowTrace
    from pendel.core.verbs.heating import HeatReport
    from pendel.core.verbs.series import SearchReport


def varied_of(target: str, values: Sequence[str | float]) -> Varied:
    """What varies, from values, or a tuple of a way of `pendel.core.drive.plans.WAYS` and what it takes; a text or a
    number alone is one value. Raises `DriveProblem` for anything else."""
    if isinstance(values, str | int | float):
        values = [values]
    if not isinstance(values, Iterable):
        raise DriveProblem(f"{target}: {values!r:.80} is no list of values. Write ['1 ms', '2 ms'], for instance.")
    texts = tuple(map(str, values))
    if isinstance(values, tuple) and texts and texts[0] in WAYS:
        return Varied(target, texts[0], texts[1:])
    return Varied(target, "list", texts)


@dataclass(frozen=True)
class SeriesRow:
    """A run of a series: what varied as texts, figures in SI (not-a-number where there is none), and why not."""

    number: int
    values: Mapping[str, str]
    figures: Mapping[str, float]
    outcome: str
    reason: str


class SeriesView:
    """Rows of a series: those that are there, then, while it runs, each that is done. Looping over it runs what is
    missing; one that is left begins where it was."""

    def __init__(self, going: Going, cores: int, *, anew: bool, forgotten: bool, workers: str = ""):
        self._workers = workers
        self._going, self._cores, self._anew = going, cores, anew
        if forgotten:
            weakref.finalize(self, shutil.rmtree, going.folder, ignore_errors=True)

    @property
    @changes_drive
    def plan(self) -> Plan:
        return self._going.plan

    def __iter__(self) -> Iterator[SeriesRow]:
        from pendel.core.series.running import in_threads, state_of

        anew, self._anew = self._anew, False
        store = self._going.store()
        try:
            state = state_of(store, self._going.drive, self.plan)
            if state.differs and not anew:
                raise DriveProblem(
                    f"The series {self._going.name} has {state.done} of {state.count} rows, but {state.differs}. Start "
                    "it anew (anew=True), or undo the change to go on."
                )
            kept: list[Row] = []
            if state.begun and not anew and not state.fresh:
                if store.kept().plan != self.plan:
                    store.take_figures(self.plan)
                kept = store.rows(store.numbers(whole=True).tolist())
        finally:
            store.close()
        yield from map(self._row, kept)
        if not self._workers:
            yield from map(self._row, self._going.rows(in_threads(self._cores), anew=anew))
            return
        from pendel.core.series.cluster import cluster

        with cluster(self._workers) as runs:
            yield from map(self._row, self._going.rows(runs, anew=anew))

    def _row(self, row: Row) -> SeriesRow:
        targets = (varied.target for varied in self.plan.varied)
        values, figures = dict(zip(targets, row.texts)), dict(zip(self.plan.measures, row.figures))
        return SeriesRow(row.number, values, figures, row.outcome, row.reason)

    def run(self) -> list[SeriesRow]:
        """All rows, in their order; what is missing is run before."""
        return sorted(self, key=lambda row: row.number)

    def what_matters(self, figure: str) -> Mattering:
        """How much of the spread of a figure each thing explains that varies, and its slopes, once all rows are there:
        `shares` by Sobol indices with their intervals, total ones where the series is combined by ``"pairs for total
        indices"``; `slopes` with standard errors, the others held. See `pendel.core.series.mattering`.

        Raises
        ------
        DriveProblem
            where the series has no such figure.
        """
        from pendel.core.series.gathered import Gathered
        from pendel.core.series.mattering import what_matters_for

        self.run()
        store = self._going.store()
        try:
            gathered = Gathered(self._going.drive, self.plan)
            gathered.add(store.rows(store.numbers().tolist()))
        finally:
            store.close()
        return what_matters_for(gathered, figure)

    def traces(self, signal: str) -> list[RowTrace]:
        """What was kept of a signal in all rows that have it, once all are there: ``number``, times ``t`` (s) and
        values ``y`` (SI), both extremes of each of 400 pieces (`pendel.core.series.traces`).

        Raises
        ------
        DriveProblem
            where the series keeps no such trace.
        """
        known_name("kept trace", signal, self.plan.traces, self._going.name)
        numbers = [row.number for row in self.run()]
        store = self._going.store()
        try:
            return list(store.traces(signal, numbers))
        finally:
            store.close()

    def save(self, path: str | Path) -> None:
        """All rows as ``.csv``, ``.json``, ``.parquet`` or, with the traces that were kept, ``.h5``. Raises
        `FileProblem`."""
        from pendel.core.series.tables import WITH_TRACES, table_of

        self.run()
        store = self._going.store()
        try:
            table_of(store, traces=Path(path).suffix == WITH_TRACES).save(Path(path))
        finally:
            store.close()

    def to_pandas(self) -> pandas.DataFrame:
        """All rows by their numbers; what varies as texts, figures in SI. Needs pandas."""
        import pandas

        rows = self.run()
        records = [{**row.values, **row.figures, "outcome": row.outcome, "reason": row.reason} for row in rows]
        return pandas.DataFrame(records, index=pandas.Index([row.number for row in rows], name="row"))

    def to_xarray(self) -> xarray.Dataset:
        """Figures over rows, with what varies as coordinates. Needs xarray."""
        import xarray

        frame = self.to_pandas()
        targets = [varied.target for varied in self.plan.varied]
        return xarray.Dataset(
            {name: ("row", frame[name].to_numpy()) for name in self.plan.measures},
            {"row": frame.index.to_numpy(), **{name: ("row", frame[name].to_numpy()) for name in targets}},
        )

    def drive(self, number: int) -> EditedDrive:
        """The drive of a row, to run and look at by itself."""
        from pendel.core.series.rows import Series
        from pendel.interface.api import Drive

        return Drive(document=Series(self._going.drive, self.plan).row_drive(number))


def texts_of(given: object, what: str, such: str) -> tuple[str, ...]:
    """Figures or signals as a plan has them; a single text is one. Raises `DriveProblem` for what is no list of
    texts."""
    if isinstance(given, str):
        return (given,)
    if isinstance(given, Iterable) and not isinstance(given, Mapping):
        texts = tuple(given)
        if all(isinstance(text, str) for text in texts):
            return texts
    raise DriveProblem(f"{given!r:.80} is no list of {what}. Write ['{such}'], for instance.")


class VariedDrive(EditedDrive):
    """A drive that is run many times: the part of `pendel.Drive` that the page Series shows."""

    def series(
        self,
        what: str | Mapping[str, Sequence[str | float]],
        figures: Sequence[str] = (),
        *,
        combined: str = GRID,
        count: int = 64,
        seed: int = 1,
        cores: int | None = None,
        anew: bool = False,
        folder: str | Path | None = None,
        workers: str = "",
        traces: Sequence[str] = (),
        own_c: bool = False,
    ) -> SeriesView:
        """A series of runs: one that the drive plans, by its name, or what varies, by the names of quantities, settings
        and values, with the ``figures`` that are told of each run (`pendel.core.series.columns`). Nothing runs before
        its rows are asked for.

        Parameters
        ----------
        combined
            one of `pendel.core.drive.plans.COMBINED`; ``count`` and ``seed`` are for those that sample.
        cores
            how many runs at once; as many as there are cores without it.
        folder
            where rows are kept, to go on with later; without it, they are forgotten with the result.
        workers
            where rows run instead of in this process: ``"tcp://host:port"`` of a Dask scheduler, or ``"local:4"`` (see
            docs/cluster.md).
        traces
            signals of which something to draw is kept with each row: see `SeriesView.traces`.

        Raises
        ------
        DriveProblem, DriveHasFindings, FileProblem

        >>> rows = d.series({"m_leaf": ["60 kg", "90 kg"]}, ["max(door_leaf.speed)", "peak(door_motor.current)"]).run()
        >>> [f"{row.figures['max(door_leaf.speed)']:.2f} m/s" for row in rows]
        ['0.80 m/s', '0.80 m/s']
        """
        from pendel.core.series.points import points_of
        from pendel.core.series.running import Going

        if own_c:
            allow_all_of(self.document)
        refuse_strange_c(self.document, "call series(own_c=True)")
        plan, name = self._plan_of(what, figures, combined, count, seed)
        plan = replace(plan, traces=texts_of(traces, "signals", "door_motor.current")) if traces else plan
        points_of(self.document, plan)
        place = Path(tempfile.mkdtemp(prefix="pendel-series-") if folder is None else folder)
        going = Going(place, name, self.document.copy(), plan)
        return SeriesView(going, cores or usable_cores(), anew=anew, forgotten=folder is None, workers=workers)

    def search(
        self,
        what: str | Mapping[str, Sequence[str | float]],
        figures: Sequence[str] = (),
        *,
        smallest: str | None = None,
        largest: str | None = None,
        equal: str | None = None,
        limits: str = "",
        trials: int = 200,
        cores: int | None = None,
        own_c: bool = False,
    ) -> SearchReport:
        """Values for which a figure is smallest, largest or equal to something (``"overshoot=5 %"``) within limits, by
        what varies: a planned series, or as of `series`, each from its first to its last value. Figures are named by
        what they begin with. What is found is the best that was tried, and no proof (`pendel.core.series.goals`).

        Raises
        ------
        DriveProblem, DriveHasFindings, ExpressionProblem

        >>> found = d.search({"m_leaf": ("uniform", "50 kg", "120 kg")}, ["peak(door_motor.current)"],
        ...                  equal="peak=13.5 A", trials=20)
        >>> found.values["m_leaf"][:2], f"{found.columns[0].mean:.1f}"
        ('75', '13.5')
        """
        from pendel.core.verbs.series import goal_of, search

        if own_c:
            allow_all_of(self.document)
        refuse_strange_c(self.document, "call search(own_c=True)")
        goal = goal_of(smallest, largest, equal, limits, str(trials))
        if goal is None:
            raise DriveProblem("There is no goal. Give a smallest, a largest or an equal figure.")
        plan = self._plan_of(what, figures, RANDOM, trials, 1)[0]
        return search(self.document.copy(), plan, goal, cores or usable_cores())

    def heat_over(
        self,
        duty: Mapping[str, Sequence[str | float]],
        *,
        kind: str = "",
        time: str | float = "",
        share: str | float = "",
        steady: bool = False,
        rounds: int = 1,
        changes: bool = True,
        own_c: bool = False,
    ) -> HeatReport:
        """How warm the drive gets over a duty of minutes or hours, by short runs at its operating points
        (docs/heat.md).

        Parameters
        ----------
        duty
            columns: ``time``, and what is set, by the names of values and quantities. With a ``kind`` (S1 to S7
            of IEC 60034-1) one target with its load and its rest, for a ``time``, of which a ``share`` is under load.
        steady
            the cycle that repeats itself, else ``rounds`` times from the starting temperatures.
        changes
            whether the heat of what the drive does from one stretch to the next counts, such as a start; in S1, S2, S3
            and S6 it does not.

        Raises
        ------
        DriveProblem, DriveHasFindings

        >>> key = d.add("heat_capacity", "Copper", C="12 J/K", T_max="155 °C")
        >>> key = d.add("heat_resistance", "To the air", R="4 K/W")
        >>> key = d.add("ambient", "Air", T="35 °C")
        >>> for a, b in (("door_motor.heat", "copper.a"), ("copper.b", "to_the_air.a"), ("to_the_air.b", "air.a")):
        ...     d.connect(a, b)
        >>> warm = d.heat_over({"m_leaf": ["120 kg", "60 kg"]}, kind="S3", time="2 min", share=0.4, steady=True)
        >>> [place.what for place in warm.places]
        ['Door motor', 'Copper']
        """
        from pendel.core.heat.over import heat_over
        from pendel.core.verbs.heating import duty_of, report_of

        if own_c:
            allow_all_of(self.document)
        refuse_strange_c(self.document, "call heat_over(own_c=True)")
        requested = duty_of(self.document, duty, kind=kind, time=time, share=share, changes=changes)
        return report_of(heat_over(self.document.copy(), requested, steady=steady, rounds=rounds))

    def torque_held(
        self,
        machine: str,
        torque: str,
        top_torque: str,
        top_speed: str,
        *,
        times: Sequence[str] = ("for ever", "60 s", "10 s"),
        speeds: int = 7,
        before: str | float = 0.0,
        own_c: bool = False,
    ) -> Held:
        """The torque over speed that heat allows: for ever, and for a time from the starts of the bodies or from what
        lasted before, and what limits it where (docs/heat.md).

        Parameters
        ----------
        machine, torque
            its card, and the output of a block that asks for its torque, such as ``torque_demand.out``.
        top_torque, top_speed
            text with units, such as ``400 N*m`` and ``1200 rpm``; a negative torque brakes.
        before
            the share of what is held for ever (0 to 1) that had lasted until the times begin.

        Raises
        ------
        DriveProblem, DriveHasFindings

        >>> warm = pendel.open_example("warm_haul_drive")
        >>> where = ("haul_machine", "torque_demand.out")
        >>> held = warm.torque_held(*where, "450 N*m", "600 rpm", times=["for ever"], speeds=2)
        >>> held.curves[0].limits
        ('Housing', 'Housing')
        """
        from pendel.core.verbs.heating import torque_held

        if own_c:
            allow_all_of(self.document)
        refuse_strange_c(self.document, "call torque_held(own_c=True)")
        counts = (str(speeds), str(before) if before else None)
        return torque_held(self.document.copy(), machine, torque, top_torque, top_speed, list(times), *counts)

    def envelope(
        self,
        machine: str,
        torque: str,
        top_torque: str,
        top_speed: str,
        *,
        speeds: int = 8,
        torques: int = 12,
        checks: int = 12,
        temperatures: Sequence[str] = (),
        file: str | Path | None = None,
        own_c: bool = False,
    ) -> EnvelopeReport:
        """Limits and losses of a machine with its converter and inner loops, for a trip, by short runs on a test bench
        (docs/trips.md).

        Parameters
        ----------
        machine, torque
            its card, and the output of a block that asks for its torque, such as ``torque_demand.out``.
        top_torque, top_speed
            text with units, such as ``400 N*m`` and ``1200 rpm``.
        speeds, torques, checks
            how many of the grid, and points at random that the fit does not see.
        temperatures
            such as ``["20 °C", "120 °C"]``: all that gives heat away is held at each, one map for each of them; the
            envelope is of the first. ``made.save("map.h5")`` (``.csv``, ``.mat``) writes the points of all.
        file
            where this drive is kept, by which a card of it finds it again; where it was opened or saved without it.

        Raises
        ------
        DriveProblem, DriveHasFindings, RunProblem

        >>> haul = pendel.open_example("haul_drive")
        >>> made = haul.envelope("haul_machine", "torque_demand.out", "300 N*m", "600 rpm", speeds=3, torques=4)
        >>> made.worst < 0.1
        True
        >>> pendel.Drive().add_envelope(made, "Haul drive")
        'haul_drive'
        """
        from pendel.core.verbs.enveloping import envelope

        if own_c:
            allow_all_of(self.document)
        refuse_strange_c(self.document, "call envelope(own_c=True)")
        counts = (str(speeds), str(torques), str(checks))
        return envelope(
            self.document.copy(),
            machine,
            torque,
            top_torque,
            top_speed,
            *counts,
            temperatures=temperatures,
            file=Path(file).absolute() if file else self.path,
        )

    @changes_drive
    def add_envelope(self, made: EnvelopeReport, name: str) -> str:
        """A card of what `envelope` made, which keeps where it comes from. Returns its id.

        >>> made = pendel.open_example("haul_drive").envelope(
        ...     "haul_machine", "torque_demand.out", "300 N*m", "600 rpm", speeds=3, torques=4)
        >>> pendel.Drive().add_envelope(made, "Haul drive")
        'haul_drive'
        """
        from pendel.core.envelope.report import adding

        command = adding(self.document, made, name)
        self.do(command)
        return command.changes[0].key

    @changes_drive
    def carry_envelope(self, made: EnvelopeReport) -> None:
        """Have the machine carry what `envelope` made, so that it stands for the machine, its converter and inner loops
        at the level *system*.

        Raises
        ------
        DriveProblem
            where it was made of another drive, its torque does not follow what is asked for in proportion, or the
            machine has no DC link.

        >>> haul = pendel.open_example("haul_drive")
        >>> haul.carry_envelope(haul.envelope(
        ...     "haul_machine", "torque_demand.out", "300 N*m", "600 rpm", speeds=3, torques=4))
        >>> haul.set("level", "system")
        >>> run = haul.run("40 ms")
        """
        from pendel.core.envelope.report import carrying

        self.do(carrying(self.document, made))

    def _plan_of(
        self,
        what: str | Mapping[str, Sequence[str | float]],
        figures: Sequence[str],
        combined: str,
        count: int,
        seed: int,
    ) -> tuple[Plan, str]:
        """A plan and its name: one of the drive, or of what varies. Raises `DriveProblem`."""
        from pendel.core.verbs.series import PASSING

        if isinstance(what, str):
            known_name("series", what, self.document.plans, self.document.title)
            return self.document.plans[what], what
        if not isinstance(what, Mapping):
            raise DriveProblem(f"{what!r:.80} does not say what varies. Write {{'K_p': [20, 30]}}, for instance.")
        varied = tuple(varied_of(target, values) for target, values in what.items())
        told = texts_of(figures, "figures", "max(door_motor.current)")
        return Plan(varied, combined, str(count), str(seed), told), PASSING

    def plan(
        self,
        name: str,
        what: Mapping[str, Sequence[str | float]],
        figures: Sequence[str] = (),
        *,
        combined: str = GRID,
        count: int = 64,
        seed: int = 1,
        traces: Sequence[str] = (),
    ) -> None:
        """Plan a series in the drive, which its file keeps: see `series`.

        >>> d.plan("Leaves", {"m_leaf": ("even", "60 kg", "120 kg", 4)}, ["peak(door_motor.current)"])
        >>> len(d.series("Leaves").run())
        4
        """
        plan = self._plan_of(what, figures, combined, count, seed)[0]
        plan = replace(plan, traces=texts_of(traces, "signals", "door_motor.current"))
        self.do(commands.set_plan(self.document, name, plan))
