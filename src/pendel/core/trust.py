"""Which C and which scripts of drives may run here: what was typed here, and what was read and allowed once.

What is allowed is remembered by the hash of its lines, in a file of the user's own, so that the same lines in
another drive need no second question and a changed letter does.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
from collections.abc import Iterable
from functools import lru_cache
from pathlib import Path

from platformdirs import user_state_dir

from pendel.core.catalogue.own_block import EXAMPLES, C
from pendel.core.drive.document import Drive, OwnEquations
from pendel.core.drive.examples import EXAMPLES as EXAMPLE_FOLDER
from pendel.core.drive.file import load
from pendel.core.errors import DriveProblem

ALLOWED_HERE: set[str] = set()
"""Hashes of what was typed since this process began, or allowed in it."""


def remembered_at() -> Path:
    return Path(user_state_dir("pendel")) / "allowed_c.txt"


def digest(own: OwnEquations) -> str:
    parts: tuple[tuple[str, ...], ...] = (own.ports, own.values, own.states, own.equations)
    if own.convert or own.words:
        parts += (own.convert, own.words)
    return hashlib.sha256(repr(parts).encode("utf-8", "surrogatepass")).hexdigest()


def script_digest(text: str) -> str:
    return hashlib.sha256(b"script\0" + text.encode("utf-8", "surrogatepass")).hexdigest()


def allow(updates: Iterable[OwnEquations], *, for_good: bool = True) -> None:
    """Allow these updates from now on, or while this process lasts."""
    _allow({digest(own) for own in updates}, for_good=for_good)


def allow_script(text: str, *, for_good: bool = True) -> None:
    """Allow a script from now on, or while this process lasts."""
    _allow({script_digest(text)}, for_good=for_good)


def is_script_allowed(text: str) -> bool:
    """Whether a script was typed or allowed here, or came with Pendel."""
    digest_ = script_digest(text)
    return digest_ in ALLOWED_HERE or digest_ in _remembered() or digest_ in _of_examples()


@lru_cache(maxsize=1)
def _of_examples() -> frozenset[str]:
    drives = (load(path) for path in sorted(EXAMPLE_FOLDER.glob("*.pendel")))
    return frozenset(script_digest(script.text) for drive in drives for script in drive.scripts.values())


def refuse_strange_script(name: str, text: str, remedy: str) -> None:
    """Raise `DriveProblem` where a script was never allowed here; ``remedy`` says how it is."""
    if not is_script_allowed(text):
        raise DriveProblem(
            f"The script “{name}” came with the drive and was never allowed here. Read it, then {remedy}."
        )


def _allow(allowed: set[str], *, for_good: bool) -> None:
    ALLOWED_HERE.update(allowed)
    if not for_good or not (new := allowed - _remembered()):  # it may have been allowed for this process before
        return
    path = remembered_at()
    with contextlib.suppress(OSError):  # where nothing can be kept, the question comes again next time
        path.parent.mkdir(parents=True, exist_ok=True)
        if path.exists() and not is_private(path):  # whoever wrote there, nobody trusts it; begin anew
            path.unlink()
        handle = os.open(path, os.O_WRONLY | os.O_APPEND | os.O_CREAT, 0o600)
        with os.fdopen(handle, "a", encoding="ascii") as stream:
            stream.write("".join(f"{each}\n" for each in sorted(new)))


def is_allowed(own: OwnEquations) -> bool:
    return own == EXAMPLES[C] or digest(own) in ALLOWED_HERE or digest(own) in _remembered()


def brings_c(drive: Drive) -> bool:
    return any(card.kind == C and card.own is not None for card in drive.cards.values())


def strange_c(drive: Drive) -> list[str]:
    """Keys of the cards whose C nobody here has allowed."""
    return [
        key for key, card in drive.cards.items() if card.kind == C and card.own is not None and not is_allowed(card.own)
    ]


def brings_allowed_c(drive: Drive) -> bool:
    """Whether a drive brings C, and may run all of it. What is computed for it needs a process that shares nothing."""
    return brings_c(drive) and not strange_c(drive)


def allow_all_of(drive: Drive) -> None:
    """Allow the C of a drive while this process lasts."""
    allow((c.own for c in drive.cards.values() if c.kind == C and c.own is not None), for_good=False)


def refuse_strange_c(drive: Drive, remedy: str) -> None:
    """Raise `DriveProblem` where a drive brings C that nobody here has allowed; ``remedy`` says how."""
    if strange := strange_c(drive):
        raise DriveProblem(
            f"{drive.cards[strange[0]].name} brings C of its own, which would run on this computer. Read "
            f"it, then {remedy}."
        )


def _remembered() -> set[str]:
    """What the file holds, as long as it is the user's own and nobody else's to write."""
    path = remembered_at()
    try:
        return set(path.read_text("ascii").split()) if is_private(path) else set()
    except (OSError, ValueError):
        return set()


def is_private(path: Path) -> bool:
    status = path.stat()
    return status.st_uid == os.getuid() and not status.st_mode & 0o022


def remembered_count() -> int:
    """How much C and how many scripts were allowed for good."""
    return len(_remembered())


def forget_allowed() -> None:
    """Ask again before anything that came with a drive runs; what was typed here since this process began stays
    allowed. Raises `OSError`."""
    known = _remembered()
    remembered_at().unlink(missing_ok=True)
    ALLOWED_HERE.difference_update(known)
