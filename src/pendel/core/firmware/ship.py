"""The controller as shipped C: written, built with warnings as errors, and checked against the simulation."""

from __future__ import annotations

import ctypes
import tempfile
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from pendel.core.controllers.c_names import drive_name
from pendel.core.controllers.deck import ControlDeck
from pendel.core.controllers.emit import (
    LICENCE,
    Emission,
    Source,
    emit,
    shipped_source,
    simulation_values,
)
from pendel.core.controllers.writer import NumberFormat
from pendel.core.errors import BuildProblem, FileProblem
from pendel.core.formats.writing import write_atomically
from pendel.core.plant.compiler import compiler, run_compiler
from pendel.core.plant.runtime import load, pointer
from pendel.core.runs.kept import KeptRun

STRICT = (
    "-std=c99",
    "-O2",
    "-Wall",
    "-Wextra",
    "-Werror",
    "-pedantic",
    "-Wno-unused-function",
    "-ffp-contract=off",
)


@dataclass(frozen=True)
class Compared:
    """One signal of the shipped code against the simulation's, over all ticks."""

    signal: str
    shipped: np.ndarray
    simulated: np.ndarray

    @property
    def largest(self) -> float:
        return float(np.max(np.abs(self.shipped - self.simulated))) if len(self.shipped) else 0.0

    @property
    def span(self) -> float:
        return float(np.ptp(self.simulated)) if len(self.simulated) else 0.0


@dataclass(frozen=True)
class Checked:
    """What *Build and check* found out."""

    compiler: str
    code_bytes: int
    data_bytes: int
    lines: int
    ticks: int
    compared: tuple[Compared, ...]


def write_sources(deck: ControlDeck, number: NumberFormat, folder: Path) -> list[Path]:
    """Write source, header and example main.

    Raises
    ------
    FileProblem
    """
    source = emit(deck, number)
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as problem:
        raise FileProblem(str(folder), f"the folder cannot be made: {problem.strerror}.") from problem
    name = drive_name(deck.name)
    paths = [folder / f"{name}.c", folder / f"{name}.h", folder / "main.c"]
    for path in paths:
        leave_others_alone(path)
    for path, text in zip(paths, (source.source, source.header, source.example)):
        write_atomically(path, text)
    return paths


def leave_others_alone(path: Path) -> None:
    """Raise `FileProblem` where a file is none of ours, which the first lines of ours say."""
    try:
        head = path.read_bytes()[:400] if path.exists() else LICENCE.encode()
    except OSError as problem:
        raise FileProblem(str(path), f"it cannot be looked at: {problem.strerror}.") from problem
    if LICENCE.encode() not in head:
        raise FileProblem(
            str(path),
            "it was not written by Pendel, so it is left as it is. Move it, or choose another folder.",
        )


def build_strictly(deck: ControlDeck, source: Source) -> int:
    """Compile exactly what would be saved, warnings as errors; returns the size of the code in bytes.

    Raises
    ------
    BuildProblem
    """
    with tempfile.TemporaryDirectory() as work:
        folder = Path(work)
        name = drive_name(deck.name)
        texts = {f"{name}.c": source.source, f"{name}.h": source.header, "main.c": source.example}
        for file, text in texts.items():
            (folder / file).write_text(text)
        program = folder / "example"
        run_compiler(
            [
                *compiler(),
                *STRICT,
                str(folder / f"{name}.c"),
                str(folder / "main.c"),
                "-o",
                str(program),
                "-lm",
            ]
        )
        target = folder / "part.o"
        run_compiler([*compiler(), *STRICT, "-c", str(folder / f"{name}.c"), "-o", str(target)])
        return target.stat().st_size


def build_and_check(deck: ControlDeck, number: NumberFormat, run: KeptRun) -> Checked:
    """Build the shipped code and replay a run's measured inputs through it and through the simulation's code.

    Raises
    ------
    BuildProblem
        when the compiler refuses, or the run does not fit the deck as it is now.
    """
    source = emit(deck, number)
    size = build_strictly(deck, source)
    em = Emission(deck, number, with_sensors=False)
    missing = [i.signal for i in em.inputs if i.signal not in run.keys]
    if missing:
        raise BuildProblem(
            f"The run {run.name} has no signal {missing[0]}. Run the drive once more, then check."
        )
    ticks = len(run.ticks)
    times = np.arange(ticks) * deck.tick
    columns = [run.trace(i.signal) for i in em.inputs]
    inputs = (
        np.column_stack([c.y if c.sampled else np.interp(times, c.t, c.y) for c in columns])
        if columns
        else np.zeros((ticks, 1))
    )
    signals = [f"{b.name}.{p}" for b in em.blocks for p in b.outputs]
    shipped, data = replay(deck, number, inputs, len(signals))
    simulated, _ = replay(deck, NumberFormat.FLOAT64, inputs, len(signals))
    compared = tuple(Compared(s, shipped[:, k], simulated[:, k]) for k, s in enumerate(signals))
    return Checked(
        Path(compiler()[0]).name,
        size,
        data,
        source.source.count("\n") + source.header.count("\n"),
        ticks,
        compared,
    )


def replay(
    deck: ControlDeck, number: NumberFormat, inputs: np.ndarray, n_signals: int
) -> tuple[np.ndarray, int]:
    """All signals of the deck's code in a format, tick by tick for given inputs; and the bytes of its data."""
    library = load(shipped_source(deck, number))
    memory = ctypes.create_string_buffer(library.pd_ctl_size() + 16)
    values = np.array(simulation_values(deck, with_sensors=False, seed=1) or [0.0])
    library.pd_ctl_init.argtypes = [ctypes.c_void_p, ctypes.c_void_p]
    library.pd_ctl_tick.argtypes = [ctypes.c_void_p] * 4
    library.pd_ctl_init(ctypes.addressof(memory), pointer(values))
    out = np.zeros((len(inputs), n_signals))
    commands = np.zeros(len(deck.commands) + 1)
    inputs = np.ascontiguousarray(inputs)
    at, step, into, wide = (
        pointer(out),
        out.strides[0] if len(out) else 0,
        pointer(inputs),
        inputs.strides[0] if len(inputs) else 0,
    )
    state, command = ctypes.addressof(memory), pointer(commands)
    tick = library.pd_ctl_tick
    for k in range(len(inputs)):
        tick(state, into + k * wide, at + k * step, command)
    return out, library.pd_ctl_size()
