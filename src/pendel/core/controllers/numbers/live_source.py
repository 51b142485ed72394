"""C of live values: their struct, the function that takes new ones in, and the one that gives them."""

from __future__ import annotations

import math

import numpy as np

from pendel.core.controllers.c_names import comment
from pendel.core.controllers.numbers.conversion import float_text
from pendel.core.controllers.numbers.floating import FloatWriter
from pendel.core.controllers.numbers.live import LiveNumber
from pendel.core.controllers.numbers.lowering import Lowered, LoweredBlock
from pendel.core.controllers.numbers.representation import FLOAT


def values_type(lowered: Lowered, block: LoweredBlock) -> str:
    return f"{lowered.name}_{lowered.value_structs[block.name]}_t"


def take_name(lowered: Lowered, block: LoweredBlock) -> str:
    return f"{lowered.name}_{lowered.value_structs[block.name]}_take"


def taker(lowered: Lowered, block: LoweredBlock) -> str:
    own, kind = f"{lowered.name}_{lowered.members[block.name]}_t", values_type(lowered, block)
    head = f"void {take_name(lowered, block)}("
    return f"{head}{own} *b,\n{' ' * len(head)}const {kind} *values)"


def giver(lowered: Lowered, block: LoweredBlock) -> str:
    own, kind = f"{lowered.name}_{lowered.members[block.name]}_t", values_type(lowered, block)
    head = f"void {lowered.name}_{lowered.value_structs[block.name]}_give("
    return f"{head}const {own} *b,\n{' ' * len(head)}{kind} *values)"


def values_struct(lowered: Lowered, block: LoweredBlock) -> str:
    """The struct of a block's live values, in SI."""
    if not block.tree.live:
        return ""
    kind = FLOAT[block.value_bits].c_type
    lines = [
        f"    {kind} {block.numbers.values[v.name]};  {comment(f'{v.ends.low:.6g} to {v.ends.high:.6g}')}\n"
        for v in block.tree.live
    ]
    title = comment(f"Values of {block.tree.title} that can be changed while it runs, in SI units.")
    return f"{title}\ntypedef struct {{\n{''.join(lines)}}} {values_type(lowered, block)};\n\n"


def declarations(lowered: Lowered) -> str:
    """What the header says of taking and giving live values."""
    lines = []
    for block in lowered.blocks:
        if block.tree.live:
            lines += [f"{taker(lowered, block)};", f"{giver(lowered, block)};"]
    if not lines:
        return ""
    note = "/* New values, each brought within its ends, and the present ones. Call them between two ticks. */"
    written = "/* After values were written in place, by what NAME_find gives: converts them all. */"
    lines += [written.replace("NAME", lowered.name), f"void {lowered.name}_convert({lowered.name}_t *c);"]
    return "\n".join((note, *lines)) + "\n\n"


def converting(lowered: Lowered) -> str:
    """The function that converts all live values where they are."""
    calls = [
        f"    {take_name(lowered, b)}(&c->{own}, &c->{own}.values);\n"
        for b in lowered.blocks
        if b.tree.live
        for own in (lowered.members[b.name],)
    ]
    return f"void {lowered.name}_convert({lowered.name}_t *c)\n{{\n{''.join(calls)}}}\n\n" if calls else ""


def conversions(lowered: Lowered, block: LoweredBlock, last: str = "") -> str:
    """The functions that take a block's live values in and give them; ``last`` is a line of C that converts them
    besides."""
    if not block.tree.live:
        return ""
    suffix = "f" if block.value_bits == 32 else "d"
    places = {v.name: f"b->values.{block.numbers.values[v.name]}" for v in block.tree.live}
    writer = FloatWriter(block.tree, block.value_bits, places)
    lines = []
    for v in block.tree.live:
        low, high = (writer.constant(x) for x in inside(v.ends.low, v.ends.high, block.value_bits))
        member = block.numbers.values[v.name]
        lines.append(f"    {places[v.name]} = pd_within_{suffix}(values->{member}, {low}, {high});")
    lines += [f"    b->{n.name} = {converted_number(writer, n)};" for n in block.live]
    body = "\n".join(lines)
    takes = f"{taker(lowered, block)}\n{{\n{body}\n{last}}}\n\n"
    return f"{takes}{giver(lowered, block)}\n{{\n    *values = b->values;\n}}\n\n"


def as_kept(value: float, bits: int) -> float:
    """A value as a float of so many bits has it."""
    with np.errstate(over="ignore"):
        return value if bits == 64 else float(np.float32(value))


def live_names(lowered: Lowered) -> tuple[str, ...]:
    """All live values, ``block.value``."""
    return tuple(f"{b.name}.{v.name}" for b in lowered.blocks for v in b.tree.live)


def taking(lowered: Lowered, controller: str) -> str:
    """Statements that take all live values from numbers ``v`` into a controller."""
    lines, at = "", 0
    for block in lowered.blocks:
        if not block.tree.live:
            continue
        kind, cast = values_type(lowered, block), "" if block.value_bits == 64 else "(float)"
        fill = ""
        for v in block.tree.live:
            fill += f"        w.{block.numbers.values[v.name]} = {cast}v[{at}];\n"
            at += 1
        place = f"&{controller}{lowered.members[block.name]}"
        lines += f"    {{\n        {kind} w;\n{fill}        {take_name(lowered, block)}({place}, &w);\n    }}\n"
    return lines


def inside(low: float, high: float, bits: int) -> tuple[float, float]:
    """Ends as they are; in 32-bit float the nearest numbers that lie within them, where some do."""
    if bits == 64:
        return low, high
    a, b = np.float32(low), np.float32(high)
    a = np.nextafter(a, np.float32(math.inf)) if float(a) < low else a
    b = np.nextafter(b, np.float32(-math.inf)) if float(b) > high else b
    return (float(a), float(b)) if a <= b else (low, high)


def converted_number(writer: FloatWriter, number: LiveNumber) -> str:
    text, rep = writer.value(number.live.of), number.rep
    if rep.floating:
        return text
    steps = float_text(math.ldexp(1.0, rep.fraction), writer.bits)
    return f"pd_word_{writer.suffix}({text}, {steps}, {rep.low}, {rep.high})"


def start(lowered: Lowered, block: LoweredBlock) -> str:
    """What the start of the controller does for a block's live values."""
    writer = FloatWriter(block.tree, block.value_bits, {})
    values = ", ".join(writer.literal(as_kept(v.start, block.value_bits)) for v in block.tree.live)
    name = lowered.value_structs[block.name]
    return (
        f"    {{\n        static const {values_type(lowered, block)} {name} = {{{values}}};\n"
        f"        {take_name(lowered, block)}(&c->{lowered.members[block.name]}, &{name});\n    }}\n"
    )
