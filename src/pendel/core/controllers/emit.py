"""C of a control deck for the simulation: float64, sensors included, values set from outside; no globals, no
allocation. What is shipped is written in `pendel.core.controllers.numbers`."""

from __future__ import annotations

import ast
import re
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property, lru_cache

from pendel.core.controllers.c_names import drive_name, identifier, identifiers
from pendel.core.controllers.deck import BlockInstance, ControlDeck, Part
from pendel.core.controllers.language import Update, names_in
from pendel.core.controllers.own_c import CheckedC
from pendel.core.controllers.writer import Writer, fields_of
from pendel.core.last_few import LastFew


def type_of(kind: str) -> str:
    return f"pd_{identifier(kind)}_t"


def call_of(kind: str, verb: str = "update") -> str:
    return f"pd_{identifier(kind)}_{verb}"


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
    "0, beyond = table->count, middle;\n    real_t dx;\n    if (table->count == 0) {\n        return 0;\n    }\n"
    "    if (x < table->x[0]) {\n        return table->y[0];\n    }\n    while (beyond - k > 1) {\n"
    "        middle = k + (beyond - k) / 2;\n        if (x >= table->x[middle]) {\n            k = middle;\n"
    "        } else {\n            beyond = middle;\n        }\n    }\n"
    "    if (k == table->count - 1) {\n        return table->y[k];\n    }\n    dx = table->x[k + 1] - "
    "table->x[k];\n    return table->y[k] + (table->y[k + 1] - table->y[k]) * (x - table->x[k]) / "
    "dx;\n}\n",
    "mapped": "/* one layer of a map at (x, y), straight between its points and level beyond; the first "
    "column holds both sizes and axes */\n"
    "static real_t pd_mapped(const pd_table_t *table, real_t layer, real_t x, real_t y)\n{\n    int nx = "
    "(int)table->x[0], ny = (int)table->x[1], i = 0, j = 0;\n"
    "    const real_t *ax = table->x + 2, *ay = ax + nx, *z = table->y + (int)layer * nx * ny;\n    real_t "
    "s, t;\n"
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
class Emission:
    """How a deck is written."""

    deck: ControlDeck

    @property
    def blocks(self) -> tuple[BlockInstance, ...]:
        return self.deck.blocks

    @property
    def inputs(self) -> list[str]:
        """Signals that the blocks read from outside, in order of first use."""
        inside = {f"{b.name}.{p}" for b in self.blocks for p in b.outputs}
        return list(dict.fromkeys(s for b in self.blocks for s in b.sources.values() if s and s not in inside))

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

    @property
    def lines(self) -> list[str]:
        """Blocks with a delay line."""
        return [b.name for b in self.blocks if "line" in b.code.memory]

    @cached_property
    def fed(self) -> dict[str, str]:
        """Members of the struct of inputs by signal."""
        return identifiers(self.inputs)

    @cached_property
    def given(self) -> dict[str, str]:
        """Members of the struct of outputs by command."""
        return identifiers(self.deck.commands)

    def source_of(self, signal: str) -> str:
        """Where a signal stands in the controller."""
        name, _, port = signal.partition(".")
        return f"c->{self.field(name, port)}" if name in self.members else f"c->in.{self.fed[signal]}"

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
        groups = (
            [fields[n] for n in block.inputs if n in fields],
            [fields[n] for n in block.outputs if n in fields],
            [fields[n] for n in (*block.used_values, "dt")],
            [fields[s] for s in block.states],
        )
        rows = [f"    real_t {', '.join(group)};" for group in groups if group]
        rows += [f"    {MEMORY_C[m]}" for m in block.code.memory]
        parts.append("typedef struct {\n" + "\n".join(rows) + f"\n}} {type_of(block.kind)};\n")
    return "\n".join(parts)


def header(em: Emission) -> str:
    name = em.name
    memory = {m for b in em.blocks for m in b.code.memory}
    types = "\n".join(TYPES_C[m] for m in ("line", "table") if m in memory)
    inputs = "".join(f"    real_t {em.fed[i]};\n" for i in em.inputs)
    outputs = "".join(f"    real_t {em.given[p]};\n" for p in em.deck.commands)
    blocks = "".join(f"    {type_of(b.kind)} {em.members[b.name]};\n" for b in em.blocks)
    return (
        f"#include <stdint.h>\n\ntypedef double real_t;\n\n{types}\n{block_structs(em)}\n"
        f"typedef struct {{\n{inputs or '    real_t unused;' + chr(10)}}} {name}_in_t;\n\n"
        f"typedef struct {{\n{outputs or '    real_t unused;' + chr(10)}}} {name}_out_t;\n\n"
        f"typedef struct {{\n    uint32_t tick;\n    {name}_in_t in;\n    {name}_out_t out;\n{blocks}}} "
        f"{name}_t;\n\n"
    )


def update_functions(block: BlockInstance, *, split: bool) -> str:
    """The update of a kind; where a loop needs it, in its two halves."""
    if not split:
        return update_function(block.kind, block.code, "update")
    give, take = block.code.halves(block.holds)
    return "\n".join((update_function(block.kind, give, "give"), update_function(block.kind, take, "take")))


