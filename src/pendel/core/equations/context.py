"""What a part sees while it states its equations: symbols for its ports, values, states and time.

Sign convention: what flows through a port is positive into the part. A pair's current flows in at its
plus line and out at its minus line. A positive load torque or force brakes positive movement.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence, Set
from dataclasses import dataclass, field
from typing import Any

import casadi as ca

from pendel.core.equations.skeleton import PartForm, Question
from pendel.core.equations.terms import as_term, new_symbol


def stacked(*items: ca.SX) -> ca.SX:
    """A column of expressions; of none, an empty one that is still symbolic."""
    return ca.vertcat(ca.SX(0, 1), *items)


def expression_of(value: ca.SX | float) -> ca.SX:
    """A number as an expression; an expression as it is, since to copy one takes longer than to make one."""
    return value if isinstance(value, ca.SX) else ca.SX(value)


HEAT = "heat"
"""The port to which a part's losses go, where it has one."""
BOOKED = "switched"
"""Names the states that hold switching energies (J) until they have gone to a heat port."""


@dataclass
class Pin:
    """One connection point: ``across`` is equal along a wire, ``through`` sums to zero."""

    across: ca.SX
    through: ca.SX


@dataclass
class StateEntry:
    key: str
    symbol: ca.SX
    derivative: ca.SX
    start: float
    helper: bool = False
    """Only named so that its derivative can be used; gives way first when states depend on each other."""
    given: bool = False
    """The starting value was entered, and holds against what other states would make of it."""


@dataclass
class ModeEntry:
    """A discrete mode and the guards that leave it: (from, guard > 0, to)."""

    key: str
    symbol: ca.SX
    start: int
    transitions: list[tuple[int, ca.SX, int]] = field(default_factory=list)
    zero_on_entry: ca.SX | None = None
    """A function of states that must be exactly zero when the mode becomes 0 (a stuck speed)."""
    rests: bool = False
    """Whether mode 0 keeps it there, as dry friction keeps a speed; a diode's current only ends there."""


@dataclass(frozen=True)
class PulseChannel:
    """A leg's (or a single switch's) pulses: which command makes the duty, and which gates follow.

    duty = offset + scale·command. ``lower`` is empty for a single switch. ``numbers`` names the card's values
    that give the pulse frequency ``f``, ``phase``, dead time ``dead``, least pulse ``least``, and
    ``on_delay`` and ``off_delay``."""

    card: str
    command: str
    upper: str
    lower: str
    carrier: str = "triangle"
    sampling: str = "once"
    scale: float = 1.0
    offset: float = 0.0
    opens: bool = False
    """Whether a duty below zero opens the leg instead of counting as zero."""
    numbers: Mapping[str, str] = field(default_factory=dict)


@dataclass(eq=False)
class DryFriction:
    """A force that opposes ``speed`` and holds it at rest.

    ``sliding`` gives the signed force for a direction (+1, −1) of movement; ``forward`` and ``backward`` are
    what it can hold at most. A force that depends on unknowns, such as a gear's loss, cannot ``share`` the
    holding."""

    card: str
    key: str
    speed: ca.SX
    acceleration: ca.SX
    force: ca.SX
    sliding: Callable[[ca.SX], ca.SX]
    forward: ca.SX
    backward: ca.SX
    shares: bool


@dataclass(eq=False)
class PulsedMean:
    """An averaged leg, for the ripple of its current: the current ``load`` out of its pole (A), the link's
    voltage (V), its duty, and pulse frequency (Hz). ``nudge`` is a voltage added to the pole's, ``ripple``
    stands for what `equations.ripple` finds. An ``opposed`` leg has the pulses of the first one turned
    over."""

    card: str
    load: ca.SX
    link: ca.SX
    duty: ca.SX
    frequency: ca.SX
    nudge: ca.SX
    ripple: ca.SX
    opposed: bool = False


@dataclass(frozen=True, eq=False)
class SwitchedDevice:
    """A device whose switching energies are booked while a run goes on: its ``gate`` and the ``state`` (both keys)
    that takes them, in J; voltage (V) and current (A) in its forward direction; what it loses in turning on, in
    turning off, each over voltage times current (J/V/A)."""

    state: str
    gate: str
    u: ca.SX
    i: ca.SX
    on: ca.SX
    off: ca.SX


