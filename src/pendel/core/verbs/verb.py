"""What a verb is: something that can be done with a drive, by whoever asks."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True)
class Parameter:
    """``shape`` is its placeholder in help; a value in a unit is text with that unit, or a number in it."""

    name: str
    sentence: str
    shape: str = ""
    many: bool = False
    unit: str = ""
    required: bool = False
    option: str = ""
    """What the terminal calls it, where that is another word."""
    placed: bool = False
    """Whether the terminal takes it by its place, though it may be left out."""
    reads: bool = False
    """Whether it is a file whose text the terminal gives; what does the verb may read no file of the user."""
    flag: bool = False
    """Whether it is only there or not."""


@dataclass(frozen=True)
class Verb:
    """``does(drive, **parameters)`` gives the result.

    ``runs``: code made from the drive runs in it. ``changes``: it changes the drive.
    """

    name: str
    sentence: str
    does: Callable[..., Any]
    parameters: tuple[Parameter, ...] = ()
    runs: bool = True
    changes: bool = False
    opens: bool = True
    """Whether it is about a drive that there is."""
    beside: bool = False
    """Whether it has processes of its own, and is given the drive's file instead of being confined."""
    writes: str = ""
    """What goes into the file of ``--out``, where it gives one."""
    endings: Callable[[], Iterable[str]] | None = None
    """Those its file may have, where they matter."""
