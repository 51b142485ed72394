"""Blocks whose ports, values and update the user types: in the block language, as a state machine, as matrices
(`own_matrices`), or in C.

Lines read ``x: in`` and ``y: out, V`` (ports, with a unit if wished), ``K = 2 V/A`` (value), ``n = 0`` (a
number that is remembered, with its start). The update assigns outputs and remembered numbers once a period of
``dt`` seconds. A state machine's lines are ``run: enable = 1; level = K`` (a mode, and what it does each
period) and ``idle -> run: start > 0.5`` (when it changes, tried in order); ``elapsed`` is the time in the
mode (s), and the first mode named is where it starts. A change by ``elapsed`` comes at the first period at or after
its time, with ``>`` as with ``>=``."""

from __future__ import annotations

import ast
import math
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from functools import lru_cache
from typing import Any

from pendel.core.catalogue import own_matrices
from pendel.core.catalogue.control.ports import EVERY
from pendel.core.catalogue.declare import ANY, Block, Link, Port, Value, Values
from pendel.core.controllers.c_names import identifier
from pendel.core.controllers.language import (
    ACTIONS,
    INTRINSICS,
    MEMORY,
    LanguageProblem,
    Update,
    parse_update,
)
from pendel.core.controllers.own_c import CheckedC, CProblem, read_c
from pendel.core.drive.document import Card, OwnEquations
from pendel.core.drive.findings import Finding, fault
from pendel.core.errors import DriveProblem, ExpressionProblem
from pendel.core.quantities.expressions import Measured, evaluate, read
from pendel.core.quantities.named import check_name
from pendel.core.quantities.units import NONE, figure, si_unit_of, unit
from pendel.core.vocabulary import SignalRole
from pendel.core.wording import sentence_case

Lookup = Callable[[str], Measured]
LANGUAGE, MODES, MATRICES, C = "own_block", "own_modes", "own_matrices", "own_c"
INTRINSICS_SHOWN = [
    n
    for n in INTRINSICS
    if n in ("saturate", "absolute", "floor", "sqrt", "sin", "cos", "atan2", "minimum", "maximum", "wrapped")
]
INDENT = "    "
TICKS = "elapsed_ticks"
"""Periods in a state machine's mode: ``elapsed`` is so many times ``dt``, since a sum of times would round."""
AT_OR_AFTER = 1.000000001
"""Times ``elapsed``, so that a change comes at the first period at or after its time however that was rounded."""
ELAPSED = re.compile(r"\belapsed\b")
TAKEN = frozenset(
    {*INTRINSICS, *ACTIONS, *MEMORY, "dt", "started", "every", "mode", "elapsed", TICKS, "b", "real_t"}
    | {"word_t", "wide_t", "moved"}
)
"""Names that mean something already."""
ARROW = re.compile(r"^\s*(\w+)\s*->\s*(\w+)\s*:\s*(.+)$")
STATE = re.compile(r"^\s*(\w+)\s*:\s*(.*)$")


@dataclass
class BlockModel:
    """The typed lines, read. ``problems`` are (section, line number, sentence)."""

    in_c: bool = False
    inputs: dict[str, str] = field(default_factory=dict)
    outputs: dict[str, str] = field(default_factory=dict)
    values: dict[str, tuple[str, str]] = field(default_factory=dict)
    """Text and unit of each value."""
    states: dict[str, float] = field(default_factory=dict)
    modes: list[str] = field(default_factory=list)
    update: Update | None = None
    problems: list[tuple[str, int, str]] = field(default_factory=list)

    @property
    def names(self) -> set[str]:
        return {*self.inputs, *self.outputs, *self.values, *self.states}

    def complain(self, section: str, line: int, sentence: str) -> None:
        self.problems.append((section, line, sentence))


def read_block(own: OwnEquations, kind: str, lookup: Lookup) -> BlockModel:
    """Read all lines; never raises, every problem is collected with its line."""
    model = BlockModel(in_c=kind == C)
    if kind == MATRICES and any(line.strip() for line in (*own.values, *own.states)):
        model.complain("ports", 0, "Matrices have no values of their own. Write quantities of the drive into them.")
    for section, reader in (("ports", _read_port), ("values", _read_value), ("states", _read_state)):
        for number, line in enumerate(getattr(own, section)):
            if line.strip():
                try:
                    reader(model, line, lookup)
                except (ExpressionProblem, DriveProblem) as problem:
                    model.complain(section, number, str(problem))
    if not model.outputs and kind != MODES:
        model.complain("ports", max(0, len(own.ports) - 1), "The block has no output. Add a line such as y: out.")
    if not model.problems:
        if kind == C:
            _read_c(model, own)
        elif kind == MATRICES:
            _read_matrices(model, own.equations, lookup)
        else:
            {LANGUAGE: _read_update, MODES: _read_modes}[kind](model, own.equations)
    return model


