"""Tables of things that one file each adds: ours by a literal list of modules, then those of installed
packages by entry points.

A module of ours has its thing in a constant. An entry point of somebody else's names such a thing, or
several. What cannot be
taken is left out, and said in `left_out`; ours stay as they are.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from functools import cached_property
from importlib import import_module, metadata
from typing import Generic, Protocol, TypeVar

left_out: dict[str, list[str]] = {}
"""By group of entry points: what installed packages offer and could not be taken, each a sentence."""


class Named(Protocol):
    @property
    def id(self) -> str: ...


T = TypeVar("T", bound=Named)


class Table(Generic[T]):
    """Things of one sort by their ids, loaded when first asked for.

    Parameters
    ----------
    group
        of entry points.
    sort
        the class, or classes, of its things.
    modules
        ours, in the order in which they are shown; each has what it adds in ``constant``.
    ours
        those that need no file of their own; they come first.
    word
        what one of them is called in a sentence.
    """

    def __init__(
        self,
        group: str,
        sort: type[T],
        modules: Sequence[str],
        *,
        constant: str,
        word: str,
        ours: Sequence[T] = (),
        fits: Callable[[T], str] = lambda thing: "",
    ):
        self.group, self.sort, self.modules, self.constant, self.word = group, sort, modules, constant, word
        self.ours = ours
        self.fits = fits
        """Why a thing of somebody else's cannot be taken, as the end of a sentence; empty where it can."""

    @cached_property
    def things(self) -> dict[str, T]:
        ours: list[T] = [*self.ours, *(getattr(import_module(m), self.constant) for m in self.modules)]
        by_id = {thing.id: thing for thing in ours}
        if len(by_id) < len(ours):
            raise ValueError(f"two of {self.group} have one id")
        problems = left_out[self.group] = []
        for entry, offered in self._offered(problems):
            for thing in offered if isinstance(offered, tuple | list) else (offered,):
                if not isinstance(thing, self.sort):
                    problems.append(f"“{entry.name}” of {owner_of(entry)} names something that is no {self.word}.")
                elif thing.id in by_id or not thing.id.isidentifier():
                    problems.append(
                        f"The {self.word} “{thing.id}” of {owner_of(entry)} has the id of another, or none "
                        f"that can be "
                        "one. Its maker must rename it."
                    )
                elif reason := self.fits(thing):
                    problems.append(f"The {self.word} “{thing.id}” of {owner_of(entry)} {reason}")
                else:
                    by_id[thing.id] = thing
        return by_id

    def _offered(self, problems: list[str]) -> Iterator[tuple[metadata.EntryPoint, object]]:
        for entry in sorted(metadata.entry_points(group=self.group), key=lambda e: e.name):
            try:
                yield entry, entry.load()
            except Exception as problem:  # noqa: BLE001  somebody else's code may raise anything
                problems.append(
                    f"“{entry.name}” of {owner_of(entry)}, a {self.word}, cannot be loaded: {problem}. "
                    f"Update or remove "
                    "the package."
                )

    def __iter__(self) -> Iterator[T]:
        return iter(self.things.values())

    def __contains__(self, name: object) -> bool:
        return name in self.things

    def __getitem__(self, name: str) -> T:
        return self.things[name]

    def __len__(self) -> int:
        return len(self.things)


def owner_of(entry: metadata.EntryPoint) -> str:
    return entry.dist.name if entry.dist is not None else entry.value


def all_left_out() -> list[str]:
    return [sentence for problems in left_out.values() for sentence in problems]
