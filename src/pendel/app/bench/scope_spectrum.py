"""Lines of a channel of the oscilloscope, between its cursors."""

from __future__ import annotations

import numpy as np

from pendel.app.plots.plot import Plot
from pendel.app.widgets.theme import trace_colour
from pendel.core.bench.description import Channel
from pendel.core.quantities.units import figure, number_text
from pendel.core.runs.found.spectra import spectrum_of_samples

ROUNDING = 1e-9
"""Of the largest value: lines below are none."""
SMALL, LEAST_LINES = 0.01, 40
"""Lines are shown up to the last that is more than this part of the largest, and so many at least."""
HEIGHT = 124


class ScopeSpectrum(Plot):
    def __init__(self) -> None:
        super().__init__("spectrum", "", bottom="frequency, Hz", about="spectrum")
        self.setAccessibleName("Spectrum of a channel")
        self.setFixedHeight(HEIGHT)

    def show_channel(
        self, channel: Channel, number: int, times: np.ndarray, values: np.ndarray, a: float, b: float
    ) -> None:
        """Draw the lines of a channel's values (SI) between two times; ``number`` gives its colour."""
        for old in [i for i in self.frame.items if i is not self.reading.spot]:
            self.frame.remove(old)
        half = 0.5 * float(np.min(np.diff(times), initial=np.inf)) if len(times) > 1 else 0.0
        inside = (times > a - half) & (times < b - half)  # as many samples as the span between the cursors holds
        t, y = times[inside], values[inside] / channel.scale
        if len(t) < 8 or not np.all(np.isfinite(y)):
            self.set_caption(channel.title, "needs some samples between the cursors")
            return
        if np.ptp(np.diff(t)) > half:
            self.set_caption(channel.title, "samples are missing between the cursors")
            return
        spectrum = spectrum_of_samples(t, y)
        biggest = 1 + int(np.argmax(spectrum.amplitude[1:]))
        tall = np.flatnonzero(spectrum.amplitude[1:] > SMALL * spectrum.amplitude[biggest])
        count = min(len(spectrum.frequency), max(LEAST_LINES, 2 + int(1.15 * (tall[-1] + 1)) if len(tall) else 0))
        lines, sizes = spectrum.frequency[1:count], spectrum.amplitude[1:count]  # the mean would hide all others
        x = np.repeat(lines, 3)
        shown = np.column_stack([np.zeros_like(sizes), sizes, np.zeros_like(sizes)]).ravel()
        if spectrum.amplitude[biggest] <= ROUNDING * np.max(np.abs(y)):
            self.set_caption(channel.title, f"level at {number_text(spectrum.mean, 4)} {channel.unit}".rstrip())
            return
        self.curve(x, shown, trace_colour(number), 1.3)
        words = (
            f"{channel.unit}, peak; mean {number_text(spectrum.mean, 4)}, largest "
            f"{number_text(float(spectrum.amplitude[biggest]), 4)} at "
        )
        self.set_caption(channel.title, words + figure(float(spectrum.frequency[biggest]), "Hz", 4))
        self.vb.autoRange()


__all__ = ["ScopeSpectrum"]
