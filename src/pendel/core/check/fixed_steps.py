"""What a fixed step cannot follow."""

from __future__ import annotations

from pendel.core.check.examined import Subject
from pendel.core.drive.findings import attention
from pendel.core.quantities.units import number_text


def harmonics(of: Subject) -> None:
    """A fixed step cannot follow what swings faster than half its rate."""
    drive, kinds, result = of.drive, of.kinds, of.result
    step = result.settings.get("step")
    if drive.settings["method"] != "fixed" or not step:
        return
    for key, kind in kinds.items():
        values = result.values.get(key, {})
        if kind.rows is None or kind.rows.columns[0].name != "order" or "f" not in values:
            continue
        for number in range(len(drive.cards[key].rows)):
            f = values.get(f"order_{number}", 0.0) * values["f"]
            if f * step >= 0.5:
                result.findings.append(
                    attention(
                        f"{drive.cards[key].name}: the harmonic of order "
                        f"{number_text(values[f'order_{number}'])} is at {number_text(f)} Hz, but a fixed "
                        f"step of {number_text(step * 1e6)} µs "
                        f"follows less than {number_text(0.5 / step)} Hz. Shorten the step to below "
                        f"{number_text(0.5e6 / f)} µs or delete the harmonic.",
                        key,
                        f"rows:{number}",
                    )
                )
