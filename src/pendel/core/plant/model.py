"""A drive's equations as compiled code with run-time values: the plant of a run."""

from __future__ import annotations

import contextlib
import ctypes
import threading
import weakref
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property, lru_cache
from importlib import resources

import casadi as ca
import numpy as np

from pendel.core.equations.context import Network, stacked
from pendel.core.equations.friction import state_friction_laws
from pendel.core.equations.reduce import Explicit, reduce
from pendel.core.equations.ripple import state_ripples
from pendel.core.errors import BuildProblem
from pendel.core.plant.compiler import FLAGS, build_library, build_together, is_built, library_path
from pendel.core.plant.emit import Emitter
from pendel.core.plant.starting import Starts, consistent_starts

Doubles = np.ndarray
LOOP_FLAGS = tuple({"-O1": "-O2", "-std=c99": "-std=c11"}.get(f, f) for f in FLAGS)


@dataclass(frozen=True)
class Structure:
    """Everything about a plant that does not depend on its values: names, sizes and C text."""

    state_keys: tuple[str, ...]
    commands: tuple[str, ...]
    profile_keys: tuple[str, ...]
    mode_keys: tuple[str, ...]
    parameter_keys: tuple[str, ...]
    signals: tuple[str, ...]
    measured: tuple[str, ...]
    exits: tuple[tuple[int, int, int], ...]
    hold_modes: tuple[int, ...]
    hold_rests: tuple[int, ...]
    mode_starts: tuple[int, ...]
    demoted_keys: tuple[str, ...]
    steady_jacobian: bool
    """Whether the Jacobian depends on values and modes only, so that fixed steps may keep what they made of it."""
    source: str


FLOWS = ("supplied", "lost", "delivered")
BALANCE = (*FLOWS, "stored")
"""What of each part makes the energy balance: powers (W) and an energy (J). Among the signals as ``lost:card`` and so on."""
KNOWN_STRUCTURES = 64
_structures: dict[str, Structure] = {}


