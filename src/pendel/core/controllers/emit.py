"""Readable C of a control deck in a chosen number format: one source, one header, no globals, no allocation."""

from __future__ import annotations

import ast
import math
import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property, lru_cache

from pendel.core.controllers.c_names import comment, drive_name, identifier, identifiers
from pendel.core.controllers.deck import BlockInstance, ControlDeck, Part, Step
from pendel.core.controllers.language import Update, names_in
from pendel.core.controllers.own_c import CheckedC
from pendel.core.controllers.writer import LIBRARY, NumberFormat, Writer, accumulated, fields_of


@dataclass(frozen=True)
class Source:
    header: str
    source: str
    example: str


def type_of(kind: str) -> str:
    return f"pd_{identifier(kind)}_t"


def call_of(kind: str, verb: str = "update") -> str:
    return f"pd_{identifier(kind)}_{verb}"


LICENCE = "Made by Pendel from your drive. This code is yours, free of any condition."

INTRINSIC_C = {
    "saturate": "static real_t pd_saturate(real_t x, real_t low, real_t high)\n{\n    return x < low ? "
    "low : (x > high ? high : x);\n}\n",
    "absolute": "static real_t pd_absolute(real_t x)\n{\n    return x < 0 ? -x : x;\n}\n",
    "minimum": "static real_t pd_minimum(real_t a, real_t b)\n{\n    return a < b ? a : b;\n}\n",
    "maximum": "static real_t pd_maximum(real_t a, real_t b)\n{\n    return a > b ? a : b;\n}\n",
    "wrapped": "/* an angle (rad) between -pi and pi */\n"
    "static real_t pd_wrapped(real_t angle)\n{\n    const real_t turn = (real_t)6.2831854820251465, less "
    "= (real_t)1.7484556000744487e-7;\n"
    "    const real_t turns = floor(angle / turn + (real_t)0.5);\n    return (angle - turn * turns) + "
    "less * turns;\n}\n",
    "delayed": "/* x as it was some periods ago; a fraction of a period is interpolated */\n"
    "static real_t pd_delayed(pd_line_t *line, real_t x, real_t periods)\n{\n    int whole = "
    "(int)periods;\n    real_t part = periods - (real_t)whole;\n"
    "    real_t a, b;\n    line->past[line->at] = x;\n    if (whole > line->length - 2) {\n        whole "
    "= line->length - 2;\n    }\n"
    "    a = line->past[(line->at + line->length - whole) % line->length];\n    b = line->past[(line->at "
    "+ line->length - whole - 1) % line->length];\n"
    "    line->at = (line->at + 1) % line->length;\n    return a + part * (b - a);\n}\n",
    "recalled": "/* what was remembered some periods ago */\n"
    "static real_t pd_recalled(const pd_line_t *line, real_t periods)\n{\n    return line->past[(line->at "
    "+ line->length - (int)periods) % line->length];\n}\n",
    "remember": "static void pd_remember(pd_line_t *line, real_t x)\n{\n    line->past[line->at] = x;\n   "
    " line->at = (line->at + 1) % line->length;\n}\n",
    "interpolated": "static real_t pd_interpolated(const pd_table_t *table, real_t x)\n{\n    int k = "
    "0;\n    real_t dx;\n    if (table->count == 0) {\n        return 0;\n    }\n"
    "    if (x < table->x[0]) {\n        return table->y[0];\n    }\n    while (k < table->count - 1 && x "
    ">= table->x[k + 1]) {\n        k++;\n    }\n"
    "    if (k == table->count - 1) {\n        return table->y[k];\n    }\n    dx = table->x[k + 1] - "
    "table->x[k];\n    return table->y[k] + (table->y[k + 1] - table->y[k]) * (x - table->x[k]) / "
    "dx;\n}\n",
    "mapped": "/* one layer of a map at (x, y), straight between its points and level beyond; the first "
    "column holds both sizes and axes */\n"
    "static real_t pd_mapped(const pd_table_t *table, real_t layer, real_t x, real_t y)\n{\n    int nx = "
    "(int)table->x[0], ny = (int)table->x[1], i = 0, j = 0;\n"
    "    const real_t *ax = table->x + 2, *ay = ax + nx, *z = table->y + (int)layer * nx * ny;\n    real_t s, t;\n"
    "    while (i < nx - 2 && x >= ax[i + 1]) {\n        i++;\n    }\n    while (j < ny - 2 && y >= ay[j "
    "+ 1]) {\n        j++;\n    }\n"
    "    s = (x - ax[i]) / (ax[i + 1] - ax[i]);\n    t = (y - ay[j]) / (ay[j + 1] - ay[j]);\n    s = s < "
    "0 ? 0 : (s > 1 ? 1 : s);\n    t = t < 0 ? 0 : (t > 1 ? 1 : t);\n    z += i * ny + j;\n"
    "    return (1 - s) * ((1 - t) * z[0] + t * z[1]) + s * ((1 - t) * z[ny] + t * z[ny + 1]);\n}\n",
    "normal": "/* normal deviate: xorshift64* (Vigna 2016) and the Box-Muller transform */\nstatic real_t "
    "pd_normal(uint64_t *rng)\n{\n    double u[2];\n    int k;\n    for (k = 0; k < 2; k++) {\n"
    "        *rng ^= *rng >> 12;\n        *rng ^= *rng << 25;\n        *rng ^= *rng >> 27;\n        u[k] "
    "= ((double)((*rng * UINT64_C(2685821657736338717)) >> 11) + 0.5) / 9007199254740992.0;\n    }\n"
    "    return (real_t)(sqrt(-2.0 * log(u[0])) * cos(6.283185307179586 * u[1]));\n}\n",
}
SUMS_C = {
    "pd_add": "/* Adds to a sum and keeps what it rounds away (Knuth: The Art of Computer Programming 2, "
    "4.2.2, theorem B).\n"
    " * Do not build with options that reorder sums, such as -ffast-math. */\n"
    "static void pd_add(real_t *sum, real_t *rest, real_t step)\n{\n    real_t next = *sum + step, part = "
    "next - *sum;\n"
    "    real_t lost = ((*sum - (next - part)) + (step - part)) + *rest;\n    *sum = next + lost;\n    "
    "*rest = lost - (*sum - next);\n}\n",
    "pd_wrap": "static void pd_wrap(real_t *angle, real_t *rest)\n{\n    const real_t turn = "
    "(real_t)6.2831854820251465, less = (real_t)1.7484556000744487e-7;\n"
    "    const real_t turns = floor(*angle / turn + (real_t)0.5);\n    if (turns != 0) {\n        "
    "pd_add(angle, rest, -turn * turns);\n        pd_add(angle, rest, less * turns);\n    }\n}\n",
    "pd_put": "static void pd_put(real_t *sum, real_t *rest, real_t x)\n{\n    if (x != *sum) {\n        "
    "*sum = x;\n        *rest = 0;\n    }\n}\n",
}
MEMORY_C = {"line": "pd_line_t line;", "rng": "uint64_t rng;", "table": "pd_table_t table;"}
TYPES_C = {
    "line": "typedef struct {\n    real_t *past;\n    int length;\n    int at;\n} pd_line_t;\n",
    "table": "typedef struct {\n    const real_t *x;\n    const real_t *y;\n    int count;\n} pd_table_t;\n",
}


