"""The files of a deck in number formats: header, source, example main, and what joins them to a
simulation."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass, replace
from functools import lru_cache
from itertools import groupby
from pathlib import Path

from pendel.core.controllers.c_layout import folded
from pendel.core.controllers.c_names import comment
from pendel.core.controllers.deck import ControlDeck, Part, Step
from pendel.core.controllers.emit import (
    Emission,
    binding_lines,
    simulation_values,
    source_text,
    states_of,
    value_names,
)
from pendel.core.controllers.numbers.block import LINE
from pendel.core.controllers.numbers.conversion import converted, float_text
from pendel.core.controllers.numbers.explained import about
from pendel.core.controllers.numbers.live_source import (
    conversions,
    converting,
    declarations,
    live_names,
    start,
    taking,
    values_struct,
    values_type,
)
from pendel.core.controllers.numbers.lowering import (
    Input,
    Lowered,
    LoweredBlock,
    input_key,
    rests,
)
from pendel.core.controllers.numbers.representation import FLOAT, Rep
from pendel.core.controllers.numbers.table_source import table, table_declaration
from pendel.core.controllers.numbers.tree import expressions
from pendel.core.controllers.own_c import CheckedC
from pendel.core.errors import PendelError

LICENCE = "Made by Pendel from your drive. This code is yours, free of any condition."
LIBRARY = ("pd_numbers.h", "pd_numbers.c")
FOLDER = Path(__file__).with_name("c")


class SensorReadsController(PendelError):
    """A sensor, or a block that comes from outside, is fed by the controller, which as shipped runs after them."""

    def __init__(self, title: str):
        super().__init__(title)
        self.title = title

    def __str__(self) -> str:
        return (
            f"{self.title}: it reads a signal of the controller. As shipped, sensors and what comes from outside run "
            "before the controller; read the signal itself instead, or run the controller as modelled."
        )


@lru_cache(maxsize=1)
def library() -> dict[str, str]:
    """The files of the fixed library by name."""
    return {name: (FOLDER / name).read_text() for name in LIBRARY}


@lru_cache(maxsize=1)
def library_functions() -> dict[str, str]:
    """Functions of the library's source by name, each with the comment before it."""
    text = library()["pd_numbers.c"]
    text = text[text.index("#include <math.h>") + len("#include <math.h>") :]
    parts = re.split(r"(?<=^}\n)", text, flags=re.MULTILINE)
    return {m[1]: part for part in parts if (m := re.search(r"^\w[\w ]*?\b(pd_\w+)\(", part, re.MULTILINE))}


def functions_for(text: str) -> str:
    """The functions of the library that a text calls, and those they call, in their order."""
    known = library_functions()
    needed, front = set[str](), {text}
    while front:
        called = {w for t in front for w in re.findall(r"\bpd_\w+", t) if w in known} - needed
        needed |= called
        front = {known[name] for name in called}
    return "".join(part for name, part in known.items() if name in needed)


@dataclass(frozen=True)
class Files:
    """What is shipped: two files for the model, an example, and the library beside."""

    name: str
    header: str
    source: str
    example: str
    table: str
    own_c: bool = False
    """Whether C that a user typed is part of it."""

    @property
    def texts(self) -> dict[str, str]:
        """All files by name."""
        own = {
            f"{self.name}.c": self.source,
            f"{self.name}.h": self.header,
            "main.c": self.example,
            f"{self.name}_table.c": self.table,
        }
        return {**own, **library()}


def type_name(lowered: Lowered, block: LoweredBlock) -> str:
    return f"{lowered.name}_{lowered.members[block.name]}_t"


def call_name(lowered: Lowered, block: LoweredBlock, part: Part) -> str:
    """A static function, so its name may occur in other controllers too."""
    return f"{lowered.members[block.name]}_{part.value}"


def scale_text(rep: Rep) -> str:
    """What a word stands for, as a comment tells it."""
    if rep.floating:
        return ""
    if rep.angle:
        return f"angle, a turn is 2^{rep.bits} steps"
    if rep.fraction == 0:
        return "whole steps of 1"
    span = rep.range
    assert span is not None
    return f"steps of 2^{-rep.fraction}, {span.low:.4g} to {span.high:.4g}"


