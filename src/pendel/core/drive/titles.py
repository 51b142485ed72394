"""What a drive is called that nobody has named: as its file is."""

from __future__ import annotations

from pathlib import Path

from pendel.core.drive.commands import Command, set_setting
from pendel.core.drive.document import UNTITLED, Drive
from pendel.core.wording import visible

LONGEST = 80


def titled_by(drive: Drive, path: Path) -> Command | None:
    """Name a drive by the file that it goes into; none where it has a name."""
    words = visible(path.stem.replace("_", " ")).strip()[:LONGEST]
    if drive.title != UNTITLED or not words:
        return None
    return set_setting(drive, "title", words[0].upper() + words[1:])
