"""Dry friction with real sticking, also where several frictions act on one rigid train.

While stuck, the acceleration is zero and the holding force is the unknown; sliding, the force has its sliding
value. Two stuck frictions on one rigid train would leave their shares open, so frictions whose speeds are
proportional share one mode: they stick and break away together, and hold in proportion to what each can.
"""

from __future__ import annotations

from copy import copy
from dataclasses import dataclass

import casadi as ca
import numpy as np

from pendel.core.equations.context import DryFriction, ModeEntry, Network
from pendel.core.equations.reduce import Reduction

TINY_FORCE = 1e-9
"""Keeps the shares defined where no friction of a group can hold anything."""


@dataclass
class Member:
    friction: DryFriction
    ratio: ca.SX
    """Its speed over that of the group's first."""


def state_friction_laws(network: Network) -> None:
    """Add the equations and modes of all dry frictions to the network."""
    if not network.frictions:
        return
    gradients, sampler = speed_gradients(network)
    groups: list[list[Member]] = []
    directions: list[np.ndarray] = []
    for friction, gradient in zip(network.frictions, gradients):
        at = sampler(gradient)
        if not np.any(np.abs(at) > 0):
            state_driven(network, friction)
            continue
        for group, direction in zip(groups, directions):
            ratio = proportion(direction, at)
            if ratio is not None:
                first = gradients[network.frictions.index(group[0].friction)]
                column = int(np.argmax(np.abs(direction[0])))
                group.append(Member(friction, gradient[column] / first[column]))
                break
        else:
            groups.append([Member(friction, ca.SX(1))])
            directions.append(at)
    for group in groups:
        state_group(network, group)


def speed_gradients(network: Network):
    """How each friction's speed depends on the states, with the friction forces taken as given."""
    trial = copy(network)
    forces = {f.force.name() for f in network.frictions}
    trial.unknowns = {k: s for k, s in network.unknowns.items() if s.name() not in forces}
    trial.equations = list(network.equations)
    reduction = Reduction(trial)
    system = reduction.run()
    x = ca.vertcat(*(e.symbol for e in system.states))
    gradients = [ca.densify(ca.jacobian(system.express(f.speed), x)) for f in network.frictions]

    def sampler(gradient: ca.SX) -> np.ndarray:
        return np.array([reduction.values_at_samples(gradient[k]) for k in range(gradient.numel())]).T

    return gradients, sampler


def proportion(a: np.ndarray, b: np.ndarray) -> float | None:
    """The sign of b over a when b is a multiple of a at every sample, else None; shapes (samples, states)."""
    column = int(np.argmax(np.abs(a[0])))
    ratios = b[:, column] / a[:, column]
    if np.all(ratios != 0) and np.allclose(b, a * ratios[:, None], rtol=1e-9, atol=1e-12):
        return float(np.sign(ratios[0]))
    return None


def state_driven(network: Network, friction: DryFriction) -> None:
    """The speed is imposed: the force follows its sign and there is nothing to hold."""
    mode = ModeEntry(friction.key, ca.SX.sym(friction.key), 0)
    network.modes.append(mode)
    network.equation(friction.card, friction.force - mode.symbol * friction.sliding)
    w = friction.speed
    mode.exits += [(0, w, 1), (0, -w, -1), (1, -w, 0), (-1, w, 0)]


def state_group(network: Network, group: list[Member]) -> None:
    first = group[0].friction
    mode = ModeEntry(first.key, ca.SX.sym(first.key), 0, hold_zero=first.speed)
    network.modes.append(mode)
    s = mode.symbol
    moving = s * s
    network.equation(first.card, moving * (first.force - s * first.sliding) - (1 - moving) * first.acceleration)
    holding, capacity = first.force, first.breakaway
    for member in group[1:]:
        f, sign = member.friction, ca.sign(member.ratio)
        held = f.force * (first.breakaway + TINY_FORCE) - sign * f.breakaway * first.force
        network.equation(f.card, moving * (f.force - s * sign * f.sliding) + (1 - moving) * held)
        holding = holding + member.ratio * f.force
        capacity = capacity + ca.fabs(member.ratio) * f.breakaway
    mode.exits += [(0, holding - capacity, 1), (0, -holding - capacity, -1), (1, -first.speed, 0), (-1, first.speed, 0)]
