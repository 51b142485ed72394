"""What a drive can hold, said once: edits, paste and the reader of files stand on it, so that what can be
entered can be read again.

`problem_of` looks at one record of a table; what concerns several records, such as an assembly inside itself,
is the reader's."""

from __future__ import annotations

import math
import re
from collections.abc import Iterable, Iterator
from typing import Any

from pendel.core.drive.document import (
    LONGEST_NAME,
    PANEL_FORMS,
    YES,
    Card,
    Drive,
    End,
    Face,
    FluxTable,
    KeptTransfer,
    PanelControl,
    Quantity,
    Wire,
)
from pendel.core.drive.duties import DutyPlan
from pendel.core.drive.plans import COMBINED, WAYS, Plan
from pendel.core.drive.scripts import LONGEST_SCRIPT, Script
from pendel.core.drive.views import LONGEST_ABOUT, LONGEST_NOTE, Note, Text, View, view_problems
from pendel.core.errors import DriveProblem, shorten
from pendel.core.wording import sentence_case

ID = re.compile(r"[a-z][a-z0-9_]*")
LONGEST_TEXT, LONGEST_SOURCE = 2000, 400
"""Letters of an expression or a line, and of the name of a file that tables came from."""
MOST_CORNERS, MOST_ROWS, MOST_CELLS, MOST_LINES = 500_000, 1000, 100, 2000
"""Of a profile, of a table and of one of its rows, of a section of equations."""
MOST_NODES = 400
"""Along one axis of a flux table."""
MOST_VARIED, MOST_LISTED = 100, 100_000
"""Things that vary in a series, or are measured in it, and values of a list."""
FARTHEST = 100_000
"""Grid steps from the middle of the sheet."""
DEEPEST = 20
"""Assemblies within assemblies."""
MOST = {
    "settings": 100,
    "quantities": 20_000,
    "cards": 20_000,
    "wires": 100_000,
    "taps": 20_000,
    "panel": 500,
    "transfers": 500,
    "plans": 200,
    "scripts": 200,
    "duties": 200,
    "texts": 20,
    "notes": 500,
    "views": 20,
}
"""Records of a table."""


def within_sheet(place: float) -> int:
    """A coordinate that a card can have, next to the one wanted."""
    return max(-FARTHEST, min(FARTHEST, round(place)))


def check_changes(drive: Drive, changes: Iterable[Any]) -> None:
    """Raise `DriveProblem` where an edit would leave something that a drive cannot hold."""
    added: dict[str, int] = {}
    for change in changes:
        if change.after is None:
            continue
        if sentence := problem_of(change.table, change.key, change.after):
            raise DriveProblem(sentence)
        if change.before is None:
            added[change.table] = added.get(change.table, 0) + 1
    for table, count in added.items():
        if len(drive.table(table)) + count > MOST[table]:
            raise DriveProblem(f"A drive has at most {MOST[table]} {table}. Part it into several drives.")


def problem_of(table: str, key: str, record: Any) -> str:
    """A sentence on what a drive cannot hold of a record, or nothing."""
    return next(_problems(table, key, record), "")


