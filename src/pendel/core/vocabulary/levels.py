"""Levels of detail, in their order: each later one shows all that the ones before it show."""

from __future__ import annotations

from collections.abc import Sequence

OURS = ("averaged", "switching", "device")
_known = [*OURS]

SYSTEM = "system"
"""Of the whole drive, before all others: machines that carry an envelope stand with converter and inner loops as limits
and losses; what has none runs at the plainest."""

DRIVE_LEVEL = "drive"
"""A card's own choice of level that follows the drive's."""


def levels() -> tuple[str, ...]:
    """All that are known, from the plainest of a whole drive to the deepest."""
    return (SYSTEM, *_known)


def make_known(of_part: Sequence[str]) -> None:
    """Take up the levels of a part, in its order: one that is new comes behind the one before it."""
    for before, level in zip((None, *of_part), of_part):
        if level not in _known:
            _known.insert(_known.index(before) + 1 if before in _known else 0, level)


def plainest() -> str:
    """Of a part's own."""
    return _known[0]


def deepest() -> str:
    """Of ours: where gates and delays of devices are told apart."""
    return OURS[-1]


def nearest(wanted: str, offered: Sequence[str]) -> str:
    """The level itself where it is offered, else the deepest one offered before it, else the plainest of
    all."""
    before = _known[: _known.index(wanted) + 1] if wanted in _known else _known[:1]
    return next((level for level in reversed(before) if level in offered), _known[0])
