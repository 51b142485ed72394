"""The values of a card, its table and its choices."""

from __future__ import annotations

import math
from collections.abc import Callable

from pendel.core.catalogue.assembly import kind_in
from pendel.core.catalogue.card_names import names_of
from pendel.core.catalogue.declare import ANY, Contradiction, Kind, Part, Rows, Value
from pendel.core.check.examined import Examined, Subject
from pendel.core.check.signal_units import signal_unit
from pendel.core.drive.document import Card, Drive, End
from pendel.core.drive.findings import fault
from pendel.core.errors import ExpressionProblem, OutOfRange
from pendel.core.quantities.expressions import evaluate, in_turns_of, is_literal, read, value_in_field
from pendel.core.quantities.named import Names
from pendel.core.quantities.stepping import own_unit
from pendel.core.quantities.units import NO_TURN, NONE, SCALED, figure, number_text, si_unit_of
from pendel.core.quantities.units import unit as unit_of
from pendel.core.vocabulary import ValueRole
from pendel.core.worked_out import NotYet


def evaluate_value(value: Value, text: str, names: Names, meant: Callable[[], str] | None = None) -> float:
    """SI value of a card's value text; empty optional ones are not-a-number. ``meant`` tells the unit of a
    value that may be of any, where the wiring tells it.

    Raises
    ------
    ExpressionProblem
    """
    if not text.strip() and value.optional:
        return math.nan
    if value.unit == ANY:
        number = of_any_unit(text, names, meant)
    else:
        number = value_in_field(text, value.unit, names)
    low, high = value.low, value.high
    beyond = (low is not None and (number < low or (value.open_low and number <= low))) or (
        high is not None and number > high
    )
    if beyond or (value.whole and number != round(number)):
        bounds = []
        if low is not None:
            bounds.append(f"{'above' if value.open_low else 'at least'} {bound_text(low, value)}")
        if high is not None:
            bounds.append(f"at most {bound_text(high, value)}")
        if value.whole:
            bounds.append("a whole number")
        words = text if is_literal(text) else f"{text} = {figure(number, '' if value.unit == ANY else value.unit, 4)}"
        raise OutOfRange(f"{value.label} {value.name}", words, " and ".join(bounds))
    return number


def bound_text(bound: float, value: Value) -> str:
    """The end of a value's range as it is entered in the field."""
    if bound == 0 or value.unit == ANY or not value.unit:
        return number_text(bound)
    factor, dimension = unit_of(value.unit)
    if (si := si_unit_of(dimension, NO_TURN)) in SCALED:
        return figure(bound, si, 4)
    return f"{number_text(bound / factor)} {value.unit}"


def meant_unit(drive: Drive, key: str, value: Value) -> Callable[[], str] | None:
    """Where the unit of a card's value that may be of any comes from; that of a gain has none."""
    return None if value.role is ValueRole.GAIN else lambda: signal_unit(drive, End(key, value.at))


def unit_in_use(drive: Drive, card: str, name: str) -> str:
    """The unit of a value. One that takes any has that it is written with, else that of the block's output,
    where plain figures are in it, else that of what its expression is worth; a gain without a unit has none.

    Raises
    ------
    ExpressionProblem
        where the value cannot be read.
    """
    value = kind_in(drive, card).value(name)
    if value is None or value.unit != ANY:
        return value.unit if value is not None else ""
    text = drive.cards[card].values.get(name, value.default)
    names, meant = names_of(drive), meant_unit(drive, card, value)
    # One Hz of a speed is 2 pi of its unit: then figures are not in the unit they are written with.
    if (own := own_unit(text)) and of_any_unit(f"1 {own}", names, meant) == unit_of(own)[0]:
        return own
    if meant is None:
        return ""
    if unit := meant():
        return unit if unit_of(unit)[0] == 1.0 else ""
    worth = evaluate(read(text), names, text)
    return si_unit_of(worth.dim, worth.turn) if worth.dim != NONE else ""


def of_any_unit(text: str, names: Names, meant: Callable[[], str] | None) -> float:
    """SI value of a text whose unit is that of a signal: 25 Hz on a speed is 157 rad/s."""
    quantity = evaluate(read(text), names, text)
    return in_turns_of(meant(), quantity, text) if meant and quantity.turn != NO_TURN else quantity.si


def worked_out(
    key: str, card: Card, kind: Kind, values: dict[str, float], result: Examined
) -> list[Contradiction] | None:
    """What a kind finds contradictory in its values; none where what it works out from them leads to no
    numbers, as when one is far from all that is usual. What takes long is left out `at_once`."""
    try:
        if isinstance(kind, Part) and kind.equation_values is not None:
            kind.equation_values(values, card)
        return kind.contradictions(values, card) if kind.contradictions else []
    except NotYet:
        return []
    except (ArithmeticError, LookupError, RuntimeError, TypeError, ValueError):
        result.findings.append(
            fault(
                f"{card.name}: its values together lead to no numbers; one of them is far from what is "
                "usual. Correct it.",
                key,
            )
        )
        return None


def rows_of(of: Subject, key: str, table: Rows, values: dict[str, float]) -> bool:
    """Evaluate the rows of a card's table into ``values``, as ``column_row``; whether all is well."""
    card, good = of.drive.cards[key], True
    for number, row in enumerate(card.rows):
        for place, column in enumerate(table.columns):
            try:
                text = row[place] if place < len(row) else column.default
                values[f"{column.name}_{number}"] = evaluate_value(
                    column, text, of.names, meant_unit(of.drive, key, column)
                )
            except ExpressionProblem as problem:
                good = False
                where = f"{card.name}, {table.label.lower()} row {number + 1}"
                of.result.findings.append(fault(f"{where}: {problem}", key, f"rows:{number}"))
    return good
