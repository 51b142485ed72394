"""What can be opened, with what it says of itself: recent files, examples, and what was left unsaved."""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from pendel.app.session.autosaves import MOST_WINDOWS, autosave_path
from pendel.core.catalogue.assembly import kind_in
from pendel.core.drive import file, view_edits
from pendel.core.drive.document import Drive
from pendel.core.drive.examples import DEMO, EXAMPLES
from pendel.core.drive.lock import FileLock, lock_of, take
from pendel.core.errors import DriveProblem, FileProblem
from pendel.core.wording import sentence_case

LEFT, RECENT, EXAMPLE = "Left unsaved", "Recent", "Examples"
LARGEST = 4_000_000
"""Bytes of a file that is read for the list."""


@dataclass(frozen=True)
class Listed:
    """``path`` is the drive's file, empty for one that was never saved; ``autosave`` what was left of it. Without a
    ``drive`` it cannot be read, and ``sentence`` says why."""

    group: str
    path: Path | None
    title: str
    sentence: str
    words: str = ""
    """All by which it is found."""
    drive: Drive | None = None
    autosave: Path | None = None

    def matches(self, text: str) -> bool:
        return all(word in self.words for word in text.lower().split())


def found(drives: Iterable[Listed], text: str) -> list[Listed]:
    """What has all words of a text, group by group; first what says them of itself."""
    fitting = [each for each in drives if each.matches(text)]
    groups = list(dict.fromkeys(each.group for each in fitting))
    words = text.lower().split()

    def aside(each: Listed) -> bool:
        said = f"{each.title} {each.sentence}".lower()
        return not all(word in said for word in words)

    return sorted(fitting, key=lambda each: (groups.index(each.group), aside(each)))


def all_listed(recent: Iterable[str]) -> list[Listed]:
    """What was left unsaved, recent files, and the examples, the demo first."""
    files = [Path(each) for each in recent]
    examples = sorted(EXAMPLES.glob("*.pendel"), key=lambda p: (p != DEMO, p.name))
    return [
        *left_unsaved([None, *files]),
        *(listed(RECENT, path) for path in files),
        *(listed(EXAMPLE, path) for path in examples),
    ]


def left_unsaved(paths: Iterable[Path | None]) -> Iterator[Listed]:
    """Autosaves of windows that are gone."""
    for path in paths:
        for number in range(MOST_WINDOWS):
            at = autosave_path(path, number)
            if not at.exists():
                continue
            lock = take(lock_of(at))
            if not isinstance(lock, FileLock):
                continue  # its window lives
            lock.release()
            one = listed(LEFT, at)
            when = datetime.fromtimestamp(at.stat().st_mtime)
            of = path.name if path is not None else "a drive that was never saved"
            sentence = f"Unsaved changes of {of}, {when:%d %B, %H:%M}."
            yield Listed(LEFT, path, one.title, sentence, f"{one.words} {of}".lower(), one.drive, at)


def listed(group: str, path: Path) -> Listed:
    """A file with what it says of itself, or why it cannot be read."""

    def not_read(why: str) -> Listed:
        return Listed(group, path, path.name, why, f"{path}".lower())

    try:
        if path.stat().st_size > LARGEST:
            return not_read(f"A large file, {path.stat().st_size / 1e6:.0f} MB, which is read when it is opened.")
        drive = file.load_as_far_as_it_goes(path)[0]
    except FileProblem as problem:
        return not_read(sentence_case(problem.reason))
    except OSError:
        return not_read(f"There is no such file any more in {path.parent}.")
    title = drive.title
    if group == EXAMPLE:
        title = sentence_case(title.split("·")[-1].strip())
    text = view_edits.about(drive)
    first = plain_sentence(text) or ", ".join(card.name for card in list(drive.cards.values())[:8])
    found = f"{drive.title} {text} {path} {' '.join(kind_words(drive))}".lower()
    return Listed(group, path, title, first, found, drive)


def plain_sentence(text: str) -> str:
    """The first paragraph that is no heading, without its marks."""
    for paragraph in text.split("\n\n"):
        words = " ".join(line for line in paragraph.split("\n") if not line.startswith("#"))
        if words := words.translate(str.maketrans("", "", "*`")).strip():
            return words
    return ""


def kind_words(drive: Drive) -> Iterator[str]:
    """By what its cards are called, and found."""
    for key, card in drive.cards.items():
        yield card.name
        with contextlib.suppress(DriveProblem, KeyError):
            kind = kind_in(drive, key)
            yield f"{kind.title} {kind.keywords}"
