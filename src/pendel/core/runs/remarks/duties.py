"""Duties that were asked for and cannot be: converters take the end of their range instead, and nobody would
notice."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from pendel.core.catalogue.declare import Kind, Part
from pendel.core.drive.document import Drive
from pendel.core.drive.findings import Remark
from pendel.core.quantities.units import figure, number_text
from pendel.core.runs.record.kept import KeptRun

WORTH_TELLING = 1e-6


def duties_beyond(run: KeptRun, drive: Drive, kinds: Mapping[str, Kind]) -> list[Remark]:
    """A remark on each input of a converter that was beyond its range at some tick."""
    sources = {str(w.b): str(w.a) for w in drive.wires.values()}
    remarks = []
    for key, kind in kinds.items():
        card = drive.cards[key]
        for port in kind.ports if isinstance(kind, Part) else ():
            source = sources.get(f"{key}.{port.name}", "")
            if source not in run.tick_signals or (port.low is None and port.high is None):
                continue
            demanded = run.ticks[:, run.tick_signals.index(source)]
            low, high = (
                port.low if port.low is not None else -np.inf,
                port.high if port.high is not None else np.inf,
            )
            excess = np.maximum(low - demanded, demanded - high)
            worst = int(np.argmax(excess)) if len(demanded) else 0
            if not len(demanded) or not excess[worst] > WORTH_TELLING:
                continue
            value = float(demanded[worst])
            share = float(np.mean(excess > WORTH_TELLING))
            remarks.append(
                Remark(
                    f"{card.name}: “{port.label}” was asked for {number_text(value, 3)} at "
                    f"{figure(float(run.tick_times[worst]), 's', 4)} and was beyond its range for "
                    f"{number_text(100 * share, 2)} % of the run. "
                    f"The converter gives {number_text(low if value < low else high, 3)} then. Limit what "
                    f"{drive.cards[source.partition('.')[0]].name} gives.",
                    key,
                    float(run.tick_times[worst]),
                )
            )
    return remarks
