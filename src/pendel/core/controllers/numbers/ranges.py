"""Ranges of all that a block computes: proven where they can be, or by hand; what nothing bounds is what a run
showed, doubled, and reported as such.

A range is proven by going through the update again and again from the start of its states, with branches
followed separately, until nothing grows; states that are a linear system of their own are bounded by the sum
of their impulse responses' absolute values (Oppenheim, Schafer: Discrete-Time Signal Processing, 3rd ed.,
section 6.9, scaling by the l1 norm)."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from enum import Enum
from functools import lru_cache

import numpy as np

from pendel.core.controllers.numbers.block import LINE, BlockTree
from pendel.core.controllers.numbers.intervals import (
    EVERYTHING,
    TURN,
    Bounded,
    Interval,
    applied,
    symmetric,
)
from pendel.core.controllers.numbers.representation import GREATEST
from pendel.core.controllers.numbers.tree import (
    Assign,
    Call,
    Choose,
    Compare,
    Const,
    Either,
    Every,
    Expr,
    Live,
    Name,
    Product,
    Quotient,
    Remember,
    Scaled,
    Statement,
    Sum,
    Test,
    When,
    negated,
)

PASSES, NARROWING = 14, 4
"""Passes after which what still grows is taken for unbounded, and those that then bring back what a limit
bounds."""


SURE = 2.0**7
"""How many times as wide a range may be that is sure, before a word that holds it has nothing left for what was
seen."""


class Source(Enum):
    """Where a range comes from."""

    PROVEN = "proven"
    """By the update, values and declared ranges alone, whatever comes."""
    FOLLOWS = "follows from what a run showed"
    RUN = "from a run, doubled"
    HAND = "set by hand"
    NONE = "none"


@dataclass(frozen=True)
class Range:
    """The range of a signal, a state or a local, and where it comes from."""

    interval: Interval
    source: Source
    reaches: Interval
    """What the values may come to without a limit."""


@dataclass(frozen=True)
class Hints:
    """What is known of a block's names besides its update: ranges by hand, the largest absolute values in a run, and
    for which names twice of that is ``assumed``, since nothing else bounds them.

    Names that are ``safe`` have a range that needs nothing that was only seen. Of the others, a word of W bits has
    ``room`` for ranges so many times as wide as twice what the run showed; wider ones would leave it too few digits."""

    by_hand: Mapping[str, Interval] = field(default_factory=dict)
    seen: Mapping[str, float] = field(default_factory=dict)
    assumed: frozenset[str] = frozenset()
    safe: frozenset[str] = frozenset()
    room: float = math.inf

    def end(self, name: str) -> Interval | None:
        """Where the word of a name ends, whatever is assigned to it; none where it holds all that may come."""
        if name in self.by_hand:
            return self.by_hand[name]
        return symmetric(2.0 * self.seen[name]) if name in self.assumed else None

    def decide(self, name: str, raw: Interval) -> Range:
        """The range of a name to which ``raw`` may be assigned."""
        end = self.end(name)
        if end is None:
            return Range(raw, Source.PROVEN if raw.finite else Source.NONE, raw)
        if name in self.by_hand:
            return Range(end, Source.HAND, raw)
        return Range(end.meet(raw) or end, Source.RUN, raw)

    def may_assume(self, name: str) -> bool:
        return self.seen.get(name, 0.0) > 0.0 and self.end(name) is None

    def assuming(self, names: Iterable[str]) -> Hints:
        return replace(self, assumed=self.assumed | frozenset(names))


@dataclass
class BlockRanges:
    """Ranges by name, and divisors that may be zero."""

    ranges: dict[str, Range] = field(default_factory=dict)
    divisors: list[Expr] = field(default_factory=list)
    assumed: frozenset[str] = frozenset()
    """Names whose words end at twice what a run showed, since what may come is too wide for them, ..."""
    boundless: frozenset[str] = frozenset()
    """... and those of them that nothing bounds."""

    def interval(self, name: str) -> Interval:
        return self.ranges[name].interval

    def copy(self) -> BlockRanges:
        return replace(self, ranges=dict(self.ranges), divisors=list(self.divisors))


Env = dict[str, Bounded]


class Pass:
    """One pass through an update from given ranges of inputs and states."""

    def __init__(self, tree: BlockTree, hints: Hints, bounds: Mapping[str, float] | None = None):
        self.tree, self.hints, self.bounds = tree, hints, bounds or {}
        self.raw: dict[str, Interval] = {}
        self.divisors: list[Expr] = []
        self.symbols = 0
        self.limits: set[float] = set()
        """Ends that a limit of the update sets, at which what grows may come to rest."""

    def fresh(self, interval: Interval) -> Bounded:
        """What no affine form can say."""
        self.symbols += 1
        return Bounded.symbol(f"{self.symbols}", interval)

    def merged(self, values: Sequence[Bounded]) -> Bounded:
        interval = values[0].interval
        for more in values[1:]:
            interval = interval.hull(more.interval)
        return self.fresh(interval)

    def note(self, name: str, interval: Interval) -> Interval:
        """What is assigned to a name, and what of it the name can hold."""
        if name in self.bounds:
            interval = interval.meet(symmetric(self.bounds[name])) or symmetric(self.bounds[name])
        self.raw[name] = self.raw[name].hull(interval) if name in self.raw else interval
        return self.hints.decide(name, interval).interval

    def body(self, body: Sequence[Statement], env: Env) -> None:
        for statement in body:
            match statement:
                case Assign(name, value):
                    quantity = self.value(value, env)
                    if name in self.tree.angles:
                        env[name] = self.fresh(TURN)
                        continue
                    held = self.note(name, quantity.interval)
                    env[name] = quantity if quantity.interval.within(held) else self.fresh(held)
                case Remember(value):
                    self.note(LINE, self.value(value, env).interval)
                case When():
                    self.when(statement, env)

    def when(self, statement: When, env: Env) -> None:
        yes, no = refined(self, statement.test, env), refined(self, negated(statement.test), env)
        if yes is not None:
            self.body(statement.then, yes)
        if no is not None:
            self.body(statement.otherwise, no)
        both = [e for e in (yes, no) if e is not None]
        for name in set().union(*both) if both else set():
            values = [e[name] for e in both if name in e]
            env[name] = values[0] if all(v == values[0] for v in values) else self.merged(values)

    def value(self, expr: Expr, env: Env) -> Bounded:
        match expr:
            case Const(value):
                return Bounded.exactly(float(value))
            case Live(_, _, low, high):
                return self.fresh(Interval(low, high))
            case Name(name):
                return env.get(name) or Bounded.exactly(0.0)
            case Sum(left, right, minus):
                return self.value(left, env).plus(self.value(right, env), -1.0 if minus else 1.0)
            case Scaled(factor, of):
                return self.value(of, env).times(float(factor))
            case Product(Live() as live, of):
                whole, middle = self.value(of, env), 0.5 * (live.low + live.high)
                moved = self.fresh(symmetric((live.high - middle) * whole.interval.size))
                ends = Interval(live.low, live.high) * whole.interval
                return whole.times(middle).plus(moved).limited(ends)
            case Product(left, right):
                a, b = self.value(left, env).interval, self.value(right, env).interval
                if left == right:
                    nearest = 0.0 if 0.0 in a else min(abs(a.low), abs(a.high))
                    return self.fresh(Interval(nearest * nearest, a.size * a.size))
                return self.fresh(a * b)
            case Quotient(over, under):
                a, b = self.value(over, env).interval, self.value(under, env).interval
                if 0.0 in b and under not in self.divisors:
                    self.divisors.append(under)
                return self.fresh(a.over(b))
            case Choose(test, yes, no):
                sides = []
                for tested, side in ((test, yes), (negated(test), no)):
                    there = refined(self, tested, env)
                    if there is not None:
                        sides.append(self.value(side, there))
                return sides[0] if len(sides) == 1 else self.merged(sides)
            case Call(name, args):
                return self.call(name, [self.value(a, env) for a in args])
            case Test():
                return self.fresh(Interval(0.0, 1.0))
        raise AssertionError(expr)

    def call(self, name: str, args: Sequence[Bounded]) -> Bounded:
        at = [a.interval for a in args]
        match name:
            case "saturate":
                x, low, high = at
                self.limits |= {low.low, low.high, high.low, high.high}
                if low.high <= x.low and x.high <= high.low:
                    return args[0]
            case "minimum" | "maximum":
                self.limits |= {a.low for a in at if a.low == a.high}
            case "delayed":
                return self.fresh(at[0].hull(Interval(0.0, 0.0)))
            case "recalled":
                past = self.raw.get(LINE)
                return self.fresh(past.hull(Interval(0.0, 0.0)) if past else Interval(0.0, 0.0))
            case "interpolated" | "mapped":
                values = self.tree.table_values(None if name == "interpolated" else int(args[0].const))
                return self.fresh(Interval(min(values), max(values)) if values else Interval(0.0, 0.0))
        return self.fresh(applied(name, at))


BELOW = {"<": -1, "<=": -1, ">": 1, ">=": 1}


def refined(through: Pass, test: Test, env: Env) -> Env | None:
    """What is known where a test holds; None where it cannot hold."""
    match test:
        case Compare(op, left, right):
            a, b = through.value(left, env).interval, through.value(right, env).interval
            if BELOW[op] < 0:
                a_to, b_to = Interval(-math.inf, b.high), Interval(a.low, math.inf)
            else:
                a_to, b_to = Interval(b.low, math.inf), Interval(-math.inf, a.high)
            through.limits |= {i.low for i in (a, b) if i.low == i.high}
            if a.meet(a_to) is None or b.meet(b_to) is None:
                return None
            if op in "<>" and (a.low >= b.high if op == "<" else a.high <= b.low):
                return None
            narrowed = dict(env)
            for side, to in ((left, a_to), (right, b_to)):
                if isinstance(side, Name) and side.name not in through.tree.angles:
                    narrowed[side.name] = through.value(side, env).limited(to)
            return narrowed
        case Every(tests):
            current: Env | None = env
            for each in tests:
                current = refined(through, each, current) if current is not None else None
            return current
        case Either(tests):
            ways = [w for w in (refined(through, each, env) for each in tests) if w is not None]
            if not ways:
                return None
            if len(ways) == 1:
                return ways[0]
            return {
                n: through.merged([w[n] for w in ways]) if any(w[n] != env[n] for w in ways) else env[n] for n in env
            }
    raise AssertionError(test)


def block_ranges(tree: BlockTree, inputs: Mapping[str, Interval], hints: Hints) -> BlockRanges:
    """Ranges of all names of a block for given ranges of its inputs.

    What nothing bounds is assumed to stay within twice what the run showed of it, where one did: memory first, and
    of that no more than it takes to bound the rest; then what is computed from it. Kept for the last blocks, as a deck
    is gone through again and again, for one format after the other.
    """
    seen = tuple((n, x) for n, x in hints.seen.items() if hints.may_assume(n) or n in hints.assumed)
    key = (tuple(inputs.items()), tuple(hints.by_hand.items()), seen, hints.assumed, hints.safe, hints.room)
    return _kept(tree, _Asked(inputs, hints, key)).copy()


class _Asked:
    """Ranges of inputs and hints, as one that can be looked up."""

    def __init__(self, inputs: Mapping[str, Interval], hints: Hints, key: tuple[object, ...]):
        self.inputs, self.hints, self.key = inputs, hints, key

    def __hash__(self) -> int:
        return hash(self.key)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Asked) and self.key == other.key


@lru_cache(maxsize=4096)
def _kept(tree: BlockTree, asked: _Asked) -> BlockRanges:
    inputs, hints = asked.inputs, asked.hints
    ranges = _ranges_assuming(tree, inputs, hints)
    remembered, boundless = {*tree.memory, LINE}, set[str]()
    for group in (remembered, set(ranges.ranges) - remembered):
        wide = [n for n in ranges.ranges if n in group and hints.may_assume(n) and too_wide(tree, ranges, hints, n)]
        while wide:
            needed, endless = set(wide), {n for n in wide if not ranges.interval(n).size <= GREATEST}
            ranges = _ranges_assuming(tree, inputs, hints.assuming(needed))
            for name in wide if len(wide) > 1 else ():
                fewer = _ranges_assuming(tree, inputs, hints.assuming(needed - {name}))
                if not any(too_wide(tree, fewer, hints, n) for n in wide):
                    needed.remove(name)
                    ranges = fewer
            hints, boundless = hints.assuming(needed), boundless | (endless & needed)
            wide = [n for n in group if hints.may_assume(n) and too_wide(tree, ranges, hints, n)]
    return replace(ranges, boundless=frozenset(boundless))


def declared_bounds(tree: BlockTree, inputs: Mapping[str, Interval]) -> dict[str, float]:
    """Largest absolute values of names that a block declares, for given ranges of its inputs."""
    sizes = {n: abs(x) for n, x in tree.instance.values.items()} | {v.name: v.ends.size for v in tree.live}
    sizes |= dict.fromkeys(tree.instance.inputs, 0.0) | {n: i.size for n, i in inputs.items()}

    def product(text: str) -> float:
        factors = [sizes[name] if name in sizes else float(name) for name in map(str.strip, text.split("*"))]
        return 0.0 if 0.0 in factors else math.prod(factors)

    return {name: sum(map(product, text.split("+"))) * (1.0 + 1e-9) for name, text in tree.instance.bounds.items()}


def too_wide(tree: BlockTree, ranges: BlockRanges, hints: Hints, name: str) -> bool:
    """Whether a word cannot hold what a name may come to, or has too few digits left for what it came to. Sums have
    twice as many digits, so that width costs them nothing."""
    known = ranges.ranges.get(name)
    if known is None or known.source in (Source.HAND, Source.RUN):
        return False
    if name not in hints.safe and not known.interval.size <= GREATEST:
        return True
    room = hints.room * (SURE if name in hints.safe else 1.0)
    return name not in tree.accumulated and name in hints.seen and known.interval.size > room * 2.0 * hints.seen[name]


def _ranges_assuming(tree: BlockTree, inputs: Mapping[str, Interval], hints: Hints) -> BlockRanges:
    """As `block_ranges`, with nothing more assumed than ``hints`` say."""
    start = Interval(0.0, 0.0)
    states: dict[str, Interval] = {**dict.fromkeys(tree.memory, start), LINE: start}
    linear = linear_bounds(tree, inputs, hints)
    states |= linear
    bounds = declared_bounds(tree, inputs)

    def passed() -> tuple[Pass, dict[str, Interval]]:
        """A pass from what is known of the memory, and what that is afterwards."""
        through = Pass(tree, hints, bounds)
        through.raw[LINE] = states[LINE]
        env = _entry(tree, inputs, {n: i for n, i in states.items() if n != LINE})
        through.body(tree.body, env)
        after = {n: env[n].interval for n in tree.memory if n not in tree.angles and n not in linear}
        after = {n: i for n, i in after.items() if n in through.raw} | {LINE: through.raw[LINE]}
        return through, {n: hints.decide(n, start.hull(i)).interval for n, i in after.items()}

    for count in range(PASSES):
        through, after = passed()
        if all(i.within(states[n]) for n, i in after.items()):
            break
        if count < PASSES // 2:
            states |= {n: states[n].hull(i) for n, i in after.items()}
        else:
            states |= {n: _to_limits(states[n], i, through.limits) for n, i in after.items()}
    else:
        through, after = passed()
        while any(not i.within(states[n]) for n, i in after.items()):  # what still grows is let go
            states |= {n: _widened(states[n], i) for n, i in after.items()}
            through, after = passed()
    for _ in range(NARROWING if count >= PASSES // 2 else 0):  # and what a limit brings back is brought back
        states |= {n: i for n, i in after.items() if i.within(states[n])}
        through, after = passed()
    ranges = BlockRanges(divisors=through.divisors, assumed=hints.assumed)
    for name, raw in through.raw.items():
        if name in linear:
            raw = raw.meet(linear[name]) or linear[name]
        if name in tree.memory:
            raw = raw.hull(start)
        ranges.ranges[name] = hints.decide(name, raw)
    for name in tree.angles:
        ranges.ranges[name] = Range(TURN, Source.PROVEN, TURN)
    return ranges


def _to_limits(before: Interval, after: Interval, limits: set[float]) -> Interval:
    """A side that grows, let go to the next limit that the update itself sets, or twice as far: what then stays within
    is bounded."""
    low = max((x for x in limits if x <= after.low), default=2.0 * min(after.low, 0.0))
    high = min((x for x in limits if x >= after.high), default=2.0 * max(after.high, 0.0))
    return Interval(low if after.low < before.low else before.low, high if after.high > before.high else before.high)


def _widened(before: Interval, after: Interval) -> Interval:
    """Only the side that grows is let go."""
    return Interval(
        -math.inf if after.low < before.low else before.low,
        math.inf if after.high > before.high else before.high,
    )


def _entry(tree: BlockTree, inputs: Mapping[str, Interval], states: Mapping[str, Interval]) -> Env:
    env = {n: Bounded.symbol(n, i) for n, i in inputs.items()}
    env |= {n: Bounded.symbol(n, i) for n, i in states.items()}
    env |= {n: Bounded.symbol(n, TURN) for n in tree.angles if n in env}
    return env


def linear_bounds(tree: BlockTree, inputs: Mapping[str, Interval], hints: Hints) -> dict[str, Interval]:
    """Bounds of those states that together are a stable linear system of what is bounded."""
    ends = {n: end for n in tree.memory if (end := hints.end(n)) is not None}
    wide = {s: EVERYTHING for s in tree.states if s not in tree.angles and s not in ends}
    through = Pass(tree, Hints())
    env = _entry(tree, inputs, wide | dict.fromkeys(tree.outputs, EVERYTHING) | ends)
    through.body(tree.body, env)
    forms = {s: env[s] for s in wide if s in env}
    while True:  # only states that hang on nothing but each other and what is bounded
        kept = {s: b for s, b in forms.items() if all(n in forms or b.bases[n].finite for n, f in b.form.items() if f)}
        if len(kept) == len(forms):
            return _summed(list(forms), forms) if forms else {}
        forms = kept


def _summed(names: list[str], forms: Mapping[str, Bounded]) -> dict[str, Interval]:
    """|xₖ| ≤ Σ|EⁿF|·(radius of the inputs) + Σ|Eⁿ(F·middle + constant)| for x⁺ = E·x + F·u +
    constant."""
    with np.errstate(over="ignore", invalid="ignore"):
        reach = _reach(names, forms)
    if reach is None or not np.all(np.isfinite(reach)):
        return {}
    return {name: symmetric(float(r) * (1.0 + 1e-9)) for name, r in zip(names, reach)}


def _reach(names: list[str], forms: Mapping[str, Bounded]) -> np.ndarray | None:
    """Bounds of states x⁺ = E·x + F·u + constant, shape (states,); none where they are not stable."""
    E = np.array([[forms[a].form.get(b, 0.0) for b in names] for a in names])
    if not np.all(np.isfinite(E)) or max(abs(np.linalg.eigvals(E)), default=0.0) >= 1.0 - 1e-9:
        return None
    bases = {n: i for b in forms.values() for n, i in b.bases.items() if n not in forms}
    pushes = [np.array([forms[a].const for a in names])]
    columns = []
    for source, base in bases.items():
        column = np.array([forms[a].form.get(source, 0.0) for a in names])
        if np.any(column):
            pushes.append(column * 0.5 * (base.low + base.high))
            columns.append(column * 0.5 * (base.high - base.low))
    F = np.column_stack([*columns, np.sum(pushes, axis=0)])
    power, total = np.eye(len(names)), np.zeros_like(F)
    for _ in range(FIRST_TERMS):
        total += np.abs(power @ F)
        power = E @ power
    for _ in range(60):  # |Eᵏ⁺ⁿF| ≤ |Eᵏ|·|EⁿF|: what follows is bounded piece by piece
        if np.max(np.abs(power)) < 1e-12:
            break
        total = total + np.abs(power) @ total
        power = power @ power
    return np.asarray(np.sum(total, axis=1))


FIRST_TERMS = 512
"""Terms of the impulse response that are summed one by one; the rest is bounded in doubling pieces."""
