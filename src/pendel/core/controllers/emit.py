"""Readable C of a control deck in a chosen number format: one source, one header, no globals, no allocation."""

from __future__ import annotations

import ast
import copy
import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from enum import Enum
from functools import lru_cache

from pendel.core.controllers.deck import BlockInstance, ControlDeck, Part, Step
from pendel.core.controllers.language import MEMORY, Update, names_in


class NumberFormat(Enum):
    FLOAT64 = "double"
    FLOAT32 = "float"

    def literal(self, value: float) -> str:
        if self is NumberFormat.FLOAT32:
            text = f"{value:.9g}"
            return (text if any(c in text for c in ".en") else text + ".0") + "f"
        return repr(float(value))


@dataclass(frozen=True)
class Source:
    header: str
    source: str
    example: str


class Writer:
    """C of expressions and statements of one update; ``names`` maps its names to C."""

    def __init__(self, update: Update, number: NumberFormat):
        self.update, self.number = update, number
        self.fields = {a: f"b->{a}" for a in update.arguments}

    def expression(self, node: ast.expr) -> str:
        match node:
            case ast.Constant(value=int() | float() as value):
                return self.number.literal(float(value))
            case ast.Name(id=name):
                return self.fields.get(name, name)
            case ast.UnaryOp(op=ast.USub(), operand=operand):
                return f"-{self.inner(operand)}"
            case ast.UnaryOp(op=ast.Not(), operand=operand):
                return f"!({self.expression(operand)})"
            case ast.BinOp(left=left, op=op, right=right):
                sign = {ast.Add: "+", ast.Sub: "-", ast.Mult: "*", ast.Div: "/"}[type(op)]
                tight = isinstance(op, ast.Mult | ast.Div)
                return f"{self.operand(left, tight, False)} {sign} {self.operand(right, tight, not isinstance(op, ast.Add | ast.Mult))}"
            case ast.BoolOp(op=op, values=values):
                sign = " && " if isinstance(op, ast.And) else " || "
                return sign.join(f"({self.expression(v)})" for v in values)
            case ast.Compare(left=left, ops=[op], comparators=[right]):
                sign = {ast.Lt: "<", ast.LtE: "<=", ast.Gt: ">", ast.GtE: ">="}[type(op)]
                return f"{self.expression(left)} {sign} {self.expression(right)}"
            case ast.IfExp(test=test, body=body, orelse=orelse):
                return f"({self.expression(test)}) ? {self.inner(body)} : {self.inner(orelse)}"
            case ast.Call(func=ast.Name(id=name), args=args):
                return f"{name}({', '.join(self.argument(a) for a in args)})"
        raise AssertionError(ast.dump(node))  # the checker admits nothing else

    def argument(self, node: ast.expr) -> str:
        if isinstance(node, ast.Name) and node.id in MEMORY:
            return f"&b->{node.id}"
        return self.expression(node)

    def operand(self, node: ast.expr, tight: bool, after: bool) -> str:
        wraps = isinstance(node, ast.IfExp | ast.Compare | ast.BoolOp)
        if isinstance(node, ast.BinOp):
            weak = isinstance(node.op, ast.Add | ast.Sub)
            wraps = (tight and weak) or (after and (weak or tight))
        text = self.expression(node)
        return f"({text})" if wraps else text

    def inner(self, node: ast.expr) -> str:
        text = self.expression(node)
        return text if isinstance(node, ast.Name | ast.Constant | ast.Call) else f"({text})"

    def statements(self, body: Sequence[ast.stmt], indent: int, known: set[str]) -> list[str]:
        pad, lines = "    " * indent, []
        for node in body:
            if isinstance(node, ast.If):
                lines += self.branches(node, indent, known)
            elif isinstance(node, ast.Expr):
                lines.append(f"{pad}{self.expression(node.value)};")
            elif isinstance(node, ast.Assign) and isinstance(node.targets[0], ast.Name):
                name = node.targets[0].id
                declare = "real_t " if name not in self.fields and name not in known else ""
                known.add(name)
                lines.append(f"{pad}{declare}{self.fields.get(name, name)} = {self.expression(node.value)};")
        return lines

    def branches(self, node: ast.If, indent: int, known: set[str]) -> list[str]:
        pad = "    " * indent
        lines = [
            f"{pad}if ({self.expression(node.test)}) {{",
            *self.statements(node.body, indent + 1, set(known)),
        ]
        rest = node.orelse
        while len(rest) == 1 and isinstance(rest[0], ast.If):
            lines += [
                f"{pad}}} else if ({self.expression(rest[0].test)}) {{",
                *self.statements(rest[0].body, indent + 1, set(known)),
            ]
            rest = rest[0].orelse
        if rest:
            lines += [f"{pad}}} else {{", *self.statements(rest, indent + 1, set(known))]
        return [*lines, f"{pad}}}"]


