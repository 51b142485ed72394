"""Checking a drive: every text is evaluated, every wire followed; what is wrong becomes a finding."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import lru_cache

from pendel.core.catalogue.declare import ANY, LEVELS, Block, Contradiction, Kind, Link, Part, Rows, Value
from pendel.core.catalogue.index import kind_of
from pendel.core.catalogue.own import read_own
from pendel.core.catalogue.own_block import TEMPLATES as OWN_BLOCKS
from pendel.core.catalogue.own_block import read_block
from pendel.core.drive import commands
from pendel.core.drive.document import Card, Drive, End, Wire
from pendel.core.drive.findings import Finding, attention, fault
from pendel.core.errors import DriveProblem, ExpressionProblem, OutOfRange
from pendel.core.quantities.expressions import (
    evaluate,
    in_turns_of,
    is_literal,
    plain_numbers,
    read,
    value_in_field,
)
from pendel.core.quantities.named import Names
from pendel.core.quantities.units import NO_TURN, NONE, dimension_text, figure, number_text, unit

SETTING_UNITS = {"until": "s", "tick": "s", "step": "s", "tolerance": "", "computing_delay": "", "seed": ""}
MOST_TICKS = 5e7
METHODS = ("auto", "explicit", "stiff", "fast", "fixed")


@dataclass
class Examined:
    """What the texts of a drive amount to, in SI, and what is wrong with them."""

    findings: list[Finding] = field(default_factory=list)
    quantities: dict[str, float] = field(default_factory=dict)
    settings: dict[str, float] = field(default_factory=dict)
    values: dict[str, dict[str, float]] = field(default_factory=dict)
    starts: dict[str, dict[str, float]] = field(default_factory=dict)
    given_starts: set[str] = field(default_factory=set)
    """``card.state`` of every starting value that was entered and does not follow from a default."""
    profiles: dict[str, tuple[list[float], list[float]]] = field(default_factory=dict)

    @property
    def faults(self) -> list[Finding]:
        return [f for f in self.findings if f.stops]

    def finding_at(self, card: str, field_name: str) -> Finding | None:
        return next((f for f in self.findings if f.card == card and f.field == field_name), None)


def examine(drive: Drive) -> Examined:
    """Evaluate and check everything that needs no equations."""
    result = Examined()
    names = Names({name: q.text for name, q in drive.quantities.items()})
    kinds: dict[str, Kind] = {}
    unknown = []
    for key, card in drive.cards.items():
        try:
            kinds[key] = kind_of(card)
        except DriveProblem as problem:
            unknown.append(fault(str(problem), key))
    _quantities(drive, names, result)
    _settings(drive, kinds, names, result)
    result.findings += unknown
    for key, kind in kinds.items():
        _card(drive, key, kind, names, result)
    _harmonics_and_step(drive, kinds, result)
    _wires(drive, kinds, result)
    _ports(drive, kinds, result)
    _taps(drive, kinds, result)
    return result


def _quantities(drive: Drive, names: Names, result: Examined) -> None:
    for name in drive.quantities:
        try:
            result.quantities[name] = names(name).si
        except ExpressionProblem as problem:
            result.findings.append(fault(f"Quantity {name}: {problem}", field=name))


def _settings(drive: Drive, kinds: dict[str, Kind], names: Names, result: Examined) -> None:
    for name, unit_text in SETTING_UNITS.items():
        text = drive.settings[name]
        label = {"until": "Run length", "tick": "Base tick", "step": "Fixed step"}.get(
            name, name.replace("_", " ").capitalize()
        )
        try:
            value = value_in_field(text, unit_text, names)
            if name in ("until", "tick", "step", "tolerance") and value <= 0:
                raise OutOfRange(label, text, "above 0")
            if name == "computing_delay" and value not in (0.0, 1.0):
                raise OutOfRange(label, text, "0 or 1 tick")
            if name == "tolerance" and not 1e-13 <= value <= 0.1:
                raise OutOfRange(label, text, "between 1e-13 and 0.1")
            result.settings[name] = value
        except ExpressionProblem as problem:
            result.findings.append(fault(f"{label}: {problem}", field=name))
    until, tick = result.settings.get("until"), result.settings.get("tick")
    sampled = any(isinstance(kind, Block) for kind in kinds.values())
    if sampled and until is not None and tick is not None and until / tick > MOST_TICKS:
        result.findings.append(
            fault(
                f"The run of {number_text(until)} s has {number_text(until / tick)} ticks; at most {number_text(MOST_TICKS / 1e6)} million are possible. Shorten the run or lengthen the base tick.",
                field="until",
            )
        )
    if drive.settings["level"] not in LEVELS:
        result.findings.append(
            fault(
                f"The level of detail “{drive.settings['level']}” is not known. Choose one of {', '.join(LEVELS)}.",
                field="level",
            )
        )
    if drive.settings["method"] not in METHODS:
        result.findings.append(
            fault(
                f"The method “{drive.settings['method']}” is not known. Choose one of {', '.join(METHODS)}.",
                field="method",
            )
        )


def evaluate_value(value: Value, text: str, names: Names, meant: Callable[[], str] | None = None) -> float:
    """SI value of a card's value text; empty optional ones are not-a-number. ``meant`` tells the unit of a value that may be of
    any, where the wiring tells it.

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
            bounds.append(f"above {number_text(low)}" if value.open_low else f"at least {number_text(low)}")
        if high is not None:
            bounds.append(f"at most {number_text(high)}")
        if value.whole:
            bounds.append("a whole number")
        told = (
            text
            if is_literal(text)
            else f"{text} = {figure(number, '' if value.unit == ANY else value.unit, 4)}"
        )
        raise OutOfRange(f"{value.label} {value.name}", told, " and ".join(bounds))
    return number


