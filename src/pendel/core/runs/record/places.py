"""Where runs are kept beside a drive."""

from __future__ import annotations

import re
from pathlib import Path

from pendel.core.errors import FileProblem

RUN_NUMBER = re.compile(r"run(\d{1,9})(_\w+)?")


def next_run_path(folder: Path) -> Path:
    """The next free place for a kept run. Raises `FileProblem`."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as problem:
        raise FileProblem(str(folder), f"runs cannot be kept there: {problem.strerror}.") from problem
    numbers = [int(found[1]) for path in folder.glob("run*.h5") if (found := RUN_NUMBER.fullmatch(path.stem))]
    return folder / f"run{max([0, *numbers]) + 1}.h5"
