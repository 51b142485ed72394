"""Frames of a live run as bytes: its status, and what its watched signals did since the last one."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

Points = tuple[np.ndarray, np.ndarray]
"""Times (s) and values."""


@dataclass(frozen=True)
class LiveFrame:
    status: dict[str, Any]
    traces: dict[str, Points]


def thinned(t: np.ndarray, y: np.ndarray, points: int) -> Points:
    """At most so many points, of which each stretch of time keeps its lowest and highest, in their order."""
    parts = max(1, points // 2 - 1)
    if len(t) <= points:
        return t, y
    edges = np.linspace(0, len(t), parts + 1).astype(int)
    first, size = edges[:-1], int(np.max(np.diff(edges)))
    # Stretches are alike in length but for one; a shorter one looks at its last point twice.
    at = np.minimum(first[:, None] + np.arange(size), edges[1:, None] - 1)
    tall = y[at]
    lowest = np.argmin(np.where(np.isfinite(tall), tall, np.inf), axis=1)
    highest = np.argmax(np.where(np.isfinite(tall), tall, -np.inf), axis=1)
    rows = np.arange(parts)
    kept = np.unique(np.concatenate([at[rows, lowest], at[rows, highest], [len(t) - 1]]))
    return t[kept], y[kept]


def packed(status: Mapping[str, Any], traces: Mapping[str, Points], maximum: int) -> bytes:
    """A frame as bytes, at most so many: then each signal has fewer points."""
    points = max((len(t) for t, _ in traces.values()), default=0)
    while True:
        head = json.dumps({"status": status, "signals": [(k, len(t)) for k, (t, _) in traces.items()]})
        body = b"".join(np.ascontiguousarray(a, "<f8").tobytes() for t, y in traces.values() for a in (t, y))
        data = len(head.encode()).to_bytes(4, "little") + head.encode() + body
        if len(data) <= maximum or points < 4:
            return data[:maximum] if len(data) <= maximum else unpackable(status)
        points //= 2
        traces = {k: thinned(t, y, points) for k, (t, y) in traces.items()}


def unpackable(status: Mapping[str, Any]) -> bytes:
    """A frame without signals, where there are too many of them."""
    head = json.dumps({"status": status, "signals": []}).encode()
    return len(head).to_bytes(4, "little") + head


def unpacked(data: bytes) -> LiveFrame:
    """Raises `ValueError` for what is no frame."""
    length = int.from_bytes(data[:4], "little")
    head = json.loads(data[4 : 4 + length])
    at, traces = 4 + length, {}
    for key, count in head["signals"]:
        if not isinstance(key, str) or not isinstance(count, int) or not 0 <= count <= len(data):
            raise ValueError("no frame")
        both = np.frombuffer(data, "<f8", 2 * count, at)
        traces[key] = (both[:count], both[count:])
        at += 16 * count
    status = head["status"]
    if not isinstance(status, dict):
        raise ValueError("no frame")
    return LiveFrame(status, traces)


__all__ = ["LiveFrame", "packed", "thinned", "unpacked"]
