"""A rational function through a measured response, as a linear model.

Vector fitting: poles are moved to the zeros of a weighting function, until it is one (Gustavsen, Semlyen: IEEE
Transactions on Power Delivery 14 (1999) 1052; relaxed: Gustavsen, ibid. 21 (2006) 1587).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy.linalg

ROUNDS = 12
"""In which poles are moved; they stay after a few."""
DAMPED = 0.1
"""Damping of the first poles, which lie all over the range."""


@dataclass(frozen=True)
class Fit:
    """dx/dt = A x + B u, y = C x + D u, and what it is off by at its points (shape (n,)), as weighted."""

    A: np.ndarray
    B: np.ndarray
    C: np.ndarray
    D: np.ndarray
    off: np.ndarray

    @property
    def mean_off(self) -> float:
        return float(np.sqrt(np.mean(self.off**2)))

    @property
    def order(self) -> int:
        return len(self.A)


def fitted(omega: np.ndarray, response: np.ndarray, weight: np.ndarray, order: int) -> Fit:
    """The rational function of an order that is nearest to a response.

    Parameters
    ----------
    omega
        rad/s, shape (n,).
    response, weight
        complex, and what a deviation counts there, shape (n,) each.
    """
    unit = float(np.sqrt(omega[0] * omega[-1]))
    s = 1j * omega / unit
    poles = first_poles(float(omega[0]) / unit, float(omega[-1]) / unit, order)
    for _ in range(ROUNDS):
        poles = moved(s, response, weight, poles)
    A, b = real_form(poles)
    basis = partial_fractions(s, poles)
    numbers = least_squares(np.hstack([basis, np.ones((len(s), 1))]), response, weight)
    c, d = numbers[:-1], numbers[-1]
    off = np.abs(basis @ c + d - response) * weight
    return Fit(A * unit, b[:, None] * unit, c[None, :], np.array([[d]]), off)


def first_poles(low: float, high: float, order: int) -> np.ndarray:
    """Pairs of little damping all over the range; of an odd order, one more on the real axis."""
    sizes = np.geomspace(low, high, max(1, order // 2)) if order > 1 else np.empty(0)
    pairs = [size * (-DAMPED + 1j * sign) for size in sizes for sign in (1, -1)]
    return np.array([*pairs, *([-np.sqrt(low * high)] if order % 2 else [])], dtype=complex)


def pairs_of(poles: np.ndarray) -> list[complex]:
    """Poles on the real axis, and those above it for a pair each."""
    return [complex(p) for p in poles if p.imag >= 0]


def partial_fractions(s: np.ndarray, poles: np.ndarray) -> np.ndarray:
    """What real numbers of the real form's outputs multiply, shape (n, order)."""
    columns = []
    for p in pairs_of(poles):
        if p.imag == 0:
            columns.append(1 / (s - p))
        else:
            one, other = 1 / (s - p), 1 / (s - p.conjugate())
            columns += [one + other, 1j * (one - other)]
    return np.array(columns).T.reshape(len(s), len(poles))


def real_form(poles: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """A and b of which `partial_fractions` are the responses."""
    blocks, inputs = [], []
    for p in pairs_of(poles):
        if p.imag == 0:
            blocks.append(np.array([[p.real]]))
            inputs.append(1.0)
        else:
            blocks.append(np.array([[p.real, p.imag], [-p.imag, p.real]]))
            inputs += [2.0, 0.0]
    return scipy.linalg.block_diag(*blocks), np.array(inputs)


def moved(s: np.ndarray, response: np.ndarray, weight: np.ndarray, poles: np.ndarray) -> np.ndarray:
    """Poles nearer to those of the response; what would grow is turned to decay."""
    basis, n = partial_fractions(s, poles), len(poles)
    ones = np.ones((len(s), 1))
    turned = -response[:, None] * np.hstack([basis, ones])
    whole = np.vstack([stacked(np.hstack([basis, ones, turned]), weight), np.zeros((1, 2 * n + 2))])
    # Relaxed: the weighting function is one in the mean, and not at infinity alone.
    scale = float(np.linalg.norm(weight * np.abs(response))) / len(s)
    whole[-1, n + 1 :] = scale * np.real(np.sum(np.hstack([basis, ones]), axis=0))
    right = np.zeros(len(whole))
    right[-1] = scale * len(s)
    numbers = scaled_solution(whole, right)
    c, d = numbers[n + 1 : -1], numbers[-1]
    if abs(d) < 1e-8:
        d = np.copysign(1e-8, d) if d else 1e-8
    A, b = real_form(poles)
    zeros = np.linalg.eigvals(A - np.outer(b, c) / d).astype(complex)
    zeros = np.where(zeros.real > 0, -zeros.conjugate(), zeros)
    # Rounding may leave a pair that is none, or a pole on the axis itself.
    zeros.real = np.minimum(zeros.real, -1e-6 * np.maximum(np.abs(zeros), 1e-6))
    real, above = zeros[zeros.imag == 0], zeros[zeros.imag > 0]
    return np.array([*real, *(each for p in above for each in (p, p.conjugate()))])


def stacked(columns: np.ndarray, weight: np.ndarray) -> np.ndarray:
    """Real rows of weighted complex ones."""
    weighted = columns * weight[:, None]
    return np.vstack([weighted.real, weighted.imag])


def least_squares(columns: np.ndarray, response: np.ndarray, weight: np.ndarray) -> np.ndarray:
    right = response * weight
    return scaled_solution(stacked(columns, weight), np.concatenate([right.real, right.imag]))


def scaled_solution(columns: np.ndarray, right: np.ndarray) -> np.ndarray:
    """Least squares with columns of one size."""
    sizes = np.maximum(np.linalg.norm(columns, axis=0), 1e-300)
    return np.asarray(scipy.linalg.lstsq(columns / sizes, right)[0] / sizes)


__all__ = ["Fit", "fitted"]
