"""From the stated equations to an explicit system dx/dt = f(x, p, s, u, t).

Unknowns are eliminated one by one, each by an equation that is linear in it, constant and value-only
coefficients first. An equation that is left without unknowns ties states to each other: it is kept,
differentiated, and one of its states demoted (dummy derivatives: Mattsson and Söderlind, SIAM J. Sci.
Comput. 14 (1993) 677). Coefficients are checked on several samples, equal values and zero states among
them, because a coefficient that is fine in general may vanish for equal parts.
"""

from __future__ import annotations

import zlib
from collections.abc import Sequence
from dataclasses import dataclass, field

import casadi as ca
import numpy as np

from pendel.core.equations.context import DERIVATIVES, Network, StateEntry, stacked
from pendel.core.equations.open_rows import OpenRows, Row, Score
from pendel.core.equations.short import NOUGHT, names_in, pair_of, product_of
from pendel.core.errors import PendelError

SAMPLES = 9
"""The first holds real values, the last the same but for a ten-millionth: what changes between them is
rounding."""
NUDGE = 1e-7
MODES_DECIDE = (2, 3)
MOST_COUPLED = 16
"""Coefficients that an elimination may bring into other rows before others are preferred."""


class EquationProblem(PendelError):
    """The equations have no solution, or no single one. ``owners`` are the cards concerned."""

    def __init__(self, sentence: str, owners: tuple[str, ...]):
        super().__init__(sentence, owners)
        self.sentence, self.owners = sentence, owners

    def __str__(self) -> str:
        return self.sentence


@dataclass
class Explicit:
    """The ordered system. ``solved`` gives every unknown and demoted state in terms of states and inputs."""

    states: list[StateEntry]
    rhs: ca.SX
    solved: dict[str, ca.SX]
    symbols: dict[str, ca.SX]
    demoted: list[StateEntry] = field(default_factory=list)
    """States that others fix; they have no derivative of their own."""
    torn: list[ca.SX] = field(default_factory=list)
    """Unknowns without a safe symbolic solution: found while running, where ``residuals`` are zero."""
    residuals: list[ca.SX] = field(default_factory=list)

    def express(self, expression: ca.SX) -> ca.SX:
        """``expression`` in terms of remaining states, values, modes, inputs and time."""
        return self.express_all([expression])[0]

    def express_all(self, expressions: Sequence[ca.SX]) -> list[ca.SX]:
        """`express` for each. All at once, as a large drive has thousands."""
        expressions = list(expressions)
        if not expressions:
            return []
        names = [s.name() for s in ca.symvar(ca.veccat(*expressions)) if s.name() in self.solved]
        if not names:
            return expressions
        symbols = stacked(*(self.symbols[n] for n in names))
        return ca.substitute(expressions, [symbols], [stacked(*(self.solved[n] for n in names))])


def never_vanishes(at: np.ndarray) -> bool:
    """Whether a coefficient stays off zero on all samples. The first holds real values, which may differ by
    decades."""
    size = np.abs(at)
    if not np.all(np.isfinite(at)) or size[0] == 0 or abs(at[-1] - at[0]) > 1e-3 * size[0]:
        return False
    return bool(np.min(size[1:-1]) > 1e-9 * np.max(size[1:-1]))


LONG = 24
"""Unknowns of a row from which on solutions are put in when its expression is asked for."""
ONE_BY_ONE = 24
"""Unknowns of a row up to which each gets its coefficient by itself."""
BRANCHING = {
    ca.OP_FMIN,
    ca.OP_FMAX,
    ca.OP_FABS,
    ca.OP_SIGN,
    ca.OP_LT,
    ca.OP_LE,
    ca.OP_EQ,
    ca.OP_NE,
    ca.OP_AND,
    ca.OP_OR,
    ca.OP_NOT,
    ca.OP_IF_ELSE_ZERO,
    ca.OP_FLOOR,
    ca.OP_CEIL,
}


def owner_of(name: str) -> str:
    """Key of the card that an unknown is of: ``der(card.state)``, ``through:card.port``."""
    return name.rpartition(":")[2].removeprefix("der(").removesuffix(")").partition(".")[0]


def branches(expression: ca.SX) -> bool:
    """Whether an expression is one thing on one side of something and another thing on the other."""
    function = ca.Function("looked_at", ca.symvar(expression), [expression])
    return any(function.instruction_id(k) in BRANCHING for k in range(function.n_instructions()))