def field_line(rep: Rep, name: str, note: str = "") -> str:
    text = ", ".join(t for t in (note, scale_text(rep)) if t)
    return f"    {rep.c_type} {name};{'  ' + comment(text) if text else ''}\n"


def struct(lowered: Lowered, block: LoweredBlock) -> str:
    tree, plain = block.tree, {n: p.removeprefix("b->") for n, p in block.places.items()}
    lines = [field_line(block.reps[n], plain[n]) for n in tree.outputs]
    for name in tree.states:
        lines.append(field_line(block.reps[name], plain[name], "remembered"))
        if name in rests(block):
            lines.append(f"    float {plain[name]}_rest;\n")
    if tree.live:
        lines.append(f"    {values_type(lowered, block)} values;\n")
        lines += [field_line(n.rep, n.name, "follows from the values") for n in block.live]
    if tree.places:
        rep = block.reps[LINE]
        lines += [field_line(rep, f"past[{tree.places}]"), "    int32_t at;\n"]
    if not lines:
        lines = ["    int32_t unused;\n"]
    own = f"{comment(tree.title)}\ntypedef struct {{\n{''.join(lines)}}} {type_name(lowered, block)};\n"
    return f"{values_struct(lowered, block)}{own}"


def header(lowered: Lowered) -> str:
    name, guard = lowered.name, f"{lowered.name.upper()}_H"
    inputs = "".join(
        field_line(rep, lowered.fed[i], "rad, within one turn" if i.turn and rep.floating else "")
        for i, rep in lowered.inputs.items()
    )
    outputs = "".join(field_line(lowered.rep(lowered.deck.commands[c]), member) for c, member in lowered.given.items())
    blocks = "".join(f"    {type_name(lowered, b)} {lowered.members[b.name]};\n" for b in lowered.blocks)
    none = "    int32_t unused;\n"
    besides = " or set from outside" if inputs_from_outside(lowered) else ""
    counter = "    uint32_t tick;\n" if counts(lowered) else ""
    return (
        f"/* {name}.h: controller; a value is its word times its step, in SI units.\n * {LICENCE}\n */\n"
        f'#ifndef {guard}\n#define {guard}\n\n#include <stdint.h>\n#include "pd_numbers.h"\n\n'
        + "\n".join(struct(lowered, b) for b in lowered.blocks)
        + f"\n/* What is measured{besides} at each tick. */\ntypedef struct {{\n{inputs or none}}} {name}_in_t;\n\n"
        f"/* What goes to the power stage. */\ntypedef struct {{\n{outputs or none}}} {name}_out_t;\n\n"
        f"typedef struct {{\n{counter}    {name}_in_t in;\n    {name}_out_t out;\n{blocks}}} {name}_t;\n\n"
        f"void {name}_init({name}_t *c);\n\n/* Call every {lowered.deck.tick * 1e6:g} us after filling c->in; "
        f"then use c->out. */\nvoid {name}_tick({name}_t "
        f"*c);\n\n{declarations(lowered)}{table_declaration(lowered)}#endif\n"
    )


def parameters(block: LoweredBlock, part: Part) -> list[str]:
    """Inputs that a call takes: those its half of the update reads."""
    if block.tree.verbatim:
        return list(block.tree.inputs)
    body = {Part.GIVE: block.tree.give, Part.TAKE: block.tree.take, Part.WHOLE: block.tree.body}[part]
    read = {n for e in expressions(body) for n in e.names}
    text = re.sub(r"/\*.*?\*/", "", "\n".join(block.bodies.get(part, ())))
    return [p for p in block.tree.inputs if p in read and re.search(rf"(?<![\w>.]){block.places[p]}\b", text)]


def functions(lowered: Lowered, block: LoweredBlock) -> str:
    texts = list[str]()
    head = f"{comment(about(block.tree.instance, lowered.deck.tick))}\n"
    for part, lines in block.bodies.items():
        arguments = [f"{type_name(lowered, block)} *b"]
        arguments += [f"{block.reps[p].c_type} {block.places[p]}" for p in parameters(block, part)]
        own = "\n".join(lines)
        # Outputs that are constants leave nothing that reads the block.
        unused = "" if "b->" in own else "    (void)b;\n"
        texts.append(
            f"{'' if texts else head}static void {call_name(lowered, block, part)}({', '.join(arguments)})\n"
            f"{{\n{unused}{own}\n}}\n"
        )
    return "\n".join(texts)


