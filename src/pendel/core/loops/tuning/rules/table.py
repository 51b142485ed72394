"""All tuning rules, in the order in which they are offered; the first is the usual one."""

from __future__ import annotations

from pendel.core.extensions import Table
from pendel.core.loops.tuning.rules.declare import Rule

OURS = ("crossover", "magnitude_optimum", "symmetrical_optimum")
RULES = Table(
    "pendel.tuning_rules",
    Rule,
    [f"pendel.core.loops.tuning.rules.{name}" for name in OURS],
    constant="RULE",
    word="tuning rule",
)
