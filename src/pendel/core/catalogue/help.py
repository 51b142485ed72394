"""What is said of a part or block to who asks: from its own declaration, so that it says what it does."""

from __future__ import annotations

import html
import inspect
import re
import sys
import textwrap
from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

from pendel.core.catalogue.declare import Block, Kind, Part, Value
from pendel.core.catalogue.index import kinds
from pendel.core.drive.examples import EXAMPLES
from pendel.core.drive.file import load
from pendel.core.errors import FileProblem
from pendel.core.quantities.units import number_text, unit
from pendel.core.vocabulary import Link
from pendel.core.wording import sentence_case

LINKS = {
    Link.SIGNAL_IN: "signal in",
    Link.SIGNAL_OUT: "signal out",
}


@dataclass(frozen=True)
class Section:
    """``rows`` of a name, what it is, and figures; ``text`` in lines of their own."""

    title: str
    rows: tuple[tuple[str, str, str], ...] = ()
    text: str = ""


@dataclass(frozen=True)
class HelpPage:
    title: str
    sentence: str
    sections: tuple[Section, ...]


def help_of(kind: Kind) -> HelpPage:
    """The page of a kind."""
    return HelpPage(kind.title, kind.sentence, tuple(sections_of(kind)))


def sections_of(kind: Kind) -> Iterator[Section]:
    """Those with something in them, each worked out when it is asked for."""
    return (section for section in _sections(kind) if section.rows or section.text)


def _sections(kind: Kind) -> Iterator[Section]:
    yield Section("How it works", text=about(kind))
    yield equations_of(kind)
    if isinstance(kind, Block):
        yield Section("What it does at each of its ticks", text=update_of(kind))
    yield Section("Ports", tuple((p.name, p.label, port_words(p.link, p.unit)) for p in kind.ports))
    yield Section("Values", tuple((v.name, v.label, value_words(v)) for v in kind.values))
    if kind.rows is not None:
        columns = tuple((v.name, v.label, value_words(v)) for v in kind.rows.columns)
        yield Section(f"Table: {kind.rows.label}", columns)
    for choice in kind.choices:
        rows = tuple((option, words, "usual" if option == choice.default else "") for option, words in choice.options)
        yield Section(f"Choice: {choice.label}", rows)
    states = tuple((s.name, s.label, s.unit) for s in getattr(kind, "states", ()))
    yield Section("States, which may be given a start", states)
    if isinstance(kind, Part):
        yield Section("Signals of a run", tuple((s.name, s.label, s.unit) for s in kind.signals))
    yield Section(EXAMPLES_WITH, tuple((title, "", "") for title in examples_with().get(kind.id, ())))


EQUATIONS, EXAMPLES_WITH = "Equations", "Examples with it"


def equations_of(kind: Kind) -> Section:
    """Those that run, with the usual values, and what its symbols at ports are."""
    from pendel.core.catalogue.stated import stated  # needs what builds equations

    found = stated(kind.id)
    rows = [(symbol, label, "") for symbol, label in found.symbols]
    level = f"At the level {found.level}. " if found.level else ""
    rest = f"{found.left_out} more go by conditions or tables, or are long." if found.left_out else ""
    note = [("", f"{level}{rest}".strip(), "")] if found.equations and (level or rest) else []
    return Section(EQUATIONS, tuple([*rows, *note] if found.equations else []), "\n".join(found.equations))


def about(kind: Kind) -> str:
    """What is written where it is declared: formulas, signs, sources."""
    made = getattr(kind, "build", None) or getattr(kind, "update", None)
    module = sys.modules.get(getattr(made, "__module__", "") or "")
    own = inspect.getdoc(made) if made is not None else None
    parts = [module.__doc__ if module is not None and ".catalogue." in module.__name__ else None, own]
    return "\n\n".join(unwrapped(part) for part in parts if part and "block language" not in part)


def unwrapped(text: str) -> str:
    """Paragraphs in a line each."""
    return "\n\n".join(" ".join(paragraph.split()) for paragraph in inspect.cleandoc(text).split("\n\n"))


def update_of(kind: Block) -> str:
    """The lines of a block's update, as they run."""
    try:
        source = textwrap.dedent(inspect.getsource(kind.update))  # type: ignore[arg-type]
    except (OSError, TypeError):
        return ""
    return source.rstrip() if source.startswith("def ") else ""


def port_words(link: Link, unit_text: str) -> str:
    words = LINKS.get(link, str(link.value))
    return f"{words}, {unit_text}" if unit_text not in ("", "*") else words


def value_words(value: Value) -> str:
    """Unit, usual text and limits."""
    any_unit = value.unit == "*"
    words = ["any unit" if any_unit else value.unit or "no unit"]
    words.append(f"usually {value.default}" if value.default else "may stay empty")
    factor = 1.0 if any_unit else unit(value.unit)[0]
    if value.low is not None:
        words.append(f"{'above' if value.open_low else 'from'} {number_text(value.low / factor, 4)}")
    if value.high is not None:
        words.append(f"up to {number_text(value.high / factor, 4)}")
    if value.whole:
        words.append("whole")
    if value.levels:
        words.append(f"at {', '.join(value.levels)}")
    return ", ".join(words)


@lru_cache(maxsize=1)
def examples_with() -> dict[str, dict[str, Path]]:
    """Titles and files of the examples that have a card of a kind."""
    found: dict[str, dict[str, Path]] = {}
    for path in sorted(EXAMPLES.glob("*.pendel")):
        try:
            drive = load(path)
        except FileProblem:
            continue
        for card in drive.cards.values():
            found.setdefault(card.kind, {})[drive.title] = path
    return found


def matching(text: str) -> list[Kind]:
    """Kinds whose title, sentence or keywords have all words of a text, those named so first."""
    words = text.lower().split()
    fitting = [
        kind
        for kind in kinds().values()
        if all(word in f"{kind.title} {kind.sentence} {kind.keywords} {kind.id}".lower() for word in words)
    ]
    return sorted(fitting, key=lambda kind: (not all(word in kind.title.lower() for word in words), kind.title))


PLAIN = (EQUATIONS, "What it does at each of its ticks")
"""Sections whose text stands line by line."""


def as_markdown(page: HelpPage) -> str:
    """A page for a site, with nothing in its texts that would be more than text there."""
    lines = [f"# {escaped(page.title)}", escaped(page.sentence), ""]
    for section in page.sections:
        lines += [f"## {escaped(section.title)}", ""] if section.title else []
        if section.title in PLAIN and section.text:
            lines += [*(f"    {line}" for line in section.text.split("\n")), ""]
        elif section.text:
            lines += [*(escaped(line) for line in section.text.split("\n")), ""]
        if section.rows:
            lines += ["| | | |", "|---|---|---|", *(f"| {' | '.join(map(escaped, row))} |" for row in section.rows), ""]
    return "\n".join(lines)


def escaped(text: str) -> str:
    """Text as Markdown shows it to the letter, in one line."""
    plain = html.escape(" ".join(text.split()), quote=False)
    return re.sub(r"([\\`*_{}\[\]()#+\-.!])", r"\\\1", plain).replace("|", "&#124;")


def as_text(page: HelpPage) -> str:
    """A page as plain text."""
    lines = [page.title, page.sentence, ""]
    for section in page.sections:
        lines += [sentence_case(section.title), *([section.text] if section.text else [])]
        lines += ["  ".join(part for part in row if part) for row in section.rows]
        lines.append("")
    return "\n".join(lines)
