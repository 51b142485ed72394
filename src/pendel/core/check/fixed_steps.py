"""What a fixed step cannot follow."""

from __future__ import annotations

from pendel.core.check.examined import Subject
from pendel.core.drive.findings import attention
from pendel.core.plant.methods import METHODS
from pendel.core.quantities.units import number_text
from pendel.core.vocabulary import ValueRole


def harmonics(of: Subject) -> None:
    """A fixed step cannot follow what swings faster than half its rate."""
    drive, kinds, result = of.drive, of.kinds, of.result
    step = result.settings.get("step")
    if drive.settings["method"] not in METHODS or not METHODS[drive.settings["method"]].fixed_steps or not step:
        return
    for key, kind in kinds.items():
        values = result.values.get(key, {})
        frequency = values.get(kind.value_name(ValueRole.FREQUENCY))
        if kind.rows is None or not kind.rows.harmonics or frequency is None:
            continue
        orders = [f"{kind.rows.columns[0].name}_{number}" for number in range(len(drive.cards[key].rows))]
        for number, order in enumerate(orders):
            f = values.get(order, 0.0) * frequency
            if f * step >= 0.5:
                result.findings.append(
                    attention(
                        f"{drive.cards[key].name}: the harmonic of order "
                        f"{number_text(values[order])} is at {number_text(f)} Hz, but a fixed "
                        f"step of {number_text(step * 1e6)} µs "
                        f"follows less than {number_text(0.5 / step)} Hz. Shorten the step to below "
                        f"{number_text(0.5e6 / f)} µs or delete the harmonic.",
                        key,
                        f"rows:{number}",
                    )
                )
