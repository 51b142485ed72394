"""The time loop as a library, and the structs it shares with Python."""

from __future__ import annotations

import contextlib
import ctypes
import threading
import weakref
from collections.abc import Callable
from functools import lru_cache
from importlib import resources
from pathlib import Path

import numpy as np

from pendel.core.errors import BuildProblem
from pendel.core.plant.compiler import (
    FLAGS,
    build_library,
    build_together,
    copy_build,
    is_built,
    library_path,
)
from pendel.core.plant.methods import added_source
from pendel.core.plant.program import Structure

LOOP_FLAGS = (
    *({"-O1": "-O2", "-std=c99": "-std=c11"}.get(f, f) for f in FLAGS),
    "-D_POSIX_C_SOURCE=199309L",  # for the monotonic clock
)
LOOP_FILES = (
    "pulses.c",
    "run.h",
    "work.h",
    "linear.c",
    "sparse.c",
    "spectrum.c",
    "tolerance.c",
    "recording.c",
    "profiles.c",
    "dopri5.c",
    "low_order.c",
    "rodas4.c",
    "maps.c",
    "implicit_euler.c",
    "control.c",
    "modes.c",
    "settling.c",
    "locating.c",
    "stepping.c",
    "fixed.c",
    "booking.c",
    "driver.c",
    "memory.c",
    "session.c",
    "snapshot.c",
    "rows.c",
    "refine.c",
)
"""One translation unit, in this order."""
LAYOUT = 9
"""Version of the shared structs; see ``PD_LAYOUT`` in ``loop/run.h``."""

INT, DOUBLE = ctypes.c_int, ctypes.c_double


class PulseStruct(ctypes.Structure):
    """Mirror of ``pulse_t`` in loop/pulses.c, field by field."""

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
    """Mirror of ``run_t`` in loop/run.h, field by field."""

    _fields_ = (
        [
            (n, ctypes.c_int)
            for n in (
                "nx",
                "n_command",
                "n_profile",
                "n_guard",
                "n_mode",
                "n_measured",
                "n_signal",
                "n_exit",
                "n_hold",
                "n_hoisted",
                "n_loops",
                "n_pulse",
                "method",
                "delay",
                "max_rows_log2",
            )
        ]
        + [(n, ctypes.c_double) for n in ("t_end", "tick", "rtol", "h_max")]
        + [
            (n, ctypes.c_void_p)
            for n in (
                "atol",
                "p",
                "x0",
                "s0",
                "rhs",
                "guarded",
                "measure",
                "jac",
                "hold",
                "hoist",
                "affine",
                "forced",
                "controller",
                "ctl",
                "profile_count",
                "profile_times",
                "profile_values",
                "exit_mode",
                "exit_from",
                "exit_to",
                "hold_mode",
                "hold_sticks",
                "pulses",
                "stop",
                "progress",
                "rows",
                "ticks",
            )
        ]
        + [
            (n, ctypes.c_long)
            for n in (
                "n_rows",
                "n_ticks",
                "cap_rows",
                "cap_ticks",
                "steps",
                "rejected",
                "evaluations",
                "events",
                "stiff_steps",
            )
        ]
        + [("outcome", ctypes.c_int), ("culprit", ctypes.c_int), ("t_out", ctypes.c_double)]
        + [
            ("row_limit", ctypes.c_long),
            ("fixed_step", ctypes.c_double),
            ("steady_jacobian", ctypes.c_int),
            ("computing", ctypes.c_double),
            ("worst_step", ctypes.c_double),
        ]
        + [("timed_steps", ctypes.c_long)]
        + [("thinned_until", ctypes.c_double), ("thinned_to", ctypes.c_double)]
        + [
            ("n_short", ctypes.c_int),
            ("short_first", ctypes.c_void_p),
            ("short_tests", ctypes.c_void_p),
            ("short_since", ctypes.c_void_p),
            ("short_limit", ctypes.c_double),
            ("first_tick", ctypes.c_long),
            ("thinnings", ctypes.c_long),
            ("condense", ctypes.c_void_p),
            ("n_jac", ctypes.c_int),
            ("jac_places", ctypes.c_void_p),
            ("jac_order", ctypes.c_void_p),
            ("tick_limit", ctypes.c_long),
            ("first_row", ctypes.c_long),
            ("n_forced", ctypes.c_int),
            ("forced_places", ctypes.c_void_p),
            ("n_switched", ctypes.c_int),
            *((n, ctypes.c_void_p) for n in ("switched", "switched_gates", "switched_states")),
        ]
    )


