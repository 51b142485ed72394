"""Memory of records that is used again."""

from __future__ import annotations

from collections.abc import Callable

LARGEST_SPARE = 64_000_000
"""Bytes."""


class Spare:
    """A record's memory that nobody shows any more: the next run takes it, since pages that the system must
    hand out and clear anew are worth a sixth of a switching run's time. There is one at most. Only appending
    and popping touch the list, as records are given up wherever the interpreter collects them, even amid
    taking one."""

    def __init__(self) -> None:
        self.blocks: list[tuple[int, int]] = []

    def lend(self) -> tuple[int | None, int]:
        """The spare memory and its size, or none; the caller owns it from here on."""
        try:
            return self.blocks.pop()
        except IndexError:
            return None, 0

    def take_back(self, block: int, size: int, release: Callable[[int], None]) -> None:
        if size > LARGEST_SPARE or self.blocks:
            release(block)
        else:
            self.blocks.append((block, size))


SPARE_ROWS, SPARE_TICKS = Spare(), Spare()

__all__ = ["SPARE_ROWS", "SPARE_TICKS", "Spare"]