@lru_cache(maxsize=256)
def calls_in(code: Update) -> frozenset[str]:
    if code.verbatim:
        return frozenset(re.findall(r"\b[a-z_]\w*(?=\s*\()", code.verbatim))
    calls = [n for statement in code.body for n in ast.walk(statement) if isinstance(n, ast.Call)]
    return frozenset(n.func.id for n in calls if isinstance(n.func, ast.Name))


def intrinsics_used(deck_blocks: Sequence[BlockInstance]) -> set[str]:
    used = set[str]().union(*(calls_in(block.code) for block in deck_blocks))
    return used | {"floor"}


@dataclass(frozen=True)
class Input:
    """A signal from outside; an angle (rad) that few digits would blur comes within one ``turn``."""

    signal: str
    turn: bool = False


@dataclass(frozen=True)
class Emission:
    """How a deck is written: number format, and whether sensors are part of it (simulation) or inputs
    (target)."""

    deck: ControlDeck
    number: NumberFormat
    with_sensors: bool
    sized_outside: bool = False
    """Whether values, tables and delay lines come from outside at the start, so that the text holds none."""

    @property
    def blocks(self) -> list[BlockInstance]:
        return [b for b in self.deck.blocks if self.with_sensors or not b.sensor]

    @property
    def steps(self) -> list[Step]:
        return [s for s in self.deck.steps if self.with_sensors or not self.deck.block(s.block).sensor]

    @property
    def inputs(self) -> list[Input]:
        """What the blocks read from outside, in order of first use."""
        inside = {f"{b.name}.{p}" for b in self.blocks for p in b.outputs}
        found = [
            Input(s, self.number.loses and port in b.turns)
            for b in self.blocks
            for port, s in b.sources.items()
            if s and s not in inside
        ]
        return list(dict.fromkeys(found))

    @property
    def values(self) -> list[tuple[str, str]]:
        return [(b.name, v) for b in self.blocks for v in (*b.used_values, "dt")]

    @cached_property
    def name(self) -> str:
        return drive_name(self.deck.name)

    @cached_property
    def members(self) -> dict[str, str]:
        """Members of the controller's struct by block."""
        return identifiers((b.name for b in self.blocks), OWN_MEMBERS)

    @cached_property
    def lines(self) -> dict[str, str]:
        """Members that hold the past of blocks with a delay line."""
        with_line = [b.name for b in self.blocks if "line" in b.code.memory]
        found = identifiers(
            (f"{self.members[n]}_past" for n in with_line), (*OWN_MEMBERS, *self.members.values())
        )
        return {n: found[f"{self.members[n]}_past"] for n in with_line}

    @cached_property
    def fed(self) -> dict[Input, str]:
        """Members of the struct of inputs."""
        signals = [i.signal for i in self.inputs]
        wished = {
            i: f"{i.signal}_turn" if i.turn and signals.count(i.signal) > 1 else i.signal for i in self.inputs
        }
        names = identifiers(wished.values())
        return {i: names[text] for i, text in wished.items()}

    @cached_property
    def given(self) -> dict[str, str]:
        """Members of the struct of outputs by command."""
        return identifiers(self.deck.commands)

    def source_of(self, signal: str, turn: bool = False) -> str:
        """Where a signal stands in the controller."""
        name, _, port = signal.partition(".")
        if name in self.members:
            return f"c->{self.field(name, port)}"
        return f"c->in.{self.fed[Input(signal, turn and self.number.loses)]}"

    def field(self, block: str, argument: str) -> str:
        return f"{self.members[block]}.{fields_of(self.deck.block(block).code)[argument]}"


