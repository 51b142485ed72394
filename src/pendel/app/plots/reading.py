"""What a curve is where the pointer is: words in a corner of its frame, and a spot on the curve."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QPointF

from pendel.app.plots.frame import Frame
from pendel.app.widgets.theme import font, tokens
from pendel.core.quantities.units import figure

EDGE = 4.0
"""Pixels between the words and the edge of the frame."""


@dataclass(frozen=True)
class TimeCurve:
    """A curve over time (s), its colour, and what it is in words at a height of the picture."""

    t: np.ndarray
    y: np.ndarray
    tint: str
    words: Callable[[float], str]

    def at(self, time: float) -> float:
        """Its height on the line between two points; NaN outside, and where one of both is."""
        after = int(np.searchsorted(self.t, time, side="right"))
        if not after or not time <= self.t[-1]:
            return math.nan
        begin, low = self.t[after - 1], self.y[after - 1]
        if time == begin:
            return float(low)
        return float(low + (time - begin) / (self.t[after] - begin) * (self.y[after] - low))


class Reading:
    """``down``: pixels from the top of the frame to the words; ``ground``: the colour behind them."""

    def __init__(self, frame: Frame, ground: str, down: float):
        self.frame, self._down = frame, down
        self.text = pg.TextItem(anchor=(1, 0), color=tokens().petrol, fill=pg.mkBrush(ground))
        self.text.setFont(font(10.5))
        self.text.setParentItem(frame)
        self.text.setZValue(30)  # before a long caption
        self.text.hide()  # without words it would be a bar of the ground's colour
        self.spot = pg.PlotDataItem(pen=None, symbol="o", symbolSize=6, symbolPen=None)
        self.spot.setZValue(10)

    @property
    def words(self) -> str:
        return str(self.text.toPlainText())

    def show(self, words: str, spots: Sequence[tuple[float, float]], tint: str = "") -> None:
        """Show a reading, and the points that it is of, in a colour or in that of all readings."""
        tint = tint or tokens().petrol
        self.text.setText(words, tint)
        self.text.show()
        self.text.setPos(self.frame.width() - EDGE, self._down)
        self.spot.setData([x for x, _ in spots], [y for _, y in spots], symbolBrush=tint)
        if self.spot not in self.frame.items:
            self.frame.add(self.spot, fitted=False)

    def clear(self) -> None:
        if self.words:
            self.text.setText("")
            self.text.hide()
        if self.spot in self.frame.items:
            self.frame.remove(self.spot)

    def read(self, at: QPointF, curves: Sequence[TimeCurve]) -> None:
        """Show what the nearest of the curves that are in view is at the time of a place in the scene."""
        view = self.frame.vb
        if not view.sceneBoundingRect().contains(at):
            self.clear()
            return
        pointed = view.mapSceneToView(at)
        time, (low, high) = pointed.x(), view.viewRange()[1]
        heights = [(curve, curve.at(time)) for curve in curves if len(curve.t)]
        inside = [(abs(y - pointed.y()), n) for n, (_, y) in enumerate(heights) if low <= y <= high]
        if not inside:
            self.clear()
            return
        curve, y = heights[min(inside)[1]]
        self.show(f"{figure(time, 's')}   {curve.words(y)}", [(time, y)], curve.tint)