def _problems(table: str, key: str, record: Any) -> Iterator[str]:
    match record:
        case Card():
            yield from _card(key, record)
        case Quantity(text, note):
            yield from _text(f"the quantity {shorten(key)}", key, LONGEST_NAME)
            yield from _text(f"the quantity {key}", text)
            yield from _text(f"the note of {key}", note)
        case Wire(a, b, _):
            yield from _end("A wire", a)
            yield from _end("A wire", b)
        case End():
            yield from _text("a tap", key, LONGEST_NAME)
            yield from _end(f"The tap {key}", record)
        case PanelControl():
            yield from _control(key, record)
        case KeptTransfer():
            yield from _transfer(key, record)
        case Plan():
            yield from _plan(key, record)
        case DutyPlan():
            yield from _duty(key, record)
        case Script(text):
            yield from _text(f"the name of the script {shorten(key, 40)}", key, LONGEST_NAME)
            if not key.strip():
                yield "A script has no name. Give it one."
            yield from _text(f"the script {shorten(key, 40)}", text, LONGEST_SCRIPT)
        case Text(text):
            yield from _text(f"the name of the text {shorten(key, 40)}", key, LONGEST_NAME)
            yield from _text("the text of the drive", text, LONGEST_ABOUT)
        case Note(text, x, y, inside):
            yield from _text(f"the name of the note {shorten(key, 40)}", key, LONGEST_NAME)
            yield from _text("a note", text, LONGEST_NOTE)
            yield from _text("the assembly of a note", inside, LONGEST_NAME)
            if max(abs(x), abs(y)) > FARTHEST:
                yield f"A note lies more than {FARTHEST} steps from the middle of the sheet. Move it there."
        case View():
            yield from _text(f"the name of the view {shorten(key, 40)}", key, LONGEST_NAME)
            yield from view_problems(record)
            for text in (t for s in record.strips for t in (*s.signals, *s.setpoints)):
                yield from _text("a signal of the view", text, 2 * LONGEST_NAME)
            for text in record.panels:
                yield from _text("a panel of the view", text, LONGEST_NAME)
        case str():
            yield from _text(f"the setting {shorten(key)}", key, LONGEST_NAME)
            yield from _text(f"the setting {key}", record)
        case _:
            yield f"{shorten(str(key))} holds what is no record of {table}."


def _duty(key: str, duty: DutyPlan) -> Iterator[str]:
    name = f"the duty {shorten(key, 40)}"
    yield from _text(name, key, LONGEST_NAME)
    if not key.strip():
        yield "A duty has no name. Give it one."
    yield from _count(f"what {name} sets", duty.targets, MOST_VARIED, "entries")
    yield from _count(f"the stretches of {name}", duty.rows, MOST_LISTED, "stretches")
    for text in (*duty.targets, duty.rounds, *(text for row in duty.rows for text in row)):
        yield from _text(name, text, LONGEST_NAME)


def _plan(key: str, plan: Plan) -> Iterator[str]:
    name = f"the series {shorten(key, 40)}"
    yield from _text(name, key, LONGEST_NAME)
    if not key.strip():
        yield "A series has no name. Give it one."
    yield from _count(f"what varies in {name}", plan.varied, MOST_VARIED, "entries")
    yield from _count(f"the measures of {name}", plan.measures, MOST_VARIED, "entries")
    yield from _count(f"the traces of {name}", plan.traces, MOST_VARIED, "entries")
    if plan.combined not in COMBINED:
        yield f"“{shorten(plan.combined)}” is no way to combine what varies. Choose one of {', '.join(COMBINED)}."
    for varied in plan.varied:
        if varied.how not in WAYS:
            yield f"“{shorten(varied.how)}” is no way to vary something. Choose one of {', '.join(WAYS)}."
        yield from _count(f"the values of {shorten(varied.target)}", varied.texts, MOST_LISTED, "entries")
        yield from _text(f"what varies in {name}", varied.target, LONGEST_NAME)
        for text in varied.texts:
            yield from _text(f"a value in {name}", text)
    for text in (plan.count, plan.seed, *plan.measures, *plan.traces):
        yield from _text(name, text)