class Hoists(ctypes.Structure):
    """Mirror of ``hoists_t`` in loop/run.h, field by field."""

    _fields_ = (
        *((n, ctypes.c_void_p) for n in ("hoist", "p", "places", "filled")),
        *((n, INT) for n in ("n_places", "n_mode", "n_hoisted", "n_loops")),
    )
    keeps: tuple[np.ndarray, ...]


MOST_UNROLLED = 24
"""States."""

Sizes = tuple[int, int, int, int, int]
"""Numbers of states, inputs, modes and guards, and `Structure.forced` or -1."""


@lru_cache(maxsize=64)
def loop_source(sizes: Sizes | None = None) -> str:
    """Text of the time loop, for any model or, with few states, unrolled for these sizes."""
    folder = resources.files("pendel.core.plant").joinpath("loop")
    texts = {name: folder.joinpath(name).read_text("utf-8") for name in LOOP_FILES}
    texts["control.c"] = added_source() + texts["control.c"]
    text = "\n".join(texts.values())
    if sizes is None or not 0 < sizes[0] <= MOST_UNROLLED:
        return text
    names = ("PD_NX", "PD_N_INPUT", "PD_N_MODE", "PD_N_GUARD", "PD_N_FORCED")
    return "".join(f"#define {n} {size}\n" for n, size in zip(names, sizes)) + text


POINTER, LONG, SIZE = ctypes.c_void_p, ctypes.c_long, ctypes.c_size_t
RUN = ctypes.POINTER(RunStruct)
PROTOTYPES: dict[str, tuple[type | None, list | None]] = {
    "pd_layout": (INT, [INT]),
    "pd_open": (POINTER, [RUN]),
    "pd_wait": (None, [POINTER, POINTER]),
    "pd_advance_as_asked": (INT, None),  # a pointer to `Asked`, unchecked
    "pd_renew": (None, [POINTER]),
    "pd_now": (None, [POINTER, POINTER, POINTER]),
    "pd_snapshot_bytes": (SIZE, [POINTER]),
    "pd_save": (None, [POINTER, POINTER]),
    "pd_restore": (INT, [POINTER, POINTER, SIZE, INT, INT]),
    "pd_close": (None, [POINTER]),
    "pd_release": (None, [POINTER]),
    "pd_extremes": (
        None,
        [POINTER, POINTER, LONG, INT, INT, POINTER, POINTER, INT, POINTER, LONG, POINTER, POINTER],
    ),
    "pd_evaluate": (None, [POINTER, POINTER, LONG, INT, INT, POINTER, POINTER, INT, POINTER, POINTER]),
    "pd_replay": (None, [POINTER, POINTER, POINTER, INT, POINTER, INT, POINTER, LONG]),
    "pd_replay_beside": (
        None,
        [*[POINTER] * 3, INT, *[POINTER] * 3, INT, *[POINTER] * 3, INT, *[POINTER] * 4, LONG],
    ),
    "pd_last_before": (None, [POINTER, LONG, INT, POINTER, LONG, POINTER]),
    "pd_refine": (INT, [RUN, POINTER, LONG, POINTER, POINTER, DOUBLE, INT]),
}
"""What the time loop offers: type of the result and of the arguments."""


class Asked(ctypes.Structure):
    """How far to go on with which run. It is kept, and only ``until`` changes from slice to slice."""

    _fields_ = [("work", POINTER), ("until", DOUBLE)]


@lru_cache(maxsize=64)
def time_loop(sizes: Sizes | None = None) -> ctypes.CDLL:
    """The shared time loop, compiled once for each set of sizes.

    Raises
    ------
    BuildProblem
        also where its structs are laid out otherwise than here.
    """
    library = ctypes.CDLL(str(build_library(loop_source(sizes), flags=LOOP_FLAGS)))
    for name, (result, arguments) in PROTOTYPES.items():
        function = getattr(library, name)
        function.restype, function.argtypes = result, arguments
    check_layout(library)
    return library


