"""Figures of a row that are no signal's: margins of its loops, judged at rest."""

from __future__ import annotations

import math
import threading
from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING

from pendel.core.drive.document import Drive
from pendel.core.drive.user_text import near_words
from pendel.core.errors import DriveProblem
from pendel.core.loops.models.margins import Margins

if TYPE_CHECKING:
    from pendel.core.loops.tuning.tuning import LoopStatus

Loops = Callable[[str], Margins]
"""Margins of a regulator's loop. Raises `DriveProblem` where it has none."""
MARGINS: Mapping[str, tuple[str, str, Callable[[Margins], float]]] = {
    "crossover": ("crossover frequency of a regulator's loop", "Hz", lambda margins: margins.crossover),
    "phase_margin": ("phase margin of a regulator's loop", "°", lambda margins: math.radians(margins.phase)),
    "gain_margin": ("gain margin of a regulator's loop, as a factor", "", lambda margins: margins.gain),
    "max_sensitivity": ("Ms of a regulator's loop, max |1/(1+L)|", "", lambda margins: margins.ms),
}
"""Figures of a loop, which take a regulator, with the axis where it has several: title, unit, and what gives them."""


def no_loops(regulator: str) -> Margins:
    """Where loops are not judged."""
    raise DriveProblem(f"The loop of {regulator} is not judged here.")


def margin_of(function: str, regulator: str, loops: Loops) -> tuple[float, str]:
    """A figure of a loop in SI, and its unit. Raises `DriveProblem`."""
    _, unit_text, of = MARGINS[function]
    margins = loops(regulator)
    if not margins.stable:
        raise DriveProblem(f"The loop of {regulator} is not stable in this row.")
    value = of(margins)
    return (value if math.isfinite(value) else math.nan), unit_text


JUDGING = threading.Lock()
"""Linear models are made by Python alone, so that a second thread would but wait in the middle of one."""


class LoopsAtRest:
    """Margins of a drive's loops by their keys, judged at rest once one of them is asked for."""

    def __init__(self, drive: Drive, stopping: Callable[[], bool]):
        self.drive, self.stopping = drive, stopping
        self._statuses: dict[str, LoopStatus] | None = None

    def __call__(self, regulator: str) -> Margins:
        """Raises `DriveProblem` where there is no such loop, or none that can be judged, and `Stopped`."""
        from pendel.core.loops.tuning.tuning import loop_statuses  # slow to load, and seldom needed

        if self._statuses is None:
            with JUDGING:
                found = loop_statuses(self.drive, stopping=self.stopping)
                self._statuses = {each.loop.key: each for each in found}
        status = self._statuses.get(regulator)
        if status is None:
            raise DriveProblem(f"The drive has no loop of {regulator}.{near_words(regulator, self._statuses)}")
        if status.judged is None:
            raise DriveProblem(f"The loop of {regulator} cannot be judged: {status.problem}")
        return status.judged.margins
