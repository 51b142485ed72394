"""Edits as lines of Python, to begin a script from what was just done by hand."""

from __future__ import annotations

from collections.abc import Iterable
from keyword import iskeyword
from typing import Any

from pendel.core.drive.commands import Change, Command, renamed_cards
from pendel.core.drive.document import Card

CARD_TABLES = (("values", "set"), ("choices", "choose"), ("starts", "start"))


def lines_of(command: Command, drive: str = "d") -> list[str]:
    """Calls that do the same to a drive of this name in a script. What no call can say is a comment."""
    renamed = renamed_cards(command)
    lines = [f"{drive}.rename({old!r}, {name_after(command, new)!r})" for old, new in renamed.items()]
    if lines:
        return lines
    gone = {change.key for change in command.changes if change.table == "cards" and change.after is None}
    if gone:
        lines.append(f"{drive}.remove({', '.join(map(repr, gone))})")
    for change in command.changes:
        lines += _lines_of_change(change, drive, gone)
    return lines or [f"# {plain_comment(command.title)}"]


def name_after(command: Command, key: str) -> str:
    return next(c.after.name for c in command.changes if c.key == key and c.after is not None)


def is_word(name: str) -> bool:
    """Whether a name can stand before an equals sign; one of a file may be anything."""
    return name.isidentifier() and not iskeyword(name)


def plain_comment(text: str) -> str:
    return " ".join(text.split())


def _lines_of_change(change: Change, drive: str, gone: set[str]) -> Iterable[str]:
    before, after = change.before, change.after
    match change.table:
        case "quantities" if after is not None:
            call = "define" if before is None else "set"
            yield f"{drive}.{call}({change.key!r}, {after.text!r})"
        case "settings" if after is not None and change.key != "title":
            yield f"{drive}.set({change.key!r}, {after!r})"
        case "cards" if after is not None:
            yield from _lines_of_card(change.key, before, after, drive)
        case "wires" if after is not None and before is not None:
            return  # how it is drawn
        case "wires" if after is not None:
            yield f"{drive}.connect({str(after.a)!r}, {str(after.b)!r})"
        case "taps" if after is not None:
            yield f"{drive}.tap({change.key!r}, {str(after)!r})"
        case "wires" if not gone:
            yield f"# the wire {before.a} – {before.b} was taken off"


def _lines_of_card(key: str, before: Card | None, after: Card, drive: str) -> Iterable[str]:
    if before is None:
        facts: dict[str, Any] = dict(after.values)
        if after.choices:
            facts["choices"] = dict(after.choices)
        if after.starts:
            facts["starts"] = dict(after.starts)
        if after.profile:
            facts["profile"] = [tuple(corner) for corner in after.profile]
        if after.rows:
            facts["rows"] = [tuple(row) for row in after.rows]
        named = "".join(f", {name}={value!r}" for name, value in facts.items() if is_word(name))
        yield f"{drive}.add({after.kind!r}, {after.name!r}{named})"
        return
    for table, call in CARD_TABLES:
        was, now = getattr(before, table), getattr(after, table)
        for name, text in now.items():
            if was.get(name) != text and (call == "set" or is_word(name)):
                said = f"{f'{key}.{name}'!r}, {text!r}" if call == "set" else f"{key!r}, {name}={text!r}"
                yield f"{drive}.{call}({said})"
    if before.profile != after.profile:
        yield f"{drive}.profile({key!r}, {[tuple(corner) for corner in after.profile]!r})"
    if before.rows != after.rows:
        yield f"{drive}.rows({key!r}, {[tuple(row) for row in after.rows]!r})"


def script_of(commands: Iterable[Command], *, run: bool = True) -> str:
    """A script that does the same."""
    lines = ["import pendel", "", "d = pendel.here()"]
    for command in commands:
        lines += lines_of(command)
    if run:
        lines += ["run = d.run()", "d.keep(run)"]
    return "\n".join(lines) + "\n"
