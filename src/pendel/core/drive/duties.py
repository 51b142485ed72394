"""Duties that a drive keeps: what it does over minutes or hours, as texts; see `pendel.core.heat.duty`."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from pendel.core.quantities.expressions import renamed, with_other_cards

STEADY = "steady"
"""How often a duty follows itself until it is the cycle that repeats itself; else a number, as written."""


@dataclass(frozen=True)
class DutyPlan:
    """``targets`` name what is set; each of ``rows`` is a time and a text for each of them; ``rounds`` is `STEADY` or
    how often it is gone through from the start; with ``changes`` the heat of what happens between stretches counts."""

    targets: tuple[str, ...] = ()
    rows: tuple[tuple[str, ...], ...] = ()
    rounds: str = STEADY
    changes: bool = True

    def rewritten(self, target: Callable[[str], str], text: Callable[[str], str]) -> DutyPlan:
        """The same with names of other things in it."""
        rows = tuple(tuple(map(text, row)) for row in self.rows)
        return replace(self, targets=tuple(map(target, self.targets)), rows=rows)

    def with_card(self, old: str, new: str) -> DutyPlan:
        """The same for a card that has another id."""

        def moved(name: str) -> str:
            card, dot, rest = name.partition(".")
            return new + dot + rest if dot and card == old else name

        return self.rewritten(moved, lambda text: with_other_cards(text, {old: new}))

    def with_quantity(self, old: str, new: str) -> DutyPlan:
        """The same for a quantity that is called otherwise."""
        return self.rewritten(lambda name: new if name == old else name, lambda text: renamed(text, old, new))


def duty_record(duty: DutyPlan) -> dict[str, object]:
    """As a drive's file holds it."""
    record: dict[str, object] = {
        "targets": list(duty.targets),
        "rows": [list(row) for row in duty.rows],
        "rounds": duty.rounds,
    }
    return record if duty.changes else {**record, "changes": False}


def duty_from(record: dict[str, object]) -> DutyPlan:
    """Of what fits the schema."""
    targets, rows = record["targets"], record["rows"]
    assert isinstance(targets, list) and isinstance(rows, list)
    return DutyPlan(tuple(targets), tuple(map(tuple, rows)), str(record["rounds"]), record.get("changes") is not False)
