"""Axes whose figures are written as all of ours are."""

from __future__ import annotations

import math

import numpy as np
import pyqtgraph as pg
from PyQt6.QtGui import QPainter, QPicture

from pendel.app.widgets.sizes import in_ratios
from pendel.core.quantities.units import number_text

FEW = 20.0
"""dB shown below which ratios have even steps, as there are no decades to tell."""
MANY = 90.0
"""dB shown from which on only decades are written."""
STEPS = (1.0, 2.0, 5.0)
ABOUT = 5
"""Figures along an axis of few dB."""


class FigureAxis(pg.AxisItem):
    """Axis figures with real minus and thin-spaced thousands."""

    def paint(self, painter: QPainter, option: object, widget: object) -> None:
        """Draw what was laid out last. The base class replays a `QPicture`, which makes its fonts anew for each
        figure and takes as long as all curves of a plot."""
        if self.picture is None:
            scratch = QPicture()
            with QPainter(scratch) as measuring:
                measuring.setFont(self.style["tickFont"])
                self.picture = self.generateDrawSpecs(measuring) or ()
        if self.picture:
            self.drawPicture(painter, *self.picture)

    def tickStrings(self, values, scale, spacing):  # noqa: N802
        digits = (
            max(3, 2 + math.ceil(math.log10(max(abs(v) for v in values) / spacing)))
            if values and spacing and max(abs(v) for v in values) > 0
            else 3
        )
        return [number_text(v * scale if abs(v) > spacing * 1e-6 else 0.0, min(9, digits)) for v in values]


class LogAxis(FigureAxis):
    """Decades of frequency: 10, 100, 1 k."""

    def tickValues(self, low, high, size):  # noqa: N802
        decades = range(math.floor(low), math.ceil(high) + 1)
        return [
            (1.0, [float(d) for d in decades]),
            (0.5, [d + math.log10(k) for d in decades for k in (2, 5)]),
        ]

    def tickStrings(self, values, scale, spacing):  # noqa: N802
        if spacing < 1:
            return [""] * len(values)
        return [number_text(10**v) if v < 3 else f"{number_text(10 ** (v - 3))} k" for v in values]


class SizeAxis(FigureAxis):
    """dB, or ratios at their places in dB."""

    def tickValues(self, low, high, size):  # noqa: N802
        if not in_ratios():
            return super().tickValues(low, high, size)
        if high - low < FEW:
            first, last = 10 ** (low / 20), 10 ** (high / 20)
            coarse = 10 ** math.floor(math.log10((last - first) / ABOUT))
            step = next(s * coarse for s in (*STEPS, 10.0) if s * coarse * ABOUT >= last - first)
            ratios = step * np.arange(max(1, math.ceil(first / step)), math.floor(last / step) + 1)
            return [(1.0, list(20 * np.log10(ratios)))]
        decades = range(math.floor(low / 20), math.ceil(high / 20) + 1)
        between = [20 * (d + math.log10(k)) for d in decades for k in STEPS[1:]]
        return [(1.0, [20.0 * d for d in decades]), (0.5 if high - low < MANY else 0.0, between)]

    def tickStrings(self, values, scale, spacing):  # noqa: N802
        if not in_ratios():
            return super().tickStrings(values, scale, spacing)
        return [number_text(10 ** (v / 20), 3) if spacing else "" for v in values]
