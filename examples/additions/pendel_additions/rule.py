"""The symmetrical optimum with more room: a = 4 leaves a phase margin of 62° (Leonhard, Control of Electrical Drives,
3rd ed., section 14: the margin is atan(a) − atan(1/a))."""

from pendel.core.loops.tuning.rules import LoopSeen, Rule, Wishes
from pendel.core.loops.tuning.rules.symmetrical_optimum import symmetrical_optimum


def propose(loop: LoopSeen, wishes: Wishes) -> dict[str, float]:
    return symmetrical_optimum(loop.picture(), a=4.0).named(loop.has_integral)


RULE = Rule("roomy", "symmetrical optimum, more margin", propose)
