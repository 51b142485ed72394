"""Units of signals, declared or followed through the wiring."""

from __future__ import annotations

from pendel.core.catalogue.declare import ANY, Block, Link, Part
from pendel.core.catalogue.index import kind_of
from pendel.core.drive.document import Drive, End
from pendel.core.errors import ExpressionProblem
from pendel.core.quantities.expressions import evaluate, read
from pendel.core.quantities.named import Names
from pendel.core.quantities.units import NONE, dimension_text, unit


def signal_unit(drive: Drive, end: End) -> str:
    """Unit a signal is shown in: declared, or followed through the wiring; empty when nothing tells."""
    return _signal_unit(drive, end, set())


def _signal_unit(drive: Drive, end: End, seen: set[str]) -> str:
    if str(end) in seen or end.card not in drive.cards:
        return ""
    seen.add(str(end))
    kind = kind_of(drive.cards[end.card])
    if isinstance(kind, Part):
        unit = next((s.unit for s in kind.signals if s.name == end.port), None)
        port = kind.port(end.port)
        return unit if unit is not None else port.unit if port else ""
    port = kind.port(end.port)
    if port is None or port.unit != ANY:
        return port.unit if port else ""
    if port.link is Link.SIGNAL_IN:
        source = next((w.a for w in drive.wires.values() if w.b == end), None)
        return _signal_unit(drive, source, seen) if source else ""
    if isinstance(kind, Block) and kind.gain:
        gain = _gain_unit(drive, end, kind.gain, seen)
        if gain is not None:
            return gain
    if isinstance(kind, Block) and kind.passes_unit:
        for other in kind.ports:
            if other.link is Link.SIGNAL_IN and other.unit == ANY:
                through = _signal_unit(drive, End(end.card, other.name), seen)
                if through:
                    return through
    for wire in drive.wires.values():
        if wire.a == end:
            target = kind_of(drive.cards[wire.b.card]).port(wire.b.port) if wire.b.card in drive.cards else None
            if target and target.unit and target.unit != ANY:
                return target.unit
            ahead = _unit_ahead(drive, wire.b, seen)
            if ahead:
                return ahead
    return ""


def _unit_ahead(drive: Drive, end: End, seen: set[str]) -> str:
    """Unit an input expects because of its fellow inputs (a setpoint is compared with an actual value)."""
    card = drive.cards.get(end.card)
    kind = kind_of(card) if card is not None else None
    if not isinstance(kind, Block):
        return ""
    partner = next((a if end.port == b else b for a, b in kind.alike if end.port in (a, b)), None)
    return _signal_unit(drive, End(end.card, partner), seen) if partner else ""


def _gain_unit(drive: Drive, end: End, gained: tuple[str, str], seen: set[str]) -> str | None:
    """Unit of gain times input, when the gain was written with a unit."""
    value, port = gained
    text = drive.cards[end.card].values.get(value, "")
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
