"""A page of plain text beside shipped C: where to call what, how often, what goes in and comes out, and of what version
of which drive it is. All text of a drive passes `plain`."""

from __future__ import annotations

import hashlib
import re
import zlib
from collections.abc import Mapping, Sequence
from html import escape

from pendel import __version__
from pendel.core.controllers.numbers.lowering import Lowered
from pendel.core.controllers.numbers.representation import Rep
from pendel.core.controllers.numbers.source import LICENCE, inputs_from_outside
from pendel.core.drive.document import Drive
from pendel.core.drive.file import to_text
from pendel.core.firmware.document import conversion, ends
from pendel.core.firmware.facts import facts_of

BLOCK_HEADS = ("block", "in the code", "runs every so many ticks", "format", "bytes of data")


def drive_hash(drive: Drive) -> str:
    """SHA-256 of the file that the drive is saved as now."""
    return hashlib.sha256(to_text(drive).encode("utf-8")).hexdigest()


def stamped(text: str, drive: Drive) -> str:
    """A source or header with the version that wrote it, its drive and a check sum of all that follows its first
    comment."""
    end = text.index("\n */\n")
    checked = zlib.crc32(text[end + len("\n */\n") :].encode("utf-8"))
    return (
        f"{text[:end]}\n * Pendel {__version__}, drive {drive_hash(drive)} (SHA-256 of its file);\n"
        f" * CRC-32 of what follows this comment: {checked:08x}.{text[end:]}"
    )


def plain(text: str) -> str:
    """A text of a drive on one line of Markdown, as it is: no mark, link or HTML of its own."""
    printable = "".join(c if c.isprintable() else " " for c in text)
    return re.sub(r"([\\`*_{}\[\]()#+!|~>-])", r"\\\1", escape(printable, quote=False))


def table(heads: tuple[str, ...], rows: Sequence[tuple[str, ...]]) -> str:
    lines = [heads, tuple("---" for _ in heads), *rows]
    return "".join(f"| {' | '.join(row)} |\n" for row in lines)


def signal_row(member: str, rep: Rep, unit: str, note: str) -> tuple[str, ...]:
    low, high, step = (plain(text) for text in ends(rep, unit))
    return f"`{member}`", rep.c_type, low, high, step, plain(conversion(rep)), plain(note)


def signals_in_and_out(lowered: Lowered, units: Mapping[str, str]) -> tuple[str, str]:
    """Tables of the members that a program fills and of those it reads."""
    deck = lowered.deck
    heads = ("in the code", "type", "lowest", "highest", "one step", "conversion", "what it is")
    outside = set(inputs_from_outside(lowered))
    inputs = [
        signal_row(
            f"in.{lowered.fed[i]}",
            rep,
            units.get(i.signal, ""),
            f"{deck.title_of(i.signal)}: {'set by your program' if i in outside else 'measured'}",
        )
        for i, rep in lowered.inputs.items()
    ]
    outputs = [
        signal_row(f"out.{member}", lowered.rep(deck.commands[command]), units.get(deck.commands[command], ""), command)
        for command, member in lowered.given.items()
    ]
    return (table(heads, inputs) if inputs else "Nothing."), (table(heads, outputs) if outputs else "Nothing.")


def readme(lowered: Lowered, drive: Drive, units: Mapping[str, str]) -> str:
    """The page as Markdown.

    Parameters
    ----------
    units
        of signals, by ``card.port``.
    """
    name, deck = lowered.name, lowered.deck
    facts = facts_of(lowered)
    going_in, coming_out = signals_in_and_out(lowered, units)
    blocks = [
        (
            plain(f.title),
            f"`{f.name}`",
            "each" if f.every == 1 else f"{f.every}" + (f", at {f.phase}" if f.phase else ""),
            f.number.label,
            f"{f.data}",
        )
        for f in facts
    ]
    delay = (
        "The simulation lets them act at once."
        if not deck.delay
        else f"The simulation lets them act {deck.delay} tick{'s' if deck.delay > 1 else ''} later: "
        "load them into the converter's timer at the next tick, not at once."
    )
    live = (
        f"\nLive values are changed between two ticks: fill what `{name}_BLOCK_values_give` gives, then hand it to "
        f"`{name}_BLOCK_values_take`, which keeps it within its ends.\n"
        if any(b.tree.live for b in lowered.blocks)
        else ""
    )
    return f"""# {name}

{LICENCE}

Pendel {__version__}; drive “{plain(drive.title)}”, SHA-256 of its file `{drive_hash(drive)}`.
`{name}.c` and `{name}.h` say the same, with a CRC-32 of their own text.
The C is regenerated from the drive; change it there.

## How to call it

1. Compile `{name}.c` and `pd_numbers.c` as C99 with your program, with `-ffp-contract=off` and without `-ffast-math`
   where float is used. `{name}_table.c` is needed for a calibration tool or a board link only,
   `main.c` shows the calls.
2. Hold one `{name}_t c` in static memory and call `{name}_init(&c)` once before the first tick, and again to
   start anew: it clears all that is remembered.
3. Every {deck.tick * 1e6:g} µs, from one interrupt (that of the converter's timer, or of the end of the
   conversion of the currents), fill `c.in`, call `{name}_tick(&c)`, then use `c.out`. {delay}
4. The functions allocate nothing, hold no globals and wait for nothing. One `{name}_t` is used from one interrupt
   alone; several drives have one each.
{live}
## What goes in

{going_in}
## What comes out

{coming_out}
A value outside the range of its word is to be limited before it is written there; words that wrap are angles.

## Blocks in running order

{table(BLOCK_HEADS, blocks) if blocks else "None."}
{sum(f.data for f in facts)} bytes of data in all, besides inputs, outputs and the count of ticks.
`{name}.html` has the ranges and the conversion of every signal, the comment before each function the
block's values, and the constants in it their formulas.
Code size, stack and instructions of a tick: *Build and check* and *On a processor* on the Firmware page, or
`pendel firmware FILE --processor m4f`.

## Rules

By cppcheck's addon, source and library keep the required rules of MISRA C:2012 but 10.1 in `pd_down32` and
`pd_down64`, which shift signed numbers to the right (that the compiler keeps the sign is checked when it compiles), and
`main.c`, an example, prints with `stdio.h` (21.6). C typed by a user in a block of his own is his.
"""


__all__ = ["drive_hash", "readme", "stamped"]
