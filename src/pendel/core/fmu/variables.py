"""What a unit has to set and to read: inputs, values, signals, all in SI."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from enum import Enum, IntEnum
from functools import cached_property

import numpy as np

from pendel.core.catalogue.declare import ANY, Block, Part
from pendel.core.catalogue.index import kind_of
from pendel.core.drive.document import Drive
from pendel.core.drive.nesting import full_name
from pendel.core.errors import DriveProblem, PendelError
from pendel.core.plant.program import FLOWS, Inputs, Program
from pendel.core.runs.preparing.simulate import Prepared, endless_settings, prepare, prepare_run
from pendel.core.vocabulary import Link


class What(Enum):
    """What of a drive becomes a unit."""

    PLANT = "plant"
    CONTROLLER = "controller"
    DRIVE = "drive"


def prepared_for(drive: Drive, what: What) -> Prepared:
    """A controller is exported whole, also where envelopes stand for its inner loops. Raises `DriveHasFindings`."""
    return prepare(drive) if what is What.CONTROLLER else prepare_run(drive)


class Kind(IntEnum):
    """As in ``c/unit.h``."""

    TIME = 0
    VALUE = 1
    COMMAND_IN = 2
    MEASURED_IN = 3
    PROFILE = 4
    SIGNAL = 5
    BLOCK = 6
    COMMAND_OUT = 7


@dataclass(frozen=True)
class Variable:
    """``place`` and ``other`` are those of ``variable_t`` in ``c/unit.h``; ``unit`` is as the drive shows it, ``start``
    in SI."""

    name: str
    kind: Kind
    place: int = -1
    other: int = -1
    unit: str = ""
    description: str = ""
    start: float = 0.0
    from_outside: bool = False
    """A value or profile that is an input."""
    inner: bool = False
    """A signal that is there to be read, and not to be wired."""

    @property
    def is_input(self) -> bool:
        return self.kind in (Kind.COMMAND_IN, Kind.MEASURED_IN, Kind.PROFILE) or self.from_outside

    @property
    def is_parameter(self) -> bool:
        return self.kind is Kind.VALUE and not self.from_outside

    @property
    def is_result(self) -> bool:
        return self.kind in (Kind.SIGNAL, Kind.BLOCK, Kind.COMMAND_OUT)


class Unit:
    """A prepared drive seen as a unit.

    Parameters
    ----------
    inputs
        names of profiles and values (``card.value``) that are inputs: what they are comes from outside at every step.
    step
        s; from tick to tick where no controller of the drive says how often.

    Raises
    ------
    DriveProblem
        where there is no plant or no controller, no such input, or a step that cannot be.
    DriveHasFindings
        where the controller has no C in its format.
    """

    def __init__(self, prepared: Prepared, what: What, inputs: Sequence[str] = (), step: float | None = None):
        self.prepared, self.what, self.names = prepared, what, tuple(dict.fromkeys(inputs))
        self.drive = prepared.drive
        if what is What.CONTROLLER and not prepared.deck.signals:
            raise DriveProblem(f"{self.drive.title} has no blocks, so there is no controller. Export the plant.")
        if what is not What.CONTROLLER and not prepared.structure.state_keys:
            raise DriveProblem(
                f"{self.drive.title} has no part with a state, so there is nothing to simulate. Add a plant."
            )
        self.program: Program = prepared.program
        self.inputs: Inputs = prepared.inputs(endless_settings(prepared))
        self.tick = self._tick(step)
        unknown = [n for n in self.names if n not in {v.name for v in self.variables if v.is_input}]
        if unknown:
            offered = ", ".join(sorted(self.offered)) or "none"
            raise DriveProblem(f"“{unknown[0]}” cannot be an input of the {what.value}. There are: {offered}.")

    @property
    def free_step(self) -> bool:
        """Whether no controller inside says how long a tick is."""
        return self.what is What.PLANT or not self.prepared.deck.signals

    def _tick(self, step: float | None) -> float:
        if step is None:
            return float(self.inputs.tick) if self.prepared.deck.signals else 1e-3
        if not 1e-9 <= step <= 1e3:
            raise DriveProblem(f"A step of {step:g} s cannot be. Give one from 1 ns to 1000 s.")
        if not self.free_step and step != self.inputs.tick:
            raise DriveProblem(
                f"The controller of {self.drive.title} ticks every {self.inputs.tick:g} s, and so does the "
                f"unit. "
                "Leave the step out, or change the control period of the drive."
            )
        return step

    @property
    def has_plant(self) -> bool:
        return self.what is not What.CONTROLLER

    @property
    def has_controller(self) -> bool:
        return self.what is not What.PLANT and bool(self.program.control)

    @cached_property
    def variables(self) -> list[Variable]:
        """All variables; the place of each is its value reference."""
        variables = [Variable("time", Kind.TIME, unit="s", description="Time")]
        if self.what is What.PLANT:
            variables += self._commands(Kind.COMMAND_IN)
        if self.what is What.CONTROLLER:
            variables += self._measured()
            variables += self._commands(Kind.COMMAND_OUT)
        variables += self._profiles() + self._values()
        variables += self._signals()
        return with_own_names(variables)

    @property
    def offered(self) -> dict[str, str]:
        """Names that can be inputs beyond those that always are, with what they are."""
        if not self.has_plant:
            profiles = list[Variable]()
        else:
            profiles = [self._profile(k) for k in range(len(self.prepared.structure.profile_keys))]
        return {v.name: v.description for v in [*profiles, *self._values()]}

    def _commands(self, kind: Kind) -> list[Variable]:
        return [self._port(key, kind, place) for place, key in enumerate(self.prepared.structure.commands)]

    def _port(self, key: str, kind: Kind, place: int) -> Variable:
        card, _, name = key.partition(".")
        ports = {p.name: p for p in kind_of(self.drive.cards[card]).ports if p.link is not Link.SIGNAL_OUT}
        label, unit = (ports[name].label, ports[name].unit) if name in ports else (name, "")
        return Variable(key, kind, place, unit=plain_unit(unit), description=self._words(card, label))

    def _words(self, card: str, label: str) -> str:
        return f"{full_name(self.drive, card)}: {label[:1].lower() + label[1:]}"

    def _measured(self) -> list[Variable]:
        return [self._signal(key, Kind.MEASURED_IN, place) for place, key in enumerate(self.prepared.deck.measured)]

    def _signal(self, key: str, kind: Kind, place: int) -> Variable:
        info = self.prepared.infos.get(key)
        if info is None:
            return Variable(key, kind, place, inner=True)
        return Variable(key, kind, place, unit=plain_unit(info.unit), description=f"{info.card}: {info.label}")

    def _profile(self, place: int) -> Variable:
        key = self.prepared.structure.profile_keys[place]
        _, levels = self.inputs.profiles[place]
        card, _, name = key.partition(".")
        kind = kind_of(self.drive.cards[card])
        label, unit = (isinstance(kind, Part) and kind.has_profile) or (name, "")
        start = levels[0] if levels else 0.0
        return Variable(
            key, Kind.PROFILE, place, unit=plain_unit(unit), description=self._words(card, label), start=start
        )

    def _profiles(self) -> list[Variable]:
        if not self.has_plant:
            return []
        every = [self._profile(k) for k in range(len(self.prepared.structure.profile_keys))]
        return [v for v in every if v.name in self.names]

    def _values(self) -> list[Variable]:
        """Numbers of cards that equations and blocks take as they are. What decides when pulses come is not among them,
        as it is settled before a run, nor what the code of a block derives from its card."""
        structure = self.prepared.structure
        pulsed = {f"{p.card}.{name}" for p in structure.pulses for _, name in p.numbers}
        plant = {k: n for n, k in enumerate(structure.parameter_keys)} if self.has_plant else {}
        blocks = {k: n for n, k in enumerate(self.program.control_values)} if self.has_controller else {}
        values = []
        for key in dict.fromkeys((*plant, *blocks)):
            card, _, name = key.partition(".")
            declared = {v.name: v for v in kind_of(self.drive.cards[card]).values} if card in self.drive.cards else {}
            place, other = plant.get(key, -1), blocks.get(key, -1)
            start = self.inputs.parameters[place] if place >= 0 else self.inputs.controls[other]
            if (
                name not in declared
                or key in pulsed
                or not np.isfinite(start)
                or not self._stands_alone(card, name, start)
            ):
                continue
            value = declared[name]
            words, outside = self._words(card, value.label), key in self.names
            unit = plain_unit(value.unit)
            values.append(Variable(key, Kind.VALUE, place, other, unit, words, float(start), outside))
        return values

    def _stands_alone(self, key: str, name: str, start: float) -> bool:
        """Whether equations and blocks take a value as it was entered, and nothing else is worked out from it before a
        run, which would stay as it was."""
        card, values = self.drive.cards[key], self.prepared.examined.values[key]
        kind = kind_of(card)
        if not np.isnan(values[name]) and values[name] != start:
            return False
        changed = {**values, name: 1.001 * start or 0.001}
        try:
            if isinstance(kind, Part):
                work_out = kind.equation_values
                return work_out is None or rest(work_out(values, card), name) == rest(work_out(changed, card), name)
            assert isinstance(kind, Block)
            if kind.derive is None:
                return True
            before, after = (kind.derive(v, card, self.prepared.deck.tick) for v in (values, changed))
            return name not in before and before == after
        except PendelError:
            return False

    def _signals(self) -> list[Variable]:
        signals = []
        if self.has_plant:
            signals += [self._signal(k, Kind.SIGNAL, n) for n, k in enumerate(self.prepared.structure.signals)]
            signals = [replace(v, inner=v.inner or v.name.split(":")[0] in FLOWS) for v in signals]
        if self.has_controller:
            signals += [self._signal(k, Kind.BLOCK, n) for n, k in enumerate(self.program.control_signals)]
        return signals


def rest(values: Mapping[str, float], name: str) -> dict[str, float]:
    return {n: v for n, v in values.items() if n != name and not np.isnan(v)}


def plain_unit(unit: str) -> str:
    return "" if unit == ANY else unit


def with_own_names(variables: list[Variable]) -> list[Variable]:
    """The variables, each with a name of its own: a value called like a signal of its card is told apart."""
    taken: set[str] = set()
    renamed = []
    for variable in sorted(variables, key=lambda v: v.kind is Kind.VALUE and not v.from_outside):
        name = variable.name
        if name in taken:
            name = f"{name}.{'value' if variable.kind is Kind.VALUE else 'signal'}"
        while name in taken:
            name += "_"
        taken.add(name)
        renamed.append(replace(variable, name=name))
    return renamed


__all__ = ["Kind", "Unit", "Variable", "What"]