LICENCE = "Made by Pendel from your drive. This code is yours, free of any condition."

INTRINSIC_C = {
    "saturate": "static real_t saturate(real_t x, real_t low, real_t high)\n{\n    return x < low ? low : (x > high ? high : x);\n}\n",
    "absolute": "static real_t absolute(real_t x)\n{\n    return x < 0 ? -x : x;\n}\n",
    "minimum": "static real_t minimum(real_t a, real_t b)\n{\n    return a < b ? a : b;\n}\n",
    "maximum": "static real_t maximum(real_t a, real_t b)\n{\n    return a > b ? a : b;\n}\n",
    "wrapped": "/* an angle (rad) between -pi and pi */\n"
    "static real_t wrapped(real_t angle)\n{\n    const real_t turn = (real_t)6.283185307179586;\n    return angle - turn * floor(angle / turn + (real_t)0.5);\n}\n",
    "delayed": "/* x as it was some periods ago; a fraction of a period is interpolated */\n"
    "static real_t delayed(line_t *line, real_t x, real_t periods)\n{\n    int whole = (int)periods;\n    real_t part = periods - (real_t)whole;\n"
    "    real_t a, b;\n    line->past[line->at] = x;\n    if (whole > LINE_LENGTH - 2) {\n        whole = LINE_LENGTH - 2;\n    }\n"
    "    a = line->past[(line->at + LINE_LENGTH - whole) % LINE_LENGTH];\n    b = line->past[(line->at + LINE_LENGTH - whole - 1) % LINE_LENGTH];\n"
    "    line->at = (line->at + 1) % LINE_LENGTH;\n    return a + part * (b - a);\n}\n",
    "recalled": "/* what was remembered some periods ago */\n"
    "static real_t recalled(const line_t *line, real_t periods)\n{\n    return line->past[(line->at + LINE_LENGTH - (int)periods) % LINE_LENGTH];\n}\n",
    "remember": "static void remember(line_t *line, real_t x)\n{\n    line->past[line->at] = x;\n    line->at = (line->at + 1) % LINE_LENGTH;\n}\n",
    "interpolated": "static real_t interpolated(const table_t *table, real_t x)\n{\n    int k = 0;\n    real_t dx;\n    if (table->count == 0) {\n        return 0;\n    }\n"
    "    if (x < table->x[0]) {\n        return table->y[0];\n    }\n    while (k < table->count - 1 && x >= table->x[k + 1]) {\n        k++;\n    }\n"
    "    if (k == table->count - 1) {\n        return table->y[k];\n    }\n    dx = table->x[k + 1] - table->x[k];\n    return table->y[k] + (table->y[k + 1] - table->y[k]) * (x - table->x[k]) / dx;\n}\n",
    "mapped": "/* one layer of a map at (x, y), straight between its points and level beyond; the first column holds both sizes and axes */\n"
    "static real_t mapped(const table_t *table, real_t layer, real_t x, real_t y)\n{\n    int nx = (int)table->x[0], ny = (int)table->x[1], i = 0, j = 0;\n"
    "    const real_t *ax = table->x + 2, *ay = ax + nx, *z = table->y + (int)layer * nx * ny;\n    real_t s, t;\n"
    "    while (i < nx - 2 && x >= ax[i + 1]) {\n        i++;\n    }\n    while (j < ny - 2 && y >= ay[j + 1]) {\n        j++;\n    }\n"
    "    s = (x - ax[i]) / (ax[i + 1] - ax[i]);\n    t = (y - ay[j]) / (ay[j + 1] - ay[j]);\n    s = s < 0 ? 0 : (s > 1 ? 1 : s);\n    t = t < 0 ? 0 : (t > 1 ? 1 : t);\n    z += i * ny + j;\n"
    "    return (1 - s) * ((1 - t) * z[0] + t * z[1]) + s * ((1 - t) * z[ny] + t * z[ny + 1]);\n}\n",
    "normal": "/* normal deviate: xorshift64* (Vigna 2016) and the Box-Muller transform */\nstatic real_t normal(uint64_t *rng)\n{\n    double u[2];\n    int k;\n    for (k = 0; k < 2; k++) {\n"
    "        *rng ^= *rng >> 12;\n        *rng ^= *rng << 25;\n        *rng ^= *rng >> 27;\n        u[k] = ((double)((*rng * UINT64_C(2685821657736338717)) >> 11) + 0.5) / 9007199254740992.0;\n    }\n"
    "    return (real_t)(sqrt(-2.0 * log(u[0])) * cos(6.283185307179586 * u[1]));\n}\n",
}  # fmt: skip
LIBRARY = {"floor": "floorf", "sqrt": "sqrtf", "sin": "sinf", "cos": "cosf", "atan2": "atan2f"}
MEMORY_C = {"line": "line_t line;", "rng": "uint64_t rng;", "table": "table_t table;"}
TYPES_C = {
    "line": "#define LINE_LENGTH 258\n\ntypedef struct {\n    real_t past[LINE_LENGTH];\n    int at;\n} line_t;\n",
    "table": "typedef struct {\n    const real_t *x;\n    const real_t *y;\n    int count;\n} table_t;\n",
}