def _new_name(model: BlockModel, name: str) -> str:
    check_name(name, units_too=True)
    if name in TAKEN:
        raise DriveProblem(f"{name} means something already. Choose a different name.")
    if model.in_c and name != identifier(name):
        raise DriveProblem(f"{name} means something else in C, or is no name there. Choose a different name.")
    if name in model.names:
        raise DriveProblem(f"{name} is defined twice. Rename one of them.")
    return name


def _read_port(model: BlockModel, line: str, lookup: Lookup) -> None:
    name, parted, rest = (part.strip() for part in line.partition(":"))
    way, _, unit_text = (part.strip() for part in rest.partition(","))
    if not parted or way not in ("in", "out"):
        raise DriveProblem(f"“{line.strip()}” names no port. Write it like x: in or y: out, V.")
    if unit_text:
        unit(unit_text)
    (model.inputs if way == "in" else model.outputs)[_new_name(model, name)] = unit_text or ANY


def _read_value(model: BlockModel, line: str, lookup: Lookup) -> None:
    name, parted, text = (part.strip() for part in line.partition("="))
    if not parted or not text:
        raise DriveProblem(f"“{line.strip()}” gives no value. Write it like K = 2 V/A.")
    value = evaluate(read(text), lookup, text)
    model.values[_new_name(model, name)] = (
        text,
        si_unit_of(value.dim, value.turn) if value.dim != NONE else "",
    )


def _read_state(model: BlockModel, line: str, lookup: Lookup) -> None:
    name, parted, text = (part.strip() for part in line.partition("="))
    if not parted:
        raise DriveProblem(f"“{line.strip()}” has no start. Write it like n = 0.")
    model.states[_new_name(model, name)] = evaluate(read(text), lookup, text).si


def _arguments(model: BlockModel, more: Sequence[str] = ()) -> str:
    names = [*model.inputs, *model.outputs, *model.values, *model.states, *more, "started", "dt"]
    return ", ".join(dict.fromkeys(names))


def _starting(model: BlockModel) -> list[str]:
    """Sets what is remembered to its start in the first period; memory begins at zero by itself."""
    begun = {n: v for n, v in model.states.items() if v != 0}
    if not begun:
        return []
    return [
        "if started < 0.5:",
        *(f"{INDENT}{n} = {v!r}" for n, v in begun.items()),
        f"{INDENT}started = 1.0",
    ]


def _parsed(model: BlockModel, lines: Sequence[str], origin: Sequence[int], more: Sequence[str] = ()) -> None:
    """Parse generated lines; ``origin`` tells for each the typed line it came from."""
    begin = _starting(model)
    body = [*begin, *lines] or ["started = 1.0"]
    text = f"def update({_arguments(model, more)}):\n" + "\n".join(INDENT + line for line in body)

    def typed(at: int) -> int:
        k = at - 2 - len(begin)
        return origin[min(max(k, 0), len(origin) - 1)] if origin else 0

    try:
        model.update = parse_update(text)
    except SyntaxError as problem:
        model.complain("equations", typed(problem.lineno or 0), f"This cannot be read: {problem.msg}.")
    except LanguageProblem as problem:
        model.complain("equations", typed(problem.line), f"{problem.reason}.")
    if model.update is not None:
        for name in sorted(_assigned(model.update) & {*model.inputs, *model.values, "dt"}):
            model.complain("equations", 0, f"{name} is given from outside and cannot be assigned.")


def _assigned(update: Update) -> set[str]:
    nodes = (node for statement in update.body for node in ast.walk(statement) if isinstance(node, ast.Assign))
    return {t.id for node in nodes for t in node.targets if isinstance(t, ast.Name)}


def _read_update(model: BlockModel, lines: Sequence[str]) -> None:
    kept = [(n, line.replace("\t", INDENT).rstrip()) for n, line in enumerate(lines) if line.strip()]
    if not kept:
        model.complain("equations", 0, "The update is empty. Assign the outputs, such as y = K * x.")
        return
    _parsed(model, [line for _, line in kept], [n for n, _ in kept])


def modes_in(own: OwnEquations) -> tuple[list[str], list[tuple[str, str, str]]]:
    """Names of a state machine's modes in order, and its changes: from, to, by what, as written."""
    changes = [match.groups() for line in own.equations if (match := ARROW.match(line))]
    names = [match[1] for line in own.equations if not ARROW.match(line) and (match := STATE.match(line))]
    return list(dict.fromkeys(names)), [(a, b, condition.strip()) for a, b, condition in changes]


