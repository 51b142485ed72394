"""The curve of `pendel.core.quantities.curve` through the rows of a card."""

from __future__ import annotations

from collections.abc import Mapping

import casadi as ca
import numpy as np

from pendel.core.equations.context import PartContext
from pendel.core.quantities.curve import monotone_slopes


def with_slopes(v: dict[str, float], count: int, x: str, y: str) -> dict[str, float]:
    """Values of a card with the slopes of ``y`` over ``x`` of its rows, as ``slope_y_0`` and so on."""
    if rising(v, count, x) is not None:  # which is a finding
        return {**v, **{f"slope_{y}_{n}": 0.0 for n in range(count)}}
    slopes = monotone_slopes([v[f"{x}_{n}"] for n in range(count)], [v[f"{y}_{n}"] for n in range(count)])
    return {**v, **{f"slope_{y}_{n}": slope for n, slope in enumerate(slopes)}}


def along(c: PartContext, at: ca.SX, x: str, y: str) -> ca.SX:
    """The curve of ``y`` over ``x`` of the card's rows, straight on beyond both ends."""
    count = c.rows
    xs, ys = ([c.value(f"{name}_{n}") for n in range(count)] for name in (x, y))
    slopes = [c.value(f"slope_{y}_{n}") for n in range(count)]
    value = ys[0] + slopes[0] * (at - xs[0])
    for n in range(count - 1):
        width = xs[n + 1] - xs[n]
        s = (at - xs[n]) / width
        cubic = (
            ys[n] * (1 + 2 * s) * (1 - s) ** 2
            + ys[n + 1] * s * s * (3 - 2 * s)
            + width * s * (1 - s) * (slopes[n] * (1 - s) - slopes[n + 1] * s)
        )
        value = ca.if_else(at > xs[n], cubic, value)
    return ca.if_else(at > xs[count - 1], ys[count - 1] + slopes[count - 1] * (at - xs[count - 1]), value)


def along_of(v: Mapping[str, float], count: int, x: str, y: str, at: np.ndarray) -> np.ndarray:
    """The same curve by NumPy, of a card's values."""
    xs, ys = (np.array([v[f"{name}_{n}"] for n in range(count)]) for name in (x, y))
    slopes = np.array(monotone_slopes(list(xs), list(ys)))
    n = np.clip(np.searchsorted(xs, at, side="left") - 1, 0, count - 2)
    width = xs[n + 1] - xs[n]
    s = np.clip((at - xs[n]) / width, 0.0, 1.0)
    cubic = ys[n] * (1 + 2 * s) * (1 - s) ** 2 + ys[n + 1] * s * s * (3 - 2 * s)
    cubic += width * s * (1 - s) * (slopes[n] * (1 - s) - slopes[n + 1] * s)
    return cubic + slopes[0] * np.minimum(at - xs[0], 0.0) + slopes[-1] * np.maximum(at - xs[-1], 0.0)


def rising(v: dict[str, float], count: int, x: str) -> int | None:
    """The first row that does not rise above the one before; None where all do."""
    return next((n for n in range(1, count) if not v[f"{x}_{n}"] > v[f"{x}_{n - 1}"]), None)