@lru_cache(maxsize=256)
def calls_in(code: Update) -> frozenset[str]:
    if code.verbatim:
        return frozenset(re.findall(r"\b[a-z_]\w*(?=\s*\()", code.verbatim))
    calls = [n for statement in code.body for n in ast.walk(statement) if isinstance(n, ast.Call)]
    return frozenset(n.func.id for n in calls if isinstance(n.func, ast.Name))


def intrinsics_used(deck_blocks: Sequence[BlockInstance]) -> set[str]:
    used = set[str]().union(*(calls_in(block.code) for block in deck_blocks))
    return used | {"floor"} if "wrapped" in used else used


@dataclass(frozen=True)
class Emission:
    """How a deck is written: number format, and whether sensors are part of it (simulation) or inputs (target)."""

    deck: ControlDeck
    number: NumberFormat
    with_sensors: bool

    @property
    def blocks(self) -> list[BlockInstance]:
        return [b for b in self.deck.blocks if self.with_sensors or not b.sensor]

    @property
    def steps(self) -> list[Step]:
        return [s for s in self.deck.steps if self.with_sensors or not self.deck.block(s.block).sensor]

    @property
    def inputs(self) -> list[str]:
        """Signals from outside that the blocks read, in order of first use."""
        inside = {f"{b.name}.{p}" for b in self.blocks for p in b.outputs}
        found = [s for b in self.blocks for s in b.sources.values() if s and s not in inside]
        return list(dict.fromkeys(found))

    @property
    def values(self) -> list[tuple[str, str]]:
        return [(b.name, v) for b in self.blocks for v in (*b.used_values, "dt")]


def identifier(signal: str) -> str:
    return signal.replace(".", "_")


def block_structs(em: Emission) -> str:
    parts, seen = [], set()
    for block in em.blocks:
        if block.kind in seen:
            continue
        seen.add(block.kind)
        rows = [
            f"    real_t {', '.join(block.inputs)};" if block.inputs else "",
            f"    real_t {', '.join(block.outputs)};",
        ]
        rows.append(f"    real_t {', '.join((*block.used_values, 'dt'))};")
        rows += [f"    real_t {', '.join(block.states)};"] if block.states else []
        rows += [f"    {MEMORY_C[m]}" for m in block.code.memory]
        parts.append("typedef struct {\n" + "\n".join(r for r in rows if r) + f"\n}} {block.kind}_t;\n")
    return "\n".join(parts)


