"""What the equations of a drive depend on but for its numbers: kinds, choices, levels, wires, and which
values are zero.

Two drives of one skeleton whose parts got the same answers about their values have the same equations. The
key distinguishes skeletons without a symbol, so that what was ordered once is found again for any values, in
any process."""

from __future__ import annotations

import hashlib
import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import Enum

PinName = tuple[str, str, int]
"""Card, port, number of the line within the port."""


class Question(Enum):
    """What a part may ask about a value, to state other equations."""

    ZERO = "zero"
    POSITIVE = "positive"
    GIVEN = "given"

    def answer(self, value: float) -> bool:
        if self is Question.ZERO:
            return value == 0
        return value > 0 if self is Question.POSITIVE else not math.isnan(value)


Answers = tuple[tuple[str, str, Question, bool], ...]
"""Card, value, question and answer."""


@dataclass(frozen=True)
class PartForm:
    """One part but for its numbers."""

    card: str
    kind: str
    level: str
    choices: tuple[tuple[str, str], ...]
    rows: int = 0
    """Of the card's table; the values of one are ``column_row``."""
    own: tuple[object, ...] = ()
    """Equations typed by the user."""
    surfaces: Mapping[str, tuple[tuple[int, int], int]] = field(default_factory=dict)
    """Cells, and how many numbers, of each of its surfaces."""


@dataclass(frozen=True)
class Skeleton:
    """``ports`` with their numbers of lines, groups of ports with a common potential, joined lines, and the
    parts in their order."""

    parts: tuple[PartForm, ...]
    ports: Mapping[tuple[str, str], int]
    groups: tuple[tuple[str, ...], ...]
    joins: tuple[tuple[PinName, PinName], ...]

    def key(self, *more: object) -> str:
        """A hash that is equal for equal skeletons, here and elsewhere; ``more`` is what else distinguishes
        structures."""
        forms = [(f.card, f.kind, f.level, f.choices, f.rows, f.own, sorted(f.surfaces.items())) for f in self.parts]
        text = repr((forms, list(self.ports.items()), self.groups, self.joins, more))
        return hashlib.sha256(text.encode()).hexdigest()[:32]


def still_hold(answers: Answers, values: Mapping[str, Mapping[str, float]]) -> bool:
    """Whether parts with these values, by card, would get the same answers."""
    return all(question.answer(values[card][name]) == answer for card, name, question, answer in answers)
