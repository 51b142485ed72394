"""What the equations need to know of a kind. They know none by name; the catalogue's declarations fit these
outlines."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Protocol, TypeGuard

from pendel.core.controllers.deck import Regulation
from pendel.core.controllers.language import Update
from pendel.core.drive.document import Card
from pendel.core.equations.context import PartContext
from pendel.core.vocabulary import Deck, Link, Nature, ValueRole

SurfaceNumbers = Mapping[str, tuple[tuple[int, int], Sequence[float]]]
Values = Mapping[str, float]
Corners = tuple[tuple[float, float], ...]


class APort(Protocol):
    @property
    def name(self) -> str: ...
    @property
    def link(self) -> Link: ...


class AChoice(Protocol):
    @property
    def name(self) -> str: ...
    @property
    def ideal(self) -> str: ...


class AKind(Protocol):
    """What parts and blocks have in common."""

    @property
    def nature(self) -> Nature: ...
    @property
    def id(self) -> str: ...
    @property
    def ports(self) -> Sequence[APort]: ...
    @property
    def choices(self) -> Sequence[AChoice]: ...
    def choice(self, card: Card, name: str) -> str: ...
    def value_name(self, role: ValueRole) -> str: ...


class APart(AKind, Protocol):
    @property
    def build(self) -> Callable[[PartContext], None]: ...
    @property
    def equation_values(self) -> Callable[[Values, Card], dict[str, float]] | None: ...
    @property
    def surfaces(self) -> Callable[[Card], SurfaceNumbers] | None: ...
    @property
    def potentials(self) -> Callable[[str], Sequence[tuple[str, ...]]] | None: ...
    def level(self, card: Card, of_drive: str) -> str: ...


class ABlock(AKind, Protocol):
    @property
    def update(self) -> Callable[..., None] | Update: ...
    @property
    def deck(self) -> Deck: ...
    @property
    def derive(self) -> Callable[[Values, Card, float], dict[str, float]] | None: ...
    @property
    def profile_table(self) -> Callable[[Corners, float], Corners] | None: ...
    @property
    def tables(self) -> Callable[[Values, Card], list[tuple[float, float]]] | None: ...
    @property
    def holds(self) -> frozenset[str]: ...
    @property
    def turns(self) -> frozenset[str]: ...
    @property
    def smooth(self) -> Mapping[str, float]: ...
    @property
    def regulates(self) -> tuple[Regulation, ...]: ...
    @property
    def compares(self) -> Regulation | None: ...
    @property
    def lone(self) -> bool: ...
    @property
    def has_profile(self) -> tuple[str, str] | None: ...


def is_part(kind: AKind) -> TypeGuard[APart]:
    return kind.nature is Nature.PART


def is_block(kind: AKind) -> TypeGuard[ABlock]:
    return kind.nature is Nature.BLOCK


class ExaminedDrive(Protocol):
    """The numbers of a drive, by card and by what is numbered."""

    @property
    def values(self) -> Mapping[str, Mapping[str, float]]: ...
    @property
    def starts(self) -> Mapping[str, Mapping[str, float]]: ...
    @property
    def given_starts(self) -> set[str]: ...
    @property
    def profiles(self) -> Mapping[str, tuple[list[float], list[float]]]: ...
    @property
    def settings(self) -> Mapping[str, float]: ...
    @property
    def phases(self) -> Mapping[str, int]: ...
