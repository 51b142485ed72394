"""A live run as whoever shows it has it: started, paced, changed, kept, ended."""

from __future__ import annotations

import contextlib
import json
import shutil
import socket
import subprocess
import threading
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from pendel.core.errors import FileProblem
from pendel.core.live.frames import LiveFrame, unpacked
from pendel.core.runs.confined.child import start
from pendel.core.temporary import temporary_folder

MESSAGE, WIRE = 1 << 18, 1 << 19
ENDING = 2.0
"""Seconds that its process has to end."""


class LiveRun:
    """Begins at once, or stands at its start where it is ``paused``. ``on_frame``, ``on_kept`` (path, problem),
    ``on_read`` (values, problem) and ``on_end`` (sentence) are called in a thread of its own; the
    latter when its process ends by itself."""

    def __init__(
        self,
        drive_text: str,
        *,
        own_c: bool = False,
        paused: bool = False,
        on_frame: Callable[[LiveFrame], None] = lambda frame: None,
        on_kept: Callable[[Path, str], None] = lambda path, problem: None,
        on_read: Callable[[dict[str, float], str], None] = lambda values, problem: None,
        on_end: Callable[[str], None] = lambda sentence: None,
    ):
        self._on_frame, self._on_kept, self._on_read, self._on_end = on_frame, on_kept, on_read, on_end
        self._own_c, self._closing, self._files = own_c, False, 0
        self._folder = temporary_folder("live")
        self._process, self._wire = start("pendel.core.live.run", self._folder.name, WIRE, private=own_c)
        self._thread = threading.Thread(target=self._listen, name="live run", daemon=True)
        self._thread.start()
        if paused:
            self.pause()
        self._give(b"D", drive_text)

    def _listen(self) -> None:
        while True:
            try:
                message = self._wire.recv(MESSAGE)
            except OSError:
                message = b""
            if not message:
                break
            with contextlib.suppress(ValueError, KeyError, TypeError):  # of a process that is broken
                if message[:1] == b"F":
                    self._on_frame(unpacked(message[1:]))
                elif message[:1] == b"R":
                    answer = json.loads(message[1:])
                    self._on_read({str(k): float(v) for k, v in answer["values"].items()}, str(answer["problem"]))
                elif message[:1] == b"K":
                    answer = json.loads(message[1:])
                    self._on_kept(Path(self._folder.name) / Path(answer["path"]).name, str(answer["problem"]))
        if not self._closing:
            self._on_end("The process of the live run ended unexpectedly. The drive is untouched; start again.")

    def _tell(self, letter: bytes, **what: Any) -> None:
        with contextlib.suppress(OSError):  # it ended, which the thread finds out
            self._wire.send(letter + json.dumps(what).encode())

    def _give(self, letter: bytes, text: str) -> None:
        self._files += 1
        name = f"drive{self._files}.pendel"
        (Path(self._folder.name) / name).write_text(text, "utf-8")
        self._tell(letter, drive=name, own_c=self._own_c)

    # Orders.

    def taken(self) -> None:
        """The last frame was shown; the next one may come."""
        self._tell(b"A")

    def change(self, drive_text: str) -> None:
        """Go on with the values of this drive, whose parts and wires are the same."""
        self._give(b"C", drive_text)

    def set_pace(self, factor: float) -> None:
        """Simulated time over time by the clock; infinite is as fast as it can."""
        self._tell(b"P", factor=factor)

    def pause(self) -> None:
        self._tell(b"H")

    def go_on(self, ticks: int = 0) -> None:
        """Go on, or only so many ticks."""
        self._tell(b"G", ticks=ticks)

    def watch(self, keys: Sequence[str], span: float = 1.0) -> None:
        """Have these signals in the frames from now on, as finely as their latest ``span`` (s) can be
        drawn."""
        self._tell(b"W", keys=list(keys), span=span)

    def read(self, keys: Sequence[str]) -> None:
        """Have these signals at this instant; ``on_read`` gets them."""
        self._tell(b"R", keys=list(keys))

    def keep(self, seconds: float, name: str) -> None:
        """Have the latest seconds as a run; ``on_kept`` gets its path."""
        self._files += 1
        self._tell(b"K", seconds=seconds, name=name, path=f"kept{self._files}.h5")

    @property
    def pid(self) -> int:
        return self._process.pid

    def close(self) -> None:
        """End it; no process and no thread stays."""
        self._closing = True
        with contextlib.suppress(OSError):
            self._wire.shutdown(socket.SHUT_RDWR)
        try:
            self._process.wait(ENDING)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait()
        if self._thread is not threading.current_thread():
            self._thread.join(ENDING)
        self._wire.close()
        self._folder.cleanup()


def bring(result: Path, path: Path) -> None:
    """Move a run that was kept to its place. Raises `FileProblem`."""
    try:
        if result.is_symlink() or not result.is_file():
            raise FileProblem(str(path), "the run was not kept. Keep it once more.")
        path.parent.mkdir(parents=True, exist_ok=True)
        shutil.move(result, path)
    except OSError as problem:
        raise FileProblem(str(path), f"the run cannot be kept: {problem.strerror or problem}.") from problem


__all__ = ["LiveRun", "bring"]
