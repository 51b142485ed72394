"""From the texts of a row to all numbers of its run, by arithmetic where the equations stay the same.

Which cards follow from what varies is worked out once: those that hold it, and those whose texts name a quantity that
does. For a row these alone are examined again. What changes the equations or the code (a choice, a level, the sampling
period, how often a block runs, or an answer of `pendel.core.equations.skeleton`) is prepared as a whole, and a drive of
its structure that was ordered before is not ordered again.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import replace

from pendel.core.catalogue.card_names import names_of
from pendel.core.catalogue.declare import Block, Kind, Part
from pendel.core.catalogue.index import kind_of
from pendel.core.check.cards import examine_card
from pendel.core.check.examined import Examined, Subject
from pendel.core.check.formats import card_formats
from pendel.core.check.settings import quantities, settings
from pendel.core.check.targets import CORNER, START, set_target
from pendel.core.drive.assemblies import completed
from pendel.core.drive.document import SETTING_UNITS, Card, Drive
from pendel.core.equations.flatten import block_in, equation_values, signal_sources
from pendel.core.equations.skeleton import still_hold
from pendel.core.errors import DriveHasFindings
from pendel.core.quantities.expressions import names_in
from pendel.core.runs.preparing.simulate import Prepared, contradicting_starts, prepare, prepare_run
from pendel.core.vocabulary import ValueRole
from pendel.core.vocabulary.levels import SYSTEM

PLAIN_SETTINGS = ("until", "tolerance", "seed", "step")
"""Settings that change numbers alone."""


class Following:
    """A drive whose texts vary.

    Parameters
    ----------
    prepared
        the drive as it is.
    targets
        names of what varies, as of `pendel.core.check.targets`.
    """

    def __init__(self, prepared: Prepared, targets: Sequence[str]):
        self.prepared, self.targets = prepared, tuple(targets)
        self.kinds: dict[str, Kind] = {key: kind_of(card) for key, card in prepared.drive.cards.items()}
        self.sources = signal_sources(prepared.drive)
        held = {card for name in self.targets for card in self._holding(name)}
        self.names = following_names(prepared.drive, self.kinds, self.targets, held)
        """Quantities, and values of cards as ``card.value``, that vary with the targets."""
        self.cards = self._following_cards(held)
        self.as_a_whole = self._changes_equations()

    def _following_cards(self, held: set[str]) -> tuple[str, ...]:
        return tuple(
            key
            for key, card in self.prepared.drive.cards.items()
            if key in held or any(self.names & names_in(text) for text in texts_of(card, self.kinds[key]))
        )

    def _holding(self, name: str) -> list[str]:
        """Cards whose record changes with a target; that of an assembly's face lies inside, and others follow it."""
        card, dot, item = name.partition(".")
        drive = self.prepared.drive
        if not dot:
            return []
        text = "0" if item.startswith((START, CORNER)) else drive.cards[card].values.get(item, "")
        with_it = completed(drive, set_target(drive, name, text or drive.cards[card].choices.get(item, text)))
        return [card, *(change.key for change in with_it.changes if change.table == "cards")]

    def _changes_equations(self) -> bool:
        """Whether something that varies may change more than numbers; what it is for a certain row is seen there."""
        drive = self.prepared.drive
        if self.prepared.shipped or drive.settings["level"] == SYSTEM:  # words, scales, envelopes follow from values
            return True
        for name in self.targets:
            card, dot, item = name.partition(".")
            if not dot and name not in drive.quantities and name not in PLAIN_SETTINGS:
                return True
            if dot and any(choice.name == item for choice in self.kinds[card].choices):
                return True
            if dot and self.kinds[card].value_name(ValueRole.PERIODS) == item:
                return True
        named = {name for n in SETTING_UNITS if n not in PLAIN_SETTINGS for name in names_in(drive.settings[n])}
        return bool(self.names & named)

    def drive_of(self, texts: Sequence[str]) -> Drive:
        """The drive of a row. Raises `DriveProblem`."""
        drive = self.prepared.drive.copy()
        for name, text in zip(self.targets, texts, strict=True):
            completed(drive, set_target(drive, name, text)).apply(drive)
        return drive

    def row(self, texts: Sequence[str]) -> Prepared:
        """The drive of a row, ready to run.

        Raises
        ------
        DriveProblem, DriveHasFindings
            where it cannot run with these.
        """
        return self.ready(self.drive_of(texts))

    def ready(self, drive: Drive) -> Prepared:
        """The same of a row's drive. Raises `DriveHasFindings`."""
        return prepare_run(drive) if self.as_a_whole else self.by_arithmetic(drive) or prepare(drive)

    def by_arithmetic(self, drive: Drive) -> Prepared | None:
        """The same without ordering and without a look at what does not follow; None where other equations hold."""
        base = self.prepared
        examined = self._examined(drive)
        if examined.faults:
            raise DriveHasFindings(examined.faults)
        deck = base.deck
        values = dict(base.numbers.values)
        blocks = {}
        for key in self.cards:
            kind = self.kinds[key]
            if isinstance(kind, Part):
                values[key] = equation_values(key, drive.cards[key], kind, examined)
            elif isinstance(kind, Block):
                blocks[key] = block_in(drive, examined, key, kind, self.sources)
                before = deck.block(key)
                form = (before.every, before.phase, len(before.table), before.line_places > 0)
                if (blocks[key].every, blocks[key].phase, len(blocks[key].table), blocks[key].line_places > 0) != form:
                    return None
        if blocks:
            deck = replace(deck, blocks=tuple(blocks.get(b.name, b) for b in deck.blocks))
        numbers = replace(
            base.numbers,
            values=values,
            starts=examined.starts,
            given_starts=frozenset(examined.given_starts),
            profiles=examined.profiles,
        )
        if not still_hold(base.structure.answers, values):
            return None
        prepared = Prepared(drive, examined, base.skeleton, numbers, base.structure, deck, base.with_energy)
        prepared.__dict__["program"], prepared.__dict__["infos"] = base.program, base.infos
        if prepared.starting.contradictions:
            raise DriveHasFindings(contradicting_starts(drive, prepared.starting.contradictions))
        return prepared

    def _examined(self, drive: Drive) -> Examined:
        """What the texts of those that follow amount to; the others' are as they were."""
        base = self.prepared.examined
        examined = replace(
            base,
            findings=[],
            quantities=dict(base.quantities),
            settings=dict(base.settings),
            values=dict(base.values),
            starts=dict(base.starts),
            given_starts=set(base.given_starts),
            profiles=dict(base.profiles),
        )
        names = names_of(drive)
        of = Subject(drive, self.kinds, names, examined)
        quantities(of)
        settings(of)
        for key in self.cards:
            examined.given_starts -= {f"{key}.{state}" for state in examined.starts.get(key, {})}
            examine_card(of, key, self.kinds[key])
            card_formats(of, key, self.kinds[key])
        return examined


