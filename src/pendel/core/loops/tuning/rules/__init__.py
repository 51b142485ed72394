"""Gains by rule: what a rule is (`declare`), the plant as rules see it (`lag_plant`), and one file for each
rule."""

from pendel.core.loops.tuning.rules.declare import LoopSeen, Rule, Wishes
from pendel.core.loops.tuning.rules.table import RULES

__all__ = ["RULES", "LoopSeen", "Rule", "Wishes"]
