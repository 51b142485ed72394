"""Modes of a state machine under the strips: a coloured bar over their time, why each came, and time and energy by
mode."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PyQt6.QtCore import QEvent, QRectF, Qt
from PyQt6.QtGui import QColor, QMouseEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QComboBox, QToolTip, QWidget

from pendel.app.widgets.basic import column, label, row
from pendel.app.widgets.explained import explained_by
from pendel.app.widgets.figure_table import FigureTable
from pendel.app.widgets.theme import colour, font, trace_colour
from pendel.core.quantities.units import figure, number_text
from pendel.core.runs.found.modes import Modes, by_mode, modes_of, powers_of, state_machines
from pendel.core.runs.record.kept import KeptRun

HEAD, ROW, BAR = 108, 20, 24
"""px: all but the table's rows, one of these, the bar."""
MOST_ROWS = 8
NAMED = 8
"""px beside a name that stands in its piece of the bar."""
NONE = "no power"


def tint(number: int) -> QColor:
    shade = QColor(trace_colour(number))
    shade.setAlphaF(0.35)
    return shade


class ModeBar(QWidget):
    """Modes over time, along the axis of the strips."""

    def __init__(self, place: Callable[[], tuple[float, float, float, float]]) -> None:
        """``place`` gives left and right of the strips' axis (px, of this widget) and the times there (s)."""
        super().__init__()
        self.place = place
        self.modes: Modes | None = None
        self.setFixedHeight(BAR)
        self.setMouseTracking(True)
        self.setAccessibleName("Modes over time")

    def show_modes(self, modes: Modes | None) -> None:
        self.modes = modes
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter, modes = QPainter(self), self.modes
        left, right, begin, end = self.place()
        ground = QRectF(left, 2, right - left, BAR - 4)
        painter.fillRect(ground, colour("plot"))
        if modes is None or not len(modes.number) or end <= begin or right <= left:
            return
        painter.setClipRect(ground)
        scale = (right - left) / (end - begin)
        painter.setFont(font(10.5))
        first = max(0, modes.at(begin))
        last = min(len(modes.number), modes.at(end) + 1)
        drawn = -1.0
        for k in range(first, last):
            a, b = (left + (t - begin) * scale for t in (modes.begins[k], modes.ends[k]))
            if b - drawn < 0.5:  # narrower than can be seen, beside one that was drawn
                continue
            drawn = b
            piece = QRectF(a, ground.top(), max(1.0, b - a), ground.height())
            painter.fillRect(piece, tint(int(modes.number[k])))
            name = modes.names[int(modes.number[k])]
            seen = piece.intersected(ground)
            if painter.fontMetrics().horizontalAdvance(name) + NAMED < seen.width():
                painter.setPen(colour("ink"))
                painter.drawText(seen, Qt.AlignmentFlag.AlignCenter, name)

    def words_at(self, x: float) -> str:
        """What held at a place of the bar, since when and why."""
        modes = self.modes
        left, right, begin, end = self.place()
        if modes is None or not left <= x <= right or right <= left:
            return ""
        time = begin + (x - left) / (right - left) * (end - begin)
        k = modes.at(time)
        if not 0 <= k < len(modes.number) or time > modes.end:
            return ""
        name = modes.names[int(modes.number[k])]
        lasts = figure(float(modes.ends[k] - modes.begins[k]), "s", 3)
        why = f", by {modes.reasons[k]}" if modes.reasons[k] else ""
        return f"{name} from {figure(float(modes.begins[k]), 's', 4)} on, for {lasts}{why}"

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        QToolTip.showText(event.globalPosition().toPoint(), self.words_at(event.position().x()), self)

    def leaveEvent(self, event: QEvent | None) -> None:
        QToolTip.hideText()
        super().leaveEvent(event)


class ModesPanel(QWidget):
    """The first state machine of the latest shown run, or the one that is chosen."""

    def __init__(self, place: Callable[[QWidget], tuple[float, float, float, float]]) -> None:
        super().__init__()
        explained_by(self, "plot:modes_of_run")
        self.run: KeptRun | None = None
        self.modes: Modes | None = None
        self.span = (0.0, 0.0)
        self.title = label("", "muted")
        self.machine, self.power = QComboBox(), QComboBox()
        self.machine.setAccessibleName("State machine")
        self.power.setAccessibleName("Power whose energy is shown by mode")
        self.machine.activated.connect(self._chosen)
        self.power.activated.connect(self._fill)
        self.bar = ModeBar(lambda: place(self.bar))
        self.table = FigureTable("Time and energy by mode", ("mode", "time", "of all", "came", "energy"))
        body = column(self, (0, 2, 0, 4), 4)
        body.addWidget(self.bar)
        body.addLayout(
            row(label("Modes", "muted"), self.machine, label("energy of", "muted"), self.power, self.title, 1)
        )
        body.addWidget(self.table, 1)

    def show_run(self, run: KeptRun | None) -> None:
        if run is self.run:
            return
        self.run = run
        machine, power = self.machine.currentData(), self.power.currentData()
        self.machine.clear()
        self.power.clear()
        for key, name in (state_machines(run) if run is not None else {}).items():
            self.machine.addItem(name, key)
        self.machine.setCurrentIndex(max(0, self.machine.findData(machine)))
        self.power.addItem(NONE, "")
        for key in powers_of(run) if run is not None else []:
            assert run is not None
            self.power.addItem(f"{run.infos[key].card}: {run.infos[key].label}", key)
        first = 1 if self.power.count() > 1 else 0
        self.power.setCurrentIndex(self.power.findData(power) if self.power.findData(power) >= 0 else first)
        self._chosen()

    def show_span(self, start: float, end: float) -> None:
        """Figures between the cursors."""
        self.span = (start, end)
        self._fill()
        self.bar.update()

    def _chosen(self) -> None:
        key = self.machine.currentData()
        self.modes = modes_of(self.run, key) if self.run is not None and key else None
        self.bar.show_modes(self.modes)
        self._fill()

    def _fill(self) -> None:
        for widget in (self.bar, self.table, self.machine, self.power):
            widget.setVisible(self.modes is not None)
        shown = min(len(self.modes.names), MOST_ROWS) if self.modes is not None else 0
        self.setFixedHeight(HEAD + shown * ROW if self.modes is not None else self.sizeHint().height())
        if self.run is None or self.modes is None:
            self.title.setText("No state machine in this run.")
            self.table.show_rows([])
            return
        start, end = self.span
        self.title.setText(f"{self.run.name}, {figure(end - start, 's', 4)} between the cursors")
        rows = by_mode(self.run, self.modes, start, end, self.power.currentData() or "")
        whole = max(sum(each.time for each in rows), np.finfo(float).tiny)
        self.table.show_rows(
            [
                (
                    each.name,
                    figure(each.time, "s", 4),
                    f"{number_text(100 * each.time / whole, 3)} %",
                    f"{each.came} times" if each.came != 1 else "once",
                    "–" if each.energy is None else figure(each.energy, "J", 4),
                )
                for each in rows
            ]
        )
        for n in range(len(rows)):
            item = self.table.item(n, 0)
            assert item is not None
            item.setBackground(tint(n))
