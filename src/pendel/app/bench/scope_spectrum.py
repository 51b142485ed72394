"""Lines of a channel of the oscilloscope, between its cursors."""

from __future__ import annotations

import numpy as np

from pendel.app.plots.plot import Plot
from pendel.app.widgets.theme import trace_colour
from pendel.core.bench.description import Channel
from pendel.core.quantities.units import figure, number_text
from pendel.core.runs.kept import Trace
from pendel.core.runs.spectra import spectrum

MOST_LINES = 400
HEIGHT = 124


class ScopeSpectrum(Plot):
    def __init__(self) -> None:
        super().__init__("spectrum", "", bottom="frequency, Hz")
        self.setAccessibleName("Spectrum of a channel")
        self.setFixedHeight(HEIGHT)

    def show_channel(
        self, channel: Channel, number: int, times: np.ndarray, values: np.ndarray, a: float, b: float
    ) -> None:
        """Draw the lines of a channel's values (SI) between two times; ``number`` gives its colour."""
        item = self.getPlotItem()
        for old in [i for i in item.items if i is not self.spot]:
            item.removeItem(old)
        inside = (times >= a - 1e-12) & (times <= b + 1e-12)
        y = values / channel.scale
        if np.count_nonzero(inside) < 8 or not np.all(np.isfinite(y[inside])):
            self.set_caption(channel.title, "needs some samples between the cursors")
            return
        t, y = Trace("", "", "", times, y, True).drawn
        found = spectrum(t, y, a, b)
        highest = 0.5 * (len(times) - 1) / (times[-1] - times[0])  # half the rate of the samples
        count = min(MOST_LINES, int(np.count_nonzero(found.frequency <= highest)))
        lines, sizes = found.frequency[:count], found.amplitude[:count]
        x = np.repeat(lines, 3)
        shown = np.column_stack([np.zeros(count), sizes, np.full(count, np.nan)]).ravel()
        self.curve(x, np.nan_to_num(shown), trace_colour(number), 1.3)
        biggest = 1 + int(np.argmax(sizes[1:])) if count > 1 else 0
        words = (
            f"{channel.unit}, peak; mean {number_text(found.mean, 4)}, largest "
            f"{number_text(float(sizes[biggest]), 4)} at "
        )
        self.set_caption(channel.title, words + figure(float(lines[biggest]), "Hz", 4))
        self.autoRange()


__all__ = ["ScopeSpectrum"]