def _read_modes(model: BlockModel, lines: Sequence[str]) -> None:
    does: dict[str, tuple[int, list[str]]] = {}
    changes: list[tuple[int, str, str, str]] = []
    for number, line in enumerate(lines):
        if not line.strip():
            continue
        if arrow := ARROW.match(line):
            changes.append((number, arrow[1], arrow[2], arrow[3]))
        elif state := STATE.match(line):
            name, actions = state.groups()
            if name in does:
                model.complain("equations", number, f"The mode {name} stands here twice. Rename one of them.")
            does[name] = (number, [a.strip() for a in actions.split(";") if a.strip()])
        else:
            model.complain(
                "equations",
                number,
                "Write a mode like run: enable = 1, or a change like idle -> run: start > 0.5.",
            )
    model.modes = list(does)
    if len(does) < 2:
        model.complain("equations", 0, "A state machine has two modes at least. Write them like idle: enable = 0.")
    for name, (number, actions) in does.items():
        if any(re.match(r"elapsed\s*=", action) for action in actions):
            model.complain("equations", number, f"{name} cannot assign elapsed, which is the time in the mode.")
    for number, *ends, _ in changes:
        for end in (e for e in ends if e not in does):
            model.complain("equations", number, f"There is no mode {end}. It has {', '.join(does)}.")
    reached = {model.modes[0] if model.modes else "", *(b for _, _, b, _ in changes)}
    for name, (number, _) in does.items():
        if name not in reached:
            model.complain("equations", number, f"No change leads to the mode {name}. Add one, or delete the mode.")
    if model.problems:
        return
    model.outputs["mode"] = ""
    text, origin = [], []

    def emit(line: str, number: int) -> None:
        text.append(ELAPSED.sub(f"({TICKS} * dt * {AT_OR_AFTER})", line))
        origin.append(number)

    for place, name in enumerate(model.modes):
        leaving = [c for c in changes if c[1] == name]
        emit(f"{'if' if place == 0 else 'elif'} mode < {place + 0.5}:", does[name][0])
        for k, (number, _, target, condition) in enumerate(leaving):
            emit(f"{INDENT}{'if' if k == 0 else 'elif'} {condition}:", number)
            emit(f"{INDENT * 2}mode = {float(model.modes.index(target))}", number)
            emit(f"{INDENT * 2}{TICKS} = 0.0", number)
        if not leaving:
            emit(f"{INDENT}mode = {float(place)}", does[name][0])
    for place, name in enumerate(model.modes):
        number, actions = does[name]
        emit(f"{'if' if place == 0 else 'elif'} mode < {place + 0.5}:", number)
        for action in actions or [f"mode = {float(place)}"]:
            emit(INDENT + action, number)
    emit(f"{TICKS} = {TICKS} + 1.0", 0)
    _parsed(model, text, origin, (TICKS,))


def _read_matrices(model: BlockModel, lines: Sequence[str], lookup: Lookup) -> None:
    """Each entry is a value of the block, by its matrix, row and column."""
    for name in model.names:
        if own_matrices.RESERVED.fullmatch(name):
            model.complain(
                "ports", 0, f"{name} is what the block calls one of its own numbers. Choose a different name."
            )
    found = own_matrices.read_matrices(tuple(lines), len(model.inputs), len(model.outputs))
    for number, sentence in found.problems:
        model.complain("equations", number, sentence)
    if model.problems:
        return
    at = {match[1]: n for n, line in enumerate(lines) if (match := own_matrices.LINE.match(line))}
    for (matrix, row, column), text in found.entries.items():
        try:
            evaluate(read(text), lookup, text)
        except ExpressionProblem as problem:
            model.complain("equations", at[matrix], f"Row {row}, column {column} of {matrix}: {problem}")
        model.values[f"{matrix}_{row}_{column}"] = (text, ANY)
    update, names = own_matrices.update_lines(found, list(model.inputs), list(model.outputs))
    if not model.problems:
        _parsed(model, update, [], names)


def _coefficients(values: Values, card: Card, period: float) -> dict[str, float]:
    own = card.own or OwnEquations()
    model = read_block(own, MATRICES, _any_quantity)
    inputs, outputs = len(model.inputs), len(model.outputs)
    if model.problems:
        return {}
    found = own_matrices.read_matrices(own.equations, inputs, outputs)
    return own_matrices.coefficients(found, values, inputs, outputs, period)