def of_any_unit(text: str, names: Names, meant: Callable[[], str] | None) -> float:
    """SI value of a text whose unit is that of a signal: 25 Hz on a speed is 157 rad/s."""
    found = evaluate(read(text), names, text)
    return in_turns_of(meant(), found, text) if meant and found.turn != NO_TURN else found.si


def _worked_out(
    key: str, card: Card, kind: Kind, values: dict[str, float], result: Examined
) -> list[Contradiction] | None:
    """What a kind finds contradictory in its values; none where what it works out from them leads to no numbers, as when one is far from
    all that is usual."""
    try:
        if isinstance(kind, Part) and kind.circuit is not None:
            kind.circuit(values, card)
        return kind.contradictions(values, card) if kind.contradictions else []
    except (ArithmeticError, LookupError, RuntimeError, TypeError, ValueError):
        result.findings.append(
            fault(
                f"{card.name}: its values together lead to no numbers; one of them is far from what is usual. Correct it.",
                key,
            )
        )
        return None


def _card(drive: Drive, key: str, kind: Kind, names: Names, result: Examined) -> None:
    card = drive.cards[key]
    values: dict[str, float] = {}
    good = True
    in_force = {v.name for v in kind.values_in_force(card)}
    for value in kind.values:
        text = card.values.get(value.name, value.default)
        try:
            meant = None if value.name.startswith("K") else lambda: signal_unit(drive, End(key, "out"))
            values[value.name] = evaluate_value(value, text, names, meant)
        except ExpressionProblem as problem:
            values[value.name] = math.nan
            if value.name in in_force:
                good = False
                result.findings.append(fault(f"{card.name}: {problem}", key, value.name))
    for choice in kind.choices:
        if card.choices.get(choice.name, choice.default) not in dict(choice.options):
            good = False
            result.findings.append(
                fault(
                    f"{card.name}: {choice.label} cannot be “{card.choices[choice.name]}”. Choose one of {', '.join(o for o, _ in choice.options)}.",
                    key,
                    choice.name,
                )
            )
    if kind.rows:
        good = _rows(card, key, kind.rows, names, values, result) and good
    if good:
        contradictions = _worked_out(key, card, kind, values, result)
        good = contradictions is not None
        for c in contradictions or ():
            mend = commands.set_values(drive, key, c.remedy, c.remedy_label) if c.remedy else None
            result.findings.append(
                (fault if c.fault else attention)(
                    f"{card.name}: {c.sentence}", key, c.field, mend, c.remedy_label
                )
            )
    result.values[key] = values
    begins, until = values.get("t_0", 0.0), result.settings.get("until", math.inf)
    if good and begins > until:
        result.findings.append(
            attention(
                f"{card.name} starts at {number_text(begins)} s, after the run's end at {number_text(until)} s, so it does nothing. "
                "Start it earlier or run longer.",
                key,
                "t_0",
            )
        )
    if kind.has_profile:
        _profile(drive, key, kind, names, result)
    if card.own is not None and card.kind in OWN_BLOCKS:
        block = read_block(card.own, card.kind, names)
        for section, line, sentence in block.problems:
            where = {"equations": "update"}.get(section, section)
            result.findings.append(
                fault(f"{card.name}, {where} line {line + 1}: {sentence}", key, f"{section}:{line}")
            )
    if isinstance(kind, Part):
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
                    fault(
                        f"{card.name}, starting value of {state.label}: {problem}", key, f"start:{state.name}"
                    )
                )