OWN_MEMBERS = ("in", "out", "tick")


def block_structs(em: Emission) -> str:
    parts, seen = [], set()
    for block in em.blocks:
        if block.kind in seen:
            continue
        seen.add(block.kind)
        fields = fields_of(block.code)
        kept = accumulated(block.code, block.states) if em.number.loses else frozenset()
        groups = (
            [fields[n] for n in block.inputs if n in fields],
            [fields[n] for n in block.outputs if n in fields],
            [fields[n] for n in (*block.used_values, "dt")],
            [
                name
                for s in block.states
                for name in (fields[s], *([f"{fields[s]}_rest"] if s in kept else []))
            ],
        )
        rows = [f"    real_t {', '.join(group)};" for group in groups if group]
        rows += [f"    {MEMORY_C[m]}" for m in block.code.memory]
        parts.append("typedef struct {\n" + "\n".join(rows) + f"\n}} {type_of(block.kind)};\n")
    return "\n".join(parts)


def header(em: Emission) -> str:
    name = em.name
    guard = f"{name.upper()}_H"
    memory = {m for b in em.blocks for m in b.code.memory}
    types = "\n".join(TYPES_C[m] for m in ("line", "table") if m in memory)
    inputs = "".join(
        f"    real_t {em.fed[i]};{'  /* rad, within one turn either way */' if i.turn else ''}\n"
        for i in em.inputs
    )
    outputs = "".join(f"    real_t {em.given[p]};\n" for p in em.deck.commands)
    blocks = "".join(f"    {type_of(b.kind)} {em.members[b.name]};\n" for b in em.blocks)
    itself = "/* It points into itself: do not copy it once it is initialised. */\n" if em.lines else ""
    if not em.sized_outside:
        blocks += "".join(
            f"    real_t {past}[{em.deck.block(b).line_places}];\n" for b, past in em.lines.items()
        )
    return (
        f"/* {name}.h: controller, all values in SI units.\n * {LICENCE}\n */\n#ifndef {guard}\n#define "
        f"{guard}\n\n#include <stdint.h>\n\n"
        f"typedef {em.number.value} real_t;\n\n{types}\n{block_structs(em)}\n"
        "/* What is measured at each tick. */\ntypedef struct "
        f"{{\n{inputs or '    real_t unused;' + chr(10)}}} {name}_in_t;\n\n"
        "/* What goes to the power stage. */\ntypedef struct "
        f"{{\n{outputs or '    real_t unused;' + chr(10)}}} {name}_out_t;\n\n"
        f"{itself}typedef struct {{\n    uint32_t tick;\n    {name}_in_t in;\n    {name}_out_t "
        f"out;\n{blocks}}} {name}_t;\n\n"
        f"void {name}_init({name}_t *c);\n\n/* Call every {em.deck.tick * 1e6:g} us after filling c->in; "
        f"then use c->out. */\nvoid {name}_tick({name}_t *c);\n\n#endif\n"
    )


