"""The stand-in board: a drive, with its controller as shipped, that can be reached as a real board is.

What runs is in a confined process of its own (`pendel.core.live.board`); this one has the links, and only hands
bytes on. A parent process talks to it by lines of JSON; see `main`."""

from __future__ import annotations

import contextlib
import json
import os
import secrets
import select
import subprocess
import sys
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from pendel.core.bench.doors import CanDoor, Door, SerialDoor, TcpDoor, UdpDoor
from pendel.core.bench.errors import BenchProblem
from pendel.core.runs.confined.child import end_with_parent, start
from pendel.core.temporary import temporary_folder

MESSAGE, WIRE = 1 << 17, 1 << 16
"""Bytes of a message, and of messages that wait between the two processes."""
LOOK = 0.02
"""Seconds between two looks at whether the parent says something."""
QUIET = 0.25
"""Seconds without a byte from a master after which the board forgets a packet that is not all there."""
PATIENCE = 2.0
"""Seconds that the confined process has to end."""

Report = Callable[[dict[str, Any]], None]


def doors_for(wishes: Sequence[str]) -> list[Door]:
    """From texts such as ``tcp``, ``tcp:5555``, ``udp``, ``serial``, ``serial:115200`` (bit/s) and ``can``.

    Raises
    ------
    BenchProblem
    """
    doors: list[Door] = []
    try:
        for wish in wishes:
            kind, _, port = wish.partition(":")
            number = int(port) if port.isdecimal() and len(port) < 9 else 0 if not port else -1
            if kind == "tcp" and number >= 0:
                doors.append(TcpDoor(number))
            elif kind == "udp" and number >= 0:
                doors.append(UdpDoor(number))
            elif kind == "serial" and number >= 0:
                doors.append(SerialDoor(number or 1_000_000))
            elif wish == "can":
                doors.append(CanDoor())
            else:
                raise UnknownDoor(wish)
    except BenchProblem:
        for door in doors:
            door.close()
        raise
    return doors


class UnknownDoor(BenchProblem):
    def __init__(self, wish: str):
        super().__init__(wish)
        self.wish = wish

    def __str__(self) -> str:
        return (
            f"“{self.wish}” is no kind of link. Choose tcp, udp, serial or can; tcp:5555 also names the "
            f"port, "
            "serial:115200 the speed."
        )