def header(em: Emission) -> str:
    name = em.deck.name
    guard = f"{name.upper()}_H"
    memory = {m for b in em.blocks for m in b.code.memory}
    types = "\n".join(TYPES_C[m] for m in ("line", "table") if m in memory)
    inputs = "".join(f"    real_t {identifier(s)};\n" for s in em.inputs)
    outputs = "".join(f"    real_t {identifier(p)};\n" for p in em.deck.commands)
    blocks = "".join(f"    {b.kind}_t {b.name};\n" for b in em.blocks)
    return (
        f"/* {name}.h: controller, all values in SI units.\n * {LICENCE}\n */\n#ifndef {guard}\n#define {guard}\n\n#include <stdint.h>\n\n"
        f"typedef {em.number.value} real_t;\n\n{types}\n{block_structs(em)}\n"
        f"/* What is measured at each tick. */\ntypedef struct {{\n{inputs or '    real_t unused;' + chr(10)}}} {name}_in_t;\n\n"
        f"/* What goes to the power stage. */\ntypedef struct {{\n{outputs or '    real_t unused;' + chr(10)}}} {name}_out_t;\n\n"
        f"typedef struct {{\n    uint32_t tick;\n    {name}_in_t in;\n    {name}_out_t out;\n{blocks}}} {name}_t;\n\n"
        f"void {name}_init({name}_t *c);\n\n/* Call every {em.deck.tick * 1e6:g} us after filling c->in; then use c->out. */\nvoid {name}_tick({name}_t *c);\n\n#endif\n"
    )


def update_functions(block: BlockInstance, number: NumberFormat, *, split: bool) -> str:
    """The update of a kind; where a loop needs it, in its two halves."""
    if not split:
        return update_function(block.kind, block.code, "update", number)
    give, take = block.code.halves(block.holds)
    note = "Gives the output first and takes the input in later, since it stands in a loop."
    return "\n".join(
        (
            update_function(
                block.kind, replace(give, comment=f"{give.comment} {note}".strip()), "give", number
            ),
            update_function(block.kind, replace(take, comment=""), "take", number),
        )
    )


TAKEN = frozenset(["b", "c", "auto", "break", "case", "char", "const", "continue", "default", "do", "double", "else", "enum", "extern", "float", "for", "goto", "if", "inline", "int", "long", "register", "restrict", "return", "short", "signed", "sizeof", "static", "struct", "switch", "typedef", "union", "unsigned", "void", "volatile", "while", "real_t", "line_t"])  # fmt: skip
"""Names that mean something else in the C of an update."""


class Renamer(ast.NodeTransformer):
    """Gives locals of taken names another."""

    def __init__(self, names: set[str]):
        self.names = names

    def visit_Name(self, node: ast.Name) -> ast.Name:
        return ast.copy_location(ast.Name(f"{node.id}_", node.ctx), node) if node.id in self.names else node


def without_taken_names(code: Update) -> Update:
    taken = set(code.locals) & TAKEN
    if not taken:
        return code
    renamer = Renamer(taken)
    body = tuple(renamer.visit(copy.deepcopy(statement)) for statement in code.body)
    return replace(code, body=body, locals=tuple(f"{n}_" if n in taken else n for n in code.locals))


@lru_cache(maxsize=256)
def update_function(kind: str, code: Update, verb: str, number: NumberFormat) -> str:
    if code.verbatim:
        return verbatim_function(kind, code, verb)
    code = without_taken_names(code)
    writer = Writer(code, number)
    comment = f"/* {' '.join(code.comment.split())} */\n" if code.comment else ""
    lines = writer.statements(code.body, 1, set())
    assigned = set().union(*(names_in(statement) for statement in code.body))
    branch_locals = [
        name
        for name in code.locals
        if name in assigned and not any(line.startswith(f"    real_t {name} =") for line in lines)
    ]
    if branch_locals:
        lines = [
            f"    real_t {', '.join(f'{n} = 0' for n in branch_locals)};",
            *[re.sub(r"^(        +)real_t ", r"\1", line) for line in lines],
        ]
    return f"{comment}static void {kind}_{verb}({kind}_t *b)\n{{\n" + "\n".join(lines) + "\n}\n"


def verbatim_function(kind: str, code: Update, verb: str) -> str:
    """An update the user wrote in C, between what fetches its names and what puts them back."""
    names = [a for a in code.arguments if a not in code.memory]
    fetch = "".join(f"    real_t {n} = b->{n};\n    (void){n};\n" for n in names)
    keep = "".join(f"    b->{n} = {n};\n" for n in names)
    body = "".join(f"    {line}\n" for line in code.verbatim.split("\n"))
    return f"static void {kind}_{verb}({kind}_t *b)\n{{\n{fetch}    {{\n{body}    }}\n{keep}}}\n"