def update_functions(block: BlockInstance, number: NumberFormat, *, split: bool) -> str:
    """The update of a kind; where a loop needs it, in its two halves."""
    states = frozenset(block.states)
    if not split:
        return update_function(block.kind, block.code, states, "update", number)
    give, take = block.code.halves(block.holds)
    note = "Gives the output first and takes the input in later, since it stands in a loop."
    return "\n".join(
        (
            update_function(
                block.kind, replace(give, comment=f"{give.comment} {note}".strip()), states, "give", number
            ),
            update_function(block.kind, replace(take, comment=""), states, "take", number),
        )
    )


@lru_cache(maxsize=256)
def update_function(kind: str, code: Update, states: frozenset[str], verb: str, number: NumberFormat) -> str:
    head = f"static void {call_of(kind, verb)}({type_of(kind)} *b)\n"
    if code.verbatim:
        return head + verbatim_body(code)
    writer = Writer(code, states, number)
    told = f"{comment(code.comment)}\n" if code.comment else ""
    lines = writer.statements(code.body, 1, set())
    assigned = set().union(*(names_in(statement) for statement in code.body))
    branch_locals = [
        writer.locals[name]
        for name in code.locals
        if name in assigned
        and not any(line.startswith(f"    real_t {writer.locals[name]} =") for line in lines)
    ]
    if branch_locals:
        lines = [
            f"    real_t {', '.join(f'{n} = 0' for n in branch_locals)};",
            *[re.sub(r"^(        +)real_t ", r"\1", line) for line in lines],
        ]
    return f"{told}{head}{{\n" + "\n".join(lines) + "\n}\n"


