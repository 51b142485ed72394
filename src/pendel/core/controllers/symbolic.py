"""The linear form of a block: its update run on symbols, differentiated at an operating point."""

from __future__ import annotations

import ast
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property, lru_cache
from typing import Any

import casadi as ca
import numpy as np

from pendel.core.controllers.deck import BlockInstance
from pendel.core.equations.context import stacked
from pendel.core.last_few import LastFew

LONGEST_LINE = 256
"""Periods that a line of past values is exact for."""
LAGS = 200
"""Memory of a line that is too long to be exact."""
PAST = 1e-9
"""Share of the ends of a limit by which it is reached for sure."""


def hats(x: ca.SX, axis: np.ndarray) -> ca.SX:
    """The share of each point of an axis at ``x``: 1 there, straight to 0 at its neighbours, level beyond the
    ends. At a point the slope is the mean of both sides; at an end, where a drive at rest often is, that of the
    inside, as between limits."""
    first, last = float(axis[0]), float(axis[-1])
    within = ca.if_else(x < first, first, ca.if_else(x > last, last, x))
    rises = [(within - a) / (b - a) for a, b in zip(axis[:-1], axis[1:])]
    # A side that an end bounds is never below zero.
    ups = [rises[0], *(ca.fmax(0.0, r) for r in rises[1:])]
    downs = [*(ca.fmax(0.0, 1.0 - r) for r in rises[:-1]), 1.0 - rises[-1]]
    return stacked(downs[0], *(ca.fmin(up, down) for up, down in zip(ups[:-1], downs[1:])), ups[-1])


@dataclass(frozen=True)
class LinearBlock:
    """z⁺ = E z + F v, y = G z + H v with inputs v and outputs y in the block's order."""

    E: np.ndarray
    F: np.ndarray
    G: np.ndarray
    H: np.ndarray
    limited: bool = False
    """Whether something in it is at its limit there; the form is that between the limits all the same."""

    @cached_property
    def whole(self) -> np.ndarray:
        """All four as one: (z⁺, y) from (z, v)."""
        return np.vstack([np.hstack([self.E, self.F]), np.hstack([self.G, self.H])])

    def response(self, z: np.ndarray) -> np.ndarray:
        """Frequency response at points ``z``; shape (points, outputs, inputs)."""
        n = self.E.shape[0]
        if n == 1:  # a PI regulator, whose gains sliders move
            inner = (self.F / (z[:, None] - self.E[0, 0]))[:, None, :]
        elif n:
            apart = z[:, None, None] * np.eye(n) - self.E
            inner = np.linalg.solve(apart, np.broadcast_to(self.F, (len(z), *self.F.shape)))
        else:
            inner = np.zeros((len(z), 0, self.F.shape[1]))
        return self.G @ inner + self.H