def _card(key: str, card: Card) -> Iterator[str]:
    if not ID.fullmatch(key) or len(key) > LONGEST_NAME:
        yield f"“{shorten(key)}” cannot be a card's id. Use small letters, digits and _, starting with a letter."
    if not card.name:
        yield f"The card {key} has no name. Give it one."
    yield from _text("the name of a card", card.name, LONGEST_NAME)
    name = shorten(card.name, 40)
    yield from _text(f"the kind of {name}", card.kind, LONGEST_NAME)
    for place in (card.x, card.y):
        if type(place) is not int or abs(place) > FARTHEST:
            yield (
                f"{name} lies at {card.x}, {card.y}; the sheet ends {FARTHEST} steps from its middle. Move it inwards."
            )
    texts = (card.values, card.choices, card.starts, card.proposed, card.steps, card.digits, card.bases, card.made_from)
    for table in (*texts, card.envelope):
        for item, text in table.items():
            yield from _text(f"a name in {name}", item, LONGEST_NAME)
            yield from _text(f"{shorten(item)} of {name}", text)
    yield from _text(f"the number format of {name}", card.number_format, LONGEST_NAME)
    yield from _text(f"the phase of {name}", card.phase, LONGEST_NAME)
    yield from _text(f"the pinned key of {name}", card.pinned_key, LONGEST_NAME)
    if card.outside not in ("", YES):
        yield f"Whether {name} comes from outside is “{shorten(card.outside, 20)}”. It is yes, or left out."
    yield from _count(f"the ranges of {name}", card.ranges, MOST_ROWS, "entries")
    yield from _count(f"what was seen of {name}", card.seen, MOST_ROWS, "entries")
    yield from _count(f"the live values of {name}", card.live, MOST_ROWS, "entries")
    yield from _count(f"what {name} was tuned on", card.tuned_on, MOST_ROWS, "entries")
    for item, ends in (*card.ranges.items(), *card.live.items()):
        yield from _text(f"a name in {name}", item, LONGEST_NAME)
        if len(ends) != 2:
            yield f"The range of {shorten(item)} of {name} is no pair. Give a lowest and a highest value."
        for text in ends:
            yield from _text(f"the range of {shorten(item)} of {name}", text)
    for item, size in (*card.seen.items(), *card.tuned_on.items()):
        yield from _text(f"a name in {name}", item, LONGEST_NAME)
        if not (isinstance(size, int | float) and 0.0 <= size < math.inf):
            yield f"What {shorten(item)} of {name} came to in a run is no number of 0 or more. Find ranges again."
    yield from _count(f"the profile of {name}", card.profile, MOST_CORNERS, "corners")
    yield from _count(f"the table of {name}", card.rows, MOST_ROWS, "rows")
    if any(len(corner) != 2 for corner in card.profile):
        yield f"A corner of the profile of {name} is no time and value. Give it two."
    yield from _texts(f"the profile of {name}", [text for corner in card.profile for text in corner])
    for row in card.rows:
        yield from _count(f"a row of {name}", row, MOST_CELLS, "cells")
        for text in row:
            yield from _text(f"the table of {name}", text)
    if card.own is not None:
        for section in ("ports", "values", "states", "unknowns", "equations"):
            lines = getattr(card.own, section)
            yield from _count(f"{section} of {name}", lines, MOST_LINES, "lines")
            for line in lines:
                yield from _text(f"a line of {name}", line)
    for item in (card.inside, card.role):
        if item and not ID.fullmatch(item):
            yield f"“{shorten(item)}” of {name} is no id. Use small letters, digits and _."
    if card.flux is not None:
        yield from _flux(name, card.flux)
    if card.face is not None:
        yield from _face(name, card.face)


PANEL_COLUMNS, PANEL_ROWS = 12, 200
"""Cells of the operator panel's grid."""
MOST_NAMES = 100


