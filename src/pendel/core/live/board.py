"""The process of a simulated board: the drive, and the program loaded onto the board, in step with the clock.

What is loaded is code, so the process is confined like one that runs drives, and has no network: bytes of a link
come and go over a socket that it was given. A message begins with a letter: ``B`` bytes of the link, ``L`` another
link, ``W`` the drive around the board, ``U`` that drive with other values, ``F`` a program, ``P`` a pace. Back come
``B``, and ``S``, its status, as JSON."""

from __future__ import annotations

import contextlib
import ctypes
import json
import math
import mmap
import secrets
import select
import socket
import time
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from pendel.core.errors import DriveHasFindings, PendelError
from pendel.core.firmware.emulated_image import host_text, is_for_processor
from pendel.core.firmware.processors import PROCESSORS
from pendel.core.live.emulator import Emulator
from pendel.core.live.pace import Pace
from pendel.core.plant.program import Inputs, Outcome, Program
from pendel.core.plant.recorded import Ring
from pendel.core.plant.runtime import load, pointer
from pendel.core.plant.simulator import Simulator
from pendel.core.runs.confined.child import serve_confined

if TYPE_CHECKING:
    from pendel.core.controllers.numbers.lowering import Lowered
    from pendel.core.runs.preparing.simulate import Prepared

SLICE = 1e-3
"""Seconds by the clock between two looks at the link."""
BUSY = 5e-3
"""Seconds that may be computed between two."""
REPORT = 0.1
"""Seconds between two reports of its status."""
LATE = 0.01
"""Seconds by which a tick counts as late."""
FIRST_TICKS = 100
"""Of an emulated board, before its clock begins."""
BURST, LONGEST_PACKET = 0.004, 300.0
"""Seconds of a line's speed that may be sent at once, and bytes that it must be at least."""
FLASH = 32 << 20
MESSAGE = 16_000
RING = Ring(50_000, 25_000)
LINE_ALONE = "An emulated processor has a serial line alone. Connect by a serial link or TCP, then build and load."
FOREIGN = (
    "What was loaded was made for another drive than the one around the board. Start the stand-in board with this "
    "drive, then build and load."
)


class Flash(ctypes.Structure):
    """Mirror of ``pd_flash_t`` in board/simulated.c, field by field."""

    _fields_ = (
        ("bytes", ctypes.c_void_p),
        ("room", ctypes.c_uint32),
        ("filled", ctypes.c_uint32),
        ("ended", ctypes.c_int32),
        ("restarts", ctypes.c_int32),
        ("secret", ctypes.c_uint64 * 2),
        ("seeds", ctypes.c_uint64),
    )


@dataclass
class Status:
    """Status of a simulated board. ``load`` is computing time over time by the clock, ``pace`` the simulated time
    over it; ``late`` the seconds that were given up."""

    program: str = "empty"
    time: float = 0.0
    load: float = 0.0
    pace: float = 0.0
    late: float = 0.0
    sentence: str = ""
    processor: str = ""
    """That is emulated; none where the code runs on the host."""
    drives: int = 0
    """How many drives were put around it so far, or changed."""
    changing: bool = False
    """Whether the last of them is still being prepared."""


@dataclass
class World:
    """The drive around the board."""

    program: Program
    inputs: Inputs
    checksum: int
    idle: np.ndarray
    """What its power stage gets while it is off, by command."""
    lowered: Lowered
    """Its controller."""


def idle_commands(prepared: Prepared) -> np.ndarray:
    """What a power stage gets while it is off: no number for gates, which opens them; of an averaged converter, which
    has none, the command of no voltage on average; else 0."""
    from pendel.core.runs.preparing.simulate import prepare

    gates = {p.command: math.nan for p in prepared.structure.pulses}
    twin = prepared.drive.copy()
    twin.settings["level"] = "switching"
    with contextlib.suppress(PendelError):  # not every drive can switch
        for pulse in prepare(twin).structure.pulses:
            gates.setdefault(pulse.command, (0.5 - pulse.offset) / pulse.scale)
    return np.array([gates.get(c, 0.0) for c in prepared.structure.commands], dtype=float)


