"""One signal of a run, as it is shown."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pendel.core.quantities.units import figure
from pendel.core.runs.record.display_units import factor, shift


@dataclass(frozen=True)
class Trace:
    """One signal of a run: times (s), values (SI, temperatures in °C), the unit to show, and whether it holds between
    its points. Values shown next to the unit are those of `y_in`."""

    key: str
    label: str
    unit: str
    t: np.ndarray
    y: np.ndarray
    sampled: bool
    declared: str = ""
    """The unit it is declared with."""

    @property
    def shift(self) -> float:
        """What is added to its values (SI) where they are shown; see `display_units.shift`."""
        return shift(self.declared, self.unit)

    def y_in(self, unit_text: str = "") -> np.ndarray:
        """Values in a unit of the same kind, else in the unit to show."""
        return self.in_unit(self.y, unit_text)

    def in_unit(self, y: np.ndarray, unit_text: str = "") -> np.ndarray:
        """Values of this signal as `y_in` gives them."""
        unit_text = unit_text or self.unit
        f, s = factor(unit_text), shift(self.declared, unit_text)
        moved = y + s if s else y
        return moved if f == 1 else moved / f

    def figure(self, value: float, digits: int = 3) -> str:
        """A value of this signal (SI) as text in the unit to show."""
        return figure(value + self.shift, self.unit, digits)

    def at(self, times: np.ndarray) -> np.ndarray:
        """Values (SI) at times (s): of a sampled signal what it holds, of others on the line between two points. A time
        that is a tick's but for rounding, however late, is that tick's."""
        if not len(self.y):
            return np.full(np.shape(times), np.nan)
        if not self.sampled:
            return np.interp(times, self.t, self.y)
        places = np.searchsorted(self.t, times + 1e-12 + 4e-15 * np.abs(times), side="right") - 1
        return self.y[np.clip(places, 0, len(self.y) - 1)]

    @property
    def drawn(self) -> tuple[np.ndarray, np.ndarray]:
        """Times and values of the line that shows it: a sampled signal in steps."""
        if not self.sampled or len(self.t) < 2:
            return self.t, self.y
        return np.repeat(self.t, 2)[1:], np.repeat(self.y, 2)[:-1]