@dataclass
class Profile:
    """Piecewise linear in time: value = offset + slope·t on each stretch."""

    key: str
    offset: ca.SX
    slope: ca.SX
    times: Sequence[float]
    values: Sequence[float]


DERIVATIVES = ("f", "x", "y", "xx", "xy", "yy", "xxx", "xxy", "xyy", "yyy")
"""What a surface gives: its value, and its derivatives by x and y."""


@dataclass
class Surface:
    """A smooth function of two expressions, by the coefficients of a spline; see ``plant/surfaces.c``.

    ``outputs`` are the symbols of `DERIVATIVES`; ``cells`` the numbers of cells along both axes; ``count``
    how many numbers the C function reads.
    """

    key: str
    at: tuple[ca.SX, ca.SX]
    outputs: ca.SX
    cells: tuple[int, int]
    count: int

    def slopes(self) -> ca.SX:
        """Derivatives of the outputs up to the second order by both variables, shape (6, 2)."""
        output = dict(zip(DERIVATIVES, ca.vertsplit(self.outputs)))
        by = {n: n.removeprefix("f") for n in DERIVATIVES[:6]}
        return ca.vertcat(*(ca.horzcat(output["x" + n], output[n + "y"]) for n in by.values()))


@dataclass
class Network:
    """Everything the parts have stated, before it is ordered."""

    time: ca.SX = field(default_factory=lambda: new_symbol("t"))
    equations: list[tuple[str, ca.SX]] = field(default_factory=list)
    unknowns: dict[str, ca.SX] = field(default_factory=dict)
    states: list[StateEntry] = field(default_factory=list)
    parameters: dict[str, tuple[ca.SX, float]] = field(default_factory=dict)
    inputs: dict[str, ca.SX] = field(default_factory=dict)
    modes: list[ModeEntry] = field(default_factory=list)
    gates: dict[str, ca.SX] = field(default_factory=dict)
    """Gate signals: 0 or 1, changed by pulse channels only. They follow the modes in the vector of modes."""
    pulses: list[PulseChannel] = field(default_factory=list)
    pulsed_means: list[PulsedMean] = field(default_factory=list)
    switched: list[SwitchedDevice] = field(default_factory=list)
    frictions: list[DryFriction] = field(default_factory=list)
    surfaces: list[Surface] = field(default_factory=list)
    profiles: list[Profile] = field(default_factory=list)
    ports: dict[tuple[str, str], list[Pin]] = field(default_factory=dict)
    """Pins of every port that carries power, by card and name."""
    signals: dict[str, ca.SX] = field(default_factory=dict)
    stored: dict[str, ca.SX] = field(default_factory=dict)
    lost: dict[str, ca.SX] = field(default_factory=dict)
    delivered: dict[str, ca.SX] = field(default_factory=dict)
    supplied: dict[str, ca.SX] = field(default_factory=dict)

    def unknown(self, key: str) -> ca.SX:
        symbol = new_symbol(key)
        self.unknowns[key] = symbol
        return symbol

    def equation(self, owner: str, residual: ca.SX) -> None:
        self.equations.append((owner, expression_of(residual)))


