"""What is told of a row, as an expression over figures of its signals.

``overshoot(door_leaf.position, travel.position)``, ``max(door_motor.current) / I_n``,
``mean(step_up.current, end - 10 ms, end)``: a function takes the signal, for a response the setpoint it follows, and
the times it is taken between, which may name events: ``start`` and ``end`` of the run, ``load_step`` and
``setpoint_step``, or be figures: ``mean(door_motor.current, start, when_max(door_leaf.speed))``, and
``reaches(door_leaf.speed, 0.5 m/s)``, when a signal comes to a value. Functions are all measures of
`pendel.core.measures` and those of `FIGURES`; those of `MARGINS` take a regulator, ``phase_margin(speed_pi)``, whose
loop is judged at rest. Quantities have the values they have in the row.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from pendel.core.drive.user_text import near_words
from pendel.core.errors import DriveProblem, ExpressionProblem, SyntaxProblem
from pendel.core.measures import MEASURES, Measure, Span
from pendel.core.quantities.celsius import CELSIUS, in_celsius
from pendel.core.quantities.expressions import FUNCTIONS, Call, Measured, Name, Node, Reader, evaluate
from pendel.core.quantities.units import NO_TURN, NONE, dimension_text, si_unit_of, turn
from pendel.core.quantities.units import unit as unit_of
from pendel.core.runs.record.kept import KeptRun
from pendel.core.runs.record.measures import window
from pendel.core.runs.remarks.balance import balance
from pendel.core.series.loop_figures import MARGINS, Loops, margin_of, no_loops

EVENTS = ("start", "end", "load_step", "setpoint_step")


def _maximum(span: Span) -> float:
    return float(np.max(window(*span.trace.drawn, span.start, span.end)[1]))


def _minimum(span: Span) -> float:
    return float(np.min(window(*span.trace.drawn, span.start, span.end)[1]))


def _peak(span: Span) -> float:
    return max(abs(_maximum(span)), abs(_minimum(span)))


def _last(span: Span) -> float:
    return float(span.values[1][-1])


def _first(span: Span) -> float:
    return float(span.values[1][0])


def _when(span: Span, place: Callable[[np.ndarray], np.intp]) -> float:
    t, y = window(*span.trace.drawn, span.start, span.end)
    return float(t[int(place(y))])


FIGURES = {
    "max": Measure("max", "maximum", _maximum),
    "min": Measure("min", "minimum", _minimum),
    "peak": Measure("peak", "largest, without sign", _peak),
    "last": Measure("last", "at the end", _last),
    "first": Measure("first", "at the beginning", _first),
    "when_max": Measure("when_max", "when it is largest", lambda span: _when(span, np.argmax), "s"),
    "when_min": Measure("when_min", "when it is least", lambda span: _when(span, np.argmin), "s"),
}
"""Figures of a signal that the page of runs reads off its curves."""
REACHES = Measure(
    "reaches", "when it comes to a value", lambda span: None, "s", why_none="The signal does not come to the value."
)
"""Takes a value behind the signal."""
WHOLE: Mapping[str, tuple[str, str, Callable[[KeptRun, str, float, float], float]]] = {
    "lost": ("energy lost, of all parts or one", "J", lambda run, card, a, b: _lost(run, card, a, b)),
    "supplied": ("energy from sources", "J", lambda run, card, a, b: balance(run, a, b).supplied),
    "delivered": ("energy to loads", "J", lambda run, card, a, b: balance(run, a, b).delivered),
    "efficiency": ("share delivered of what is supplied", "%", lambda run, card, a, b: _efficiency(run, a, b)),
    "remarks": ("how many remarks there are on the run", "", lambda run, card, a, b: float(len(run.remarks))),
}
"""Figures of a run as a whole, which take no signal, or one card: title, unit, and what gives them."""


def _lost(run: KeptRun, card: str, start: float, end: float) -> float:
    whole = balance(run, start, end)
    if not card:
        return whole.heat + whole.switched
    names = {info.card_key: info.card for info in run.infos.values()}
    own = (names.get(card, card), f"{names.get(card, card)}, switching")
    return sum(lost.energy for lost in whole.losses if lost.what in own)


def _efficiency(run: KeptRun, start: float, end: float) -> float:
    whole = balance(run, start, end)
    return whole.delivered / whole.supplied if whole.supplied > 0 and whole.delivered else math.nan


@dataclass(frozen=True)
class Taken:
    """A figure within an expression: its function, the names, the times and the value that it takes."""

    function: str
    names: tuple[str, ...]
    times: tuple[Node, ...]
    level: Node | None = None


@dataclass(frozen=True)
class Column:
    """``tree`` has the name ``#k`` in the place of the figure ``taken[k]``."""

    text: str
    tree: Node
    taken: tuple[Taken, ...]