OWN_CALL = re.compile(r"\b(saturate|absolute|floor|sqrt|sin|cos|atan2|minimum|maximum|wrapped)(?=\s*\()")


def verbatim_function(lowered: Lowered, block: LoweredBlock) -> str:
    """An update the user wrote in C, between what fetches its names and what puts them back."""
    if block.number.fixed:
        return words_function(lowered, block, Part.WHOLE)
    code, kind = block.tree.instance.code, FLOAT[block.number.bits].c_type
    assert isinstance(code.verbatim, CheckedC), "C that was not read into tokens goes nowhere"
    suffix = "f" if block.number.bits == 32 else "d"
    fields = {n: block.places[n] for n in (*block.tree.outputs, *block.tree.states)}
    fetch = "".join(f"    {kind} {n} = {p};\n    (void){n};\n" for n, p in fields.items())
    writer_values = {**block.tree.instance.values, "dt": lowered.deck.tick * block.tree.instance.every}
    live = block.numbers.values
    known = [v for v in (*block.tree.instance.used_values, "dt") if v not in live]
    fetch += "".join(f"    {kind} {n} = b->values.{m};\n    (void){n};\n" for n, m in live.items())
    unwired = [p for p in block.tree.instance.inputs if p not in block.tree.inputs and p in code.arguments]
    fetch += "".join(f"    (void){p};\n" for p in block.tree.inputs)
    fixed = {n: writer_values[n] for n in known} | dict.fromkeys(unwired, 0.0)
    fetch += "".join(
        f"    {kind} {n} = {float_text(float(v), block.number.bits)};\n    (void){n};\n" for n, v in fixed.items()
    )
    keep = "".join(f"    {p} = {n};\n" for n, p in fields.items())
    typed = OWN_CALL.sub(rf"pd_\1_{suffix}", code.verbatim)
    body = "".join(f"    {line}\n" for line in typed.split("\n"))
    arguments = [f"{type_name(lowered, block)} *b", *(f"{kind} {p}" for p in block.tree.inputs)]
    return (
        f"#define real_t {kind}\nstatic void {call_name(lowered, block, Part.WHOLE)}({', '.join(arguments)})\n"
        f"{{\n{fetch}    {{\n{body}    }}\n{keep}}}\n#undef real_t\n"
    )


WORDS_CALL = re.compile(r"\b(saturate|absolute|minimum|maximum|moved)(?=\s*\()")
WORDS_NAMES = {"saturate": "clamp", "absolute": "abs", "minimum": "min", "maximum": "max", "moved": "moved"}


