"""What of an update nothing reads is left out, and what it computes twice is computed once."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import fields
from typing import cast

from pendel.core.controllers.numbers.tree import (
    Assign,
    Call,
    Expr,
    Name,
    Remember,
    Statement,
    Test,
    When,
    assignments,
    expressions,
    negated,
)


def pruned(body: Sequence[Statement], kept: frozenset[str]) -> tuple[Statement, ...]:
    """The statements without those whose results nothing reads; ``kept`` are names that are read
    afterwards."""
    return _pruned(body, set(kept))


def _pruned(body: Sequence[Statement], live: set[str]) -> tuple[Statement, ...]:
    statements: list[Statement] = []
    for statement in reversed(body):
        match statement:
            case Assign(name, value):
                if name not in live or value == Name(name):
                    continue
                live.discard(name)
                live |= value.names
            case Remember(value):
                live |= value.names
            case When(test, then, otherwise):
                yes, no = set(live), set(live)
                inner = _pruned(then, yes), _pruned(otherwise, no)
                if not any(inner):
                    continue
                live |= yes | no | test.names
                statement = When(test, *inner) if inner[0] else When(negated(test), inner[1], ())
        statements.append(statement)
    return tuple(reversed(statements))


def read_at_first(body: Sequence[Statement], written: set[str] | None = None) -> set[str]:
    """Names whose value before the statements is read by them."""
    done = set() if written is None else written
    read: set[str] = set()
    for statement in body:
        match statement:
            case Assign(name, value):
                read |= value.names - done
                done.add(name)
            case Remember(value):
                read |= value.names - done
            case When(test, then, otherwise):
                read |= test.names - done
                yes, no = set(done), set(done)
                read |= read_at_first(then, yes) | read_at_first(otherwise, no)
                done |= yes & no
    return read


def without_repeats(body: tuple[Statement, ...], taken: frozenset[str]) -> tuple[Statement, ...]:
    """What costs much and is computed twice from the same is computed once, into a local of its own."""
    result, number = list(body), 0
    while True:
        repeated = _repeated(result)
        if repeated is None:
            return tuple(result)
        call, first, last = repeated
        names = {s.name for s in assignments(result)} | taken
        while f"shared_{number}" in names:
            number += 1
        name = f"shared_{number}"
        for k in range(first, last + 1):
            result[k] = _replaced(result[k], call, Name(name))
        result.insert(first, Assign(name, call))


COSTLY = ("sin", "cos", "sqrt", "atan2")


def _repeated(body: Sequence[Statement]) -> tuple[Call, int, int] | None:
    """A costly call that occurs more than once between two changes of what it reads; the statements of its
    first and last place."""
    for first, statement in enumerate(body):
        for call in _calls(statement):
            if isinstance(statement, Assign) and statement.value == call and statement.name.startswith("shared_"):
                continue
            count, last = 0, first
            for k in range(first, len(body)):
                here = sum(c == call for c in _calls(body[k]))
                if here and isinstance(body[k], When) and call.names & _written(body[k]):
                    break
                count, last = count + here, k if here else last
                if call.names & _written(body[k]):
                    break
            if count > 1:
                return call, first, last
    return None


def _calls(statement: Statement) -> list[Call]:
    return [
        e for whole in expressions([statement]) for e in whole.walk() if isinstance(e, Call) and e.function in COSTLY
    ]


def _written(statement: Statement) -> set[str]:
    return {a.name for a in assignments([statement])}


def _replaced(statement: Statement, old: Expr, new: Expr) -> Statement:
    match statement:
        case Assign(name, value):
            return Assign(name, replaced(value, old, new))
        case Remember(value):
            return Remember(replaced(value, old, new))
        case When(test, then, otherwise):
            return When(
                cast("Test", replaced(test, old, new)),
                tuple(_replaced(s, old, new) for s in then),
                tuple(_replaced(s, old, new) for s in otherwise),
            )
    raise AssertionError(statement)


def replaced(expr: Expr, old: Expr, new: Expr) -> Expr:
    """The expression with one part put for another wherever it occurs."""
    if expr == old:
        return new
    if not expr.parts:
        return expr
    values: Mapping[str, object] = {f.name: getattr(expr, f.name) for f in fields(cast("type", expr))}

    def inner(value: object) -> object:
        if isinstance(value, Expr):
            return replaced(value, old, new)
        return tuple(inner(v) for v in value) if isinstance(value, tuple) else value

    return type(expr)(**{k: inner(v) for k, v in values.items()})