def texts_of(card: Card, kind: Kind) -> list[str]:
    """All texts that decide the numbers of a card: those it holds, and defaults."""
    own = card.own
    lines = [] if own is None else [*own.values, *own.states, *own.equations, *own.unknowns]
    sides = [side for line in lines for side in line.split("#")[0].split("=")]
    return [*card.texts, *(value.default for value in kind.values), *sides]


def following_names(
    drive: Drive, kinds: Mapping[str, Kind], targets: Sequence[str], held: Collection[str]
) -> frozenset[str]:
    """Quantities that vary, and those that name one that does; values of cards likewise, as ``card.value``: those of
    the cards that are ``held`` by a target, and those whose texts name what varies."""
    uses: dict[str, set[str]] = {name: names_in(q.text) for name, q in drive.quantities.items()}
    of_cards = {name for used in uses.values() for name in used if "." in name}
    texts = (text for key, card in drive.cards.items() for text in texts_of(card, kinds[key]))
    of_cards |= {name for text in texts for name in names_in(text) if "." in name}
    for name in of_cards:
        card, _, item = name.partition(".")
        value = kinds[card].value(item) if card in kinds else None
        if value is not None:
            uses[name] = names_in(drive.cards[card].values.get(item, value.default))
    following = {name for name in targets if name in uses} | {n for n in of_cards if n.partition(".")[0] in held}
    while more := {name for name, used in uses.items() if used & following} - following:
        following |= more
    return frozenset(following)
