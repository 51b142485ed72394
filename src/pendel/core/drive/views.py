"""How a drive is looked at, and what it says of itself: these travel in its file and change no run."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from typing import Any

ABOUT = "about"
"""The text of a drive on itself."""
RUNS = "runs"
"""The view of its runs."""
LONGEST_ABOUT, LONGEST_NOTE = 20_000, 4_000
"""Letters of a drive's text, and of a note."""
MOST_STRIPS, MOST_SIGNALS, MOST_PANELS = 40, 60, 20
"""Of a view, and of one of its strips."""
LOWEST, HIGHEST = 0.25, 8.0
"""How high a strip can be, as a multiple of a usual one."""


@dataclass(frozen=True)
class Text:
    """Markdown as typed, lines ended by a line feed."""

    text: str = ""


@dataclass(frozen=True)
class Note:
    """Words on a sheet, in Markdown: where (steps of the grid), and in which assembly; empty for the drive's own
    sheet."""

    text: str = ""
    x: int = 0
    y: int = 0
    inside: str = ""


@dataclass(frozen=True)
class ViewStrip:
    """Signals of one strip; those of ``setpoints`` are dashed. ``height`` is a multiple of a usual strip's, ``axis``
    lowest and highest value shown in SI, empty where the strip fits its traces."""

    signals: tuple[str, ...]
    setpoints: tuple[str, ...] = ()
    height: float = 1.0
    axis: tuple[float, ...] = ()


@dataclass(frozen=True)
class View:
    """What lies on the strips of a drive's runs. ``cursors`` and ``span``, what is shown of the time, are pairs in s,
    empty for the whole run; ``panels`` are those open below the strips."""

    strips: tuple[ViewStrip, ...] = ()
    cursors: tuple[float, ...] = ()
    span: tuple[float, ...] = ()
    panels: tuple[str, ...] = ()

    def with_signals(self, change: Callable[[str], str]) -> View:
        """The same with each signal named as ``change`` has it."""

        def each(names: tuple[str, ...]) -> tuple[str, ...]:
            return tuple(map(change, names))

        strips = (replace(s, signals=each(s.signals), setpoints=each(s.setpoints)) for s in self.strips)
        return replace(self, strips=tuple(strips))


def view_record(view: View) -> dict[str, Any]:
    """As a drive's file holds it."""
    strips: list[dict[str, Any]] = []
    for strip in view.strips:
        record: dict[str, Any] = {"signals": list(strip.signals)}
        if strip.setpoints:
            record["setpoints"] = list(strip.setpoints)
        if strip.height != 1.0:
            record["height"] = strip.height
        if strip.axis:
            record["axis"] = list(strip.axis)
        strips.append(record)
    record = {"strips": strips}
    for name in ("cursors", "span", "panels"):
        if getattr(view, name):
            record[name] = list(getattr(view, name))
    return record


def view_from(record: dict[str, Any]) -> View:
    """The inverse of `view_record`."""
    strips = (
        ViewStrip(
            tuple(strip["signals"]),
            tuple(strip.get("setpoints", ())),
            float(strip.get("height", 1.0)),
            tuple(map(float, strip.get("axis", ()))),
        )
        for strip in record.get("strips", ())
    )
    cursors, span = (tuple(map(float, record.get(name, ()))) for name in ("cursors", "span"))
    return View(tuple(strips), cursors, span, tuple(record.get("panels", ())))


def note_record(note: Note) -> dict[str, Any]:
    """As a drive's file holds it."""
    record: dict[str, Any] = {"text": note.text.split("\n"), "at": [note.x, note.y]}
    return {**record, "inside": note.inside} if note.inside else record


def note_from(record: dict[str, Any]) -> Note:
    x, y = map(int, record["at"])
    return Note("\n".join(record["text"]), x, y, record.get("inside", ""))


def text_lines(text: Text) -> list[str]:
    """As a drive's file holds it."""
    return text.text.split("\n")


def text_from(lines: list[str]) -> Text:
    return Text("\n".join(lines))


def view_problems(view: View) -> Iterator[str]:
    """Sentences on what no drive can hold of a view."""
    if len(view.strips) > MOST_STRIPS:
        yield f"The view has {len(view.strips)} strips; there is room for {MOST_STRIPS}."
    if len(view.panels) > MOST_PANELS:
        yield f"The view has {len(view.panels)} panels; there is room for {MOST_PANELS}."
    for number, strip in enumerate(view.strips, 1):
        if len(strip.signals) > MOST_SIGNALS:
            yield f"Strip {number} of the view has {len(strip.signals)} signals; there is room for {MOST_SIGNALS}."
        if not LOWEST <= strip.height <= HIGHEST:
            yield f"Strip {number} of the view has a height of {strip.height:g}. Take {LOWEST:g} to {HIGHEST:g}."
        yield from _pair(f"The axis of strip {number}", strip.axis, "the lower end first")
    yield from _pair("What the view shows of the time", view.span, "the earlier time first")
    if len(view.cursors) not in (0, 2) or not all(map(math.isfinite, view.cursors)):
        yield "The view has cursors that are not two times in s."


def _pair(what: str, ends: tuple[float, ...], order: str) -> Iterator[str]:
    if ends and not (len(ends) == 2 and all(map(math.isfinite, ends)) and ends[0] < ends[1]):
        yield f"{what} is not a pair of numbers, {order}."
