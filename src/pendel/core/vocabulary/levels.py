"""Levels of detail, in their order: each later one shows all that the ones before it show."""

from __future__ import annotations

from collections.abc import Sequence

LEVELS = ("averaged", "switching", "device")
"""From the plainest to the deepest. A further one is one more word here, and a part that declares it."""

DRIVE_LEVEL = "drive"
"""A card's own choice of level that follows the drive's."""


def plainest() -> str:
    return LEVELS[0]


def deepest() -> str:
    return LEVELS[-1]


def nearest(wanted: str, offered: Sequence[str]) -> str:
    """The level itself where it is offered, else the deepest one offered before it, else the plainest of
    all."""
    before = LEVELS[: LEVELS.index(wanted) + 1] if wanted in LEVELS else LEVELS[:1]
    return next((level for level in reversed(before) if level in offered), LEVELS[0])