class PlantModel:
    """The explicit system of a network and its functions, in symbols and in C.

    Parameters
    ----------
    measured
        keys of signals the controller reads, in its order.
    """

    def __init__(self, network: Network, measured: tuple[str, ...], *, with_energy: bool = False):
        self.network, self.measured, self.with_energy = network, measured, with_energy

    @cached_property
    def system(self) -> Explicit:
        """Ordering and solving is the slow part; it is skipped where an equal structure is known."""
        state_friction_laws(self.network)
        system = reduce(self.network)
        state_ripples(self.network, system)
        return system

    @property
    def fingerprint(self) -> str:
        """Text that is equal for equal structures, whatever the values."""
        n = self.network
        modes = [(m.key, m.start, [(a, str(g), b) for a, g, b in m.exits], str(m.hold_zero)) for m in n.modes]
        shown = [
            (k, str(e))
            for k, e in (
                *n.signals.items(),
                *((f"{kind}:{card}", e) for kind in BALANCE for card, e in getattr(n, kind).items()),
            )
        ]
        stated = [(owner, str(e)) for owner, e in n.equations]
        means = [(m.card, str(m.load), str(m.link), str(m.duty), m.opposed) for m in n.pulsed_means]
        rubs = [(f.key, str(f.speed), str(f.forward), str(f.backward)) for f in n.frictions]
        return repr(
            (
                stated,
                rubs,
                means,
                modes,
                shown,
                list(n.inputs),
                list(n.gates),
                list(n.parameters),
                [(s.key, str(s.at), s.cells) for s in n.surfaces],
                [p.key for p in n.profiles],
                self.measured,
                self.with_energy,
            )
        )

    @cached_property
    def symbols(self) -> dict[str, ca.SX]:
        n = self.network
        inputs = [*n.inputs.values(), *(p.offset for p in n.profiles), *(p.slope for p in n.profiles)]
        return {
            "t": n.time,
            "x": stacked(*(e.symbol for e in self.system.states), *self.energy_symbols),
            "u": stacked(*inputs),
            "s": stacked(*(m.symbol for m in n.modes), *n.gates.values()),
            "p": stacked(*(s for s, _ in n.parameters.values())),
            "z": stacked(*self.system.torn),
            "f": stacked(*(s.outputs for s in n.surfaces)),
        }

    @cached_property
    def energy_symbols(self) -> list[ca.SX]:
        if not self.with_energy:
            return []
        return [ca.SX.sym(f"{kind}:{card}") for kind in FLOWS for card in getattr(self.network, kind)]

    @cached_property
    def rhs(self) -> ca.SX:
        energy = (
            [self.system.express(e) for kind in FLOWS for e in getattr(self.network, kind).values()]
            if self.with_energy
            else []
        )
        return stacked(self.system.rhs, *energy)

    @cached_property
    def guards(self) -> list[tuple[int, int, int, ca.SX]]:
        return [
            (k, a, b, self.system.express(guard))
            for k, mode in enumerate(self.network.modes)
            for a, guard, b in mode.exits
        ]

    @cached_property
    def signals(self) -> dict[str, ca.SX]:
        found = {key: self.system.express(e) for key, e in self.network.signals.items()}
        for kind in BALANCE:
            found |= {
                f"{kind}:{card}": self.system.express(e) for card, e in getattr(self.network, kind).items()
            }
        if self.with_energy:
            found |= {f"energy.{s.name()}": s for s in self.energy_symbols}
            found["energy.stored"] = sum(
                (self.system.express(e) for e in self.network.stored.values()), ca.SX(0)
            )
        return found

    def derivative(self, f: ca.SX, by: ca.SX) -> ca.SX:
        """Total derivative: what is found numerically moves along, by the implicit function theorem."""
        direct = ca.jacobian(f, by)
        for surface in self.network.surfaces:
            low = surface.outputs[:6]
            if ca.depends_on(f, low):
                places = stacked(*(self.system.express(a) for a in surface.at))
                direct += ca.jacobian(f, low) @ surface.slopes() @ ca.jacobian(places, by)
        z = self.symbols["z"]
        if not self.system.torn or not ca.depends_on(f, z):
            return direct
        residuals = stacked(*self.system.residuals)
        moves = -ca.solve(ca.densify(ca.jacobian(residuals, z)), ca.densify(ca.jacobian(residuals, by)))
        return direct + ca.jacobian(f, z) @ moves

    @cached_property
    def structure(self) -> Structure:
        key = self.fingerprint
        if key not in _structures:
            if len(_structures) >= KNOWN_STRUCTURES:
                _structures.pop(next(iter(_structures)))
            _structures[key] = self._ordered()
        return _structures[key]

    def _ordered(self) -> Structure:
        self.system  # noqa: B018  the friction laws add modes, which the symbols below must see
        n, symbols = self.network, self.symbols
        emitter = Emitter(symbols)
        x = symbols["x"]
        if n.surfaces:
            places = stacked(*(self.system.express(a) for s in n.surfaces for a in s.at))
            emitter.surfaces(n.surfaces, places, len(n.parameters))
        if self.system.torn:
            emitter.loops(stacked(*self.system.residuals))
        emitter.function("pd_rhs", [("dx", self.rhs)])
        emitter.function("pd_guarded", [("dx", self.rhs), ("g", stacked(*(g for *_, g in self.guards)))])
        emitter.function("pd_measure", [("y", stacked(*(self.signals[k] for k in self.measured)))])
        emitter.function("pd_signals", [("y", stacked(*self.signals.values()))])
        moving = stacked(n.time, x, symbols["u"], symbols["z"], symbols["f"])
        steady = not ca.depends_on(ca.jacobian(self.rhs, x), moving)
        emitter.function(
            "pd_jac", [("jac", self.derivative(self.rhs, x)), ("dfdt", self.derivative(self.rhs, n.time))]
        )
        holds = [
            (k, self.system.express(m.hold_zero)) for k, m in enumerate(n.modes) if m.hold_zero is not None
        ]
        held = stacked(*(e for _, e in holds))
        emitter.function("pd_hold", [("w", held), ("grad", self.derivative(held, x) if holds else ca.SX())])
        demoted = stacked(*(self.system.solved[e.key] for e in self.system.demoted))
        emitter.function(
            "pd_demoted",
            [("y", demoted), ("jac", self.derivative(demoted, x) if demoted.numel() else ca.SX())],
        )
        return Structure(
            tuple([e.key for e in self.system.states] + [s.name() for s in self.energy_symbols]), tuple(n.inputs), tuple(p.key for p in n.profiles),
            (*(m.key for m in n.modes), *n.gates), (*n.parameters, *(f"{s.key}:{k}" for s in n.surfaces for k in range(len(s.numbers)))), tuple(self.signals), self.measured, tuple((k, a, b) for k, a, b, _ in self.guards),
            tuple(k for k, _ in holds), tuple(int(n.modes[k].rests) for k, _ in holds), (*(m.start for m in n.modes), *(0 for _ in n.gates)), tuple(e.key for e in self.system.demoted), steady, emitter.source())  # fmt: skip

    @property
    def parameters(self) -> Doubles:
        """Values by `Structure.parameter_keys`: those with symbols, then the numbers of surfaces."""
        n = self.network
        numbers = [v for s in n.surfaces for v in s.numbers]
        return np.array([*(v for _, v in n.parameters.values()), *numbers], dtype=float)

    @property
    def starts(self) -> Doubles:
        return self.starting.values

    @cached_property
    def starting(self) -> Starts:
        """Starting values that agree with each other, and where what was entered does not."""
        return consistent_starts(self)

    @property
    def mode_starts(self) -> Doubles:
        return np.array(self.structure.mode_starts, dtype=float)

    @property
    def profiles(self) -> list[tuple[list[float], list[float]]]:
        return [(p.times, p.values) for p in self.network.profiles]


