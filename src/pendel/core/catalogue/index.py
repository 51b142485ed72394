"""All kinds of parts and blocks by id: those in the catalogue's folders, and those that installed packages
add."""

from __future__ import annotations

import contextlib
import pkgutil
import sys
from collections.abc import Mapping
from functools import lru_cache
from importlib import import_module, metadata
from pathlib import Path
from types import ModuleType

from pendel.core.catalogue import own, own_block
from pendel.core.catalogue.declare import Block, Deck, Kind, Link, Part
from pendel.core.drive.document import Card
from pendel.core.drive.usual import told_by
from pendel.core.errors import DriveProblem
from pendel.core.extensions import left_out, owner_of

ROOMS = ("electrical", "machines", "mechanics", "heat", "systems", "sensors", "control")
"""Folders of the catalogue. A module in one of them that has a ``KIND`` or ``KINDS`` is part of it."""
GROUP = "pendel.kinds"
"""Entry points by which installed packages add kinds: each names a kind, or several."""


ASSEMBLY = Kind(
    id="assembly",
    title="Assembly",
    sentence="Several cards in one.",
    group="assembly",
    mark="▤",
)
"""What is common to all assemblies; `pendel.core.catalogue.assembly.kind_in` tells the rest."""


@lru_cache(maxsize=1)
def kinds() -> dict[str, Kind]:
    """Every kind by its id: ours, then those of installed packages. Two of ours with one id fail at once."""
    by_id: dict[str, Kind] = {own.TEMPLATE.id: own.TEMPLATE, **own_block.TEMPLATES}
    for module in our_modules():
        for kind in kinds_in(module):
            if kind.id in by_id:
                raise ValueError(f"two catalogue entries are called {kind.id}")
            by_id[kind.id] = kind
    return by_id | added(by_id)


def our_modules() -> list[ModuleType]:
    catalogue = __name__.rpartition(".")[0]
    rooms = [import_module(f"{catalogue}.{room}") for room in ROOMS]
    return [
        import_module(f"{room.__name__}.{name}")
        for room in rooms
        for name in sorted(m.name for m in pkgutil.iter_modules(room.__path__))
    ]


def kinds_in(module: ModuleType) -> tuple[Kind, ...]:
    return tuple(getattr(module, "KINDS", ())) or ((module.KIND,) if hasattr(module, "KIND") else ())


def added(ours: Mapping[str, Kind]) -> dict[str, Kind]:
    """Kinds of installed packages. What cannot be used is left out, with a message in `extensions.left_out`;
    ours stay
    as they are."""
    by_id: dict[str, Kind] = {}
    problems = left_out[GROUP] = []
    for entry in sorted(metadata.entry_points(group=GROUP), key=lambda e: e.name):
        try:
            loaded = entry.load()
        except Exception as problem:  # noqa: BLE001  somebody else's code may raise anything
            problems.append(
                f"The kinds “{entry.name}” of {owner_of(entry)} cannot be loaded: {problem}. Update or "
                "remove the package."
            )
            continue
        for kind in loaded if isinstance(loaded, tuple | list) else (loaded,):
            if not isinstance(kind, Part | Block):
                problems.append(
                    f"“{entry.name}” of {owner_of(entry)} names something that is neither a part nor a block."
                )
            elif kind.id in ours or kind.id in by_id or not kind.id.isidentifier():
                problems.append(
                    f"The kind “{kind.id}” of {owner_of(entry)} has the id of another, or none that can be "
                    "one. Its maker must rename it."
                )
            else:
                by_id[kind.id] = kind
    return by_id


def code_of_added() -> list[bytes]:
    """The texts of modules that add kinds; what was made of their equations holds as long as these stay."""
    names = sorted({entry.module for entry in metadata.entry_points(group=GROUP)})
    files = (getattr(sys.modules.get(name), "__file__", None) for name in names)
    codes = []
    for path in files:
        if path:
            with contextlib.suppress(OSError):
                codes.append(Path(path).read_bytes())
    return codes


def kind_of(card: Card) -> Kind:
    """The kind of a card; for own equations, the one its lines amount to.

    Raises
    ------
    DriveProblem
        when this version has no such kind.
    """
    if card.kind == "own":
        return _own_part(card.kind, card.own, card)
    if card.kind in own_block.TEMPLATES:
        return own_block.block_of(card)
    if card.face is not None:
        return ASSEMBLY
    if card.kind not in kinds():
        raise DriveProblem(
            f"{card.name} is of the kind “{card.kind}”, which this version of Pendel does not have. Delete "
            "the card or update Pendel."
        )
    return kinds()[card.kind]


def known_kind(card: Card) -> Kind | None:
    """The kind of a card, or None where this version has no such kind, which the checks of the drive tell."""
    try:
        return kind_of(card)
    except DriveProblem:
        return None


def stand_in(card: Card, deck: Deck) -> Kind:
    """What stands for the kind of a card that this version cannot tell: a card without ports and values, which can be
    seen, read about, moved and deleted."""
    words = (
        f"{card.kind}: this version of Pendel has no such kind. The file is of a newer one, or of a package that is "
        "not installed here. The card is kept as it is; a run needs it deleted, or what has its kind installed."
    )
    return Kind(id=card.kind, title="Unknown kind", sentence=words, group="unknown", mark="?", deck=deck)


@lru_cache(maxsize=512)
def usual_texts(kind: str) -> dict[str, dict[str, str]]:
    """Values and choices as they are where a card leaves them out; nothing of kinds that a user makes."""
    if kind in (own.TEMPLATE.id, *own_block.TEMPLATES) or kind not in kinds():
        return {}
    return {
        "values": {value.name: value.default for value in kinds()[kind].values},
        "choices": {choice.name: choice.default for choice in kinds()[kind].choices},
    }


told_by(usual_texts)


def alternatives(kind: Kind) -> list[Kind]:
    """Kinds of the same group and ports, among them the kind itself: one can take another's place with all
    its wires."""

    def ports(k: Kind) -> list[tuple[str, Link, str]]:
        return [(p.name, p.link, p.unit) for p in k.ports]

    if kind.group == own.TEMPLATE.group or not kind.ports:
        return [kind]
    return [k for k in kinds().values() if type(k) is type(kind) and k.group == kind.group and ports(k) == ports(kind)]


_cache: dict[object, Part] = {}


def _own_part(_: str, lines: object, card: Card) -> Part:
    if lines not in _cache:
        if len(_cache) > 200:
            _cache.clear()
        _cache[lines] = own.own_part(card)
    return _cache[lines]
