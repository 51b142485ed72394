"""The user's own shelf: assemblies kept for other drives, each a drive file of its own."""

from __future__ import annotations

import re
from dataclasses import replace
from functools import lru_cache
from pathlib import Path

from platformdirs import user_data_dir

from pendel.core.drive import file
from pendel.core.drive.assemblies import face_of, insert
from pendel.core.drive.clips import clip
from pendel.core.drive.commands import Command
from pendel.core.drive.document import Drive, slug
from pendel.core.errors import DriveProblem, FileProblem, PendelError
from pendel.core.vocabulary import Link
from pendel.core.wording import sentence_case

PHASE = re.compile(r",?( of)?( phase)? [abc]$")
"""What the names of a signal's three phases differ by."""
READY = Path(__file__).parent.parent.parent / "shelf"


def folder() -> Path:
    return Path(user_data_dir("pendel")) / "shelf"


def only_assembly(drive: Drive, assembly: str) -> Drive:
    """A drive of one assembly, with the quantities its values use. Raises `DriveProblem` when the card is
    none."""
    from pendel.core.catalogue.card_names import with_values_of_missing

    face = face_of(drive, assembly)
    clipped = clip(drive, [assembly])
    top = drive.cards[assembly]
    kept = Drive(top.name)
    kept.cards = {
        **clipped.cards,
        assembly: replace(top, x=10, y=10, inside="", role="", face=replace(face, follows=True)),
    }
    kept.wires = {w.key: w for w in clipped.wires}
    kept.quantities = dict(clipped.quantities)
    with_values_of_missing(kept, drive)
    return kept


def put_on_shelf(drive: Drive, assembly: str) -> Path:
    """Keep an assembly for other drives; one of the same name is replaced.

    Raises
    ------
    DriveProblem
        when the card is no assembly.
    FileProblem
        when it cannot be written.
    """
    kept = only_assembly(drive, assembly)
    path = folder() / f"{slug(kept.title)}.pendel"
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
    except OSError as problem:
        raise FileProblem(str(path.parent), f"the shelf cannot be made: {problem.strerror}.") from problem
    file.save(kept, path)
    return path


def on_shelf() -> list[tuple[str, Path]]:
    """Names and files of what the user keeps, by name; what cannot be read is left out."""
    return listed(folder())


def ready() -> list[tuple[str, Path]]:
    """The assemblies that come with Pendel."""
    return listed(READY)


def sentence_of(path: Path) -> str:
    """What an assembly on a shelf reads and gives, by the names on its face; empty where it cannot be
    read."""
    try:
        return _sentence(path, path.stat().st_mtime_ns)
    except OSError:
        return ""


@lru_cache(maxsize=256)
def _sentence(path: Path, changed: int) -> str:
    from pendel.core.catalogue.assembly import kind_in  # which knows drives

    try:
        drive = file.load(path)
        top = next((key for key, card in drive.cards.items() if card.face is not None and not card.inside), None)
        ports = kind_in(drive, top).ports if top else ()
    except PendelError:
        return ""
    sides = {"Reads": Link.SIGNAL_IN, "gives": Link.SIGNAL_OUT}
    labels_by_word = {
        word: list(dict.fromkeys(PHASE.sub("", p.label.lower()) for p in ports if p.link is link))
        for word, link in sides.items()
    }
    lines = [p.label.lower() for p in ports if not p.link.is_signal]
    words = [f"{word} {', '.join(labels)}" for word, labels in labels_by_word.items() if labels]
    words += [f"joins {', '.join(lines)}"] if lines else []
    text = "; ".join(words)
    return f"{sentence_case(text)}." if text else ""


def listed(place: Path) -> list[tuple[str, Path]]:
    entries = []
    for path in place.glob("*.pendel") if place.is_dir() else ():
        try:
            entries.append((file.load(path).title, path))
        except FileProblem:
            continue
    return sorted(entries)


def take_from_shelf(
    drive: Drive, path: Path, sheet: str = "", place: tuple[int, int] = (10, 10)
) -> tuple[Command, str, list[str]]:
    """A command that adds the assembly, its new id, and the names of quantities that keep this drive's own
    value.

    Raises
    ------
    FileProblem, DriveProblem
    """
    kept = file.load(path)
    top = next((key for key, card in kept.cards.items() if card.face is not None and not card.inside), None)
    if top is None:
        raise DriveProblem(f"{path.name} holds no assembly. Save one to the shelf again.")
    kept.cards[top] = replace(kept.cards[top], x=place[0], y=place[1])
    clipped = clip(kept, [top])
    command, new = insert(drive, clipped, sheet, 0)
    return replace(command, title=f"Add {kept.title}"), new[0], clipped.differing(drive)
