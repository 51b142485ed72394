"""A map of losses over speed and torque as a document of its own: every point with what was found, and by how much the
fitted terms miss it; read back by *A machine by a map* and by other programs."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from pendel.core.envelope.fitted import Made
from pendel.core.formats.traces import Column, save_table

ENDINGS = (".csv", ".h5", ".mat")
RPM, PERCENT = 2 * np.pi / 60, 0.01


def map_columns(maps: Sequence[tuple[float, Made]]) -> list[Column]:
    """Of maps at temperatures (°C; not-a-number where none was said). Rows are those of the fits, then those that the
    fits did not see (``check`` 1). ``error`` is that of the fitted terms, of the power of the link."""
    columns: dict[tuple[str, str], list[float]] = {
        ("speed", "rpm"): [],
        ("torque", "N·m"): [],
        ("loss", "W"): [],
        ("efficiency", "%"): [],
        ("error", "%"): [],
        ("check", ""): [],
        ("temperature", "°C"): [],
    }
    for temperature, made in maps:
        for is_check, points, errors in ((0.0, made.points, made.errors[0]), (1.0, made.checks, made.errors[1])):
            for point, error in zip(points, errors):
                power = point.speed * point.torque
                row = (
                    point.speed / RPM,
                    point.torque,
                    point.loss,
                    efficiency(power, point.loss) / PERCENT,
                    error / PERCENT,
                    is_check,
                    temperature,
                )
                for column, number in zip(columns.values(), row):
                    column.append(number)
    if all(np.isnan(temperature) for temperature, _ in maps):
        del columns["temperature", "°C"]
    return [(name, unit, np.array(numbers)) for (name, unit), numbers in columns.items()]


def efficiency(power: float, loss: float) -> float:
    """From the link to the shaft for a power (W) of 0 or more, else back; not-a-number where nothing arrives."""
    if power > 0:
        return power / (power + loss)
    return (power + loss) / power if power < -loss else np.nan


def save_map(maps: Sequence[tuple[float, Made]], path: Path) -> None:
    """As one of `ENDINGS`. Raises `FileProblem`."""
    save_table(map_columns(maps), path)


__all__ = ["ENDINGS", "efficiency", "map_columns", "save_map"]