@dataclass(frozen=True)
class ColumnValue:
    """A figure in SI, with the unit that it is shown in; not-a-number with the reason ``why`` it means nothing."""

    value: float
    unit: str = ""
    why: str = ""


def unknown_signal(column: Column, known: Collection[str], cards: Collection[str], loops: Collection[str] = ()) -> str:
    """A sentence on a signal, card or loop that a column names and that is not there, or nothing."""
    for taken in column.taken:
        for name in taken.names:
            what, there = "signal", known
            if taken.function in WHOLE:
                what, there = "card", cards
            elif taken.function in MARGINS:
                what, there = "loop of", loops
            if name not in there:
                return f"{column.text}: the drive has no {what} {name}.{near_words(name, there)}"
    return ""


def known_functions() -> dict[str, str]:
    """Titles of all figures, by their function."""
    found = {name: each.title for name, each in FIGURES.items()}
    found |= {each.id: each.title for each in (*MEASURES, REACHES)}
    return found | {name: title for name, (title, _, _) in (*WHOLE.items(), *MARGINS.items())}


class ColumnReader(Reader):
    """Reads an expression with figures of signals in it."""

    def __init__(self, text: str):
        super().__init__(text)
        self.taken: list[Taken] = []

    def call(self, token: object) -> Call | Name:  # type: ignore[override]
        name = getattr(token, "text")  # noqa: B009
        known = known_functions()
        if name not in known:
            if name not in FUNCTIONS:
                self.at -= 1
                raise self.fail(f"{name} is no figure.{near_words(name, known)} There are {', '.join(sorted(known))}")
            return super().call(token)  # type: ignore[arg-type]
        self.take("(")
        arguments: list[Node] = []
        while self.peek() != ")":
            arguments.append(self.sum())
            if self.peek() != ",":
                break
            self.at += 1
        self.take(")")
        names = [a.name for a in arguments if isinstance(a, Name) and is_named(a)]
        if name in FUNCTIONS and not (names and isinstance(arguments[0], Name) and "." in names[0]):
            if len(arguments) != FUNCTIONS[name]:
                raise self.fail(f"{name} takes a signal, such as {name}(card.signal), or two figures")
            return Call(name, tuple(arguments))
        return self.figure(name, tuple(arguments))

    def figure(self, name: str, arguments: tuple[Node, ...]) -> Name:
        count = 1 if name in WHOLE or name in MARGINS or name == REACHES.id else 2
        named: list[str] = []
        while arguments and isinstance(arguments[0], Name) and len(named) < count and is_named(arguments[0]):
            named.append(arguments[0].name)
            arguments = arguments[1:]
        if not named and name not in WHOLE:
            first = "regulator, such as {0}(speed_pi)" if name in MARGINS else "signal first, such as {0}(card.signal)"
            raise self.fail(f"{name} takes a {first.format(name)}")
        if name in MARGINS and arguments:
            raise self.fail(f"{name} takes a regulator alone; loops are judged at rest, not between times")
        level: Node | None = None
        if name == REACHES.id:
            if not arguments:
                raise self.fail(f"{name} takes a signal and a value, such as {name}(card.speed, 50 rad/s)")
            level, *rest = arguments
            arguments = tuple(rest)
        if len(arguments) not in (0, 2):
            raise self.fail(f"{name} is taken between two times, such as 5 ms, end; give both or none")
        self.taken.append(Taken(name, tuple(named), arguments, level))
        return Name(f"#{len(self.taken) - 1}")


