"""Number formats and ranges by hand."""

from __future__ import annotations

import math
from dataclasses import replace

from pendel.core.catalogue.declare import ANY, Block, Deck, Kind, Part
from pendel.core.check.examined import Examined, Subject
from pendel.core.check.signal_units import signal_unit
from pendel.core.check.values import evaluate_value, meant_unit
from pendel.core.controllers.deck import delays_in
from pendel.core.controllers.language import read_update
from pendel.core.controllers.numbers.block import LINE
from pendel.core.controllers.numbers.intervals import Interval
from pendel.core.controllers.numbers.lowering import Choices
from pendel.core.controllers.numbers.representation import NumberFormat
from pendel.core.drive import commands
from pendel.core.drive.document import BASES, Drive, End
from pendel.core.drive.findings import fault
from pendel.core.errors import ExpressionProblem, shorten
from pendel.core.quantities.expressions import is_literal, value_in_field
from pendel.core.quantities.named import Names
from pendel.core.quantities.stepping import digits_of, read_step
from pendel.core.quantities.units import figure, number_text
from pendel.core.vocabulary import ValueRole

FORMATS = tuple(f.value for f in NumberFormat)
LARGEST_KEY = 999
"""Of pinned keys; those that follow from the running order begin behind it."""
CONTROLLERS = ("as modelled", "as shipped")


def number_choices(drive: Drive, examined: Examined) -> Choices:
    """Number formats and ranges of a drive without faults."""
    return Choices(
        NumberFormat(drive.settings["number_format"]),
        {key: NumberFormat(card.number_format) for key, card in drive.cards.items() if card.number_format},
        {name: Interval(low, high) for name, (low, high) in examined.ranges.items()},
        {name: Interval(low, high) for name, (low, high) in examined.live.items()},
        examined.pinned_keys,
    )


def sizes_seen(drive: Drive) -> dict[str, float]:
    """What signals came to in the run in which ranges were found, by ``card.signal``."""
    return {f"{key}.{name}": size for key, card in drive.cards.items() for name, size in card.seen.items()}


def formats(of: Subject) -> None:
    settings, findings = of.drive.settings, of.result.findings
    for name, known in (("number_format", FORMATS), ("controller", CONTROLLERS)):
        if settings[name] not in known:
            label = name.replace("_", " ")
            findings.append(
                fault(
                    f"The {label} “{settings[name]}” is not known. Choose one of {', '.join(known)}.",
                    field=name,
                )
            )
    for key, kind in of.kinds.items():
        card_formats(of, key, kind)


def card_formats(of: Subject, key: str, kind: Kind) -> None:
    """The same of one card."""
    findings, card = of.result.findings, of.drive.cards[key]
    if card.number_format and card.number_format not in FORMATS:
        findings.append(
            fault(
                f"{card.name}: the number format “{card.number_format}” is not known. "
                f"Choose one of {', '.join(FORMATS)}.",
                key,
                "number_format",
            )
        )
    for name, ends in card.ranges.items():
        _range(of, key, kind, name, ends)
    for name, ends in card.live.items():
        _live(of, key, kind, name, ends)
    for word, texts in (("step", card.steps), ("digits", card.digits), ("base", card.bases)):
        for name, text in texts.items():
            _way_of_editing(of, key, kind, name, word, text)
    if card.phase:
        _phase(of, key, kind)
    if card.pinned_key:
        _pinned_key(of, key)


def _range(of: Subject, key: str, kind: Kind, name: str, ends: tuple[str, str]) -> None:
    """The range of one signal or state of a card."""
    card, field = of.drive.cards[key], f"range:{name}"
    states = {s.name for s in getattr(kind, "states", ())}

    def complain(sentence: str) -> None:
        of.result.findings.append(fault(f"{card.name}, range of {name}: {sentence}", key, field))

    if name not in _with_range(kind):
        fix = commands.set_range(of.drive, key, name, None)
        sentence = f"{card.name}: it has no signal {shorten(name)} that could have a range. Take it off."
        of.result.findings.append(fault(sentence, key, field, fix, "Take it off"))
        return
    unit = signal_unit(of.drive, End(key, name)) if kind.port(name) else ""
    try:
        low, high = (value_in_field(text, unit, of.names) for text in ends)
    except ExpressionProblem as problem:
        complain(str(problem))
        return
    if wrong := wrong_ends(low, high):
        complain(wrong)
    elif low > 0.0 or high < 0.0:
        if name in states or kind.port(name) is None:
            complain("what is remembered begins at 0, which it leaves out. Take 0 in.")
        else:
            of.result.ranges[f"{key}.{name}"] = (low, high)
    else:
        of.result.ranges[f"{key}.{name}"] = (low, high)


def _with_range(kind: Kind) -> set[str]:
    """Names of a kind that may have a range: its signals, and what its code holds."""
    names = {port.name for port in kind.ports}
    if isinstance(kind, Block):
        code = read_update(kind.update)
        return names | {*code.arguments, *code.locals} | ({LINE} if code.memory else set())
    assert isinstance(kind, Part)
    return names | {s.name for s in kind.signals} | {s.name for s in kind.states}


