"""Equations that help shows are those that run: read as they are written, they are zero where those are."""

from __future__ import annotations

import casadi as ca
import numpy as np
import pytest

from pendel.core.catalogue.declare import Part
from pendel.core.catalogue.help import as_text, help_of
from pendel.core.catalogue.index import kinds
from pendel.core.catalogue.stated import CARD, stated
from pendel.core.quantities.expressions import Binary, Call, Name, Negative, Node, Number, names_in, read_equation

SHOWN = [kind.id for kind in kinds().values() if isinstance(kind, Part) and stated(kind.id).equations]
FUNCTIONS = {"sqrt": np.sqrt, "sin": np.sin, "cos": np.cos, "tan": np.tan, "atan": np.arctan, "exp": np.exp}
FUNCTIONS |= {"log": np.log, "abs": np.abs, "sign": np.sign, "tanh": np.tanh, "min": np.minimum, "max": np.maximum}

OPERATORS = {"+": np.add, "-": np.subtract, "*": np.multiply, "/": np.divide, "^": np.power}


def value(node: Node, at: dict[str, float]) -> float:
    """A tree's value by NumPy: nothing of ours but the reader."""
    match node:
        case Number(number, None):
            return number
        case Name("pi"):
            return np.pi
        case Name(name):
            return at[name]
        case Negative(inner):
            return -value(inner, at)
        case Call("der", (Name(name),)):
            return at[f"der({name})"]
        case Call(function, arguments):
            return float(FUNCTIONS[function](*(value(each, at) for each in arguments)))
        case Binary(op, left, right):
            a, b = value(left, at), value(right, at)
            return float(OPERATORS[op](a, b))
    raise AssertionError(node)


def test_most_parts_show_how_they_work():
    parts = [kind for kind in kinds().values() if isinstance(kind, Part)]
    assert len(SHOWN) > 0.75 * len(parts)
    assert stated("brushed_dc").equations == (
        "L_a*der(i) = u - R_a*i - k*omega",
        "J_m*der(omega) = k*i - b_m*omega + M",
        "der(phi) = omega",
    )
    assert "C*der(u) = i_a" in stated("capacitor").equations
    assert stated("resistor").equations == ("i_a = -i_b", "v_a - v_b = R*i_a")


@pytest.mark.parametrize("kind", SHOWN)
def test_what_is_written_is_what_runs(kind):
    found = stated(kind)
    assert len(found.equations) == len(found.residuals)
    rng = np.random.default_rng(7)
    for text, residual in zip(found.equations, found.residuals):
        symbols = ca.symvar(residual)
        names = [str(symbol).replace(f"{CARD}.", "") for symbol in symbols]
        function = ca.Function("f", symbols, [residual])
        left, right = read_equation(text)
        for _ in range(5):
            point = rng.uniform(0.1, 2.0, len(names)) * rng.choice([1.0, 1.0, -1.0], len(names))
            point = np.abs(point) if "sqrt(" in text or "log(" in text else point
            at = dict(zip(names, map(float, point)))
            wanted = float(function(*point))
            got = value(left, at) - value(right, at)
            assert abs(abs(got) - abs(wanted)) <= 1e-9 * (1 + abs(wanted)), f"{text}: {got} is not {wanted}"


def test_symbols_at_ports_are_explained_and_copied():
    for kind in SHOWN:
        used = {name for text in stated(kind).equations for side in text.split("=") for name in names_in(side)}
        known = {v.name for v in kinds()[kind].values} | {s.name for s in kinds()[kind].states}
        assert {symbol for symbol, _ in stated(kind).symbols} <= used, kind
        assert not {symbol for symbol, _ in stated(kind).symbols} & known, kind
    page = as_text(help_of(kinds()["brushed_dc"]))
    assert "L_a*der(i) = u - R_a*i - k*omega" in page and "M  Shaft" in page
