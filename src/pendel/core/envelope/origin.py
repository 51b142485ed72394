"""Where the numbers of an envelope come from, and whether the drive they were made of is still the same."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path

from pendel.core.drive.document import Drive
from pendel.core.drive.examples import EXAMPLES
from pendel.core.drive.file import load, to_text
from pendel.core.drive.findings import Finding, attention
from pendel.core.envelope.bench import bench_of
from pendel.core.errors import DriveProblem, FileProblem
from pendel.core.quantities.expressions import names_in
from pendel.core.system.fold import DIGEST, LEVEL, TORQUE
from pendel.core.vocabulary import plainest

FILE, MACHINE = "file", "machine"
"""Of `Card.made_from`, beside those of `Card.envelope`."""
UNTOUCHED = ("title", "until", "seed")
"""Settings that change nothing of a map."""


def digest_of(drive: Drive, machine: str, torque: str, *, all_quantities: bool = False) -> str:
    """Of all that a map is made of: what stands on the bench, wherever its cards lie, and the quantities that this
    names; ``all_quantities``, as they were once. Raises `DriveProblem`."""
    looked_at = bench_of(drive, machine, torque).drive
    if not all_quantities:
        named = named_in(looked_at)
        looked_at.quantities = {n: q for n, q in looked_at.quantities.items() if n in named}
    for key, card in looked_at.cards.items():
        looked_at.cards[key] = replace(card, x=0, y=0)
    for name in UNTOUCHED:
        looked_at.settings.pop(name, None)
    return hashlib.sha256(to_text(looked_at).encode()).hexdigest()[:32]


def named_in(drive: Drive) -> set[str]:
    """Quantities that cards and settings name, and those that these name."""
    texts = [text for card in drive.cards.values() for text in card.texts] + [*drive.settings.values()]
    found = {name for text in texts for name in names_in(text)} & set(drive.quantities)
    while more := {n for key in found for n in names_in(drive.quantities[key].text)} & set(drive.quantities) - found:
        found |= more
    return found


def is_older(drive: Drive, machine: str) -> bool:
    """Whether what the envelope that a machine carries was made of was changed since. Raises `DriveProblem`."""
    envelope, twin = drive.cards[machine].envelope, drive.copy()
    twin.settings["level"] = envelope.get(LEVEL, plainest())
    return digest_of(twin, machine, envelope.get(TORQUE, "")) != envelope.get(DIGEST)


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


def older_maps(drive: Drive, folder: Path | None) -> list[Finding]:
    """Cards whose drive was changed since they were made of it; it reads the files of these."""
    found = []
    for key, card in drive.cards.items():
        if card.made_from.get(MACHINE) and path_of(card.made_from, folder) is not None:
            same, sentence = state_of(card.made_from, folder)
            if not same:
                found.append(attention(f"{card.name}: {sentence}", key))
    return found


def state_of(made_from: Mapping[str, str], folder: Path | None) -> tuple[bool, str]:
    """Whether a map is of its drive as that is now, and a sentence on it."""
    path = path_of(made_from, folder)
    name = Path(made_from.get(FILE, "")).name
    if path is None:
        where = f"{name} is not beside this drive" if name else "the drive it was made of was never saved"
        return False, f"Cannot be compared: {where}. Its values stay as they are."
    ends = made_from.get(MACHINE, ""), made_from.get(TORQUE, "")
    try:
        other = load(path)
        digests = {digest_of(other, *ends), digest_of(other, *ends, all_quantities=True)}
    except (FileProblem, DriveProblem) as problem:
        return False, f"Cannot be compared with {path.name}: {problem}"
    if made_from.get(DIGEST) in digests:
        return True, f"Made from {path.name}, as that is now."
    return False, f"The map is older than {path.name}: that was changed since. Recreate it there."