def wrong_ends(low: float, high: float) -> str:
    """What is wrong with the ends of a range; nothing where it is one."""
    if not (math.isfinite(low) and math.isfinite(high)):
        return "the range has no end. Give a lowest and a highest value."
    if low > high:
        return f"its lowest value {number_text(low)} is above its highest {number_text(high)}. Swap the two."
    return f"the range begins and ends at {number_text(low)}. Give it a width." if low == high else ""


def _live(of: Subject, key: str, kind: Kind, name: str, ends: tuple[str, str]) -> None:
    """A value of a card that can be changed while its code runs."""
    card, field = of.drive.cards[key], f"live:{name}"

    def complain(sentence: str) -> None:
        of.result.findings.append(fault(f"{card.name}, live value {name}: {sentence}", key, field))

    if not isinstance(kind, Block) or kind.deck is not Deck.CONTROL:
        complain("only blocks of the control deck have live values. Take it off.")
        return
    code = read_update(kind.update)
    if name not in code.arguments or kind.port(name) is not None or name == "dt":
        complain("its code reads no value of that name. Take it off.")
        return
    if name in delays_in(code):
        complain("it sets how much the block remembers, so it must be a constant. Take it off.")
        return
    try:
        low, high = (end_of_live(of.drive, key, kind, name, text, of.names) for text in ends)
    except ExpressionProblem as problem:
        complain(str(problem))
        return
    now, text = of.result.values.get(key, {}).get(name, math.nan), card.values.get(name, "")
    unit = value.unit if (value := kind.value(name)) and value.unit != ANY else ""
    shown = text if text and is_literal(text) else f"{text} = {figure(now, unit, 4)}".removeprefix(" = ")
    if wrong := wrong_ends(low, high):
        complain(wrong)
    elif now < low or now > high:
        complain(
            f"it is {shown}, and its range goes from {ends[0]} to {ends[1]}. Widen the range, or change the value."
        )
    else:
        of.result.live[f"{key}.{name}"] = (low, high)


def end_of_live(drive: Drive, key: str, kind: Kind, name: str, text: str, names: Names) -> float:
    """SI value of an end of a live value's range, read as the value itself. Raises `ExpressionProblem`."""
    value = kind.value(name)
    if value is None:
        return value_in_field(text, "", names)
    return evaluate_value(replace(value, default="0"), text, names, meant_unit(drive, key, value))


def whole_number(text: str) -> int:
    """A number of figures alone; −1 for anything else."""
    return int(text) if text.isascii() and text.isdigit() and len(text) < 10 else -1


def _phase(of: Subject, key: str, kind: Kind) -> None:
    card, tick = of.drive.cards[key], whole_number(of.drive.cards[key].phase)
    every = of.result.values.get(key, {}).get(kind.value_name(ValueRole.PERIODS), math.nan)
    if not isinstance(kind, Block):
        sentence = "it does not run in ticks, so it has no phase. Take it off."
    elif tick < 0 or tick >= every:
        last = f"{every - 1:.0f}" if math.isfinite(every) else "its rate"
        sentence = f"the phase “{card.phase}” is no tick of its period. Give a whole number from 0 to {last}."
    else:
        of.result.phases[key] = tick
        return
    of.result.findings.append(fault(f"{card.name}: {sentence}", key, "phase"))


def _pinned_key(of: Subject, key: str) -> None:
    card, known = of.drive.cards[key], of.result.pinned_keys
    number = whole_number(card.pinned_key)
    other = next((k for k, n in known.items() if n == number), "")
    if not 1 <= number <= LARGEST_KEY:
        sentence = f"the pinned key “{card.pinned_key}” is no whole number from 1 to {LARGEST_KEY}. Give it one."
    elif other:
        sentence = f"{of.drive.cards[other].name} has the pinned key {number} already. Give one of them another."
    else:
        known[key] = number
        return
    of.result.findings.append(fault(f"{card.name}: {sentence}", key, "pinned_key"))


TAKE_OFF = {"step": commands.set_step, "digits": commands.set_digits, "base": commands.set_base}
"""By what is said of how a value is edited: what sets it, and with an empty text takes it off."""


def _way_of_editing(of: Subject, key: str, kind: Kind, name: str, word: str, text: str) -> None:
    """A step, digits or a base: each is of one of the card's values, and must be readable."""
    card, value, field = of.drive.cards[key], kind.value(name), f"{word}:{name}"
    if value is None:
        fix = TAKE_OFF[word](of.drive, key, name, "")
        what = word if word == "digits" else f"a {word}"
        sentence = f"{card.name}: it has no value {shorten(name)} that could have {what}. Take it off."
        of.result.findings.append(fault(sentence, key, field, fix, "Take it off"))
        return
    try:
        if word == "step":
            read_step(text, "" if value.unit == ANY else value.unit, of.names)
        elif word == "digits":
            digits_of(text)
        elif text not in BASES:
            raise ExpressionProblem(f"“{shorten(text)}” is no base. Choose one of {', '.join(BASES)}.")
    except ExpressionProblem as problem:
        of.result.findings.append(fault(f"{card.name}, {word} of {name}: {problem}", key, field))
