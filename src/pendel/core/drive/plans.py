"""A series of runs as it is planned: what varies, how that is combined, and what is told of each run."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from pendel.core.errors import SyntaxProblem
from pendel.core.quantities.expressions import renamed, with_other_cards
from pendel.core.quantities.tokens import tokens

WAYS = {
    "list": (),
    "even": ("from", "to", "count"),
    "ratio": ("from", "to", "count"),
    "uniform": ("from", "to"),
    "normal": ("mean", "deviation", "cut"),
    "corners": ("low", "high"),
}
"""How something varies, and what each takes as texts: any number of values; evenly, or by equal ratios, from one value
to another in so many; a spread without or with a middle, cut at so many deviations; two ends."""
SPREADS = ("uniform", "normal")
"""Those that have no points of their own."""
GRID, ROW_BY_ROW, SOBOL, HYPERCUBE, RANDOM = "all with all", "row by row", "Sobol points", "Latin hypercube", "random"
PAIRED = "pairs for total indices"
"""Points of two sets of Sobol's, and each thing of the one put into the other: see `pendel.core.series.mattering`."""
COMBINED = (GRID, ROW_BY_ROW, SOBOL, HYPERCUBE, RANDOM, PAIRED)
SAMPLED = (SOBOL, HYPERCUBE, RANDOM, PAIRED)
"""Ways to combine that take a number of rows."""


@dataclass(frozen=True)
class Varied:
    """Something that varies: ``target`` as of `pendel.core.check.targets`, ``how`` of `WAYS` and its ``texts``."""

    target: str
    how: str = "list"
    texts: tuple[str, ...] = ()


@dataclass(frozen=True)
class Plan:
    """``count`` and ``seed`` as written. Each of ``measures`` is an expression over measures of signals: see
    `pendel.core.series.columns`."""

    varied: tuple[Varied, ...] = ()
    combined: str = GRID
    count: str = "64"
    seed: str = "1"
    measures: tuple[str, ...] = ()
    traces: tuple[str, ...] = ()
    """Signals whose traces are kept with each row."""

    def rewritten(
        self, target: Callable[[str], str], text: Callable[[str], str], measure: Callable[[str], str]
    ) -> Plan:
        """The same with names of other things in it."""
        varied = (Varied(target(v.target), v.how, tuple(map(text, v.texts))) for v in self.varied)
        traces = tuple(map(target, self.traces))
        return replace(self, varied=tuple(varied), measures=tuple(map(measure, self.measures)), traces=traces)

    def with_card(self, old: str, new: str) -> Plan:
        """The same for a card that has another id."""

        def moved(name: str) -> str:
            card, dot, rest = name.partition(".")
            return new + dot + rest if dot and card == old else name

        def argument(name: str) -> str:
            return new if name == old else moved(name)

        return self.rewritten(
            moved, lambda text: with_other_cards(text, {old: new}), lambda text: with_names(text, argument)
        )

    def with_quantity(self, old: str, new: str) -> Plan:
        """The same for a quantity that is called otherwise."""

        def name(each: str) -> str:
            return new if each == old else each

        return self.rewritten(name, lambda text: renamed(text, old, new), lambda text: with_names(text, name))


def with_names(text: str, change: Callable[[str], str]) -> str:
    """A measure's text with other names in it, spacing kept; as it is where it cannot be read."""
    try:
        parts = tokens(text)
    except SyntaxProblem:
        return text
    for token in reversed(parts):
        if token.kind == "name" and (new := change(token.text)) != token.text:
            text = text[: token.start] + new + text[token.end :]
    return text


def plan_record(plan: Plan) -> dict[str, object]:
    """As a drive's file holds it."""
    record: dict[str, object] = {
        "varied": [[v.target, v.how, *v.texts] for v in plan.varied],
        "combined": plan.combined,
        "count": plan.count,
        "seed": plan.seed,
        "measures": list(plan.measures),
    }
    return {**record, "traces": list(plan.traces)} if plan.traces else record


def plan_from(record: dict[str, object]) -> Plan:
    """Of what fits the schema."""
    varied, measures, traces = record["varied"], record["measures"], record.get("traces", [])
    assert isinstance(varied, list) and isinstance(measures, list) and isinstance(traces, list)
    return Plan(
        tuple(Varied(target, how, tuple(texts)) for target, how, *texts in varied),
        str(record["combined"]),
        str(record["count"]),
        str(record["seed"]),
        tuple(measures),
        tuple(traces),
    )
