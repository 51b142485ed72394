"""Kept runs: what a run recorded, with the drive's own text, as an HDF5 file that explains itself."""

from __future__ import annotations

import json
import math
import time
from collections.abc import Callable, Iterable, Sequence
from dataclasses import astuple, dataclass, field, fields, replace
from datetime import datetime
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np

from pendel.core.drive.findings import Remark
from pendel.core.errors import DriveProblem, FileProblem
from pendel.core.files.hdf import opened
from pendel.core.freed import bytes_of
from pendel.core.plant.program import BALANCE, Outcome, Structure
from pendel.core.plant.rows import BETWEEN, BOTH, HALF_WAY, Refined, last_before
from pendel.core.runs.record.condensed import Condensed
from pendel.core.runs.record.content import CONDENSED, Content, content_here
from pendel.core.runs.record.display_units import ShownUnits
from pendel.core.runs.record.evaluating import HERE, Evaluator
from pendel.core.runs.record.measures import Pieces, cut_at_turns, window
from pendel.core.runs.record.trace import Trace

FORMAT_VERSION = 1


IN_FILES = {"transitions": "exits", "hold_sticks": "hold_rests"}
"""Names that files have for facts of a structure, where these were given others."""
IN_STRUCTURE = {name: of for of, name in IN_FILES.items()}


@dataclass(frozen=True)
class SignalInfo:
    """``card`` is the card's name as shown."""

    key: str
    card: str
    label: str
    unit: str

    @property
    def card_key(self) -> str:
        return self.key.partition(".")[0]


@dataclass(frozen=True)
class SwitchingLoss:
    """A device whose switching energies a run tells: its keys, and the energies of turning on and off and of
    its diode's recovery (J), given at a voltage and a current, and the transition time (s)."""

    card: str
    name: str
    gate: str
    current: str
    voltage: str
    partner: str
    e_on: float
    e_off: float
    e_rec: float
    transition: float
    u_ref: float
    i_ref: float

    @property
    def key(self) -> str:
        return f"{self.card}.switching_energy" + (f"_{self.name.replace(' ', '_')}" if self.name else "")


WORKED_OUT = ("expanded", "half_way", "times", "_signals", "_between", "switchings")
"""What is computed from a run's rows and kept for the next time."""


