"""Traces of runs in open formats: CSV, HDF5, MAT."""

from __future__ import annotations

import csv
from pathlib import Path
from typing import TextIO

import numpy as np

from pendel.core.errors import FileProblem
from pendel.core.formats.hdf import opened
from pendel.core.runs.kept import KeptRun, Trace

ENDINGS = (".csv", ".h5", ".mat")


def common_times(run: KeptRun) -> np.ndarray:
    return run.expanded[:, 0]


def on_times(trace: Trace, times: np.ndarray) -> np.ndarray:
    """A trace in its unit on the run's own times; sampled signals hold their value."""
    y = trace.y_in()
    if not trace.sampled:
        return y
    if not len(y):
        return np.full(len(times), np.nan)
    at = np.searchsorted(trace.t, times + 1e-12, side="right") - 1
    return y[np.clip(at, 0, len(y) - 1)]


def columns(runs: list[KeptRun], keys: list[str]) -> list[tuple[str, str, np.ndarray]]:
    """Name, unit and values; the runs one after another, each with its own time."""
    found: list[tuple[str, str, np.ndarray]] = []
    for run in runs:
        lead = f"{run.name}: " if len(runs) > 1 else ""
        times = common_times(run)
        found.append((f"{lead}time", "s", times))
        for key in keys:
            if key in run.keys:
                trace = run.trace(key)
                found.append((f"{lead}{key}", trace.unit, on_times(trace, times)))
    return found


def save_traces(runs: list[KeptRun], keys: list[str], path: Path) -> None:
    """Write traces in the units they are shown in, which stand beside them; the format is chosen by the ending.

    Raises
    ------
    FileProblem
        for an unknown ending or when the file cannot be written.
    """
    if path.suffix not in ENDINGS:
        raise FileProblem(str(path), f"the ending must be one of {', '.join(ENDINGS)}.")
    table = columns(runs, keys)
    try:
        if path.suffix == ".csv":
            with path.open("w", newline="", encoding="utf-8") as stream:
                write_csv(table, stream)
        elif path.suffix == ".h5":
            with opened(path, "w") as file:
                for name, unit, values in table:
                    file.create_dataset(name.replace("/", "_"), data=values).attrs["unit"] = unit
        else:
            names = {
                f"n{k}" if not n.isidentifier() else n: v
                for k, (n, _, v) in enumerate(
                    (c[0].replace(".", "_").replace(": ", "_").replace(" ", "_"), *c[1:]) for c in table
                )
            }
            import scipy.io  # slow to load, and seldom needed

            scipy.io.savemat(
                path,
                {
                    **names,
                    "units": np.array([u for _, u, _ in table], dtype=object),
                    "names": np.array([n for n, _, _ in table], dtype=object),
                },
            )
    except OSError as problem:
        raise FileProblem(
            str(path), f"the traces cannot be saved: {problem.strerror or problem}. Choose another folder."
        ) from problem


def write_csv(table: list[tuple[str, str, np.ndarray]], stream: TextIO) -> None:
    """One column a signal, named with its unit; columns of shorter runs end in empty fields."""
    length = max((len(v) for _, _, v in table), default=0)
    writer = csv.writer(stream)
    writer.writerow([f"{name} [{unit}]" if unit else name for name, unit, _ in table])
    padded = [[f"{x:.9g}" for x in v] + [""] * (length - len(v)) for _, _, v in table]
    writer.writerows(zip(*padded))
