"""Symmetrical optimum: Leonhard, Control of Electrical Drives, 3rd ed., section 14; Föllinger,
Regelungstechnik, 12th ed., section 7
(from memory). The closed loop overshoots 43 %.
"""

from __future__ import annotations

from pendel.core.loops.tuning.rules.declare import LoopSeen, Rule, Wishes
from pendel.core.loops.tuning.rules.lag_plant import Gains, LagPlant


def symmetrical_optimum(plant: LagPlant, a: float = 2.0) -> Gains:
    """Crossover at 1/(a·T_σ) with the largest margin there: K_p = T_1/(a·K·T_σ), T_i = a²·T_σ."""
    return Gains(plant.T_1 / (a * plant.K * plant.T_sigma), a * a * plant.T_sigma)


def propose(loop: LoopSeen, wishes: Wishes) -> dict[str, float]:
    return symmetrical_optimum(loop.picture()).named(loop.has_integral)


RULE = Rule("symmetrical", "symmetrical optimum", propose)
