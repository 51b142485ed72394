"""Where the numbers of an envelope come from, and whether the drive they were made of is still the same."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path

from pendel.core.drive.document import Drive
from pendel.core.drive.examples import EXAMPLES
from pendel.core.drive.file import load, to_text
from pendel.core.envelope.bench import bench_of
from pendel.core.errors import DriveProblem, FileProblem

FILE, MACHINE, TORQUE, DIGEST = "file", "machine", "torque", "digest"
UNTOUCHED = ("title", "until", "seed")
"""Settings that change nothing of a map."""


def digest_of(drive: Drive, machine: str, torque: str) -> str:
    """Of all that a map is made of: what stands on the bench, wherever its cards lie. Raises `DriveProblem`."""
    looked_at = bench_of(drive, machine, torque).drive
    for key, card in looked_at.cards.items():
        looked_at.cards[key] = replace(card, x=0, y=0)
    for name in UNTOUCHED:
        looked_at.settings.pop(name, None)
    return hashlib.sha256(to_text(looked_at).encode()).hexdigest()[:32]


def origin_of(drive: Drive, file: Path | None, machine: str, torque: str) -> dict[str, str]:
    """What a card keeps of where its values come from (`Card.made_from`). Raises `DriveProblem`."""
    digest = digest_of(drive, machine, torque)
    return {FILE: file.name if file is not None else "", MACHINE: machine, TORQUE: torque, DIGEST: digest}


def path_of(made_from: Mapping[str, str], folder: Path | None) -> Path | None:
    """The file of that drive in the ``folder`` of the drive that has the card, or among the examples; None where there
    is none.

    Only the name counts, as it comes from a file that anybody may have written."""
    name = Path(made_from.get(FILE, "")).name
    for place in (folder, EXAMPLES):  # those that come with Pendel know each other wherever one was saved
        if place is not None and name and (place / name).is_file():
            return place / name
    return None


def state_of(made_from: Mapping[str, str], folder: Path | None) -> tuple[bool, str]:
    """Whether a map is of its drive as that is now, and a sentence on it."""
    path = path_of(made_from, folder)
    name = Path(made_from.get(FILE, "")).name
    if path is None:
        where = f"{name} is not beside this drive" if name else "the drive it was made of was never saved"
        return False, f"Cannot be compared: {where}. Its values stay as they are."
    try:
        digest = digest_of(load(path), made_from.get(MACHINE, ""), made_from.get(TORQUE, ""))
    except (FileProblem, DriveProblem) as problem:
        return False, f"Cannot be compared with {path.name}: {problem}"
    if digest == made_from.get(DIGEST):
        return True, f"Made from {path.name}, as that is now."
    return False, f"The map is older than {path.name}: that was changed since. Recreate it there."
