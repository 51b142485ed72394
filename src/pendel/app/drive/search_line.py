"""The line that adds parts and blocks: type a few letters, Enter adds the best match."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from PyQt6.QtCore import QPoint
from PyQt6.QtWidgets import QWidget

from pendel.app.drive.popup_line import Entry, PopupLine, PopupWords
from pendel.core.catalogue.declare import Kind, Link, Part
from pendel.core.catalogue.index import ASSEMBLY, kinds
from pendel.core.catalogue.shelf import READY, on_shelf, ready, sentence_of
from pendel.core.check import fits
from pendel.core.vocabulary import ValueRole, task_of

WORDS = PopupWords(
    "Add a part or block: type what you need",
    "Search for a part or block",
    "↑ ↓ choose · Enter adds · Esc closes",
    "Nothing fits. Try fewer letters, or build it with “own equations”.",
)


@dataclass(frozen=True)
class Match:
    kind: Kind
    score: float
    port: str
    """Port that fits what is to be connected, if any."""
    shelved: Path | None = None
    """File of an assembly from the user's own shelf."""


COMPLETES, SHOWN_FROM = 30.0, 0.1
"""For a kind that is all that a card asks for, and from which share on that is said."""


def matches(text: str, link: Link | None, completing: Mapping[str, float] | None = None) -> list[Match]:
    """Kinds that fit the words typed, best first; kinds that complete what is selected, then those that connect to
    ``link``, before others."""
    completing = completing or {}
    words = text.lower().split()
    entries = []
    for place, kind in enumerate(kinds().values()):
        haystack = f"{kind.title} {kind.id.replace('_', ' ')} {kind.keywords} {task_of(kind.group)}".lower()
        if not all(
            any(piece.startswith(w) for piece in haystack.split()) or (len(w) > 2 and w in haystack) for w in words
        ):
            continue
        score = named(kind.title, words) + 3.0 * sum(w in kind.keywords.lower().split() for w in words)
        score += WHOLE if len(words) > 1 and " ".join(words) in kind.keywords.lower() else 0.0
        port = next((p.name for p in kind.ports if link is not None and fits(link, p.link)), "")
        if not port and link is Link.SIGNAL_IN and isinstance(kind, Part) and kind.signals:
            port = "signals"
        score += 12.0 if port and not completing else 4.0 if port else 0.0
        score += WHOLE if kind.title.lower() == text.strip().lower() and (port or link is None) else 0.0
        score += COMPLETES * completing.get(kind.id, 0.0)
        entries.append(Match(kind, score - place * 0.01, port))
    return sorted(entries, key=lambda m: -m.score)


def named(title: str, words: list[str]) -> float:
    """How much a title answers what was typed."""
    title = title.lower()
    return 10.0 * sum(title.startswith(w) for w in words) + 4.0 * sum(w in title for w in words)


WHOLE = 11.0
"""For a title that is just what was typed, and for keywords that have it as it was typed."""


def shelf_matches(text: str, shelf: Sequence[tuple[str, Path]]) -> list[Match]:
    """Assemblies, the user's own and those that come along, whose names fit the words typed. One that is
    named as well as a kind stands before it."""
    words = text.lower().split()
    entries = []
    for name, path in shelf:
        origin = "Ready assembly." if path.parent == READY else "From your shelf."
        sentence = f"{origin} {sentence_of(path)}".strip()
        if all(w in f"{name} {sentence} assembly shelf".lower() for w in words):
            score = named(name, words) + (WHOLE if name.lower() == text.strip().lower() else 0.0) + 4.0
            entries.append(Match(replace(ASSEMBLY, title=name, sentence=sentence), score, "", path))
    return entries


def singular(text: str) -> str:
    """Words as titles have them: of one."""
    return " ".join(word[:-1] if len(word) > 3 and word.endswith("s") else word for word in text.split())


class SearchLine(PopupLine):
    """Opens at the pointer; Escape closes it."""

    def __init__(self, parent: QWidget):
        self.link: Link | None = None
        self.completing: Mapping[str, float] = {}
        self.shelf: list[tuple[str, Path]] = []
        super().__init__(parent, self._found, WORDS)

    def open_at(self, where: QPoint, link: Link | None, completing: Mapping[str, float] | None = None) -> None:
        self.link, self.completing = link, completing or {}
        self.shelf = [*on_shelf(), *ready()]
        self.show_at(where)

    def _fitting(self, text: str) -> list[Match]:
        return [*matches(text, self.link, self.completing), *shelf_matches(text, self.shelf)]

    def _found(self, text: str) -> Iterator[Entry]:
        fitting = self._fitting(text) or self._fitting(singular(text))
        for match in sorted(fitting, key=lambda m: -m.score) if text else fitting:
            needs = ", ".join(v.label.lower() for v in match.kind.values[:3] if v.role is not ValueRole.PERIODS)
            sentence = f"{match.kind.sentence}{'  Needs ' + needs + '.' if needs else ''}"
            aside = "fits here" if match.port and self.link else ""
            aside = "completes it" if self.completing.get(match.kind.id, 0.0) >= SHOWN_FROM else aside
            yield Entry(match.kind.title, sentence, aside, match.kind, match)