def words_function(lowered: Lowered, block: LoweredBlock, part: Part | None) -> str:
    """A typed update in words, or with no part what turns the block's values into words."""
    code, tree, bits = block.tree.instance.code, block.tree, 2 * block.number.bits
    typed = code.words if part else code.convert
    assert isinstance(typed, CheckedC), "C that was not read into tokens goes nowhere"
    real, instance = FLOAT[block.value_bits].c_type, tree.instance
    ports = [p for p in (*instance.inputs, *instance.outputs) if p in code.arguments]
    digits = ", ".join(f"{p}_q = {block.reps[p].fraction if p in block.reps else 0}" for p in ports)
    fetch = f"    enum {{ {digits} }};\n" if digits else ""
    fields = {n: block.places[n] for n in (*(tree.outputs if part else ()), *tree.states)}
    fetch += "".join(f"    wide_t {n} = {p};\n    (void){n};\n" for n, p in fields.items())
    if part:
        unwired = [p for p in instance.inputs if p in code.arguments and p not in tree.inputs]
        fetch += "".join(f"    const wide_t {n} = 0;\n    (void){n};\n" for n in unwired)
        fetch += "".join(f"    const wide_t {n} = {n}_word;\n    (void){n};\n" for n in tree.inputs)
    else:
        fixed = {
            **{v: instance.values[v] for v in instance.used_values},
            "dt": lowered.deck.tick * instance.every,
        }
        live = block.numbers.values
        texts = {
            n: f"b->values.{live[n]}" if n in live else float_text(float(v), block.value_bits) for n, v in fixed.items()
        }
        fetch += "".join(f"    const {real} {n} = {text};\n    (void){n};\n" for n, text in texts.items())
    keep = ""
    for n, place in fields.items():
        rep = block.reps[n]
        value = n if n in tree.states else f"({rep.c_type})pd_clamp{bits}({n}, {rep.low}, {rep.high})"
        keep += f"    {place} = {value};\n"
    called = WORDS_CALL.sub(lambda m: f"pd_{WORDS_NAMES[m[1]]}{bits}", typed)
    body = "".join(f"    {line}\n" for line in called.split("\n"))
    arguments = [f"{type_name(lowered, block)} *b"]
    arguments += [f"{block.reps[p].c_type} {p}_word" for p in tree.inputs] if part else []
    name = call_name(lowered, block, part) if part else f"{lowered.members[block.name]}_convert"
    return (
        f"#define word_t {FIXED_TYPES[block.number.bits]}\n#define wide_t {FIXED_TYPES[bits]}\n#define "
        f"real_t {real}\n"
        f"static void {name}({', '.join(arguments)})\n"
        f"{{\n{fetch}    {{\n{body}    }}\n{keep}}}\n#undef word_t\n#undef wide_t\n#undef real_t\n\n"
    )


def typed_functions(lowered: Lowered) -> dict[str, str]:
    """Names of the functions that hold typed C, with the titles of their blocks."""
    titles = {}
    for block in lowered.blocks:
        if block.tree.verbatim:
            titles[call_name(lowered, block, Part.WHOLE)] = block.tree.title
            titles[f"{lowered.members[block.name]}_convert"] = block.tree.title
    return titles


FIXED_TYPES = {16: "int16_t", 32: "int32_t", 64: "int64_t"}


def converts(block: LoweredBlock) -> bool:
    """Whether a block brings C that turns its values into words."""
    return block.number.fixed and bool(block.tree.instance.code.convert.strip())


MATHEMATICS = re.compile(
    r"\b(?:a?(?:sin|cos|tan)h?|atan2|exp2?|expm1|log(?:2|10|1p)?|pow|sqrt|cbrt|hypot|fabs|floor|ceil|l?l?r(?:ound|int)"
    r"|trunc|fmod|remainder|fmin|fmax|fdim|copysign|ldexp|frexp|modf)f?\("
)
"""Functions of math.h, of which some are called."""
COMMENT = re.compile(r"/\*.*?\*/", re.DOTALL)


def source(lowered: Lowered) -> str:
    name = lowered.name
    updates = "\n".join(
        (words_function(lowered, b, None) if converts(b) else "")
        + conversions(lowered, b, f"    {lowered.members[b.name]}_convert(b);\n" if converts(b) else "")
        + (verbatim_function(lowered, b) if b.tree.verbatim else functions(lowered, b))
        for b in lowered.blocks
    )
    tables = "\n".join(t for b in lowered.blocks for t in dict.fromkeys(b.tables))
    typed = any(b.tree.verbatim or converts(b) for b in lowered.blocks)  # by somebody who may use what he likes
    mathematics = "#include <math.h>\n" if typed or MATHEMATICS.search(COMMENT.sub("", updates)) else ""
    return (
        f"/* {name}.c: controller of {len(lowered.blocks)} blocks, sampling period {lowered.deck.tick * 1e6:g} "
        f"us.\n"
        f' * {LICENCE}\n */\n#include "{name}.h"\n#include "pd_numbers.h"\n{mathematics}\n'
        + (f"{tables}\n\n" if tables else "")
        + f"{updates}\nvoid {name}_init({name}_t *c)\n"
        + f"{{\n    static const {name}_t zero = {{0}};\n    *c = zero;\n"
        + "".join(
            start(lowered, b)
            if b.tree.live
            else f"    {lowered.members[b.name]}_convert(&c->{lowered.members[b.name]});\n"
            for b in lowered.blocks
            if b.tree.live or converts(b)
        )
        + "}\n\n"
        + converting(lowered)
        + tick(lowered)
    )