@lru_cache(maxsize=256)
def update_function(kind: str, code: Update, verb: str) -> str:
    head = f"static void {call_of(kind, verb)}({type_of(kind)} *b)\n"
    if code.verbatim:
        return head + verbatim_body(code)
    writer = Writer(code)
    lines = writer.statements(code.body, 1, set())
    assigned = set().union(*(names_in(statement) for statement in code.body))
    branch_locals = [
        writer.locals[name]
        for name in code.locals
        if name in assigned and not any(line.startswith(f"    real_t {writer.locals[name]} =") for line in lines)
    ]
    if branch_locals:
        lines = [
            f"    real_t {', '.join(f'{n} = 0' for n in branch_locals)};",
            *[re.sub(r"^(        +)real_t ", r"\1", line) for line in lines],
        ]
    return f"{head}{{\n" + "\n".join(lines) + "\n}\n"


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
    used = intrinsics_used(em.blocks)
    kinds = {b.kind: b for b in reversed(em.blocks)}
    split = {em.deck.block(s.block).kind for s in em.deck.steps if s.part is not Part.WHOLE}
    whole = {em.deck.block(s.block).kind for s in em.deck.steps if s.part is Part.WHOLE}
    updates = "\n".join(
        update_functions(kinds[k], split=halved)
        for k in dict.fromkeys(b.kind for b in em.blocks)
        for halved, chosen in ((False, whole), (True, split))
        if k in chosen
    )
    functions = "\n".join(text for key, text in INTRINSIC_C.items() if key in used)
    return f"{header(em)}#include <math.h>\n\n{functions}\n{updates}\n{tick_function(em)}"


def tick_function(em: Emission) -> str:
    name, lines = em.name, []
    for step in em.deck.steps:
        block, calls = em.deck.block(step.block), []
        member = em.members[block.name]
        for port in step.reads(block):
            source = block.sources.get(port)
            if source and port in block.code.arguments:
                calls.append(f"c->{em.field(block.name, port)} = {em.source_of(source)};")
        calls.append(f"{call_of(block.kind, step.part.value)}(&c->{member});")
        if block.every == 1:
            lines += [f"    {call}" for call in calls]
        else:
            lines += [
                f"    if (c->tick % {block.every}u == {block.phase}u) {{",
                *[f"        {call}" for call in calls],
                "    }",
            ]
    for command, source in em.deck.commands.items():
        if source.partition(".")[0] in em.members:
            lines.append(f"    c->out.{em.given[command]} = {em.source_of(source)};")
    lines.append(f"    c->tick = (c->tick + 1u) % {em.deck.period}u;")
    return f"static void {name}_tick({name}_t *c)\n{{\n" + "\n".join(lines) + "\n}\n"


_sources: LastFew[tuple[object, ...], str] = LastFew(64)


def simulation_source(deck: ControlDeck) -> str:
    """One translation unit for the time loop: the same code in float64, sensors included, values set from
    outside.

    ``pd_ctl_size``, ``pd_ctl_init`` (clears, seeds and binds), ``pd_ctl_bind`` (values, delay lines and
    tables, while what the blocks remember stays), ``pd_ctl_tick`` (measured signals in, all signals and
    commands out) and ``pd_ctl_states`` (what the blocks remember) are its whole interface. The text holds no
    value, so that a change of values meets the same build."""
    return _sources.get(deck.form) or _sources.keep(deck.form, _adapted(Emission(deck)))


def binding_lines(em: Emission) -> tuple[list[str], list[str]]:
    """Statements that set values, tables and delay lines from ``v``, and those that seed random sources."""
    at, lines, seeds = 0, [], []

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
                seeds.append(f"    c->{member}.rng = (uint64_t)v[{take()}] * UINT64_C(0x9E3779B97F4A7C15) + 1u;")
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
    return lines, seeds


def _adapted(em: Emission) -> str:
    name = em.name
    lines, seeds = binding_lines(em)
    fill = "\n".join(f"    c->in.{em.fed[i]} = in[{k}];" for k, i in enumerate(em.inputs))
    signals = [f"{b.name}.{p}" for b in em.blocks for p in b.outputs]
    show = "\n".join(f"    signals[{k}] = (double){em.source_of(s)};" for k, s in enumerate(signals))
    inside = set(signals)
    give = "\n".join(
        f"    out[{k}] = (double){em.source_of(s)};" for k, s in enumerate(em.deck.commands.values()) if s in inside
    )
    kept = "\n".join(
        f"    z[{k}] = (double)c->{em.field(*s.split('.', 1))};" for k, s in enumerate(states_of(em.blocks))
    )
    return (
        f"{source_text(em)}\nint pd_ctl_size(void) {{ return (int)sizeof({name}_t); }}\n\nvoid "
        f"pd_ctl_bind({name}_t "
        f"*c, double *v)\n{{\n    real_t *w;\n    (void)c; (void)v; (void)w;\n"
        + "\n".join(lines)
        + f"\n}}\n\nvoid pd_ctl_init({name}_t *c, double *v)\n"
        + f"{{\n    static const {name}_t zero = {{0}};\n    *c = zero;\n"
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
    em = Emission(deck)
    return tuple(f"{block}.{value}" for block, value in em.values)


def simulation_values(deck: ControlDeck, *, seed: int) -> list[float]:
    """The numbers `pd_ctl_init` takes, in its order; it keeps what it is given, and writes the delay lines at
    their end."""
    em = Emission(deck)
    numbers = [deck.tick * deck.block(b).every if v == "dt" else deck.block(b).values[v] for b, v in em.values]
    for place, block in enumerate(em.blocks):
        for memory in block.code.memory:
            if memory == "rng":
                numbers.append(float(seed * 1000 + place + 1))
            elif memory == "line":
                numbers.append(float(block.line_places))
            elif block.table:
                numbers += [t for t, _ in block.table] + [v for _, v in block.table]
    return numbers + [0.0] * sum(deck.block(b).line_places for b in em.lines)