def in_words(unknown: str) -> str:
    """An unknown's name for people: ``through:supply.dc.0`` is the flow into supply at dc."""
    kind, parted, place = unknown.partition(":")
    if not parted:
        return unknown
    card, port, *_ = place.split(".") + [""]
    return {"through": f"the flow into {card} at {port}", "across": f"the level at {card} {port}"}.get(
        kind, f"the level of {card}"
    )


class Reduction:
    def __init__(self, network: Network):
        self.network = network
        self.states = {e.key: e for e in network.states}
        self.symbols = dict(network.unknowns)
        for entry in network.states:
            self.symbols[entry.key] = entry.symbol
            self.symbols[entry.derivative.name()] = entry.derivative
        self.demoted: list[StateEntry] = []
        self.torn: list[str] = []
        self.residuals: list[Row] = []
        self.open = set(network.unknowns) | {e.derivative.name() for e in network.states}
        self.order: list[tuple[str, ca.SX]] = []
        self.values_only = {s.name() for s, _ in network.parameters.values()}
        self.sampled = self.sample_values()
        self.seeds: set[int] = set()
        self.safe: dict[str, bool] = {}
        """Of values looked at: whether each, by itself, stays off zero."""
        self.rows = OpenRows()
        held = self.open_in_each([expression for _, expression in network.equations])
        for (owner, expression), unknowns in zip(network.equations, held):
            self.rows.add(Row(owner, expression), unknowns)

    def sample_values(self) -> dict[str, np.ndarray]:
        """Sample 0: given values, zero states; 1: all values equal; others random; modes run through
        theirs."""
        rng = np.random.default_rng(7)
        samples: dict[str, np.ndarray] = {}
        for symbol, value in self.network.parameters.values():
            column = rng.uniform(0.3, 3.0, SAMPLES)
            with np.errstate(over="ignore"):
                column[0], column[1], column[-1] = value, 1.0, value * (1 + NUDGE * column[-1])
            samples[symbol.name()] = column
        for mode in self.network.modes:
            reachable = sorted({mode.start} | {a for a, _, _ in mode.transitions} | {b for _, _, b in mode.transitions})
            samples[mode.symbol.name()] = rng.choice(reachable, SAMPLES).astype(float)
            samples[mode.symbol.name()][[0, -1]] = mode.start
        for surface in self.network.surfaces:
            # As of a convex function: its second derivatives are those of a sound machine's inductances.
            for name, symbol in zip(DERIVATIVES, ca.vertsplit(surface.outputs)):
                column = rng.uniform(1.0, 3.0, SAMPLES) if name in ("xx", "yy") else rng.uniform(0.1, 0.5, SAMPLES)
                column[-1] = column[0] * (1 + NUDGE)
                samples[symbol.name()] = column
        for gate in self.network.gates.values():
            samples[gate.name()] = rng.integers(0, 2, SAMPLES).astype(float)
            samples[gate.name()][-1] = samples[gate.name()][0]
        return samples

    def values_at_samples(self, expression: ca.SX) -> np.ndarray:
        """Values of a scalar expression on all samples; symbols without any get theirs now."""
        if (product := product_of(expression)) is not None:
            with np.errstate(all="ignore"):
                return product.sign * np.prod([self.sample_of(s) for s in product.symbols], axis=0)
        symbols = ca.symvar(expression)
        if not symbols:
            return np.full(SAMPLES, float(expression))
        columns = [self.sample_of(symbol) for symbol in symbols]
        function = ca.Function("sample", [ca.vertcat(*symbols)], [expression])
        with np.errstate(all="ignore"):
            return np.array(function(np.array(columns))).ravel()

    def sample_of(self, symbol: ca.SX) -> np.ndarray:
        name = symbol.name()
        column = self.sampled.get(name)
        if column is None:
            # By its name, so that it is the same whatever was looked at before, and in every process.
            seed = zlib.crc32(name.encode())
            while seed in self.seeds:  # two names that meet would look equal
                seed += 1
            self.seeds.add(seed)
            column = np.random.default_rng(seed).uniform(-2.0, 2.0, SAMPLES)
            column[0] = column[-1] = 0.0
            self.sampled[name] = column
        return column

    def add_row(self, owner: str, expression: ca.SX) -> None:
        self.rows.add(Row(owner, expression), self.open_in(expression))

    def open_in(self, expression: ca.SX) -> set[str]:
        """The unknowns of an expression."""
        return names_in(expression) & self.open

    def open_in_each(self, expressions: Sequence[ca.SX]) -> list[set[str]]:
        """`open_in` for each, all at once, as a large drive has thousands."""
        held: list[set[str]] = [set() for _ in expressions]
        names = sorted(self.open)
        pattern = ca.jacobian_sparsity(stacked(*expressions), stacked(*(self.symbols[n] for n in names)))
        for row, column in zip(*pattern.get_triplet()):
            held[row].add(names[column])
        return held

    def coefficient(self, row: Row, name: str) -> ca.SX:
        if name not in row.coefficients and (pair := pair_of(row.expression, row.unknowns)):
            row.coefficients[name] = pair.slope(name)
        elif name not in row.coefficients and len(row.unknowns) <= ONE_BY_ONE:
            row.coefficients[name] = ca.gradient(row.expression, self.symbols[name])
        elif name not in row.coefficients:
            # All at once, backwards through the row: one by one, a node that a hundred parts share costs a
            # hundred times as much.
            wanted = sorted(row.unknowns - row.coefficients.keys() | {name})
            slopes = ca.gradient(row.expression, stacked(*(self.symbols[n] for n in wanted)))
            row.coefficients.update((n, slopes[k]) for k, n in enumerate(wanted))
        return row.coefficients[name]

    def pivot_class(self, row: Row, name: str) -> int | None:
        """0 constant, 1 values only, 2 also modes or states but safe on all samples, 3 the same but now and
        then smaller than another of its row; None: not usable."""
        if name not in row.classes:
            row.classes[name] = self._pivot_class(row, name)
        return row.classes[name]

    def _pivot_class(self, row: Row, name: str) -> int | None:
        coefficient = self.coefficient(row, name)
        if coefficient.is_constant():
            return 0 if abs(float(coefficient)) > 0 else None
        product = product_of(coefficient)
        inside = names_in(coefficient) if product is None else {s.name() for s in product.symbols}
        if product is not None and inside <= self.values_only and len(inside) == 1:
            return 1 if self.is_safe(product.symbols[0]) else None
        if inside & self.open:
            return None
        if not inside:
            return 0 if abs(float(coefficient)) > 0 else None
        if not never_vanishes(self.values_at_samples(coefficient)):
            return None
        if inside <= self.values_only:
            return 1
        return 2 if self.is_largest(row, name) else 3

    def is_safe(self, value: ca.SX) -> bool:
        """Whether a value by itself stays off zero."""
        name = value.name()
        if name not in self.safe:
            self.safe[name] = never_vanishes(self.sample_of(value))
        return self.safe[name]

    def is_largest(self, row: Row, name: str) -> bool:
        """Whether no other coefficient of the row is ever larger. A node's potential then follows from its
        neighbours', never a neighbour's from it through a device that may block: that would enlarge rounding
        as conducting over blocking."""
        if not self.is_linear(row):
            return False
        own = np.abs(self.values_at_samples(row.coefficients[name]))
        others = (self.values_at_samples(row.coefficients[n]) for n in row.unknowns - {name})
        return all(np.all(np.abs(other) <= own * (1 + 1e-9)) for other in others)

    def score_of(self, row: Row) -> Score | None:
        """The least score of a row's unknowns."""
        best: Score | None = None
        holds_slope = any(name.startswith("der(") for name in row.unknowns)
        others = len(row.unknowns) - 1
        standing = []
        for name in row.unknowns:
            # A row with a derivative tells that derivative. Used for a potential, it would carry the
            # derivative into the currents of a node, and leaks there would be lost beside it.
            spoils = holds_slope and name.startswith("across:")
            count = len(self.rows.holders[name])
            # What stands in many rows, such as the potential of a link with many legs, would couple all of
            # them.
            couples = others * (count - 1) > MOST_COUPLED
            standing.append((spoils, couples, count, name.startswith("der("), name))
        for spoils, couples, count, slope, name in sorted(standing):
            if best is not None and best < (False, spoils, couples, 0, others, count, slope, name):
                break  # no class could make it, or one after it, better
            kind = self.pivot_class(row, name)
            if kind is None:
                continue
            score = (kind == 3, spoils, couples, kind, others, count, slope, name)
            if best is None or score < best:
                best = score
        return best

    def is_linear(self, row: Row) -> bool:
        """Whether the row is linear in its unknowns; then its coefficients and rest are there."""
        if not row.judged:
            row.judged = True
            # In the order of names, whatever was looked at first: sums are written out in this order.
            row.coefficients = {name: self.coefficient(row, name) for name in sorted(row.unknowns)}
            if not any(self.open_in(c) for c in row.coefficients.values()):
                names = [self.symbols[n] for n in sorted(row.unknowns)]
                row.rest = ca.substitute(row.expression, stacked(*names), ca.SX.zeros(len(names)))
        return row.rest is not None

    def eliminate(self, row: Row, name: str) -> None:
        if pair := pair_of(row.expression, row.unknowns):
            self.rows.drop(row)
            self.settle(name, pair.solved_for(name))
            return
        coefficient = self.coefficient(row, name)
        rest = ca.substitute(row.expression, self.symbols[name], NOUGHT)
        if self.pivot_class(row, name) in MODES_DECIDE and len(row.unknowns) > 1 and self.is_linear(row):
            for other in self.rows.with_unknown(name):
                if other is not row and self.is_linear(other):
                    self.subtract(other, row, name)
        self.rows.drop(row)
        solution = ca.SX.binary(ca.OP_DIV, -rest, coefficient)  # as by /, which looks for other types first
        self.settle(name, solution if solution.is_leaf() else ca.simplify(solution))

    def subtract(self, other: Row, row: Row, name: str) -> None:
        """Gauss's step on two linear rows, for pivots that modes decide. Substituting would nest the rows in
        each other, and what several unknowns share, such as the resistance of a link, would be written out
        again for each. With simpler pivots it does no harm, and keeps differences of like potentials
        together, which rounding then spares."""
        assert other.rest is not None and row.rest is not None
        share = other.coefficients[name] / row.coefficients[name]
        coefficients = {n: c for n, c in other.coefficients.items() if n != name and n in other.unknowns}
        for n in sorted(row.unknowns - {name}):
            coefficients[n] = coefficients.get(n, NOUGHT) - share * row.coefficients[n]
        rest = other.rest - share * row.rest
        other.changed(name, row.unknowns)
        other.coefficients = {n: c for n, c in coefficients.items() if not c.is_zero()}
        self.rows.hold(other, set(other.coefficients))
        other.rest, other.judged, other.expression = rest, True, rest
        for n, c in other.coefficients.items():
            other.expression += c * self.symbols[n]

    def settle(self, name: str, solution: ca.SX) -> None:
        self.order.append((name, solution))
        # Rows know which open unknowns they hold; only a state that is demoted must be looked for.
        known = name in self.open
        self.open.discard(name)
        symbol = self.symbols[name]
        touched = (
            self.rows.with_unknown(name) if known else [r for r in self.rows if ca.depends_on(r.expression, symbol)]
        )
        enters = self.open_in(solution)
        for other in touched:
            # Unknowns that a row does not hold yet cannot cancel in it: what it holds then is known.
            plain = known and bool(enters) and enters.isdisjoint(other.unknowns)
            if plain and len(other.unknowns) > LONG:
                other.put_in_later(symbol, solution, enters)
            else:
                other.expression = ca.substitute(other.expression, symbol, solution)
            self.rows.hold(other, (other.unknowns - {name}) | enters if plain else self.open_in(other.expression))
            other.changed(name, enters)

    def run(self) -> Explicit:
        while self.rows:
            bare = self.rows.first_bare()
            if bare is not None:
                self.rows.drop(bare)
                self.treat_bare(bare)
                continue
            pivot = self.rows.best(self.score_of)
            if pivot is None:
                if not self.drop_vanishing():
                    self.tear()
                continue
            self.eliminate(*pivot)
        self.check_loops()
        for name in sorted(n for n in self.open if n.startswith("through:")):
            # A ring of plain connections, such as the minus lines of two converters on one link: how a
            # current divides
            # in it is nobody's business, so one share is none.
            self.settle(name, NOUGHT)
        if self.open:
            owners = sorted({owner_of(name) for name in self.open})
            raise EquationProblem(
                "Nothing determines "
                + ", ".join(in_words(n) for n in sorted(self.open)[:3])
                + ". Connect the open end or add what is missing.",
                tuple(owners),
            )
        return self.explicit()

    def drop_vanishing(self) -> bool:
        """A coefficient that is zero on every sample is zero, unless it holds a limit or a comparison, of
        which no sample may have met the other side; remove it. Tells whether one was found."""
        for row in self.rows:
            for name in sorted(row.unknowns):
                if branches(self.coefficient(row, name)):
                    continue
                at = self.values_at_samples(self.coefficient(row, name))
                if np.all(np.isfinite(at)) and np.max(np.abs(at)) < 1e-12:
                    row.expression = ca.substitute(row.expression, self.symbols[name], NOUGHT)
                    self.rows.hold(row, row.unknowns - {name})
                    row.changed(name)
                    return True
        return False

    def tear(self) -> None:
        """No unknown has a safe symbolic solution: take the one most rows contain as given, to be found
        numerically."""
        held = {name: len(rows) for name, rows in self.rows.holders.items() if rows}
        name = min(held, key=lambda n: (n.startswith("der("), -held[n], n))
        self.torn.append(name)
        self.open.discard(name)
        for row in self.rows:
            self.rows.hold(row, row.unknowns - {name})
            row.changed(name)

    def check_loops(self) -> None:
        """As many residuals as torn unknowns, and a solution where they are regular.

        Raises
        ------
        EquationProblem
        """
        if not self.torn:
            return
        owners = tuple(sorted({r.owner for r in self.residuals}))
        sentence = (
            "The equations of "
            + " and ".join(owners)
            + " cannot be solved for "
            + ", ".join(in_words(n) for n in self.torn[:3])
            + ": two parts fix the same thing at once, or nothing does. Put a state or a resistance "
            "between them, or join the two parts."
        )
        if len(self.residuals) != len(self.torn):
            raise EquationProblem(sentence, owners)
        slopes = ca.jacobian(
            stacked(*(self.carried(r.expression) for r in self.residuals)),
            stacked(*(self.symbols[n] for n in self.torn)),
        )
        entries = np.array([self.values_at_samples(slopes[k]) for k in range(slopes.numel())])
        n = len(self.torn)
        if not any(np.all(np.isfinite(e)) and np.linalg.matrix_rank(e.reshape(n, n)) == n for e in entries.T):
            raise EquationProblem(sentence, owners)

    def treat_bare(self, row: Row) -> None:
        at = self.values_at_samples(row.expression)
        if np.all(np.abs(at) < 1e-9):
            return  # says nothing new, such as the last of Kirchhoff's current sums
        if {s.name() for s in ca.symvar(row.expression)} & set(self.torn):
            self.residuals.append(row)
            return
        inside = {s.name() for s in ca.symvar(row.expression)} & set(self.states)
        if not inside:
            raise EquationProblem(
                f"{row.owner} and what it is connected to contradict each other: both fix the same "
                "quantity. Remove one or put a part between them.",
                (row.owner,),
            )
        self.demote(row, inside)

    def demote(self, row: Row, inside: set[str]) -> None:
        ranked = []
        for key in sorted(inside):
            coefficient = ca.gradient(row.expression, self.states[key].symbol)
            depends = {s.name() for s in ca.symvar(coefficient)}
            if key in depends or depends - self.values_only - {m.key for m in self.network.modes} - set(
                self.network.gates
            ):
                continue
            at = self.values_at_samples(coefficient)
            if never_vanishes(at):
                ranked.append(
                    (
                        not self.states[key].helper,
                        len(depends) > 0,
                        -list(self.states).index(key),
                        key,
                        coefficient,
                    )
                )
        if not ranked:
            raise EquationProblem(
                f"The states {', '.join(sorted(inside))} depend on each other in a way that has no explicit form.",
                (row.owner,),
            )
        *_, key, coefficient = min(ranked, key=lambda r: r[:4])
        derivative = ca.gradient(row.expression, self.network.time)
        for name in sorted(inside):
            derivative += ca.gradient(row.expression, self.states[name].symbol) * self.states[name].derivative
        entry = self.states.pop(key)
        self.demoted.append(entry)
        rest = ca.substitute(row.expression, entry.symbol, NOUGHT)
        self.settle(key, -rest / coefficient)
        self.add_row(row.owner, self.carried(derivative))

    def carried(self, expression: ca.SX) -> ca.SX:
        """``expression`` with all eliminations so far applied, in their order."""
        for name, solution in self.order:
            expression = ca.substitute(expression, self.symbols[name], solution)
        return expression

    def explicit(self) -> Explicit:
        system = Explicit([], ca.SX(), {}, self.symbols)
        names, solutions = [name for name, _ in reversed(self.order)], [s for _, s in reversed(self.order)]
        if names:
            # From the last on, so that each is in terms of what is left.
            solved, _ = ca.substitute_inplace([self.symbols[n] for n in names], solutions, [], False)
            system.solved = dict(zip(names, solved))
        system.states, system.demoted = list(self.states.values()), self.demoted
        system.torn = [self.symbols[n] for n in self.torn]
        system.residuals = system.express_all([r.expression for r in self.residuals])
        system.rhs = stacked(*system.express_all([e.derivative for e in system.states]))
        return system


def reduce(network: Network) -> Explicit:
    """Order and solve the equations of a network.

    Raises
    ------
    EquationProblem
        naming the cards whose equations contradict each other or leave something open.
    """
    return Reduction(network).run()
