"""Does for callers what `methods` lists, with the drive of an owner. In the host: see `host`."""

from __future__ import annotations

import contextlib
import itertools
import socket
import struct
import threading
import time
from collections import deque
from collections.abc import Callable, Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from pendel.core.errors import PendelError
from pendel.core.plant.simulator import Watch
from pendel.core.verbs.plain import plain
from pendel.interface.api import Drive
from pendel.interface.card_view import CardView
from pendel.interface.drive_series import SeriesView
from pendel.interface.run_view import Run
from pendel.remote.channels import StreamChannel
from pendel.remote.here import HereDrive
from pendel.remote.messages import NO_METHOD, Call, WrongCall, answer_to, failure
from pendel.remote.methods import Method, method_called

HEAD = struct.Struct("<QQ")
"""Before each message between door and desk: whose it is, and its bytes."""
MOST_RUNS, MOST_TICKETS, MOST_AT_ONCE, MOST_EVENTS = 40, 200, 8, 1000
LONGEST_WAIT, LOOK = 30.0, 0.1
"""s for which a caller may wait for an event or a ticket, and between two looks."""


@dataclass
class Ticket:
    """A call that goes on while its caller asks for other things."""

    number: str
    method: str
    watch: Watch
    done: threading.Event = field(default_factory=threading.Event)
    answer: dict[str, Any] = field(default_factory=dict)
    until: float = 0.0

    def as_record(self) -> dict[str, Any]:
        progress = float(self.watch.progress[0])
        state: dict[str, Any] = {"ticket": self.number, "method": self.method, "done": self.done.is_set()}
        if self.until > 0 and progress > 0:
            state["progress"] = min(1.0, progress / self.until)
        return {**state, **self.answer}


