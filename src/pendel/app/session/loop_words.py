"""The state of a loop in words."""

from __future__ import annotations

from typing import TYPE_CHECKING

from pendel.core.quantities.units import figure

if TYPE_CHECKING:
    from pendel.core.loops.tuning.tuning import LoopStatus  # slow to load, and not needed to start


def loop_state(status: LoopStatus) -> tuple[str, str]:
    """Words and colour role of a loop's state."""
    if not status.loop.closed:
        return "open, no feedback", "brass"
    if status.judged is None:
        return "no linear model: measure it", "brass"
    m = status.judged.margins
    if not m.stable:
        return "unstable with these gains", "brick"
    if m.crossover != m.crossover:
        return "gain never reaches 1", "brass"
    words = f"{figure(m.crossover, 'Hz', 3)} · {m.phase:.0f}° margin"
    if status.changed_inside:
        return f"{figure(m.crossover, 'Hz', 3)} · {m.phase:.0f}° · inside changed", "brass"
    return (words, "moss") if m.damped else (words + ", little", "brass")
