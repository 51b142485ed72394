"""The controller as shipped C: written, built with warnings as errors, and checked against the simulation."""

from __future__ import annotations

import contextlib
import ctypes
import re
import tempfile
import zlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property, lru_cache
from pathlib import Path

import numpy as np

from pendel.core.bench.description import describe
from pendel.core.controllers.deck import ControlDeck
from pendel.core.controllers.emit import simulation_values
from pendel.core.controllers.numbers.lowering import Choices, Lowered, lower
from pendel.core.controllers.numbers.representation import NumberFormat
from pendel.core.controllers.numbers.source import LICENCE, Files, files, shipped_alone
from pendel.core.drive.document import Drive
from pendel.core.drive.file import from_text
from pendel.core.errors import BuildProblem, FileProblem, PendelError
from pendel.core.files.writing import write_atomically
from pendel.core.firmware.a2l import a2l_of
from pendel.core.firmware.board_sources import board_sources
from pendel.core.firmware.document import document_of
from pendel.core.firmware.findings import findings_of
from pendel.core.firmware.readme import readme, stamped
from pendel.core.firmware.typed_c import refused_typed_c, watch_typed_c
from pendel.core.last_few import LastFew
from pendel.core.plant.compiler import compiler, other_compiler, run_compiler
from pendel.core.plant.runtime import address, load, pointer, time_loop
from pendel.core.runs.preparing.simulate import prepare, signal_infos
from pendel.core.runs.record.kept import KeptRun

STRICT = (
    "-std=c99",
    "-O2",
    "-Wall",
    "-Wextra",
    "-Werror",
    "-pedantic",
    "-Wno-unused-function",
    "-Wno-type-limits",  # a limit may lie beyond a narrow word, so that a comparison is always true
    "-ffp-contract=off",
)
"""Flags of the build of what is shipped."""
STRICTER = "-Wconversion"
"""Besides, where no C of a user's own is part of it."""
EXACT = ("-std=c99", "-ffp-contract=off", "-shared", "-fPIC")


def within_a_turn(angle: np.ndarray) -> np.ndarray:
    """An angle (rad) without whole turns, from −π to π."""
    return np.remainder(angle + np.pi, 2.0 * np.pi) - np.pi


@dataclass(frozen=True)
class Compared:
    """One signal of the shipped code against the same controller in float64, over all ticks."""

    signal: str
    shipped: np.ndarray
    simulated: np.ndarray
    angle: bool = False
    """Whether it wraps, so that whole turns are no difference."""

    @property
    def gap(self) -> np.ndarray:
        gap = self.shipped - self.simulated
        return within_a_turn(gap) if self.angle else gap

    @cached_property
    def largest(self) -> float:
        return float(np.max(np.abs(self.gap))) if len(self.shipped) else 0.0

    @cached_property
    def span(self) -> float:
        return float(np.ptp(self.simulated)) if len(self.simulated) else 0.0


@dataclass(frozen=True)
class Checked:
    """What *Build and check* found out.

    ``compared`` has both controllers fed with the run's inputs, where an integral drifts; ``closed``, where it was
    asked for, each in its own closed loop: the rms difference over the signal's span. ``unlike`` names builds whose
    answers differ from the simulation's by a bit, with the first tick and signal; ``watched`` says whether typed C ran
    under the compiler's checks of undefined behaviour; none where there is no typed C.
    """

    compiler: str
    code_bytes: int
    data_bytes: int
    lines: int
    ticks: int
    compared: tuple[Compared, ...]
    builds: tuple[str, ...] = ()
    unlike: tuple[str, ...] = ()
    watched: bool | None = None
    closed: Mapping[str, float] = field(default_factory=dict)


