"""The plot that Loops, Firmware, spectrum and torque over speed share: plain or logarithmic, with levels, marks and a caption above it."""

from __future__ import annotations

from html import escape

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import Qt

from pendel.app.plots.axis import FigureAxis, LogAxis
from pendel.app.widgets.theme import font, tokens

AXIS_WIDTH, CAPTION = 48, 19
"""Pixels: room for figures on the left, and for the caption."""


class Plot(pg.PlotWidget):
    def __init__(self, title: str, unit: str, *, log: bool = False, bottom: str = ""):
        axis = LogAxis("bottom") if log else FigureAxis("bottom")
        super().__init__(axisItems={"bottom": axis, "left": FigureAxis("left")})
        self.setBackground(tokens().paper)
        self.setAccessibleName(title)
        item = self.getPlotItem()
        item.hideButtons()
        item.setMenuEnabled(False)
        item.vb.setBackgroundColor(tokens().plot)
        item.vb.setBorder(pg.mkPen(tokens().hairline))
        item.showGrid(x=True, y=True, alpha=0.12)
        for name in ("left", "bottom"):
            side = item.getAxis(name)
            side.setPen(pg.mkPen(tokens().hairline))
            side.setTextPen(pg.mkPen(tokens().muted))
            side.setStyle(tickFont=font(10.5))
            side.enableAutoSIPrefix(False)
        item.getAxis("left").setWidth(AXIS_WIDTH)
        if bottom:
            item.setLabel("bottom", bottom, **{"color": tokens().muted, "font-size": "10.5px"})
        # Above the plot, where no curve can cross it.
        item.layout.setContentsMargins(0, CAPTION, 4, 0)
        self.caption = pg.TextItem(anchor=(0, 0))
        self.caption.setParentItem(item)
        self.caption.setPos(AXIS_WIDTH, -1)
        self.set_caption(title, unit)

    def set_caption(self, title: str, unit: str) -> None:
        self.caption.setHtml(
            "<span "
            f'style="font-family:B612;font-size:11px;color:{tokens().ink}"><b>{escape(title)}</b>&nbsp; '
            f'<span style="color:{tokens().muted}">{escape(unit)}</span></span>'
        )

    def curve(self, x, y, tint: str, width: float = 1.6, style=Qt.PenStyle.SolidLine) -> None:
        self.addItem(
            pg.PlotCurveItem(
                np.asarray(x, dtype=float),
                np.asarray(y, dtype=float),
                pen=pg.mkPen(tint, width=width, style=style),
                antialias=True,
            )
        )

    def level(self, value: float, tint: str = "") -> None:
        self.addItem(pg.InfiniteLine(value, angle=0, pen=pg.mkPen(tint or tokens().muted, width=1)))

    def mark(self, x: float, text: str) -> None:
        line = pg.InfiniteLine(
            x, angle=90, pen=pg.mkPen(tokens().brass, width=1.2, style=Qt.PenStyle.DashLine)
        )
        self.addItem(line)
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
