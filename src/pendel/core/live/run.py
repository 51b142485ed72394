"""The process of a live run: a drive in step with the clock, looked at, changed and kept while it goes on.

It is confined like a process of ordinary runs. Messages over its socket begin with a letter; `Orders` lists those.
Back come frames (``F``), signals that were asked for (``R``) and runs that were kept (``K``); a frame is sent only
when the last one was taken (``A``), so nothing grows where nobody looks."""

from __future__ import annotations

import contextlib
import ctypes
import json
import math
import select
import socket
import time
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from pendel.core.errors import DriveHasFindings, PendelError
from pendel.core.live.frames import Points, packed, thinned
from pendel.core.live.pace import Pace
from pendel.core.plant.program import Outcome
from pendel.core.plant.recorded import Latest, Ring
from pendel.core.plant.rows import extremes, last_before, lean_library
from pendel.core.plant.runtime import build_fastest, time_loop
from pendel.core.plant.simulator import Simulator
from pendel.core.runs.confined.child import serve_confined

if TYPE_CHECKING:
    from pendel.core.runs.preparing.simulate import Prepared

SLICE, BUSY = 2e-3, 2e-2
"""Seconds by the clock between two looks at the socket, and that may be computed between two."""
FRAME = 0.04
"""Seconds by the clock between two frames."""
RECORD, TICKS = 64 << 20, 16 << 20
"""Bytes of the latest part of the record that is kept at least: rows, and signals of ticks."""
POINTS = 1600
"""Of a signal over all that is shown; where there were more, their extremes are left."""
LARGEST = 180_000
"""Bytes of a message."""


@dataclass
class Status:
    """Status of a live run. ``state``: preparing, runs, paused or ended. ``pace`` and ``load`` by the clock;
    ``late`` the seconds that were given up."""

    state: str = "preparing"
    time: float = 0.0
    pace: float = 0.0
    load: float = 0.0
    late: float = 0.0
    since: float = 0.0
    """s; when a value of a part was changed last, from where on a run can be kept."""
    sentence: str = ""
    drives: int = 0
    """How many drives it was given."""
    followed: int = 0
    """How many of them it has taken, or said why not."""


