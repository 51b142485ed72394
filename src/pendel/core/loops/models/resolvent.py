"""What a linear model gives at many frequencies at once.

A matrix is brought to triangular form one time for all of them (Schur), which is several times as fast as a solution
of its own for each. What the answers leave over then corrects them, until that no longer tells in the output
(iterative refinement; Higham: Accuracy and Stability of Numerical Algorithms, 2nd ed., chapter 12); where it still
does, there is a solution of its own. `benchmarks/transfers.py` has the figure beside."""

from __future__ import annotations

import numpy as np
import scipy.linalg

MOST_CORRECTIONS = 3
SETTLED = 1e-10
"""Of the output: a correction as small as this is the last, and leaves an error smaller by as much again as it is
smaller than the answer."""
FEWEST = 16
"""Frequencies; fewer are solved one by one."""


def outputs_over(A: np.ndarray, b: np.ndarray, C: np.ndarray, d: np.ndarray, s: np.ndarray) -> np.ndarray:
    """C x + d with (s I − A) x = b at each of ``s`` (k,), shape (q, k).

    Parameters
    ----------
    b
        (n, 1) for all, or (n, k).
    C
        (q, n).
    d
        (q, 1) or (q, k).

    Raises
    ------
    numpy.linalg.LinAlgError
        where ``s`` is a pole to the last digit.
    """
    if len(s) < FEWEST or not len(A):
        return C @ one_by_one(A, b, s) + d
    try:
        triangular, turned = scipy.linalg.schur(A, "complex")
    except (ValueError, scipy.linalg.LinAlgError):  # not finite, or no convergence
        return C @ one_by_one(A, b, s) + d
    back = turned.conj().T
    apart = s - triangular.diagonal()[:, None]

    def solved(right: np.ndarray) -> np.ndarray:
        y = np.empty(apart.shape, complex)
        y[:] = back @ right
        for i in reversed(range(len(A))):
            y[i] += triangular[i, i + 1 :] @ y[i + 1 :]
            y[i] /= apart[i]
        return np.asarray(turned @ y)

    with np.errstate(all="ignore"):
        x = solved(b)
        for _ in range(MOST_CORRECTIONS):
            correction = solved(b - (s * x - A @ x))
            x += correction
            outputs = C @ x + d
            good = np.all(np.abs(C @ correction) <= SETTLED * np.abs(outputs), axis=0)
            if np.all(good):
                return np.asarray(outputs)
    ill = ~good
    outputs[:, ill] = C @ one_by_one(A, at(b, ill), s[ill]) + at(d, ill)
    return np.asarray(outputs)


def at(given: np.ndarray, places: np.ndarray) -> np.ndarray:
    """The columns of some places; that of all where there is one."""
    return given if given.shape[1] == 1 else given[:, places]


def one_by_one(A: np.ndarray, b: np.ndarray, s: np.ndarray) -> np.ndarray:
    """The states x, shape (n, k), by a solution for each."""
    right = np.broadcast_to(b, (len(A), len(s))).T[:, :, None]
    return np.asarray(np.linalg.solve(s[:, None, None] * np.eye(len(A)) - A, right)[:, :, 0].T)


__all__ = ["outputs_over"]
