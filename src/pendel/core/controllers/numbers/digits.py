"""How many binary digits behind the point the values of a name have, where they have an end: what counts, and what
is one of a few levels, is held exactly."""

from __future__ import annotations

from collections.abc import Mapping

from pendel.core.controllers.numbers.block import BlockTree
from pendel.core.controllers.numbers.tree import Call, Choose, Const, Expr, Name, Scaled, Sum, assignments


def grid(name: str, tree: BlockTree, inputs: Mapping[str, int | None], maximum: int) -> int | None:
    """Binary digits behind the point of all values that a name is assigned; none where they have no end."""
    digits: dict[str, int | None] = {**inputs, name: 0}
    names = {a.name for a in assignments(tree.body)} - {name}
    digits |= dict.fromkeys(names, 0)
    for _ in range(len(names) + 4):
        changed = False
        for a in assignments(tree.body):
            now = _digits(a.value, digits, maximum)
            before = digits[a.name]
            after = None if now is None or before is None else max(now, before)
            if after != before:
                digits[a.name], changed = after, True
        if not changed:
            break
    return digits[name]


def _digits(expr: Expr, digits: Mapping[str, int | None], maximum: int) -> int | None:
    match expr:
        case Const(number):
            value = float(number)
            for n in range(maximum + 1):
                if value * 2.0**n == int(value * 2.0**n):
                    return n
            return None
        case Name(name):
            return digits.get(name)
        case Sum(left, right, _):
            parts = [left, right]
        case Choose(_, yes, no):
            parts = [yes, no]
        case Scaled(-1.0, of):
            parts = [of]
        case Call("floor", _):
            return 0
        case Call("minimum" | "maximum" | "saturate" | "absolute", args):
            parts = list(args)
        case _:
            return None
    each = [_digits(p, digits, maximum) for p in parts]
    known = [e for e in each if e is not None]
    return max(known) if len(known) == len(each) else None