def _follows_growth(card: Card, key: str, result: Any) -> list[Finding]:
    """A mode that grows by more than e² within a period has no counterpart by Tustin's rule."""
    own, values = card.own or OwnEquations(), result.values.get(key, {})
    model = read_block(own, MATRICES, _any_quantity)
    if model.problems or not all(map(math.isfinite, values.values())):
        return []
    found = own_matrices.read_matrices(own.equations, len(model.inputs), len(model.outputs))
    period = result.settings.get("tick", math.nan) * values.get(EVERY.name, 1.0)
    growth = own_matrices.fastest_growth(found, values)
    if found.sampled or not growth * period >= 2.0:
        return []
    words = f"a mode of A grows at {figure(growth, '1/s', 3)}, which a period of {figure(period, 's', 3)} cannot follow"
    at = next(n for n, line in enumerate(own.equations) if line.strip().startswith("A"))
    return [
        fault(f"{card.name}: {words}. Run the block more often, or look at the signs of A.", key, f"equations:{at}")
    ]


def _read_c(model: BlockModel, own: OwnEquations) -> None:
    lines = own.equations
    if not "".join(lines).strip():
        model.complain("equations", 0, "The update is empty. Assign the outputs, such as y = K * x;")
        return
    try:
        typed = read_c(lines)
    except CProblem as problem:
        model.complain("equations", problem.line, f"{problem}.")
        return
    in_words = {}
    for section in ("convert", "words"):
        try:
            in_words[section] = read_c(getattr(own, section))
        except CProblem as problem:
            model.complain(section, problem.line, f"{problem}.")
            return
    if in_words["convert"].strip() and not in_words["words"].strip():
        model.complain("words", 0, "Values are converted, but there is no update in words. Write one.")
        return
    # On the first line, so that the compiler counts lines as they were typed.
    begin = CheckedC("".join(f"{line} " for line in _starting_c(model)) + typed)
    arguments = tuple(_arguments(model).split(", "))
    model.update = Update("update", arguments, (), (), "", begin, in_words["convert"], in_words["words"])


def _starting_c(model: BlockModel) -> list[str]:
    begun = {n: v for n, v in model.states.items() if v != 0}
    return (
        [f"if (started < 0.5f) {{ {' '.join(f'{n} = (real_t){v!r};' for n, v in begun.items())} started = 1; }}"]
        if begun
        else []
    )


def framed(own: OwnEquations, kind: str, lookup: Lookup) -> OwnEquations:
    """Typed lines with what is missing for a block that can be built: in each update, outputs that nothing
    assigns give 0, and in C there is one in words; a state machine without modes gets two. What was typed stays
    as it is.

    Raises
    ------
    DriveProblem
        where ports, values or what is remembered cannot be read, or there is no output yet.
    """
    model = read_block(replace(own, equations=(), convert=(), words=()), kind, lookup)
    wrong = [(s, n, why) for s, n, why in model.problems if s in ("ports", "values", "states")]
    if wrong:
        raise DriveProblem(f"{sentence_case(wrong[0][0])}, line {wrong[0][1] + 1}: {wrong[0][2]}")
    if kind == MATRICES:
        return own if any(line.strip() for line in own.equations) else replace(own, equations=_first_gain(model))
    if kind == MODES:
        return own if any(line.strip() for line in own.equations) else replace(own, equations=_two_modes(model))
    end = ";" if kind == C else ""
    remark = "  /* what it gives */" if kind == C else "  # what it gives"

    def with_outputs(lines: tuple[str, ...]) -> tuple[str, ...]:
        text = "\n".join(lines)
        missing = [n for n in model.outputs if not re.search(rf"\b{n}\s*([-+*/]|<<|>>)?=(?!=)", text)]
        return (*(line for line in lines if line.strip()), *(f"{n} = 0{end}{remark}" for n in missing))

    block = replace(own, equations=with_outputs(own.equations))
    return replace(block, words=with_outputs(own.words)) if kind == C else block


def _first_gain(model: BlockModel) -> tuple[str, ...]:
    """A gain of 1 from each input to the output of its place."""
    rows = (
        ", ".join("1" if r == c or not model.inputs else "0" for c in range(max(1, len(model.inputs))))
        for r in range(len(model.outputs))
    )
    return (f"D = {'; '.join(rows)}",)


def _two_modes(model: BlockModel) -> tuple[str, ...]:
    """Modes to begin with: they change by the first input, else every second."""
    gives = "; ".join(f"{name} = 0" for name in model.outputs)
    ask = next(iter(model.inputs), "")
    there, back = (f"{ask} > 0.5", f"{ask} < 0.5") if ask else ("elapsed > 1", "elapsed > 1")
    return (f"idle: {gives}", f"run: {gives}", f"idle -> run: {there}", f"run -> idle: {back}")