class LiveProcess:
    """The process's side of the socket."""

    def __init__(self, wire: socket.socket, folder: Path):
        self.wire, self.folder = wire, folder
        wire.setblocking(False)
        self.pace, self.status = Pace(), Status()
        self.paused = False
        self.prepared: Prepared | None = None
        self.simulator: Simulator | None = None
        self.watched: list[str] = []
        self.span = 1.0
        """s; of what is shown of them."""
        self._waiting: dict[str, tuple[list[np.ndarray], list[np.ndarray]]] = {}
        """By watched signal: what was not sent yet."""
        self._next_row = self._next_tick = 0
        self._taken, self._framed, self._computed = True, 0.0, 0.0
        self._mark = (time.monotonic(), 0.0)
        self._worlds = ThreadPoolExecutor(1, "prepare")
        self._coming: list[Future[Prepared | str]] = []
        self.faster: Future[bool] | None = None
        """A faster loop, being built."""
        self._lean: Future[ctypes.CDLL] | None = None
        """What evaluates just the watched signals of the plant, once it is built."""
        self._older: Latest | None = None
        """What was recorded before that."""
        self._speed = 1.0
        """Simulated time per time by the clock while it computes."""
        self._goal: float | None = None
        """s; where it is to pause."""
        self._files = 0

    # Its life.

    def serve(self) -> None:
        """Until the other side of the socket is closed."""
        with contextlib.suppress(ConnectionError, EOFError):
            while True:
                self._turn()

    def close(self) -> None:
        self._worlds.shutdown()
        if self.simulator is not None:
            self.simulator.close()

    def _turn(self) -> None:
        simulator = self.simulator
        wait = FRAME
        if simulator is not None and not self.paused:
            wait = min(wait, self.pace.wait(simulator.time, self._slice()))
        reads, _, _ = select.select([self.wire], [], [], wait)
        if reads:
            self._hear()
        if self._coming and self._coming[0].done():
            self.follow(self._coming.pop(0).result())
        if self.faster is not None and self.faster.done() and not self.paused:
            self.go_on_faster()
        if self.simulator is not None and not self.paused:
            self._advance(self.simulator)
        self._send_frame()

    def _advance(self, simulator: Simulator) -> None:
        begun = time.monotonic()
        self.pace.behind(simulator.time)
        while time.monotonic() - begun < BUSY:
            before, since = simulator.time, time.monotonic()
            until = before + self._slice()
            until = until if self._goal is None else min(until, self._goal)
            if not self.pace.is_due(until):
                break
            outcome = simulator.advance(until)
            self._speed = (simulator.time - before) / max(1e-6, time.monotonic() - since)
            if outcome is not Outcome.PAUSED:
                self._end_of_run(simulator)
                break
            if self._goal is not None and simulator.time >= self._goal:
                self._pause()
                break
        self._computed += time.monotonic() - begun

    def _slice(self) -> float:
        """Seconds of the run that take `SLICE` by the clock, as far as is known."""
        return SLICE * min(self.pace.factor, self._speed)

    def _end_of_run(self, simulator: Simulator) -> None:
        from pendel.core.runs.preparing.simulate import outcome_sentence

        assert self.prepared is not None
        self.paused, self.status.state = True, "ended"
        self.status.sentence = outcome_sentence(self.prepared.drive, simulator.recorded())

    def _pause(self) -> None:
        self.paused, self._goal, self._framed = True, None, 0.0
        self.status.state = "paused"

    # Orders.

    def _hear(self) -> None:
        while True:
            try:
                message = self.wire.recv(1 << 18)
            except BlockingIOError:
                return
            if not message:
                raise EOFError
            self._obey(message[:1], json.loads(message[1:] or b"{}"))

    def _obey(self, letter: bytes, what: dict[str, Any]) -> None:
        simulator = self.simulator
        if letter == b"A":
            self._taken = True
        elif letter in (b"D", b"C"):
            self.status.drives += 1
            text = (self.folder / Path(what["drive"]).name).read_text("utf-8")
            self._coming.append(self._worlds.submit(prepared_or_why, text, own_c=bool(what["own_c"])))
        elif letter == b"P":
            factor = float(what["factor"])
            self.pace.change(factor, simulator.time if simulator else 0.0)
            self._remark()
        elif letter == b"H" and simulator is None:
            self.paused = True  # it will stand at its start
        elif letter == b"W":
            self._watch([str(key) for key in what["keys"]], float(what["span"]))
        elif simulator is None:
            return
        elif letter == b"R":
            self._read(simulator, [str(key) for key in what["keys"]])
        elif letter == b"K":
            self._keep(float(what["seconds"]), str(what["name"]), Path(what["path"]).name)
        elif self.status.state == "ended":
            return
        elif letter == b"H":
            self._pause()
        elif letter == b"G":
            self._go_on(what)

    def _go_on(self, what: dict[str, Any]) -> None:
        """Go on; with ``ticks`` only so far."""
        assert self.simulator is not None and self.prepared is not None
        self.paused, self.status.state = False, "runs"
        self.pace.begin(self.simulator.time)
        ticks = int(what.get("ticks", 0))
        tick = self.prepared.deck.tick if self.prepared.deck.blocks else self.prepared.examined.settings["tick"]
        self._goal = (np.floor(self.simulator.time / tick + 1e-6) + ticks) * tick if ticks else None
        self._remark()

    def _remark(self) -> None:
        self._mark, self._computed = (time.monotonic(), self.simulator.time if self.simulator else 0.0), 0.0

    def follow(self, prepared: Prepared | str) -> None:
        """A drive is ready: the first one begins the run, a later one changes its values."""
        self.status.followed += 1
        self._framed = 0.0  # send the status at once
        if isinstance(prepared, str):
            self.status.sentence = prepared
            if self.simulator is None:
                self.status.state, self.paused = "ended", True
            return
        if self.simulator is None:
            self._begin(prepared)
            return
        assert self.prepared is not None
        if prepared.structure is not self.prepared.structure and prepared.structure != self.prepared.structure:
            self.status.sentence = "The drive has other parts or wires now. Start the live run again."
            return
        if prepared.program.control != self.prepared.program.control:
            self.status.sentence = "The controller has other blocks or code now. Start the live run again."
            return
        self._collect()  # what was recorded belongs to the values it was recorded with
        before = self.simulator.inputs
        try:
            self.simulator.renew(prepared.inputs(before.settings))
        except PendelError as problem:
            self.status.sentence = str(problem)
            return
        now = self.simulator.inputs
        if not np.array_equal(now.parameters, before.parameters) or now.profiles != before.profiles:
            self.status.since = self.simulator.time
        self.prepared, self.status.sentence = prepared, ""

    def _begin(self, prepared: Prepared) -> None:
        from pendel.core.runs.preparing.simulate import endless_settings

        width = 1 + sum(prepared.structure.row_shape)
        signals = max(1, len(prepared.deck.signals))
        self._ring = Ring(RECORD // (8 * width), TICKS // (8 * signals))
        try:
            time_loop()  # which looks at what is recorded; built before the clock begins
            self.simulator = Simulator(prepared.program, prepared.inputs(endless_settings(prepared)), ring=self._ring)
        except PendelError as problem:
            self.status = Status("ended", 0.0, sentence=str(problem), drives=self.status.drives, followed=1)
            self.paused = True
            return
        self.prepared, self.status.state = prepared, "paused" if self.paused else "runs"
        self.faster = self._worlds.submit(build_fastest, prepared.structure)
        self._build_lean()
        self.pace.begin(0.0)
        self._remark()

    def go_on_faster(self) -> None:
        """Go on in a loop that was built for the sizes of this drive meanwhile, with the same rows to the
        bit."""
        future, self.faster = self.faster, None
        assert future is not None
        if future.exception() is not None or not future.result() or self.simulator is None:
            return
        self._collect()
        old, self.simulator = (
            self.simulator,
            Simulator(self.simulator.program, self.simulator.inputs, ring=self._ring),
        )
        self.simulator.restore(old.state())
        self._older = old.since(0, 0)
        old.close()
        latest = self.simulator.since(0, 0, lent=True)
        self._next_row, self._next_tick = (
            latest.first_row + len(latest.rows),
            latest.first_tick + len(latest.ticks),
        )

    def _watch(self, keys: list[str], span: float) -> None:
        self._collect()
        self.watched, self.span = keys, max(1e-9, span)
        self._waiting = {k: v for k, v in self._waiting.items() if k in keys}
        self._build_lean()

    def _build_lean(self) -> None:
        """What evaluates no more than is watched, for whoever watches for long."""
        self._lean = None
        if self.prepared is not None:
            structure = self.prepared.structure
            plant = [k for k in self.watched if k in structure.signals]
            self._lean = self._worlds.submit(lean_library, structure, plant) if plant else None

    # Frames.

    def _collect(self) -> None:
        """Signals of what was recorded since the last time."""
        simulator, prepared = self.simulator, self.prepared
        if simulator is None or prepared is None:
            return
        latest = simulator.since(self._next_row, self._next_tick, lent=True)
        self._next_row = latest.first_row + len(latest.rows)
        self._next_tick = latest.first_tick + len(latest.ticks)
        plant = [k for k in self.watched if k in prepared.structure.signals]
        if plant and len(latest.rows):
            begin = int(last_before(latest.rows, latest.rows[-1:, 0] - self.span)[0])  # no more will be shown
            rows = latest.rows[begin:]
            parts = math.ceil(POINTS * (rows[-1, 0] - rows[0, 0]) / self.span)
            lean = self._lean.result() if self._lean and self._lean.done() and not self._lean.exception() else None
            curves = extremes(prepared.structure, rows, simulator.inputs.parameters, plant, parts, lean)
            for key, (t, y) in zip(plant, curves):
                self._append(key, t, y)
        blocks = prepared.deck.signals
        times = (latest.first_tick + np.arange(len(latest.ticks))) * prepared.deck.tick
        for key in self.watched:
            if key in blocks and len(times):
                self._append(key, times, latest.ticks[:, blocks.index(key)].copy())

    def _append(self, key: str, t: np.ndarray, y: np.ndarray) -> None:
        times, values = self._waiting.setdefault(key, ([], []))
        times.append(t)
        values.append(y)
        if len(times) > 64:  # nobody takes them: keep their extremes
            t, y = thinned(np.concatenate(times), np.concatenate(values), POINTS)
            self._waiting[key] = ([t], [y])

    def _send_frame(self) -> None:
        now = time.monotonic()
        if now - self._framed < FRAME:
            return
        self._framed = now
        self._collect()
        if not self._taken:
            return
        traces = {
            key: self._thinned(np.concatenate(t), np.concatenate(y)) for key, (t, y) in self._waiting.items() if t
        }
        data = packed(asdict(self._present_status()), traces, LARGEST)
        try:
            self.wire.send(b"F" + data)
        except BlockingIOError:
            return
        self._waiting, self._taken = {}, False

    def _thinned(self, t: np.ndarray, y: np.ndarray) -> Points:
        begin = max(float(t[0]), float(t[-1]) - self.span)  # nothing before it will be shown
        t, y = t[t >= begin], y[t >= begin]
        return thinned(t, y, max(16, int(POINTS * (float(t[-1]) - begin) / self.span)))

    def _present_status(self) -> Status:
        status, span = self.status, time.monotonic() - self._mark[0]
        if self.simulator is not None:
            status.time = self.simulator.time
            if span > 0.5 and not self.paused:
                status.pace = (status.time - self._mark[1]) / span
                status.load = self._computed / span
                self._remark()
            status.late = self.pace.given_up
        return status

    def _read(self, simulator: Simulator, keys: list[str]) -> None:
        """Signals at this instant, for whoever asked."""
        answer: dict[str, Any] = {"values": {}, "problem": ""}
        try:
            answer["values"] = simulator.read(keys)
        except PendelError as problem:
            answer["problem"] = str(problem)
        with contextlib.suppress(BlockingIOError):
            self.wire.send(b"R" + json.dumps(answer).encode())

    # Keeping.

    def _keep(self, seconds: float, name: str, file: str) -> None:
        """The latest seconds as a run, in a file for whoever asked."""
        from pendel.core.runs.record.kept import save

        answer = {"path": file, "problem": ""}
        try:
            save(self.latest_run(seconds, name), self.folder / file)
        except PendelError as problem:
            answer["problem"] = str(problem)
        with contextlib.suppress(BlockingIOError):
            self.wire.send(b"K" + json.dumps(answer).encode())

    def latest_run(self, seconds: float, name: str) -> Any:
        from pendel.core.runs.record.kept import KeptRun

        simulator, prepared = self.simulator, self.prepared
        assert simulator is not None and prepared is not None
        deck, latest = prepared.deck, behind(self._older, simulator.since(0, 0))
        begin = max(simulator.time - seconds, self.status.since)
        first_tick = max(latest.first_tick, int(np.ceil(begin / deck.tick - 1e-9))) if deck.blocks else 0
        if deck.blocks:
            begin = first_tick * deck.tick
        rows = latest.rows[latest.rows[:, 0] >= begin - 1e-12]
        ticks = latest.ticks[first_tick - latest.first_tick :] if deck.blocks else latest.ticks
        return KeptRun(
            name,
            rows,
            ticks,
            prepared.structure,
            simulator.inputs.parameters,
            deck.signals,
            deck.tick,
            deck.delay,
            dict(prepared.infos),
            Outcome.DONE,
            "",
            {"steps": 0, "rejected": 0, "evaluations": 0, "events": 0, "stiff_steps": 0},
            prepared.text,
            {
                "until": float(rows[-1, 0]) if len(rows) else 0.0,
                "tolerance": simulator.inputs.settings.tolerance,
            },
            level=prepared.drive.settings["level"],
            first_tick=first_tick,
        )


def behind(older: Latest | None, latest: Latest) -> Latest:
    """A record that was begun again, behind the one before, whose last row is its first."""
    if older is None or not len(latest.rows) or not len(older.rows) or older.rows[-1, 0] != latest.rows[0, 0]:
        return latest
    rows = np.concatenate([older.rows[:-1], latest.rows])
    return Latest(rows, older.first_row, np.concatenate([older.ticks, latest.ticks]), older.first_tick)


def prepared_or_why(text: str, *, own_c: bool) -> Prepared | str:
    """A drive ready to run, or a sentence why it is not."""
    from pendel.core.drive.file import from_text
    from pendel.core.runs.preparing.simulate import prepare_run
    from pendel.core.trust import allow_all_of, refuse_strange_c

    try:
        drive = from_text(text)
        if own_c:
            allow_all_of(drive)
        refuse_strange_c(drive, "allow it")
        prepared = prepare_run(drive)
        _ = prepared.program  # which may find that a block has no C in its format
        return prepared
    except DriveHasFindings as problem:
        return str(problem.findings[0])
    except PendelError as problem:
        return str(problem)


__all__ = ["LiveProcess", "Status"]

if __name__ == "__main__":
    serve_confined(lambda wire, folder: LiveProcess(wire, folder).serve())
