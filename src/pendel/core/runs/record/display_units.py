"""The units in which signals are shown: those they are declared with, or others of the same kind that
somebody prefers."""

from __future__ import annotations

from dataclasses import dataclass, field

from pendel.core.drive.document import renamed_signal
from pendel.core.errors import DriveProblem
from pendel.core.quantities.celsius import CELSIUS, ZERO_CELSIUS
from pendel.core.quantities.units import unit

TEMPERATURE, KELVIN = CELSIUS[0], "K"
OTHERS = {
    "rad/s": ("rpm", "rad/s"),
    "rpm": ("rpm", "rad/s"),
    "rad": ("°", "rad"),
    "m/s": ("km/h", "m/s"),
    TEMPERATURE: (KELVIN, TEMPERATURE),
}
"""Units in which people read a quantity, by the unit it is declared with."""
SPEED = "rad/s"


@dataclass
class ShownUnits:
    """``preferred`` holds for all signals declared with a unit, ``chosen`` for single ones by
    ``card.signal``."""

    preferred: dict[str, str] = field(default_factory=dict)
    chosen: dict[str, str] = field(default_factory=dict)

    def of(self, key: str, declared: str) -> str:
        """The unit in which a signal is shown. What somebody chose counts for as long as the signal is of that kind:
        an own block's output may have become a current since."""
        wanted = self.chosen.get(key, ""), self.preferred.get(declared, "")
        return next((u for u in wanted if u in OTHERS.get(declared, ())), declared)

    def choose(self, key: str, declared: str, wanted: str) -> None:
        """Show one signal in another unit.

        Raises
        ------
        DriveProblem
            where the unit is of another kind.
        """
        if wanted != declared and wanted not in OTHERS.get(declared, ()):
            possible = " or ".join(OTHERS.get(declared, (declared or "no unit",)))
            raise DriveProblem(f"{key} cannot be shown in {wanted}. Choose {possible}.")
        self.chosen[key] = wanted

    def follow(self, old: str, new: str) -> bool:
        """A card is called otherwise: its signals are read as before, those of runs under the old name too. Returns
        whether there are any."""
        before = len(self.chosen)
        self.chosen |= {renamed_signal(key, old, new): wanted for key, wanted in self.chosen.items()}
        return len(self.chosen) > before


def factor(unit_text: str) -> float:
    """SI values of one of this unit."""
    return unit(unit_text)[0]


def shift(declared: str, shown: str) -> float:
    """What is added to a value of a signal before it is shown: where temperatures, which are in °C everywhere, are
    read from absolute zero on. What is declared in K is a difference and has no other zero."""
    return ZERO_CELSIUS if (declared, shown) == (TEMPERATURE, KELVIN) else 0.0
