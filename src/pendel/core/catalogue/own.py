"""A part whose ports, values, states and equations the user types.

Lines read ``winding: dc, u, i`` (port: link, across, through), ``ask: in, M_ask, N*m`` (a signal that comes in),
``R = 0.46 ohm`` (value), ``i = 0 A`` (state with its starting value), ``p: W`` (further unknown with its unit) and
``L*der(i) = u - R*i - k*w`` (equation). What flows through a port counts positive into the part. ``table(q, 0, 88 V, 1,
110 V)`` looks up along points.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import casadi as ca

from pendel.core.catalogue.declare import Link, Part, Port, Signal, State, Value
from pendel.core.drive.document import Card, OwnEquations
from pendel.core.equations.context import PartContext
from pendel.core.errors import DriveProblem, ExpressionProblem, SyntaxProblem, UnknownName, WrongDimension
from pendel.core.quantities.curve import rises
from pendel.core.quantities.expressions import (
    TABLE,
    Binary,
    Call,
    Measured,
    Name,
    Negative,
    Node,
    Number,
    evaluate,
    names_in,
    read,
    read_equation,
    walk,
)
from pendel.core.quantities.named import check_name
from pendel.core.quantities.units import NONE, Dimension, Turn, dimension_text, si_unit_of, turn, unit
from pendel.core.vocabulary import SignalRole

LINKS = {
    "dc": (Link.DC, "V", "A"),
    "line": (Link.LINE, "V", "A"),
    "shaft": (Link.SHAFT, "rad/s", "N·m"),
    "rod": (Link.ROD, "m/s", "N"),
    "heat": (Link.HEAT, "K", "W"),
}
INPUT = "in"
"""A signal that comes in."""
SECOND: Dimension = unit("s")[1]


@dataclass
class OwnModel:
    """The typed lines, read. ``problems`` are (section, line number, sentence)."""

    ports: dict[str, tuple[Link, str, str]] = field(default_factory=dict)
    inputs: dict[str, tuple[str, str]] = field(default_factory=dict)
    """Of signals: what comes in is called, and its unit."""
    numbers: dict[str, Measured] = field(default_factory=dict)
    """Of the values."""
    values: dict[str, str] = field(default_factory=dict)
    states: dict[str, str] = field(default_factory=dict)
    unknowns: dict[str, str] = field(default_factory=dict)
    dims: dict[str, Dimension] = field(default_factory=dict)
    units: dict[str, str] = field(default_factory=dict)
    """In SI; of what turns, in radians or in cycles as it was typed."""
    equations: list[tuple[Node, Node]] = field(default_factory=list)
    problems: list[tuple[str, int, str]] = field(default_factory=list)

    def complain(self, section: str, line: int, sentence: str) -> None:
        self.problems.append((section, line, sentence))

    def name(self, name: str, dim: Dimension, turns: Turn) -> None:
        check_name(name, units_too=True)
        if name in self.dims:
            raise DriveProblem(f"{name} is defined twice. Rename one of them.")
        self.dims[name], self.units[name] = dim, si_unit_of(dim, turns)


def read_own(own: OwnEquations, lookup: Callable[[str], Measured]) -> OwnModel:
    """Read all lines; never raises, every problem is collected with its line.

    ``lookup`` gives the drive's quantities, which values and starting values may use.
    """
    model = OwnModel()
    readers = {"ports": _read_port, "values": _read_value, "states": _read_state, "unknowns": _read_unknown}
    for section, reader in readers.items():
        for number, line in enumerate(getattr(own, section)):
            if line.strip():
                try:
                    reader(model, line, lookup)
                except (ExpressionProblem, DriveProblem) as problem:
                    model.complain(section, number, str(problem))
    for number, line in enumerate(own.equations):
        if line.strip():
            try:
                model.equations.append(_read_equation(model, line, lookup))
            except ExpressionProblem as problem:
                model.complain("equations", number, str(problem))
    missing = len(model.unknowns) + len(model.states) + len(model.ports) - len(model.equations)
    if not model.problems and missing:
        more = f"{missing} more" if missing > 0 else f"{-missing} fewer"
        model.complain(
            "equations",
            max(0, len(own.equations) - 1),
            f"{len(model.equations)} equations stand here; {len(model.ports)} ports, {len(model.states)} "
            f"states and {len(model.unknowns)} unknowns need {more}.",
        )
    return model


def _split(line: str, mark: str, example: str) -> tuple[str, str]:
    name, parted, rest = line.partition(mark)
    if not parted or not rest.strip():
        raise SyntaxProblem(line, len(line), f"write it like {example}")
    return name.strip(), rest.strip()


Lookup = Callable[[str], Measured]
"""Gives a quantity of the drive by its name."""


def _read_port(model: OwnModel, line: str, lookup: Lookup) -> None:
    name, rest = _split(line, ":", "winding: dc, u, i")
    pieces = [p.strip() for p in rest.split(",")]
    if pieces[0] == INPUT:
        _read_input(model, line, name, pieces)
        return
    if len(pieces) != 3 or pieces[0] not in LINKS:
        raise SyntaxProblem(line, 0, f"write it like winding: dc, u, i; links are {', '.join([*LINKS, INPUT])}")
    link, across_unit, through_unit = LINKS[pieces[0]]
    check_name(name)
    if name in model.ports or name in model.inputs:
        raise DriveProblem(f"The port {name} stands here twice. Rename one of them.")
    model.name(pieces[1], unit(across_unit)[1], turn(across_unit))
    model.name(pieces[2], unit(through_unit)[1], turn(through_unit))
    model.ports[name] = (link, pieces[1], pieces[2])


def _read_input(model: OwnModel, line: str, name: str, pieces: list[str]) -> None:
    if len(pieces) != 3:
        raise SyntaxProblem(line, 0, "write it like ask: in, M_ask, N*m; without a unit, 1")
    check_name(name)
    if name in model.ports or name in model.inputs:
        raise DriveProblem(f"The port {name} stands here twice. Rename one of them.")
    unit_text = "" if pieces[2] == "1" else pieces[2]
    model.name(pieces[1], unit(unit_text)[1], turn(unit_text))
    model.inputs[name] = (pieces[1], model.units[pieces[1]])


def _read_value(model: OwnModel, line: str, lookup: Lookup) -> None:
    name, text = _split(line, "=", "R = 0.46 ohm")
    quantity = evaluate(read(text), lookup, text)
    model.name(name, quantity.dim, quantity.turn)
    model.values[name], model.numbers[name] = text, quantity


def _read_state(model: OwnModel, line: str, lookup: Lookup) -> None:
    name, text = _split(line, "=", "i = 0 A")
    quantity = evaluate(read(text), lookup, text)
    model.name(name, quantity.dim, quantity.turn)
    model.states[name] = text


def _read_unknown(model: OwnModel, line: str, lookup: Lookup) -> None:
    name, text = _split(line, ":", "p: W")
    text_unit = "" if text == "1" else text
    model.name(name, unit(text_unit)[1], turn(text_unit))
    model.unknowns[name] = text


def _read_equation(model: OwnModel, line: str, lookup: Lookup) -> tuple[Node, Node]:
    left, right = read_equation(line)
    for node in (*walk(left), *walk(right)):
        if isinstance(node, Call) and node.function == "der" and not isinstance(node.arguments[0], Name):
            raise SyntaxProblem(line, line.find("der"), "der() takes the name of a state")
        if isinstance(node, Call) and node.function == TABLE:
            _check_points(model, node, line)

    def dimension(name: str) -> Measured:
        if name == "time":
            return Measured(1.37, SECOND)
        if name.startswith("der("):
            state = name[4:-1]
            if state not in model.states:
                raise UnknownName(state if state not in model.dims else name)
            return Measured(1.37, tuple(a - b for a, b in zip(model.dims[state], SECOND)))
        if name not in model.dims:
            raise UnknownName(name)
        return Measured(1.37, model.dims[name])

    left_dim, right_dim = (dimension_only(side, dimension, line) for side in (left, right))
    zero = Number(0.0)
    if left_dim != right_dim and zero not in (left, right):
        raise WrongDimension(dimension_text(right_dim), dimension_text(left_dim), "The right side")
    return left, right


def _check_points(model: OwnModel, curve: Call, line: str) -> None:
    """Places along a table are numbers and values; its heights may be anything, such as a table over something else."""

    def number(name: str) -> Measured:
        if name not in model.numbers:
            raise SyntaxProblem(
                line, line.find(TABLE), f"places along table() are numbers and values, and {name} is neither"
            )
        return model.numbers[name]

    if not rises([evaluate(node, number, line).si for node in curve.arguments[1::2]]):
        raise SyntaxProblem(line, line.find(TABLE), "the places along table() do not rise from point to point")


def dimension_only(node: Node, lookup: Callable[[str], Measured], text: str) -> Dimension:
    """Dimension of a side; the sample values keep clear of division by zero in differences such as u − u."""
    match node:
        case Binary(op, left, right):
            a, b = dimension_only(left, lookup, text), dimension_only(right, lookup, text)
            if op in "+-":
                if Number(0.0) in (left, right):
                    return b if left == Number(0.0) else a
                if a != b:
                    raise WrongDimension(dimension_text(b), dimension_text(a), f"The term {spelled(right)}")
                return a
            if op == "*":
                return tuple(x + y for x, y in zip(a, b))
            if op == "/":
                return tuple(x - y for x, y in zip(a, b))
            exponent = evaluate(right, lookup, text)
            if exponent.dim != NONE:
                raise WrongDimension(dimension_text(exponent.dim), "a plain number", "The exponent")
            return tuple(x * exponent.si for x in a)
        case Negative(operand):
            return dimension_only(operand, lookup, text)
        case Call(function, arguments) if function in ("sqrt", "abs", "sign", "min", "max"):
            dims = [dimension_only(a, lookup, text) for a in arguments]
            return tuple(x / 2 for x in dims[0]) if function == "sqrt" else NONE if function == "sign" else dims[0]
        case Call(function, arguments) if function == TABLE:
            at, *points = (dimension_only(a, lookup, text) for a in arguments)
            for k, dim in enumerate(points):
                wanted = points[1] if k % 2 else at
                if dim != wanted:
                    words = "A height of table()" if k % 2 else "A place along table()"
                    raise WrongDimension(dimension_text(dim), dimension_text(wanted), words)
            return points[1]
        case Call(function, arguments) if function != "der":
            dim = dimension_only(arguments[0], lookup, text)
            if dim != NONE:
                raise WrongDimension(dimension_text(dim), "a plain number", f"The value in {function}()")
            return NONE
    return evaluate(node, lookup, text).dim


def spelled(node: Node) -> str:
    match node:
        case Number(value, unit_text):
            return f"{value:g} {unit_text or ''}".strip()
        case Name(name):
            return name
        case Negative(operand):
            return f"−{spelled(operand)}"
        case Binary(op, left, right):
            return f"{spelled(left)}{op}{spelled(right)}"
        case Call(function, arguments):
            return f"{function}({', '.join(map(spelled, arguments))})"
    return ""


SX_FUNCTIONS: dict[str, Callable[..., ca.SX]] = {
    "sqrt": ca.sqrt,
    "sin": ca.sin,
    "cos": ca.cos,
    "tan": ca.tan,
    "atan": ca.atan,
    "exp": ca.exp,
    "log": ca.log,
    "abs": ca.fabs,
    "sign": ca.sign,
    "tanh": ca.tanh,
    "min": ca.fmin,
    "max": ca.fmax,
}


def symbolic(node: Node, symbols: dict[str, ca.SX]) -> ca.SX:
    match node:
        case Number(value, unit_text):
            return ca.SX(value * (unit(unit_text)[0] if unit_text else 1.0))
        case Name("pi"):
            return ca.SX(ca.pi)
        case Name(name):
            return symbols[name]
        case Negative(operand):
            return -symbolic(operand, symbols)
        case Call("der", (Name(name),)):
            return symbols[f"der({name})"]
        case Call(function, arguments) if function == TABLE:
            at, *points = (symbolic(a, symbols) for a in arguments)
            return along_points(at, points[::2], points[1::2])
        case Call(function, arguments):
            return SX_FUNCTIONS[function](*(symbolic(a, symbols) for a in arguments))
        case Binary(op, left, right):
            a, b = symbolic(left, symbols), symbolic(right, symbols)
            return {
                "+": lambda: a + b,
                "-": lambda: a - b,
                "*": lambda: a * b,
                "/": lambda: a / b,
                "^": lambda: a**b,
            }[op]()
    raise SyntaxProblem("", 0, "it holds something unknown")


def along_points(at: ca.SX, x: list[ca.SX], y: list[ca.SX]) -> ca.SX:
    """The curve of `pendel.core.quantities.curve`."""
    steps = [b - a for a, b in zip(x, x[1:])]
    secants = [(b - a) / h for a, b, h in zip(y, y[1:], steps)]
    slopes = [secants[0]]
    for k in range(1, len(x) - 1):
        before, after = secants[k - 1], secants[k]
        w1, w2 = 2 * steps[k] + steps[k - 1], steps[k] + 2 * steps[k - 1]
        mean = (w1 + w2) * before * after / (w1 * after + w2 * before)
        slopes.append(ca.if_else(before * after > 0, mean, 0))
    slopes.append(secants[-1])
    value = y[0] + slopes[0] * (at - x[0])
    for n, width in enumerate(steps):
        s = (at - x[n]) / width
        cubic = y[n] * (1 + 2 * s) * (1 - s) ** 2 + y[n + 1] * s * s * (3 - 2 * s)
        cubic += width * s * (1 - s) * (slopes[n] * (1 - s) - slopes[n + 1] * s)
        value = ca.if_else(at > x[n], cubic, value)
    return ca.if_else(at > x[-1], y[-1] + slopes[-1] * (at - x[-1]), value)


NAMED = {
    **{f"current_{n}": SignalRole.PHASE_CURRENT for n in "abc"},
    **{f"voltage_{n}": SignalRole.PHASE_VOLTAGE for n in "abc"},
    **{f"flux_{n}": SignalRole.FLUX_DQ for n in "dq"},
    "flux_alpha": SignalRole.FLUX_ALPHA_BETA,
    "flux_beta": SignalRole.FLUX_ALPHA_BETA,
    "angle_e": SignalRole.ROTOR_ANGLE,
    "flux_angle": SignalRole.FIELD_ANGLE,
    "copper_loss": SignalRole.COPPER_LOSS,
    "link_voltage": SignalRole.LINK_VOLTAGE,
}
"""What a state or unknown that the user typed is taken for by its name, so that a machine of one's own has
its diagrams."""


PART = "own"
"""Id of the kind."""


def own_part(card: Card) -> Part:
    """The catalogue entry that a card's own equations amount to."""
    own = card.own or OwnEquations()
    model = read_own(own, _any_quantity)
    sides = {Link.DC: "left", Link.LINE: "left", Link.SHAFT: "right", Link.ROD: "right", Link.HEAT: "top"}
    ports = []
    for place, (name, (link, _, _)) in enumerate(model.ports.items()):
        ports.append(Port(name, link, name, sides[link] if place else "left", required=True))
    for name, (_, unit_text) in model.inputs.items():
        ports.append(Port(name, Link.SIGNAL_IN, name, "bottom", unit=unit_text))
    signals = [Signal(n, n, model.units[n], role=NAMED.get(n)) for n in [*model.states, *model.unknowns]]
    for name, (_, across, through) in model.ports.items():
        signals += [
            Signal(across, across, model.units[across]),
            Signal(through, through, model.units[through]),
            Signal(f"{name}_p", f"{name} power", "W"),
        ]
    return Part(
        id=PART,
        title="Own equations",
        sentence="A part whose ports, values and equations you type.",
        group="own",
        ports=tuple(ports),
        values=tuple(Value(n, n, model.units[n], text) for n, text in model.values.items()),
        states=tuple(State(n, n, model.units[n]) for n in model.states),
        signals=tuple(signals),
        build=lambda c: _build(c, model),
        summary=lambda v, card: ("own equations", f"{len(model.equations)} equations"),
        main_signal=next(iter([*model.states, *model.unknowns]), ""),
        spine="ƒ",
        own=EXAMPLE,
    )


