"""The verb that serves a stand-in board."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field

from pendel.core.drive.document import Drive
from pendel.core.errors import DriveProblem

LOOK = 0.2
"""Seconds between two looks at whether it is to end."""


@dataclass
class Serving:
    """What is said of a board while it is served."""

    addresses: list[str] = field(default_factory=list)
    sentences: list[str] = field(default_factory=list)
    ready: bool = False


def serve_board(
    drive: Drive,
    *,
    link: Iterable[str] = (),
    pace: str | None = None,
    empty: bool = False,
    key: str | None = None,
    processor: str | None = None,
    own_c: bool = False,
    say: Callable[[str], None] = lambda sentence: None,
    stopping: Callable[[], bool] = lambda: False,
) -> Serving:
    """Serve a stand-in board until ``stopping`` holds.

    Parameters
    ----------
    link
        ``tcp``, ``tcp:5555``, ``udp``, ``serial``, ``serial:115200`` or ``can``; TCP without one.
    pace
        simulated time over time by the clock; “inf” is as fast as it can.
    empty
        whether it begins without a program, to be loaded over a link.
    key
        32 hexadecimal digits, by which only those who know them may load it.
    processor
        ``m4f`` for one that is emulated; this computer without it.
    own_c
        whether C that the drive brings was allowed.
    say
        is given what happens, a sentence each.

    Raises
    ------
    DriveHasFindings, DriveProblem, BenchProblem
    """
    from pendel.core.bench.standin import StandIn, doors_for
    from pendel.core.drive.file import to_text
    from pendel.core.firmware.targets import HOST, image_for
    from pendel.core.runs.preparing.simulate import prepare
    from pendel.core.trust import refuse_strange_c

    refuse_strange_c(drive, "add --own-c")
    factor, secret = read_pace(pace), read_key(key)
    image = b"" if empty else image_for(prepare(drive).lowered, processor or HOST)
    doors, served = doors_for(list(link) or ["tcp"]), Serving()

    def report(what: dict) -> None:
        served.ready |= what["status"].get("drives", 0) > 0 and (empty or what["status"]["program"] == "runs")
        sentence = what["status"].get("sentence", "")
        if sentence and sentence not in served.sentences[-1:]:
            served.sentences.append(sentence)
            say(sentence)

    board = StandIn(doors, report, secret)
    try:
        board.surround(to_text(drive), own_c=own_c)
        if image:
            board.program(image)
        if factor != 1.0:
            board.set_pace(factor)
        while not stopping():
            if not board.turn(LOOK):
                raise DriveProblem("The stand-in board ended unexpectedly. Start it again.")
            if (served.ready or served.sentences) and not served.addresses:
                served.addresses = [door.address for door in doors]
                for address in served.addresses:
                    say(f"The board is at {address}")
    finally:
        board.close()
    return served


def read_pace(text: str | None) -> float:
    """Raises `DriveProblem`."""
    try:
        factor = float(text) if text else 1.0
    except ValueError:
        factor = math.nan
    if not factor >= 0.001:
        raise DriveProblem(f"A pace of “{text}” is none. Give a number from 0.001 up, or inf.")
    return factor


def read_key(text: str | None) -> bytes:
    """Raises `DriveProblem`."""
    if not text:
        return b""
    try:
        key = bytes.fromhex(text)
    except ValueError:
        key = b""
    if len(key) != 16 or not any(key):
        raise DriveProblem("A key has 32 hexadecimal digits that are not all 0. Give such a one.")
    return key