OWN_CALL = re.compile(rf"\b({'|'.join(name for name in INTRINSIC_C)})(?=\s*\()")


def verbatim_body(code: Update) -> str:
    """An update the user wrote in C, between what fetches its names and what puts them back."""
    fields = {a: f for a, f in fields_of(code).items() if a not in code.memory}
    fetch = "".join(f"    real_t {n} = b->{f};\n    (void){n};\n" for n, f in fields.items())
    keep = "".join(f"    b->{f} = {n};\n" for n, f in fields.items())
    assert isinstance(code.verbatim, CheckedC), "C that was not read into tokens goes nowhere"
    typed = OWN_CALL.sub(r"pd_\1", code.verbatim)
    body = "".join(f"    {line}\n" for line in typed.split("\n"))
    return f"{{\n{fetch}    {{\n{body}    }}\n{keep}}}\n"


def source_text(em: Emission) -> str:
    name = em.name
    used = intrinsics_used(em.blocks)
    macros = (
        "".join(f"#define {f} {g}\n" for f, g in LIBRARY.items() if f in used)
        if em.number is NumberFormat.FLOAT32
        else ""
    )
    kinds = {b.kind: b for b in reversed(em.blocks)}
    split = {em.deck.block(s.block).kind for s in em.steps if s.part is not Part.WHOLE}
    whole = {em.deck.block(s.block).kind for s in em.steps if s.part is Part.WHOLE}
    updates = "\n".join(
        update_functions(kinds[k], em.number, split=halved)
        for k in dict.fromkeys(b.kind for b in em.blocks)
        for halved, found in ((False, whole), (True, split))
        if k in found
    )
    texts = [text for key, text in INTRINSIC_C.items() if key in used]
    texts += [text for key, text in SUMS_C.items() if f"{key}(" in updates]
    functions = "\n".join(texts)
    return (
        f"/* {name}.c: controller of {len(em.blocks)} blocks, sampling period {em.deck.tick * 1e6:g} us.\n * "
        f'{LICENCE}\n */\n#include "{name}.h"\n#include <math.h>\n\n'
        f"{macros}{functions}\n{updates}\n{init_function(em)}\n{tick_function(em)}"
    )


def init_function(em: Emission) -> str:
    """Sets values, tables and delay lines; where values come from outside, only clears."""
    name, lines, tables = em.name, [], []
    for block in [] if em.sized_outside else em.blocks:
        member, fields = em.members[block.name], fields_of(block.code)
        lines.append(f"    {comment(block.title)}")
        for value in block.used_values:
            lines.append(f"    c->{member}.{fields[value]} = {em.number.literal(block.values[value])};")
        lines.append(f"    c->{member}.dt = {em.number.literal(em.deck.tick * block.every)};")
        if block.name in em.lines:
            lines.append(f"    c->{member}.line.past = c->{em.lines[block.name]};")
            lines.append(f"    c->{member}.line.length = {block.line_places};")
        if block.table:
            for axis, column in zip("xy", zip(*block.table)):
                texts = ", ".join(em.number.literal(v) for v in column)
                tables.append(f"static const real_t pd_{member}_{axis}[] = {{{texts}}};")
                lines.append(f"    c->{member}.table.{axis} = pd_{member}_{axis};")
            lines.append(f"    c->{member}.table.count = {len(block.table)};")
    head = "\n".join(tables) + ("\n\n" if tables else "")
    return (
        head
        + f"void {name}_init({name}_t *c)\n{{\n    static const {name}_t zero = {{0}};\n    *c = zero;\n"
        + "".join(f"{line}\n" for line in lines)
        + "}\n"
    )


