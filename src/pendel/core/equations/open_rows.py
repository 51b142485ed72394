"""The rows that a reduction has still to solve, and the next pivot among them.

A large drive has thousands of rows and as many eliminations; each changes a few rows only. So scores are
kept until their row changes, in a heap, and so are the lengths of the rows whose score is not known.
"""

from __future__ import annotations

import heapq
from collections.abc import Callable, Iterator, Set
from dataclasses import dataclass, field

import casadi as ca

Score = tuple[bool, bool, bool, int, int, int, bool, str]
"""Of a pivot, the least first: whether it is now and then small, spoils, couples; its class, the other
unknowns of its row, the rows it stands in, whether it is a derivative, its name."""


CONSTANT = 0
VALUES_DECIDE = (CONSTANT, 1)
"""Classes of a pivot that is constant, or made of values only."""


@dataclass(eq=False)
class Row:
    owner: str
    stated: ca.SX
    """Without the solutions of ``pending``."""
    pending: dict[str, tuple[ca.SX, ca.SX]] = field(default_factory=dict)
    """Of unknowns of ``stated``: symbol and solution, not put in yet."""
    roots: dict[str, str] = field(default_factory=dict)
    """Unknowns of a pending solution, and whose it is."""
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

    @property
    def expression(self) -> ca.SX:
        """What is to be zero."""
        if self.pending:
            symbols = ca.vertcat(*(symbol for symbol, _ in self.pending.values()))
            solutions = ca.vertcat(*(solution for _, solution in self.pending.values()))
            self.expression = ca.substitute(self.stated, symbols, solutions)
        return self.stated

    @expression.setter
    def expression(self, stated: ca.SX) -> None:
        self.stated = stated
        self.pending.clear()
        self.roots.clear()

    def put_in_later(self, symbol: ca.SX, solution: ca.SX, unknowns: set[str]) -> None:
        """Note the solution of an unknown, whose own unknowns the row does not hold yet: so none of them can
        cancel, and what the row holds is known without its expression. A row of hundreds of unknowns, such as
        the currents into a node that all parts share, is then written out once and not at each elimination."""
        name = symbol.name()
        root = self.roots.pop(name, name)
        if root != name:
            first, before = self.pending[root]
            symbol, solution = first, ca.substitute(before, symbol, solution)
        self.pending[root] = (symbol, solution)
        self.roots.update(dict.fromkeys(unknowns, root))

    def changed(self, lost: str, gained: Set[str] = frozenset()) -> None:
        """Forget what no longer holds when ``lost`` is replaced by something with the unknowns ``gained``. A
        coefficient that is constant or made of values only stays what it is for all the others; one of values may be
        written otherwise afterwards, so only constants themselves are kept."""
        lasting = (n for n, c in self.classes.items() if c in VALUES_DECIDE and n != lost and n not in gained)
        self.classes = {n: self.classes[n] for n in lasting}
        self.coefficients = {n: c for n, c in self.coefficients.items() if self.classes.get(n) == CONSTANT}
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
