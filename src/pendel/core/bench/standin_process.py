"""A stand-in board in processes of its own, started and ended by whoever wants one."""

from __future__ import annotations

import contextlib
import json
import queue
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Sequence
from typing import Any

from pendel.core.bench.errors import BenchProblem
from pendel.core.bench.standin import new_secret
from pendel.core.plant.compiler import plain_environment
from pendel.core.runs.confined.child import started

STARTING = 20.0
"""Seconds that it may take to start; on a busy machine, Python alone takes several."""
PREPARING = 120.0
"""Seconds that it may take to order and build the drive around it."""
ENDING = 4.0


class NoStandIn(BenchProblem):
    def __init__(self, reason: str):
        super().__init__(reason)
        self.reason = reason

    def __str__(self) -> str:
        return f"The stand-in board did not start: {self.reason}"


class StandInProcess:
    """``on_status`` is called, in a thread of its own, with its status, as `pendel.core.live.board.Status`
    has it, and with ``{"problem": sentence}`` once it has ended by itself.

    Raises
    ------
    NoStandIn
    """

    def __init__(self, doors: Sequence[str], on_status: Callable[[dict[str, Any]], None] = lambda status: None):
        self.secret = new_secret()
        self._on_status, self._closing, self._ended = on_status, False, False
        self._said: queue.SimpleQueue[dict[str, Any] | None] = queue.SimpleQueue()
        self.status: dict[str, Any] = {}
        """Its last status."""
        self._drives, self._heard = 0, threading.Condition()
        self._process = started(
            [sys.executable, "-P", "-m", "pendel.core.bench.standin"],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
            encoding="utf-8",
            cwd="/",
            env=plain_environment(),
            bufsize=1,
            start_new_session=True,  # Ctrl+C in a terminal is not meant for it
        )
        self._thread = threading.Thread(target=self._listen, name="stand-in board", daemon=True)
        self._tell({"doors": list(doors), "secret": self.secret.hex()})
        self._thread.start()
        self.addresses = self._addresses()
        """Where it can be reached, one a door."""

    def _addresses(self) -> list[str]:
        until = time.monotonic() + STARTING
        while (left := until - time.monotonic()) > 0:
            try:
                message = self._said.get(timeout=left)
            except queue.Empty:
                break
            if message is None or "problem" in message:
                self.close()
                raise NoStandIn(message["problem"] if message else "it ended at once.")
            if "doors" in message:
                return [str(address) for address in message["doors"]]
        self.close()
        raise NoStandIn(f"it took longer than {STARTING:.0f} s.")

    def _listen(self) -> None:
        assert self._process.stdout is not None
        for line in self._process.stdout:
            with contextlib.suppress(ValueError):
                message = json.loads(line)
                if "status" in message:
                    with self._heard:
                        self.status = message["status"]
                        self._heard.notify_all()
                    self._on_status(message["status"])
                else:
                    self._said.put(message)
                    if "problem" in message and not self._closing:
                        self._on_status({"sentence": message["problem"], "program": "ended"})
        with self._heard:
            self._ended = True
            self._heard.notify_all()
        self._said.put(None)

    def _tell(self, what: dict[str, Any]) -> None:
        assert self._process.stdin is not None
        with contextlib.suppress(OSError):  # it ended, and what it said last says why
            self._process.stdin.write(json.dumps(what) + "\n")
            self._process.stdin.flush()

    def surround(self, drive_text: str, *, own_c: bool) -> None:
        """Put a drive around the board, which is empty then; returns when it is there. Raises `NoStandIn`."""
        self._drives += 1
        self._tell({"drive": drive_text, "own_c": own_c})
        until = time.monotonic() + PREPARING
        with self._heard:
            while self.status.get("drives") != self._drives:
                if not self.alive:
                    raise NoStandIn("it has ended.")
                if not self._heard.wait(max(0.0, until - time.monotonic())):
                    raise NoStandIn("the drive around it was not ready in time.")
        if self.status.get("sentence"):
            raise NoStandIn(self.status["sentence"])

    def change(self, drive_text: str, *, own_c: bool) -> None:
        """Let the drive around the board have other values, while it runs."""
        self._drives += 1
        self._tell({"drive": drive_text, "own_c": own_c, "change": True})

    @property
    def settled(self) -> bool:
        """Whether the drive around it is the one that was told last."""
        return self.status.get("drives") == self._drives and not self.status.get("changing")

    def set_pace(self, factor: float) -> None:
        self._tell({"pace": factor})

    @property
    def alive(self) -> bool:
        return self._process.poll() is None and not self._ended

    @property
    def pid(self) -> int:
        return self._process.pid

    def close(self) -> None:
        """End it; no thread and no process stays."""
        self._closing = True
        assert self._process.stdin is not None and self._process.stdout is not None
        with contextlib.suppress(OSError):
            self._process.stdin.close()
        try:
            self._process.wait(ENDING)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait()
        if self._thread.is_alive() and self._thread is not threading.current_thread():
            self._thread.join(ENDING)
        self._process.stdout.close()
