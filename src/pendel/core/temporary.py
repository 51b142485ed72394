"""Folders for the files of a moment, one a process that works beside us.

They end with whoever made them. One that was killed could not do so; the next that needs a folder removes
what it left."""

from __future__ import annotations

import contextlib
import os
import re
import shutil
import tempfile
from pathlib import Path

OURS = re.compile(r"pendel-[a-z]+-(\d+)-\w+")


def temporary_folder(purpose: str) -> tempfile.TemporaryDirectory[str]:
    """A folder that only its user may touch, removed when it is cleaned up or given up."""
    remove_left_over()
    return tempfile.TemporaryDirectory(prefix=f"pendel-{purpose}-{os.getpid()}-", ignore_cleanup_errors=True)


def remove_left_over() -> None:
    """Remove folders of processes that are gone."""
    with contextlib.suppress(OSError):  # a confined process sees its own folder only
        for path in Path(tempfile.gettempdir()).iterdir():
            match = OURS.fullmatch(path.name)
            if match and not Path("/proc", match[1]).exists():
                with contextlib.suppress(OSError):
                    if path.lstat().st_uid == os.getuid() and not path.is_symlink():
                        shutil.rmtree(path, ignore_errors=True)
