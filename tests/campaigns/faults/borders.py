"""What a process that runs a drive's code sends in place of an answer, and what strangers send to a stand-in board."""

from __future__ import annotations

import ctypes
from functools import lru_cache
from random import Random

import numpy as np

from pendel.core.bench.doors import HEAD, TcpDoor
from pendel.core.firmware.board_image import image_text
from pendel.core.live.board import Flash
from pendel.core.plant.runtime import load
from pendel.core.processes import answers
from pendel.core.processes.worker import Answered, RunFailed, RunFinished
from pendel.core.runs.record.measures import StepMeasures
from tests.campaigns.faults.report import Boundary


def forged_answer(rng: Random, into: Boundary) -> None:
    """A real answer with bytes changed, cut, doubled or put elsewhere: it is refused, or a record of known kinds."""
    inner = rng.choice((
        Answered((1.0, np.arange(6.0).reshape(2, 3), {"a": [1, None]}, StepMeasures(1.0, 2.0, 3.0, 4.0))),
        RunFinished("/a", "words", False, "/b"),
        RunFailed((("sentence", "card", "field"),), "log"),
    ))  # fmt: skip
    data = bytearray(answers.encoded(inner))
    for _ in range(rng.randrange(1, 6)):
        place = rng.randrange(len(data))
        match rng.randrange(4):
            case 0:
                data[place] = rng.randrange(256)
            case 1:
                del data[place : place + rng.randrange(1, 9)]
            case 2:
                data[place:place] = data[place : place + rng.randrange(1, 30)]
            case 3:
                data[place:place] = rng.choice((b"[", b"]", b'"r", 0,', b"NaN", b"1e999", b"-1", b"\x00", b"9" * 40))
        if not data:
            break
    case = bytes(data)

    def met() -> None:
        try:
            answers.encoded(answers.decoded(case))  # of what can be in an answer, all the way down
        except answers.NoAnswer:
            into.refused += 1

    into.meet(case, met)


@lru_cache(maxsize=1)
def empty_board() -> tuple[ctypes.CDLL, Flash, ctypes.Array[ctypes.c_char]]:
    library, memory = load(image_text(None)), ctypes.create_string_buffer(1 << 12)
    for name in ("pd_image_join", "pd_image_take", "pd_image_quiet"):
        getattr(library, name).restype = None
    return library, Flash(ctypes.addressof(memory), 1 << 12), memory


def noise(rng: Random) -> bytes:
    packets = (
        b"\xff\x00",
        b"\xf5\x04",
        b"\xfe",
        b"\xfd",
        b"\xf6\x00\x00\x01\x14\x00\x00\x00",
        bytes(rng.randrange(1, 300)),
    )
    kinds = (
        b"".join(len(p).to_bytes(2, "little") + b"\0\0" + p for p in rng.choices(packets, k=rng.randrange(1, 5))),
        rng.randbytes(rng.randrange(1, 400)),
        b"GET / HTTP/1.1\r\nHost: x\r\n\r\n",
        b"",
    )
    made = b"".join(rng.choices(kinds, k=rng.randrange(1, 4)))
    return made[: rng.randrange(len(made) + 1)]


def stranger(rng: Random, into: Boundary) -> None:
    """Whoever was there before, in whatever pieces: the next master is answered, and a door hands on whole packets
    only, after “connect”."""
    library, flash, _ = empty_board()
    kind, cto = rng.choice(((0, 255), (1, 250), (3, 255)))
    before = noise(rng)

    def met() -> None:
        own = ctypes.create_string_buffer(library.pd_ctl_size() + 16)
        at, room = ctypes.c_void_p(ctypes.addressof(own)), ctypes.create_string_buffer(1 << 12)
        library.pd_ctl_init(at, None)
        library.pd_image_join(at, ctypes.byref(flash), kind, cto, 255)
        left = before
        while left:
            count = rng.randrange(1, len(left) + 1)
            library.pd_image_take(at, left[:count], count)
            left = left[count:]
        library.pd_image_quiet(at) if kind == 1 else library.pd_image_join(at, ctypes.byref(flash), kind, cto, 255)
        while library.pd_image_give(at, room, len(room)) > 0:
            pass
        packet = b"\x02\x00\x00\x00\xff\x00"
        packet += bytes([sum(packet) & 0xFF]) if kind == 1 else b""
        library.pd_image_take(at, packet, len(packet))
        count = library.pd_image_give(at, room, len(room))
        assert count > HEAD and room.raw[HEAD] == 0xFF, "the next master is not answered"

    into.meet(before, met)

    def handed_on() -> None:
        door = TcpDoor.__new__(TcpDoor)
        door._part, door._spoke = b"", False
        left, first = before, True
        while left:
            count = rng.randrange(1, len(left) + 1)
            packets = door._packets(left[:count])
            if packets is None:
                into.refused += 1
                return
            for packet in packets:
                assert len(packet) == HEAD + int.from_bytes(packet[:2], "little") <= HEAD + door.max_cto
                assert not first or packet[HEAD] == 0xFF
                first = False
            left = left[count:]

    into.meet(before, handed_on)