INT, DOUBLE = ctypes.c_int, ctypes.c_double


class PulseStruct(ctypes.Structure):
    """Mirror of ``pulse_t`` in pulses.c, field by field."""

    _fields_ = (
        *((n, INT) for n in ("command", "upper", "lower", "carrier", "sampling")),
        *((n, DOUBLE) for n in ("scale", "offset", "f", "begins", "dead", "least", "on_delay", "off_delay")),
        ("opens", INT),
        *((n, DOUBLE) for n in ("duty", "share")),
        ("on_at", DOUBLE * 2),
        ("off_at", DOUBLE * 2),
        *((n, DOUBLE) for n in ("edge", "change", "next")),
        ("period", ctypes.c_long),
        ("logic", INT),
        ("started", INT),
    )


class RunStruct(ctypes.Structure):
    """Mirror of ``run_t`` in loop.c, field by field."""

    _fields_ = (
        [(n, ctypes.c_int) for n in ("nx", "n_command", "n_profile", "n_guard", "n_mode", "n_measured", "n_signal", "n_exit", "n_hold", "n_hoisted", "n_pulse", "method", "delay", "max_rows_log2")]
        + [(n, ctypes.c_double) for n in ("t_end", "tick", "rtol", "h_max")]
        + [(n, ctypes.c_void_p) for n in ("atol", "p", "x0", "s0", "rhs", "guarded", "measure", "jac", "hold", "hoist", "controller", "ctl", "profile_count", "profile_times",
                                          "profile_values", "exit_mode", "exit_from", "exit_to", "hold_mode", "hold_rests", "pulses", "stop", "progress", "rows", "ticks")]
        + [(n, ctypes.c_long) for n in ("n_rows", "n_ticks", "cap_rows", "cap_ticks", "steps", "rejected", "evaluations", "events", "stiff_steps")]
        + [("outcome", ctypes.c_int), ("culprit", ctypes.c_int), ("t_out", ctypes.c_double)]
        + [("row_limit", ctypes.c_long), ("fixed_step", ctypes.c_double), ("steady_jacobian", ctypes.c_int), ("computing", ctypes.c_double), ("worst_step", ctypes.c_double)]
        + [("timed_steps", ctypes.c_long)]
        + [("thinned_until", ctypes.c_double), ("thinned_to", ctypes.c_double)]
        + [("n_short", ctypes.c_int), ("short_first", ctypes.c_void_p), ("short_tests", ctypes.c_void_p), ("short_since", ctypes.c_void_p), ("short_limit", ctypes.c_double), ("condense", ctypes.c_void_p)]
    )  # fmt: skip


MOST_UNROLLED = 24
"""States."""

Sizes = tuple[int, int, int, int]
"""Numbers of states, inputs, modes and guards."""


@lru_cache(maxsize=64)
def loop_source(sizes: Sizes | None = None) -> str:
    """Text of the time loop, for any model or, with few states, unrolled for these sizes."""
    folder = resources.files("pendel.core.plant")
    text = "\n".join(folder.joinpath(name).read_text("utf-8") for name in ("pulses.c", "loop.c"))
    if sizes is None or not 0 < sizes[0] <= MOST_UNROLLED:
        return text
    names = ("PD_NX", "PD_N_INPUT", "PD_N_MODE", "PD_N_GUARD")
    return "".join(f"#define {n} {size}\n" for n, size in zip(names, sizes)) + text


