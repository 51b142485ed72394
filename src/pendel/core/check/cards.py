"""One card after another: values, choices, table, profile, own lines, starts, and what its kind says
itself."""

from __future__ import annotations

import contextlib
import math

from pendel.core.catalogue.declare import Kind, Part, Value
from pendel.core.catalogue.own import read_own
from pendel.core.catalogue.own_block import TEMPLATES as OWN_BLOCKS
from pendel.core.catalogue.own_block import read_block
from pendel.core.check.examined import Examined, Subject
from pendel.core.check.profiles import profile_of
from pendel.core.check.values import evaluate_value, meant_unit, rows_of, worked_out
from pendel.core.drive import commands
from pendel.core.drive.document import Card, Drive
from pendel.core.drive.findings import Finding, attention, fault
from pendel.core.errors import ExpressionProblem
from pendel.core.quantities.expressions import is_literal, value_in_field
from pendel.core.quantities.named import Names
from pendel.core.quantities.units import number_text
from pendel.core.vocabulary import ValueRole


def cards(of: Subject) -> None:
    for key, kind in of.kinds.items():
        examine_card(of, key, kind)


def examine_card(of: Subject, key: str, kind: Kind) -> None:
    drive, names, result = of.drive, of.names, of.result
    card = drive.cards[key]
    good = values_of(drive, key, kind, names, result)
    good = choices_of(card, key, kind, result) and good
    values = result.values[key]
    if kind.rows:
        good = rows_of(of, key, kind.rows, values) and good
    if good:
        contradictions = worked_out(key, card, kind, values, result)
        good = contradictions is not None
        for c in contradictions or ():
            fix = commands.set_values(drive, key, c.remedy, c.remedy_label) if c.remedy else None
            result.findings.append(
                (fault if c.fault else attention)(f"{card.name}: {c.sentence}", key, c.field, fix, c.remedy_label)
            )
    if good:
        outlasted_by_run(card, key, kind, result)
    if kind.has_profile:
        profile_of(drive, key, kind, names, result)
    if card.own is not None and card.kind in OWN_BLOCKS:
        block = read_block(card.own, card.kind, names)
        for section, line, sentence in block.problems:
            names_of = {"equations": "update", "words": "update in words", "convert": "conversion"}
            where = names_of.get(section, section)
            result.findings.append(fault(f"{card.name}, {where} line {line + 1}: {sentence}", key, f"{section}:{line}"))
    if isinstance(kind, Part):
        starts_of(card, key, kind, names, result)
    if good:
        for rule in kind.rules:
            with contextlib.suppress(ArithmeticError):  # values far from all that is usual lead to no numbers
                result.findings += rule(card, key, result)


def values_of(drive: Drive, key: str, kind: Kind, names: Names, result: Examined) -> bool:
    """Work out the values of a card. Whether all that are in force could be."""
    card, values, good = drive.cards[key], dict[str, float](), True
    in_force = {v.name for v in kind.values_in_force(card)}
    for value in kind.values:
        text = card.values.get(value.name, value.default)
        try:
            values[value.name] = evaluate_value(value, text, names, meant_unit(drive, key, value))
        except ExpressionProblem as problem:
            values[value.name] = math.nan
            if value.name in in_force:
                good = False
                result.findings.append(fault(f"{card.name}: {problem}", key, value.name))
        else:
            if value.name in in_force and (found := fraction_for_percent(drive, key, value, text)):
                result.findings.append(found)
    result.values[key] = values
    return good


def fraction_for_percent(drive: Drive, key: str, value: Value, text: str) -> Finding | None:
    """A plain figure below 1 where tens of percent are usual: 0.94 in a field of %."""
    if value.unit != "%" or not text.strip() or not is_literal(text) or float(value.default or 0.0) < USUALLY_TENS:
        return None
    try:
        number = float(text)
    except ValueError:  # it has a unit
        return None
    if not 0.0 < number <= 1.0:
        return None
    card, percent = drive.cards[key], f"{number_text(100.0 * number)} %"
    return attention(
        f"{card.name}: {value.label} {value.name} is {number_text(number)} %. A fraction was probably meant; write "
        f"{percent}, or {number_text(number)} % if it is so little.",
        key,
        value.name,
        commands.set_value(drive, key, value.name, percent),
        f"Write {percent}",
    )


USUALLY_TENS = 20.0
"""%, from which on a usual value is none that is ever below 1."""


def choices_of(card: Card, key: str, kind: Kind, result: Examined) -> bool:
    """Whether all choices of a card are possible ones."""
    good = True
    for choice in kind.choices:
        if card.choices.get(choice.name, choice.default) not in dict(choice.options):
            good = False
            result.findings.append(
                fault(
                    f"{card.name}: {choice.label} cannot be “{card.choices[choice.name]}”. Choose one of "
                    f"{', '.join(o for o, _ in choice.options)}.",
                    key,
                    choice.name,
                )
            )
    return good


def outlasted_by_run(card: Card, key: str, kind: Kind, result: Examined) -> None:
    """Tell what begins after the run's end, or comes only once."""
    values = result.values[key]
    first = kind.value_name(ValueRole.BEGINS)
    begins, until = values.get(first, 0.0), result.settings.get("until", math.inf)
    if begins > until:
        result.findings.append(
            attention(
                f"{card.name} starts at {number_text(begins)} s, after the run's end at "
                f"{number_text(until)} s, so it does nothing. Start it earlier or run longer.",
                key,
                first,
            )
        )
    rate = kind.value_name(ValueRole.PERIODS)
    period = values.get(rate, 0.0) * result.settings.get("tick", 0.0)
    if period >= until and values[rate] > 1.0:
        result.findings.append(
            attention(
                f"{card.name} runs every {number_text(period)} s, and the run ends at {number_text(until)} s, so it "
                "runs once. Run longer, or let it run more often.",
                key,
                rate,
            )
        )


def starts_of(card: Card, key: str, kind: Part, names: Names, result: Examined) -> None:
    """Work out the starting values of a part's states, typed or out of its own equations."""
    result.starts[key] = {}
    model = read_own(card.own, names) if card.own else None
    if model:
        for section, line, sentence in model.problems:
            result.findings.append(
                fault(f"{card.name}, {section} line {line + 1}: {sentence}", key, f"{section}:{line}")
            )
    for state in kind.states:
        if state.name in card.starts or (model and state.name in model.states):
            result.given_starts.add(f"{key}.{state.name}")
        text = card.starts.get(state.name, model.states.get(state.name, "0") if model else "0")
        try:
            result.starts[key][state.name] = value_in_field(text, state.unit, names)
        except ExpressionProblem as problem:
            result.findings.append(
                fault(f"{card.name}, starting value of {state.label}: {problem}", key, f"start:{state.name}")
            )
