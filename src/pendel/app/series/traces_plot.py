"""Traces that rows keep, on each other, shaded by something that varies or by a figure."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import Qt, pyqtSignal
from pyqtgraph.GraphicsScene.mouseEvents import MouseClickEvent

from pendel.app.plots.lean_curve import LeanCurve
from pendel.app.plots.plot import Plot
from pendel.app.plots.shades import SHADES, line_shade
from pendel.app.series.pictures import REACH
from pendel.app.widgets.theme import tokens
from pendel.core.quantities.units import number_text
from pendel.core.runs.record.display_units import factor
from pendel.core.runs.record.kept import SignalInfo
from pendel.core.series.gathered import Gathered
from pendel.core.series.traces import RowTrace

MOST_CURVES = 400
"""That are drawn at once; of more rows some are left out evenly, in the order of what shades them."""
NO_TRACE = "No traces", "are kept yet; name signals on the left"


class TracesPlot(Plot):
    """``row_chosen`` gives the place of the row whose curve is next to a click."""

    row_chosen = pyqtSignal(int)

    def __init__(self) -> None:
        super().__init__("Traces", "", bottom="time, s", about="row_traces")
        self.traces: list[tuple[int, RowTrace]] = []
        """What is drawn, with the places of the rows."""
        self._one, self._chosen = 1.0, None
        self.scene().sigMouseClicked.connect(self._choose)

    def show_traces(
        self,
        gathered: Gathered,
        traces: Sequence[tuple[int, RowTrace]],
        info: SignalInfo | None,
        tinted: int,
        chosen: int,
        of: int,
    ) -> None:
        """Traces by the places of their rows, of ``of`` rows in all; ``tinted`` is the column that shades them."""
        self.wipe()
        self._chosen, self.traces = None, list(traces)
        if info is None:
            self.set_caption(*NO_TRACE)
            return
        self._one = factor(info.unit)
        shades = gathered.cells[[place for place, _ in self.traces], tinted] if self.traces else np.zeros(0)
        there = shades[np.isfinite(shades)]
        low, high = (float(there.min()), float(there.max())) if len(there) else (math.nan, math.nan)
        head = gathered.heads[tinted]
        words = f"{info.unit or '1'}; {len(self.traces)} of {of} rows"
        if high > low and not head.words:
            ends = " to ".join(number_text(head.shown(end), 3) for end in (low, high))
            words += f"; darker: more {head.short}, {ends} {head.unit}".rstrip()
        elif head.words:
            words += f"; from light to dark: {', '.join(head.words)}"
        self.set_caption(f"{info.card}: {info.label}", words)
        share = (shades - low) / (high - low) if high > low else np.ones(len(shades))
        classes = np.rint(np.nan_to_num(share) * (SHADES - 1)).astype(int)
        for k in range(SHADES):
            self._draw([trace for (_, trace), of_class in zip(self.traces, classes) if of_class == k], k)
        self.choose_place(chosen)
        self.view.autoRange(padding=0.03)

    def _draw(self, traces: Sequence[RowTrace], of_class: int) -> None:
        """Curves of one shade as one, which is many times faster than each by itself."""
        if traces:
            t = np.concatenate([np.append(trace.t, math.nan) for trace in traces])
            y = np.concatenate([np.append(trace.y, math.nan) for trace in traces]) / self._one
            self.curve(t, y, line_shade(of_class / (SHADES - 1)).name(), 1.0)

    def choose_place(self, place: int) -> None:
        """Mark the curve of a row."""
        if self._chosen is not None:
            self.frame.remove(self._chosen)
            self._chosen = None
        trace = next((trace for at, trace in self.traces if at == place), None)
        if trace is not None:
            pen = pg.mkPen(tokens().brick, width=2)
            self._chosen = LeanCurve(trace.t, trace.y / self._one, pen=pen, antialias=True, connect="finite")
            self.add(self._chosen, fitted=False)

    def _choose(self, click: MouseClickEvent) -> None:
        at = click.scenePos()
        rect, ((left, right), (low, high)) = self.vb.sceneBoundingRect(), self.vb.viewRange()
        if click.button() != Qt.MouseButton.LeftButton or not rect.contains(at) or right <= left or high <= low:
            return
        nearest, best = REACH, -1
        for place, trace in self.traces:
            across = rect.left() + (trace.t - left) / (right - left) * rect.width() - at.x()
            down = rect.bottom() - (trace.y / self._one - low) / (high - low) * rect.height() - at.y()
            away = float(np.min(np.nan_to_num(np.hypot(across, down), nan=math.inf), initial=math.inf))
            if away < nearest:
                nearest, best = away, place
        if best >= 0:
            self.row_chosen.emit(best)


def some_of(places: np.ndarray, cells: np.ndarray) -> np.ndarray:
    """At most `MOST_CURVES` of the rows at ``places``, evenly in the order of their ``cells``."""
    if len(places) <= MOST_CURVES:
        return places
    order = places[np.argsort(cells[places], kind="stable")]
    return order[np.linspace(0, len(order) - 1, MOST_CURVES).astype(int)]
