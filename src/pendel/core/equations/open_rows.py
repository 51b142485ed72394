"""The rows that a reduction has still to solve, and the next pivot among them.

A large drive has thousands of rows and as many eliminations; each changes a few rows only. So scores are
kept until their row changes, in a heap, and so are the lengths of the rows whose score is not known.
"""

from __future__ import annotations

import heapq
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

import casadi as ca

Score = tuple[bool, bool, bool, int, int, int, bool, str]
"""Of a pivot, the least first: whether it is now and then small, spoils, couples; its class, the other
unknowns of its row, the rows it stands in, whether it is a derivative, its name."""


@dataclass(eq=False)
class Row:
    owner: str
    expression: ca.SX
    unknowns: set[str] = field(default_factory=set)
    coefficients: dict[str, ca.SX] = field(default_factory=dict)
    classes: dict[str, int | None] = field(default_factory=dict)
    """What `Reduction.pivot_class` found for an unknown; it holds until the row changes."""
    rest: ca.SX | None = None
    """What is left with all unknowns zero, where the row is linear in them and ``coefficients`` has them
    all."""
    judged: bool = False
    """Whether it is known if the row is linear in its unknowns."""
    score: Score | None = None
    score_known: bool = False
    """Whether ``score`` is that of its best pivot, which is None where it has none."""
    place: int = -1
    """In the order in which rows came; -1 for one that is not among those left."""

    def changed(self) -> None:
        self.coefficients.clear()
        self.classes.clear()
        self.rest, self.judged = None, False


class OpenRows:
    """Rows in the order in which they came, and which of them hold an unknown."""

    def __init__(self) -> None:
        self._rows: dict[int, Row] = {}
        self._count = 0
        self.holders: dict[str, set[Row]] = {}
        """Rows that are left, by the unknowns they hold."""
        self._bare: list[int] = []
        self._scores: list[tuple[Score, int]] = []
        self._lengths: list[tuple[int, int]] = []
        """Of rows whose score is not known: unknowns, place. An entry that its row has left behind is
        passed over."""

    def __iter__(self) -> Iterator[Row]:
        return iter(list(self._rows.values()))

    def __len__(self) -> int:
        return len(self._rows)

    def add(self, row: Row, unknowns: set[str]) -> None:
        row.place, self._count = self._count, self._count + 1
        row.unknowns = set()
        self._rows[row.place] = row
        self.hold(row, unknowns)

    def drop(self, row: Row) -> None:
        del self._rows[row.place]
        row.place = -1
        self.hold(row, set())

    def hold(self, row: Row, unknowns: set[str]) -> None:
        """Let a row have these unknowns: the scores of all rows with one that it gains or loses are no longer
        known."""
        for name in row.unknowns ^ unknowns:
            holders = self.holders.setdefault(name, set())
            (holders.add if name in unknowns else holders.discard)(row)
            for other in holders:
                if other.score_known:
                    self._forget_score(other)
        row.unknowns = unknowns
        if row.place < 0:
            return
        self._forget_score(row)
        if not unknowns:
            heapq.heappush(self._bare, row.place)

    def with_unknown(self, name: str) -> list[Row]:
        """The rows that hold an unknown, in the order in which they came."""
        return sorted(self.holders.get(name, ()), key=lambda row: row.place)

    def first_bare(self) -> Row | None:
        """The first row without unknowns."""
        while self._bare:
            row = self._rows.get(self._bare[0])
            if row is not None and not row.unknowns:
                return row
            heapq.heappop(self._bare)
        return None

    def best(self, score_of: Callable[[Row], Score | None]) -> tuple[Row, str] | None:
        """The row with the least score, and the unknown that has it. Rows are looked at from the shortest on,
        until none that is left can have a better one."""
        best = self._least()
        while self._lengths:
            length, place = self._lengths[0]
            row = self._rows.get(place)
            if row is None or row.score_known or len(row.unknowns) != length:
                heapq.heappop(self._lengths)
                continue
            if best is not None and (False, False, False, 0, length - 1) > best[0][:5]:
                break
            heapq.heappop(self._lengths)
            row.score, row.score_known = score_of(row), True
            if row.score is not None:
                heapq.heappush(self._scores, (row.score, place))
                best = self._least()
        return None if best is None else (self._rows[best[1]], best[0][-1])

    def _least(self) -> tuple[Score, int] | None:
        while self._scores:
            score, place = self._scores[0]
            row = self._rows.get(place)
            if row is not None and row.score_known and row.score is score:
                return score, place
            heapq.heappop(self._scores)
        return None

    def _forget_score(self, row: Row) -> None:
        row.score_known = False
        heapq.heappush(self._lengths, (len(row.unknowns), row.place))