def is_named(node: Name) -> bool:
    """Whether it names something of a drive, and no event nor figure."""
    return node.name not in EVENTS and not node.name.startswith("#")


@lru_cache(maxsize=1024)
def read_column(text: str) -> Column:
    """Raises `SyntaxProblem` with the place where reading failed."""
    if not text.strip():
        raise SyntaxProblem(text, 0, "it is empty; write a figure such as max(card.signal)")
    reader = ColumnReader(text)
    return Column(text, reader.whole(), tuple(reader.taken))


BY_PIECES = ("mean", "rms", "ripple")
"""Figures that want signals half way between rows, too."""


def signals_in(columns: Iterable[Column], *functions: str) -> list[str]:
    """Signals that columns name, in all of their figures or in those of some functions."""
    taken = [each for column in columns for each in column.taken if each.function not in {*WHOLE, *MARGINS}]
    named = (name for each in taken if not functions or each.function in functions for name in each.names)
    return list(dict.fromkeys(named))


def evaluate_columns(
    columns: Sequence[Column], run: KeptRun, quantities: Callable[[str], Measured], loops: Loops = no_loops
) -> list[ColumnValue]:
    """Values of columns for a run; ``quantities`` and ``loops`` are those of the row. All signals are evaluated in one
    go."""
    averaged = signals_in(columns, *BY_PIECES)
    if any(name in run.structure.signals for name in averaged):
        run.refine()
    run.fetch(signals_in(columns))
    run.fetch_between(averaged)
    spans: Spans = {}
    return [evaluate_column(column, run, quantities, spans, loops) for column in columns]


Spans = dict[tuple[str, float, float, str | None], Span]
"""Spans that were looked at, as figures of one share what was found out."""


def evaluate_column(
    column: Column, run: KeptRun, quantities: Callable[[str], Measured], spans: Spans, loops: Loops = no_loops
) -> ColumnValue:
    """What a column tells of a run."""
    units: dict[str, str] = {}

    def lookup(name: str) -> Measured:
        if not name.startswith("#"):
            return quantities(name)
        taken = column.taken[int(name[1:])]
        if taken.function in MARGINS:
            value, unit_text = margin_of(taken.function, taken.names[0], loops)
        else:
            value, unit_text = figure_of(taken, run, with_figures(column, run, quantities, spans), spans)
        units[name] = unit_text
        if math.isnan(value):
            raise NoFigure(taken.function)
        return Measured(
            value, unit_of(unit_text)[1] if unit_text else Measured(0.0).dim, turn(unit_text) if unit_text else NO_TURN
        )

    try:
        result = evaluate(column.tree, lookup, column.text)
    except NoFigure as problem:
        return ColumnValue(math.nan, next(iter(units.values()), ""), str(problem))
    except (DriveProblem, ExpressionProblem) as problem:
        return ColumnValue(math.nan, "", str(problem))
    alone = isinstance(column.tree, Name) and column.tree.name in units
    shown = units[column.tree.name] if alone and isinstance(column.tree, Name) else si_unit_of(result.dim, result.turn)
    return ColumnValue(result.si, "" if shown == "1" else shown)


class NoFigure(DriveProblem):
    """A figure that means nothing in a run."""

    def __init__(self, function: str):
        known = {**FIGURES, REACHES.id: REACHES}
        measure = known.get(function) or (MEASURES[function] if function in {m.id for m in MEASURES} else None)
        why = measure.why_none if measure is not None else "There is nothing it could be taken from."
        if function in MARGINS:
            why = "The loop has none: it gains less than one at every frequency, or its phase leaves it room for ever."
        super().__init__(why.replace("between the cursors", "in this run"))


