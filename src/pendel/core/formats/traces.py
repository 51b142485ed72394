"""Traces of runs in open formats: CSV, HDF5, MAT, and those that installed packages add."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from importlib import import_module, metadata
from pathlib import Path

import numpy as np

from pendel.core.errors import FileProblem, PendelError
from pendel.core.files.writing import written_whole
from pendel.core.runs.record.kept import KeptRun
from pendel.core.runs.record.trace import Trace

Column = tuple[str, str, np.ndarray]
"""Name, unit and values."""
OURS = {".csv": ("csv_text", "CSV"), ".h5": ("hdf", "HDF5"), ".mat": ("mat", "MAT"), ".mf4": ("mdf4", "MDF4")}
"""By the ending of a file: the module in ``traces_as`` that writes it, and what it is called."""
GROUP = "pendel.trace_formats"
"""Entry points by which installed packages add formats: the name is the ending, the object a function of
columns and a path."""


def is_time(name: str, unit: str) -> bool:
    """Whether a column is the time of those behind it."""
    return unit == "s" and name.rpartition(": ")[2] == "time"


def plain(text: str) -> str:
    """A text without what files cannot hold: an end of text, and halves of surrogate pairs."""
    return text.replace("\0", "_").encode("utf-8", "replace").decode()


def unlike(names: Sequence[str], longest: int, taken: Sequence[str] = ()) -> list[str]:
    """The names, of at most so many characters, each made unlike those before it and those that are taken."""
    distinct: list[str] = []
    known = set(taken)
    for name in names:
        own, count = name[:longest], 1
        while own in known:
            count += 1
            own = f"{name[: longest - len(str(count)) - 1]}_{count}"
        known.add(own)
        distinct.append(own)
    return distinct


def common_times(run: KeptRun) -> np.ndarray:
    return run.expanded[:, 0]


def on_times(trace: Trace, times: np.ndarray) -> np.ndarray:
    """A trace in its unit on the run's own times; sampled signals hold their value."""
    return trace.in_unit(trace.at(times)) if trace.sampled else trace.y_in()


def columns(runs: list[KeptRun], keys: list[str]) -> list[Column]:
    """The runs one after another, each with its own time."""
    columns: list[Column] = []
    for run in runs:
        lead = f"{run.name}: " if len(runs) > 1 else ""
        times = common_times(run)
        columns.append((f"{lead}time", "s", times))
        for key in keys:
            if key in run.keys:
                trace = run.trace(key)
                columns.append((f"{lead}{key}", trace.unit, on_times(trace, times)))
    return columns


def formats() -> dict[str, str]:
    """Endings of files that traces can be saved as, and what each is called; ours first."""
    added = (entry for entry in metadata.entry_points(group=GROUP) if entry.name.isidentifier())
    return {
        **{ending: title for ending, (_, title) in OURS.items()},
        **{f".{entry.name}": entry.name.upper() for entry in added if f".{entry.name}" not in OURS},
    }


def writer_for(ending: str) -> Callable[[Sequence[Column], Path], None]:
    """The function that writes files of an ending. Raises `KeyError` where there is none."""
    if ending in OURS:
        return import_module(f"pendel.core.formats.traces_as.{OURS[ending][0]}").write
    for entry in metadata.entry_points(group=GROUP):
        if f".{entry.name}" == ending:
            return entry.load()
    raise KeyError(ending)


def save_traces(runs: list[KeptRun], keys: list[str], path: Path) -> None:
    """Write traces in the units they are shown in, which are written next to them; the format is chosen by
    the ending.

    Raises
    ------
    FileProblem
        for an unknown ending or when the file cannot be written.
    """
    save_columns(columns(runs, keys), path)


def save_columns(table: list[Column], path: Path) -> None:
    """Write columns as they are, the first a time. Raises `FileProblem`."""
    save_table(table, path, "traces")


def save_table(table: Sequence[Column], path: Path, what: str = "columns") -> None:
    """Write columns as they are, in a format that needs no time where the first is none. Raises `FileProblem`."""
    if path.suffix not in formats():
        raise FileProblem(str(path), f"the ending must be one of {', '.join(formats())}.")
    try:
        with written_whole(path) as begun:
            writer_for(path.suffix)(table, begun)
    except OSError as problem:
        raise FileProblem(
            str(path), f"the {what} cannot be saved: {problem.strerror or problem}. Choose another folder."
        ) from problem
    except PendelError:
        raise
    except Exception as problem:
        if path.suffix in OURS:
            raise
        raise FileProblem(
            str(path), f"the package that adds {path.suffix} files failed: {problem}. Save another format."
        ) from problem
