"""Dry friction with real sticking, also where several frictions act on one rigid train.

While stuck, the acceleration is zero and the holding force is the unknown; sliding, the force has its sliding
value. Two stuck frictions on one rigid train would leave their shares open, so frictions whose speeds are
proportional share one mode: they stick and break away together, and hold in proportion to what each can. The
loss of a gear is such a friction too, with a level that follows its load; without this a gear at standstill
would flip between driving and driven for ever.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import casadi as ca
import numpy as np

from pendel.core.equations.context import DryFriction, ModeEntry, Network, stacked
from pendel.core.equations.reduce import Reduction

TINY_SPEED = 1e-9
TINY_FORCE = 1e-9
"""Keeps the shares defined where no friction of a group can hold anything."""


@dataclass
class Member:
    friction: DryFriction
    ratio: ca.SX
    """Its speed over that of the group's first."""
    sign: float = 1.0

    def capacity(self, forward: bool) -> ca.SX:
        same = forward == (self.sign > 0)
        return self.friction.forward if same else self.friction.backward


def with_friction_laws(stated: Network) -> Network:
    """The network with the equations and modes of all its dry frictions; ``stated`` stays as it is."""
    if not stated.frictions:
        return stated
    network = replace(stated, equations=list(stated.equations), modes=list(stated.modes))
    gradients, sampler = speed_gradients(network)
    groups: list[list[Member]] = []
    directions: list[np.ndarray] = []
    order = sorted(range(len(gradients)), key=lambda k: not network.frictions[k].shares)
    for friction, gradient in ((network.frictions[k], gradients[k]) for k in order):
        at = sampler(gradient)
        if not np.any(np.abs(at) > 0):
            state_driven(network, friction)
            continue
        for group, direction in zip(groups, directions):
            ratio = proportion(direction, at)
            if ratio is not None:
                first = gradients[network.frictions.index(group[0].friction)]
                column = int(np.argmax(np.abs(direction[0])))
                group.append(Member(friction, gradient[column] / first[column], ratio))
                break
        else:
            groups.append([Member(friction, ca.SX(1))])
            directions.append(at)
    for group in groups:
        state_group(network, group)
    return network


def speed_gradients(network: Network) -> tuple[list[ca.SX], Callable[[ca.SX], np.ndarray]]:
    """How each friction's speed depends on the states, with the friction forces taken as given."""
    forces = {f.force.name() for f in network.frictions}
    known = {k: s for k, s in network.unknowns.items() if s.name() not in forces}
    reduction = Reduction(replace(network, unknowns=known))
    system = reduction.run()
    x = stacked(*(e.symbol for e in system.states))
    gradients = [ca.densify(ca.jacobian(system.express(f.speed), x)) for f in network.frictions]

    def sampler(gradient: ca.SX) -> np.ndarray:
        return np.array([reduction.values_at_samples(gradient[k]) for k in range(gradient.numel())]).T

    return gradients, sampler


def proportion(a: np.ndarray, b: np.ndarray) -> float | None:
    """The sign of b over a when b is a multiple of a at every sample, else None; shapes (samples, states)."""
    column = int(np.argmax(np.abs(a[0])))
    with np.errstate(all="ignore"):  # values far from all that is usual
        ratios = b[:, column] / a[:, column]
    if np.all(np.isfinite(ratios) & (ratios != 0)) and np.allclose(b, a * ratios[:, None], rtol=1e-9, atol=1e-12):
        return float(np.sign(ratios[0]))
    return None


def state_driven(network: Network, friction: DryFriction) -> None:
    """The speed is imposed: the force follows its sign and there is nothing to hold."""
    mode = ModeEntry(friction.key, ca.SX.sym(friction.key), 0)
    network.modes.append(mode)
    network.equation(friction.card, friction.force - mode.symbol * mode.symbol * friction.sliding(mode.symbol))
    w = friction.speed
    mode.transitions += [(0, w, 1), (0, -w, -1), (1, -w, 0), (-1, w, 0)]


def state_group(network: Network, group: list[Member]) -> None:
    """One mode for all members: stuck (0), the first one sliding forward (1) or backward (−1)."""
    first = group[0].friction
    mode = ModeEntry(first.key, ca.SX.sym(first.key), 0, zero_on_entry=first.speed, rests=True)
    network.modes.append(mode)
    s = mode.symbol
    moving = s * s
    network.equation(first.card, moving * (first.force - first.sliding(s)) - (1 - moving) * first.acceleration)
    holding = first.force
    for member in group[1:]:
        f = member.friction
        held = f.force
        if f.shares:
            held = f.force * (first.forward + TINY_FORCE) - member.sign * f.forward * first.force
        network.equation(f.card, moving * (f.force - f.sliding(member.sign * s)) + (1 - moving) * held)
        holding = holding + member.ratio * f.force
    forward, backward = (
        sum((ca.fabs(m.ratio) * m.capacity(ahead) for m in group), ca.SX(0)) for ahead in (True, False)
    )
    # Stuck, the speed is zero by construction; a starting value that is not lets the part slide at once.
    mode.transitions += [(0, first.speed - TINY_SPEED, 1), (0, -first.speed - TINY_SPEED, -1)]
    mode.transitions += [
        (0, holding - forward, 1),
        (0, -holding - backward, -1),
        (1, -first.speed, 0),
        (-1, first.speed, 0),
    ]
