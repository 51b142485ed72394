"""Where to save something, asked for."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QMessageBox, QWidget


def asked_path(parent: QWidget, title: str, proposed: str, kinds: Mapping[str, str]) -> str:
    """Empty where nothing is to be saved. ``kinds``: by ending, what such a file is.

    A name without one of the endings gets that of the kind that is chosen. The dialog has asked about replacing a file
    of the name that was typed, not of the one that comes of it, so that is asked here."""
    filters = {f"{words} (*{ending})": ending for ending, words in kinds.items()}
    path, kind = QFileDialog.getSaveFileName(parent, title, proposed, ";;".join(filters))
    if not path or Path(path).suffix.lower() in kinds:
        return path
    path += filters.get(kind, next(iter(kinds)))
    if Path(path).exists() and not may_replace(parent, title, Path(path)):
        return ""
    return path


def may_replace(parent: QWidget, title: str, path: Path) -> bool:
    answers = QMessageBox.StandardButton
    words = f"There is a file {path.name} already. Replace it?"
    return QMessageBox.question(parent, title, words, answers.Yes | answers.No, answers.No) == answers.Yes
