"""A script that runs in a process of its own, as the owner of the drive sees it: output, calls, one end."""

from __future__ import annotations

import contextlib
import importlib.util
import json
import os
import shutil
import signal
import socket
import subprocess
import sys
import threading
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import lru_cache
from pathlib import Path
from typing import Any

from platformdirs import user_cache_dir

from pendel.core.drive.merging import RecordChange, changes_from
from pendel.core.plant.compiler import plain_environment
from pendel.core.runs.confined.child import begin
from pendel.core.temporary import temporary_folder
from pendel.remote.channels import LineReader
from pendel.remote.messages import Call, WrongCall, answer_to
from pendel.remote.owner import LARGEST_RUN, made_folder

GRACE = 1.0
"""s from being asked to stop until a script is ended with its process."""
LARGEST_CALL = LARGEST_RUN * 4 // 3 + (1 << 20)
CHUNK = 1 << 16


def plots_folder() -> Path:
    """Where Matplotlib's list of fonts is kept, which takes it seconds to make."""
    return Path(user_cache_dir("pendel")) / "plots"


def copy_plots(folder: Path) -> None:
    """Give a process the list of fonts; where there is none yet, have it made for the next one."""
    lists = list(plots_folder().glob("fontlist*.json"))
    with contextlib.suppress(OSError):
        (folder / "plots").mkdir()
        for path in lists:
            shutil.copy(path, folder / "plots")
        if not lists and importlib.util.find_spec("matplotlib"):
            make_list_of_fonts()


@lru_cache(maxsize=1)
def make_list_of_fonts() -> None:
    """Once, in a process beside."""
    plots_folder().mkdir(parents=True, exist_ok=True, mode=0o700)
    how: dict[str, Any] = {"env": {**plain_environment(), "MPLCONFIGDIR": str(plots_folder())}, "cwd": "/"}
    how |= dict.fromkeys(("stdin", "stdout", "stderr"), subprocess.DEVNULL)
    command = [sys.executable, "-P", "-c", "import matplotlib.font_manager"]
    threading.Thread(target=subprocess.run, args=(command,), kwargs=how, name="fonts", daemon=True).start()


class FilesFolders:
    """Folders in which processes of this one may write. One that stays empty goes with the last of them."""

    def __init__(self) -> None:
        self._lock, self._users = threading.Lock(), Counter[Path]()

    def take(self, folder: Path) -> None:
        with self._lock:
            made_folder(folder)
            self._users[folder] += 1

    def leave(self, folder: Path) -> None:
        with self._lock:
            self._users[folder] -= 1
            if self._users[folder] <= 0:
                del self._users[folder]
                with contextlib.suppress(OSError):  # something was written
                    folder.rmdir()


FOLDERS = FilesFolders()


class Host:
    """A process that waits for a job; it is started ahead, as loading takes a second. ``files`` is where what runs in
    it may write, ``given`` a folder of the user's that it may use besides."""

    def __init__(self, files: Path, given: Path | None = None):
        FOLDERS.take(files)
        self._folder = temporary_folder("script")
        self.files, self.given, self._open = files, given, True
        self.owner, theirs = socket.socketpair()
        self.output, sink = socket.socketpair()
        copy_plots(Path(self._folder.name))
        # Builds go to the common cache: the host makes them, and what runs in it can write none.
        self.process: subprocess.Popen[bytes] = begin(
            "pendel.remote.host", self._folder.name, [theirs, sink], str(files), *map(str, filter(None, [given]))
        )

    def give(self, job: dict[str, Any]) -> None:
        """Give it its one job. Raises `OSError`."""
        self.owner.sendall(json.dumps(job).encode() + b"\n")

    def interrupt(self) -> None:
        with contextlib.suppress(ProcessLookupError, PermissionError):
            os.killpg(self.process.pid, signal.SIGINT)

    def close(self) -> None:
        """End it with all that runs in it."""
        with contextlib.suppress(ProcessLookupError, PermissionError):
            os.killpg(self.process.pid, signal.SIGKILL)
        self.process.wait()
        for wire in (self.owner, self.output):
            with contextlib.suppress(OSError):
                wire.shutdown(socket.SHUT_RDWR)
            wire.close()
        self._folder.cleanup()
        if self._open:
            self._open = False
            FOLDERS.leave(self.files)


@dataclass
class Ended:
    """How a script ended. ``sentence`` is empty where it went well; ``line`` is where it failed, from 1; ``left`` what
    it had changed, if it did not end well."""

    code: int = 0
    sentence: str = ""
    line: int = 0
    stopped: bool = False
    left: list[RecordChange] = field(default_factory=list)


class ScriptRun:
    """One run of a script. ``answer`` answers what it asks of the drive's owner, ``say`` gets what it prints as it
    comes, and ``ended`` how it ended, once; all in threads of their own."""

    def __init__(
        self,
        host: Host,
        name: str,
        text: str,
        answer: Callable[[Call], Any],
        say: Callable[[str], None],
        ended: Callable[[Ended], None] = lambda end: None,
    ):
        self._host, self._answer, self._say, self._on_end = host, answer, say, ended
        self.end = Ended()
        self._done = threading.Event()
        try:
            host.give({"job": "script", "name": name, "text": text})
        except OSError:
            self.end.sentence = "The process of the script could not be started."
        self._output = threading.Thread(target=self._read_output, name="what a script prints", daemon=True)
        self._output.start()
        threading.Thread(target=self._serve, name="what a script asks", daemon=True).start()

    def _read_output(self) -> None:
        from codecs import getincrementaldecoder

        decoder = getincrementaldecoder("utf-8")("replace")
        with contextlib.suppress(OSError):
            while data := self._host.output.recv(CHUNK):
                self._say(decoder.decode(data))

    def _serve(self) -> None:
        lines = LineReader(self._host.owner, LARGEST_CALL)
        with contextlib.suppress(OSError, ValueError):
            while (line := lines.line()) is not None:
                if reply := answer_to(line, self._answered):
                    self._host.owner.sendall(reply.encode() + b"\n")
        self._finish()

    def _answered(self, call: Call) -> Any:
        params = call.params if isinstance(call.params, dict) else {}
        if call.method == "here.failed":
            line, sentence = params.get("line"), params.get("sentence")
            if not isinstance(line, int) or not isinstance(sentence, str):
                raise WrongCall("A failure has a line and a sentence.")
            self.end.line, self.end.sentence = max(0, line), sentence[:1000]
            return None
        if call.method == "here.left":
            self.end.left = changes_from(params.get("changes"))
            return None
        return self._answer(call)

    def _finish(self) -> None:
        process, end = self._host.process, self.end
        end.code = process.wait()
        self._output.join(GRACE)
        if end.stopped:
            end.sentence = "Stopped."
        elif end.code and not end.sentence:
            end.sentence = f"The script ended with code {end.code}."
            if end.code > 128:
                end.sentence = f"The script's process was ended by signal {end.code - 128}."
        self._host.close()
        self._done.set()
        self._on_end(end)

    def stop(self) -> None:
        """Interrupt it; one that goes on is ended with its process."""
        self.end.stopped = True
        self._host.interrupt()

        def end_it() -> None:
            if not self._done.wait(GRACE):
                with contextlib.suppress(ProcessLookupError, PermissionError):
                    os.killpg(self._host.process.pid, signal.SIGKILL)

        threading.Thread(target=end_it, daemon=True).start()

    def wait(self, longest: float | None = None) -> Ended | None:
        """How it ended, within so many seconds."""
        return self.end if self._done.wait(longest) else None
