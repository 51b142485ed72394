"""The sheet of a drive as a picture, for notebooks and reports."""

from __future__ import annotations

import subprocess
import sys
from dataclasses import dataclass
from pathlib import Path

from pendel.core.drive.document import Drive
from pendel.core.drive.file import to_text
from pendel.core.errors import FileProblem, RunProblem
from pendel.core.plant.compiler import plain_environment
from pendel.core.temporary import temporary_folder

LONGEST = 60.0
"""Seconds that drawing may take."""


@dataclass(frozen=True)
class SheetPicture:
    """A sheet as SVG; a notebook shows it."""

    svg: str

    def _repr_svg_(self) -> str:
        return self.svg

    def __repr__(self) -> str:
        return f"<Sheet, {len(self.svg)} bytes of SVG>"

    def save(self, path: str | Path) -> None:
        """As a file. Raises `FileProblem`."""
        try:
            Path(path).write_text(self.svg, "utf-8")
        except OSError as problem:
            raise FileProblem(str(path), f"it cannot be written: {problem.strerror}.") from problem


def sheet_of(drive: Drive) -> SheetPicture:
    """Drawn by the application, in a process of its own that has no screen. Raises `RunProblem`."""
    with temporary_folder("sheet") as folder:
        drawn, picture = Path(folder) / "drive.pendel", Path(folder) / "sheet.svg"
        drawn.write_text(to_text(drive), "utf-8")
        environment = plain_environment() | {"QT_QPA_PLATFORM": "offscreen", "XDG_STATE_HOME": folder}
        try:
            done = subprocess.run(
                [sys.executable, "-P", "-m", "pendel.app.drive.sheet_file", str(drawn), str(picture)],
                capture_output=True,
                text=True,
                encoding="utf-8",
                errors="replace",
                cwd="/",
                env=environment,
                timeout=LONGEST,
                check=False,
            )
            return SheetPicture(picture.read_text("utf-8"))
        except subprocess.TimeoutExpired:
            why = f"it took more than {LONGEST:g} s"
        except OSError:
            why = (done.stderr.strip().splitlines() or ["it ended at once"])[-1]
            if "PyQt6" in why:
                why = "it is drawn with Qt, which comes with pip install pendel[window]"
    raise RunProblem(f"The sheet cannot be drawn here: {why}.")


__all__ = ["SheetPicture", "sheet_of"]