def _any_quantity(name: str) -> Measured:
    return Measured(1.0)


def block_of(card: Card) -> Block:
    """The catalogue entry that a card's own lines amount to."""
    return _block_of(card.kind, card.own or OwnEquations())


@lru_cache(maxsize=200)
def _block_of(kind: str, own: OwnEquations) -> Block:
    template = TEMPLATES[kind]
    model = read_block(own, kind, _any_quantity)
    ports = [
        *(Port(n, Link.SIGNAL_IN, n, "right", u) for n, u in model.inputs.items()),
        *(Port(n, Link.SIGNAL_OUT, n, "left", u, role=NAMED.get(n)) for n, u in model.outputs.items()),
    ]
    size = {
        LANGUAGE: "own update",
        C: "own C",
        MODES: f"{len(model.modes)} modes",
        MATRICES: f"{len(model.outputs)} by {len(model.inputs)}",
    }[kind]
    return Block(
        id=kind,
        title=template.title,
        sentence=template.sentence,
        group=template.group,
        ports=tuple(ports),
        values=(*(Value(n, n, u, text) for n, (text, u) in model.values.items()), EVERY),
        update=model.update or parse_update("def update(started, dt):\n    started = 1.0"),
        derive=_coefficients if kind == MATRICES else None,
        rules=(_follows_growth,) if kind == MATRICES else (),
        summary=lambda v, card: (size,),
        mark=template.mark,
        own=template.own,
        passes_unit=False,  # what is typed may make of it what it likes
        lone=True,
    )


EXAMPLES = {
    LANGUAGE: OwnEquations(
        ports=("x: in", "y: out"),
        values=("rise = 2",),
        states=("last = 0",),
        equations=("step = saturate(x - last, -rise * dt, rise * dt)", "last = last + step", "y = last"),
    ),
    MODES: OwnEquations(
        ports=("start: in", "fault: in", "enable: out", "level: out"),
        values=("wait = 0.2 s", "top = 1"),
        equations=(
            "idle: enable = 0; level = 0",
            "charge: enable = 0; level = 0",
            "run: enable = 1; level = top",
            "idle -> charge: start > 0.5",
            "charge -> run: elapsed > wait",
            "charge -> idle: start < 0.5",
            "run -> idle: start < 0.5 or fault > 0.5",
        ),
    ),
    MATRICES: OwnEquations(
        ports=("u: in", "w: in", "y: out", "z: out"),
        equations=("A = -100, 20; -20, -100", "B = 100, 0; 0, 100", "C = 1, 0; 0, 1"),
    ),
    C: OwnEquations(
        ports=("x: in", "y: out"),
        values=("T = 5 ms",),
        states=("kept = 0", "part = 0"),
        equations=("part = dt / (T + dt);", "kept += part * (x - kept);", "y = kept;"),
        convert=("part = (wide_t)(dt / (T + dt) * 16384);  /* in steps of 2^-14 */",),
        words=(
            "kept += part * (x - moved(kept, 14));  /* 14 digits more than x */",
            "y = moved(kept, 14 + x_q - y_q);",
        ),
    ),
}


def template(id: str, title: str, sentence: str, keywords: str, mark: str) -> Block:
    return Block(
        id=id,
        title=title,
        sentence=sentence,
        group="own",
        keywords=keywords,
        mark=mark,
        own=EXAMPLES[id],
        values=(EVERY,),
        update=parse_update("def update(started, dt):\n    started = 1.0"),
    )


NAMED = {"sector": SignalRole.SECTOR}
"""What an output is taken for by its name."""
TEMPLATES = {
    each.id: each
    for each in (
        template(
            LANGUAGE,
            "Own block",
            "A block whose ports, values and update you type.",
            "user code custom formula language update",
            "ƒ",
        ),
        template(
            MODES,
            "State machine",
            "Operating modes: what each does, and when it changes to another.",
            "modes states conditions actions sequence logic operating statechart",
            "1→2",
        ),
        template(
            MATRICES,
            "State space by matrices",
            "A linear block of any order with several inputs and outputs: x' = A·x + B·u, y = C·x + D·u.",
            "multivariable mimo linear observer controller matrix abcd several inputs outputs",
            "A B",
        ),
        template(
            C,
            "Own block in C",
            "A block whose update you type in C; it runs on this computer too.",
            "user code custom c function update",
            "C",
        ),
    )
}