class Desk:
    """One drive and the runs that callers have made of it. Calls that change the drive come one after the other."""

    def __init__(self, channel: StreamChannel):
        self._channel = channel
        self._drive = HereDrive(channel)
        self._changing, self._numbers = threading.RLock(), itertools.count(1)
        self.runs: dict[str, Run] = {}
        self._tickets: dict[str, Ticket] = {}
        self._events: deque[dict[str, Any]] = deque(maxlen=MOST_EVENTS)
        self._event_numbers, self._seen = itertools.count(1), -1
        self._own: dict[str, Callable[..., Any]] = {
            "rpc.discover": self._discover,
            "ticket.begin": self._begin,
            "ticket.look": self._look,
            "ticket.stop": self._stop,
            "events.since": self._since,
            "runs.list": self._list,
            "runs.forget": self._forget,
        }

    def do(self, call: Call) -> Any:
        """What a call gives, as JSON has it. Raises `PendelError`."""
        if call.method.startswith("here."):
            if not isinstance(call.params, dict):
                raise WrongCall(f"{call.method} takes its parameters by name.")
            return self._channel.call(call.method, **call.params)
        if call.method in self._own:
            if not isinstance(call.params, dict):
                raise WrongCall(f"{call.method} takes its parameters by name.")
            try:
                return self._own[call.method](**call.params)
            except TypeError as problem:
                raise WrongCall(f"{call.method} takes other parameters: see rpc.discover.") from problem
        method = method_called(call.method)
        if method.changes:
            return self._changed(method, call.params)
        if method.on == "run":
            return self._performed(method, call.params, self._drive)
        with self._changing:
            if not method.runs:
                return self._performed(method, call.params, self._drive)
            drive = Drive(document=self._drive.document.copy())  # nobody waits for a run
        return self._performed(method, call.params, drive)

    def _changed(self, method: Method, params: dict[str, Any] | list[Any]) -> Any:
        """Do what may change the drive, as one step."""
        with self._changing:
            before = self._drive.generation
            with self._drive.together():
                result = self._performed(method, params, self._drive)
            if self._drive.generation != before:
                self._tell_event("drive changed", method=method.name)
        return result

    def _performed(self, method: Method, params: dict[str, Any] | list[Any], drive: Drive) -> Any:
        if method.on == "drive":
            places, names = method.given(params)
            if isinstance(names.get("run"), str):
                names["run"] = self._run(names["run"])
            return self._as_json(method.does(drive, *places, **names), drive)
        if not isinstance(params, dict):
            raise WrongCall(f"{method.name} takes its parameters by name.")
        params = dict(params)
        name = params.pop(method.on, None)
        if not isinstance(name, str):
            raise WrongCall(f"{method.name} needs “{method.on}”.")
        places, names = method.given(params)
        on = self._run(name) if method.on == "run" else self._card(drive, name)
        return self._as_json(method.does(on, *places, **names), drive)

    def _run(self, name: str) -> Run:
        if name not in self.runs:
            known = ", ".join(self.runs) or "none"
            raise WrongCall(f"There is no run “{name[:40]}”. Runs at hand: {known}.")
        return self.runs[name]

    def _card(self, drive: Drive, name: str) -> CardView:
        return drive.card(name)

    def _as_json(self, result: Any, drive: Drive) -> Any:
        """A result as JSON has it; a run stays here and goes by a name."""
        if isinstance(result, Run):
            name = f"run {next(self._numbers)}"
            self.runs[name] = result
            while len(self.runs) > MOST_RUNS:
                self.runs.pop(next(iter(self.runs)))
            self._tell_event("run finished", run=name)
            return {"run": name, **facts_of(result)}
        if isinstance(result, SeriesView):
            return plain(result.run())
        if isinstance(result, CardView):
            return result.key
        if isinstance(result, Mapping) and any(isinstance(each, CardView) for each in result.values()):
            return {key: {"name": c.name, "kind": c.kind.id} for key, c in result.items()}
        try:
            return plain(result)
        except TypeError as problem:
            raise WrongCall(f"What this gives has no form in JSON: {problem}.", NO_METHOD) from problem

    # beside the methods ------------------------------------------------------------

    def _discover(self) -> Any:
        from pendel.remote.describe import document

        return document()

    def _list(self) -> Any:
        return {name: facts_of(run) for name, run in self.runs.items()}

    def _forget(self, run: str) -> None:
        self._run(run)
        del self.runs[run]

    def _begin(self, method: str, params: dict[str, Any] | list[Any] | None = None) -> Any:
        """Begin a call that may take long, and give its ticket at once."""
        found, given = method_called(method), {} if params is None else params
        if sum(not ticket.done.is_set() for ticket in self._tickets.values()) >= MOST_AT_ONCE:
            raise WrongCall(f"{MOST_AT_ONCE} calls are under way. Wait for one, or stop it.")
        ticket = Ticket(f"ticket {next(self._numbers)}", method, Watch.private())
        self._tickets[ticket.number] = ticket
        for number in [n for n, each in self._tickets.items() if each.done.is_set()][: -MOST_TICKETS or None]:
            del self._tickets[number]
        threading.Thread(target=self._work_off, args=(ticket, found, given), daemon=True).start()
        return {"ticket": ticket.number}

    def _work_off(self, ticket: Ticket, method: Method, params: dict[str, Any] | list[Any]) -> None:
        try:
            if method.changes:
                ticket.answer = {"result": self._changed(method, params)}
            else:
                with self._changing:
                    drive = Drive(document=self._drive.document.copy())
                drive._watch = ticket.watch
                with contextlib.suppress(PendelError):
                    from pendel.core.drive.user_text import read_figure

                    ticket.until = read_figure(drive.document, drive.document.settings["until"], "s", 0.0)
                ticket.answer = {"result": self._performed(method, params, drive)}
        except Exception as problem:  # noqa: BLE001  the call's boundary
            ticket.answer = {"error": failure(None, problem)["error"]}
        ticket.done.set()
        self._tell_event("ticket done", ticket=ticket.number)

    def _ticket(self, number: str) -> Ticket:
        if number not in self._tickets:
            raise WrongCall(f"There is no ticket “{str(number)[:40]}”.")
        return self._tickets[number]

    def _look(self, ticket: str, wait: float = 0.0) -> Any:
        """How a call stands, at once or after up to so many seconds."""
        found = self._ticket(ticket)
        found.done.wait(max(0.0, min(float(wait), LONGEST_WAIT)))
        return found.as_record()

    def _stop(self, ticket: str) -> Any:
        """Ask a run to stop. What it has computed is lost; other calls go on to their end."""
        found = self._ticket(ticket)
        found.watch.stop[0] = 1
        return found.as_record()

    def _tell_event(self, what: str, **facts: Any) -> None:
        self._events.append({"number": next(self._event_numbers), "event": what, **facts})

    def _since(self, cursor: int = 0, wait: float = 0.0) -> Any:
        """What happened after an event's number, at once or as soon as something does within so many seconds."""
        until = time.monotonic() + max(0.0, min(float(wait), LONGEST_WAIT))
        while True:
            self._look_at_drive()
            events = [event for event in list(self._events) if event["number"] > cursor]
            if events or time.monotonic() >= until:
                return {"cursor": events[-1]["number"] if events else cursor, "events": events}
            time.sleep(LOOK)

    def _look_at_drive(self) -> None:
        """Whether somebody else has changed the drive."""
        generation = self._channel.call("here.fetch", generation=self._seen)["generation"]
        if generation != self._seen:
            if self._seen >= 0 and generation != self._drive.generation:
                self._tell_event("drive changed")
            self._seen = generation


def facts_of(run: Run) -> dict[str, Any]:
    kept = run.kept
    return {"end": kept.end, "level": kept.level, "signals": len(run), "remarks": run.remarks}


def serve_desk(channel: StreamChannel, wire: socket.socket) -> int:
    """Answer what comes on a wire, several calls at a time, until it is closed."""
    desk, lock = Desk(channel), threading.Lock()

    def work(number: int, text: bytes) -> None:
        data = answer_to(text, desk.do).encode()
        with lock, contextlib.suppress(OSError):
            wire.sendall(HEAD.pack(number, len(data)) + data)

    np.seterr(all="ignore")
    with ThreadPoolExecutor(MOST_AT_ONCE + 4) as pool, contextlib.suppress(EOFError, OSError):
        while True:
            number, size = HEAD.unpack(taken(wire, HEAD.size))
            pool.submit(work, number, taken(wire, size))
    return 0


def taken(wire: socket.socket, size: int) -> bytes:
    """So many bytes. Raises `EOFError` where the other side closes before."""
    data = bytearray(size)
    view = memoryview(data)
    while view:
        count = wire.recv_into(view)
        if not count:
            raise EOFError
        view = view[count:]
    return bytes(data)
