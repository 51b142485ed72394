"""Magnitude optimum: Leonhard, Control of Electrical Drives, 3rd ed., section 7.1; Föllinger,
Regelungstechnik, 12th ed., section 7
(from memory). The closed loop overshoots 4.3 %.
"""

from __future__ import annotations

from pendel.core.loops.tuning.rules.declare import LoopSeen, Rule, Wishes
from pendel.core.loops.tuning.rules.lag_plant import Gains, LagPlant


def magnitude_optimum(plant: LagPlant) -> Gains:
    """The main lag cancelled, closed loop damped by 1/√2: K_p = T_1/(2·K·T_σ), T_i = T_1."""
    return Gains(plant.T_1 / (2.0 * plant.K * plant.T_sigma), plant.T_1)


def propose(loop: LoopSeen, wishes: Wishes) -> dict[str, float]:
    return magnitude_optimum(loop.picture()).named(loop.has_integral)


RULE = Rule("magnitude", "magnitude optimum", propose)
