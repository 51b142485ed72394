"""Whether what is wired together, and what is written in a unit, is of one quantity."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

from pendel.core.catalogue.declare import ANY, Block, Kind, Link, Part, Port, Value
from pendel.core.check.examined import Subject
from pendel.core.check.signal_units import SignalUnits
from pendel.core.drive.document import End, Wire
from pendel.core.drive.findings import attention
from pendel.core.quantities.expressions import is_plain
from pendel.core.quantities.plain_numbers import first_of_each_unit
from pendel.core.quantities.stepping import own_unit
from pendel.core.quantities.units import NO_TURN, NONE, Dimension, dimension_text, turn, unit
from pendel.core.vocabulary import ValueRole


@dataclass(frozen=True)
class Fit:
    """What one look at the units of a drive needs."""

    of: Subject
    units: SignalUnits
    reported: set[str] = field(default_factory=set)
    """Cards of which a value was reported already."""

    def add(self, card: str, place: str, sentence: str) -> None:
        self.of.result.findings.append(attention(f"{self.of.drive.cards[card].name}: {sentence}", card, place))


def unit_fit(of: Subject) -> None:
    """Report what does not fit, where it begins. A signal without a unit fits everything, as does a plain figure."""
    fit = Fit(of, SignalUnits(of.drive, of.kinds, of.names))
    blocks = {key: kind for key, kind in of.kinds.items() if isinstance(kind, Block)}
    for key, kind in blocks.items():
        if not kind.gain:
            _values(fit, key, kind)
    compared = {key: words for key, kind in blocks.items() if (words := _compared(fit, key, kind))}
    for key, kind in blocks.items():
        if kind.gain and (key in compared or not _gain(fit, key, kind)):
            _values(fit, key, kind)
    wired = [w for w in of.drive.wires.values() if w.a.card not in fit.reported and w.a.card not in compared]
    for wire in wired:
        _wire(fit, wire)
    follows = {w.b.card for w in of.drive.wires.values() if w.a.card in fit.reported or w.a.card in compared}
    begins = [key for key in compared if key not in follows] or ([] if fit.reported else list(compared))
    for key in begins:
        fit.add(key, *compared[key])


def unlike(a: str, b: str) -> bool:
    """Whether two units are of different quantities, or one counts cycles and the other radians."""
    if not a or not b:
        return False
    if unit(a)[1] != unit(b)[1]:
        return True
    (cycles_a, radians_a), (cycles_b, radians_b) = turn(a), turn(b)
    return bool(cycles_a and radians_b or radians_a and cycles_b)


def misfits(units: SignalUnits, kind: Kind, target: End) -> bool:
    """Whether what feeds an input is of another quantity than it is made for, or than what it is compared with."""
    port = kind.port(target.port)
    given = units.behind(units.source[target]) if target in units.source else ""
    if port is not None and port.takes and given and all(unlike(given, takes) for takes in port.takes):
        return True
    pairs = [pair for pair in getattr(kind, "alike", ()) if target.port in pair]
    return any(unlike(*(units.behind(End(target.card, name)) for name in pair)) for pair in pairs)


def _wire(fit: Fit, wire: Wire) -> None:
    port = _port(fit.of.kinds, wire.b)
    if port is None or port.link is not Link.SIGNAL_IN or not port.takes or wire.a.card not in fit.of.kinds:
        return
    given = fit.units.behind(wire.a)
    plain = not given and isinstance(fit.of.kinds[wire.a.card], Part)  # declared so, as a duty is
    if plain or all(unlike(given, takes) for takes in port.takes):
        takes = " or ".join(port.takes)
        fit.add(
            wire.b.card,
            port.name,
            f"“{port.label}” takes {takes}, but is given {_signal(fit, wire.a)}, in {given or '1'}. "
            "Wire another signal to it.",
        )


def _compared(fit: Fit, key: str, kind: Block) -> tuple[str, str] | None:
    """Field and sentence where two inputs that are compared, added or chosen from are not alike; else nothing."""
    for a, b in kind.alike:
        units = [fit.units.behind(End(key, name)) for name in (a, b)]
        if unlike(*units):
            labels = [port.label for name in (a, b) if (port := kind.port(name))]
            sentence = f"“{labels[0]}” is in {units[0]} and “{labels[1]}” in {units[1]}. "
            return b, sentence + "Wire signals of one quantity to both."
    return None


def _gain(fit: Fit, key: str, kind: Block) -> bool:
    """Report a gain whose unit makes of its input what the output is not; whether it was reported."""
    gained = kind.gain and kind.value(kind.gain[0])
    if not kind.gain or gained is None:
        return False
    text = fit.of.drive.cards[key].values.get(gained.name, gained.default)
    written = None if is_plain(text) else fit.units.worth(text)
    if written is None or written.dim == NONE:
        return False
    end, source = End(key, "out"), fit.units.of(End(key, kind.gain[1]))
    given, expected = fit.units.behind(end), fit.units.taken(end)
    if not source or not unlike(given, expected):
        return False
    fit.reported.add(key)
    fit.add(
        key,
        gained.name,
        f"{gained.label} is {text}, which makes {given} of {source}, but the output goes to {expected}. "
        "Correct the unit or the wiring.",
    )
    return True


def _values(fit: Fit, key: str, kind: Block) -> None:
    card = fit.of.drive.cards[key]
    in_force = {v.name for v in kind.values_in_force(card)}
    for value in kind.values:
        if value.unit == ANY and value.role is not ValueRole.GAIN and value.name in in_force:
            text = card.values.get(value.name, value.default)
            if _written(fit, key, kind, value, text, value.name, value.label):
                return
    for column, value in enumerate(kind.rows.columns if kind.rows is not None else ()):
        for number, row in enumerate(card.rows if value.unit == ANY else ()):
            text = row[column] if column < len(row) else value.default
            if _written(fit, key, kind, value, text, f"rows:{number}", f"{value.label} of row {number + 1}"):
                break
    if kind.has_profile is not None and kind.has_profile[1] == ANY:
        value = Value("profile", kind.has_profile[0], ANY, "")
        for number, text in first_of_each_unit(card.profile):
            if _written(fit, key, kind, value, text, f"profile:{number}", f"corner {number + 1} of the profile"):
                break


def _written(fit: Fit, key: str, kind: Block, value: Value, text: str, place: str, label: str) -> bool:
    """Report a text whose unit is not that of its signal; whether it was reported."""
    if not text.strip() or is_plain(text):
        return False
    end = End(key, value.at)
    written, expected = fit.units.worth(text), fit.units.ahead(end) or fit.units.of(end)
    if written is None or not expected or (written.dim == NONE and written.turn == NO_TURN):
        return False
    dimension = _times(unit(expected)[1], unit("1/s")[1]) if value.rate else unit(expected)[1]
    if written.dim == dimension:
        return False
    port = kind.port(value.at)
    per = " per second" if value.rate else ""
    signal = port.label if port is not None else value.at
    worth = "" if own_unit(text) else f", which is {dimension_text(written.dim)}"
    fit.reported.add(key)
    remedy = f"Write it in {expected}{per}, or correct the wiring."
    fit.add(key, place, f"{label} is {text}{worth}, but “{signal}” is in {expected}. {remedy}")
    return True


def _times(a: Dimension, b: Dimension) -> Dimension:
    return tuple(x + y for x, y in zip(a, b))


def _port(kinds: dict[str, Kind], end: End) -> Port | None:
    kind = kinds.get(end.card)
    return kind.port(end.port) if kind is not None else None


def _signal(fit: Fit, end: End) -> str:
    kind = fit.of.kinds[end.card]
    port = kind.port(end.port)
    labels: Iterator[str] = (s.label for s in getattr(kind, "signals", ()) if s.name == end.port)
    label = next(labels, port.label if port is not None else end.port)
    return f"the {label[:1].lower()}{label[1:]} of {fit.of.drive.cards[end.card].name}"