def tick_function(em: Emission) -> str:
    name, lines = em.name, []
    for step in em.steps:
        block, calls = em.deck.block(step.block), []
        member = em.members[block.name]
        for port in step.reads(block):
            source = block.sources.get(port)
            if source and port in block.code.arguments:
                calls.append(
                    f"c->{em.field(block.name, port)} = {em.source_of(source, port in block.turns)};"
                )
        calls.append(f"{call_of(block.kind, step.part.value)}(&c->{member});")
        if block.every == 1:
            lines += [f"    {call}" for call in calls]
        else:
            lines += [
                f"    if (c->tick % {block.every}u == 0u) {{",
                *[f"        {call}" for call in calls],
                "    }",
            ]
    for command, source in em.deck.commands.items():
        if source.partition(".")[0] in em.members:
            lines.append(f"    c->out.{em.given[command]} = {em.source_of(source)};")
    lines.append(f"    c->tick = (c->tick + 1u) % {em.deck.period}u;")
    return f"void {name}_tick({name}_t *c)\n{{\n" + "\n".join(lines) + "\n}\n"


def example_main(em: Emission) -> str:
    name = em.name
    fill = "\n".join(f"        c.in.{em.fed[i]} = 0;  /* read your converter here */" for i in em.inputs)
    use = "\n".join(f'        printf("%g\\n", (double)c.out.{em.given[p]});' for p in em.deck.commands)
    return (
        f"/* Example: call the controller of {name}.c at its tick.\n * {LICENCE}\n */\n#include "
        f'"{name}.h"\n#include <stdio.h>\n\nint main(void)\n{{\n'
        f"    static {name}_t c;\n    int k;\n    {name}_init(&c);\n    for (k = 0; k < 10; k++) "
        f"{{\n{fill}\n        {name}_tick(&c);\n{use}\n    }}\n    return 0;\n}}\n"
    )


def emit(deck: ControlDeck, number: NumberFormat, *, with_sensors: bool = False) -> Source:
    """Source, header and example of a deck."""
    em = Emission(deck, number, with_sensors)
    return Source(header(em), source_text(em), example_main(em))


_sources: dict[tuple[object, ...], str] = {}
KNOWN_SOURCES = 64


def simulation_source(deck: ControlDeck) -> str:
    """One translation unit for the time loop: the same code in float64, sensors included, values set from
    outside.

    ``pd_ctl_size``, ``pd_ctl_init`` (clears, seeds and binds), ``pd_ctl_bind`` (values, delay lines and
    tables, while what the blocks remember stays), ``pd_ctl_tick`` (measured signals in, all signals and
    commands out) and ``pd_ctl_states`` (what the blocks remember) are its whole interface. The text holds no
    value, so that a change of values meets the same build."""
    if deck.form not in _sources:
        if len(_sources) >= KNOWN_SOURCES:
            _sources.pop(next(iter(_sources)), None)
        _sources[deck.form] = _adapted(
            Emission(deck, NumberFormat.FLOAT64, with_sensors=True, sized_outside=True)
        )
    return _sources[deck.form]


def shipped_source(deck: ControlDeck, number: NumberFormat) -> str:
    """The shipped code behind the same interface, for comparing formats input by input."""
    return _adapted(Emission(deck, number, with_sensors=False))


