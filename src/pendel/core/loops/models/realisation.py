"""What a linear model is made of: poles with the states they live in, zeros, and the states that input and output do
without."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
import scipy.linalg
import scipy.stats

from pendel.core.loops.models.linear_models import LinearModel

TOLERANCES = tuple(10.0**-k for k in range(4, 16))
"""What a state takes part by less than this, beside the largest, is rounding."""
ALIKE = 1e-7
"""What a minimal realisation may differ by at any frequency, beside rounding."""


@dataclass(frozen=True)
class Pole:
    """``value`` is that of the model, ``s`` the same in continuous time (1/s), ``natural`` its natural frequency (Hz);
    ``states`` names those it lives in, the first most, with their shares."""

    value: complex
    s: complex
    natural: float
    damping: float
    states: tuple[tuple[str, float], ...]

    @property
    def stable(self) -> bool:
        return self.s.real < 0


@dataclass(frozen=True)
class LeftOut:
    """A pole that a minimal realisation does without, and why: ``not controllable`` or ``not observable``."""

    pole: Pole
    reason: str


@dataclass(frozen=True)
class Minimal:
    """A minimal realisation, its poles with the states of the model they live in, and what it left out. Its
    own states are combinations of those."""

    model: LinearModel
    poles: tuple[Pole, ...]
    left_out: tuple[LeftOut, ...]
    tolerance: float


WITHIN_A_SAMPLE = math.exp(-math.pi)
"""What decays to this within a sample is faster than half the sampling rate. Delays are among it: rounding
scatters their poles about zero."""


def in_continuous_time(z: complex, dt: float) -> complex:
    """The pole of continuous time that a sampled one stands for: ln(z)/dt; what is gone within a sample is infinitely
    fast."""
    if dt == 0:
        return z
    return complex(np.log(z) / dt) if abs(z) > WITHIN_A_SAMPLE else complex(-math.inf, 0.0)


def pole_of(value: complex, dt: float, states: tuple[tuple[str, float], ...] = ()) -> Pole:
    s = in_continuous_time(complex(value), dt)
    size = abs(s)
    damping = 1.0 if math.isinf(size) else -s.real / size if size else 0.0
    return Pole(complex(value), s, size / (2 * math.pi), damping, states)


def poles_of(
    model: LinearModel, maximum: int = 3, basis: np.ndarray | None = None, states: Sequence[str] = ()
) -> list[Pole]:
    """Poles of a model, slowest first, each with at most so many states it lives in; where the model's states are
    combinations, ``basis`` (m, n) leads from them to the ``states``.

    A pole's share in a state is the product of the entries of its left and right eigenvectors (participation factor;
    Pérez-Arriaga, Verghese, Schweppe: IEEE Trans. Power Apparatus and Systems 101 (1982) 3117).
    """
    n = model.A.shape[0]
    if n == 0:
        return []
    A = model.A if basis is not None else scipy.linalg.matrix_balance(model.A, permute=False)[0]
    whole, names = (np.eye(n), model.states) if basis is None else (basis, states)
    values, left, right = scipy.linalg.eig(A, left=True, right=True)
    shares = np.abs((whole @ left).conj() * (whole @ right))
    sums = shares.sum(axis=0)
    shares = np.divide(shares, sums, out=np.zeros_like(shares), where=sums > 0)
    poles = []
    for k, value in enumerate(values):
        places = np.argsort(-shares[:, k])[:maximum]
        named = tuple((names[i], float(shares[i, k])) for i in places if shares[i, k] > 0.05)
        poles.append(pole_of(value, model.dt, named))
    return sorted(poles, key=lambda p: (p.natural, p.s.imag))


def zeros_of(model: LinearModel) -> np.ndarray:
    """Zeros of a model with one input and one output, in the model's own plane: finite generalised eigenvalues of
    [[A − λI, B], [C, D]] (Skogestad, Postlethwaite: Multivariable Feedback Control, 2nd ed., section 4.5). A minimal
    model has no others."""
    n = model.A.shape[0]
    if n == 0:
        return np.zeros(0, dtype=complex)
    A, B, C = equilibrated(model.A, model.B, model.C)
    size = np.linalg.norm(B) * np.linalg.norm(C)
    if size == 0:
        return np.zeros(0, dtype=complex)
    pencil = np.block([[A, B / np.linalg.norm(B)], [C / np.linalg.norm(C), model.D / size]])
    ends = np.zeros_like(pencil)
    ends[:n, :n] = np.eye(n)
    alpha, beta = scipy.linalg.eig(pencil, ends, right=False, homogeneous_eigvals=True)
    large = max(1.0, float(np.max(np.abs(A))))
    finite = np.abs(beta) * large * 1e6 > np.abs(alpha)
    return np.asarray(alpha[finite] / beta[finite])


def equilibrated(A: np.ndarray, B: np.ndarray, C: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """The same system in states of such units that its numbers are of a size: volts and radians may be far
    apart."""
    n = A.shape[0]
    whole = np.zeros((n + 1, n + 1))
    whole[:n, :n], whole[:n, n:], whole[n:, :n] = A, B, C
    _, (scale, _) = scipy.linalg.matrix_balance(whole, permute=False, separate=True)
    t = scale[:n] / scale[n]
    return A * t[None, :] / t[:, None], B / t[:, None], C * t[None, :]


def reachable(A: np.ndarray, b: np.ndarray, tolerance: float) -> tuple[np.ndarray, int]:
    """An orthogonal basis whose first directions are those that an input reaches, and their number: the
    staircase algorithm (Van Dooren: IEEE Trans. Automatic Control 26 (1981) 111), which for one input is the
    Hessenberg form of the matrix with the input before it."""
    n = A.shape[0]
    whole = np.zeros((n + 1, n + 1))
    whole[1:, :1], whole[1:, 1:] = b, A
    H, Q = scipy.linalg.hessenberg(whole, calc_q=True)
    steps = np.abs(np.diagonal(H, -1))  # by which each direction leads to the next
    small = steps <= tolerance * max(float(np.linalg.norm(A)), float(np.linalg.norm(b)), 1e-300)
    return Q[1:, 1:], int(np.argmax(small)) if np.any(small) else n


def minimal(model: LinearModel) -> Minimal:
    """The model without states that its input does not reach or its output does not show: with the largest
    tolerance with which it still answers alike."""
    for tolerance in TOLERANCES:
        minimum = reduced(model, tolerance)
        if answers_alike(model, minimum.model):
            break
    return minimum


def answers_alike(model: LinearModel, other: LinearModel) -> bool:
    omega = 2 * math.pi * np.geomspace(1e-3, 1e5, 60) if model.dt == 0 else np.geomspace(1e-5, 3.1, 60) / model.dt
    sharp = np.abs([in_continuous_time(complex(p), model.dt).imag for p in model.poles])
    omega = np.concatenate([omega, sharp[(sharp > omega[0]) & (sharp < omega[-1])]])
    Q = scipy.stats.ortho_group.rvs(len(model.A), random_state=1) if len(model.A) > 1 else np.eye(len(model.A))
    turned = replace(model, A=Q.T @ model.A @ Q, B=Q.T @ model.B, C=model.C @ Q)
    with np.errstate(all="ignore"):
        try:
            a, b, c = (each.response(omega) for each in (model, other, turned))
        except np.linalg.LinAlgError:
            return False
    # What the whole model itself differs by in other coordinates is rounding, large near poles that it hides.
    off, rounding = np.abs(a - b), np.abs(a - c)
    return bool(np.all(off <= ALIKE * (np.abs(a) + 1e-6 * np.median(np.abs(a))) + 100 * rounding))


def reduced(model: LinearModel, tolerance: float) -> Minimal:
    """What is left with a tolerance, beside the size of the matrices, for what counts as nothing."""
    A, B, C = equilibrated(model.A, model.B, model.C)
    n = A.shape[0]
    Q, reached = reachable(A, B, tolerance)
    A, B, C = Q.T @ A @ Q, Q.T @ B, C @ Q
    left = [LeftOut(p, "not controllable") for p in named(A[reached:, reached:], Q[:, reached:], model)]
    A, B, C, Q = A[:reached, :reached], B[:reached], C[:, :reached], Q[:, :reached]
    R, shown = reachable(A.T, C.T, tolerance)
    A, B, C, Q = R.T @ A @ R, R.T @ B, C @ R, Q @ R
    left += [LeftOut(p, "not observable") for p in named(A[shown:, shown:], Q[:, shown:], model)]
    A, B, C, Q = A[:shown, :shown], B[:shown], C[:, :shown], Q[:, :shown]
    if shown == n:
        return Minimal(model, tuple(poles_of(model)), (), tolerance)
    kept = replace(model, A=A, B=B, C=C, states=combined(Q, model.states))
    return Minimal(kept, tuple(poles_of(kept, basis=Q, states=model.states)), tuple(left), tolerance)


def named(A: np.ndarray, basis: np.ndarray, model: LinearModel) -> list[Pole]:
    """Poles of a part of a model, with the states of the model they live in."""
    if not A.size:
        return []
    values, vectors = np.linalg.eig(A)
    poles = []
    for value, vector in zip(values, (basis @ vectors).T):
        share = np.abs(vector) ** 2 / np.sum(np.abs(vector) ** 2)
        places = [i for i in np.argsort(-share)[:3] if share[i] > 0.05]
        poles.append(pole_of(value, model.dt, tuple((model.states[i], float(share[i])) for i in places)))
    return poles


def combined(basis: np.ndarray, states: Sequence[str]) -> tuple[str, ...]:
    """Names of new states by the old one that is largest in each."""
    names, counts = [], dict[str, int]()
    for column in np.abs(basis).T:
        name = states[int(np.argmax(column))]
        counts[name] = counts.get(name, 0) + 1
        names.append(f"{name}′" if counts[name] == 1 else f"{name}′{counts[name]}")
    return tuple(names)


__all__ = ["LeftOut", "Minimal", "Pole", "minimal", "poles_of", "zeros_of"]