@lru_cache(maxsize=64)
def time_loop(sizes: Sizes | None = None) -> ctypes.CDLL:
    """The shared time loop, compiled once for each set of sizes."""
    library = ctypes.CDLL(str(build_library(loop_source(sizes), flags=LOOP_FLAGS)))
    library.pd_run.argtypes = [ctypes.POINTER(RunStruct)]
    library.pd_release.argtypes = [ctypes.c_void_p]
    library.pd_release.restype = None
    pointers, lengths = [ctypes.c_void_p] * 2, [ctypes.c_long, INT, INT]
    library.pd_evaluate.argtypes = [*pointers, *lengths, *pointers, INT, *pointers]
    library.pd_evaluate.restype = None
    library.pd_last_before.argtypes = [
        ctypes.c_void_p,
        ctypes.c_long,
        INT,
        ctypes.c_void_p,
        ctypes.c_long,
        ctypes.c_void_p,
    ]
    library.pd_last_before.restype = None
    library.pd_refine.argtypes = [
        ctypes.POINTER(RunStruct),
        ctypes.c_void_p,
        ctypes.c_long,
        *pointers,
        DOUBLE,
        INT,
    ]
    return library


_at_hand: set[Sizes] = set()
"""Sizes whose loop was found to be built."""


def fastest_loop(structure: Structure) -> ctypes.CDLL:
    """The loop built for this structure's sizes where it is there already; else the general one, while that is built."""
    sizes = (*row_shape(structure), len(structure.exits))
    source = loop_source(sizes)
    if sizes in _at_hand or is_built(library_path(source, LOOP_FLAGS)):
        _at_hand.add(sizes)
        return time_loop(sizes)
    build_aside(source)
    return time_loop()


def begin_loop_build() -> None:
    """Start to build the general loop, where it was never built, while the equations are still being ordered."""
    source = loop_source()
    with contextlib.suppress(BuildProblem):  # a run tells what is missing
        if not is_built(library_path(source, LOOP_FLAGS)):
            build_aside(source)


_aside: set[str] = set()
"""Texts that are being built beside what goes on, or could not be."""


def build_aside(source: str) -> None:
    """Build a loop in a thread; once for each text, however often it is asked for."""
    if source in _aside:
        return
    _aside.add(source)

    def build() -> None:
        with contextlib.suppress(BuildProblem, OSError):  # the general loop serves as well
            build_library(source, flags=LOOP_FLAGS)

    threading.Thread(target=build, daemon=True).start()


@lru_cache(maxsize=32)
def load(source: str) -> ctypes.CDLL:
    return ctypes.CDLL(str(build_library(source)))


@lru_cache(maxsize=32)
def load_together(sources: tuple[str, ...]) -> tuple[ctypes.CDLL, ...]:
    """Libraries of several texts, built at once where they are not there yet. Raises `BuildProblem`."""
    build_together(sources)
    return tuple(load(source) for source in sources)


def address(library: ctypes.CDLL, name: str) -> int:
    found = ctypes.cast(getattr(library, name), ctypes.c_void_p).value
    assert found is not None
    return found


def pointer(array: np.ndarray) -> int:
    return array.ctypes.data


class Hoists(ctypes.Structure):
    """Mirror of ``hoists_t`` in loop.c, field by field."""

    _fields_ = ((("hoist", ctypes.c_void_p), ("p", ctypes.c_void_p), ("places", ctypes.c_void_p), ("filled", ctypes.c_void_p), ("n_places", INT), ("n_mode", INT), ("n_hoisted", INT)))  # fmt: skip
    keeps: tuple[np.ndarray, ...]


MOST_SETS_KEPT, SETS_BYTES = 8192, 64e6
"""Sets of modes whose hoisted values are kept on the way over a record, and the bytes they may take."""


def hoists_for(library: ctypes.CDLL, parameters: Doubles, n_mode: int, n_rows: int) -> Hoists:
    n_hoisted = library.pd_hoisted()
    width = n_mode + n_hoisted
    kept = max(1, min(MOST_SETS_KEPT, n_rows, int(SETS_BYTES / max(8, 8 * width))))
    # Not zeros: a place is written before it is read, and pages that stay untouched cost nothing.
    places, filled = np.empty(kept * width + 1), np.zeros(kept, dtype=np.uint8)
    made = Hoists(address(library, "pd_hoist"), pointer(parameters), pointer(places), pointer(filled), kept, n_mode, n_hoisted)  # fmt: skip
    made.keeps = (parameters, places, filled)
    return made


