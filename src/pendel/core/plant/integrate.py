"""One run of a plant with its controller, in this process."""

from __future__ import annotations

import ctypes
import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from enum import IntEnum

import numpy as np

from pendel.core.controllers.deck import ControlDeck
from pendel.core.controllers.emit import simulation_source, simulation_values, states_of
from pendel.core.plant.model import (
    PlantModel,
    PulseStruct,
    RunStruct,
    address,
    fastest_loop,
    load_together,
    pointer,
    taken,
)


class Outcome(IntEnum):
    """How a run ended."""

    DONE = 0
    STOPPED = 1
    RAN_AWAY = 2
    STEP_VANISHED = 3
    CHATTERS = 4
    NO_MEMORY = 5
    NOT_FINITE = 6
    SHORTED = 7


METHODS = {"auto": 0, "explicit": 1, "stiff": 2, "fast": 3, "fixed": 4}
MEMORY_LIMIT_LOG2 = 32
RECORD_BYTES = 256_000_000
"""From this size on a record is thinned, its older part first."""


@dataclass(frozen=True)
class RunSettings:
    """``until`` in s; ``tolerance`` relative, the absolute one is a thousandth of it."""

    until: float
    tolerance: float = 1e-6
    method: str = "auto"
    seed: int = 1
    h_max: float = 1e9
    fixed_step: float = 1e-6
    shorts: tuple[ShortPath, ...] = ()
    """Sets of devices that end the run when they conduct together for longer than ``short_limit`` (s)."""
    short_limit: float = 1e-3


@dataclass(frozen=True)
class DeviceTest:
    """A device conducts with any, or with all, of these modes (at most three) at 1."""

    modes: tuple[str, ...]
    all_needed: bool = False


@dataclass(frozen=True)
class ShortPath:
    """Devices (card keys) that join both ends of a source when all of them conduct."""

    source: str
    devices: tuple[str, ...]
    tests: tuple[DeviceTest, ...]


@dataclass
class Recorded:
    """Raw result: rows of (t, states, inputs, modes) and of control signals per tick."""

    rows: np.ndarray
    ticks: np.ndarray
    outcome: Outcome
    culprit: str
    ended_at: float
    counters: dict[str, int]
    thinned_until: float = 0.0
    """Until this time (s) one row is kept for each ``thinned_to`` (s)."""
    thinned_to: float = 0.0
    computing: float = 0.0
    """Of a fixed-step run: seconds of computing in its steps, and of the slowest."""
    worst_step: float = 0.0
    remembered: dict[str, float] = field(default_factory=dict)
    """What the blocks remember at the end, by ``block.state``."""


@dataclass
class Watch:
    """Shared flags of a run: set ``stop`` to end it, read ``progress`` (s); ``busy`` is above zero where it looks at its record and
    hears of a stop only afterwards."""

    stop: np.ndarray
    progress: np.ndarray
    busy: np.ndarray = field(default_factory=lambda: np.zeros(1, dtype=np.int32))

    @classmethod
    def private(cls) -> Watch:
        return cls(np.zeros(1, dtype=np.int32), np.zeros(1))


