"""A curve through points, smooth and monotone between them: a cubic whose slopes keep it from overshooting, straight on
beyond both ends (Fritsch, Carlson: Monotone Piecewise Cubic Interpolation, SIAM J. Numer. Anal. 17, 1980; from
memory)."""

from __future__ import annotations

from collections.abc import Sequence


def monotone_slopes(x: Sequence[float], y: Sequence[float]) -> list[float]:
    """Slopes at the nodes. ``x`` rises; a single node is flat."""
    count = len(x)
    if count < 2:
        return [0.0] * count
    steps = [b - a for a, b in zip(x, x[1:])]
    secants = [(b - a) / h for a, b, h in zip(y, y[1:], steps)]
    slopes = [secants[0]]
    for k in range(1, count - 1):
        before, after = secants[k - 1], secants[k]
        if before * after <= 0:
            slopes.append(0.0)
        else:  # the harmonic mean, weighted by the steps, is within the bound that keeps it monotone
            w1, w2 = 2 * steps[k] + steps[k - 1], steps[k] + 2 * steps[k - 1]
            slopes.append((w1 + w2) / (w1 / before + w2 / after))
    return [*slopes, secants[-1]]


def value_on(at: float, x: Sequence[float], y: Sequence[float]) -> float:
    """The curve through two points or more, whose ``x`` rises."""
    slopes = monotone_slopes(x, y)
    if at <= x[0]:
        return y[0] + slopes[0] * (at - x[0])
    if at >= x[-1]:
        return y[-1] + slopes[-1] * (at - x[-1])
    n = next(k for k in range(len(x) - 1) if at <= x[k + 1])
    width = x[n + 1] - x[n]
    s = (at - x[n]) / width
    ends = y[n] * (1 + 2 * s) * (1 - s) ** 2 + y[n + 1] * s * s * (3 - 2 * s)
    return ends + width * s * (1 - s) * (slopes[n] * (1 - s) - slopes[n + 1] * s)


def rises(x: Sequence[float]) -> bool:
    return all(b > a for a, b in zip(x, x[1:]))