@dataclass(eq=False)
class KeptRun:
    """A run as recorded. Signals are computed from states when first asked for. A run that is `release`d is as it was;
    its rows come from its file again, and the rest is computed anew."""

    name: str
    rows: np.ndarray
    ticks: np.ndarray
    structure: Structure
    parameters: np.ndarray
    tick_signals: list[str]
    tick: float
    delay: int
    infos: dict[str, SignalInfo]
    outcome: Outcome
    message: str
    counters: dict[str, int]
    drive_text: str
    settings: dict[str, float]
    differs: str = ""
    level: str = "averaged"
    seconds: float = 0.0
    thinned_until: float = 0.0
    """Until this time (s) the record was thinned."""
    remarks: list[Remark] = field(default_factory=list)
    """What the run showed that wants attention."""
    devices: list[SwitchingLoss] = field(default_factory=list)
    """Devices whose switching energies the run tells."""
    pulse_frequencies: tuple[float, ...] = ()
    """Hz, of the converters whose pulses the run has."""
    made: str = field(default_factory=lambda: datetime.now().isoformat(timespec="seconds"))
    condensed: Condensed | None = None
    """Averages of what was thinned."""
    first_tick: int = 0
    """Number of the first of its ticks; above 0 where it is the latest part of a live run."""
    differences: list[tuple[str, float, float]] = field(default_factory=list)
    """Of a run as shipped: key of a signal, its largest difference from float 64 (SI), and that over its span;
    furthest first."""
    file: Path | None = None
    """Where it is kept; its name is an id, whatever the run is called."""
    units: ShownUnits = field(default_factory=ShownUnits)
    """In which signals are shown."""
    evaluator: Evaluator = field(default=HERE, repr=False)
    """Where its signals are evaluated."""
    refined_in: float = 0.0
    """s: how long it took at most to find its points between rows, once that is done."""
    reader: Callable[[Path], Content] | None = field(default=None, repr=False)
    """What reads its file again; without one its rows stay."""
    shown: bool = False
    """Whether a view shows it."""
    used_at: float = 0.0
    """When something was computed for it last, by `time.monotonic`."""
    thinned_to: float = 0.0
    """s between two points of what was thinned, where the run was just made."""
    ends: tuple[float, float] = (0.0, 0.0)
    """s: where its record begins and ends, once it was released."""

    def __getattr__(self, name: str) -> Any:
        """Rows and ticks that were released. Raises `FileProblem` where the file cannot be read any more."""
        file, reader = self.__dict__.get("file"), self.__dict__.get("reader")
        if name not in ("rows", "ticks") or file is None or reader is None:
            raise AttributeError(name)
        again = load(file, reader)
        self.__dict__.setdefault("rows", again.rows)
        self.__dict__.setdefault("ticks", again.ticks)
        return self.__dict__[name]

    @property
    def held_bytes(self) -> int:
        """Of arrays that `release` lets go."""
        return sum(bytes_of(self.__dict__[name]) for name in self._released() if name in self.__dict__)

    def _released(self) -> tuple[str, ...]:
        return (*WORKED_OUT, "rows", "ticks") if self.file is not None and self.reader is not None else WORKED_OUT

    def release(self) -> None:
        """Let go what can be had again. Who works with an array of it at the moment keeps that."""
        self.ends = self.begin, self.end
        for name in self._released():
            self.__dict__.pop(name, None)

    @cached_property
    def expanded(self) -> np.ndarray:
        """Rows as traces show them: both sides of each jump, curved steps with points between."""
        return self._refined(BETWEEN).rows

    @property
    def is_expanded(self) -> bool:
        return "expanded" in self.__dict__

    @cached_property
    def half_way(self) -> np.ndarray:
        """Rows half way between those of `expanded`, one fewer. Made when a figure wants them, as traces come
        first."""
        return self._refined(HALF_WAY).half_way

    def refine(self) -> None:
        """Find rows between and half way in one go, where both are wanted; else the one is found, then the other."""
        if "expanded" not in self.__dict__ and "half_way" not in self.__dict__:
            refined = self._refined(BOTH)
            self.__dict__["expanded"], self.__dict__["half_way"] = refined.rows, refined.half_way

    def _refined(self, which: int) -> Refined:
        begun = time.perf_counter()
        refined = self.evaluator.refined(
            self.structure,
            self.rows,
            self.parameters,
            thinned_until=self.thinned_until,
            straight="load" in self.settings,  # only fixed steps have one
            which=which,
        )
        self.refined_in = max(self.refined_in, time.perf_counter() - begun)
        return refined

    @cached_property
    def times(self) -> np.ndarray:
        """s, of `expanded`, in one piece, since each trace is searched by them."""
        return np.ascontiguousarray(self.expanded[:, 0])

    def missing(self, keys: Iterable[str]) -> list[str]:
        """Those of the plant's signals that are not computed yet."""
        return [k for k in dict.fromkeys(keys) if k in self.structure.signals and k not in self._signals]

    def fetch(self, keys: Iterable[str]) -> dict[str, np.ndarray]:
        """Compute several of the plant's signals in one go; those known already are left. Gives what is known, which
        stays to who asks, also where the run is released meanwhile."""
        signals, self.used_at = self._signals, time.monotonic()
        wanted = [k for k in dict.fromkeys(keys) if k in self.structure.signals and k not in signals]
        if wanted:
            columns = self.evaluator.signals(self.structure, self.expanded, self.parameters, wanted)
            signals.update(zip(wanted, np.ascontiguousarray(columns.T)))
        return signals

    def on_rows(self, keys: Sequence[str], places: np.ndarray | slice) -> np.ndarray:
        """Signals of the plant at some of the recorded rows alone, shape (len(places), len(keys)). Unlike
        `trace` this does not refine the record, which takes as long as a run."""
        return self.evaluator.signals(self.structure, self.rows[places], self.parameters, list(keys))

    def on_ticks(self, keys: Sequence[str], ticks: np.ndarray) -> np.ndarray:
        """Signals of the control deck at some ticks, by their numbers; shape (len(ticks), len(keys))."""
        return self.ticks[ticks - self.first_tick][:, [self.tick_signals.index(key) for key in keys]]

    def rows_at(self, times: np.ndarray) -> np.ndarray:
        """Places of the last rows at or before times (s)."""
        return last_before(self.rows, times + 1e-12)

    def rows_of(self, ticks: np.ndarray) -> np.ndarray:
        """Places of the rows at ticks, by their numbers, from 0 up to one beyond the last."""
        return self.rows_at(ticks * self.tick)

    def pieces(self, key: str) -> Pieces:
        """A signal as what its averages are taken over. Raises KeyError where the run has no such signal."""
        trace = self.trace(key)
        if trace.sampled:
            end = max(self.end, float(trace.t[-1])) if len(trace.t) else self.end
            return Pieces(np.append(trace.t, end), np.append(trace.y, trace.y[-1:]))
        middle = self.fetch_between([key])[key]
        if self.declared_unit(key) == "rad":
            pieces = cut_at_turns(trace.t, trace.y, middle)
        else:
            pieces = Pieces(trace.t, trace.y, middle)
        before = self.condensed.column(self.structure.signals.index(key)) if self.condensed else None
        return replace(pieces, before=before)

    def extremes(self, key: str, start: float, end: float) -> tuple[float, float]:
        """The lowest and the highest value (SI) of a signal between two times (s), also where its record was
        thinned. Raises KeyError where the run has no such signal."""
        trace = self.trace(key)
        values = window(*trace.drawn, start, end)[1]
        if self.condensed and key in self.structure.signals:
            early = self.condensed.column(self.structure.signals.index(key)).extremes(start, end)
            values = np.append(values, early)
        return float(np.min(values)), float(np.max(values))

    def must_be_whole(self, key: str, start: float, what: str) -> None:
        """Raise `DriveProblem` where a signal is thinned at ``start`` (s), from which on ``what`` is computed."""
        if self.condensed is not None and key in self.structure.signals:
            until = float(self.condensed.edges[-1])
            if start < until:
                raise DriveProblem(
                    f"The run was long and keeps averages only until {until:.4g} s, so {what} of that time cannot be "
                    "computed. Look at it from there on, or run a shorter time."
                )

    def missing_between(self, keys: Iterable[str]) -> list[str]:
        """Those of the plant's signals that are not computed half way between points yet."""
        return [k for k in dict.fromkeys(keys) if k in self.structure.signals and k not in self._between]

    def fetch_between(self, keys: Iterable[str]) -> dict[str, np.ndarray]:
        """Compute several of the plant's signals half way between the points of their traces, in one go; as `fetch`."""
        between, self.used_at = self._between, time.monotonic()
        wanted = [k for k in dict.fromkeys(keys) if k in self.structure.signals and k not in between]
        if wanted:
            columns = self.evaluator.signals(self.structure, self.half_way, self.parameters, wanted)
            between.update(zip(wanted, np.ascontiguousarray(columns.T)))
        return between

    @cached_property
    def _signals(self) -> dict[str, np.ndarray]:
        return {}

    @cached_property
    def _between(self) -> dict[str, np.ndarray]:
        return {}

    @cached_property
    def switchings(self) -> dict[str, tuple[np.ndarray, np.ndarray]]:
        """By signal key: times (s) and energies (J) of each switching of a device."""
        from pendel.core.runs.record.device_events import energies_of  # it works on kept runs itself

        switchings = energies_of(self, self.devices, self.evaluator.signals)
        if self.condensed is not None:
            for number, device in enumerate(self.devices):
                t, e = switchings[device.key]
                late = t > self.thinned_until
                early = self.condensed.edges[1:], self.condensed.switched[:, number]
                switchings[device.key] = np.append(early[0], t[late]), np.append(early[1], e[late])
        return switchings

    @property
    def keys(self) -> list[str]:
        """What can be shown: signals of the plant but for those of the energy balance, switching energies,
        control signals."""
        shown = (k for k in self.structure.signals if k.partition(":")[0] not in BALANCE)
        return [*shown, *(d.key for d in self.devices), *self.tick_signals]

    def declared_unit(self, key: str) -> str:
        return self.infos[key].unit if key in self.infos else ""

    def trace(self, key: str) -> Trace:
        """A signal by key ``card.signal``.

        Raises
        ------
        KeyError
            when the run has no such signal.
        """
        info = self.infos.get(key) or SignalInfo(key, key.split(".")[0], key, "")
        declared, info = info.unit, replace(info, unit=self.units.of(key, info.unit))
        if key in self.tick_signals:
            column = self.tick_signals.index(key)
            return Trace(key, info.label, info.unit, self.tick_times, self.ticks[:, column], True, declared)
        if key in self.structure.signals:
            times = self.times
            signals = self._signals  # which stays, also where the run is released meanwhile
            self.fetch([key])
            return Trace(key, info.label, info.unit, times, signals[key], False, declared)
        device = next((d for d in self.devices if d.key == key), None)
        if device is not None:
            t, e = self.switchings[key]
            total = np.concatenate([[0.0], np.cumsum(e), [np.sum(e)]])
            return Trace(key, info.label, info.unit, np.concatenate([[self.begin], t, [self.end]]), total, True)
        raise KeyError(f"The run {self.name} has no signal {key}.")

    @property
    def tick_times(self) -> np.ndarray:
        """s, of its ticks."""
        return (self.first_tick + np.arange(len(self.ticks))) * self.tick

    @property
    def begin(self) -> float:
        """s; above 0 where it is the latest part of a live run."""
        if "rows" not in self.__dict__:
            return self.ends[0]
        return float(self.rows[0, 0]) if len(self.rows) else 0.0

    @property
    def end(self) -> float:
        if "rows" not in self.__dict__:
            return self.ends[1]
        return float(self.rows[-1, 0]) if len(self.rows) else 0.0