def integrate(
    model: PlantModel,
    deck: ControlDeck,
    settings: RunSettings,
    watch: Watch | None = None,
    condense: Callable[[np.ndarray], None] | None = None,
) -> Recorded:
    """Run to the end, a stop or a failure; never raises for what the equations do. ``condense`` is given the rows that a long record
    is about to lose, each once."""
    watch = watch or Watch.private()
    structure = model.structure
    deck = in_command_order(deck, structure.commands)
    control = simulation_source(deck) if deck.signals else ""
    plant, *controllers = load_together((structure.source, *([control] if control else [])))
    keep: list[np.ndarray] = []

    def doubles(values) -> int:
        keep.append(np.ascontiguousarray(list(values) or [0.0], dtype=float))
        return pointer(keep[-1])

    def ints(values) -> int:
        keep.append(np.ascontiguousarray(list(values) or [0], dtype=np.int32))
        return pointer(keep[-1])

    run = RunStruct()
    run.nx, run.n_command, run.n_profile = (
        len(structure.state_keys),
        len(structure.commands),
        len(structure.profile_keys),
    )
    run.n_guard, run.n_mode, run.n_measured = (
        len(structure.exits),
        len(structure.mode_keys),
        len(structure.measured),
    )
    run.n_hold, run.n_hoisted = len(structure.hold_modes), plant.pd_hoisted()
    run.method, run.delay, run.max_rows_log2 = METHODS[settings.method], deck.delay, MEMORY_LIMIT_LOG2
    run.t_end, run.tick, run.rtol, run.h_max = settings.until, deck.tick, settings.tolerance, settings.h_max
    run.atol = doubles([1e-3 * settings.tolerance] * run.nx)
    run.p, run.x0, run.s0 = doubles(model.parameters), doubles(model.starts), doubles(model.mode_starts)
    for pointer_name, name in (
        ("rhs", "pd_rhs"),
        ("guarded", "pd_guarded"),
        ("measure", "pd_measure"),
        ("jac", "pd_jac"),
        ("hold", "pd_hold"),
        ("hoist", "pd_hoist"),
    ):
        setattr(run, pointer_name, address(plant, name))
    run.profile_count = ints(len(t) for t, _ in model.profiles)
    run.profile_times = doubles(t for times, _ in model.profiles for t in times)
    run.profile_values = doubles(v for _, values in model.profiles for v in values)
    run.exit_mode, run.exit_from, run.exit_to = (ints(e[k] for e in structure.exits) for k in range(3))
    run.hold_mode, run.hold_rests = ints(structure.hold_modes), ints(structure.hold_rests)
    pulses = pulse_structs(model)
    run.n_pulse, run.pulses = len(model.network.pulses), ctypes.addressof(pulses)
    run.stop, run.progress = pointer(watch.stop), pointer(watch.progress)
    run.n_signal = len(deck.signals)
    if run.n_signal:
        (controller,) = controllers
        memory, values = prepared_controller(deck, settings.seed, controller)
        keep.append(values)  # profile tables in the controller's memory point into it
        run.controller, run.ctl = address(controller, "pd_ctl_tick"), ctypes.addressof(memory)
    run.n_short, run.short_limit = len(settings.shorts), settings.short_limit
    run.short_first = ints(np.cumsum([0, *(len(path.tests) for path in settings.shorts)]))
    tests = [test for path in settings.shorts for test in path.tests]
    run.short_tests = ints(n for test in tests for n in test_numbers(test, structure.mode_keys))
    run.short_since = doubles([math.inf] * run.n_short)
    width = 1 + run.nx + run.n_command + 2 * run.n_profile + run.n_mode
    run.fixed_step, run.steady_jacobian = settings.fixed_step, structure.steady_jacobian
    run.row_limit = max(1000, RECORD_BYTES // (8 * width))
    failures: list[Exception] = []
    alive: list[object] = []
    if condense is not None:
        run.condense = keep_callback(condense, width, failures, alive, watch.busy)
    loop = fastest_loop(structure)
    run.rows, room = SPARE_ROWS.lend()
    run.cap_rows = room // (8 * width)
    if run.n_signal:
        run.ticks, room = SPARE_TICKS.lend()
        run.cap_ticks = room // (8 * run.n_signal)
    loop.pd_run(ctypes.byref(run))
    if failures:
        raise failures[0]
    rows = taken(run.rows, run.n_rows, width, SPARE_ROWS.take_back, 8 * width * run.cap_rows, loop.pd_release)
    ticks = taken(
        run.ticks,
        run.n_ticks,
        run.n_signal,
        SPARE_TICKS.take_back,
        8 * run.n_signal * run.cap_ticks,
        loop.pd_release,
    )
    remembered = states_at_end(controller, memory, deck) if run.n_signal else {}
    outcome = Outcome(run.outcome)
    if outcome is Outcome.SHORTED:
        names: Sequence[str] = [path.source for path in settings.shorts]
    else:
        names = structure.mode_keys if outcome is Outcome.CHATTERS else structure.state_keys
    culprit = names[run.culprit] if run.culprit < len(names) else ""
    counters = {
        n: int(getattr(run, n)) for n in ("steps", "rejected", "evaluations", "events", "stiff_steps")
    }
    return Recorded(
        rows,
        ticks,
        outcome,
        culprit,
        run.t_out,
        counters,
        run.thinned_until,
        run.thinned_to,
        run.computing,
        run.worst_step,
        remembered,
    )


CONDENSE = ctypes.CFUNCTYPE(None, ctypes.c_void_p, ctypes.c_long)


def keep_callback(
    condense: Callable[[np.ndarray], None],
    width: int,
    failures: list[Exception],
    alive: list[object],
    busy: np.ndarray,
) -> int:
    """Address of a C function that hands rows over; it lives as long as ``alive`` holds it. An exception cannot pass through C, so it
    goes to ``failures``, and nothing is handed over any more."""

    def hand_over(rows: int, count: int) -> None:
        if failures or not count:
            return
        block = (ctypes.c_double * (count * width)).from_address(rows)
        busy[0] += 1
        try:
            condense(np.ctypeslib.as_array(block).reshape(count, width))
        except Exception as problem:  # noqa: BLE001  raised again when the run is over
            failures.append(problem)
        finally:
            busy[0] -= 1

    alive.append(CONDENSE(hand_over))
    found = ctypes.cast(alive[-1], ctypes.c_void_p).value  # type: ignore[arg-type]
    assert found is not None
    return found


def states_at_end(controller, memory, deck: ControlDeck) -> dict[str, float]:
    names = states_of(deck.blocks)
    found = np.zeros(max(1, len(names)))
    controller.pd_ctl_states.argtypes = [ctypes.c_void_p, ctypes.c_void_p]
    controller.pd_ctl_states(ctypes.addressof(memory), pointer(found))
    return dict(zip(names, found.tolist()))


def test_numbers(test: DeviceTest, mode_keys: Sequence[str]) -> list[int]:
    places = [mode_keys.index(m) for m in test.modes] + [-1, -1, -1]
    return [*places[:3], int(test.all_needed)]


CARRIERS = {"triangle": 0, "sawtooth": 1, "level": 2}
SAMPLINGS = {"at once": 0, "once": 1, "twice": 2}


def pulse_structs(model: PlantModel):
    """The network's pulse channels as the time loop takes them."""
    structure = model.structure
    commands, modes = structure.commands, structure.mode_keys
    found = (PulseStruct * max(1, len(model.network.pulses)))()
    for struct, channel in zip(found, model.network.pulses):
        numbers = channel.numbers
        f = numbers.get("f", 1.0)
        struct.command = commands.index(channel.command)
        struct.upper, struct.lower = (modes.index(g) if g else -1 for g in (channel.upper, channel.lower))
        struct.carrier, struct.sampling = CARRIERS[channel.carrier], SAMPLINGS[channel.sampling]
        struct.scale, struct.offset, struct.f = channel.scale, channel.offset, f
        struct.begins = numbers.get("phase", 0.0) / (2 * math.pi * f)
        struct.dead, struct.least = numbers.get("dead", 0.0), numbers.get("least", 0.0)
        struct.opens = channel.opens
        struct.on_delay, struct.off_delay = numbers.get("on_delay", 0.0), numbers.get("off_delay", 0.0)
    return found


def in_command_order(deck: ControlDeck, commands: tuple[str, ...]) -> ControlDeck:
    """The deck with its outputs in the order in which the plant takes them; itself where it is so already."""
    if tuple(deck.commands) == commands:
        return deck
    return replace(deck, commands={c: deck.commands.get(c, "") for c in commands})


def prepared_controller(deck: ControlDeck, seed: int, library: ctypes.CDLL):
    """Fresh memory for the deck's code, with its values, and these as an array that its tables point into."""
    memory = ctypes.create_string_buffer(library.pd_ctl_size() + 16)
    values = np.array(simulation_values(deck, with_sensors=True, seed=seed) or [0.0])
    library.pd_ctl_init.argtypes = [ctypes.c_void_p, ctypes.c_void_p]
    library.pd_ctl_init(ctypes.addressof(memory), pointer(values))
    return memory, values


LARGEST_SPARE = 64_000_000
"""Bytes."""


class Spare:
    """A record's memory that nobody shows any more: the next run takes it, since pages that the system must hand out and clear
    anew are worth a sixth of a switching run's time. There is one at most. Only appending and popping touch the list, as records
    are given up wherever the interpreter collects them, even amid taking one."""

    def __init__(self) -> None:
        self.blocks: list[tuple[int, int]] = []

    def lend(self) -> tuple[int | None, int]:
        """The spare memory and its size, or none; the caller owns it from here on."""
        try:
            return self.blocks.pop()
        except IndexError:
            return None, 0

    def take_back(self, block: int, size: int, release: Callable[[int], None]) -> None:
        if size > LARGEST_SPARE or self.blocks:
            release(block)
        else:
            self.blocks.append((block, size))


SPARE_ROWS, SPARE_TICKS = Spare(), Spare()
