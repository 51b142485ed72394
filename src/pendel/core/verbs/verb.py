"""What a verb is: something that can be done with a drive, by whoever asks."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True)
class Parameter:
    """``shape`` stands for it in a line of usage; what is in a unit is told as text with that unit, or as a number in it."""

    name: str
    sentence: str
    shape: str = ""
    many: bool = False
    unit: str = ""
    required: bool = False
    option: str = ""
    """What the terminal calls it, where that is another word."""


@dataclass(frozen=True)
class Verb:
    """``does(drive, **parameters)`` gives the result.

    ``runs`` tells that code made of the drive runs in it; ``changes`` that it changes the drive.
    """

    name: str
    sentence: str
    does: Callable[..., Any]
    parameters: tuple[Parameter, ...] = ()
    runs: bool = True
    changes: bool = False
