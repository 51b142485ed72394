"""A page about a controller as shipped: each block with its signals, ranges, conversion, memory and what wants
attention. All text of the drive passes `html.escape`."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from html import escape

from pendel.core.controllers.numbers.lowering import Lowered, LoweredBlock
from pendel.core.controllers.numbers.representation import Rep
from pendel.core.controllers.numbers.source import LICENCE, scale_text
from pendel.core.drive.findings import Finding
from pendel.core.firmware.facts import BlockFacts, facts_of
from pendel.core.firmware.findings import text_of
from pendel.core.quantities.units import figure

STYLE = (
    "body{font-family:sans-serif;margin:2em;max-width:60em;color:#1e2a32}"
    "table{border-collapse:collapse;margin:.5em 0 1.5em}td,th{border:1px solid #d9d4c7;padding:.3em .6em;"
    "text-align:left}td.n{text-align:right}h2{margin-bottom:.2em}p{margin:.2em 0}"
)


def document_of(lowered: Lowered, units: Mapping[str, str], findings: Iterable[Finding] = ()) -> str:
    """The page as HTML.

    Parameters
    ----------
    units
        of signals, by ``card.port``.
    """
    facts = facts_of(lowered)
    reported = list(findings)
    inputs = "".join(
        row(
            lowered.fed[i],
            rep.c_type,
            *ends(rep, units.get(i.signal, "")),
            conversion(rep),
        )
        for i, rep in lowered.inputs.items()
    )
    blocks = "".join(block_part(lowered, f, units, [x for x in reported if x.card == f.block]) for f in facts)
    return (
        f"<!DOCTYPE html>\n<!-- {LICENCE} -->\n<html><head><meta "
        f"charset='utf-8'><title>{escape(lowered.name)}</title>"
        f"<style>{STYLE}</style></head><body>\n<h1>{escape(lowered.name)}</h1>\n"
        f"<p>{len(facts)} blocks, called every {lowered.deck.tick * 1e6:g} µs; "
        f"{sum(f.data for f in facts)} bytes of data. Conversions are to SI units.</p>\n"
        f"<h2>What is measured</h2>\n{table(inputs)}{blocks}</body></html>\n"
    )


def table(rows: str) -> str:
    head = "".join(f"<th>{h}</th>" for h in ("in the code", "type", "lowest", "highest", "one step", "conversion"))
    return f"<table><tr>{head}</tr>\n{rows}</table>\n"


def row(*cells: str) -> str:
    return "<tr>" + "".join(f"<td>{escape(c)}</td>" for c in cells) + "</tr>\n"


def ends(rep: Rep, unit: str) -> tuple[str, str, str]:
    """Lowest and highest value, and one step."""
    held = rep.range
    if held is None:
        return "any", "any", ""
    return figure(held.low, unit, 4), figure(held.high, unit, 4), figure(rep.step, unit, 3)


def conversion(rep: Rep) -> str:
    """From a word to its value in SI and back."""
    if rep.floating:
        return "the value itself"
    if rep.angle:
        return f"angle = word · 2π / 2^{rep.bits} rad; it wraps"
    if rep.fraction == 0:
        return "value = word"
    return f"value = word · 2^{-rep.fraction}; word = ⌊value · 2^{rep.fraction} + ½⌋, limited"


def block_part(lowered: Lowered, facts: BlockFacts, units: Mapping[str, str], findings: list[Finding]) -> str:
    block = lowered.block(facts.block)
    rate = "at each tick" if facts.every == 1 else f"every {facts.every} ticks"
    rate += f", at tick {facts.phase} of them" if facts.phase else ""
    rows = "".join(
        row(
            f"{facts.name}.{s.signal.partition('.')[2]}",
            s.c_type,
            *ends(rep, units.get(s.signal, "")),
            conversion(rep),
        )
        for s in facts.signals
        for rep in (block.reps[s.signal.partition(".")[2]],)
    )
    states = ", ".join(
        f"{name} "
        f"({block.reps[name].c_type}{', ' + scale_text(block.reps[name]) if scale_text(block.reps[name]) else ''})"
        for name in block.tree.states
    )
    coarse = max((c.error for c in block.coefficients), default=0.0)
    kept = f" Coefficients are kept to {100 * coarse:.2g} %." if coarse and math.isfinite(coarse) else ""
    words = "".join(f"<p>{escape(f.sentence)}</p>\n" for f in findings)
    live = live_part(block)
    remembered = f"<p>Remembers {escape(states)}.</p>\n" if states else ""
    return (
        f"<h2>{escape(facts.title)}</h2>\n<p>{escape(facts.name)}, key {facts.key}: "
        f"{escape(facts.number.label)}, {rate}, {facts.data} bytes."
        f"{kept}</p>\n{words}{table(rows)}{remembered}{live}"
    )


def live_part(block: LoweredBlock) -> str:
    """The live values of a block, and what its code computes from them."""
    if not block.tree.live:
        return ""
    heads = "".join(f"<th>{h}</th>" for h in ("live value (SI)", "at the start", "lowest", "highest"))
    values = "".join(
        row(block.numbers.values[v.name], *(f"{x:.6g}" for x in (v.start, v.ends.low, v.ends.high)))
        for v in block.tree.live
    )
    text = f"<table><tr>{heads}</tr>\n{values}</table>\n"
    if not block.live:
        return text
    heads = "".join(f"<th>{h}</th>" for h in ("follows", "from", "type", "conversion"))
    numbers = "".join(row(n.name, text_of(n.live.of), n.rep.c_type, conversion(n.rep)) for n in block.live)
    return f"{text}<table><tr>{heads}</tr>\n{numbers}</table>\n"