def source_text(em: Emission) -> str:
    name = em.deck.name
    used = intrinsics_used(em.blocks)
    macros = (
        "".join(f"#define {f} {g}\n" for f, g in LIBRARY.items() if f in used)
        if em.number is NumberFormat.FLOAT32
        else ""
    )
    functions = "\n".join(text for key, text in INTRINSIC_C.items() if key in used)
    kinds = {b.kind: b for b in reversed(em.blocks)}
    split = {em.deck.block(s.block).kind for s in em.steps if s.part is not Part.WHOLE}
    whole = {em.deck.block(s.block).kind for s in em.steps if s.part is Part.WHOLE}
    updates = "\n".join(
        update_functions(kinds[k], em.number, split=halved)
        for k in dict.fromkeys(b.kind for b in em.blocks)
        for halved, found in ((False, whole), (True, split))
        if k in found
    )
    return (
        f'/* {name}.c: controller of {len(em.blocks)} blocks, base tick {em.deck.tick * 1e6:g} us.\n * {LICENCE}\n */\n#include "{name}.h"\n#include <math.h>\n\n'
        f"{macros}{functions}\n{updates}\n{init_function(em)}\n{tick_function(em)}"
    )


def init_function(em: Emission) -> str:
    name, lines, tables = em.deck.name, [], []
    for block in em.blocks:
        lines.append(f"    /* {block.title} */")
        for value in block.used_values:
            lines.append(f"    c->{block.name}.{value} = {em.number.literal(block.values[value])};")
        lines.append(f"    c->{block.name}.dt = {em.number.literal(em.deck.tick * block.every)};")
        if block.table:
            for axis, column in zip("xy", zip(*block.table)):
                texts = ", ".join(em.number.literal(v) for v in column)
                tables.append(f"static const real_t {block.name}_{axis}[] = {{{texts}}};")
                lines.append(f"    c->{block.name}.table.{axis} = {block.name}_{axis};")
            lines.append(f"    c->{block.name}.table.count = {len(block.table)};")
    head = "\n".join(tables) + ("\n\n" if tables else "")
    return (
        head
        + f"void {name}_init({name}_t *c)\n{{\n    static const {name}_t zero = {{0}};\n    *c = zero;\n"
        + "\n".join(lines)
        + "\n}\n"
    )


def tick_function(em: Emission) -> str:
    name, lines = em.deck.name, []
    inside = {f"{b.name}.{p}" for b in em.blocks for p in b.outputs}
    for step in em.steps:
        block, calls = em.deck.block(step.block), []
        for port in step.reads(block):
            source = block.sources.get(port)
            if source:
                calls.append(
                    f"c->{block.name}.{port} = c->{source if source in inside else 'in.' + identifier(source)};"
                )
        calls.append(f"{block.kind}_{step.part.value}(&c->{block.name});")
        if block.every == 1:
            lines += [f"    {call}" for call in calls]
        else:
            lines += [
                f"    if (c->tick % {block.every}u == 0u) {{",
                *[f"        {call}" for call in calls],
                "    }",
            ]
    for command, source in em.deck.commands.items():
        if source in inside:
            lines.append(f"    c->out.{identifier(command)} = c->{source};")
    lines.append(f"    c->tick = (c->tick + 1u) % {em.deck.period}u;")
    return f"void {name}_tick({name}_t *c)\n{{\n" + "\n".join(lines) + "\n}\n"


def example_main(em: Emission) -> str:
    name = em.deck.name
    fill = "\n".join(f"        c.in.{identifier(s)} = 0;  /* read your converter here */" for s in em.inputs)
    use = "\n".join(f'        printf("%g\\n", (double)c.out.{identifier(p)});' for p in em.deck.commands)
    return (
        f'/* Example: call the controller of {name}.c at its tick.\n * {LICENCE}\n */\n#include "{name}.h"\n#include <stdio.h>\n\nint main(void)\n{{\n'
        f"    {name}_t c;\n    int k;\n    {name}_init(&c);\n    for (k = 0; k < 10; k++) {{\n{fill}\n        {name}_tick(&c);\n{use}\n    }}\n    return 0;\n}}\n"
    )


def emit(deck: ControlDeck, number: NumberFormat, *, with_sensors: bool = False) -> Source:
    """Source, header and example of a deck."""
    em = Emission(deck, number, with_sensors)
    return Source(header(em), source_text(em), example_main(em))


