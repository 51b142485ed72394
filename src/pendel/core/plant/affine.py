"""Whether equations are affine in the states: sums of them by factors that values and modes alone decide.

A circuit of resistances, inductances, capacitances, sources and switches is, whatever its sources do in time.
Steps of a fixed length are then one matrix for each set of modes; see loop/maps.c."""

from __future__ import annotations

from collections.abc import Mapping
from enum import IntEnum

import casadi as ca


class Reach(IntEnum):
    """What an expression depends on, each with all that stands before it."""

    VALUES = 0
    """Values and modes only."""
    TIME = 1
    """Time and inputs."""
    STATES = 2
    """States, each by a factor of values and modes, with anything of time and inputs added."""
    ANYTHING = 3


OF_INPUT = {"t": Reach.TIME, "u": Reach.TIME, "x": Reach.STATES, "s": Reach.VALUES, "p": Reach.VALUES}
KEEPS = frozenset((ca.OP_ASSIGN, ca.OP_NEG, ca.OP_TWICE))
SUMS = frozenset((ca.OP_ADD, ca.OP_SUB))


def reach_of(op: int, operands: list[Reach]) -> Reach:
    """What the result of an operation depends on."""
    maximum = max(operands, default=Reach.VALUES)
    if maximum < Reach.STATES or op in KEEPS or op in SUMS or maximum is Reach.ANYTHING:
        return maximum
    factor = min(operands)
    scales = (op == ca.OP_MUL and len(operands) == 2) or (op == ca.OP_DIV and operands[1] is factor)
    return maximum if scales and factor is Reach.VALUES else Reach.ANYTHING


def reaches(inputs: Mapping[str, ca.SX], expressions: ca.SX) -> list[Reach]:
    """Of each expression; ``inputs`` are symbols by array name, as `Emitter` has them."""
    keys = list(inputs)
    tape = ca.Function("f", [inputs[k] for k in keys], [ca.densify(expressions)])
    work, reach = dict[int, Reach](), [Reach.VALUES] * expressions.numel()
    for k in range(tape.n_instructions()):
        op, out, inp = tape.instruction_id(k), tape.instruction_output(k), tape.instruction_input(k)
        if op == ca.OP_CONST:
            work[out[0]] = Reach.VALUES
        elif op == ca.OP_INPUT:
            work[out[0]] = OF_INPUT.get(keys[inp[0]], Reach.ANYTHING)
        elif op == ca.OP_OUTPUT:
            reach[out[1]] = work[inp[0]]
        else:
            work[out[0]] = reach_of(op, [work[i] for i in inp])
    return reach


def moving_part(inputs: Mapping[str, ca.SX], expressions: ca.SX) -> tuple[int, ...] | None:
    """Where expressions that are affine in the states have more in them than states and constants: the places
    whose rest moves with time or inputs. None where they are not affine."""
    if any(r is Reach.ANYTHING for r in reaches(inputs, expressions)):
        return None
    rest = reaches(inputs, without_states(inputs, expressions))
    return tuple(k for k, r in enumerate(rest) if r is not Reach.VALUES)


def without_states(inputs: Mapping[str, ca.SX], expressions: ca.SX) -> ca.SX:
    """The same where all states are zero."""
    return ca.substitute(expressions, inputs["x"], ca.SX.zeros(*inputs["x"].shape))
