"""The values of a controller as shipped: which can be changed while it runs, between which ends, by which
words."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass

from pendel.core.catalogue.assembly import kind_in
from pendel.core.catalogue.card_names import names_of
from pendel.core.catalogue.declare import ANY, Value
from pendel.core.check.formats import end_of_live
from pendel.core.check.values import unit_in_use
from pendel.core.controllers.deck import delays_in
from pendel.core.controllers.numbers.lowering import Lowered, LoweredBlock
from pendel.core.controllers.numbers.representation import FLOAT, Rep
from pendel.core.controllers.numbers.tree import Name
from pendel.core.drive.document import Drive
from pendel.core.errors import DriveProblem, ExpressionProblem
from pendel.core.firmware.findings import text_of
from pendel.core.quantities.stepping import multiplied
from pendel.core.quantities.units import unit as unit_of

USUAL = 4.0
"""How many times larger or smaller a value that becomes live can be made, where nothing else is said."""


@dataclass(frozen=True)
class NumberFacts:
    """A number of the code that hangs on live values: its name, how it follows, what it is now, how it is held.
    ``alone`` where it is a value itself."""

    name: str
    formula: str
    now: float
    rep: Rep
    alone: bool

    @property
    def word(self) -> int:
        return self.rep.word(self.now)


@dataclass(frozen=True)
class ValueFacts:
    """A value that a block's code uses. ``text`` is as written and empty of what follows from others, ``now``
    in SI; ``ends`` as written where it is live; ``constant`` says why it cannot be."""

    block: str
    title: str
    code_name: str
    name: str
    label: str
    unit: str
    text: str
    now: float
    ends: tuple[str, str] | None
    step: str
    digits: str
    base: str
    numbers: tuple[NumberFacts, ...]
    constant: str = ""

    @property
    def key(self) -> str:
        return f"{self.block}.{self.name}"

    @property
    def alone(self) -> NumberFacts | None:
        """The number that is the value itself."""
        return next((n for n in self.numbers if n.alone), None)


def values_of(drive: Drive, lowered: Lowered) -> tuple[ValueFacts, ...]:
    """All values that the blocks of a controller use, in running order."""
    return tuple(v for block in lowered.blocks for v in _of_block(drive, lowered, block))


def _of_block(drive: Drive, lowered: Lowered, block: LoweredBlock) -> Iterable[ValueFacts]:
    card, kind, instance = drive.cards[block.name], kind_in(drive, block.name), block.tree.instance
    read = {v.name for v in block.tree.live}
    for name in instance.used_values:
        value, now = kind.value(name), instance.values[name]
        text = card.values.get(name, value.default) if value else ""
        constant = ""
        if name in delays_in(instance.code):
            constant = "it sets how much the block remembers"
        elif name in card.live and name not in read:
            constant = "with the other values as they are, the code does not read it"
        yield ValueFacts(
            block.name,
            block.tree.title,
            lowered.members[block.name],
            name,
            value.label if value else "",
            unit_in_use(drive, block.name, name),
            text,
            now,
            card.live.get(name),
            card.steps.get(name, ""),
            card.digits.get(name, ""),
            card.bases.get(name, "decimal"),
            tuple(_numbers(block, name, now)) if name in read else (),
            constant,
        )


def _numbers(block: LoweredBlock, name: str, now: float) -> Iterable[NumberFacts]:
    """The numbers that hang on a value; the value itself first, which in float is a member of its own."""
    if not block.number.fixed:
        yield NumberFacts(f"values.{block.numbers.values[name]}", name, now, FLOAT[block.value_bits], True)
    own = [n for n in block.live if name in n.live.of.names]
    for n in sorted(own, key=lambda n: n.live.of != Name(name)):
        yield NumberFacts(n.name, text_of(n.live.of), n.live.now, n.rep, n.live.of == Name(name))


def usual_ends(drive: Drive, block: str, name: str, now: float) -> tuple[str, str]:
    """The ends that a value gets when it becomes live: a quarter and four times of what it is, within what its
    card admits; around 0 one either way."""
    value = kind_in(drive, block).value(name)
    text = drive.cards[block].values.get(name, value.default) if value else f"{now:.6g}"
    if now == 0.0 or not math.isfinite(now):
        low, high = "-1", "1"
    else:
        ends = multiplied(text, 1.0 / USUAL), multiplied(text, USUAL)
        low, high = ends if now > 0.0 else ends[::-1]
    return (
        _admitted(drive, block, value, low, lowest=True),
        _admitted(drive, block, value, high, lowest=False),
    )


def _admitted(drive: Drive, block: str, value: Value | None, text: str, *, lowest: bool) -> str:
    """An end, or the limit that a card has for the value where that is nearer."""
    if value is None:
        return text
    limit = value.low if lowest else value.high
    names = names_of(drive)
    unit = "" if value.unit == ANY else value.unit
    try:
        end = end_of_live(drive, block, kind_in(drive, block), value.name, text, names)
    except ExpressionProblem:
        if limit is None or (lowest and value.open_low):
            return text
        return f"{limit / unit_of(unit)[0]:.6g} {unit}".strip()
    if value.whole:
        return f"{math.floor(end) if lowest else math.ceil(end):d}"
    return text


def live_choices(drive: Drive, lowered: Lowered, wished: Iterable[str]) -> dict[str, dict[str, tuple[str, str]]]:
    """Values that are to become live, by block, from texts: ``BLOCK`` for all its values, ``BLOCK.VALUE``, or
    ``BLOCK.VALUE=LOWEST…HIGHEST``.

    Raises
    ------
    DriveProblem
        naming what a text asks for that there is not.
    """
    facts = values_of(drive, lowered)
    ends_of: dict[str, dict[str, tuple[str, str]]] = {}
    for wish in wished:
        path, equals, ends = wish.partition("=")
        low, parting, high = ends.replace("...", "…").partition("…")
        if equals and not (parting and low.strip() and high.strip()):
            raise DriveProblem(f"“{wish}” has no two ends. Write it like {path}=0.5…8.")
        meant = [v for v in facts if path == v.key or (path == v.block and not equals and _is_tuned(v))]
        meant = [v for v in meant if not v.constant or v.ends is not None]
        if not meant:
            known = ", ".join(v.key for v in facts if v.block == path.partition(".")[0]) or ", ".join(
                dict.fromkeys(v.block for v in facts)
            )
            raise DriveProblem(f"“{path}” names no value that can be live. There are {known}.")
        for v in meant:
            pair = (low.strip(), high.strip()) if equals else usual_ends(drive, v.block, v.name, v.now)
            ends_of.setdefault(v.block, {})[v.name] = v.ends if v.ends and not equals else pair
    return ends_of


def _is_tuned(value: ValueFacts) -> bool:
    """Whether a value is live when its whole block is: it was entered, and is not 0."""
    return bool(value.text) and value.now != 0.0