def save(run: KeptRun, path: Path) -> None:
    """Write a run.

    Raises
    ------
    FileProblem
    """
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        with opened(path, "w") as file:
            file.attrs["format"] = "pendel run"
            file.attrs["version"] = FORMAT_VERSION
            file.create_dataset("rows", data=run.rows)
            file.create_dataset("ticks", data=run.ticks)
            file.create_dataset("parameters", data=run.parameters)
            file.attrs["facts"] = json.dumps(facts(run))
            file.create_dataset("drive", data=run.drive_text)
            file.create_dataset("equations", data=run.structure.source)
            if run.condensed is not None:
                for name in CONDENSED:
                    file.create_dataset(f"condensed/{name}", data=getattr(run.condensed, name))
        run.file = path
    except (OSError, RuntimeError) as problem:
        raise FileProblem(
            str(path),
            f"the run cannot be kept: {getattr(problem, 'strerror', None) or problem}. Free some space or "
            "choose another folder.",
        ) from problem


def facts(run: KeptRun) -> dict:
    s = run.structure
    return {
        "name": run.name,
        "tick_signals": run.tick_signals,
        "tick": run.tick,
        "delay": run.delay,
        "outcome": int(run.outcome),
        "message": run.message,
        "counters": run.counters,
        "settings": run.settings,
        "differs": run.differs,
        "level": run.level,
        "seconds": run.seconds,
        "thinned_until": run.thinned_until,
        "first_tick": run.first_tick,
        "remarks": [astuple(r) for r in run.remarks],
        "devices": [astuple(d) for d in run.devices],
        "differences": [list(each) for each in run.differences],
        "made": run.made,
        "pulse_frequencies": list(run.pulse_frequencies),
        "infos": {k: [i.card, i.label, i.unit] for k, i in run.infos.items()},
        "structure": {
            IN_FILES.get(n, n): getattr(s, n)
            for n in (
                "state_keys",
                "commands",
                "profile_keys",
                "mode_keys",
                "parameter_keys",
                "signals",
                "measured",
                "transitions",
                "hold_modes",
                "hold_sticks",
                "mode_starts",
                "demoted_keys",
                "steady_jacobian",
            )
        },
    }