def _control(key: str, control: PanelControl) -> Iterator[str]:
    what = f"the control {shorten(control.title or key, 40)}"
    yield from _text("a control of the panel", key, LONGEST_NAME)
    if control.form not in PANEL_FORMS:
        yield f"“{shorten(str(control.form))}” of {what} is no form. Choose one of {', '.join(PANEL_FORMS)}."
    for text in (control.title, control.target, control.low, control.high):
        yield from _text(what, text, LONGEST_NAME)
    places = (control.x, control.y, control.w, control.h)
    whole = all(type(n) is int for n in places)
    if not whole or control.x < 0 or control.y < 0 or control.w < 1 or control.h < 1:
        yield f"{what} has no place on the panel's grid. Give whole cells from 0 up."
    elif control.x + control.w > PANEL_COLUMNS or control.y + control.h > PANEL_ROWS:
        yield f"{what} reaches beyond the panel's {PANEL_COLUMNS} columns or {PANEL_ROWS} rows. Move it inwards."
    yield from _count(f"the names of {what}", control.names, MOST_NAMES, "names")
    for pair in control.names:
        for text in pair:
            yield from _text(f"a name of {what}", text, LONGEST_NAME)


MOST_OPENED = 100


def _transfer(name: str, kept: KeptTransfer) -> Iterator[str]:
    yield from _text("a kept way between two signals", name, LONGEST_NAME)
    for text in (kept.source, kept.target, kept.at, *kept.opened):
        yield from _text(f"the way {shorten(name, 40)}", text, LONGEST_NAME)
    yield from _count(f"the opened signals of {shorten(name, 40)}", kept.opened, MOST_OPENED, "signals")


def _face(name: str, face: Face) -> Iterator[str]:
    if not face.design:
        yield f"The assembly {name} is of no design. Name it."
    yield from _text(f"the design of {name}", face.design, LONGEST_NAME)
    for item in (*face.values, *face.ports):
        for text in (item.name, item.path, item.item):
            yield from _text(f"the face of {name}", text)


def _flux(name: str, flux: FluxTable) -> Iterator[str]:
    yield from _text(f"the source of the tables of {name}", flux.source, LONGEST_SOURCE)
    for axis in (flux.i_d, flux.i_q):
        if not 2 <= len(axis) <= MOST_NODES:
            yield (
                f"An axis of the flux tables of {name} has {len(axis)} currents; it has 2 to {MOST_NODES}. "
                "Leave some out."
            )
    for grid in (flux.psi_d, flux.psi_q):
        if len(grid) != len(flux.i_d) or any(len(row) != len(flux.i_q) for row in grid):
            yield f"A flux table of {name} does not have a value for each pair of currents. Load it again."
    if not all(math.isfinite(v) for row in (flux.i_d, flux.i_q, *flux.psi_d, *flux.psi_q) for v in row):
        yield f"A flux table of {name} holds what is no finite number. Load it again."


def _end(what: str, end: End) -> Iterator[str]:
    if not end.card or not end.port or "." in end.card:
        yield f"{what} ends at “{shorten(str(end))}”, which is no port. Write card.port."
    yield from _text("the end of a wire", str(end), LONGEST_TEXT)


def _count(what: str, items: Iterable[Any], maximum: int, words: str) -> Iterator[str]:
    count = len(tuple(items))
    if count > maximum:
        yield f"{sentence_case(what)} has {count} {words}; there is room for {maximum}. Leave some out."


def _texts(what: str, texts: list[str]) -> Iterator[str]:
    """Of many texts; a recorded profile has a million."""
    plain = set(map(type, texts)) <= {str} and max(map(len, texts), default=0) <= LONGEST_TEXT
    together = "".join(texts) if plain else ""
    if not plain or not together.isascii() or "\0" in together:
        for text in texts:
            yield from _text(what, text)


def _text(what: str, text: str, longest: int = LONGEST_TEXT) -> Iterator[str]:
    if type(text) is not str:
        yield f"{sentence_case(what)} is no text."
    elif len(text) > longest:
        yield f"{sentence_case(what)} has {len(text)} letters; there is room for {longest}. Shorten it."
    elif not text.isascii() and any("\ud800" <= letter <= "\udfff" for letter in text):
        yield f"{sentence_case(what)} holds half a letter (a lone surrogate). Type it again."
    elif "\0" in text:
        yield f"{sentence_case(what)} holds a letter of value 0. Delete it."