def figure_of(taken: Taken, run: KeptRun, quantities: Callable[[str], Measured], spans: Spans) -> tuple[float, str]:
    """A figure in SI and its unit. Raises `DriveProblem` and `ExpressionProblem`."""
    signal = taken.names[0] if taken.names and taken.function not in WHOLE else ""
    setpoint = taken.names[1] if len(taken.names) > 1 else None
    for name in (signal, setpoint):
        if name and name not in run.keys:
            raise DriveProblem(f"The run has no signal {name}.{near_words(name, run.keys)}")
    start, end = run.begin, run.end

    def span_of(start: float, end: float) -> Span:
        key = (signal, start, end, setpoint)
        return spans.get(key) or spans.setdefault(
            key, Span(run, signal or next(iter(run.keys), ""), start, end, setpoint)
        )

    if taken.times:
        whole = span_of(start, end)
        start, end = (time_of(each, whole, quantities) for each in taken.times)
        start, end = max(start, run.begin), min(end, run.end)
        if not start < end:
            raise DriveProblem(f"{taken.function} is taken from {start:g} s to {end:g} s, which is no span of the run.")
    if taken.function in WHOLE:
        _, unit_text, of = WHOLE[taken.function]
        return of(run, taken.names[0] if taken.names else "", start, end), unit_text
    if taken.level is not None:
        return reached(span_of(start, end), taken.level, quantities), "s"
    measure = FIGURES.get(taken.function) or MEASURES[taken.function]
    span = span_of(start, end)
    value = measure.value(span)
    unit = run.declared_unit(span.signal) if measure.unit is None else measure.unit
    return (math.nan if value is None else value), unit


def with_figures(
    column: Column, run: KeptRun, quantities: Callable[[str], Measured], spans: Spans
) -> Callable[[str], Measured]:
    """What names in the times and values of a column's figures are worth: quantities, and other figures."""

    def lookup(name: str) -> Measured:
        if not name.startswith("#"):
            return quantities(name)
        taken = column.taken[int(name[1:])]
        if taken.function in MARGINS:
            raise DriveProblem(f"{taken.function} is no time, nor a value of a signal.")
        value, unit_text = figure_of(taken, run, lookup, spans)
        if math.isnan(value):
            raise NoFigure(taken.function)
        return Measured(value, unit_of(unit_text)[1], turn(unit_text)) if unit_text else Measured(value)

    return lookup


def reached(span: Span, level: Node, quantities: Callable[[str], Measured]) -> float:
    """When a signal first comes to a value (s), from either side; not-a-number where it does not. Raises `DriveProblem`
    for a value of another kind, and `ExpressionProblem`."""
    unit_text, worth = span.run.declared_unit(span.signal), evaluate(level, quantities)
    if worth.dim != (unit_of(unit_text)[1] if unit_text else NONE):
        has = unit_text or "a plain number"
        raise DriveProblem(f"{span.signal} is in {has}, and what it is to reach in {dimension_text(worth.dim)}.")
    value = in_celsius(worth.si, worth.celsius, "the value") if unit_text in CELSIUS else worth.si
    t, y = span.values
    above = y - value
    if not len(above) or above[0] == 0:
        return float(t[0]) if len(above) else math.nan
    crossed = np.flatnonzero(above * above[0] <= 0)
    if not len(crossed):
        return math.nan
    k = int(crossed[0])
    return float(t[k - 1] + (t[k] - t[k - 1]) * above[k - 1] / (above[k - 1] - above[k]))


def time_of(node: Node, whole: Span, quantities: Callable[[str], Measured]) -> float:
    """A time (s) within a run. Raises `DriveProblem` where its event does not occur, and `ExpressionProblem`."""

    def lookup(name: str) -> Measured:
        if name not in EVENTS:
            return quantities(name)
        seconds = event(name, whole)
        if seconds is None:
            words = "load changes" if name == "load_step" else "setpoint is followed that steps"
            raise DriveProblem(f"There is no {name} in this run: no {words}.")
        return Measured(seconds, unit_of("s")[1])

    return evaluate(node, lookup).si


def event(name: str, whole: Span) -> float | None:
    """When something happens in a run (s); None where it does not."""
    if name in ("start", "end"):
        return whole.start if name == "start" else whole.end
    if name == "load_step":
        return whole.disturbed_at
    return whole.move.begins if whole.move is not None else None
