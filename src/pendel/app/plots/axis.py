"""Axes whose figures are written as all of ours are."""

from __future__ import annotations

import math

import pyqtgraph as pg
from PyQt6.QtGui import QPainter, QPicture

from pendel.core.quantities.units import number_text


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
