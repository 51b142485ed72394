"""Whether something got warmer than its sheet allows, or than anything of a drive can be."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np

from pendel.core.catalogue.remarks.seen import Seen
from pendel.core.drive.findings import Remark
from pendel.core.quantities.units import figure

MELTS = 600.0
"""°C; aluminium melts at 660 °C. A model that gets this warm has values that cannot be, or runs away as its losses
grow with its temperature."""


def too_warm(signal: str, limit: str) -> Callable[[Seen, str], Remark | None]:
    """Of a kind's ``signal`` (°C) and the name of the value that limits it, which may be none."""

    def remark(seen: Seen, key: str) -> Remark | None:
        run, name = seen.run, f"{key}.{signal}"
        if name not in run.structure.signals:
            return None
        given = seen.values[key].get(limit, math.nan)
        maximum = MELTS if math.isnan(given) else given
        t, y = run.rows[:, 0], run.on_rows([name], slice(None))[:, 0]  # a trace takes as long as the run
        beyond = np.flatnonzero(y > maximum)
        if not len(beyond):
            return None
        first, peak = float(t[beyond[0]]), float(np.max(y))
        when = float(t[int(np.argmax(y))])
        if math.isnan(given):
            sentence = (
                f"{seen.name(key)}: it is warmer than {figure(maximum, '°C', 3)} from {figure(first, 's', 3)} on, "
                f"{figure(peak, '°C', 4)} in the end. Its losses grow with its temperature faster than heat leaves, "
                "or a value of its heat path is wrong. Correct it, or cool it better."
            )
        else:
            sentence = (
                f"{seen.name(key)}: its limit of {figure(maximum, '°C', 4)} is passed at {figure(first, 's', 4)}, "
                f"by {figure(peak - maximum, 'K', 3)} at {figure(when, 's', 4)}. "
                "Cool it better, load it less, or shorten the load."
            )
        return Remark(sentence, key, first, limit)

    return remark
