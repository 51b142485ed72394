"""The plot that Loops, Firmware, spectrum and torque over speed share: plain or logarithmic, with levels,
marks and a caption above it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from html import escape
from typing import Any

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QEvent, QPointF, Qt, pyqtSignal
from PyQt6.QtGui import QFontMetricsF, QResizeEvent
from PyQt6.QtWidgets import QWidget

from pendel.app.plots.axis import LogAxis, SizeAxis
from pendel.app.plots.frame import Frame, FrameView, HandView
from pendel.app.plots.lean_curve import LeanCurve
from pendel.app.plots.reading import Reading
from pendel.app.plots.tag import Tag
from pendel.app.widgets.explained import explained_by
from pendel.app.widgets.sizes import DECIBELS, size_text, size_unit
from pendel.app.widgets.theme import font, tokens
from pendel.core.quantities.units import number_text

AXIS_WIDTH, CAPTION = 48, 19
"""Pixels: room for figures on the left, and for the caption."""
LEAST_TITLE = 60.0
"""Pixels that the title of a caption has at least."""
REACH = 40.0
"""Pixels from the pointer within which a curve is read."""


class Plot(FrameView):
    """``pointed`` gives the place along the bottom axis the pointer is, NaN once it has left. ``about`` names its page
    of help, of the group `plot`."""

    pointed = pyqtSignal(float)

    def __init__(self, title: str, unit: str, *, log: bool = False, bottom: str = "", about: str = ""):
        self.view = HandView()
        self.sizes = unit.startswith(DECIBELS)
        frame = Frame(
            AXIS_WIDTH,
            bottom=LogAxis("bottom") if log else None,
            left_axis=SizeAxis("left") if self.sizes else None,
            view=self.view,
        )
        super().__init__(frame)
        self.setAccessibleName(title)
        if about:
            explained_by(self, f"plot:{about}")
        if bottom:
            frame.label(frame.bottom, bottom)
        # Above the plot, where no curve can cross it.
        frame.layout().setContentsMargins(0, CAPTION, 4, 0)
        self.caption = pg.TextItem(anchor=(0, 0))
        self.caption.setParentItem(frame)
        self.caption.setPos(AXIS_WIDTH, -1)
        self.log, self.unit = log, ""
        self.reading = Reading(frame, tokens().paper, -1)
        """What the nearest curve is at the pointer, in the caption's line."""
        self.set_caption(title, unit)
        self.scene().sigMouseMoved.connect(self._read)

    def set_caption(self, title: str, unit: str) -> None:
        unit = size_unit(unit)
        first = unit.partition(";")[0].strip()
        self.unit = "" if " " in first else first  # else it is a remark
        self._words = (title, unit)
        self._fit_caption()

    def _fit_caption(self) -> None:
        """Write the caption, shortened where the plot is narrower; the title first, which is shown elsewhere too."""
        title, unit = self._words
        room = max(LEAST_TITLE, self.width() - AXIS_WIDTH - CAPTION)
        of_title, of_unit = QFontMetricsF(font(11, bold=True)), QFontMetricsF(font(11))
        for_title = max(LEAST_TITLE, room - of_unit.horizontalAdvance(unit))
        shown = of_title.elidedText(title, Qt.TextElideMode.ElideRight, for_title)
        rest = of_unit.elidedText(unit, Qt.TextElideMode.ElideRight, room - of_title.horizontalAdvance(shown))
        self.setToolTip("" if (shown, rest) == (title, unit) else escape(f"{title} · {unit}"))
        self.caption.setHtml(
            "<span "
            f'style="font-family:B612;font-size:11px;color:{tokens().ink}"><b>{escape(shown)}</b>&nbsp; '
            f'<span style="color:{tokens().muted}">{escape(rest)}</span></span>'
        )

    def resizeEvent(self, event: QResizeEvent | None) -> None:  # noqa: N802
        super().resizeEvent(event)
        if hasattr(self, "_words"):  # Qt resizes while it is built
            self._fit_caption()

    def tag(self, words: str, tint: str, points: Sequence[tuple[float, float]], *sides: Any, **how: Any) -> None:
        """Write words beside one of some points, as `Tag` says. For after all curves."""
        self.add(Tag(self.frame, words, tint, points, *sides, **how), fitted=False)

    def curve(self, x, y, tint: str, width: float = 1.6, style=Qt.PenStyle.SolidLine) -> None:
        self.add(
            LeanCurve(
                np.asarray(x, dtype=float),
                np.asarray(y, dtype=float),
                pen=pg.mkPen(tint, width=width, style=style),
                antialias=True,
                connect="finite",
            )
        )

    def nearest(self, at: QPointF) -> tuple[float, float] | None:
        """The point of a curve that is nearest to a place in the scene, within `REACH` px; in the plot's
        coordinates."""
        view, best, point = self.vb, REACH, None
        rect, (left, right), (low, high) = view.sceneBoundingRect(), *view.viewRange()
        if not rect.contains(at) or right <= left or high <= low:
            return None
        for curve in self.frame.items:
            if not isinstance(curve, pg.PlotCurveItem) or curve.xData is None or not len(curve.xData):
                continue
            across = rect.left() + (curve.xData - left) / (right - left) * rect.width() - at.x()
            down = rect.bottom() - (curve.yData - low) / (high - low) * rect.height() - at.y()
            away = np.hypot(across, down)
            if not np.any(np.isfinite(away)):
                continue
            k = int(np.nanargmin(away))
            if away[k] < best:
                best, point = float(away[k]), (float(curve.xData[k]), float(curve.yData[k]))
        return point

    def _read(self, at: QPointF) -> None:
        """Show what the nearest curve is where the pointer is."""
        point = self.nearest(at)
        if point is None:
            self.reading.clear()
        else:
            self._tell_nearest(*point)
        inside = self.vb.sceneBoundingRect().contains(at)
        self.pointed.emit(self.vb.mapSceneToView(at).x() if inside else math.nan)

    def _tell_nearest(self, x: float, y: float) -> None:
        of_x = "Hz" if self.log else self.frame.bottom.labelText.rpartition(",")[2].strip()
        words = (
            f"{number_text(10**x if self.log else x)} {of_x}".strip(),
            size_text(y, 4) if self.sizes else f"{number_text(y)} {self.unit}".strip(),
        )
        self.reading.show("   ".join(words), [(x, y)])

    def fit(self) -> None:
        self.view.fit()

    def wipe(self) -> None:
        """Take off all that is drawn, and what was read of it."""
        self.reading.clear()
        self.frame.wipe()

    def leaveEvent(self, event: QEvent | None) -> None:
        super().leaveEvent(event)
        self._read(QPointF(-1e6, -1e6))

    def level(self, value: float, tint: str = "") -> None:
        self.add(pg.InfiniteLine(value, angle=0, pen=pg.mkPen(tint or tokens().muted, width=1)))

    def mark(self, x: float, text: str) -> None:
        line = pg.InfiniteLine(x, angle=90, pen=pg.mkPen(tokens().brass, width=1.2, style=Qt.PenStyle.DashLine))
        self.add(line)
        if text:
            tag = pg.InfLineLabel(
                line,
                text,
                position=0.86,
                color=tokens().on_brass,
                fill=pg.mkBrush(tokens().brass),
                anchors=[(0.5, 0.5), (0.5, 0.5)],
            )
            tag.setFont(font(10.5))

    def mark_mode(self, x: float, text: str, height: float = 0.06, *, clear_of: float = math.nan) -> None:
        """A fine line where something swings by itself, with its name beside it: on the left where on the right a
        line at ``clear_of`` would run through the name."""
        line = pg.InfiniteLine(x, angle=90, pen=pg.mkPen(tokens().moss, width=1, style=Qt.PenStyle.DotLine))
        line.setZValue(-5)
        self.add(line, fitted=False)
        if text:
            tag = pg.InfLineLabel(
                line,
                text,
                position=height,
                color=tokens().moss,
                fill=pg.mkBrush(tokens().plot),
                anchors=[(0, 0.5), (0, 0.5)],
            )
            tag.setFont(font(10.5))
            left, right = self.vb.viewRange()[0]
            away = (clear_of - x) / (right - left) * self.vb.width() if right > left else math.nan
            if 0 <= away < tag.textItem.boundingRect().width():
                tag.anchors = [(1, 0.5), (1, 0.5)]
                tag.updatePosition()


def fit_plots(widget: QWidget) -> None:
    """Show all there is in every plot of a widget."""
    for plot in widget.findChildren(Plot):
        if plot.isVisible():
            plot.fit()