def write_sources(lowered: Lowered, folder: Path, drive: Drive | None = None, *, board: bool = False) -> list[Path]:
    """Write source, header, example main and the library beside. Returns what was written: an example of which somebody
    has made their own main stays as it is.

    Parameters
    ----------
    drive
        of which there are a page on how to call them, one about their numbers and a description for other tools too,
        and which they name in their first lines.
    board
        also writes the slave by which a board is watched and changed.

    Raises
    ------
    FileProblem
    """
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as problem:
        raise FileProblem(str(folder), f"the folder cannot be made: {problem.strerror}.") from problem
    texts = files(lowered).texts
    texts[EXAMPLE] = marked(texts[EXAMPLE])
    if is_changed(folder / EXAMPLE, texts[EXAMPLE]):
        del texts[EXAMPLE]
    if drive is not None:
        units = {key: info.unit for key, info in signal_infos(drive).items()}
        for file in (f"{lowered.name}.c", f"{lowered.name}.h"):
            texts[file] = stamped(texts[file], drive)
        texts[f"{lowered.name}.md"] = readme(lowered, drive, units)
        texts[f"{lowered.name}.html"] = document_of(lowered, units, findings_of(drive, lowered))
        texts[f"{lowered.name}.a2l"] = a2l_of(lowered, describe(drive, lowered))
    if board:
        texts |= board_sources(lowered)
    paths = [folder / name for name in texts]
    for path in paths:
        leave_others_alone(path)
    for path, text in zip(paths, texts.values()):
        write_atomically(path, text)
    return paths


EXAMPLE = "main.c"
AS_WRITTEN = re.compile(r"/\* As written: ([0-9a-f]{8}) \*/\n\Z")


def marked(example: str) -> str:
    """The example with a line by which it is seen later whether somebody has changed it."""
    return f"{example}/* As written: {zlib.crc32(example.encode()):08x} */\n"


def is_changed(path: Path, new: str) -> bool:
    """Whether a main is there that is another than any that was written here. The example says where converters are to
    be read, so it is meant to be changed."""
    try:
        there = path.read_bytes().decode("utf-8", "replace")
    except OSError:
        return path.exists()
    mark = AS_WRITTEN.search(there)
    return there != new and not (mark and marked(there[: mark.start()]) == there)


OURS = (LICENCE, "file is yours, free of any condition.")
"""What the first lines of our files say."""


def leave_others_alone(path: Path) -> None:
    """Raise `FileProblem` where a file is none of ours, which the first lines of ours say."""
    try:
        head = path.read_bytes()[:400] if path.exists() else LICENCE.encode()
    except OSError as problem:
        raise FileProblem(str(path), f"it cannot be looked at: {problem.strerror}.") from problem
    if not any(words.encode() in head for words in OURS):
        raise FileProblem(
            str(path),
            "it was not written by Pendel, so it is left as it is. Move it, or choose another folder.",
        )


def build_strictly(shipped: Files) -> int:
    """Compile exactly what would be saved, warnings as errors; returns the size of the code in bytes.

    Raises
    ------
    BuildProblem
    """
    with tempfile.TemporaryDirectory() as work:
        folder = Path(work)
        for file, text in shipped.texts.items():
            (folder / file).write_text(text)
        flags = STRICT if shipped.own_c else (*STRICT, STRICTER)
        names = (f"{shipped.name}.c", "pd_numbers.c", "main.c", f"{shipped.name}_table.c")
        sources = [str(folder / name) for name in names]
        run_compiler([*compiler(), *flags, *sources, "-o", str(folder / "example"), "-lm"])
        target = folder / "part.o"
        run_compiler([*compiler(), *flags, "-c", sources[0], "-o", str(target)])
        return target.stat().st_size


def inputs_of(lowered: Lowered, run: KeptRun) -> np.ndarray:
    """What a controller's inputs were in a run, SI, shape (ticks, inputs).

    Raises
    ------
    BuildProblem
        when the run does not fit the deck as it is now.
    """
    missing = [i.signal for i in lowered.inputs if i.signal not in run.keys]
    if missing:
        raise BuildProblem(f"The run {run.name} has no signal {missing[0]}. Run the drive once more, then check.")
    ticks = len(run.ticks)
    times = run.tick_times
    columns = [run.trace(i.signal) for i in lowered.inputs]
    if not columns:
        return np.zeros((ticks, 1))
    return np.column_stack([c.y if c.sampled else np.interp(times, c.t, c.y) for c in columns])


def signals_of(lowered: Lowered) -> list[str]:
    return [f"{b.name}.{p}" for b in lowered.blocks for p in b.tree.outputs]


