"""What a kind is there for, by which it is searched and laid out."""

from __future__ import annotations

from enum import StrEnum


class Group(StrEnum):
    """A group of kinds; ``task`` is what somebody wants who needs one of it."""

    task: str

    SUPPLY = ("supply", "a supply")
    CONVERTER = ("converter", "a converter for a machine")
    CIRCUIT = ("circuit", "a circuit of single parts")
    MACHINE = ("machine", "a machine from its data sheet")
    MECHANICS = ("mechanics", "mechanics between machine and load")
    HEAT = ("heat", "where heat goes")
    LOAD = ("load", "a load or a test bench")
    OWN = ("own", "a part from your own equations")
    SENSOR = ("sensor", "measure something")
    SETPOINT = ("setpoint", "give a setpoint")
    REGULATOR = ("regulator", "close a loop")
    ARITHMETIC = ("arithmetic", "combine signals")
    DYNAMICS = ("dynamics", "shape a signal over time")
    MODULATION = ("modulation", "drive a converter")
    LOGIC = ("logic", "decide and remember")
    TRANSFORM = ("transform", "turn phases into d and q")

    def __new__(cls, word: str, task: str) -> Group:
        group = str.__new__(cls, word)
        group._value_ = word
        group.task = task
        return group


def task_of(group: str) -> str:
    """The task of a group; empty for one that somebody else's kind has made up."""
    return next((known.task for known in Group if known == group), "")
