"""A converter opened: its circuit in IEC 60617 symbols, with what flows in it at the cursor's time."""

from __future__ import annotations

import math

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QKeyEvent, QPainter, QPainterPath, QPaintEvent, QPen
from PyQt6.QtWidgets import QSlider, QVBoxLayout, QWidget

from pendel.app.session import card_text as shown
from pendel.app.session.session import Session
from pendel.app.widgets.basic import Elided, button, label, row
from pendel.app.widgets.theme import colour, font
from pendel.core.catalogue.declare import Drawing, Element, Part
from pendel.core.catalogue.index import known_kind
from pendel.core.quantities.units import figure
from pendel.core.runs.record.kept import KeptRun

FLOWS = 1e-3
"""Share of its largest current from which a device counts as conducting."""
SLIDER = 2000


class CircuitCanvas(QWidget):
    """Paints a drawing; ``values`` are the part's signals at one time, empty before any run."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.drawing: Drawing | None = None
        self.values: dict[str, float] = {}
        self.units: dict[str, str] = {}
        self.scales: dict[str, float] = {}
        self.step = 30.0
        self.setAccessibleName("Circuit")

    def conducts(self, element: Element) -> bool:
        value = self.values.get(element.current)
        return value is not None and abs(value) > FLOWS * self.scales.get(element.current, 0.0) > 0

    def paintEvent(self, event: QPaintEvent | None) -> None:
        if self.drawing is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self.step = min((self.width() - 140) / self.drawing.width, (self.height() - 60) / self.drawing.height, 46.0)
        painter.translate(
            (self.width() - self.drawing.width * self.step) / 2 + 10,
            (self.height() - self.drawing.height * self.step) / 2,
        )
        for element in self.drawing.elements:
            live = self.conducts(element)
            pen = QPen(colour("petrol" if live else "ink"), 2.4 if live else 1.4)
            pen.setCapStyle(Qt.PenCapStyle.RoundCap)
            painter.setPen(pen)
            painter.setBrush(Qt.BrushStyle.NoBrush)
            points = [QPointF(x * self.step, y * self.step) for x, y in element.points]
            getattr(self, f"_{element.symbol}")(painter, element, points, live)

    def _wire(self, painter: QPainter, element: Element, points: list[QPointF], live: bool) -> None:
        painter.setPen(QPen(colour("ink"), 1.4))
        for a, b in zip(points, points[1:]):
            painter.drawLine(a, b)

    def _node(self, painter: QPainter, element: Element, points: list[QPointF], live: bool) -> None:
        painter.setBrush(colour("ink"))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.drawEllipse(points[0], 3, 3)

    def _terminal(self, painter: QPainter, element: Element, points: list[QPointF], live: bool) -> None:
        painter.setBrush(colour("card"))
        painter.drawEllipse(points[0], 4, 4)
        words = element.name + (f"  {self._figure(element.current)}" if element.current in self.values else "")
        left = element.points[0][0] < 3
        rect = QRectF(points[0].x() - (128 if left else -8), points[0].y() - 9, 120, 18)
        self._text(painter, rect, words, Qt.AlignmentFlag.AlignRight if left else Qt.AlignmentFlag.AlignLeft)

    def _voltage(self, painter: QPainter, element: Element, points: list[QPointF], live: bool) -> None:
        """An arrow from plus to minus beside the terminals, with voltage and current."""
        a, b = points
        words = [self._figure(n) for n in (element.voltage, element.current) if n in self.values]
        words = words or [element.name]
        painter.setPen(QPen(colour("brass"), 1.2))
        if a.y() == b.y():
            self._voltage_between(painter, a, b, words)
            return
        left = element.points[0][0] < 3
        x = a.x() + (-18 if left else 18)
        self._arrow(painter, QPointF(x, a.y() + 14), QPointF(x, b.y() - 14))
        side = Qt.AlignmentFlag.AlignRight if left else Qt.AlignmentFlag.AlignLeft
        for n, text in enumerate(words):
            rect = QRectF(x - (100 if left else -8), (a.y() + b.y()) / 2 - 9 * len(words) + 18 * n, 92, 18)
            self._text(painter, rect, text, side)

    def _voltage_between(self, painter: QPainter, a: QPointF, b: QPointF, words: list[str]) -> None:
        """The same between two terminals at one height."""
        self._arrow(painter, a + QPointF(8, -12), b + QPointF(-8, -12))
        for n, text in enumerate(words):
            rect = QRectF((a.x() + b.x()) / 2 - 60, a.y() + (-36 if n == 0 else 4 + 18 * (n - 1)), 120, 18)
            self._text(painter, rect, text, Qt.AlignmentFlag.AlignHCenter)

    def _arrow(self, painter: QPainter, start: QPointF, end: QPointF) -> None:
        painter.drawLine(start, end)
        size = math.hypot(end.x() - start.x(), end.y() - start.y()) or 1.0
        along = (end - start) / size
        across = QPointF(-along.y(), along.x())
        for side in (-4, 4):
            painter.drawLine(end, end - along * 8 + across * side)

    def _along(self, points: list[QPointF], length: float) -> tuple[QPointF, QPointF, QPointF, QPointF]:
        """Where a symbol of ``length`` in the middle of an element begins and ends, its direction and its
        normal."""
        a, b = points[0], points[-1]
        size = math.hypot(b.x() - a.x(), b.y() - a.y()) or 1.0
        along = QPointF((b.x() - a.x()) / size, (b.y() - a.y()) / size)
        middle = (a + b) / 2
        return middle - along * length / 2, middle + along * length / 2, along, QPointF(-along.y(), along.x())

    def _leads(self, painter: QPainter, points: list[QPointF], begin: QPointF, end: QPointF) -> None:
        painter.drawLine(points[0], begin)
        painter.drawLine(end, points[-1])

    def _diode(self, painter: QPainter, element: Element, points: list[QPointF], live: bool) -> None:
        begin, end, _, across = self._along(points, 16)
        self._leads(painter, points, begin, end)
        self._diode_symbol(painter, begin, end, across, live)
        self._caption(painter, element, points)

    def _diode_symbol(self, painter: QPainter, begin: QPointF, end: QPointF, across: QPointF, live: bool) -> None:
        path = QPainterPath(begin + across * 8)
        path.lineTo(begin - across * 8)
        path.lineTo(end)
        path.closeSubpath()
        painter.setBrush(colour("petrol_tint") if live else Qt.BrushStyle.NoBrush)
        painter.drawPath(path)
        painter.drawLine(end + across * 8, end - across * 8)
        painter.drawLine(begin, end)

    def _transistor(self, painter: QPainter, element: Element, points: list[QPointF], live: bool) -> None:
        """A field-effect transistor with its body diode; the gate is filled while it is on."""
        begin, end, along, across = self._along(points, 30)
        gate_on = any(self.values.get(g, 0.0) > 0.5 for g in element.gates)
        forward = self.values.get(element.current, 0.0) > 0
        channel = QPen(colour("petrol" if live and gate_on else "ink"), 2.4 if live and gate_on else 1.4)
        painter.setPen(channel)
        self._leads(painter, points, begin, end)
        for share in (0.0, 0.4, 0.8):  # the broken channel of an enhancement type
            start = begin + along * 30 * share + across * 7
            painter.drawLine(start, start + along * 6)
        for at in (begin + along * 3, begin + along * 27):
            painter.drawLine(at, at + across * 7)
        painter.setPen(QPen(colour("petrol" if gate_on else "ink"), 2.4 if gate_on else 1.4))
        bar = begin + across * 12
        painter.drawLine(bar + along * 2, bar + along * 28)
        painter.drawLine(bar + along * 15, bar + along * 15 + across * 10)
        diode_live = live and not (gate_on and forward) and not forward
        painter.setPen(QPen(colour("petrol" if diode_live else "muted"), 2.0 if diode_live else 1.1))
        low, high = end - across * 13 - along * 8, begin - across * 13 + along * 8
        painter.drawLine(end - across * 13, end)
        painter.drawLine(begin - across * 13, begin)
        painter.drawLine(low, end - across * 13)
        painter.drawLine(high, begin - across * 13)
        self._diode_symbol(painter, low, high, across * 0.7, diode_live)
        self._caption(painter, element, points)

    def _inductor(self, painter: QPainter, element: Element, points: list[QPointF], live: bool) -> None:
        begin, end, along, across = self._along(points, 48)
        self._leads(painter, points, begin, end)
        path = QPainterPath(begin)
        for k in range(4):
            middle, stop = begin + along * (12 * k + 6) - across * 13, begin + along * 12 * (k + 1)
            path.quadTo(middle, stop)
        painter.drawPath(path)
        self._caption(painter, element, points)

    def _capacitor(self, painter: QPainter, element: Element, points: list[QPointF], live: bool) -> None:
        begin, end, _, across = self._along(points, 7)
        self._leads(painter, points, begin, end)
        for at in (begin, end):
            painter.drawLine(at + across * 12, at - across * 12)
        self._caption(painter, element, points)

    def _resistor(self, painter: QPainter, element: Element, points: list[QPointF], live: bool) -> None:
        begin, end, along, across = self._along(points, 34)
        self._leads(painter, points, begin, end)
        path = QPainterPath(begin + across * 6)
        for corner in (end + across * 6, end - across * 6, begin - across * 6):
            path.lineTo(corner)
        path.closeSubpath()
        painter.drawPath(path)
        self._caption(painter, element, points)

    def _caption(self, painter: QPainter, element: Element, points: list[QPointF]) -> None:
        """Name and current beside an upright element, below a lying one."""
        words = [element.name] + ([self._figure(element.current)] if element.current in self.values else [])
        a, b = points[0], points[-1]
        middle = (a + b) / 2
        upright = abs(b.x() - a.x()) < abs(b.y() - a.y())
        for n, text in enumerate(words):
            if upright:
                rect = QRectF(middle.x() + 26, middle.y() - 9 * len(words) + 18 * n, 110, 18)
                self._text(painter, rect, text, Qt.AlignmentFlag.AlignLeft, strong=n == 1)
            else:
                rect = QRectF(middle.x() - 60, middle.y() + 24 + 16 * n, 120, 18)
                self._text(painter, rect, text, Qt.AlignmentFlag.AlignHCenter, strong=n == 1)

    def _figure(self, key: str) -> str:
        value = self.values[key]
        small = abs(value) < 1e-6 * self.scales.get(key, 0.0)
        return figure(0.0 if small else value, self.units.get(key, ""), 3)

    def _text(
        self, painter: QPainter, rect: QRectF, text: str, side: Qt.AlignmentFlag, *, strong: bool = False
    ) -> None:
        painter.setFont(font(11))
        painter.setPen(QColor(colour("ink" if strong else "muted")))
        painter.drawText(rect, side | Qt.AlignmentFlag.AlignVCenter, text)


class CircuitView(QWidget):
    """The canvas with a time slider; Escape goes back to the sheet."""

    closed = pyqtSignal()
    time_moved = pyqtSignal(float)

    def __init__(self, session: Session, parent: QWidget | None = None):
        super().__init__(parent)
        self.session = session
        self.card = ""
        self.setObjectName("page")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.title = label("", "title")
        self.facts = Elided("", "muted", right=True)
        self.canvas = CircuitCanvas()
        self.slider = QSlider(Qt.Orientation.Horizontal)
        self.slider.setAccessibleName("Time in the run")
        self.slider.setRange(0, SLIDER)
        self.slider.valueChanged.connect(self._slid)
        self.at = label("", "muted")
        self.at.setFixedWidth(110)
        body = QVBoxLayout(self)
        body.setContentsMargins(16, 10, 16, 10)
        head = row(button("Back to the sheet", self.closed.emit, "link"), self.title, self.facts, spacing=16)
        head.setStretch(2, 1)
        body.addLayout(head)
        body.addWidget(self.canvas, 1)
        back, on = button("‹", lambda: self.jump(-1)), button("›", lambda: self.jump(1))
        body.addLayout(row(back, self.slider, on, self.at))
        session.runs_changed.connect(self.refresh)
        session.evaluator.ended.connect(lambda problem: problem or self.refresh())
        session.changed.connect(lambda _: self.refresh())

    def open(self, card: str) -> None:
        self.card = card
        run = self.session.last_run
        time = self.session.cursor_time
        if run is not None:
            share = 1.0 if time is None else min(1.0, max(0.0, time / (run.end or 1.0)))
            self.slider.blockSignals(True)
            self.slider.setValue(round(share * SLIDER))
            self.slider.blockSignals(False)
        self.show_time(time)
        self.setFocus()

    def refresh(self) -> None:
        if self.isVisible() and self.card:
            if self.card not in self.session.drive.cards:
                self.closed.emit()
                return
            self.show_time(self.time)

    time: float | None = None

    def show_time(self, time: float | None) -> None:
        """Put the values at ``time`` (s; the end where none is given) into the drawing."""
        self.time = time
        record = self.session.drive.cards[self.card]
        kind = known_kind(record)
        if not isinstance(kind, Part):
            return
        run = self.session.last_run
        self.canvas.drawing = kind.drawing
        self.canvas.units = {s.name: s.unit for s in kind.signals}
        self.canvas.values, self.canvas.scales = {}, {}
        self.title.setText(record.name)
        if run is None:
            self.facts.set_text("Run the drive once to see currents and voltages.")
        else:
            self._take_values(run, time)
        self.slider.setEnabled(run is not None)
        self.canvas.update()

    def _take_values(self, run: KeptRun, time: float | None) -> None:
        drawing = self.canvas.drawing
        assert drawing is not None
        names = {n for e in drawing.elements for n in (e.current, e.voltage, *e.gates) if n}
        keys = {n: f"{self.card}.{n}" for n in names if f"{self.card}.{n}" in run.keys}
        if not self.session.evaluator.ready(run, keys.values()):
            return
        run.fetch(keys.values())
        for name, key in keys.items():
            trace = run.trace(key)
            self.canvas.values[name] = shown.value_at(run, key, time)
            self.canvas.scales[name] = float(abs(trace.y).max()) if len(trace.y) else 0.0
        at = run.end if time is None else time
        self.at.setText(f"t = {figure(at, 's', 6)}")
        level = (
            ""
            if any(e.current in self.canvas.values for e in drawing.elements if e.symbol in ("transistor", "diode"))
            else " · choose Switching to see the devices"
        )
        self.facts.set_text(f"{run.name}{level}")

    def _slid(self, value: int) -> None:
        run = self.session.last_run
        if run is not None:
            self.go_to(value / SLIDER * run.end)

    def go_to(self, time: float) -> None:
        self.session.cursor_time = time
        self.show_time(time)
        self.time_moved.emit(time)

    def jump(self, direction: int) -> None:
        """To the next or last time a device of this circuit begins or ends to conduct, or a gate changes."""
        run = self.session.last_run
        if run is None:
            return
        modes = [n for n, k in enumerate(run.structure.mode_keys) if k.startswith(f"{self.card}.")]
        first = run.rows.shape[1] - len(run.structure.mode_keys)
        t = run.rows[:, 0]
        columns = run.rows[:, [first + n for n in modes]]
        changes = t[1:][(columns[1:] != columns[:-1]).any(axis=1)] if modes else t[:0]
        here = run.end if self.time is None else self.time
        ahead = changes[changes > here + 1e-12] if direction > 0 else changes[changes < here - 1e-12]
        if len(ahead):
            self.go_to(float(ahead[0] if direction > 0 else ahead[-1]))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        if event.key() == Qt.Key.Key_Escape:
            self.closed.emit()
        elif event.key() in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            self.jump(1 if event.key() == Qt.Key.Key_Right else -1)
        else:
            super().keyPressEvent(event)