def _adapted(em: Emission) -> str:
    name, at, lines, seeds = em.name, 0, [], []

    def take(count: int = 1) -> int:
        nonlocal at
        at += count
        return at - count

    for block_name, value in em.values:
        lines.append(f"    c->{em.field(block_name, value)} = (real_t)v[{take()}];")
    for block in em.blocks:
        member = em.members[block.name]
        for memory in block.code.memory:
            if memory == "rng":
                seeds.append(
                    f"    c->{member}.rng = (uint64_t)v[{take()}] * UINT64_C(0x9E3779B97F4A7C15) + 1u;"
                )
            elif memory == "line":
                lines.append(f"    c->{member}.line.length = (int)v[{take()}];")
            elif block.table:
                n = len(block.table)
                lines += [
                    f"    c->{member}.table.x = (const real_t *)(v + {take(n)});",
                    f"    c->{member}.table.y = (const real_t *)(v + {take(n)});",
                    f"    c->{member}.table.count = {n};",
                ]
    # The places of delay lines come last, as their number is a value; they are writable, though the rest is
    # not.
    lines.append(f"    w = (real_t *)(v + {at});")
    for block_name in em.lines:
        member = em.members[block_name]
        lines += [f"    c->{member}.line.past = w;", f"    w += c->{member}.line.length;"]
    if not em.sized_outside:
        lines, seeds = [], []
    fill = "\n".join(
        f"    c->in.{em.fed[i]} = (real_t){f'fmod(in[{k}], {2 * math.pi!r})' if i.turn else f'in[{k}]'};"
        for k, i in enumerate(em.inputs)
    )
    signals = [f"{b.name}.{p}" for b in em.blocks for p in b.outputs]
    show = "\n".join(f"    signals[{k}] = (double){em.source_of(s)};" for k, s in enumerate(signals))
    inside = set(signals)
    give = "\n".join(
        f"    out[{k}] = (double){em.source_of(s)};"
        for k, s in enumerate(em.deck.commands.values())
        if s in inside
    )
    kept = "\n".join(
        f"    z[{k}] = (double)c->{em.field(*s.split('.', 1))};" for k, s in enumerate(states_of(em.blocks))
    )
    body = source_text(em).replace(f'#include "{name}.h"\n', header(em), 1)
    return (
        f"{body}\nint pd_ctl_size(void) {{ return (int)sizeof({name}_t); }}\n\nvoid pd_ctl_bind({name}_t "
        f"*c, double *v)\n{{\n    real_t *w;\n    (void)c; (void)v; (void)w;\n"
        + "\n".join(lines)
        + f"\n}}\n\nvoid pd_ctl_init({name}_t *c, double *v)\n{{\n    {name}_init(c);\n"
        + "\n".join(seeds)
        + f"\n    pd_ctl_bind(c, v);\n}}\n\nvoid pd_ctl_tick({name}_t *c, const double *in, double "
        f"*signals, double *out)\n{{\n    (void)in; (void)signals; (void)out;\n{fill}\n    "
        f"{name}_tick(c);\n{show}\n{give}\n}}\n"
        f"\nvoid pd_ctl_states(const {name}_t *c, double *z)\n{{\n    (void)c; (void)z;\n{kept}\n}}\n"
    )


def states_of(blocks: Sequence[BlockInstance]) -> list[str]:
    """What the blocks remember as numbers, ``block.state``, in the order of ``pd_ctl_states``."""
    return [f"{b.name}.{state}" for b in blocks for state in b.states]


def value_names(deck: ControlDeck) -> tuple[str, ...]:
    """``block.value`` of the first numbers `pd_ctl_init` takes; ``dt`` is a block's period (s)."""
    em = Emission(deck, NumberFormat.FLOAT64, with_sensors=True, sized_outside=True)
    return tuple(f"{block}.{value}" for block, value in em.values)


def simulation_values(deck: ControlDeck, *, with_sensors: bool, seed: int) -> list[float]:
    """The numbers `pd_ctl_init` takes, in its order; it keeps what it is given, and writes the delay lines at
    their end."""
    em = Emission(deck, NumberFormat.FLOAT64, with_sensors, sized_outside=True)
    numbers = [
        deck.tick * deck.block(b).every if v == "dt" else deck.block(b).values[v] for b, v in em.values
    ]
    for place, block in enumerate(em.blocks):
        for memory in block.code.memory:
            if memory == "rng":
                numbers.append(float(seed * 1000 + place + 1))
            elif memory == "line":
                numbers.append(float(block.line_places))
            elif block.table:
                numbers += [t for t, _ in block.table] + [v for _, v in block.table]
    return numbers + [0.0] * sum(deck.block(b).line_places for b in em.lines)