class PartContext:
    """The view of one part on the `Network`.

    A part states its equations in symbols. What it does otherwise for one value than for another it must find
    out by `is_zero`, `is_positive` or `is_given`, so that it is known for which values its equations hold.
    """

    def __init__(
        self,
        network: Network,
        form: PartForm,
        *,
        pins: Mapping[str, list[Pin]],
        values: Mapping[str, float],
        starts: Mapping[str, float],
        given_starts: Set[str] = frozenset(),
        profile: tuple[Sequence[float], Sequence[float]] = ((), ()),
    ):
        self.network, self.form, self.card, self.level, self.rows = (
            network,
            form,
            form.card,
            form.level,
            form.rows,
        )
        self.answers: dict[tuple[str, Question], bool] = {}
        """What was asked about values, and the answers."""
        self._pins, self._values, self._starts = pins, values, starts
        self._choices, self._profile, self._given = dict(form.choices), profile, given_starts
        self._heat: dict[str, ca.SX] = {}
        self._booked: dict[str, ca.SX] = {}

    def key(self, name: str) -> str:
        return f"{self.card}.{name}"

    @property
    def time(self) -> ca.SX:
        return self.network.time

    def value(self, name: str) -> ca.SX:
        """Symbol of a value; changing it later needs no new build."""
        key = self.key(name)
        if key not in self.network.parameters:
            self.network.parameters[key] = (new_symbol(key), self._values[name])
        return self.network.parameters[key][0]

    def parasitic(self, name: str) -> ca.SX:
        """Like `value`, but plainly zero where the value is zero.

        A resistance of zero is another circuit, not a small one: two inductors in series share one current.
        """
        return as_term(ca.SX(0)) if self.is_zero(name) else self.value(name)

    def is_zero(self, name: str) -> bool:
        return self._asked(name, Question.ZERO)

    def is_positive(self, name: str) -> bool:
        return self._asked(name, Question.POSITIVE)

    def is_given(self, name: str) -> bool:
        """Whether an optional value was entered."""
        return self._asked(name, Question.GIVEN)

    def _asked(self, name: str, question: Question) -> bool:
        return self.answers.setdefault((name, question), question.answer(self._values[name]))

    def choice(self, name: str) -> str:
        return self._choices[name]

    def has_choice(self, name: str) -> bool:
        return name in self._choices

    def pair(self, port: str) -> tuple[ca.SX, ca.SX]:
        """Voltage across a pair (V) and current into its plus line (A)."""
        plus, minus = self._pins[port]
        self.equation(plus.through + minus.through)
        return plus.across - minus.across, plus.through

    def flange(self, port: str) -> tuple[ca.SX, ca.SX]:
        """Speed (rad/s or m/s) of a shaft or rod and torque or force (N·m or N) into the part."""
        (pin,) = self._pins[port]
        return pin.across, pin.through

    def line(self, port: str) -> Pin:
        """Potential (V) and current (A) of a single line."""
        (pin,) = self._pins[port]
        return pin

    def state(self, name: str, *, helper: bool = False) -> tuple[ca.SX, ca.SX]:
        """Symbol of a state and of its derivative."""
        key = self.key(name)
        entry = StateEntry(
            key,
            new_symbol(key),
            new_symbol(f"der({key})"),
            self._starts.get(name, 0.0),
            helper,
            key in self._given,
        )
        self.network.states.append(entry)
        return entry.symbol, entry.derivative

    def unknown(self, name: str) -> ca.SX:
        return self.network.unknown(self.key(name))

    def input(self, port: str) -> ca.SX:
        """A controller output, held between ticks."""
        key = self.key(port)
        return self.network.inputs.setdefault(key, new_symbol(key))

    def profile(self) -> ca.SX:
        """The card's profile at the present time."""
        key = self.key("profile")
        times, values = self._profile
        entry = Profile(key, new_symbol(key + ".offset"), new_symbol(key + ".slope"), times, values)
        self.network.profiles.append(entry)
        return entry.offset + entry.slope * self.time

    def surface(self, name: str, x: ca.SX, y: ca.SX) -> dict[str, ca.SX]:
        """One of the kind's `Part.surfaces` at (x, y), which depend on states and values only: its value and
        derivatives by name."""
        key = self.key(name)
        cells, count = self.form.surfaces[name]
        outputs = ca.vertcat(*(new_symbol(f"{key}:{n}") for n in DERIVATIVES))
        self.network.surfaces.append(Surface(key, (x, y), outputs, cells, count))
        return dict(zip(DERIVATIVES, ca.vertsplit(outputs)))

    def mode(self, name: str, start: int) -> ModeEntry:
        entry = ModeEntry(self.key(name), new_symbol(self.key(name)), start)
        self.network.modes.append(entry)
        return entry

    def dry_friction(self, speed: ca.SX, acceleration: ca.SX, *, sliding: ca.SX, breakaway: ca.SX) -> ca.SX:
        """A dry friction on a state's ``speed``; returns the unknown force, positive where it brakes."""
        force = self.unknown("dry_force")
        self._friction(
            speed,
            acceleration,
            force,
            lambda direction: direction * sliding,
            breakaway,
            breakaway,
            shares=True,
        )
        return force

    def loss_by_load(
        self,
        speed: ca.SX,
        acceleration: ca.SX,
        *,
        sliding: Callable[[ca.SX], ca.SX],
        forward: ca.SX,
        backward: ca.SX,
    ) -> ca.SX:
        """A friction whose force follows a load torque; ``sliding`` gives it for a direction of movement."""
        force = self.unknown("loss_force")
        self._friction(speed, acceleration, force, sliding, forward, backward, shares=False)
        return force

    def _friction(
        self,
        speed: ca.SX,
        acceleration: ca.SX,
        force: ca.SX,
        sliding: Callable[[ca.SX], ca.SX],
        forward: ca.SX,
        backward: ca.SX,
        *,
        shares: bool,
    ) -> None:
        self.network.frictions.append(
            DryFriction(self.card, self.key("sliding"), speed, acceleration, force, sliding, forward, backward, shares)
        )

    def pins(self, port: str) -> list[Pin]:
        """The lines of a port: potential (V) and current into the part (A) of each."""
        return self._pins[port]

    def has(self, port: str) -> bool:
        return port in self._pins

    def gate(self, name: str) -> ca.SX:
        """A gate signal, 0 or 1, that a pulse channel drives."""
        return self.network.gates.setdefault(self.key(name), new_symbol(self.key(name)))

    def pulse(self, command: str, upper: str, lower: str = "", **more: Any) -> None:
        """Let the input ``command`` drive the gates ``upper`` and ``lower``; see `PulseChannel`."""
        self.input(command)
        self.network.pulses.append(
            PulseChannel(
                self.card,
                self.key(command),
                self.key(upper) if upper else "",
                self.key(lower) if lower else "",
                **more,
            )
        )

    def pulsed_mean(self, name: str, load: ca.SX, link: ca.SX, duty: ca.SX, *, opposed: bool = False) -> PulsedMean:
        """A leg averaged over its pulses, by a name of its own; its current's ripple follows from the whole
        drive."""
        nudge, ripple = (new_symbol(f"{what}:{self.card}.{name}") for what in ("nudge", "ripple"))
        leg = PulsedMean(self.card, load, link, duty, self.value("f_p"), nudge, ripple, opposed)
        self.network.pulsed_means.append(leg)
        return leg

    def equation(self, residual: ca.SX) -> None:
        """State that ``residual`` is zero."""
        self.network.equation(self.card, residual)

    def signal(self, name: str, expression: ca.SX) -> None:
        self.network.signals[self.key(name)] = expression_of(expression)

    def stored(self, energy: ca.SX) -> None:
        """Energy held by the part (J). This and the next three make the energy balance; what is said twice
        adds up."""
        self._adds_up(self.network.stored, energy)

    def lost(self, power: ca.SX, to: str = HEAT) -> None:
        """Power turned into heat (W), which goes to the heat port ``to``, where that is wired."""
        self._adds_up(self.network.lost, power)
        self.warms(power, to)

    def warms(self, power: ca.SX, port: str = HEAT) -> None:
        """Heat (W) into a port, where it is wired, that the part does not draw: switching energies are reported beside
        the circuit."""
        if self.has(port):
            self._heat[port] = self._heat.get(port, ca.SX(0)) + power

    def temperature(self, entered: ca.SX | float, port: str = HEAT) -> ca.SX:
        """°C at a heat port, where it is wired; else what was entered."""
        return self.line(port).across if self.has(port) else expression_of(entered)

    def switched(self, gate: str, u: ca.SX, i: ca.SX, *, on: ca.SX, off: ca.SX, decay: ca.SX, port: str = HEAT) -> None:
        """Book a device's switching energies to a heat port, where that is wired: what it loses in turning on and in
        turning off, over voltage times current (J/V/A). They go there with the time constant ``decay`` (s)."""
        if not self.has(port):
            return
        name = f"{BOOKED}_{port}"
        if port not in self._booked:
            self._booked[port], slope = self.state(name)
            self.equation(slope + self._booked[port] / decay)
            self.warms(self._booked[port] / decay, port)
        self.network.switched.append(SwitchedDevice(self.key(name), self.key(gate), u, i, on, off))

    def end_heat(self) -> None:
        """State what flows through the heat ports: once, when all is said."""
        for port, power in self._heat.items():
            self.equation(self.line(port).through + power)

    def delivered(self, power: ca.SX) -> None:
        """Power taken out of the drive by a load, not as heat of a part (W)."""
        self._adds_up(self.network.delivered, power)

    def supplied(self, power: ca.SX) -> None:
        """Power brought in by a source (W)."""
        self._adds_up(self.network.supplied, power)

    def _adds_up(self, of: dict[str, ca.SX], more: ca.SX) -> None:
        of[self.card] = of[self.card] + more if self.card in of else expression_of(more)
