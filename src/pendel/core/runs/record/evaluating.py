"""Signals of recorded rows, evaluated by the code of a drive: here, or in a confined process beside.

A window shows runs of drives from anyone, so it loads no code of theirs: it hands rows to such a process and
takes numbers back. Large records go there once."""

from __future__ import annotations

import contextlib
import io
import itertools
import os
import pickle
import queue
import socket
import struct
import threading
import weakref
from collections import OrderedDict
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from multiprocessing import ProcessError
from multiprocessing.connection import Connection
from pathlib import Path
from subprocess import Popen
from typing import Any, Protocol, TypeVar

import numpy as np

from pendel.core.errors import PendelError, RunProblem
from pendel.core.freed import give_back_large_arrays, give_back_now
from pendel.core.plant.program import Doubles, Structure
from pendel.core.plant.rows import Refined, evaluate_signals, refined_rows
from pendel.core.runs.confined import child
from pendel.core.runs.record import content
from pendel.core.runs.record.content import Content
from pendel.core.temporary import temporary_folder

WIRES, MOST_WAITING = 3, 64
"""How many may ask at once: the window and the jobs beside it; and how many may wait for a wire."""
PATIENCE = 120.0
"""Seconds that an answer may take."""
READING = 10.0
"""Seconds that reading a file may take, which some damaged ones would never end."""
TOLD = 10_000
"""Bytes of a sentence."""
LARGE = 1 << 18
"""Bytes from which an array is kept by the process; smaller ones go with each request."""
MOST_HELD = 1 << 30
"""Bytes of arrays that the process keeps."""
LARGEST = 2 << 30
"""Bytes of an array that it may give."""
AT_ONCE = 1 << 20
"""Bytes of an array in one call of the system."""
GONE = (OSError, EOFError, ValueError, struct.error, ProcessError)
"""What it may come to where the process is gone, or what it sends is no answer."""
SHAPE = struct.Struct("<?qq")
"""Begins an answer: whether it went well, and the shape of the array that follows, or a sentence's length."""


class Evaluator(Protocol):
    """Evaluates signals of recorded rows; raises `PendelError` where that is not possible. Rows that were handed over
    once are not to be changed."""

    def signals(self, structure: Structure, rows: Doubles, parameters: Doubles, keys: Sequence[str]) -> Doubles:
        """Chosen signals at every row, shape (rows, len(keys)): `pendel.core.plant.rows.evaluate_signals`."""
        ...

    def refined(self, structure: Structure, rows: Doubles, parameters: Doubles, **how: Any) -> Refined:
        """Rows as traces show them: `pendel.core.plant.rows.refined_rows`."""
        ...


class Here:
    """In this process: for processes that are confined themselves, and for scripts."""

    def signals(self, structure: Structure, rows: Doubles, parameters: Doubles, keys: Sequence[str]) -> Doubles:
        return evaluate_signals(structure, rows, parameters, keys)

    def refined(self, structure: Structure, rows: Doubles, parameters: Doubles, **how: Any) -> Refined:
        return refined_rows(structure, rows, parameters, **how)


HERE = Here()
Answer = TypeVar("Answer")
Wires = queue.SimpleQueue[Connection | None]
"""Those nobody uses; nothing in the place of one tells that its process has ended."""


@dataclass
class Order:
    """What goes to the process. An array or a structure has a number where the process keeps it; ``structure`` and
    the bytes of ``rows`` come along the first time alone."""

    structure_number: int
    structure: Structure | None
    rows_number: int
    shape: tuple[int, int] | None
    parameters: Doubles
    keys: tuple[str, ...] = ()
    how: dict[str, Any] | None = None
    """Of rows to be refined; else signals are wanted."""
    keep_as: tuple[int, ...] = ()
    """Numbers of the answer's arrays, as they are asked about next."""
    forget: tuple[int, ...] = ()
    """Numbers of arrays that nobody has any more."""