def relabel(run: KeptRun, label: str) -> None:
    """Give a run another label, in its file too when it has one.

    Raises
    ------
    FileProblem
    """
    run.differs = label
    if run.file is not None and run.file.is_file():
        try:
            with opened(run.file, "r+") as file:
                file.attrs["facts"] = json.dumps(facts(run))
        except (OSError, RuntimeError) as problem:
            raise FileProblem(
                str(run.file),
                f"the new name cannot be kept: {getattr(problem, 'strerror', None) or problem}.",
            ) from problem


def tuples(value: Any) -> Any:
    return tuple(tuples(v) for v in value) if isinstance(value, list) else value


def load(path: Path, read: Callable[[Path], Content] = content_here) -> KeptRun:
    """Read a kept run of this process's own making: the equations in it will be compiled as they stand.

    A file from elsewhere is for `pendel.core.runs.preparing.simulate.reopen`, which trusts no code in it. ``read`` says
    where the library reads it that a damaged one may hold up or end.

    Raises
    ------
    FileProblem
        when the file is damaged or of another kind.
    """
    try:
        if not path.is_file():
            raise FileProblem(str(path), "there is no such file, or it is a device. Choose a kept run.")
        return _read(path, read(path))
    except FileProblem:
        raise
    except MemoryError as problem:
        raise FileProblem(str(path), "the kept run is too large for this computer's memory.") from problem
    except Exception as problem:  # the file's boundary: whatever a damaged one makes a library raise
        reason = " ".join(str(problem).split())[:200]
        raise FileProblem(
            str(path),
            f"the kept run cannot be read ({reason or type(problem).__name__}). Delete it or run again.",
        ) from problem


