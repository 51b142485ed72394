"""An emulated processor beside the process of a simulated board: its pipes, its end."""

from __future__ import annotations

import contextlib
import os
import subprocess
from pathlib import Path

from pendel.core.errors import PendelError
from pendel.core.firmware.emulated_image import emulator_line
from pendel.core.firmware.processors import NoProcessor, Processor, missing_tools
from pendel.core.plant.compiler import plain_environment

ENDING = 2.0
"""Seconds that it has to end."""


class NotStarted(PendelError):
    def __init__(self, reason: str):
        super().__init__(reason)
        self.reason = reason

    def __str__(self) -> str:
        return f"The emulated processor did not start: {self.reason}. Build and load again."


class Emulator:
    """Runs a program for a processor in a folder of its own below one that may be written in.

    Raises
    ------
    NoProcessor, NotStarted
    """

    def __init__(self, image: bytes, processor: Processor, folder: Path):
        if missing := missing_tools():
            raise NoProcessor(missing)
        folder.mkdir()
        (folder / "program.elf").write_bytes(image)
        names = ("plant.in", "plant.out", "line.in", "line.out")
        for name in names:
            os.mkfifo(folder / name, 0o600)
        # Open for both, so that none waits for the other to open its end.
        self.pipes = [os.open(folder / name, os.O_RDWR | os.O_CLOEXEC) for name in names]
        os.set_blocking(self.pipes[2], False)
        os.set_blocking(self.pipes[3], False)
        try:
            self._process = subprocess.Popen(
                emulator_line(processor, folder / "program.elf"),
                cwd=folder,
                stdin=subprocess.DEVNULL,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
                env={**plain_environment(), "TMPDIR": str(folder)},
            )
        except OSError as problem:
            self._close_pipes()
            raise NotStarted(problem.strerror or "it cannot be run") from problem

    @property
    def alive(self) -> bool:
        return self._process.poll() is None

    def _close_pipes(self) -> None:
        for pipe in self.pipes:
            with contextlib.suppress(OSError):
                os.close(pipe)

    def close(self) -> None:
        self._process.kill()
        with contextlib.suppress(subprocess.TimeoutExpired):
            self._process.wait(ENDING)
        self._close_pipes()


__all__ = ["Emulator", "NotStarted"]