def check_layout(library: ctypes.CDLL) -> None:
    """Compare version and sizes of the shared structs on both sides. Raises `BuildProblem` where they
    differ."""
    wanted = (LAYOUT, *(ctypes.sizeof(s) for s in (RunStruct, PulseStruct, Hoists)))
    layout = tuple(library.pd_layout(which) for which in range(len(wanted)))
    if layout != wanted:
        raise BuildProblem(
            f"The time loop lays out its records as {layout}, Pendel as {wanted}: its files are of two "
            "versions, or the compiler is for "
            "another processor. Install Pendel again."
        )


_at_hand: set[Sizes] = set()
"""Sizes whose loop was found to be built."""
WORTH_BUILDING = 2_000_000
"""Evaluations of the equations that take about as long as to build a loop for their sizes."""
_evaluated: dict[Sizes, int] = {}
"""By sizes, how often the general loop evaluated equations so far."""


def fastest_loop(structure: Structure) -> ctypes.CDLL:
    """The loop built for this structure's sizes where it is there already; else the general one. That for
    the sizes takes seconds to build, so it is begun only when runs have taken about as long: whatever follows,
    that costs at most twice what would have been best."""
    sizes = sizes_of(structure)
    source = loop_source(sizes)
    if sizes in _at_hand or is_built(library_path(source, LOOP_FLAGS)):
        _at_hand.add(sizes)
        return time_loop(sizes)
    if _evaluated.get(sizes, 0) >= WORTH_BUILDING:
        build_aside(source)
    return time_loop()


def note_evaluations(structure: Structure, count: int) -> None:
    """A run of such a structure has evaluated its equations so often."""
    sizes = sizes_of(structure)
    _evaluated[sizes] = _evaluated.get(sizes, 0) + count


def sizes_of(structure: Structure) -> Sizes:
    forced = -1 if structure.forced is None else len(structure.forced)
    return (*structure.row_shape, len(structure.transitions), forced)


def build_fastest(structure: Structure) -> bool:
    """Build the loop for this structure's sizes, which takes seconds, for whoever runs it for long. Whether
    `fastest_loop` gives another one from now on."""
    sizes = sizes_of(structure)
    if sizes in _at_hand or not 0 < sizes[0] <= MOST_UNROLLED:
        return False
    build_library(loop_source(sizes), flags=LOOP_FLAGS)
    return True


def begin_loop_build() -> None:
    """Start to build the general loop, where it was never built, while the equations are still being
    ordered."""
    if _general_at_hand:
        return
    source = loop_source()
    with contextlib.suppress(BuildProblem):  # a run tells what is missing
        if is_built(library_path(source, LOOP_FLAGS)):
            _general_at_hand.append(True)
        else:
            build_aside(source)


def copy_loop(cache: Path) -> None:
    """Give the general loop to a process that may not write into the common cache, nor read what else is
    there."""
    with contextlib.suppress(BuildProblem):  # a run tells what is missing
        copy_build(library_path(loop_source(), LOOP_FLAGS), cache)


_general_at_hand: list[bool] = []
"""Whether the general loop was found to be built, as soon as it was."""


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
    """A library of a text, built where it is not there yet. Raises `BuildProblem`."""
    try:
        return ctypes.CDLL(str(build_library(source)))
    except OSError as problem:  # such as a function that exists nowhere
        raise BuildProblem(f"What was built cannot be loaded: {problem}.") from problem


@lru_cache(maxsize=32)
def load_together(sources: tuple[str, ...]) -> tuple[ctypes.CDLL, ...]:
    """Libraries of several texts, built at once where they are not there yet. Raises `BuildProblem`."""
    build_together(sources)
    return tuple(load(source) for source in sources)


def address(library: ctypes.CDLL, name: str) -> int:
    place = ctypes.cast(getattr(library, name), ctypes.c_void_p).value
    assert place is not None
    return place


def pointer(array: np.ndarray) -> int:
    return array.ctypes.data


def taken(address_: int | None, n_rows: int, width: int, release: Callable[..., None], *more: object) -> np.ndarray:
    """A C block of doubles as (n_rows, width), without a copy; ``release(address, *more)`` is called with the
    last array that shows it."""
    if not address_:
        return np.empty((n_rows, width))
    block = (ctypes.c_double * (n_rows * width)).from_address(address_)
    weakref.finalize(block, release, address_, *more)
    return np.ctypeslib.as_array(block).reshape(n_rows, width)
