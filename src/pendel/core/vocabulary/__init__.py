"""Words that equations, catalogue, checks, runs and window share. It stands below all of them and knows
none."""

from pendel.core.vocabulary.levels import DRIVE_LEVEL, LEVELS, deepest, plainest
from pendel.core.vocabulary.links import Deck, Link, Nature
from pendel.core.vocabulary.roles import Circuit, SignalRole, ValueRole

__all__ = [
    "DRIVE_LEVEL",
    "LEVELS",
    "Circuit",
    "Deck",
    "Link",
    "Nature",
    "SignalRole",
    "ValueRole",
    "deepest",
    "plainest",
]