def _any_quantity(name: str) -> Measured:
    return Measured(1.0)


def _build(c: PartContext, model: OwnModel) -> None:
    symbols: dict[str, ca.SX] = {"time": c.time}
    absorbed = ca.SX(0)
    for port, (link, across, through) in model.ports.items():
        if link is Link.DC:
            symbols[across], symbols[through] = c.pair(port)
        elif link in (Link.LINE, Link.HEAT):
            pin = c.line(port)
            symbols[across], symbols[through] = pin.across, pin.through
        else:
            symbols[across], symbols[through] = c.flange(port)
        power = symbols[through]  # heat is one by itself, and not what the balance of energy counts
        if link is not Link.HEAT:
            power = symbols[across] * symbols[through]
            absorbed += power
        c.signal(across, symbols[across])
        c.signal(through, symbols[through])
        c.signal(f"{port}_p", power)
    for port, (name, _) in model.inputs.items():
        symbols[name] = c.input(port)
    for name in model.values:
        symbols[name] = c.value(name)
    for name in model.states:
        symbols[name], symbols[f"der({name})"] = c.state(name)
        c.signal(name, symbols[name])
    for name in model.unknowns:
        symbols[name] = c.unknown(name)
        c.signal(name, symbols[name])
    for left, right in model.equations:
        c.equation(symbolic(left, symbols) - symbolic(right, symbols))
    c.lost(absorbed, to="")


EXAMPLE = OwnEquations(
    ports=("winding: dc, u, i_w", "shaft: shaft, w_s, M"),
    values=("R = 0.46 ohm", "L = 0.61 mH", "k = 0.108 N*m/A", "J = 1.9e-4 kg*m^2"),
    states=("i = 0 A", "w = 0 rad/s"),
    equations=("i_w = i", "w_s = w", "L*der(i) = u - R*i - k*w", "J*der(w) = k*i + M"),
)

TEMPLATE = Part(
    id=PART,
    title="Own equations",
    sentence="A part whose ports, values and equations you type.",
    group="own",
    keywords="user formula custom battery machine load equation",
    own=EXAMPLE,
    build=lambda c: None,
)

__all__ = ["EXAMPLE", "LINKS", "OwnModel", "TEMPLATE", "names_in", "own_part", "read_own"]
