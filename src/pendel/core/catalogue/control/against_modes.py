"""Blocks that are put behind a signal against a mode of the mechanics, as they are wired."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

BEHIND, SPEED = "behind", "speed"
"""Sources of a recipe's blocks: the signal they are put behind, and a speed."""


@dataclass(frozen=True)
class Placed:
    """A block; ``reads`` has for each of its inputs `BEHIND`, `SPEED`, or another block of the recipe by its
    place."""

    kind: str
    name: str
    values: Mapping[str, str]
    reads: Mapping[str, str | int]


@dataclass(frozen=True)
class Recipe:
    """The first block takes the place of the signal for all that read it."""

    title: str
    blocks: tuple[Placed, ...]


def notch_filter(frequency: float, width: float, depth: float) -> Recipe:
    """``frequency`` in Hz, ``width`` beside it, ``depth`` the share that is left."""
    values = {"f_0": f"{frequency:.6g} Hz", "width": f"{width:g}", "depth": f"{100 * depth:.4g} %"}
    return Recipe("Put a notch", (Placed("notch", "Notch", values, {"x": BEHIND}),))


def low_pass(frequency: float) -> Recipe:
    values = {"K": "1", "f_0": f"{frequency:.6g} Hz", "D": "0.7"}
    return Recipe("Put a low-pass", (Placed("pt2", "Low-pass", values, {"x": BEHIND}),))


def damping_loop(gain: float, mean: float) -> Recipe:
    """−``gain`` times what a speed has beyond its mean of the time constant ``mean`` (s)."""
    return Recipe(
        "Put a damping loop",
        (
            Placed("sum", "With damping", {}, {"a": BEHIND, "b": 3}),
            Placed("pt1", "Mean speed", {"K": "1", "T": f"{1e3 * mean:.6g} ms"}, {"x": SPEED}),
            Placed("compare", "Swing", {}, {"setpoint": 1, "actual": SPEED}),
            Placed("gain", "Damping", {"K": f"{gain:.6g}"}, {"x": 2}),
        ),
    )


__all__ = ["BEHIND", "SPEED", "Placed", "Recipe", "damping_loop", "low_pass", "notch_filter"]