def world_of(text: str, *, own_c: bool) -> World:
    """Raises `PendelError` where the drive cannot run with its controller as shipped."""
    from pendel.core.drive.file import from_text
    from pendel.core.firmware.board_image import checksum_of
    from pendel.core.runs.preparing.simulate import endless_settings, prepare
    from pendel.core.trust import allow_all_of

    drive = from_text(text)
    if own_c:
        allow_all_of(drive)
    drive.settings["controller"] = "as shipped"
    prepared = prepare(drive)
    run = endless_settings(prepared)
    lowered = prepared.lowered
    return World(prepared.program, prepared.inputs(run), checksum_of(lowered), idle_commands(prepared), lowered)


def world_or_why(text: str, *, own_c: bool) -> tuple[World | None, str]:
    """A world, or a sentence why there is none."""
    try:
        return world_of(text, own_c=own_c), ""
    except DriveHasFindings as problem:
        return None, str(problem.findings[0])
    except PendelError as problem:
        return None, str(problem)


WORLDS = ThreadPoolExecutor(1, "world")


class Board:
    """The board's side of the wire."""

    def __init__(self, wire: socket.socket, folder: Path):
        self.wire, self.folder = wire, folder
        wire.setblocking(False)
        self.memory = mmap.mmap(-1, FLASH)
        self._view = (ctypes.c_ubyte * FLASH).from_buffer(self.memory)
        self.flash = Flash(ctypes.addressof(self._view), FLASH)
        self.flash.seeds = secrets.randbits(62)
        self.link = (0, 255, 1400)
        """Kind, longest command and longest sample, in bytes."""
        self.datagrams = False
        """Whether what is sent must be whole packets."""
        self.rate = 0.0
        """Bytes a second that the line takes; 0 where that does not matter."""
        self._free, self._filled = 0.0, time.monotonic()
        self.world: World | None = None
        self.simulator: Simulator | None = None
        self.emulator: Emulator | None = None
        """Where what was loaded is for another processor."""
        self.pace = Pace()
        self.status = Status()
        self._unsent = b""
        self._room = ctypes.create_string_buffer(MESSAGE)
        self._reported = self._computed = 0.0
        self._since = (time.monotonic(), 0.0)
        self.images = self.drives = 0
        self._coming: list[Future[tuple[World | None, str]]] = []
        """Drives with other values, being prepared."""
        self.start_empty()

    # What runs on it.

    def start_empty(self, sentence: str = "") -> None:
        from pendel.core.firmware.board_image import image_text

        self._let_go()
        self._library = load(image_text(None))
        self._own = ctypes.create_string_buffer(self._library.pd_ctl_size() + 16)
        self._library.pd_ctl_init(ctypes.byref(self._own), None)
        self._at = ctypes.addressof(self._own)
        self.status = Status(sentence=sentence)
        self._join()

    def start_loaded(self) -> None:
        """Run what was loaded, where it fits the drive around the board."""
        self._let_go()
        self.images += 1
        image = self.memory[: self.flash.filled]
        if is_for_processor(image):
            self._start_emulated(image)
            return
        path = self.folder / f"image{self.images}.so"
        path.write_bytes(image)
        try:
            library = ctypes.CDLL(str(path))
        except OSError:
            self.start_empty("What was loaded is no program for this board. Build and load again.")
            return
        checksum = library.pd_image_fact(3) & 0xFFFFFFFF
        if self.world is None or checksum != self.world.checksum:
            self.start_empty(FOREIGN)
            return
        try:
            self._run_with(self.world, library)
        except PendelError as problem:
            self.start_empty(str(problem))
            return
        self._join()

    def _start_emulated(self, image: bytes) -> None:
        """Run a program for another processor on its emulator, coupled to the drive around the board."""
        if self.world is None:
            self.start_empty(FOREIGN)
            return
        if self.datagrams:
            self.start_empty(LINE_ALONE)
            return
        try:
            library = load(host_text(self.world.lowered))
            self.emulator = Emulator(image, PROCESSORS[0], self.folder / f"processor{self.images}")
            self._run_with(self.world, library)
        except PendelError as problem:
            self.start_empty(str(problem))
            return
        library.pd_image_look.restype = None
        library.pd_image_couple.restype = None
        to_plant, from_plant, to_line, from_line = self.emulator.pipes
        library.pd_image_couple(ctypes.c_void_p(self._at), to_plant, from_plant, to_line, from_line)
        self._join()
        if library.pd_image_gone(ctypes.c_void_p(self._at)):
            self.start_empty(FOREIGN)
            return
        self._translate(self.world.inputs.tick)

    def _translate(self, tick: float) -> None:
        """Let the emulator translate the program by its first ticks; the clock begins behind them, as else they would
        all count as late."""
        assert self.simulator is not None
        if self.simulator.advance(FIRST_TICKS * tick) is Outcome.PAUSED:
            self.pace.begin(self.simulator.time)
            self._since = (time.monotonic(), self.simulator.time)
        else:
            self._ended(self.simulator)

    def _run_with(self, world: World, library: ctypes.CDLL) -> None:
        """Raises `PendelError`."""
        self.simulator = Simulator(world.program, world.inputs, ring=RING, controller=library)
        self.simulator.begin_with(world.idle)
        self._library, (_, self._at) = library, self.simulator.controller
        self.pace.begin(0.0)
        self.pace.given_up = self._computed = 0.0
        self._since = (time.monotonic(), 0.0)
        self.status = Status("runs", processor=PROCESSORS[0].title if self.emulator is not None else "")

    def _let_go(self) -> None:
        if self.simulator is not None:
            self.simulator.close()
            self.simulator = None
        if self.emulator is not None:
            self.emulator.close()
            self.emulator = None

    def _join(self) -> None:
        library = self._library
        for name in ("pd_image_join", "pd_image_take", "pd_image_give", "pd_image_late", "pd_image_quiet"):
            getattr(library, name).restype = ctypes.c_int if name.endswith("give") else None
        kind, cto, dto = self.link
        library.pd_image_join(ctypes.c_void_p(self._at), ctypes.byref(self.flash), kind, cto, dto)
        if self.simulator is not None and self.world is not None:
            library.pd_image_idle.restype = None
            idle = np.ascontiguousarray(self.world.idle)
            library.pd_image_idle(ctypes.c_void_p(self._at), ctypes.c_void_p(pointer(idle)))
        self._unsent = b""

    # Its life.

    def serve(self) -> None:
        """Until the other side of the wire is closed."""
        self._report(now=True)
        with contextlib.suppress(ConnectionError, EOFError):
            while True:
                self._turn()

    def _turn(self) -> None:
        simulator = self.simulator
        wait = REPORT if not self.rate else SLICE
        if simulator is not None:
            wait = min(wait, self.pace.wait(simulator.time, SLICE * min(self.pace.factor, 1e3)))
        reads, _, _ = select.select([self.wire], [], [], wait)
        if reads:
            self._hear()
        if self.emulator is not None and not self._look():
            self.start_empty("The emulated processor ended unexpectedly. Build and load again.")
        if self.flash.restarts:
            self._send_answer()
            self.flash.restarts = 0
            self.start_loaded() if self.flash.ended and self.flash.filled else self.start_empty()
        if self._coming and self._coming[0].done():
            self._follow(*self._coming.pop(0).result())
        if self.simulator is not None:
            self._advance(self.simulator)
        self._send_link()
        self._report()

    def _look(self) -> bool:
        """Have an emulated processor look at its line. False where it does not answer any more."""
        assert self.emulator is not None
        self._library.pd_image_look(ctypes.c_void_p(self._at))
        return self.emulator.alive and not self._library.pd_image_gone(ctypes.c_void_p(self._at))

    def _advance(self, simulator: Simulator) -> None:
        begun, before = time.monotonic(), simulator.time
        behind = self.pace.behind(simulator.time)
        tick = self.world.inputs.tick if self.world else SLICE
        step = SLICE * min(self.pace.factor, 1e3)
        while self.pace.is_due(simulator.time + step) and time.monotonic() - begun < BUSY:
            if simulator.advance(simulator.time + step) is not Outcome.PAUSED:
                self._ended(simulator)
                return
        self._computed += time.monotonic() - begun
        if behind > LATE:
            ticks = int((simulator.time - before) / tick)
            self._library.pd_image_late(ctypes.c_void_p(self._at), ticks)

    def _ended(self, simulator: Simulator) -> None:
        """Its drive came to an end of its own; the program's slave is left, as all that it showed last is."""
        words = {Outcome.NOT_FINITE: "one of its states is no number", Outcome.RAN_AWAY: "it ran away"}
        why = words.get(simulator.outcome, "its equations cannot go on")
        at = f"{simulator.time:.6g} s"
        self.start_empty(f"The simulated drive ended at {at}, as {why}. Check its values, then build and load.")

    def _hear(self) -> None:
        while True:
            try:
                message = self.wire.recv(1 << 17)
            except BlockingIOError:
                return
            if not message:
                raise EOFError
            letter, body = message[:1], message[1:]
            if letter == b"B":
                room = max(1, len(body)) if self.datagrams else 255  # a datagram is taken whole
                for at in range(0, len(body), room):
                    part = body[at : at + room]
                    self._library.pd_image_take(ctypes.c_void_p(self._at), part, len(part))
                    self._send_link()
                    if self.flash.restarts:
                        return
            else:
                self._obey(letter, json.loads(body))

    def _obey(self, letter: bytes, what: dict) -> None:
        if letter == b"L":
            self.link = (int(what["kind"]), int(what["max_cto"]), int(what["max_dto"]))
            self.datagrams = bool(what["datagrams"])
            self.rate = float(what["rate"])
            if self.emulator is not None and self.datagrams:
                self.start_empty(LINE_ALONE)
            else:
                self._join()
        elif letter == b"Q":
            self._library.pd_image_quiet(ctypes.c_void_p(self._at))
        elif letter == b"P":
            self.pace.change(float(what["factor"]), self.simulator.time if self.simulator else 0.0)
        elif letter == b"F":
            image = (self.folder / Path(what["image"]).name).read_bytes()
            if self.world is not None and len(image) <= FLASH:
                self.memory[: len(image)] = image
                self.flash.filled, self.flash.ended = len(image), 1
                self.start_loaded()
        elif letter in (b"W", b"U"):
            self.drives += 1
            text = (self.folder / Path(what["drive"]).name).read_text("utf-8")
            own_c = bool(what["own_c"])
            if letter == b"W":
                self._surround(*world_or_why(text, own_c=own_c), bytes.fromhex(what["secret"]))
                self._report(now=True)
            else:  # it goes on meanwhile
                self._coming.append(WORLDS.submit(world_or_why, text, own_c=own_c))

    def _surround(self, world: World | None, sentence: str, secret: bytes) -> None:
        halves = (int.from_bytes(part, "little") for part in (secret[:8], secret[8:16]))
        self.flash.secret[0], self.flash.secret[1] = halves
        self.world = world
        self._coming.clear()  # what changed the one before
        self.start_empty(sentence)

    def _follow(self, world: World | None, sentence: str) -> None:
        """The drive around the board was changed while it runs: its parts' values and profiles hold from now
        on, and after each restart."""
        if self.simulator is None or self.world is None:
            return
        if world is not None and world.checksum == self.world.checksum:
            try:
                self.simulator.renew(replace(world.inputs, controls=self.simulator.inputs.controls))
                self.world = world
            except PendelError as problem:
                sentence = str(problem)
        elif not sentence:
            sentence = "The drive is another than the one around the board. Build and load again."
        self.status.sentence = sentence

    def _send_link(self) -> None:
        """What the slave has to send; what the wire does not take now waits, and so does the rest."""
        while True:
            if not self._unsent:
                room = self._line_takes()
                count = self._library.pd_image_give(ctypes.c_void_p(self._at), self._room, room) if room else 0
                if count <= 0:
                    return
                self._free -= count
                self._unsent = b"B" + self._room.raw[:count]
            try:
                self.wire.send(self._unsent)
            except BlockingIOError:
                return
            self._unsent = b""

    def _send_answer(self) -> None:
        """What answers the order to restart, before the program that gave it is gone."""
        until = time.monotonic() + LONGEST_PACKET / max(self.rate, 1e4)
        while time.monotonic() < until:
            self._send_link()
            time.sleep(SLICE)

    def _line_takes(self) -> int:
        """Bytes that can be sent now."""
        if not self.rate:
            return MESSAGE
        now = time.monotonic()
        self._free = min(self._free + (now - self._filled) * self.rate, max(BURST * self.rate, LONGEST_PACKET))
        self._filled = now
        return min(MESSAGE, int(self._free))

    def _report(self, *, now: bool = False) -> None:
        at = time.monotonic()
        if not now and at - self._reported < REPORT:
            return
        status, span = self.status, at - self._since[0]
        if self.simulator is not None and span > 0.5 * REPORT:
            status.time = self.simulator.time
            status.pace = (status.time - self._since[1]) / span
            status.load = self._computed / span
            status.late = self.pace.given_up
            self._computed, self._since = 0.0, (at, status.time)
        self._reported = at
        with contextlib.suppress(BlockingIOError):  # the next one says it
            status.drives, status.changing = self.drives, bool(self._coming)
            self.wire.send(b"S" + json.dumps(asdict(status)).encode())


if __name__ == "__main__":
    serve_confined(lambda wire, folder: Board(wire, folder).serve())
