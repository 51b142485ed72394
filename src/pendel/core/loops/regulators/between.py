"""The model between two points of a drive, derived from its equations or measured."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

from pendel.core.drive.document import Drive
from pendel.core.loops.models.model_units import units_of
from pendel.core.loops.models.sweep import Sweep, Swept, usual_frequencies
from pendel.core.loops.models.transfer import MEASURED, Ends, Transfer, transfer
from pendel.core.loops.regulators.measured import measured_way
from pendel.core.runs.preparing.simulate import averaged, prepare, prepare_run
from pendel.core.system.fold import at_level


def model_between(drive: Drive, ends: Ends, stopping: Callable[[], bool] = lambda: False) -> Transfer:
    """With converters averaged, and at the level *system* with its envelopes; what is measured, at the drive's level.
    Raises as `transfer` and `measured_way`."""
    if ends.at == MEASURED:
        model = measured_way(prepare_run(drive), ends, stopping)
    else:
        model = transfer(prepare(averaged(at_level(drive))), ends)
    names = (*model.model.states, model.ends.source, model.ends.target)
    return replace(model, units=units_of(drive, names))


def sweep_between(drive: Drive, ends: Ends, frequencies: Sequence[float], amplitude: float | None = None) -> Swept:
    """Sweep a drive at its level of detail. Raises as `model_between` and `Sweep`."""
    model = model_between(drive, ends)
    wished = frequencies if len(frequencies) else usual_frequencies(model).tolist()
    return Sweep(prepare_run(drive), model).run(wished, amplitude)


__all__ = ["model_between", "sweep_between"]