def _rows(
    card: Card, key: str, table: Rows, names: Names, values: dict[str, float], result: Examined
) -> bool:
    """Evaluate the rows of a card's table into ``values``, as ``column_row``; whether all is well."""
    good = True
    for number, row in enumerate(card.rows):
        for place, column in enumerate(table.columns):
            try:
                text = row[place] if place < len(row) else column.default
                values[f"{column.name}_{number}"] = evaluate_value(column, text, names)
            except ExpressionProblem as problem:
                good = False
                where = f"{card.name}, {table.label.lower()} row {number + 1}"
                result.findings.append(fault(f"{where}: {problem}", key, f"rows:{number}"))
    return good


def _harmonics_and_step(drive: Drive, kinds: dict[str, Kind], result: Examined) -> None:
    """A fixed step cannot follow what swings faster than half its rate."""
    step = result.settings.get("step")
    if drive.settings["method"] != "fixed" or not step:
        return
    for key, kind in kinds.items():
        values = result.values.get(key, {})
        if kind.rows is None or kind.rows.columns[0].name != "order" or "f" not in values:
            continue
        for number in range(len(drive.cards[key].rows)):
            f = values.get(f"order_{number}", 0.0) * values["f"]
            if f * step >= 0.5:
                result.findings.append(
                    attention(
                        f"{drive.cards[key].name}: the harmonic of order {number_text(values[f'order_{number}'])} is at {number_text(f)} Hz, but a fixed step of {number_text(step * 1e6)} µs "
                        f"follows less than {number_text(0.5 / step)} Hz. Shorten the step to below {number_text(0.5e6 / f)} µs or delete the harmonic.",
                        key,
                        f"rows:{number}",
                    )
                )


@lru_cache(maxsize=8)
def plain_corners(
    profile: tuple[tuple[str, str], ...], unit_text: str | None
) -> tuple[list[float], list[float]] | None:
    """Times and levels (SI) of a profile that is written in plain numbers, with one unit or none, as a measured one of many corners is; kept,
    as every edit of the drive reads them again. ``None`` where a corner needs more than a look."""
    times = plain_numbers((text for text, _ in profile), "s")
    levels = plain_numbers((text for _, text in profile), unit_text) if times is not None else None
    return None if times is None or levels is None else (times, levels)


def _profile(drive: Drive, key: str, kind: Kind, names: Names, result: Examined) -> None:
    assert kind.has_profile is not None
    card = drive.cards[key]
    unit_text = kind.has_profile[1]
    times: list[float] = []
    levels: list[float] = []
    known = plain_corners(card.profile, None if unit_text == ANY else unit_text)
    if known is not None:
        times, levels = known
    for number, (time_text, value_text) in enumerate(card.profile if known is None else ()):
        try:
            times.append(value_in_field(time_text, "s", names))
            levels.append(
                of_any_unit(value_text, names, lambda: signal_unit(drive, End(key, "out")))
                if unit_text == ANY
                else value_in_field(value_text, unit_text, names)
            )
        except ExpressionProblem as problem:
            result.findings.append(
                fault(f"{card.name}, profile corner {number + 1}: {problem}", key, f"profile:{number}")
            )
            return
    number = next((n for n, (a, b) in enumerate(itertools.pairwise(times), 1) if b < a), 0)
    if number:
        result.findings.append(
            fault(
                f"{card.name}, profile corner {number + 1}: its time {card.profile[number][0]} lies before the corner at {card.profile[number - 1][0]}. Sort the corners by time.",
                key,
                f"profile:{number}",
            )
        )
        return
    if card.kind == "imposed_speed":
        _jumps(card, key, times, levels, result)
    if not times and not kind.profile_optional:
        result.findings.append(
            attention(f"{card.name} has no profile yet and gives 0. Add corners.", key, "profile")
        )
    result.profiles[key] = (times, levels)


def _jumps(card: Card, key: str, times: list[float], levels: list[float], result: Examined) -> None:
    """An imposed speed that jumps needs infinite torque, which no run can show."""
    for number in range(1, len(times)):
        if times[number] == times[number - 1] and levels[number] != levels[number - 1]:
            result.findings.append(
                attention(
                    f"{card.name} jumps at {number_text(times[number])} s: whatever inertia is on the shaft jumps with it, and the torque of the jump is not shown. "
                    "Give the jump a slope, such as 1 ms.",
                    key,
                    f"profile:{number}",
                )
            )