class StandIn:
    """A stand-in board, in the process that calls it: `turn` hands on what has come.

    ``secret`` is the key of who may load it; 16 bytes, or none, and then anyone on this computer may.
    """

    def __init__(self, doors: Sequence[Door], report: Report, secret: bytes = b""):
        self.doors, self.report, self.secret = list(doors), report, secret or bytes(16)
        self._folder = temporary_folder("board")
        self._process, self._wire = start("pendel.core.live.board", self._folder.name, WIRE, private=True)
        self._door: Door | None = None
        """Whose master was heard last."""
        self._drives = 0
        self._heard = 0.0
        """When a master was heard last; 0 where the board knows since that it is quiet."""

    def surround(self, drive_text: str, *, own_c: bool) -> None:
        """Put a drive around the board, which is empty then."""
        self._tell(b"W", {"drive": self._put(drive_text), "own_c": own_c, "secret": self.secret.hex()})

    def change(self, drive_text: str, *, own_c: bool) -> None:
        """Let the drive around the board have other values, while it runs."""
        self._tell(b"U", {"drive": self._put(drive_text), "own_c": own_c})

    def program(self, image: bytes) -> None:
        """Have the board run a program, as if it had been loaded."""
        self._drives += 1
        name = f"program{self._drives}"
        (Path(self._folder.name) / name).write_bytes(image)
        self._tell(b"F", {"image": name})

    def _put(self, drive_text: str) -> str:
        """A file for the board's process, which may read no other folder."""
        self._drives += 1
        name = f"drive{self._drives}.pendel"
        (Path(self._folder.name) / name).write_text(drive_text, "utf-8")
        return name

    def set_pace(self, factor: float) -> None:
        self._tell(b"P", {"factor": factor})

    def handles(self) -> list[int]:
        return [self._wire.fileno(), *(h for door in self.doors for h in door.handles())]

    def turn(self, wait: float) -> bool:
        """Hand on what comes within so many seconds. False once the board is gone."""
        for door in self.doors:
            if isinstance(door, TcpDoor):
                door.look()
        if self._heard and time.monotonic() - self._heard > QUIET:
            self._heard = 0.0
            self._tell(b"Q", {})
        kept = self._door.waiting() if self._door is not None else -1
        own = self._wire.fileno()
        handles = [h for h in self.handles() if kept < 0 or h != own]  # the board holds its samples then
        reads, writes, _ = select.select(handles, [kept] if kept >= 0 else [], [], wait)
        if writes and self._door is not None:
            self._door.send(b"")
        for handle in reads:
            if handle == self._wire.fileno():
                if not self._from_board():
                    return False
            else:
                self._from_master(handle)
        return True

    def _from_board(self) -> bool:
        try:
            message = self._wire.recv(MESSAGE)
        except ConnectionError:
            message = b""
        if message[:1] == b"B" and self._door is not None:
            self._door.send(message[1:])
        elif message[:1] == b"S":
            self.report({"status": json.loads(message[1:])})
        return bool(message)

    def _from_master(self, handle: int) -> None:
        door = next((d for d in self.doors if handle in d.handles()), None)
        if door is None:
            return
        for data in door.take(handle):
            self._heard = time.monotonic()
            if door is not self._door or (isinstance(door, TcpDoor) and door.opened):
                if isinstance(door, TcpDoor):
                    door.opened = False
                self._door = door
                names = ("kind", "max_cto", "max_dto", "rate", "datagrams")
                self._tell(b"L", {name: getattr(door, name) for name in names})
            with contextlib.suppress(ConnectionError):
                self._wire.send(b"B" + data)

    def _tell(self, letter: bytes, what: dict[str, Any]) -> None:
        with contextlib.suppress(ConnectionError):  # the next look finds out that it is gone
            self._wire.send(letter + json.dumps(what).encode())

    def close(self) -> None:
        self._wire.close()
        try:
            self._process.wait(PATIENCE)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait()
        for door in self.doors:
            door.close()
        self._folder.cleanup()


def main() -> None:
    """Lines on standard input: ``{"drive": text, "own_c": bool, "change": bool}``, ``{"pace": factor}``; its end
    ends all. Lines on standard output: ``{"doors": [...]}``, ``{"status": {...}}``, ``{"problem": sentence}``."""
    end_with_parent()

    answers = False

    def say(what: dict[str, Any]) -> None:
        nonlocal answers
        answers |= "status" in what
        print(json.dumps(what), flush=True)

    settings = json.loads(sys.stdin.readline())
    try:
        doors = doors_for(settings["doors"])
    except BenchProblem as problem:
        say({"problem": str(problem)})
        return
    board = StandIn(doors, say, bytes.fromhex(settings["secret"]))
    own, text = sys.stdin.fileno(), b""
    try:
        # The first start on a computer compiles for seconds; whoever has the addresses expects an answer at once.
        while not answers:
            if not board.turn(LOOK):
                say({"problem": "The stand-in board ended unexpectedly. Start it again."})
                return
        say({"doors": [door.address for door in doors]})
        while True:
            reads, _, _ = select.select([own], [], [], 0.0)
            if reads:
                more = os.read(own, 1 << 16)
                if not more:
                    return
                *lines, text = (text + more).split(b"\n")
                for line in lines:
                    obey(board, json.loads(line))
            if not board.turn(LOOK):
                say({"problem": "The stand-in board ended unexpectedly. Start it again."})
                return
    finally:
        board.close()


def obey(board: StandIn, order: dict[str, Any]) -> None:
    if "drive" in order:
        put = board.change if order.get("change") else board.surround
        put(order["drive"], own_c=bool(order.get("own_c")))
    if "pace" in order:
        board.set_pace(float(order["pace"]))


def new_secret() -> bytes:
    return secrets.token_bytes(16)


__all__ = ["StandIn", "UnknownDoor", "doors_for", "new_secret"]

if __name__ == "__main__":
    main()
