"""Bodies and the ways between them as functions of their state and of the heat that is given to them.

x' = f(x, P), T = g(x, P): x the states of the bodies (K), P the heat at each joint (W), T the temperatures of joints
and bodies (°C). Where all ways are linear these are matrices, and a stretch of constant load is an exponential."""

from __future__ import annotations

import copy
import math
from dataclasses import dataclass
from functools import cached_property

import casadi as ca
import numpy as np

from pendel.core.catalogue.declare import Part, Signal
from pendel.core.catalogue.heat import stand_ins
from pendel.core.catalogue.index import kind_of
from pendel.core.errors import DriveProblem
from pendel.core.heat.cut import Cut
from pendel.core.plant.program import parameters_of
from pendel.core.runs.preparing.simulate import Prepared, prepare
from pendel.core.vocabulary import SignalRole, ValueRole


@dataclass(frozen=True)
class Straight:
    """x' = A·x + B·P + a and T = C·x + D·P + c about a state; shapes (n, n), (n, m), (n,), (k, n), (k, m), (k,)."""

    a: np.ndarray
    b: np.ndarray
    rest: np.ndarray
    c: np.ndarray
    d: np.ndarray
    level: np.ndarray


class HeatNetwork:
    """The bodies of a drive.

    Raises
    ------
    DriveHasFindings
        where they are no network: no ambient, two on one line, a start that contradicts.
    DriveProblem
        where they have nothing that stores heat.
    """

    def __init__(self, of: Cut):
        self.cut = of
        self.speeds = np.zeros(len(of.fans))
        """Of fans (rad/s)."""
        self.prepared: Prepared = prepare(of.bodies)
        self.states = self.prepared.structure.state_keys
        if not self.states:
            raise DriveProblem("The bodies store no heat, so nothing takes time. Add a heat capacity.")
        self.outputs = [stand_ins.felt(joint.source) for joint in of.joints]
        """Signals of T: first the joints, then bodies."""
        self.bodies = temperatures(self.prepared)
        self.outputs += list(self.bodies)

    def at_speeds(self, speeds: np.ndarray) -> HeatNetwork:
        """The same while its fans turn as fast (rad/s), shape (fans,)."""
        if np.array_equal(speeds, self.speeds):
            return self
        _ = self._functions, self.is_linear  # which all of them share
        other = copy.copy(self)
        other.speeds, other._kept = np.array(speeds), None
        return other

    @cached_property
    def coldest(self) -> float:
        """°C of the coldest place where no heat comes in."""
        x, none = self.start, np.zeros(len(self.cut.joints))
        for _ in range(20):  # of Newton's method; one where it is linear
            here = self.straight(x, none)
            if np.linalg.cond(here.a) > 1e12:
                break
            x = np.linalg.solve(here.a, -here.rest)
        return float(np.min(self.at(x, none)[1]))

    @cached_property
    def limits(self) -> dict[str, float]:
        """Of bodies that have one (°C), by their signals."""
        found = {}
        for key in self.bodies:
            card = key.partition(".")[0]
            name = kind_of(self.prepared.drive.cards[card]).value_name(ValueRole.TEMPERATURE_LIMIT)
            if name:
                found[key] = self.prepared.examined.values[card].get(name, math.nan)
        return found

    @cached_property
    def start(self) -> np.ndarray:
        """States at the start (K above their starts), shape (n,)."""
        return np.array(self.prepared.starting.values, dtype=float)

    @cached_property
    def _functions(self) -> tuple[ca.Function, ca.Function]:
        """(x, P, ω) → f, T, and their derivatives by x and P."""
        model = self.prepared.model
        symbols = model.symbols
        structure, keys = self.prepared.structure, self.prepared.structure.parameter_keys
        sources = [stand_ins.given(joint.source) for joint in self.cut.joints]
        numbers = parameters_of(structure, self.prepared.numbers)
        p = ca.SX(numbers[: len(keys)])
        heat, fans = ca.SX.sym("P", len(sources)), ca.SX.sym("w", len(self.cut.fans))
        for place, key in enumerate(sources):
            p[keys.index(key)] = heat[place]
        for place, fan in enumerate(self.cut.fans):
            p[keys.index(fan.value)] = fans[place]
        signals = model.signals
        both = ca.vertcat(model.rhs, *(signals[key] for key in self.outputs))
        given = [symbols[k] for k in ("t", "u", "s", "p")]
        zero = [ca.SX(0), ca.SX.zeros(*given[1].shape), ca.SX.zeros(*given[2].shape), p]
        x, z = symbols["x"], symbols["z"]
        if not z.numel():
            whole = ca.substitute([both], given, zero)[0]
            slopes = [ca.densify(ca.jacobian(whole, each)) for each in (x, heat)]
            given = [x, heat, fans]
            return ca.Function("f", given, [whole]), ca.Function("j", given, slopes)
        residuals, outer = ca.substitute([ca.vertcat(*model.system.residuals), both], given, zero)
        root = ca.rootfinder("z", "newton", ca.Function("r", [z, ca.vertcat(x, heat, fans)], [residuals]))
        inner = ca.Function("o", [x, heat, fans, z], [outer])
        mx, mp, mw = (ca.MX.sym(name, each.numel()) for name, each in (("x", x), ("P", heat), ("w", fans)))
        guess = ca.DM.ones(z.numel()) * 20.0  # what is found are temperatures
        solved = inner(mx, mp, mw, root(guess, ca.vertcat(mx, mp, mw)))
        by = [ca.densify(ca.jacobian(solved, each)) for each in (mx, mp)]
        return ca.Function("f", [mx, mp, mw], [solved]), ca.Function("j", [mx, mp, mw], by)

    def at(self, x: np.ndarray, heat: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """x' (K/s) and T (°C)."""
        whole = np.array(self._functions[0](x, heat, self.speeds)).ravel()
        return whole[: len(x)], whole[len(x) :]

    def straight(self, x: np.ndarray, heat: np.ndarray) -> Straight:
        """The network about a state; exact everywhere where it `is_linear`."""
        if self.is_linear and self._kept is not None:
            return self._kept
        n = len(x)
        by_x, by_heat = (np.array(s) for s in self._functions[1](x, heat, self.speeds))
        slope, temperatures = self.at(x, heat)
        straight = Straight(
            by_x[:n],
            by_heat[:n],
            slope - by_x[:n] @ x - by_heat[:n] @ heat,
            by_x[n:],
            by_heat[n:],
            temperatures - by_x[n:] @ x - by_heat[n:] @ heat,
        )
        if self.is_linear:
            self._kept = straight
        return straight

    _kept: Straight | None = None

    @cached_property
    def is_linear(self) -> bool:
        x = ca.SX.sym("x", len(self.states))
        heat = ca.SX.sym("P", len(self.cut.joints))
        if self.prepared.model.symbols["z"].numel():
            return False
        fans = ca.SX.sym("w", len(self.cut.fans))
        slopes = self._functions[1](x, heat, fans)
        return not any(ca.depends_on(s, ca.vertcat(x, heat)) for s in slopes)


def temperatures(prepared: Prepared) -> dict[str, Signal]:
    """Signals of the bodies that are temperatures, by key."""
    found: dict[str, Signal] = {}
    for key, card in prepared.drive.cards.items():
        kind = kind_of(card)
        if isinstance(kind, Part):
            found |= {
                f"{key}.{s.name}": s
                for s in kind.signals
                if s.role is SignalRole.TEMPERATURE and f"{key}.{s.name}" in prepared.structure.signals
            }
    return found
