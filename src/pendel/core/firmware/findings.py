"""What wants attention in a controller as shipped, before anything runs."""

from __future__ import annotations

from collections.abc import Mapping

from pendel.core.check.signal_units import signal_unit
from pendel.core.controllers.numbers.block import LINE
from pendel.core.controllers.numbers.digits import grid
from pendel.core.controllers.numbers.intervals import Interval
from pendel.core.controllers.numbers.lowering import Lowered, LoweredBlock
from pendel.core.controllers.numbers.ranges import Source
from pendel.core.controllers.numbers.representation import NumberFormat
from pendel.core.controllers.numbers.tree import (
    Call,
    Choose,
    Const,
    Expr,
    Name,
    Product,
    Quotient,
    Scaled,
    Sum,
)
from pendel.core.drive import commands
from pendel.core.drive.commands import Command
from pendel.core.drive.document import Drive, End
from pendel.core.drive.findings import Finding, attention
from pendel.core.quantities.units import figure, number_text
from pendel.core.quantities.units import unit as unit_of

OUTWARD = 1.0005
"""By how much more than it may come to a range is widened, as it is written with four digits."""
COARSE = 0.01
"""Relative error of a coefficient from which on it is reported."""


def findings_of(drive: Drive, lowered: Lowered) -> list[Finding]:
    """Ranges that do not hold what may come, increments that are lost, divisors that may be zero, and
    coefficients that are kept coarsely, block by block."""
    return [f for block in lowered.blocks if block.number.fixed for f in _of_block(drive, block, lowered.seen)]


def _of_block(drive: Drive, block: LoweredBlock, sizes: Mapping[str, float]) -> list[Finding]:
    title, key = block.tree.title, block.name
    wider = commands.set_number_format(drive, key, NumberFormat.FIXED32.value)
    can_widen = block.number is NumberFormat.FIXED16
    fix, label = (wider, "Take 32 bits") if can_widen else (None, "")
    findings = [_beyond(drive, block, name) for name in block.tree.outputs]
    findings.append(_only_seen(drive, block))
    for name in (*block.tree.outputs, *block.tree.states):
        findings.append(_coarse_word(drive, block, name, sizes.get(f"{key}.{name}", 0.0), fix, label))
    for name in block.tree.outputs:
        findings.append(_jumping(drive, block, name, sizes.get(f"{key}.{name}", 0.0), fix, label))
    for name, minimum in block.lost.items():
        findings.append(
            attention(
                f"{title}: {name} loses increments from inputs below {number_text(float(f'{minimum:.3g}'))}, "
                f"as half "
                f"its step is more. "
                f"{'Take 32 bits.' if can_widen else 'Choose float, or let it run less often.'}",
                key,
                "number_format",
                fix,
                label,
            )
        )
    for under in dict.fromkeys(block.divisors):
        findings.append(
            attention(
                f"{title}: its divisor {text_of(under)} may be 0 within the ranges; then the quotient is its "
                "dividend. Keep it from zero by a limit, or set ranges that leave zero out.",
                key,
                "number_format",
            )
        )
    for quotient, reach in block.coarse.items():
        maximum, step = (number_text(float(f"{x:.2g}")) for x in (reach.high, reach.low))
        findings.append(
            attention(
                f"{title}: by its ranges, {text_of(quotient)} may come to {maximum}, so that its steps are "
                f"{step}. "
                "Limit it where it is computed, or choose float.",
                key,
                "number_format",
            )
        )
    coarse = max(block.coefficients, key=lambda c: c.error, default=None)
    if coarse is not None and coarse.error > COARSE:
        findings.append(
            attention(
                f"{title}: the coefficient {coarse.wanted:.4g} is kept to {100 * coarse.error:.2g} % only. "
                f"{'Take 32 bits.' if can_widen else 'Narrow the ranges, or choose float.'}",
                key,
                "number_format",
                fix,
                label,
            )
        )
    return [f for f in findings if f is not None]


def _beyond(drive: Drive, block: LoweredBlock, name: str) -> Finding | None:
    """A range by hand that does not hold what may come."""
    known, holds = block.ranges.ranges.get(name), block.reps[name].range
    if known is None or holds is None or known.source is not Source.HAND or known.reaches.within(holds):
        return None
    unit = signal_unit(drive, End(block.name, name))
    if not known.reaches.finite:
        return None  # how far it may come is not known
    edge, held = (max((i.low, i.high), key=lambda x: (abs(x), x)) for i in (known.reaches, holds))
    in_field = unit_of(unit)[0]
    low, high = (f"{OUTWARD * x / in_field:.4g}" for x in (known.reaches.low, known.reaches.high))
    return attention(
        f"{block.tree.title} may reach {figure(edge, unit, 3)}, and by its range {name} holds "
        f"{figure(held, unit, 3)}: it will be limited there. Widen the range.",
        block.name,
        f"range:{name}",
        commands.set_range(drive, block.name, name, (low, high)),
        "Widen the range",
    )