def build_and_check(lowered: Lowered, run: KeptRun) -> Checked:
    """Build the shipped code, feed it with what its inputs were in a run, and compare it with the same
    controller in float64; and to the bit with builds of other optimisation.

    Raises
    ------
    BuildProblem
        when the compiler refuses, typed C does what C leaves undefined, or the run does not fit the deck as it
        is now.
    """
    shipped = files(lowered)
    try:
        size = build_strictly(shipped)
    except BuildProblem as problem:
        if sentence := refused_typed_c(lowered, shipped.source, str(problem)):
            raise BuildProblem(sentence) from problem
        raise
    inputs, signals = inputs_of(lowered, run), signals_of(lowered)
    watched = watch_typed_c(lowered, inputs) if shipped.own_c else None
    text = shipped_alone(lowered)
    plain, data = replay(load(text), inputs, len(signals))
    unlike, builds = [], []
    for command in filter(None, (compiler(), other_compiler())):
        for optimisation in ("-O0", "-O2"):
            builds.append(f"{Path(command[0]).name} {optimisation}")
            again, _ = replay(built_apart(command, text, optimisation), inputs, len(signals))
            unlike += first_difference(plain, again, signals, builds[-1])
    if ran_as_shipped(run, text):
        unlike += first_difference(plain, recorded(run, signals, len(inputs)), signals, f"the run {run.name}")
    compared = beside_float64(lowered, plain, run)
    lines = shipped.source.count("\n") + shipped.header.count("\n")
    return Checked(
        Path(compiler()[0]).name,
        size,
        data,
        lines,
        len(inputs),
        compared,
        tuple(builds),
        tuple(unlike),
        watched,
    )


def beside_float64(lowered: Lowered, given: np.ndarray, run: KeptRun) -> tuple[Compared, ...]:
    """A controller's signals beside those that it gives in float64 for the inputs of a run."""
    exact, angles = exact_for(lowered, run), angles_of(lowered)
    return tuple(Compared(s, given[:, k], exact[:, k], s in angles) for k, s in enumerate(signals_of(lowered)))


def exact_for(lowered: Lowered, run: KeptRun) -> np.ndarray:
    """What a controller's signals are in float64 for the inputs of a run, shape (ticks, signals)."""
    plain = in_float64(lowered.deck)
    return replay(library_of(plain), inputs_of(plain, run), len(signals_of(lowered)))[0]


def angles_of(lowered: Lowered) -> set[str]:
    """Signals that wrap."""
    return {f"{b.name}.{n}" for b in lowered.blocks for n in b.tree.angles}


def compare(lowered: Lowered, run: KeptRun) -> tuple[Compared, ...]:
    """A controller's signals for the inputs of a run, beside those in float64. Raises `BuildProblem`."""
    inputs = inputs_of(lowered, run)
    given = replay(load(shipped_alone(lowered)), inputs, len(signals_of(lowered)))[0]
    return beside_float64(lowered, given, run)


def ran_as_shipped(run: KeptRun, text: str) -> bool:
    """Whether a run had this very controller inside."""
    drive = from_text(run.drive_text, run.name)
    if drive.settings["controller"] != "as shipped":
        return False
    with contextlib.suppress(PendelError):
        return shipped_alone(prepare(drive).lowered) == text
    return False


KNOWN_IN_FLOAT64 = 8
_in_float64: LastFew[tuple[object, ...], Lowered] = LastFew(KNOWN_IN_FLOAT64)


def in_float64(deck: ControlDeck) -> Lowered:
    """The controller in float64, with which others are compared. It is known again by its form and its values."""
    key = deck.form, tuple(b.title for b in deck.blocks), tuple(simulation_values(deck, seed=1))
    return _in_float64.get(key) or _in_float64.keep(key, lower(deck, Choices(NumberFormat.FLOAT64)))


@lru_cache(maxsize=KNOWN_IN_FLOAT64)
def library_of(lowered: Lowered) -> ctypes.CDLL:
    """A controller's code, loaded; that of one of the last is not written again."""
    return load(shipped_alone(lowered))


def recorded(run: KeptRun, signals: Sequence[str], ticks: int) -> np.ndarray:
    """The controller's signals as a run recorded them, shape (ticks, signals); NaN where it did not."""
    if len(run.ticks) == ticks and set(signals) <= set(run.tick_signals):
        return run.ticks[:, [run.tick_signals.index(signal) for signal in signals]]
    columns = np.full((ticks, len(signals)), np.nan)
    for k, signal in enumerate(signals):
        if signal in run.keys and len(trace := run.trace(signal).y) == ticks:
            columns[:, k] = trace
    return columns


