"""Current, voltage and flux of a three-phase machine as vectors at the cursor, from the stator and from the
rotor."""

from __future__ import annotations

import math
from collections.abc import Mapping

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QComboBox, QGridLayout, QWidget

from pendel.app.runs.rotor_state import RotorState, rotor_state
from pendel.app.session.jobs import ROTOR, End, Job, Jobs
from pendel.app.widgets.basic import button, clear, column, label, row
from pendel.app.widgets.explained import explained_by
from pendel.app.widgets.theme import colour, font, trace_colour
from pendel.core.quantities.units import figure
from pendel.core.runs.found.vectors import Vectors, angle_key, machines
from pendel.core.runs.record.kept import KeptRun

HEIGHT = 270
NAMES = (("current", "A"), ("voltage", "V"), ("flux", "Wb"))
HEAD = 7.0
"""px; arrow head."""
WIDEST = 5.0
"""A current limit beyond this multiple of a run's largest current is not drawn: the arrows would be too small
to read."""


class Plane(QWidget):
    """One frame: axes, vectors, and behind them what limits the voltage and where the current was."""

    def __init__(self, title: str, axes: tuple[str, str]):
        super().__init__()
        self.title, self.axes = title, axes
        self.vectors: dict[str, complex] = {}
        self.scales: dict[str, float] = {}
        self.path = np.empty(0, dtype=complex)
        self.hexagon = np.empty(0, dtype=complex)
        self.circle = np.empty(0, dtype=complex)
        """The machine's current limit."""
        self.setMinimumSize(140, 140)
        self.setAccessibleName(title)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        ground = QRectF(0, 18, self.width(), self.height() - 18)
        painter.fillRect(ground, colour("plot"))
        painter.setPen(QPen(colour("hairline"), 1))
        painter.drawRect(ground.adjusted(0, 0, -1, -1))
        painter.setFont(font(10.5))
        painter.setPen(colour("muted"))
        painter.drawText(QRectF(2, 0, self.width(), 16), Qt.AlignmentFlag.AlignLeft, self.title)
        self.centre, self.radius = ground.center(), min(ground.width(), ground.height()) / 2 - 16
        self._draw_axes(painter, ground)
        self._draw_line(painter, self.hexagon, "voltage", Qt.PenStyle.DashLine)
        self._draw_line(painter, self.circle, "current", Qt.PenStyle.DotLine)
        self._draw_line(painter, self.path, "current", Qt.PenStyle.SolidLine)
        for n, (name, _) in enumerate(NAMES):
            if name in self.vectors:
                self._draw_arrow(painter, self.vectors[name], self.scales[name], n)

    def place(self, vector: complex, scale: float) -> QPointF:
        size = self.radius / scale if scale > 0 else 0.0
        return QPointF(self.centre.x() + vector.real * size, self.centre.y() - vector.imag * size)

    def _draw_axes(self, painter: QPainter, ground: QRectF) -> None:
        painter.setPen(QPen(colour("hairline"), 1))
        painter.drawLine(QPointF(ground.left(), self.centre.y()), QPointF(ground.right(), self.centre.y()))
        painter.drawLine(QPointF(self.centre.x(), ground.top()), QPointF(self.centre.x(), ground.bottom()))
        painter.setPen(colour("muted"))
        painter.drawText(QPointF(ground.right() - 12, self.centre.y() - 4), self.axes[0])
        painter.drawText(QPointF(self.centre.x() + 4, ground.top() + 12), self.axes[1])

    def _draw_line(self, painter: QPainter, points: np.ndarray, name: str, style: Qt.PenStyle) -> None:
        if len(points) < 2 or name not in self.scales:
            return
        pen = QPen(colour("muted") if name == "voltage" else QColor(trace_colour(0)), 1.0, style)
        painter.setPen(pen)
        painter.setOpacity(0.55)
        painter.drawPolyline(QPolygonF([self.place(complex(p), self.scales[name]) for p in points]))
        painter.setOpacity(1.0)

    def _draw_arrow(self, painter: QPainter, vector: complex, scale: float, n: int) -> None:
        end = self.place(vector, scale)
        painter.setPen(QPen(QColor(trace_colour(n)), 2.2))
        painter.drawLine(self.centre, end)
        length = math.hypot(end.x() - self.centre.x(), end.y() - self.centre.y())
        if length > HEAD:
            dx, dy = (end.x() - self.centre.x()) / length, (end.y() - self.centre.y()) / length
            painter.setBrush(QColor(trace_colour(n)))
            painter.drawPolygon(
                QPolygonF(
                    [
                        end,
                        *(
                            QPointF(
                                end.x() - HEAD * dx + s * 0.45 * HEAD * dy,
                                end.y() - HEAD * dy - s * 0.45 * HEAD * dx,
                            )
                            for s in (1, -1)
                        ),
                    ]
                )
            )
            painter.setBrush(Qt.BrushStyle.NoBrush)


