"""Words that equations, catalogue, checks, runs and window share. It stands below all of them and knows
none."""

from pendel.core.vocabulary.groups import Group, task_of
from pendel.core.vocabulary.levels import DRIVE_LEVEL, deepest, levels, plainest
from pendel.core.vocabulary.links import Deck, Link, Nature
from pendel.core.vocabulary.pictures import Shape, Symbol
from pendel.core.vocabulary.roles import ENERGY_FACTOR, Conduction, SignalRole, ValueRole

__all__ = [
    "DRIVE_LEVEL",
    "ENERGY_FACTOR",
    "Conduction",
    "Deck",
    "Group",
    "Link",
    "Nature",
    "Shape",
    "SignalRole",
    "Symbol",
    "ValueRole",
    "deepest",
    "levels",
    "plainest",
    "task_of",
]