def end_exists(drive: Drive, kinds: dict[str, Kind], end: End) -> Link | None:
    """The link of an end, or ``None`` when it points nowhere. A part's signals can be read like outputs."""
    kind = kinds.get(end.card)
    if kind is None:
        return None
    port = kind.port(end.port)
    if port:
        return port.link
    if isinstance(kind, Part) and any(s.name == end.port for s in kind.signals):
        return Link.SIGNAL_OUT
    return None


def fits(a: Link, b: Link) -> bool:
    """Whether two links can be joined."""
    return (a is b and a not in (Link.SIGNAL_IN, Link.SIGNAL_OUT)) or {a, b} in (
        {Link.SIGNAL_IN, Link.SIGNAL_OUT},
        {Link.DC, Link.LINE},
    )


MOST_WIRES_TOLD = 100
"""Wires that are wrong, told one by one."""


def _wires(drive: Drive, kinds: dict[str, Kind], result: Examined) -> None:
    feeds: dict[str, str] = {}
    wrong: list[tuple[str, str, str]] = []
    for wire in drive.wires.values():
        links = [end_exists(drive, kinds, end) for end in (wire.a, wire.b)]
        lost = next((str(end) for end, link in zip((wire.a, wire.b), links) if link is None), None)
        if lost or links[0] is None or links[1] is None:
            wrong.append(
                (
                    wire.key,
                    f"A wire points to {lost}, which does not exist. Delete the wire or restore the card.",
                    _card_of(drive, wire),
                )
            )
            continue
        if not fits(links[0], links[1]):
            wrong.append(
                (
                    wire.key,
                    f"The wire from {wire.a} to {wire.b} joins a {links[0].value} port with a {links[1].value} port. Delete it.",
                    _card_of(drive, wire),
                )
            )
            continue
        if (
            links[1] is Link.SIGNAL_IN
            and isinstance(kinds[wire.a.card], Part)
            and isinstance(kinds[wire.b.card], Part)
        ):
            wrong.append(
                (
                    wire.key,
                    f"The wire from {wire.a} to {wire.b} leads from part to part. Put a block or a sensor between them.",
                    wire.b.card,
                )
            )
            continue
        if links[1] is Link.SIGNAL_IN:
            if str(wire.b) in feeds:
                told = f"{wire.b} is fed twice, by {feeds[str(wire.b)]} and by {wire.a}. Delete one of the wires."
                wrong.append((wire.key, told, wire.b.card))
            feeds[str(wire.b)] = str(wire.a)
            _measured(drive, kinds, wire, result)
    for key, sentence, card in wrong[:MOST_WIRES_TOLD]:
        source = drive.wires[key].a if "fed twice" in sentence else ""
        label = f"Delete the wire from {source}" if source else "Delete the wire"
        result.findings.append(fault(sentence, card, "", commands.remove_wires(drive, [key]), label))
    if more := [key for key, _, _ in wrong[MOST_WIRES_TOLD:]]:
        told = f"{len(more)} more wires lead nowhere or join what does not fit. Delete them."
        result.findings.append(fault(told, "", "", commands.remove_wires(drive, more), "Delete these wires"))


def _measured(drive: Drive, kinds: dict[str, Kind], wire: Wire, result: Examined) -> None:
    """A sensor on a signal of another quantity than it is made for."""
    kind, port = kinds[wire.a.card], kinds[wire.b.card].port(wire.b.port)
    signal = (
        next((s for s in kind.signals if s.name == wire.a.port), None) if isinstance(kind, Part) else None
    )
    if signal is None or port is None or not port.takes:
        return
    if unit(signal.unit)[1] not in [unit(text)[1] for text in port.takes]:
        result.findings.append(
            attention(
                f"{drive.cards[wire.b.card].name}: “{port.label}” is given the {signal.label} of {drive.cards[wire.a.card].name}, in {signal.unit or '1'}, "
                f"but takes {' or '.join(port.takes)}. Wire another signal to it.",
                wire.b.card,
                port.name,
            )
        )


def _card_of(drive: Drive, wire: Wire) -> str:
    return wire.a.card if wire.a.card in drive.cards else wire.b.card if wire.b.card in drive.cards else ""