class RotorDiagram(QWidget):
    """Both frames and the figures, for one machine of the latest shown run."""

    frames_wanted = pyqtSignal(str)
    """A machine whose phase currents and currents along d and q are to change places on the strips."""

    def __init__(self, jobs: Jobs) -> None:
        super().__init__()
        explained_by(self, "plot:rotor")
        self._jobs = jobs
        self.run: KeptRun | None = None
        self._limits: Mapping[str, float] | None = None
        """Of the run's machines, once they are known."""
        self.time = 0.0
        self.vectors: Vectors | None = None
        self.machine = QComboBox()
        self.machine.setAccessibleName("Machine of the rotor diagram")
        self.machine.setFixedWidth(150)
        self.machine.currentIndexChanged.connect(lambda _: self.draw())
        self.when = label("", "muted")
        self.swap = button("abc ⇄ dq", lambda: self.frames_wanted.emit(self.machine.currentData() or ""), "small")
        self.swap.setToolTip("Show phase currents or currents along d and q on the strips")
        self.swap.setAccessibleName("Phases or d and q on the strips")
        self.stator, self.rotor = Plane("from the stator", ("α", "β")), Plane("from the rotor", ("d", "q"))
        self.figures = QGridLayout()
        self.figures.setHorizontalSpacing(8)
        self.figures.setVerticalSpacing(3)
        table = QWidget()
        holder = column(table, (8, 18, 4, 0), 0)
        holder.addLayout(self.figures)
        holder.addStretch(1)
        body = column(self, (4, 2, 10, 4), 4)
        body.addLayout(row(label("Rotor diagram of", "muted"), self.machine, self.when, 1, self.swap, spacing=8))
        planes = row(self.stator, self.rotor, table, spacing=10)
        for n, share in enumerate((3, 3, 4)):
            planes.setStretch(n, share)
        body.addLayout(planes, 1)
        self.setFixedHeight(HEIGHT)

    def show_run(self, run: KeptRun | None, time: float) -> None:
        """Show a run's machine at a time (s)."""
        self.time = time
        if run is not self.run:
            self.run, self._limits = run, None
            chosen = self.machine.currentData()
            self.machine.blockSignals(True)
            self.machine.clear()
            for card in machines(run) if run else ():
                self.machine.addItem(run.infos[key].card if run and (key := angle_key(run, card)) else card, card)
            self.machine.setCurrentIndex(max(0, self.machine.findData(chosen)))
            self.machine.blockSignals(False)
        self.draw()

    def draw(self) -> None:
        """Draw the vectors once they are known; until then those before stay."""
        run, machine, time, limits = self.run, self.machine.currentData(), self.time, self._limits
        if run is None or not machine:
            self._jobs.stop(ROTOR)
            self._show(None)
            return
        self._jobs.start(ROTOR, lambda job: rotor_state(run, machine, time, limits), self._take)

    def _take(self, job: Job) -> None:
        if job.end is End.FINISHED and not job.stopping and job.result.run is self.run:
            self._limits = job.result.limits
            self._show(job.result)
        elif job.end is End.FAILED:
            self._show(None)
            self.when.setText(job.sentence)

    def _show(self, state: RotorState | None) -> None:
        clear(self.figures)
        if state is None:
            self.vectors = None
            self.when.setText("No machine with three phases in this run.")
            for plane in (self.stator, self.rotor):
                plane.vectors = {}
                plane.update()
            return
        phasors = self.vectors = state.vectors
        link, limit = state.link, state.limit
        self.when.setText(f"{state.run.name} at {figure(state.time, 's', 4)}, cursor 2")
        corner = 2 / 3 * link if link == link else 1.2 * abs(phasors.voltage)
        shown = limit <= WIDEST * state.peak
        circle = limit * np.exp(2j * np.pi * np.linspace(0, 1, 91)) if shown else np.empty(0, dtype=complex)
        scales = {
            "current": 1.05 * max(state.peak, limit if shown else 0.0),
            "voltage": max(corner, 1e-9),
            "flux": 1.25 * max(abs(phasors.flux), 1e-12),
        }
        hexagon = corner * np.exp(1j * np.pi / 3 * np.arange(7)) if link == link else np.empty(0, dtype=complex)
        turned = np.exp(-1j * phasors.angle)
        vectors = {name: getattr(phasors, name) for name, _ in NAMES}
        for plane, factor in ((self.stator, 1.0), (self.rotor, turned)):
            plane.scales, plane.hexagon, plane.circle = scales, hexagon * factor, circle
            plane.vectors = {name: complex(v * factor) for name, v in vectors.items()}
            plane.path = state.path * factor if factor == 1.0 else np.empty(0, dtype=complex)
            plane.update()
        self._fill(phasors, link, limit)

    def _fill(self, vectors: Vectors, link: float, limit: float) -> None:
        for column_, text in enumerate(("", "length", "along d", "along q")):
            self.figures.addWidget(label(text, "muted"), 0, column_, Qt.AlignmentFlag.AlignRight)
        for n, (name, unit) in enumerate(NAMES):
            vector = getattr(vectors, name)
            seen = vectors.in_rotor(vector)
            tag = label(name)
            tag.setStyleSheet(f"color: {trace_colour(n)}; font-weight: bold;")
            self.figures.addWidget(tag, n + 1, 0)
            size = abs(vector)
            for column_, value in enumerate((size, seen.real, seen.imag), 1):
                value = value if abs(value) > 1e-6 * size else 0.0
                self.figures.addWidget(label(figure(value, unit, 3)), n + 1, column_, Qt.AlignmentFlag.AlignRight)
        angle = figure(math.degrees(vectors.angle) % 360.0, "", 4)
        self.figures.addWidget(label("rotor", "muted"), 4, 0)
        self.figures.addWidget(label(f"{angle}°"), 4, 1, Qt.AlignmentFlag.AlignRight)
        if math.isfinite(limit):
            self.figures.addWidget(label("of the current limit", "muted"), 6, 0)
            self.figures.addWidget(
                label(f"{100 * abs(vectors.current) / limit:.1f} %"), 6, 1, Qt.AlignmentFlag.AlignRight
            )
        if link == link:
            used = abs(vectors.voltage) / (link / math.sqrt(3.0))
            self.figures.addWidget(label("of the linear range", "muted"), 5, 0)
            self.figures.addWidget(label(f"{100 * used:.1f} %"), 5, 1, Qt.AlignmentFlag.AlignRight)
