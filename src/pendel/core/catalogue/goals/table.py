"""All goals, in the order in which they are offered."""

from __future__ import annotations

from pendel.core.catalogue.goals import (
    analogue_loop,
    brushed_dc,
    converters,
    fan,
    grid_converter,
    induction_grid,
    induction_inverter,
    synchronous,
    test_bench,
    two_masses,
)
from pendel.core.catalogue.goals.goal import Goal

GOALS: dict[str, Goal] = {
    module.GOAL.id: module.GOAL
    for module in (
        brushed_dc,
        synchronous,
        induction_inverter,
        induction_grid,
        fan,
        converters,
        grid_converter,
        two_masses,
        test_bench,
        analogue_loop,
    )
}