@dataclass
class Known:
    """What a process keeps, as the one that asks knows it."""

    structures: dict[Structure, int] = field(default_factory=dict)
    arrays: OrderedDict[int, tuple[weakref.ref[np.ndarray], int, int]] = field(default_factory=OrderedDict)
    """By the identity of an array: itself, its number, and its bytes."""
    numbers: Any = field(default_factory=lambda: itertools.count(1))
    lock: threading.Lock = field(default_factory=threading.Lock)

    def number_of(self, rows: np.ndarray) -> int:
        """The number by which an array is kept; 0 where it is not."""
        entry = self.arrays.get(id(rows))
        if entry is None or entry[0]() is not rows:
            return 0
        self.arrays.move_to_end(id(rows))
        return entry[1]

    def keep(self, rows: np.ndarray, number: int) -> None:
        if rows.nbytes >= LARGE:
            self.arrays[id(rows)] = (weakref.ref(rows), number, rows.nbytes)

    def outdated(self) -> tuple[int, ...]:
        """Takes out what is gone, and the oldest of what is too much."""
        gone = [key for key, (array, *_) in self.arrays.items() if array() is None]
        held = sum(size for *_, size in self.arrays.values())
        for key, (*_, size) in self.arrays.items():
            if held <= MOST_HELD:
                break
            held -= size
            gone.append(key)
        return tuple(self.arrays.pop(key)[1] for key in dict.fromkeys(gone))


@dataclass
class Forget:
    """What goes to the process so that it lets arrays go; there is no answer."""

    numbers: tuple[int, ...]


@dataclass
class Read:
    """What goes to the process for a file to be read, before its bytes."""

    size: int