@lru_cache(maxsize=8)
def simulation_source(deck: ControlDeck) -> str:
    """One translation unit for the time loop: the same code in float64, sensors included, values set from outside.

    ``pd_ctl_size``, ``pd_ctl_init`` (values, then tables, then seeds), ``pd_ctl_tick`` (measured signals in,
    all signals and commands out) and ``pd_ctl_states`` (what the blocks remember) are its whole interface. The text holds no value, so that a change of values
    meets the same build.
    """
    em = Emission(deck, NumberFormat.FLOAT64, with_sensors=True)
    return _adapted(em, blank(source_text(em), em), header(em))


def shipped_source(deck: ControlDeck, number: NumberFormat) -> str:
    """The shipped code behind the same interface, for comparing formats input by input."""
    em = Emission(deck, number, with_sensors=False)
    return _adapted(em, source_text(em), header(em), set_values=False)


def blank(text: str, em: Emission) -> str:
    """The source with its init function emptied of values; the adaptor sets them instead."""
    start, end = text.index(init_function(em)), text.index(tick_function(em))
    name = em.deck.name
    return (
        text[:start]
        + f"void {name}_init({name}_t *c)\n{{\n    static const {name}_t zero = {{0}};\n    *c = zero;\n}}\n"
        + text[end:]
    )


def _adapted(em: Emission, source: str, head: str, *, set_values: bool = True) -> str:
    name, at, lines = em.deck.name, 0, []
    for block_name, value in em.values:
        lines.append(f"    c->{block_name}.{value} = (real_t)v[{at}];")
        at += 1
    for block in em.blocks:
        for memory in block.code.memory:
            if memory == "rng" and set_values:
                lines.append(
                    f"    c->{block.name}.rng = (uint64_t)v[{at}] * UINT64_C(0x9E3779B97F4A7C15) + 1u;"
                )
                at += 1
            if memory == "table" and block.table:
                n = len(block.table)
                lines += [
                    f"    c->{block.name}.table.x = (const real_t *)(v + {at});",
                    f"    c->{block.name}.table.y = (const real_t *)(v + {at + n});",
                    f"    c->{block.name}.table.count = {n};",
                ]
                at += 2 * n
    if not set_values:
        lines = []
    fill = "\n".join(f"    c->in.{identifier(s)} = (real_t)in[{k}];" for k, s in enumerate(em.inputs))
    signals = [f"{b.name}.{p}" for b in em.blocks for p in b.outputs]
    show = "\n".join(f"    signals[{k}] = (double)c->{s};" for k, s in enumerate(signals))
    inside = set(signals)
    give = "\n".join(
        f"    out[{k}] = (double)c->{s};" for k, s in enumerate(em.deck.commands.values()) if s in inside
    )
    kept = "\n".join(f"    z[{k}] = (double)c->{s};" for k, s in enumerate(states_of(em.blocks)))
    body = source.replace(f'#include "{name}.h"\n', head)
    return (
        f"{body}\nint pd_ctl_size(void) {{ return (int)sizeof({name}_t); }}\n\nvoid pd_ctl_init({name}_t *c, const double *v)\n{{\n    (void)v;\n    {name}_init(c);\n"
        + "\n".join(lines)
        + f"\n}}\n\nvoid pd_ctl_tick({name}_t *c, const double *in, double *signals, double *out)\n{{\n    (void)in; (void)signals; (void)out;\n{fill}\n    {name}_tick(c);\n{show}\n{give}\n}}\n"
        f"\nvoid pd_ctl_states(const {name}_t *c, double *z)\n{{\n    (void)c; (void)z;\n{kept}\n}}\n"
    )


def states_of(blocks: Sequence[BlockInstance]) -> list[str]:
    """What the blocks remember as numbers, ``block.state``, in the order of ``pd_ctl_states``."""
    return [f"{b.name}.{state}" for b in blocks for state in b.states]


def simulation_values(deck: ControlDeck, *, with_sensors: bool, seed: int) -> list[float]:
    """The numbers `pd_ctl_init` takes, in its order."""
    em = Emission(deck, NumberFormat.FLOAT64, with_sensors)
    numbers = [
        deck.tick * deck.block(b).every if v == "dt" else deck.block(b).values[v] for b, v in em.values
    ]
    for place, block in enumerate(em.blocks):
        for memory in block.code.memory:
            if memory == "rng":
                numbers.append(float(seed * 1000 + place + 1))
            if memory == "table" and block.table:
                numbers += [t for t, _ in block.table] + [v for _, v in block.table]
    return numbers