def first_difference(a: np.ndarray, b: np.ndarray, signals: Sequence[str], build: str) -> list[str]:
    """Where two records of the same signals first differ in a bit; nothing where they do not."""
    other = np.isfinite(b) & (a.view(np.int64) != b.view(np.int64)) & ~((a == 0.0) & (b == 0.0))
    if not np.any(other):
        return []
    tick, k = np.argwhere(other)[0]
    return [f"{build}: {signals[k]} at tick {tick} is {b[tick, k]:.9g}, not {a[tick, k]:.9g}"]


def built_apart(command: Sequence[str], text: str, optimisation: str) -> ctypes.CDLL:
    """A library by a compiler and with flags of its own. Raises `BuildProblem`."""
    with tempfile.TemporaryDirectory() as work:
        source, library = Path(work) / "apart.c", Path(work) / "apart.so"
        source.write_text(text)
        run_compiler([*command, *EXACT, optimisation, str(source), "-o", str(library), "-lm"])
        return ctypes.CDLL(str(library))


@dataclass
class Held:
    """A controller of a library in memory of its own, at its start."""

    library: ctypes.CDLL
    commands: np.ndarray = field(default_factory=lambda: np.zeros(1))

    def __post_init__(self) -> None:
        self.memory = ctypes.create_string_buffer(self.bytes + 16)
        self.library.pd_ctl_init.argtypes = [ctypes.c_void_p, ctypes.c_void_p]
        self.library.pd_ctl_init(ctypes.addressof(self.memory), pointer(self.commands))

    @property
    def bytes(self) -> int:
        return self.library.pd_ctl_size()

    @property
    def ticking(self) -> tuple[int, int]:
        """Addresses of its tick and of its memory."""
        return address(self.library, "pd_ctl_tick"), ctypes.addressof(self.memory)


def replay(library: ctypes.CDLL, inputs: np.ndarray, n_signals: int) -> tuple[np.ndarray, int]:
    """All signals of a shipped controller, tick by tick for given inputs; and the bytes of its data."""
    held = Held(library)
    out = np.zeros((len(inputs), n_signals))
    inputs = np.ascontiguousarray(inputs)
    time_loop().pd_replay(
        *held.ticking,
        pointer(inputs),
        inputs.shape[1],
        pointer(out),
        n_signals,
        pointer(held.commands),
        len(inputs),
    )
    return out, held.bytes


@dataclass(frozen=True)
class Beside:
    """The record of a run with the differences of some signals behind, shape (ticks, recorded + compared); and of
    each the largest difference, and the span it has in float64."""

    ticks: np.ndarray
    largest: np.ndarray
    span: np.ndarray


def beside_recorded(lowered: Lowered, run: KeptRun, compared: Sequence[str]) -> Beside:
    """What a run recorded of a controller's signals, beside what the controller gives in float64.

    Raises
    ------
    PendelError
        where it has no C in float64, or the run is none of it.
    """
    plain, signals, angles = in_float64(lowered.deck), signals_of(lowered), angles_of(lowered)
    held, inputs = Held(library_of(plain)), np.ascontiguousarray(inputs_of(plain, run))
    ticks = np.ascontiguousarray(run.ticks)
    n, width = len(compared), ticks.shape[1]
    beside, largest = np.empty((len(ticks), width + n)), np.zeros(n)
    low, high = np.full(n, np.inf), np.full(n, -np.inf)
    own = np.zeros(max(1, len(signals)))
    places = (
        np.array(each, dtype=np.int32)
        for each in (
            [signals.index(s) for s in compared],
            [run.tick_signals.index(s) for s in compared],
            [s in angles for s in compared],
        )
    )
    of, recorded_at, wraps = places
    time_loop().pd_replay_beside(
        *held.ticking,
        pointer(inputs),
        inputs.shape[1],
        pointer(own),
        pointer(held.commands),
        pointer(ticks),
        width,
        pointer(of),
        pointer(recorded_at),
        pointer(wraps),
        n,
        pointer(beside),
        pointer(largest),
        pointer(low),
        pointer(high),
        len(ticks),
    )
    return Beside(beside, largest, np.maximum(high - low, 0.0))