def argument(lowered: Lowered, block: LoweredBlock, port: str) -> str:
    """What a call hands over at an input, in the format the block takes it."""
    signal = str(block.tree.instance.sources[port])
    name = signal.partition(".")[0]
    if name in lowered.members:
        return converted(f"c->{lowered.place(signal)}", lowered.rep(signal), block.reps[port])
    key = input_key(block, port)
    return converted(f"c->in.{lowered.fed[key]}", lowered.inputs[key], block.reps[port])


def tick(lowered: Lowered) -> str:
    """The schedule: blocks in running order, those of one rate together."""
    name, lines = lowered.name, list[str]()
    instances = {b.name: b.tree.instance for b in lowered.blocks}
    for (every, phase), steps in groupby(lowered.steps, lambda s: (instances[s.block].every, instances[s.block].phase)):
        calls = [f"{call_text(lowered, step)};" for step in steps]
        if every == 1:
            lines += [f"    {call}" for call in calls]
        else:
            lines += [
                f"    if ((c->tick % {every}u) == {phase}u) {{",
                *[f"        {call}" for call in calls],
                "    }",
            ]
    for command, member in lowered.given.items():
        lines.append(f"    c->out.{member} = c->{lowered.place(lowered.deck.commands[command])};")
    if counts(lowered):
        lines.append(f"    c->tick = (c->tick + 1u) % {lowered.deck.period}u;")
    if not lines:  # of a drive without blocks
        lines = ["    (void)c;"]
    return f"void {name}_tick({name}_t *c)\n{{\n" + "\n".join(lines) + "\n}\n"


def counts(lowered: Lowered) -> bool:
    """Whether a block runs less often than at each tick, so that ticks are counted."""
    return any(b.tree.instance.every > 1 for b in lowered.blocks)


def call_text(lowered: Lowered, step: Step) -> str:
    block = lowered.block(step.block)
    arguments = [f"&c->{lowered.members[block.name]}"]
    arguments += [argument(lowered, block, p) for p in parameters(block, step.part)]
    return f"{call_name(lowered, block, step.part)}({', '.join(arguments)})"


def inputs_from_outside(lowered: Lowered) -> list[Input]:
    """Inputs that no sensor gives: outputs of blocks that come from outside on the board."""
    alone = {b.name for b in lowered.deck.blocks if b.sensor and not any(b.sources.values())}
    return [i for i in lowered.inputs if i.signal.partition(".")[0] in alone]


def example_main(lowered: Lowered) -> str:
    name = lowered.name
    said = set(inputs_from_outside(lowered))
    hints = {i: "set it by your program" if i in said else "read your converter here" for i in lowered.inputs}
    fill = "\n".join(f"        c.in.{lowered.fed[i]} = 0;  /* {hint} */" for i, hint in hints.items())
    use = "\n".join(
        f'        (void)printf("%g\\n", {converted(f"c.out.{m}", lowered.rep(lowered.deck.commands[c]), FLOAT[64])});'
        for c, m in lowered.given.items()
    )
    return (
        f"/* Example: call the controller of {name}.c at its tick.\n * {LICENCE}\n */\n#include "
        f'"{name}.h"\n#include <stdio.h>\n\nint main(void)\n{{\n'
        f"    static {name}_t c;\n    int k;\n    {name}_init(&c);\n    for (k = 0; k < 10; k++) "
        f"{{\n{fill}\n        {name}_tick(&c);\n{use}\n    }}\n    return 0;\n}}\n"
    )


def files(lowered: Lowered) -> Files:
    """All that is shipped of a deck."""
    own_c = any(b.tree.verbatim for b in lowered.blocks)
    return Files(
        lowered.name,
        folded(header(lowered)),
        folded(source(lowered)),
        example_main(lowered),
        table(lowered, LICENCE),
        own_c,
    )


# behind the interface of the time loop --------------------------------------------------------------------