class EvaluatorProcess:
    """In a confined process, which begins with the first request or `begin`, and again after it ended."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._folder = temporary_folder("signals")
        self._process: Popen[bytes] | None = None
        self._free: Wires = queue.SimpleQueue()
        self._known = Known()
        self._closed = False

    def begin(self) -> None:
        """Start the process, so that it is there when it is wanted."""
        with self._lock:
            if self._closed:
                raise RunProblem("Pendel is closing.")
            if self._process is not None and self._process.poll() is None:
                return
            self._process, wires = child.start_with_streams(__name__, self._folder.name, WIRES)
            self._known, self._free = Known(), queue.SimpleQueue()
            for wire in wires:
                self._free.put(Connection(wire.detach()))

    @property
    def pid(self) -> int:
        """Number of the process; 0 where there is none."""
        return self._process.pid if self._process is not None else 0

    def kill(self) -> None:
        """End the process at once; the next request starts another."""
        self._end(self._free)

    def close(self) -> None:
        """End it; who waits for an answer is told so."""
        with self._lock:
            self._closed = True
        self._end(self._free)
        self._folder.cleanup()

    def signals(self, structure: Structure, rows: Doubles, parameters: Doubles, keys: Sequence[str]) -> Doubles:
        unknown = next((key for key in keys if key not in structure.signals), None)
        if unknown is not None:
            raise KeyError(f"There is no signal {unknown}.")
        return self._ask(structure, rows, parameters, tuple(keys), None)[0]

    def refined(self, structure: Structure, rows: Doubles, parameters: Doubles, **how: Any) -> Refined:
        return Refined(*self._ask(structure, rows, parameters, (), how))

    def forget_released(self) -> None:
        """Have the process let arrays go that nobody has any more, without waiting for the next order; where all wires
        are busy, that will say it."""
        free, known = self._free, self._known
        with contextlib.suppress(queue.Empty):
            wire = free.get_nowait()
            if wire is None:
                free.put(None)
                return
            with known.lock:
                gone = known.outdated()
            with contextlib.suppress(*GONE):
                if gone:
                    wire.send_bytes(pickle.dumps(Forget(gone)))
            free.put(wire)

    def content(self, path: Path) -> Content:
        """What the file of a kept run holds. Raises `PendelError`, and `OSError` where there is no such file."""
        if path.stat().st_size > LARGEST:
            raise RunProblem(f"it has more than {LARGEST >> 30} GB")
        data = path.read_bytes()
        return self._exchange(lambda wire, known: read_beside(wire, data))

    def _ask(
        self, structure: Structure, rows: Doubles, parameters: Doubles, keys: tuple[str, ...], how: Any
    ) -> list[Doubles]:
        order = Order(0, structure, 0, None, parameters, keys, how)
        return self._exchange(lambda wire, known: exchanged(wire, known, rows, replace(order)))

    def _exchange(self, ask: Callable[[Connection, Known], Answer]) -> Answer:
        for last in (False, True):
            wire, free, known = self._wire()
            try:
                answer = ask(wire, known)
            except GONE as problem:
                wire.close()
                self._end(free)
                if last or isinstance(problem, TimeoutError):
                    words = "did not answer in time" if isinstance(problem, TimeoutError) else "ended unexpectedly"
                    raise RunProblem(
                        f"The process that reads and evaluates runs {words}. The run is untouched; show it again."
                    ) from problem
                continue
            except PendelError:  # its answer, and all of it
                free.put(wire)
                raise
            except BaseException:  # who was interrupted leaves a part of the answer behind
                wire.close()
                self._end(free)
                raise
            free.put(wire)
            return answer
        raise AssertionError("the last time ends above")

    def _wire(self) -> tuple[Connection, Wires, Known]:
        """A wire that nobody uses, the queue it belongs to, and what is known at its other end."""
        while True:
            self.begin()
            free, known = self._free, self._known
            wire = free.get()
            if wire is not None:
                return wire, free, known

    def _end(self, free: Wires) -> None:
        """End the process at the other end of these wires; who waits for one of them looks for another."""
        with self._lock:
            if self._process is not None and self._free is free:
                self._process.kill()
                self._process.wait()
                for _ in range(MOST_WAITING):
                    free.put(None)


def exchanged(wire: Connection, known: Known, rows: Doubles, order: Order) -> list[Doubles]:
    """Send an order, and take its arrays.

    Raises
    ------
    PendelError
        with what the process says.
    OSError, EOFError, ValueError, struct.error, ProcessError
        where the process is gone, gives what is no answer, or (TimeoutError) none in time.
    """
    given, structure, known_as = np.ascontiguousarray(rows, dtype=float), order.structure, known.numbers
    assert structure is not None
    with known.lock:
        number = known.structures.get(structure, 0)
        order.structure_number, order.structure = number or next(known_as), None if number else structure
        number = known.number_of(rows)
        order.rows_number, order.shape = (
            number or next(known_as),
            None if number else (len(given), given.shape[1]),
        )
        order.keep_as = () if order.how is None else (next(known_as), next(known_as))
        order.forget = known.outdated()
    wire.send_bytes(pickle.dumps(order))
    if order.shape is not None:
        give(wire, given)
    shapes = [(len(given), len(order.keys))] if order.how is None else [(-1, given.shape[1])] * 2
    arrays = [received(wire, shape) for shape in shapes]
    with known.lock:
        known.structures[structure] = order.structure_number
        for array, kept_as in ((rows, order.rows_number), *zip(arrays, order.keep_as)):
            known.keep(array, kept_as)
    return arrays


def read_beside(wire: Connection, data: bytes) -> Content:
    wire.send_bytes(pickle.dumps(Read(len(data))))
    if data:
        wire.send_bytes(data)
    packed_size = SHAPE.unpack(waited_for(wire, READING))[1:]
    if packed_size[1] != 1:
        raise RunProblem(wire.recv_bytes(TOLD).decode("utf-8", "replace"))
    answer = wire.recv_bytes(LARGEST)
    try:
        return content.unpacked(answer)
    except Exception as problem:  # what a broken process sends may be anything
        raise ValueError("no content of a file") from problem


def waited_for(wire: Connection, patience: float = PATIENCE) -> bytes:
    if not wire.poll(patience):
        raise TimeoutError
    return wire.recv_bytes(SHAPE.size)


def received(wire: Connection, wanted: tuple[int, int]) -> Doubles:
    """One array of the wanted shape; its rows are free where that says -1."""
    well, rows, columns = SHAPE.unpack(waited_for(wire))
    if not well:
        raise RunProblem(wire.recv_bytes(TOLD).decode("utf-8", "replace"))
    if columns != wanted[1] or (rows != wanted[0] and wanted[0] >= 0) or not 0 <= 8 * rows * columns <= LARGEST:
        raise ValueError("an array of another shape")
    array = np.empty((rows, columns))
    take_into(wire, array)
    return array


def give(wire: Connection, array: Doubles) -> None:
    """Write an array to a wire as it lies in memory."""
    left = array.data.cast("B") if array.size else memoryview(b"")
    while left:
        left = left[os.write(wire.fileno(), left[:AT_ONCE]) :]


def take_into(wire: Connection, array: Doubles) -> None:
    """Fill an array from a wire, straight from the system: a `Connection` gathers it in pieces first, for which
    it holds the interpreter as long as the copying takes. Raises EOFError where it ends too soon."""
    left = array.data.cast("B") if array.size else memoryview(b"")
    while left:
        count = os.readv(wire.fileno(), [left[:AT_ONCE]])
        if not count:
            raise EOFError
        left = left[count:]


# in the process ---------------------------------------------------------------------------------------------------


def serve(wires: list[socket.socket], folder: Path) -> None:
    """Answer on all wires until they close."""
    structures: dict[int, Structure] = {}
    arrays: dict[int, Doubles] = {}
    threads = [
        threading.Thread(target=serve_wire, args=(Connection(wire.detach()), structures, arrays)) for wire in wires
    ]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()


def serve_wire(wire: Connection, structures: dict[int, Structure], arrays: dict[int, Doubles]) -> None:
    with contextlib.suppress(EOFError, OSError):
        while True:
            sent = wire.recv_bytes()
            order: Order | Read | Forget = pickle.loads(sent)  # noqa: S301  from the window, never from a file
            if isinstance(order, Read):
                give_content(wire, wire.recv_bytes() if order.size else b"")
                continue
            if isinstance(order, Forget):
                for number in order.numbers:
                    arrays.pop(number, None)
                give_back_now()
                continue
            for number in order.forget:
                arrays.pop(number, None)
            if order.structure is not None:
                structures[order.structure_number] = order.structure
            if order.shape is not None:
                rows = np.empty(order.shape)
                take_into(wire, rows)
                if rows.nbytes >= LARGE:
                    arrays[order.rows_number] = rows
            else:
                rows = arrays[order.rows_number]
            try:
                answer = evaluated(order, structures[order.structure_number], rows)
            except Exception as problem:  # noqa: BLE001  the boundary: whatever happens, the window gets a sentence
                arrays.pop(order.rows_number if order.shape is not None else 0, None)  # nobody knows that it is here
                sentence = str(problem) if isinstance(problem, PendelError) else f"Inside Pendel: {problem!r}."
                wire.send_bytes(SHAPE.pack(False, 0, 0))
                wire.send_bytes(sentence.encode()[:TOLD])
                continue
            for array, number in zip(answer, order.keep_as):
                if array.nbytes >= LARGE:
                    arrays[number] = array
            for array in answer:
                wire.send_bytes(SHAPE.pack(True, *array.shape))
                give(wire, array)


def give_content(wire: Connection, data: bytes) -> None:
    """What a file holds, or why it cannot be read."""
    import h5py

    try:
        with h5py.File(io.BytesIO(data), "r") as file:
            answer, well = content.packed(content.content_of(file)), True
    except Exception as problem:  # noqa: BLE001  whatever a damaged file makes the library raise
        answer, well = (" ".join(str(problem).split()) or type(problem).__name__).encode()[:TOLD], False
    wire.send_bytes(SHAPE.pack(well, len(answer), int(well)))
    wire.send_bytes(answer)


def evaluated(order: Order, structure: Structure, rows: Doubles) -> tuple[Doubles, ...]:
    if order.how is None:
        return (HERE.signals(structure, rows, order.parameters, order.keys),)
    refined = HERE.refined(structure, rows, order.parameters, **order.how)
    return tuple(np.ascontiguousarray(each).reshape(-1, rows.shape[1]) for each in (refined.rows, refined.half_way))


if __name__ == "__main__":
    # The module must be known by its real name, so that records pickle alike on both sides.
    from pendel.core.runs.record import evaluating

    child.stand_back()
    give_back_large_arrays()
    child.serve_streams_confined(evaluating.serve)
