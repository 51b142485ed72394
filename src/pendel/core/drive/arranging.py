"""Cards in a row or a column, and evenly apart."""

from __future__ import annotations

from collections.abc import Sequence
from enum import Enum

from pendel.core.drive.commands import Command, move_cards
from pendel.core.drive.document import Drive
from pendel.core.errors import DriveProblem


class Way(Enum):
    """How cards are put; ``words`` name the step of undo."""

    words: str

    ROW = ("row", "Align in a row")
    COLUMN = ("column", "Align in a column")
    ROW_APART = ("row apart", "Space evenly in a row")
    COLUMN_APART = ("column apart", "Space evenly in a column")

    def __new__(cls, value: str, words: str) -> Way:
        way = object.__new__(cls)
        way._value_ = value
        way.words = words
        return way


def arranged(drive: Drive, cards: Sequence[str], way: Way) -> Command:
    """Cards put in line with the one that lies furthest to the left, or on top; or between the two outermost with equal
    distances from each to the next.

    Raises
    ------
    DriveProblem
        for fewer than two cards, or three to be spaced.
    """
    spaced = way in (Way.ROW_APART, Way.COLUMN_APART)
    least = 3 if spaced else 2
    if len(cards) < least:
        raise DriveProblem(f"{way.words}: select {'three' if spaced else 'two'} or more cards first.")
    along_x = way in (Way.ROW, Way.ROW_APART)
    order = sorted(cards, key=lambda key: (drive.cards[key].x, drive.cards[key].y) if along_x else _down(drive, key))
    first, last = drive.cards[order[0]], drive.cards[order[-1]]
    places = {}
    for n, key in enumerate(order):
        card = drive.cards[key]
        if way is Way.ROW:
            places[key] = (card.x, first.y)
        elif way is Way.COLUMN:
            places[key] = (first.x, card.y)
        elif way is Way.ROW_APART:
            places[key] = (first.x + round(n * (last.x - first.x) / (len(order) - 1)), card.y)
        else:
            places[key] = (card.x, first.y + round(n * (last.y - first.y) / (len(order) - 1)))
    return move_cards(drive, places, way.words)


def _down(drive: Drive, key: str) -> tuple[int, int]:
    return drive.cards[key].y, drive.cards[key].x