def sensing_deck(deck: ControlDeck) -> ControlDeck:
    """The sensors alone, which stay on the host.

    Raises
    ------
    SensorReadsController
    """
    sensors = tuple(b for b in deck.blocks if b.sensor)
    own = {b.name for b in deck.blocks if not b.sensor}
    for sensor in sensors:
        if any(s and s.partition(".")[0] in own for s in sensor.sources.values()):
            raise SensorReadsController(sensor.title)
    return replace(deck, name=f"{deck.name} host", blocks=sensors, commands={})


def one_unit(lowered: Lowered, adapter: str) -> str:
    """The shipped files and what they and an adapter use of their library, as one translation unit."""
    parts = library()
    body = files(lowered)
    header_alone = body.header.replace('#include "pd_numbers.h"\n', "")
    source_alone = body.source.replace(f'#include "{lowered.name}.h"\n', "").replace('#include "pd_numbers.h"\n', "")
    used = functions_for(source_alone + adapter)
    head = f"#include <math.h>\n{parts['pd_numbers.h']}"
    return "\n".join((head, used, header_alone, source_alone))


@lru_cache(maxsize=8)
def shipped_in_simulation(lowered: Lowered, prefix: str = "pd_ctl", *, can_rest: bool = False, ticks: str = "") -> str:
    """The shipped C behind the interface of `pendel.core.controllers.emit.simulation_source`: sensors in
    float64 on the host, the controller in its own formats, words turned into numbers for what is recorded.
    Where it ``can_rest``, the controller runs while ``runs`` of the struct is not 0. ``ticks`` names a function of the
    text behind that has its tick done elsewhere."""
    deck = lowered.deck
    sensing = sensing_deck(deck)
    em = Emission(sensing)
    host, name = em.name, lowered.name
    read = {s: f"in[{k}]" for k, s in enumerate(deck.measured)}
    with_host = bool(sensing.blocks)
    fill_host = "".join(f"    c->host.in.{em.fed[i]} = {read[i]};\n" for i in em.inputs)
    own = {b.name for b in lowered.blocks}

    def outside(signal: str) -> str:
        return f"c->host.{em.field(*signal.split('.', 1))}" if signal in _signals(sensing) else read[signal]

    def word(key: Input, rep: Rep) -> str:
        place = outside(key.signal)
        if key.turn and rep.floating:
            place = f"fmod({place}, {2 * math.pi!r})"
        return converted(place, FLOAT[64], rep)

    fill = "".join(f"    c->own.in.{lowered.fed[i]} = {word(i, rep)};\n" for i, rep in lowered.inputs.items())

    def number(signal: str) -> str:
        block, _, port = signal.partition(".")
        if block not in own:
            return f"c->host.{em.field(block, port)}"
        return converted(f"c->own.{lowered.place(signal)}", lowered.rep(signal), FLOAT[64])

    def state(signal: str) -> str:
        block, _, name_ = signal.partition(".")
        return number(signal) if block not in own or name_ in lowered.block(block).tree.states else "0.0"

    show = "".join(f"    signals[{k}] = {number(s)};\n" for k, s in enumerate(deck.signals))
    give = "".join(f"    out[{k}] = {number(s)};\n" for k, s in enumerate(deck.commands.values()) if s)
    kept = "".join(f"    z[{k}] = {state(s)};\n" for k, s in enumerate(states_of(deck.blocks)))
    host_type = f"    {host}_t host;\n" if with_host else ""
    host_text = _host_unit(em) if with_host else ""
    live = len(live_names(lowered))
    host_init = f"    pd_host_seed(&c->host, v + {live});\n" if with_host else ""
    host_bind = f"    pd_host_bind(&c->host, v + {live});\n" if with_host else ""
    host_tick = f"{fill_host}    {host}_tick(&c->host);\n" if with_host else ""
    runs, condition = ("    int32_t runs;\n", "if (c->runs != 0) ") if can_rest else ("", "")
    elsewhere = f"static void {ticks}({name}_t *own);\n\n" if ticks else ""
    adapter = (
        f"{host_text}\ntypedef struct {{\n{host_type}    {name}_t own;\n{runs}}} pd_both_t;\n\n{elsewhere}"
        f"int {prefix}_size(void) {{ return (int)sizeof(pd_both_t); }}\n\n"
        f"int {prefix}_own_size(void) {{ return (int)sizeof({name}_t); }}\n\n"
        f"void {prefix}_bind(pd_both_t *c, double *v)\n{{\n    (void)c; (void)v;\n"
        f"{taking(lowered, 'c->own.')}{host_bind}}}\n\n"
        f"void {prefix}_init(pd_both_t *c, double "
        f"*v)\n{{\n    (void)v;\n    {name}_init(&c->own);\n{host_init}"
        f"    {prefix}_bind(c, v);\n}}\n\n"
        f"void {prefix}_tick(pd_both_t *c, const double *in, double *signals, double *out)\n{{\n"
        f"    (void)in; (void)signals; (void)out;\n{host_tick}{fill}    "
        f"{condition}{ticks or f'{name}_tick'}(&c->own);\n{show}{give}}}\n\n"
        f"void {prefix}_states(const pd_both_t *c, double *z)\n{{\n    (void)c; (void)z;\n{kept}}}\n"
    )
    return f"{one_unit(lowered, adapter)}\n{adapter}"


