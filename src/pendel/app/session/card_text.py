"""Values of cards as text for cards and lists."""

from __future__ import annotations

import math

import numpy as np

from pendel.app.session.live_view import LiveView
from pendel.app.session.session import Session
from pendel.app.session.sparks import largest
from pendel.core.catalogue.assembly import kind_in
from pendel.core.catalogue.declare import ANY, Kind, Part
from pendel.core.catalogue.index import known_kind
from pendel.core.check import Examined
from pendel.core.drive.document import YES, Card, Drive, End
from pendel.core.drive.nesting import members, resolved
from pendel.core.quantities.expressions import is_plain
from pendel.core.quantities.tokens import without_remark
from pendel.core.quantities.units import figure, number_text, si_unit, unit
from pendel.core.runs.record.kept import KeptRun


def shown_values(card: Card, key: str, kind: Kind, examined: Examined) -> dict[str, str]:
    """Each value in force as a figure with its unit; the text as written where it has no value."""
    texts = {}
    values = examined.values.get(key, {})
    for value in kind.values_in_force(card):
        text = without_remark(card.values.get(value.name, value.default))
        number = values.get(value.name, math.nan)
        if math.isnan(number):
            texts[value.name] = text
        elif value.unit == ANY:
            texts[value.name] = text if not is_plain(text) and not text.isidentifier() else number_text(number)
        else:
            texts[value.name] = figure(number, value.unit)
    if isinstance(kind, Part) and kind.equation_values is not None:
        units = {"R_a": "Ω"}
        try:
            circuit = kind.equation_values(values, card)
        except (ArithmeticError, LookupError, RuntimeError, TypeError, ValueError):
            circuit = {}
        texts |= {
            n: figure(circuit[n], u, 3)
            for n, u in units.items()
            if n in circuit and n not in texts and not math.isnan(circuit[n])
        }
    return texts


def summary_of_assembly(drive: Drive, key: str, examined: Examined) -> list[str]:
    """The first values of the face, or how much is inside."""
    kind = kind_in(drive, key)
    lines = []
    for value in kind.values[:2]:
        behind = resolved(drive, End(key, value.name))
        number = examined.values.get(behind.card, {}).get(behind.port, math.nan)
        if not math.isnan(number):
            lines.append(f"{value.name} {figure(number, value.unit if value.unit != ANY else '', 3)}")
    return lines or [kind.sentence.rstrip(".")]


def summary_lines(drive: Drive, key: str, examined: Examined) -> list[str]:
    card = drive.cards[key]
    if card.face is not None:
        return summary_of_assembly(drive, key, examined)
    kind = known_kind(card)
    if kind is None:
        return ["unknown kind", card.kind]
    if card.outside == YES:
        return ["from outside", kind.title.lower()]
    if kind.summary is None:
        return [kind.title.lower()]
    try:
        return [line for line in kind.summary(shown_values(card, key, kind, examined), card) if line][:2]
    except (ArithmeticError, LookupError, TypeError, ValueError):
        return [kind.title.lower()]


def main_signal(drive: Drive, key: str) -> str | None:
    """The signal a card shows; an assembly shows that of the first part inside that has one."""
    if drive.cards[key].face is not None:
        inner = [k for k in members(drive, key).values() if drive.cards[k].face is None]
        return next((s for k in inner if (s := main_signal(drive, k))), None)
    kind = known_kind(drive.cards[key])
    if kind is None:
        return None
    if isinstance(kind, Part):
        signal = kind.face_signal or kind.main_signal
        return f"{key}.{signal}" if signal else None
    out = next((p.name for p in kind.ports if p.link.value == "signal out"), None)
    return f"{key}.{out}" if out else None


def main_signals(drive: Drive) -> list[str]:
    return [s for s in (main_signal(drive, k) for k in drive.cards) if s]


def run_on_cards(session: Session) -> KeptRun | LiveView | None:
    """The run whose values all cards show, with these computed in one go; none while they are evaluated
    beside the window."""
    if session.live is not None:
        return session.live
    run, keys = session.last_run, main_signals(session.drive)
    if run is None or not session.evaluator.ready(run, keys):
        return None
    run.fetch(keys)
    return run


def value_at(run: KeptRun | LiveView, key: str, time: float | None) -> float:
    trace = run.trace(key)
    if not len(trace.y):
        return math.nan
    return float(trace.y[-1] if time is None else trace.at(np.asarray(time)))


def figure_of(run: KeptRun | LiveView, key: str, time: float | None = None) -> str:
    trace = run.trace(key)
    value = value_at(run, key, time)
    return trace.figure(0.0 if abs(value) < 1e-9 * largest(run, key) else value)


def figure_in_words(run: KeptRun | LiveView, key: str, time: float | None = None) -> str:
    """A figure with what it is and when: “link voltage 560 V at the end of Run 1”."""
    if isinstance(run, LiveView):
        return f"{run.trace(key).label} {figure_of(run, key)} now, in the live run"
    when = f"at the end of {run.name}" if time is None else f"at {figure(time, 's', 4)} of {run.name}"
    return f"{run.trace(key).label} {figure_of(run, key, time)} {when}"


def unit_label(text: str) -> str:
    return "" if text == ANY else text


__all__ = [
    "figure_in_words",
    "figure_of",
    "main_signal",
    "shown_values",
    "si_unit",
    "summary_lines",
    "unit",
    "unit_label",
    "value_at",
]