class Symbols:
    """Runs an update on symbols. Limits and quantisation are left out: the model is that between the
    limits."""

    def __init__(self, block: BlockInstance):
        self.block = block
        self.periods = block.values.get("delay_ticks", block.values.get("ticks", 0.0))
        """By which its line of past values delays."""
        self.exact = self.periods <= LONGEST_LINE
        self.line = int(np.ceil(self.periods)) if self.exact else LAGS
        self.past = ca.SX.sym("past", self.line)
        self.next_past = self.past
        self.remembered = ca.SX(0)
        """What goes into the line."""
        self.limits: list[tuple[ca.SX, ca.SX, ca.SX]] = []
        """What is kept between a low and a high end whatever else is decided, with both ends."""
        self._decided = True

    def run(self, env: dict[str, ca.SX], body: Sequence[ast.stmt]) -> None:
        for node in body:
            if isinstance(node, ast.Assign) and isinstance(node.targets[0], ast.Name):
                env[node.targets[0].id] = self.value(node.value, env)
            elif isinstance(node, ast.Expr):
                assert isinstance(node.value, ast.Call)
                self.remember(self.value(node.value.args[1], env))
            else:
                assert isinstance(node, ast.If)
                self.branch(node, env)

    def branch(self, node: ast.If, env: dict[str, ca.SX]) -> None:
        test = self.value(node.test, env)
        if test.is_constant():  # the other branch may divide by zero, which would spoil its derivative here
            self.run(env, node.body if float(test) else node.orelse)
            return
        yes, no, decided = dict(env), dict(env), self._decided
        self._decided = False
        self.run(yes, node.body)
        self.run(no, node.orelse)
        self._decided = decided
        for name in yes.keys() | no.keys():
            a, b = yes.get(name, ca.SX(0)), no.get(name, ca.SX(0))
            env[name] = a if a is b else ca.if_else(test, a, b)

    def value(self, node: ast.expr, env: dict[str, ca.SX]) -> ca.SX:
        match node:
            case ast.Constant(value=int() | float() as value):
                return ca.SX(float(value))
            case ast.Name(id=name):
                return env[name]
            case ast.UnaryOp(op=ast.USub(), operand=operand):
                return -self.value(operand, env)
            case ast.UnaryOp(operand=operand):
                return ca.logic_not(self.value(operand, env))
            case ast.BinOp(left=left, op=op, right=right):
                a, b = self.value(left, env), self.value(right, env)
                return (
                    a + b
                    if isinstance(op, ast.Add)
                    else a - b
                    if isinstance(op, ast.Sub)
                    else a * b
                    if isinstance(op, ast.Mult)
                    else a / b
                )
            case ast.BoolOp(op=op, values=values):
                joined = [self.value(v, env) for v in values]
                result = joined[0]
                for more in joined[1:]:
                    result = ca.logic_and(result, more) if isinstance(op, ast.And) else ca.logic_or(result, more)
                return result
            case ast.Compare(left=left, ops=[op], comparators=[right]):
                a, b = self.value(left, env), self.value(right, env)
                return {ast.Lt: a < b, ast.LtE: a <= b, ast.Gt: a > b, ast.GtE: a >= b}[type(op)]
            case ast.IfExp(test=test, body=body, orelse=orelse):
                decided = self.value(test, env)
                if decided.is_constant():
                    return self.value(body if float(decided) else orelse, env)
                return ca.if_else(self.value(test, env), self.value(body, env), self.value(orelse, env))
            case ast.Call(func=ast.Name(id=name), args=args):
                return self.call(name, args, env)
        raise AssertionError(ast.dump(node))  # the checker admits nothing else

    def call(self, name: str, args: Sequence[ast.expr], env: dict[str, ca.SX]) -> ca.SX:
        if name == "delayed":
            return self.delayed(self.value(args[1], env), self.value(args[2], env))
        if name == "recalled":
            return self.past[self.line - 1] if self.exact else self.latest_of(self.past[0])[0]
        if name == "normal":
            return ca.SX(0)
        if name in ("interpolated", "mapped"):
            return self.looked_up(name, [self.value(a, env) for a in args[1:]])
        values = [self.value(a, env) for a in args]
        if name == "wrapped":  # whole turns have no slope
            turn = 2.0 * np.pi
            return values[0] - turn * ca.floor(values[0] / turn + 0.5)
        if name == "saturate" and self._decided:
            self.limits.append((values[0], values[1], values[2]))
        if name in ("saturate", "floor"):
            return values[0]
        functions: dict[str, Callable[..., ca.SX]] = {
            "absolute": lambda x: ca.if_else(x < 0, -x, x),  # at rest the slope is that of going forward, and not 0
            "sqrt": ca.sqrt,
            "atan2": ca.atan2,
            "sin": ca.sin,
            "cos": ca.cos,
            # Of two that are equal, as at rest, the first counts: half of each would be a slope that neither has.
            "minimum": lambda a, b: ca.if_else(a <= b, a, b),
            "maximum": lambda a, b: ca.if_else(a >= b, a, b),
        }
        return functions[name](*values)

    def looked_up(self, name: str, at: list[ca.SX]) -> ca.SX:
        """A table or a layer of a map, straight between its points and level beyond. A profile over time is a
        source and has no slope."""
        if not self.block.inputs or not self.block.table:
            return ca.SX(0)
        first, second = (np.array(column) for column in zip(*self.block.table))
        if name == "interpolated":
            return ca.mtimes(hats(at[0], first).T, ca.DM(second))
        layer, (nx, ny) = int(float(at[0])), first[:2].astype(int)
        axes = first[2 : 2 + nx], first[2 + nx : 2 + nx + ny]
        values = second[layer * nx * ny : (layer + 1) * nx * ny].reshape(nx, ny)
        x, y = (hats(value, axis) for value, axis in zip(at[1:], axes))
        return ca.mtimes([x.T, ca.DM(values), y])

    def remember(self, x: ca.SX) -> None:
        """Let the line go on by a period."""
        self.remembered = x
        if self.exact:
            self.next_past = stacked(x, self.past)[: self.line]
        else:
            self.next_past = stacked(x, *self.latest_of(self.past[0])[1])

    @property
    def lag_gain(self) -> float:
        """What each of the lags of a long line passes on at once."""
        m = (self.periods - 1) / (self.line - 1)
        return (1 - m) / (1 + m)

    def latest_of(self, x: ca.SX) -> tuple[ca.SX, list[ca.SX]]:
        """What comes out of a line that is too long to be exact, and what its lags hold next. A period of it is a
        delay, the rest a chain of lags that pass all frequencies alike, (1 − m·s/2)/(1 + m·s/2) each with s =
        2·(z − 1)/(z + 1), which delay by m periods at low frequencies. Over all n of them the phase misses by
        (ω·T)³/(12·n²), which is 0.004° at ω·T = 3 and 0.12° at 10, where a delay takes 573°."""
        after, gain = [], self.lag_gain
        for memory in ca.vertsplit(self.past[1:]):
            y = gain * x + memory
            after.append(x - gain * y)
            x = y
        return x, after

    def at_rest(self, level: ca.SX) -> ca.SX:
        """What the line holds when the same ``level`` has gone into it for long."""
        if self.exact:
            return ca.repmat(level, self.line)
        return stacked(level, ca.repmat(level * (1 - self.lag_gain), self.line - 1))

    def delayed(self, x: ca.SX, ticks: ca.SX) -> ca.SX:
        if not self.line:
            return x
        self.remember(x)
        if not self.exact:
            return self.latest_of(self.past[0])[0]
        whole = int(self.periods)
        part = self.periods - whole
        taps = stacked(x, self.past)
        return taps[whole] * (1 - part) + (taps[whole + 1] * part if part > 0 else 0)