def _ports(drive: Drive, kinds: dict[str, Kind], result: Examined) -> None:
    joined = {str(end) for w in drive.wires.values() for end in (w.a, w.b)}
    for key, kind in kinds.items():
        card = drive.cards[key]
        for port in kind.ports:
            if not port.required or f"{key}.{port.name}" in joined or port.link is Link.SIGNAL_OUT:
                continue
            if port.link is Link.SIGNAL_IN and isinstance(kind, Part):
                result.findings.append(
                    attention(
                        f"{card.name}: nothing feeds “{port.label}”, so it stays 0. Wire a block to it.",
                        key,
                        port.name,
                    )
                )
            elif port.link is Link.SIGNAL_IN:
                result.findings.append(
                    attention(
                        f"{card.name}: nothing is wired to “{port.label}”, so it reads 0.", key, port.name
                    )
                )
            else:
                result.findings.append(
                    attention(f"{card.name}: the port “{port.label}” is not connected.", key, port.name)
                )


def _taps(drive: Drive, kinds: dict[str, Kind], result: Examined) -> None:
    for name, end in drive.taps.items():
        if end_exists(drive, kinds, end) is None:
            result.findings.append(
                fault(
                    f"The tap {name} points to {end}, which does not exist. Delete the tap.",
                    "",
                    name,
                    commands.remove_tap(drive, name),
                    "Delete the tap",
                )
            )


def signal_unit(drive: Drive, end: End) -> str:
    """Unit a signal is shown in: declared, or followed through the wiring; empty when nothing tells."""
    return _signal_unit(drive, end, set())


def _signal_unit(drive: Drive, end: End, seen: set[str]) -> str:
    if str(end) in seen or end.card not in drive.cards:
        return ""
    seen.add(str(end))
    kind = kind_of(drive.cards[end.card])
    if isinstance(kind, Part):
        found = next((s.unit for s in kind.signals if s.name == end.port), None)
        port = kind.port(end.port)
        return found if found is not None else port.unit if port else ""
    port = kind.port(end.port)
    if port is None or port.unit != ANY:
        return port.unit if port else ""
    if port.link is Link.SIGNAL_IN:
        source = next((w.a for w in drive.wires.values() if w.b == end), None)
        return _signal_unit(drive, source, seen) if source else ""
    if isinstance(kind, Block) and kind.id in ("gain", "pt1", "integrator", "product", "p", "pi", "pid"):
        gain = _gain_unit(drive, end, seen)
        if gain is not None:
            return gain
    elif isinstance(kind, Block):
        for other in kind.ports:
            if other.link is Link.SIGNAL_IN and other.unit == ANY:
                through = _signal_unit(drive, End(end.card, other.name), seen)
                if through:
                    return through
    for wire in drive.wires.values():
        if wire.a == end:
            target = (
                kind_of(drive.cards[wire.b.card]).port(wire.b.port) if wire.b.card in drive.cards else None
            )
            if target and target.unit and target.unit != ANY:
                return target.unit
            ahead = _unit_ahead(drive, wire.b, seen)
            if ahead:
                return ahead
    return ""


def _unit_ahead(drive: Drive, end: End, seen: set[str]) -> str:
    """Unit an input expects because of its fellow inputs (a setpoint is compared with an actual value)."""
    card = drive.cards.get(end.card)
    if card is None or card.kind not in ("p", "pi", "pid", "compare", "sum", "selector"):
        return ""
    partner = {
        "setpoint": "actual",
        "actual": "setpoint",
        "a": "b",
        "b": "a",
        "first": "second",
        "second": "first",
    }.get(end.port)
    return _signal_unit(drive, End(end.card, partner), seen) if partner else ""


def _gain_unit(drive: Drive, end: End, seen: set[str]) -> str | None:
    """Unit of gain times input, when the gain was written with a unit."""
    card = drive.cards[end.card]
    text = card.values.get(
        "K_p" if card.kind in ("p", "pi", "pid") else "K_i" if card.kind == "integrator" else "K", ""
    )
    port = {"p": "actual", "pi": "actual", "pid": "actual"}.get(card.kind, "x")
    try:
        gain = evaluate(read(text), Names({n: q.text for n, q in drive.quantities.items()}), text).dim
    except ExpressionProblem:
        return None
    if gain == NONE:
        return None
    source = _signal_unit(drive, End(end.card, port), seen)
    if not source:
        return None
    dim = tuple(a + b for a, b in zip(gain, unit(source)[1]))
    text = dimension_text(dim)
    return {"rad/s (or Hz)": "rad/s", "J (or N·m)": "N·m", "a plain number": ""}.get(text, text)
