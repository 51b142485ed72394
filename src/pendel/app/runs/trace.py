"""One curve of a strip."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import Qt

from pendel.app.plots.reading import TimeCurve
from pendel.core.quantities.units import figure
from pendel.core.runs.record.display_units import factor
from pendel.core.runs.record.drawn import thinned

MANY_TURNS = 60
"""A curve that goes up and down more often ripples."""
DENSE_STEP = 0.04
"""Mean step of a dense band, as a share of the strip."""


class Trace:
    """One curve of a strip with its full data; what is handed to the plot is thinned to the picture."""

    def __init__(
        self, curve: pg.PlotCurveItem, t: np.ndarray, y: np.ndarray, name: str, run: str, unit: str, shift: float = 0.0
    ):
        self.curve, self.t, self.y, self.name, self.run, self.unit = curve, t, y, name, run, unit
        self.shift = shift
        """By how much ``y`` counts from another zero than the signal's values, in SI."""
        self.pen, self.look = curve.opts["pen"], (False, False, False)
        """Whether it is a dense band, whether it rolls, and whether it goes up and down."""

    def as_read(self) -> TimeCurve:
        """It as a reading at the pointer takes it."""
        tint = self.pen.color().name()
        return TimeCurve(self.t, self.y, tint, lambda y: figure(y * factor(self.unit), self.unit))

    def show(self, low: float, high: float, columns: int, *, rolls: bool = False) -> None:
        t, y = thinned(self.t, self.y, low, high, columns)
        if not len(y):  # nothing of a live run has come yet
            self.curve.setData(t, y)
            return
        # A dense band looks the same with a plain thin pen and draws ten times faster; small ripple would
        # break up.
        ways = np.diff(y)
        steps = np.abs(ways)
        tall = DENSE_STEP * max(float(np.ptp(y)), float(np.max(np.abs(y), initial=0.0)))  # strips show zero
        dense = len(t) > columns and float(steps.sum()) > 25 / DENSE_STEP * tall and float(steps.mean()) > tall
        # What goes up and down often is many times faster as single lines than as one path; along smooth
        # curves and dashes their ends would show.
        solid = dense or self.pen.style() == Qt.PenStyle.SolidLine
        ripples = solid and int(np.count_nonzero(ways[1:] * ways[:-1] < 0)) > MANY_TURNS
        look = (dense, rolls, ripples)
        if look != self.look:
            self.look = look
            pen = pg.mkPen(self.pen)
            flat = ripples and (dense or not rolls)  # of lines that are not smoothed it leaves out the short ones
            pen.setCapStyle(Qt.PenCapStyle.FlatCap if flat else Qt.PenCapStyle.SquareCap)
            self.curve.setSegmentedLineMode("on" if ripples else "off")
            if dense or rolls:  # what rolls is drawn anew many times a second
                pen.setWidthF(1.0)
            if dense:
                pen.setStyle(Qt.PenStyle.SolidLine)
            self.curve.setPen(pen)
            self.curve.opts["antialias"] = not (dense or rolls)
        self.curve.setData(t, y)