def evaluate_signals(
    structure: Structure, rows: Doubles, parameters: Doubles, keys: Sequence[str]
) -> Doubles:
    """Chosen signals at every row; shape (rows, len(keys))."""
    library = load(structure.source)
    rows = np.ascontiguousarray(rows, dtype=float)
    out = np.empty((len(rows), len(keys)))
    pick = np.array([structure.signals.index(k) for k in keys], dtype=np.int32)
    nx, nu, n_mode = row_shape(structure)
    hoists, whole = (
        hoists_for(library, parameters, n_mode, len(rows)),
        np.zeros(max(1, len(structure.signals))),
    )
    time_loop().pd_evaluate(
        address(library, "pd_signals"), pointer(rows), len(rows), nx, nu, ctypes.byref(hoists), pointer(pick), len(pick),
        pointer(whole), pointer(out))  # fmt: skip
    return out


def last_before(rows: Doubles, times: Doubles) -> np.ndarray:
    """Places of the last rows at or before times (s), at least 0. NumPy's own search would first copy the column of times, and
    with it fetch the whole record from memory."""
    if not rows.flags.c_contiguous:
        return np.maximum(np.searchsorted(rows[:, 0], times, side="right") - 1, 0)
    times, places = np.ascontiguousarray(times, dtype=float), np.empty(len(times), dtype=np.int64)
    time_loop().pd_last_before(pointer(rows), *rows.shape, pointer(times), len(times), pointer(places))
    return places


def row_shape(structure: Structure) -> tuple[int, int, int]:
    """States, inputs and modes in a row."""
    inputs = len(structure.commands) + 2 * len(structure.profile_keys)
    return len(structure.state_keys), inputs, len(structure.mode_keys)


MOST_SHOWN_LOG2 = 29
"""Logarithm of the bytes that rows of traces may take."""
FINE = 1e-5
"""Bend of a state within a step, over its range in the run, that traces may leave straight."""


BETWEEN, HALF_WAY, BOTH = 0, 1, 2


@dataclass(frozen=True, eq=False)
class Refined:
    """Rows of a record as traces show them, and those half way between these, one fewer; empty where they were not asked for."""

    rows: Doubles
    half_way: Doubles


def refined_rows(
    structure: Structure,
    rows: Doubles,
    parameters: Doubles,
    *,
    thinned_until: float = 0.0,
    straight: bool = False,
    span: Doubles | None = None,
    which: int = BOTH,
) -> Refined:
    """Rows with both sides of every jump, and with points between where a step is curved; and the rows half way between these.

    Points lie on the cubic through both ends of a step where that obeys the equations, else the step is solved again in parts.
    A record of fixed steps is ``straight`` between its rows. What was thinned stays as it is, and so does a record that would grow
    beyond ``2**MOST_SHOWN_LOG2`` bytes. ``span`` is what bends are measured against, by state; else the record's own.
    """
    library = load(structure.source)
    rows = np.ascontiguousarray(rows, dtype=float)
    nx, nu, n_mode = row_shape(structure)
    states = rows[:, 1 : 1 + nx]
    if span is None:
        span = np.ptp(states, axis=0) if len(rows) else np.zeros(nx)
    fine = np.where(span > 0, FINE * span, 1.0) if nx else np.ones(1)
    if straight:
        fine = np.full(max(1, nx), np.inf)
    hoists = hoists_for(library, parameters, n_mode, len(rows))
    work = RunStruct(nx=nx, n_command=nu, n_mode=n_mode, max_rows_log2=MOST_SHOWN_LOG2, p=pointer(parameters))
    work.rhs, work.jac = address(library, "pd_rhs"), address(library, "pd_jac")
    loop = time_loop()
    fits = loop.pd_refine(
        ctypes.byref(work),
        pointer(rows),
        len(rows),
        ctypes.byref(hoists),
        pointer(fine),
        thinned_until,
        which,
    )
    found = taken(work.rows, work.n_rows, rows.shape[1], loop.pd_release)
    halves = taken(work.ticks, work.n_ticks, rows.shape[1], loop.pd_release)
    return Refined(found, halves) if fits else Refined(rows, 0.5 * (rows[1:] + rows[:-1]))


def taken(
    address_: int | None, n_rows: int, width: int, release: Callable[..., None], *more: object
) -> np.ndarray:
    """A C block of doubles as (n_rows, width), without a copy; ``release(address, *more)`` is called with the last array
    that shows it."""
    if not address_:
        return np.empty((n_rows, width))
    block = (ctypes.c_double * (n_rows * width)).from_address(address_)
    weakref.finalize(block, release, address_, *more)
    return np.ctypeslib.as_array(block).reshape(n_rows, width)
