"""Gains of a drive's loops: written where they are defined, and known again when those inside changed."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping

from pendel.core.catalogue.card_names import names_of
from pendel.core.catalogue.declare import ANY
from pendel.core.catalogue.index import kind_of
from pendel.core.check import examine
from pendel.core.controllers.deck import ControlDeck
from pendel.core.drive import commands
from pendel.core.drive.commands import Command
from pendel.core.drive.document import SETTING_UNITS, Drive
from pendel.core.equations.flatten import control_deck
from pendel.core.errors import ExpressionProblem
from pendel.core.loops.regulators.find import Loop, upstream
from pendel.core.quantities.expressions import Number, evaluate, names_in, read, value_in_field
from pendel.core.quantities.named import Names
from pendel.core.quantities.units import NONE, figure, si_unit_of, unit
from pendel.core.runs.preparing.simulate import averaged

GAIN_UNITS = {"T_i": "s", "T_d": "s"}


def take_gains(drive: Drive, loop: Loop, gains: Mapping[str, float]) -> Command:
    """One undo step that writes gains where they are defined: in a quantity the field names, else in the field.

    Each is marked as proposed until it is written over.
    """
    regulator = loop.regulator
    command = Command(f"Take gains of {drive.cards[regulator].name}", ())
    scratch = drive.copy()
    for role, value in gains.items():
        name = loop.regulation.gains[role]
        text = scratch.cards[regulator].values.get(name, "")
        of_field = next((v.unit for v in kind_of(drive.cards[regulator]).values if v.name == name), ANY)
        if text.strip() in scratch.quantities and serves_only(scratch, text.strip(), regulator):
            quantity = text.strip()
            step = commands.set_quantity(
                scratch,
                quantity,
                written(scratch, scratch.quantities[quantity].text, value, of_field),
                f"{commands.PROPOSED} for {drive.cards[regulator].name}",
            )
        else:
            step = commands.set_proposed(
                scratch,
                regulator,
                name,
                written(
                    scratch,
                    text or "1",
                    value,
                    of_field,
                    GAIN_UNITS.get(role, "") if not loop.regulation.scaled else "Hz",
                ),
            )
        step.apply(scratch)
        command = command.then(step)
    remembered = commands.set_tuned_on(scratch, regulator, gains_inside(scratch, regulator))
    return command.then(remembered, command.title)


def gains_inside(drive: Drive, regulator: str) -> dict[str, float]:
    """The gains (SI) of regulators that one acts on, by ``card.value``."""
    plain = averaged(drive)
    deck = control_deck(plain, examine(plain), kind_of)
    return inner_gains(deck, regulator)


def inner_gains(deck: ControlDeck, regulator: str) -> dict[str, float]:
    inside = {b.name for b in deck.blocks if b.regulates and b.name != regulator}
    inside = {name for name in inside if any(regulator in upstream(deck, s) for s in deck.block(name).sources.values())}
    inside -= {name for name in inside if regulator_is_inside(deck, name, regulator)}
    return {
        f"{name}.{own}": deck.block(name).values[own]
        for name in sorted(inside)
        for regulation in deck.block(name).regulates
        for own in regulation.gains.values()
    }


def regulator_is_inside(deck: ControlDeck, name: str, regulator: str) -> bool:
    """Whether a regulator depends on the output of another, so that it lies further in, or both feed each
    other."""
    return any(name in upstream(deck, s) for s in deck.block(regulator).sources.values())


TUNED_ALIKE = 1e-3
"""A gain that is off by less than this share is as it was."""


def changed_inside(drive: Drive, deck: ControlDeck, regulator: str) -> tuple[str, ...]:
    """Regulators further in whose gains are others than when those of this one were taken."""
    before = drive.cards[regulator].tuned_on if regulator in drive.cards else {}
    now = inner_gains(deck, regulator) if before else {}
    other = [
        name.partition(".")[0]
        for name, gain in now.items()
        if name in before and not math.isclose(gain, before[name], rel_tol=TUNED_ALIKE)
    ]
    return tuple(dict.fromkeys(other))


def one_in_field(unit_text: str, of_field: str) -> float:
    """What one of a unit is in a field of another: a bandwidth in Hz takes 1 rad/s for 0.159."""
    if of_field == ANY:
        return unit(unit_text)[0]
    return value_in_field(f"1 {unit_text}", of_field, Names({}))


def serves_only(drive: Drive, quantity: str, card: str) -> bool:
    """Whether no other card, no other quantity, no setting and no control of the panel uses a quantity."""
    others = [q.text for n, q in drive.quantities.items() if n != quantity]
    others += [text for key, record in drive.cards.items() if key != card for text in record.texts]
    others += [drive.settings[n] for n in SETTING_UNITS]
    others += [text for control in drive.panel.values() for text in control.texts]
    return not any(quantity in names_in(text) for text in others)


SAME = 2e-3
"""A formula that gives a gain but for this share stays as it is."""
FACTOR = re.compile(r"([0-9.]+(?:e[-+]?[0-9]+)?)\*\((.*)\)", re.DOTALL)


def in_formula(old: str, factor: float) -> str:
    """A formula times a factor, in the place of the factor that it was given before."""
    if (known := FACTOR.fullmatch(old.strip())) and is_closed(known[2]):
        old, factor = known[2], factor * float(known[1])
    return old.strip() if abs(factor - 1) <= SAME else f"{factor:.4g}*({old.strip()})"


def is_closed(text: str) -> bool:
    """Whether each bracket in it is closed after it was opened."""
    depth = 0
    for letter in text:
        depth += (letter == "(") - (letter == ")")
        if depth < 0:
            return False
    return depth == 0


def written(drive: Drive, old: str, value: float, of_field: str, plain_unit: str = "") -> str:
    """``value``, in SI as a field of the unit ``of_field`` gives it, in the unit the old text was written in; a formula
    of quantities stays one, times a factor, so that it goes on following them."""
    try:
        node = read(old)
        if isinstance(node, Number) and node.unit:
            return f"{value / one_in_field(node.unit, of_field):.4g} {node.unit}"
        quantity = evaluate(node, names_of(drive), old)
        unit_text = "" if quantity.dim == NONE else si_unit_of(quantity.dim, quantity.turn)
        value /= one_in_field(unit_text, of_field) if unit_text else 1.0
        factor = value / quantity.si if quantity.si else math.inf
        if names_in(old) and old.strip() not in drive.quantities and 0 < factor < math.inf:
            return in_formula(old, factor)
    except ExpressionProblem:
        unit_text = ""
    unit_text = unit_text or plain_unit
    return figure(value, unit_text, 4) if unit_text == "s" else f"{value:.4g} {unit_text}".strip()


__all__ = ["GAIN_UNITS", "changed_inside", "gains_inside", "inner_gains", "take_gains", "written"]