def _read(path: Path, content: Content) -> KeptRun:
    if content.texts["format"] != "pendel run":
        raise FileProblem(str(path), "this is not a kept run of Pendel.")
    f, arrays = json.loads(content.texts["facts"]), content.arrays
    structure = Structure(
        **{IN_STRUCTURE.get(n, n): tuples(v) for n, v in f["structure"].items()},
        source=content.texts["equations"],
    )
    infos = {str(k): SignalInfo(str(k), *texts(i, 3)) for k, i in f["infos"].items()}
    condensed = Condensed(*(arrays[n] for n in CONDENSED)) if CONDENSED[0] in arrays else None
    run = KeptRun(
        text(f["name"]),
        arrays["rows"],
        arrays["ticks"],
        structure,
        arrays["parameters"],
        texts(f["tick_signals"]),
        number(f["tick"]),
        int(number(f["delay"])),
        infos,
        Outcome(f["outcome"]),
        text(f["message"]),
        {str(k): int(number(v)) for k, v in f["counters"].items()},
        content.texts["drive"],
        {str(k): number(v) for k, v in f["settings"].items()},
        text(f["differs"]),
        text(f["level"]),
        number(f["seconds"]),
        number(f.get("thinned_until", 0.0)),
        [Remark(*checked(r, Remark)) for r in f.get("remarks", [])],
        [SwitchingLoss(*checked(d, SwitchingLoss)) for d in f.get("devices", [])],
        tuple(number(v) for v in f.get("pulse_frequencies", ())),
        text(f["made"]),
        condensed,
        int(number(f.get("first_tick", 0))),
        [(text(key), number(gap), number(share)) for key, gap, share in f.get("differences", [])],
        path,
    )
    if run.ticks.shape[1] != len(run.tick_signals):
        if len(run.ticks):
            raise ValueError("its ticks are not those of its signals")
        run.ticks = np.zeros((0, len(run.tick_signals)))
    if run.rows.size and not (np.all(np.diff(run.rows[:, 0]) >= 0) and math.isfinite(run.rows[-1, 0])):
        raise ValueError("its time does not go forward")
    if run.outcome is Outcome.DONE and not np.all(np.isfinite(run.rows)):
        raise ValueError("it is said to have ended well, yet holds what is no number")
    if run.first_tick < 0:
        raise ValueError("its ticks begin before its time")
    if not (run.tick > 0 and math.isfinite(run.tick)):
        raise ValueError("its sampling period is none")
    return run


def text(value: object) -> str:
    if not isinstance(value, str):
        raise ValueError("what should be a text is none")
    return value


def texts(value: object, count: int | None = None) -> list[str]:
    if not isinstance(value, list) or (count is not None and len(value) != count):
        raise ValueError("what should be a list of texts is none")
    return [text(each) for each in value]


def number(value: object) -> float:
    if isinstance(value, bool) or not isinstance(value, int | float) or not math.isfinite(value):
        raise ValueError("what should be a number is none")
    return float(value)


def checked(values: list, kind: type[Remark] | type[SwitchingLoss]) -> list:
    """Fields of a record, each a text or a number as the record wants it."""
    wanted = [f.type for f in fields(kind)]
    if not isinstance(values, list) or not len(values) <= len(wanted):
        raise ValueError("a record of a run is incomplete")
    return [text(v) if w == "str" else number(v) for v, w in zip(values, wanted)]
