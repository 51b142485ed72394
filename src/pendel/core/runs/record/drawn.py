"""What of a long trace can be seen on so many pixels."""

from __future__ import annotations

import numpy as np


def thinned(t: np.ndarray, y: np.ndarray, low: float, high: float, columns: int) -> tuple[np.ndarray, np.ndarray]:
    """What a trace looks like between two times on so many pixel columns: both extremes of each column.

    Both arrays come back at most four times ``columns`` and four long, whatever went in; one sample beyond each end is
    kept, so that lines leave the picture where they should.
    """
    first = max(0, int(np.searchsorted(t, low)) - 1)
    last = min(len(t), int(np.searchsorted(t, high, side="right")) + 1)
    t, y = t[first:last], y[first:last]
    if len(t) <= 4 * columns:
        return t, y
    size = -(-len(t) // max(1, 2 * columns))
    whole = len(t) // size * size
    block = y[:whole].reshape(-1, size)
    rows = np.arange(len(block)) * size
    at = np.sort(np.column_stack([rows + block.argmin(axis=1), rows + block.argmax(axis=1)]), axis=1).ravel()
    rest = [whole + int(of(y[whole:])) for of in (np.argmin, np.argmax)] if whole < len(t) else []
    at = np.concatenate([[0], at, np.sort(rest).astype(at.dtype), [len(t) - 1]])
    return t[at], y[at]


def stepped(t: np.ndarray, y: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """A held signal as upright steps."""
    return np.repeat(t, 2)[1:], np.repeat(y, 2)[:-1]