def _only_seen(drive: Drive, block: LoweredBlock) -> Finding | None:
    """Names whose words end at twice what one run showed, since nothing bounds them, or what does is too wide."""
    names = [n for n, r in block.ranges.ranges.items() if r.source is Source.RUN]
    if not names:
        return None
    ends = {n: _in_field(drive, block, n) for n in names}
    shown = [f"{_shown_name(n)} ±{figure(block.ranges.interval(n).size, ends[n][1], 3)}" for n in names]
    listed = ", ".join(shown[:SHOWN_NAMES]) + (f" and {len(shown) - SHOWN_NAMES} more" if shown[SHOWN_NAMES:] else "")
    if block.ranges.boundless.issuperset(names):
        why, remedy = "nothing bounds for sure what it computes", "or choose float"
    else:
        why, remedy = f"{block.number.bits} bits have too few digits for all that may come", "or take more bits"
    texts = {n: _texts(block, n, ends[n][0]) for n in names}
    limits = commands.set_ranges(drive, block.name, texts, f"Take ranges of {block.tree.title} as limits")
    return attention(
        f"{block.tree.title}: {why}, so that words end at twice what the run showed: {listed}. "
        f"Set ranges that hold what may come, {remedy}.",
        block.name,
        f"range:{names[0]}",
        limits,
        "Take these as limits",
    )


SHOWN_NAMES = 4
"""Names that a sentence lists."""


def _shown_name(name: str) -> str:
    return "its memory" if name == LINE else name


def _in_field(drive: Drive, block: LoweredBlock, name: str) -> tuple[float, str]:
    """The factor of the unit in which a range is typed, and the unit in which it is shown."""
    unit = signal_unit(drive, End(block.name, name)) if name in block.tree.outputs else ""
    return unit_of(unit)[0], unit


def _texts(block: LoweredBlock, name: str, in_field: float) -> tuple[str, str]:
    ends = block.ranges.interval(name).hull(Interval(0.0, 0.0))
    return f"{ends.low / in_field:.4g}", f"{ends.high / in_field:.4g}"


def _coarse_word(
    drive: Drive, block: LoweredBlock, name: str, seen: float, fix: Command | None, label: str
) -> Finding | None:
    """A word that must hold so much that few steps are left for what the run showed."""
    rep, known = block.reps[name], block.ranges.ranges.get(name)
    if rep.angle or rep.bits > block.number.bits or known is None or grid(name, block.tree, {}, 3) is not None:
        return None
    steps = seen / rep.step
    if known.source in (Source.RUN, Source.HAND) or not 0.0 < steps < FEW_STEPS:
        return None
    unit = _in_field(drive, block, name)[1]
    return attention(
        f"{block.tree.title}: {name} may come to {figure(known.interval.size, unit, 3)}, so that the "
        f"{figure(seen, unit, 3)} that the run showed have {steps:.2g} steps. "
        f"{'Take 32 bits, or set' if fix else 'Set'} a range that it is to be limited to.",
        block.name,
        "number_format" if fix else f"range:{name}",
        fix,
        label,
    )


FEW_STEPS = 64


def _jumping(
    drive: Drive, block: LoweredBlock, name: str, seen: float, fix: Command | None, label: str
) -> Finding | None:
    """An output that a single step of what the block reads or remembers moves far, such as a difference over a tick."""
    rep, jump = block.reps[name], block.jumps.get(name, 0.0)
    if rep.angle or grid(name, block.tree, {}, 3) is not None or jump <= rep.step or not 0.0 < seen < FEW_STEPS * jump:
        return None
    unit = _in_field(drive, block, name)[1]
    return attention(
        f"{block.tree.title}: {name} moves by {figure(jump, unit, 3)} at least, of the {figure(seen, unit, 3)} that "
        "the run showed, as one step of a word that it is computed from counts so much. "
        f"{'Take 32 bits' if fix else 'Choose float'}, or set narrower ranges for what it reads.",
        block.name,
        "number_format",
        fix,
        label,
    )


def text_of(expr: Expr) -> str:
    """An expression as a user would write it."""
    match expr:
        case Const(value):
            return f"{value:.4g}"
        case Name(name):
            return name
        case Sum(left, right, minus):
            return f"({text_of(left)} {'−' if minus else '+'} {text_of(right)})"
        case Scaled(factor, of):
            return f"{factor:.4g}·{text_of(of)}"
        case Product(left, right):
            return f"{text_of(left)}·{text_of(right)}"
        case Quotient(over, under):
            return f"{text_of(over)}/{text_of(under)}"
        case Call(function, args):
            return f"{function}({', '.join(text_of(a) for a in args)})"
        case Choose():
            return "of two branches"
    return "of it"
