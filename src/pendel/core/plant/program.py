"""A drive made ready to simulate, in plain text and numbers: what its structure is, and what it starts from.

A `Program` holds the C of plant and controller with sizes and names; it depends on kinds, choices, levels and
wires only. `Inputs` hold every number of a run. Both can be pickled, sent and kept; neither holds a symbol. A
changed value leads from one `Inputs` to the next by arithmetic alone, and any number of runs may share one
program.
"""

from __future__ import annotations

import hashlib
import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from enum import IntEnum
from functools import cached_property
from typing import NamedTuple

import numpy as np

from pendel.core.equations.numbers import Numbers
from pendel.core.equations.skeleton import Answers

Doubles = np.ndarray


class Outcome(IntEnum):
    """How a run ended, or that it can go on."""

    DONE = 0
    STOPPED = 1
    RAN_AWAY = 2
    STEP_VANISHED = 3
    CHATTERS = 4
    NO_MEMORY = 5
    NOT_FINITE = 6
    SHORTED = 7
    PAUSED = 8


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


FLOWS = ("supplied", "lost", "delivered")
BALANCE = (*FLOWS, "stored")
"""What of each part makes the energy balance: powers (W) and an energy (J). Among the signals as
``lost:card`` and so on."""


class PulseShape(NamedTuple):
    """A pulse channel but for its numbers: which command makes the duty, and which gates follow; see
    `PulseChannel`.

    ``numbers`` pairs what the time loop takes (``f``, ``dead``, ``least``, ``phase``, ``on_delay``,
    ``off_delay``) with the value of the card that gives it.
    """

    card: str
    command: str
    upper: str
    lower: str
    carrier: str
    sampling: str
    scale: float
    offset: float
    opens: bool
    numbers: tuple[tuple[str, str], ...]


@dataclass(frozen=True, kw_only=True)
class Structure:
    """Everything about a plant that does not depend on its values: names, sizes and C text."""

    state_keys: tuple[str, ...]
    commands: tuple[str, ...]
    profile_keys: tuple[str, ...]
    mode_keys: tuple[str, ...]
    parameter_keys: tuple[str, ...]
    """``card.value``."""
    surfaces: tuple[tuple[str, int], ...] = ()
    """``card.surface`` and how many numbers it takes; they follow the parameters."""
    signals: tuple[str, ...]
    measured: tuple[str, ...]
    transitions: tuple[tuple[int, int, int], ...]
    hold_modes: tuple[int, ...]
    hold_sticks: tuple[int, ...]
    mode_starts: tuple[int, ...]
    demoted_keys: tuple[str, ...]
    loops: int = 0
    """Unknowns that are found numerically."""
    steady_jacobian: bool
    """Whether the Jacobian depends on values and modes only, so that fixed steps may keep what they made of
    it."""
    jacobian: tuple[int, ...] = ()
    """Places i + j·n of the Jacobian's entries that may not be zero, in this order; empty where equations of
    so few states, or so
    full ones, are solved as if all were there."""
    elimination: tuple[int, ...] = ()
    """An order of its columns in which they are eliminated with little fill; as long as there are states, or
    empty as well."""
    forced: tuple[int, ...] | None = None
    """Places among derivatives, then guards, that move with time and inputs besides the states; None where these
    are not affine in the states, or those too many for it to matter."""
    pulses: tuple[PulseShape, ...] = ()
    switched: tuple[tuple[int, int], ...] = ()
    """Of devices whose switching energies are booked as it goes on: places of their gate among the modes, and of the
    state that takes them (J)."""
    answers: Answers = ()
    """What parts asked about their values to state these equations; for other answers there are others."""
    source: str

    @property
    def parameter_count(self) -> int:
        return len(self.parameter_keys) + sum(count for _, count in self.surfaces)

    @cached_property
    def row_shape(self) -> tuple[int, int, int]:
        """States, inputs and modes in a row."""
        inputs = len(self.commands) + 2 * len(self.profile_keys)
        return len(self.state_keys), inputs, len(self.mode_keys)


@dataclass(frozen=True)
class Program:
    """Plant and controller as C, with the names of all they exchange."""

    structure: Structure
    control: str
    """C of the controller; empty where there is none."""
    control_signals: tuple[str, ...] = ()
    control_states: tuple[str, ...] = ()
    """What its blocks remember, ``block.state``."""
    control_values: tuple[str, ...] = ()
    """``block.value`` for the first numbers that its code takes."""

    @cached_property
    def key(self) -> str:
        """Equal for programs whose runs can take each other's snapshots."""
        text = repr((self.structure, self.control, self.control_signals, self.control_states, self.control_values))
        return hashlib.sha256(text.encode()).hexdigest()[:32]


def parameters_of(structure: Structure, numbers: Numbers) -> Doubles:
    """Values in the order in which the plant's code takes them, those of surfaces behind the others; shape
    (parameter_count,)."""
    values = [numbers.values[card][name] for card, name in split_keys(structure.parameter_keys)]
    for key, count in structure.surfaces:
        of_surface = numbers.surfaces[key]
        assert len(of_surface) == count
        values += of_surface
    return np.array(values, dtype=float)


def profiles_of(structure: Structure, numbers: Numbers) -> tuple[Profile, ...]:
    empty: tuple[Sequence[float], Sequence[float]] = ((), ())
    pairs = (numbers.profiles.get(card, empty) for card, _ in split_keys(structure.profile_keys))
    return tuple((tuple(times), tuple(levels)) for times, levels in pairs)


def pulses_of(structure: Structure, numbers: Numbers) -> tuple[PulseNumbers, ...]:
    return tuple(
        PulseNumbers(**{name: numbers.values[shape.card][value] for name, value in shape.numbers})
        for shape in structure.pulses
    )


def split_keys(keys: Sequence[str]) -> list[tuple[str, str]]:
    return [(card, name) for card, _, name in (key.partition(".") for key in keys)]


Profile = tuple[tuple[float, ...], tuple[float, ...]]
"""Times (s) and levels (SI) of its corners."""


@dataclass(frozen=True)
class PulseNumbers:
    """Of a channel: pulse frequency (Hz), dead time and least pulse (s), phase of the carrier (rad), delays
    of the gates (s)."""

    f: float = 1.0
    dead: float = 0.0
    least: float = 0.0
    phase: float = 0.0
    on_delay: float = 0.0
    off_delay: float = 0.0

    @property
    def begins(self) -> float:
        """s; where a period of the carrier begins."""
        return self.phase / (2 * math.pi * self.f)


@dataclass(frozen=True, eq=False)
class Inputs:
    """Every number of a run: what its program is run with."""

    parameters: Doubles
    starts: Doubles
    modes: Doubles
    """Those at the start."""
    profiles: tuple[Profile, ...]
    pulses: tuple[PulseNumbers, ...]
    controls: Doubles
    """What the controller's code takes: values, seeds, tables, and room for delay lines."""
    tick: float
    """s."""
    delay: int
    """Ticks from reading to acting, 0 or 1."""
    settings: RunSettings

    def with_settings(self, settings: RunSettings) -> Inputs:
        return replace(self, settings=settings)
