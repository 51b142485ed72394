"""One run from its start to its end, in this process."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from pendel.core.plant.interrupt import interruptible
from pendel.core.plant.program import Inputs, Program
from pendel.core.plant.simulator import Recorded, Simulator, Watch


def integrate(
    program: Program,
    inputs: Inputs,
    watch: Watch | None = None,
    condense: Callable[[np.ndarray], bool] | None = None,
) -> Recorded:
    """Run to the end, a stop or a failure; never raises for what the equations do. ``condense`` is given the
    rows that a long record is about to lose, each once.

    Raises
    ------
    KeyboardInterrupt
        where Ctrl+C stopped it, in the main thread.
    """
    watch = watch or Watch.private()
    with Simulator(program, inputs, watch=watch, condense=condense) as simulator:
        interruptible(simulator.advance, watch.ask_to_stop)
        return simulator.finish()
