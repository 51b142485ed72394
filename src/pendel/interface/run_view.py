"""A finished run, for scripts and notebooks."""

from __future__ import annotations

import math
import numbers
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import ArrayLike

from pendel.core.drive.document import Drive
from pendel.core.drive.file import excerpt
from pendel.core.drive.user_text import known_name, near_words, read_figure
from pendel.core.errors import DriveProblem
from pendel.core.quantities.units import si_unit_of, turn, unit
from pendel.interface.tables import html_table

if TYPE_CHECKING:
    import matplotlib.figure
    import pandas
    import xarray

    from pendel.core.runs.found.flows import EnergyFlows
    from pendel.core.runs.found.modes import ModeFigures, Modes
    from pendel.core.runs.found.spectra import Spectrum
    from pendel.core.runs.record.kept import KeptRun
    from pendel.core.runs.record.measures import Averages
    from pendel.core.runs.record.trace import Trace
    from pendel.core.runs.remarks.balance import Balance, Lost
    from pendel.core.trips.best import BestSplit


class NoSignal(DriveProblem, KeyError):
    """A run has no signal of a name."""

    def __str__(self) -> str:
        return str(self.args[0])


class Run(Mapping[str, "Trace"]):
    """A finished run: traces by the keys of signals. ``run["door_motor.speed"]`` gives times (s) and values
    in SI. In the examples it is a run of 0.1 s of the car door drive.

    Example
    -------
    >>> import pendel
    >>> run = pendel.open_example("car_door_drive").run(0.1)
    >>> "door_motor.speed" in run
    True
    >>> print(f"{run['door_motor.speed'].y_in('rpm')[-1]:.0f} rpm")
    541 rpm
    """

    def __init__(self, kept: KeptRun):
        self.kept = kept

    def __getitem__(self, key: str) -> Trace:
        """A signal's trace. Raises `DriveProblem`, which is a ``KeyError``, with a near name for one that
        there is not."""
        try:
            return self.kept.trace(key)
        except KeyError:
            raise NoSignal(f"The run has no signal “{key}”.{near_words(key, self.kept.keys)}") from None

    def keys(self) -> list[str]:  # type: ignore[override]
        """Signals that can be shown.

        >>> run.keys()[:2]
        ['supply.voltage', 'supply.current']
        """
        return self.kept.keys

    def __contains__(self, key: object) -> bool:
        return key in self.kept.keys

    def __iter__(self) -> Iterator[str]:
        return iter(self.kept.keys)

    def __len__(self) -> int:
        return len(self.kept.keys)

    def __eq__(self, other: object) -> bool:
        return self is other

    def __hash__(self) -> int:
        return id(self)

    def __repr__(self) -> str:
        return f"<Run of {self.kept.end:g} s, {self.kept.level}, {len(self)} signals>"

    def _repr_html_(self) -> str:
        """A table of its signals, for notebooks."""
        infos = self.kept.infos
        rows = ((key, infos[key].card, infos[key].label, infos[key].unit) for key in self if key in infos)
        return html_table(repr(self).strip("<>"), ("signal", "card", "what it is", "unit"), rows)

    def to_pandas(self, signals: Iterable[str] | None = None) -> pandas.DataFrame:
        """Signals as columns over the time (s), in SI, on the times of the first; the others are read there
        as `at`
        reads them. Needs pandas.

        >>> list(run.to_pandas(["door_motor.speed"]).columns)
        ['door_motor.speed']
        """
        import pandas

        keys = list(signals or self)
        times = self[keys[0]].t
        columns = {key: self._on(key, times) for key in keys}
        return pandas.DataFrame(columns, index=pandas.Index(times, name="time"))

    def to_xarray(self, signals: Iterable[str] | None = None) -> xarray.Dataset:
        """Signals as variables over ``time`` (s), in SI, with ``units`` and ``long_name``; on the times of
        the first.
        Needs xarray.

        >>> run.to_xarray(["door_motor.speed"])["door_motor.speed"].attrs["units"]
        'rad/s'
        """
        import xarray

        keys = list(signals or self)
        times = self[keys[0]].t
        variables = {}
        for key in keys:
            declared = self.kept.declared_unit(key)
            si = si_unit_of(unit(declared)[1], turn(declared))
            about = {"units": si, "long_name": self[key].label}
            variables[key] = ("time", self._on(key, times), about)
        return xarray.Dataset(variables, coords={"time": ("time", times, {"units": "s"})})

    def plot(self, *signals: str, beside: Sequence[Run] = ()) -> matplotlib.figure.Figure:
        """Signals below each other over the time, in the units they are shown in; over them those of other runs, by
        what they are called. Needs Matplotlib, and shows nothing by itself; the figure can be saved or displayed.

        >>> other = d.run()
        >>> figure = run.plot("door_motor.speed", "door_motor.current", beside=[other])
        >>> [len(axes.lines) for axes in figure.axes]
        [2, 2]
        """
        from matplotlib.figure import Figure

        keys = list(signals) or list(self)[:1]
        figure = Figure(figsize=(8, 1 + 1.8 * len(keys)), layout="constrained")
        axes = figure.subplots(len(keys), 1, sharex=True, squeeze=False)[:, 0]
        for axis, key in zip(axes, keys):
            unit = self[key].unit
            for run in (self, *beside):
                trace = run[key]
                called = run.kept.differs or run.kept.name
                style = "steps-post" if trace.sampled else "default"
                axis.plot(trace.t, trace.y_in(unit), drawstyle=style, label=called)
            axis.set_ylabel(f"{self[key].label}\n{unit}")
        if beside:
            axes[0].legend()
        axes[-1].set_xlabel("time, s")
        return figure

    def spectrum(self, key: str, start: float | str, end: float | str, *, fundamental: float = 0.0) -> Spectrum:
        """Lines of a signal between two times (s); see `pendel.core.runs.found.spectra.spectrum`. Raises `DriveProblem`
        for a time that there is not, and where a long run keeps averages only.

        >>> print(f"{run.spectrum('door_motor.current', 0.05, 0.1).mean:.1f} A")
        2.5 A
        """
        from pendel.core.runs.found.spectra import spectrum_of

        known_name("signal", key, self.kept.keys, f"The run {self.kept.name}")
        if not 0 <= fundamental < math.inf:
            raise DriveProblem(f"{fundamental:g} Hz is no fundamental. Write a frequency above 0 Hz.")
        return spectrum_of(self.kept, key, *self._span(start, end), fundamental=fundamental)

    def _time(self, at: float | str) -> float:
        """A time in s. Raises `DriveProblem` for what is none."""
        if isinstance(at, str):
            return read_figure(Drive(), at, "s", math.nan)
        if isinstance(at, numbers.Real):
            return float(at)
        raise DriveProblem(f"{excerpt(repr(at))} is no time. Write seconds, or a text such as “20 ms”.")

    def _span(self, first: float | str, last: float | str) -> tuple[float, float]:
        """The part of a span, in s or as text with a unit, that the run has. Raises `DriveProblem` where it has none or
        that is no time."""
        start, end = (self._time(at) for at in (first, last))
        begin, stop = self.kept.begin, self.kept.end
        if not (0 <= start < end < math.inf and start < stop and end > begin):
            raise DriveProblem(
                f"{start:g} s to {end:g} s is no span of the run, which lasts from {begin:g} s to {stop:g} s. Write "
                "the earlier time first."
            )
        return max(start, begin), min(end, stop)

    def measure(
        self,
        name: str,
        key: str,
        start: float | str,
        end: float | str,
        *,
        setpoint: str | None = None,
        band: float = 0.02,
    ) -> float:
        """A measure of a signal between two times (s), in SI; not-a-number where it means nothing there.

        ``name`` is one of `pendel.core.measures.MEASURES`, such as ``"rms"`` or ``"overshoot"``; measures of
        a response take the
        ``setpoint`` it follows, and the ``band`` (of the step, or of the target after a load) in which it settles.

        Raises
        ------
        DriveProblem
            for a name, signal or time that there is not.

        >>> print(f"{run.measure('rms', 'door_motor.current', 0.05, 0.1):.1f} A")
        2.8 A
        """
        from pendel.core.measures import MEASURES, Span

        known_name("measure", name, (m.id for m in MEASURES), "Pendel")
        if not 0 < band < 1:
            raise DriveProblem(f"A band of {band:g} is none. Take a share between 0 and 1, such as 0.05.")
        for each in (key, setpoint) if setpoint else (key,):
            known_name("signal", each, self.kept.keys, f"The run {self.kept.name}")
        value = MEASURES[name].value(Span(self.kept, key, *self._span(start, end), setpoint, band=band))
        return math.nan if value is None else value

    def averages(self, key: str, start: float | str, end: float | str) -> Averages:
        """Mean, rms and ripple (peak to peak) of a signal between two times (s).

        >>> print(f"{run.averages('door_motor.current', 0.05, 0.1).mean:.1f} A")
        2.5 A
        """
        from pendel.core.runs.record.measures import averages

        known_name("signal", key, self.kept.keys, f"The run {self.kept.name}")
        return averages(self.kept.pieces(key), *self._span(start, end))

    def losses(self, start: float | str, end: float | str) -> list[Lost]:
        """What each part lost between two times (s): mean power (W) and energy (J), the largest first.

        >>> run.losses(0.05, 0.1)[0].what
        'Door motor'
        """
        from pendel.core.runs.remarks.balance import losses

        return losses(self.kept, *self._span(start, end))

    def balance(self, start: float | str, end: float | str) -> Balance:
        """Where the energy went between two times (s): losses, what was delivered and stored, and whether it
        adds up.

        >>> energy = run.balance(0.05, 0.1)
        >>> abs(energy.open) < 1e-3 * energy.supplied
        True
        """
        from pendel.core.runs.remarks.balance import balance

        return balance(self.kept, *self._span(start, end))

    def flows(self, start: float | str, end: float | str) -> EnergyFlows:
        """Energy from part to part between two times (s): nodes with what came, went, was lost and stays, and the
        flows between them (J). The equations are built once more for it, which takes a second. Raises `DriveProblem`.

        >>> [(flow.source, flow.target) for flow in run.flows(0.05, 0.1).flows][:2]
        [('supply', 'bridge'), ('bridge', 'door_motor')]
        """
        from pendel.core.runs.found.flows import flows_of

        return flows_of(self.kept, *self._span(start, end))

    def best_split(
        self, start: float | str = 0.0, end: float | str | None = None, step: float | str = "1 s"
    ) -> BestSplit:
        """Of a trip with an engine, machines and a battery, between two times (s): the least fuel with which it can be
        driven to the same charge by any split of the power, in steps (s), and a way that takes little more
        (docs/trips.md). Raises `DriveProblem`.

        >>> trip = pendel.open_example("day_of_trips").run(195.0)
        >>> best = trip.best_split()
        >>> best.fuel_bound <= best.fuel < best.fuel_own
        True
        """
        from pendel.core.trips.best import best_split

        return best_split(self.kept, *self._span(start, self.kept.end if end is None else end), step)

    def modes(self, card: str) -> list[tuple[float, str, str]]:
        """When a state machine changed: time (s), the mode from then on, the condition by which it came, as written;
        empty for the first. Raises `DriveProblem`.

        >>> pendel.open_example("day_of_trips").run(60.0).modes("strategy")[0]
        (0.0, 'electric', '')
        """
        of = self._modes(card)
        return [(float(t), of.names[int(n)], why) for t, n, why in zip(of.begins, of.number, of.reasons)]

    def by_mode(
        self, card: str, power: str = "", start: float | str = 0.0, end: float | str | None = None
    ) -> list[ModeFigures]:
        """Of each mode of a state machine, between two times (s): time (s), how often it came, and the energy (J) of
        ``power``, a signal in W. Raises `DriveProblem`.

        >>> pendel.open_example("day_of_trips").run(60.0).by_mode("strategy")[0].came
        0
        """
        from pendel.core.runs.found.modes import by_mode

        if power:
            known_name("signal", power, self.kept.keys, f"The run {self.kept.name}")
        return by_mode(self.kept, self._modes(card), *self._span(start, self.kept.end if end is None else end), power)

    def _modes(self, card: str) -> Modes:
        from pendel.core.runs.found.modes import modes_of, state_machines

        known_name("state machine", card, state_machines(self.kept), f"The run {self.kept.name}")
        return modes_of(self.kept, card)

    @property
    def remarks(self) -> list[str]:
        """Sentences about what the run showed that wants attention.

        >>> run.remarks
        []
        """
        return [r.sentence for r in self.kept.remarks]

    @property
    def differences(self) -> list[tuple[str, float, float]]:
        """Of a run as shipped: how far signals of the controller were from those in float 64 for the same
        inputs, furthest first, as key, largest difference (SI) and that over the signal's span. Each is a
        signal of the run as well, ``KEY_off``.

        >>> d.set("controller", "as shipped")
        >>> d.run(0.01).differences[0][0]
        'travel_speed.out'
        """
        return self.kept.differences

    @property
    def lost_steps(self) -> dict[str, int]:
        """Of a run as shipped: at how many ticks a sum, ``block.state``, took no step in, as that was less than
        half a step of its word.

        >>> run.lost_steps
        {}
        """
        from pendel.core.runs.remarks.limited import LOST, counts_of

        return counts_of(self.kept, LOST)

    @property
    def limited(self) -> dict[str, int]:
        """Of a run as shipped: at how many ticks a signal, ``block.signal``, met the end of its range.

        >>> run.limited
        {}
        """
        from pendel.core.runs.remarks.limited import LIMITED, counts_of

        return counts_of(self.kept, LIMITED)

    def at(self, key: str, times: ArrayLike) -> np.ndarray:
        """Values of a signal at given times (s): held for sampled signals, linear between steps for
        others.

        >>> print(run.at("door_leaf.speed", [0.05, 0.1]).round(3))
        [0.    0.023]
        """
        return self[key].at(np.asarray(times, dtype=float))

    def _on(self, key: str, times: np.ndarray) -> np.ndarray:
        """A signal on the times of another; its own values where these are its own, which has two at a jump."""
        trace = self[key]
        return trace.y if np.array_equal(trace.t, times) else self.at(key, times)

    def save(self, path: str | Path, signals: list[str] | None = None, units: Mapping[str, str] | None = None) -> None:
        """Traces as ``.csv``, ``.h5``, ``.mat`` or ``.mf4``, by the ending of ``path``. ``units`` gives single signals
        in others than those they are shown in, such as ``{"door_motor.speed": "rpm"}``, in this file alone.

        Raises
        ------
        DriveProblem
            where a unit is of another kind, or there is no such signal.
        FileProblem
            where the file cannot be written.

        >>> import tempfile
        >>> run.save(tempfile.mkdtemp() + "/door.csv", ["door_motor.speed"], units={"door_motor.speed": "rpm"})
        """
        from pendel.core.formats.traces import save_traces

        keys, shown = signals or self.keys(), self.kept.units
        for key in (*keys, *(units or {})):
            known_name("signal", key, self.kept.keys, f"The run {self.kept.name}")
        own = replace(shown, chosen=dict(shown.chosen))
        for key, unit_text in (units or {}).items():
            own.choose(key, self.kept.declared_unit(key), unit_text)
        try:
            self.kept.units = own
            save_traces([self.kept], keys, Path(path))
        finally:
            self.kept.units = shown
