"""A finding: one problem as one sentence, with where it is and, where there is one, a safe remedy."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum

from pendel.core.drive.commands import Command


class Severity(Enum):
    FAULT = "fault"
    """Nothing can run before it is fixed."""
    ATTENTION = "attention"
    """It runs, but probably not as meant."""


@dataclass(frozen=True)
class Finding:
    """``card`` and ``field`` say where; a ``field`` without a ``card`` is a quantity or a setting."""

    severity: Severity
    sentence: str
    card: str = ""
    field: str = ""
    fix: Command | None = None
    fix_label: str = ""

    def __str__(self) -> str:
        return self.sentence

    @property
    def stops(self) -> bool:
        return self.severity is Severity.FAULT


def fault(sentence: str, card: str = "", field: str = "", fix: Command | None = None, fix_label: str = "") -> Finding:
    return Finding(Severity.FAULT, sentence, card, field, fix, fix_label)


def attention(
    sentence: str, card: str = "", field: str = "", fix: Command | None = None, fix_label: str = ""
) -> Finding:
    return Finding(Severity.ATTENTION, sentence, card, field, fix, fix_label)


@dataclass(frozen=True)
class Remark:
    """What a run showed: a sentence about a card at a time (s), and the text for one of its values that would
    cure it."""

    sentence: str
    card: str
    time: float
    value: str = ""
    text: str = ""


@dataclass(frozen=True)
class Cause(Remark):
    """A remark from which the other remarks on the same run follow; where there is one, they are not made."""
