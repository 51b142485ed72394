"""Block commutation at the cursor: a dial of the six sectors with the live one, and the table that drives the
legs."""

from __future__ import annotations

import math

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QGridLayout, QLabel, QWidget

from pendel.app.widgets.basic import column, label, row
from pendel.app.widgets.explained import explained_by
from pendel.app.widgets.theme import colour, font
from pendel.core.catalogue.control.sectors import FIRST_EDGE, HALLS, TABLE
from pendel.core.quantities.units import figure
from pendel.core.runs.found.sectors import Sectors, rotor_angle, sector_signals, sectors_of
from pendel.core.runs.record.kept import KeptRun

HEIGHT = 250
WORDS = {1: "+", -1: "−", 0: "open"}
LETTERS = "abc"
INNER = 0.56
"""Inner radius of the ring, as a share of the outer."""


def driven(sector: int) -> str:
    """The driven phases of a sector, such as a+ b−."""
    legs = TABLE[sector]
    return " ".join(f"{n}{WORDS[leg]}" for sign in (1, -1) for n, leg in zip(LETTERS, legs) if leg == sign)


class Dial(QWidget):
    """Six sectors of 60 electrical degrees as a ring, counted anticlockwise from the right, and where the
    rotor stands."""

    def __init__(self) -> None:
        super().__init__()
        self.sector, self.angle = 0, math.nan
        self.setMinimumSize(200, 200)
        self.setAccessibleName("Sector dial")

    def show_sector(self, sector: int, angle: float) -> None:
        self.sector, self.angle = sector, angle
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        centre, radius = QPointF(self.rect().center()), min(self.width(), self.height()) / 2 - 6
        ring = QRectF(centre.x() - radius, centre.y() - radius, 2 * radius, 2 * radius)
        for sector in TABLE:
            start = math.degrees(FIRST_EDGE) + 60 * (sector - 1)
            live = sector == self.sector
            painter.setPen(QPen(colour("hairline"), 1))
            painter.setBrush(colour("brass") if live else colour("plot"))
            painter.drawPie(ring, round(16 * start), 60 * 16)
        painter.setBrush(colour("paper"))
        painter.drawEllipse(centre, INNER * radius, INNER * radius)
        for sector in TABLE:
            middle = FIRST_EDGE + math.radians(60 * (sector - 0.5))
            at = (INNER + 1) / 2 * radius
            place = QPointF(centre.x() + at * math.cos(middle), centre.y() - at * math.sin(middle))
            painter.setPen(colour("on_brass") if sector == self.sector else colour("ink"))
            for text, shift, size in ((str(sector), -7, 13), (driven(sector), 8, 10.5)):
                painter.setFont(font(size, bold=shift < 0))
                box = QRectF(place.x() - 40, place.y() + shift - 9, 80, 18)
                painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)
        if not math.isnan(self.angle):
            tip = 0.94 * INNER * radius
            painter.setPen(QPen(colour("ink"), 2.2))
            end = QPointF(centre.x() + tip * math.cos(self.angle), centre.y() - tip * math.sin(self.angle))
            painter.drawLine(centre, end)
            painter.setBrush(colour("ink"))
            painter.drawEllipse(centre, 3.5, 3.5)


class SectorPanel(QWidget):
    """The dial and the table, for the first decoder of the latest shown run."""

    def __init__(self) -> None:
        super().__init__()
        explained_by(self, "plot:sectors")
        self.run: KeptRun | None = None
        self.sectors: Sectors | None = None
        self.title = label("", "muted")
        self.dial = Dial()
        self.cells: dict[int, list[QLabel]] = {}
        table = QWidget()
        grid = QGridLayout()
        grid.setHorizontalSpacing(0)
        grid.setVerticalSpacing(0)
        heads = ("sector", *(f"Hall {n}" for n in LETTERS), *(f"leg {n}" for n in LETTERS), "driven")
        for k, text in enumerate(heads):
            grid.addWidget(label(text, "muted"), 0, k, Qt.AlignmentFlag.AlignHCenter)
        for sector, legs in TABLE.items():
            texts = (str(sector), *map(str, HALLS[sector]), *(WORDS[leg] for leg in legs), driven(sector))
            self.cells[sector] = [label(text) for text in texts]
            for k, cell in enumerate(self.cells[sector]):
                cell.setAlignment(Qt.AlignmentFlag.AlignCenter)
                cell.setMinimumSize(52, 24)
                grid.addWidget(cell, sector, k)
        column(table, (8, 8, 4, 0), 0).addLayout(grid)
        body = column(self, (4, 2, 10, 4), 2)
        body.addLayout(row(label("Block commutation", "muted"), self.title, 1, spacing=8))
        self.parts = QWidget()
        column(self.parts, (0, 0, 0, 0), 0).addLayout(row(self.dial, table, 1, spacing=14))
        body.addWidget(self.parts, 1)
        self.setFixedHeight(HEIGHT)

    def show_run(self, run: KeptRun | None) -> None:
        if run is self.run:
            return
        self.run = run
        signals = sector_signals(run) if run else []
        self.sectors = sectors_of(run, signals[0]) if run and signals else None

    def show_time(self, time: float) -> None:
        has_sectors = self.run is not None and self.sectors is not None
        self.parts.setVisible(has_sectors)
        self.setFixedHeight(HEIGHT if has_sectors else self.sizeHint().height())
        if self.run is None or self.sectors is None:
            self.title.setText("No Hall decoder in this run.")
            return
        sector = self.sectors.at(time)
        self.title.setText(
            f"{self.run.name} at {figure(time, 's', 4)}, cursor 2" + ("" if sector else ": the sensors tell no sector")
        )
        self.dial.show_sector(sector, rotor_angle(self.run, time))
        for number, cells in self.cells.items():
            for cell in cells:
                cell.setStyleSheet(
                    f"background: {colour('brass').name()}; color: {colour('on_brass').name()};"
                    if number == sector
                    else ""
                )