def _signals(deck: ControlDeck) -> set[str]:
    return set(deck.signals)


def _host_unit(em: Emission) -> str:
    lines, seeds = binding_lines(em)
    join = "\n".join
    return (
        f"{source_text(em)}\nstatic void pd_host_bind({em.name}_t *c, double *v)\n{{\n    real_t *w;\n"
        f"    (void)c; (void)v; (void)w;\n{join(lines)}\n}}\n\n"
        f"static void pd_host_seed({em.name}_t *c, double *v)\n"
        f"{{\n    static const {em.name}_t zero = {{0}};\n    *c = zero;\n    (void)v;\n{join(seeds)}\n}}\n"
    )


def shipped_alone(lowered: Lowered) -> str:
    """The shipped C fed at its own border: inputs in SI in, all its signals in SI out."""
    name = lowered.name
    fill = ""
    for k, (key, rep) in enumerate(lowered.inputs.items()):
        place = f"fmod(in[{k}], {2 * math.pi!r})" if key.turn and rep.floating else f"in[{k}]"
        fill += f"    c->in.{lowered.fed[key]} = {converted(place, FLOAT[64], rep)};\n"
    show = "".join(
        f"    signals[{k}] = {converted(f'c->{lowered.place(s)}', lowered.rep(s), FLOAT[64])};\n"
        for k, s in enumerate(f"{b.name}.{p}" for b in lowered.blocks for p in b.tree.outputs)
    )
    adapter = (
        f"int pd_ctl_size(void) {{ return (int)sizeof({name}_t); }}\n\n"
        f"void pd_ctl_init({name}_t *c, double *v)\n{{\n    (void)v;\n    {name}_init(c);\n}}\n\n"
        f"void pd_ctl_take({name}_t *c, const double "
        f"*v)\n{{\n    (void)c; (void)v;\n{taking(lowered, 'c->')}}}\n\n"
        f"void pd_ctl_tick({name}_t *c, const double *in, double *signals, double *out)\n{{\n"
        f"    (void)in; (void)signals; (void)out;\n{fill}    {name}_tick(c);\n{show}}}\n"
    )
    return f"{one_unit(lowered, adapter)}\n{adapter}"


def shipped_values(lowered: Lowered, deck: ControlDeck, *, seed: int) -> list[float]:
    """The numbers that `pd_ctl_init` of the shipped C takes: live values, then those of the sensors, as a deck
    of the same code has them."""
    live = [deck.block(b.name).values[v.name] for b in lowered.blocks for v in b.tree.live]
    sensing = sensing_deck(deck)
    return live + (simulation_values(sensing, seed=seed) if sensing.blocks else [])


def shipped_value_names(lowered: Lowered) -> tuple[str, ...]:
    sensing = sensing_deck(lowered.deck)
    return live_names(lowered) + (value_names(sensing) if sensing.blocks else ())


__all__ = [
    "Files",
    "SensorReadsController",
    "files",
    "library",
    "shipped_alone",
    "shipped_in_simulation",
    "shipped_value_names",
    "shipped_values",
    "typed_functions",
]