def linear_block(
    block: BlockInstance,
    period: float,
    inputs_at: Mapping[str, float] | None = None,
    states_at: Mapping[str, float] | None = None,
) -> LinearBlock:
    """Linear form of a block around given inputs and memory (zero where not given).

    Parameters
    ----------
    period
        time between its updates (s).
    """
    return linear_blocks(block, period, inputs_at, states_at, ())({})


def linear_blocks(
    block: BlockInstance,
    period: float,
    inputs_at: Mapping[str, float] | None,
    states_at: Mapping[str, float] | None,
    free: Sequence[str],
) -> Callable[[Mapping[str, float]], LinearBlock]:
    """As `linear_block`, for any numbers of its values that are ``free``, without stating it anew."""
    at, kept = inputs_at or {}, {**(states_at or {}), "started": 1.0}
    around = tuple(at.get(n, 0.0) for n in block.inputs)
    begun = tuple(kept.get(n, 0.0) for n in block.states)
    fixed = tuple((n, x) for n, x in {**block.values, **block.smooth}.items() if n not in free)
    table = tuple(map(tuple, block.table))
    key = (
        block.code,
        block.inputs,
        block.outputs,
        block.states,
        fixed,
        table,
        period,
        tuple(free),
    )
    about = _stated.get(key) or _stated.keep(key, stated(block, period, free))

    def with_values(given: Mapping[str, float]) -> LinearBlock:
        return about(around, begun, tuple(float(given.get(n, block.values[n])) for n in free))

    return with_values


AboutPoint = Callable[[tuple[float, ...], tuple[float, ...], tuple[float, ...]], LinearBlock]
"""The linear form by inputs, memory, and the numbers of what is free."""
_stated: LastFew[tuple[Any, ...], AboutPoint] = LastFew(512)
"""Stating an update in symbols takes milliseconds, and many studies ask for the same one: of a drive whose values
spread, at every angle of one that turns."""


def stated(
    block: BlockInstance,
    period: float,
    free: Sequence[str],
) -> AboutPoint:
    """In symbols, for any point: `linear_blocks`."""
    symbols = Symbols(block)
    v = {name: ca.SX.sym(name) for name in block.inputs}
    z = {name: ca.SX.sym(name) for name in block.states}
    values = {n: ca.SX.sym(n) for n in free}
    env: dict[str, ca.SX] = {
        **v,
        **z,
        **{n: ca.SX(x) for n, x in {**block.values, **block.smooth}.items()},
        **values,
        **dict.fromkeys(block.outputs, ca.SX(0)),
        "dt": ca.SX(period),
    }
    symbols.run(env, block.code.body)
    state = stacked(*z.values(), symbols.past)
    after = stacked(*(env[n] for n in z), symbols.next_past)
    out = stacked(*(env[n] for n in block.outputs))
    into = stacked(*v.values())
    jacobians = [ca.jacobian(a, b) for a, b in ((after, state), (after, into), (out, state), (out, into))]
    function = ca.Function("linear", [state, into, stacked(*values.values())], jacobians)
    reached = stacked(
        *(ca.fmax(x - high, low - x) - PAST * (ca.fabs(low) + ca.fabs(high)) for x, low, high in symbols.limits)
    )
    at_limit = ca.Function("at_limit", [state, into, stacked(*values.values())], [reached])
    filled = ca.Function("filled", [state, into, stacked(*values.values())], [symbols.at_rest(symbols.remembered)])

    @lru_cache(maxsize=64)
    def about(around: tuple[float, ...], begun: tuple[float, ...], numbers: tuple[float, ...]) -> LinearBlock:
        empty = [*begun, *([0.0] * symbols.line)]
        memory = np.append(begun, np.array(filled(empty, list(around), list(numbers))))
        E, F, G, H = (np.array(m, dtype=float) for m in function(memory, list(around), list(numbers)))
        return LinearBlock(
            E.reshape(len(memory), len(memory)),
            F.reshape(len(memory), len(v)),
            G.reshape(len(block.outputs), len(memory)),
            H.reshape(len(block.outputs), len(v)),
            bool(np.any(np.array(at_limit(memory, list(around), list(numbers))) > 0)),
        )

    return about
