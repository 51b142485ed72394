"""Linear models of numbers alone: from an input to an output, continuous or from period to period."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from pendel.core.loops.models.resolvent import outputs_over
from pendel.core.quantities.units import figure

ROUNDING = 1e-12
"""A response below this is one of rounding."""
AT_ONCE = 64
"""Values of a response that are computed by one product, at least."""
FAR = 1e12
"""What grows beyond this is shown no further."""


MOST_POLES, GONE = 8, 1e-9
"""That are told of a model in words; and a size within a sample, below which one is gone."""


@dataclass(frozen=True, repr=False)
class LinearModel:
    """x⁺ = A x + B u, y = C x + D u per period ``dt`` (s), or dx/dt for ``dt`` 0."""

    A: np.ndarray
    B: np.ndarray
    C: np.ndarray
    D: np.ndarray
    dt: float
    states: tuple[str, ...]
    input: str
    output: str

    def response(self, omega: np.ndarray) -> np.ndarray:
        """Complex frequency response at ``omega`` (rad/s)."""
        s = 1j * omega if self.dt == 0 else np.exp(1j * omega * self.dt)
        A, B, C = self.reduced
        return outputs_over(A, B, C, self.D, s)[0]

    @cached_property
    def reduced(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """A, B, C of the states that the input reaches and the output shows."""
        kept = on_the_way(self.A, self.B, self.C)
        return self.A[np.ix_(kept, kept)], self.B[kept], self.C[:, kept]

    def on_its_way(self) -> LinearModel:
        """Of those states alone; what else the drive remembers is left out."""
        A, B, C = self.reduced
        states = tuple(self.states[k] for k in on_the_way(self.A, self.B, self.C))
        return LinearModel(A, B, C, self.D, self.dt, states, self.input, self.output)

    @property
    def poles(self) -> np.ndarray:
        return np.linalg.eigvals(self.A)

    @property
    def rates(self) -> np.ndarray:
        """Poles in continuous time (rad/s), the slowest first, one of each pair, of what lies on its way alone; without
        what is gone within a sample."""
        poles = np.linalg.eigvals(self.reduced[0]).astype(complex)
        if self.dt:
            poles = np.log(poles[np.abs(poles) > GONE]) / self.dt
        poles = poles[np.isfinite(poles) & (poles.imag >= -1e-12 * np.abs(poles))]
        return poles[np.argsort(np.abs(poles))]

    def __repr__(self) -> str:
        how = f"from {figure(self.dt, 's', 3)} to {figure(self.dt, 's', 3)}" if self.dt else "continuous"
        return f"<{self.input} → {self.output}: {len(self.states)} states, {how}>"

    def __str__(self) -> str:
        rates = self.rates
        lines = [repr(self)[1:-1], *map(rate_words, rates[:MOST_POLES])]
        if len(rates) > MOST_POLES:
            lines.append(f"and {len(rates) - MOST_POLES} faster ones")
        return "\n".join(lines)

    def to_scipy(self) -> Any:
        """As `scipy.signal.StateSpace`, sampled where this is."""
        from scipy.signal import StateSpace

        return StateSpace(self.A, self.B, self.C, self.D, **({"dt": self.dt} if self.dt else {}))

    def to_control(self) -> Any:
        """As a state space of python-control, with named states, input and output; that package allows no
        dots in
        names, so they are underscores. Needs it installed."""
        import control

        def plain(name: str) -> str:
            return name.replace(".", "_")

        return control.ss(
            self.A,
            self.B,
            self.C,
            self.D,
            self.dt,
            states=list(map(plain, self.states)),
            inputs=[plain(self.input)],
            outputs=[plain(self.output)],
        )


def rate_words(rate: complex) -> str:
    """A pole in continuous time (rad/s) by frequency and damping, or by its time constant."""
    size = abs(rate)
    if size < 1e-9:
        return "an integrator"
    if abs(rate.imag) > 1e-9 * size:
        return f"{figure(size / (2 * math.pi), 'Hz', 4)}, damping {-rate.real / size:.3g}"
    return f"{'decays' if rate.real < 0 else 'grows'} with a time constant of {figure(1 / size, 's', 4)}"


def on_the_way(A: np.ndarray, B: np.ndarray, C: np.ndarray) -> np.ndarray:
    """Places of states that the input reaches and the output shows by what is not zero; of a drive seen between two
    points most are neither."""
    leads = A != 0
    reached, shown = np.any(B != 0, axis=1), np.any(C != 0, axis=0)
    for marked, step in ((reached, leads), (shown, leads.T)):
        count = -1
        while count != (count := int(np.sum(marked))):
            marked |= step @ marked
    return np.flatnonzero(reached & shown)


def far_values(read: np.ndarray, whole: np.ndarray, count: int) -> np.ndarray:
    """What rows read (k, n) of a state that is 0 but for its last entry, and of those it becomes by ``whole``, so
    many in all; as far as it stays within `FAR`. Many are computed by one product."""
    stacked, on, ahead = read, whole, 1
    state = np.zeros(len(whole))
    state[-1] = 1.0
    values = list[np.ndarray]()
    with np.errstate(over="ignore", invalid="ignore"):
        while ahead < min(count, AT_ONCE):  # twice as many by one product
            stacked, on, ahead = np.vstack([stacked, stacked @ on]), on @ on, 2 * ahead
        for _ in range(math.ceil(count / ahead)):
            values.append(stacked @ state)
            state = on @ state
            if not np.all(np.abs(state) < FAR):
                break
    y = np.concatenate(values)[: count * len(read)]
    beyond = np.flatnonzero(~(np.abs(y) < FAR))
    return y[: max(1, beyond[0])] if len(beyond) else y


@dataclass(frozen=True)
class LiftedModel:
    """x⁺ = A x + B u, y = C x + D u over a period of N ticks of ``tick`` s, with u and y at each of its
    ticks."""

    A: np.ndarray
    B: np.ndarray
    C: np.ndarray
    D: np.ndarray
    tick: float

    @property
    def dt(self) -> float:
        """s from one input to the next."""
        return self.tick

    @property
    def poles(self) -> np.ndarray:
        """Of the whole period."""
        return np.linalg.eigvals(self.A)

    def held_for(self, ticks: int) -> LiftedModel:
        """The same with inputs that stay for so many ticks, and outputs at the first of each."""
        count = self.B.shape[1]
        B = self.B.reshape(len(self.B), count // ticks, ticks).sum(axis=2)
        D = self.D[::ticks].reshape(count // ticks, count // ticks, ticks).sum(axis=2)
        return LiftedModel(self.A, B, self.C[::ticks], D, self.tick * ticks)

    def response(self, omega: np.ndarray) -> np.ndarray:
        """What a sine that is sampled at each tick gives at its own frequency (rad/s); a drive of several rates gives
        others as well, its aliases (Chen, Francis, chapter 8)."""
        count = self.B.shape[1]
        turns = np.exp(1j * np.outer(omega * self.tick, np.arange(count)))
        kept = on_the_way(self.A, self.B, self.C)
        around = np.exp(1j * omega * self.tick * count)
        A, inputs = self.A[np.ix_(kept, kept)], self.B[kept] @ turns.T
        y = outputs_over(A, inputs, self.C[:, kept], self.D @ turns.T, around)
        return np.asarray(np.mean(y.T * turns.conj(), axis=1))

    def step(self, count: int) -> np.ndarray:
        """At so many ticks, after a step of one; fewer where it grows beyond `FAR`."""
        periods = math.ceil(count / self.B.shape[1])
        kept = on_the_way(self.A, self.B, self.C)
        held = self.B[kept].sum(axis=1, keepdims=True)
        whole = np.vstack([np.hstack([self.A[np.ix_(kept, kept)], held]), np.eye(1, len(kept) + 1, len(kept))])
        read = np.hstack([self.C[:, kept], self.D.sum(axis=1, keepdims=True)])
        return far_values(read, whole, periods)[:count]


def responds(model: LinearModel | LiftedModel) -> bool:
    """Whether the output follows the input by more than rounding, and in finite numbers."""
    if not all(np.all(np.isfinite(m)) for m in (model.A, model.B, model.C, model.D)):
        return False
    dt = model.tick if isinstance(model, LiftedModel) else model.dt
    omega = np.array([1.0, 100.0]) if dt == 0 else np.array([1e-3, 0.1]) / dt
    return bool(np.max(np.abs(model.response(omega))) > ROUNDING)
