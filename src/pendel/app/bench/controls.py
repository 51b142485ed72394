"""The controls of the operator panel, by form: each a widget that shows a number, or lets one be changed."""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Callable

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import (
    QComboBox,
    QHBoxLayout,
    QLabel,
    QListWidget,
    QPushButton,
    QSlider,
    QVBoxLayout,
    QWidget,
)

from pendel.app.widgets.basic import Field, literal
from pendel.app.widgets.theme import colour, font
from pendel.core.drive.document import PanelControl
from pendel.core.errors import ExpressionProblem
from pendel.core.live.frames import Points, thinned
from pendel.core.quantities.expressions import value_in_field
from pendel.core.quantities.named import Names
from pendel.core.quantities.units import figure

STEPS = 1000
"""Of a slider."""
HISTORY, MOST_EVENTS, MOST_POINTS = 200, 40, 600


class Control(QWidget):
    """``changed`` comes with the text that a value is to have, ``released`` when a gesture has ended."""

    changed = pyqtSignal(str)
    released = pyqtSignal()

    def __init__(self, control: PanelControl, unit: str, names: Names):
        super().__init__()
        self.control = control
        self.read_in(unit, unit, names)
        self.inside = QVBoxLayout(self)
        self.inside.setContentsMargins(0, 0, 0, 0)
        self.setAccessibleName(control.title or control.target)

    def read_in(self, unit: str, shown: str, names: Names) -> None:
        """Texts of the control that name no unit are in ``unit``; a signal is shown in ``shown``."""
        self.unit, self.shown, self.names = unit, shown, names

    def number(self, text: str, usual: float) -> float:
        """A text of the control in SI."""
        try:
            return value_in_field(text, self.unit, self.names) if text.strip() else usual
        except ExpressionProblem:
            return usual

    @property
    def low(self) -> float:
        return self.number(self.control.low, 0.0)

    @property
    def high(self) -> float:
        return self.number(self.control.high, 1.0)

    def words_for(self, value: float) -> str:
        """The name of the number nearest to a value, or the figure."""
        pairs = [(self.number(text, math.nan), words) for text, words in self.control.names]
        near = [p for p in pairs if p[0] == p[0]]
        if near:
            best = min(near, key=lambda p: abs(p[0] - value))
            if abs(best[0] - value) < 0.5:
                return best[1]
        return figure(value, self.shown, 4)

    def show_value(self, value: float | None) -> None:
        """Show what it is now; nothing where that is not known."""


class ButtonControl(Control):
    """Writes its highest while it is pressed, and its lowest when it is let go."""

    def __init__(self, control: PanelControl, unit: str, names: Names):
        super().__init__(control, unit, names)
        self.button = QPushButton(literal(control.title or control.target))
        self.inside.addWidget(self.button)
        self.button.pressed.connect(lambda: self.changed.emit(control.high or "1"))
        self.button.released.connect(self._let_go)

    def _let_go(self) -> None:
        self.changed.emit(self.control.low or "0")
        self.released.emit()


class SwitchControl(Control):
    def __init__(self, control: PanelControl, unit: str, names: Names):
        super().__init__(control, unit, names)
        self.button = QPushButton("–")
        self.button.setCheckable(True)
        self.inside.addWidget(self.button)
        self.button.clicked.connect(self._clicked)

    def _clicked(self, on: bool) -> None:
        self.changed.emit((self.control.high or "1") if on else (self.control.low or "0"))
        self.released.emit()

    def show_value(self, value: float | None) -> None:
        on = value is not None and value > 0.5 * (self.low + self.high)
        self.button.setChecked(on)
        words = dict(self.control.names)
        named = words.get(self.control.high or "1", "on") if on else words.get(self.control.low or "0", "off")
        self.button.setText(literal(named) if value is not None else "–")


class SelectorControl(Control):
    def __init__(self, control: PanelControl, unit: str, names: Names):
        super().__init__(control, unit, names)
        self.box = QComboBox()
        self.box.setAccessibleName(control.title)
        for text, words in control.names:
            self.box.addItem(words, text)
        self.inside.addWidget(self.box)
        self.box.activated.connect(self._chosen)

    def _chosen(self, _: int) -> None:
        self.changed.emit(self.box.currentData())
        self.released.emit()

    def show_value(self, value: float | None) -> None:
        if value is None or self.box.view().isVisible():
            return
        numbers = [self.number(text, math.nan) for text, _ in self.control.names]
        at = next((k for k, n in enumerate(numbers) if abs(n - value) < 1e-9 * max(1.0, abs(n))), -1)
        self.box.setCurrentIndex(at)


class SliderControl(Control):
    def __init__(self, control: PanelControl, unit: str, names: Names):
        super().__init__(control, unit, names)
        self.slider = QSlider(Qt.Orientation.Horizontal)
        self.slider.setRange(0, STEPS)
        self.slider.setPageStep(STEPS // 20)
        self.slider.setAccessibleName(control.title)
        self.figure = QLabel("–")
        self.figure.setTextFormat(Qt.TextFormat.PlainText)
        self.figure.setMinimumWidth(64)
        self.figure.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        line = QHBoxLayout()
        line.addWidget(self.slider, 1)
        line.addWidget(self.figure)
        self.inside.addLayout(line)
        self.slider.valueChanged.connect(self._moved)
        self.slider.sliderReleased.connect(self.released)
        self._showing = False

    def _moved(self, at: int) -> None:
        if self._showing:
            return
        from pendel.core.quantities.units import unit as unit_of

        value = self.low + (self.high - self.low) * at / STEPS
        shown = value / unit_of(self.unit)[0]
        self.changed.emit(f"{shown:.6g} {self.unit}".strip())
        if not self.slider.isSliderDown():
            self.released.emit()

    def show_value(self, value: float | None) -> None:
        self.figure.setText("–" if value is None else figure(value, self.unit, 4))
        if value is None or self.slider.isSliderDown() or self.high == self.low:
            return
        self._showing = True
        self.slider.setValue(round(STEPS * (value - self.low) / (self.high - self.low)))
        self._showing = False


class NumberControl(Control):
    def __init__(self, control: PanelControl, unit: str, names: Names):
        super().__init__(control, unit, names)
        self.field = Field("", control.title or control.target, 60)
        self.inside.addWidget(self.field)
        self.field.committed.connect(self.changed)
        self.field.committed.connect(lambda _: self.released.emit())

    def show_value(self, value: float | None) -> None:
        self.field.show_text("" if value is None else figure(value, self.unit, 6))


class LampControl(Control):
    """On above its highest, or above one half."""

    def __init__(self, control: PanelControl, unit: str, names: Names):
        super().__init__(control, unit, names)
        self.on: bool | None = None
        self.setMinimumSize(20, 20)

    def show_value(self, value: float | None) -> None:
        level = self.number(self.control.high, 0.5)
        on = None if value is None else value > level
        if on != self.on:
            self.on = on
            self.setAccessibleDescription({None: "not known", True: "on", False: "off"}[on])
            self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(colour("muted"), 1.4))
        painter.setBrush(colour("moss") if self.on else colour("card"))
        middle = QPointF(14, self.height() / 2)
        painter.drawEllipse(middle, 8, 8)
        painter.setPen(colour("ink" if self.on is not None else "muted"))
        words = dict(self.control.names)
        text = {None: "–", True: words.get("1", "on"), False: words.get("0", "off")}[self.on]
        painter.drawText(QRectF(30, 0, self.width() - 30, self.height()), Qt.AlignmentFlag.AlignVCenter, text)


class FigureControl(Control):
    def __init__(self, control: PanelControl, unit: str, names: Names):
        super().__init__(control, unit, names)
        self.label = QLabel("–")
        self.label.setTextFormat(Qt.TextFormat.PlainText)
        self.label.setFont(font(16, bold=True))
        self.label.setStyleSheet("font-size: 16px; font-weight: bold;")
        self.inside.addWidget(self.label)

    def show_value(self, value: float | None) -> None:
        self.label.setText("–" if value is None else self.text_for(value))

    def text_for(self, value: float) -> str:
        return figure(value, self.shown, 4)


class NameControl(FigureControl):
    """The name of a mode."""

    def text_for(self, value: float) -> str:
        return self.words_for(value)


class BarControl(Control):
    def __init__(self, control: PanelControl, unit: str, names: Names):
        super().__init__(control, unit, names)
        self.value: float | None = None
        self.setMinimumSize(40, 20)

    def show_value(self, value: float | None) -> None:
        self.value = value
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        frame = QRectF(1, self.height() / 2 - 9, max(10, self.width() - 76), 18)
        painter.setPen(QPen(colour("hairline")))
        painter.setBrush(colour("card"))
        painter.drawRoundedRect(frame, 3, 3)
        span = self.high - self.low
        if self.value is not None and span:
            zero = min(1.0, max(0.0, -self.low / span))
            part = min(1.0, max(0.0, (self.value - self.low) / span))
            left, right = sorted((zero, part))
            painter.setBrush(colour("petrol"))
            painter.setPen(Qt.PenStyle.NoPen)
            painter.drawRect(QRectF(frame.x() + left * frame.width(), frame.y(), (right - left) * frame.width(), 18))
        painter.setPen(colour("ink"))
        text = "–" if self.value is None else figure(self.value, self.shown, 3)
        painter.drawText(
            QRectF(self.width() - 70, 0, 68, self.height()),
            Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
            text,
        )


class StripControl(Control):
    """The latest values as a small curve, between the lowest and highest of them."""

    def __init__(self, control: PanelControl, unit: str, names: Names):
        super().__init__(control, unit, names)
        self.values: deque[float] = deque(maxlen=HISTORY)
        self.course: Points | None = None
        """All that it did lately, where that is known."""

    def sizeHint(self) -> QSize:
        return QSize(120, 60)

    def show_value(self, value: float | None) -> None:
        if value is not None and math.isfinite(value):
            self.values.append(value)
        self.update()

    def _shown(self) -> tuple[np.ndarray, np.ndarray]:
        """Places from 0 to 1, and values."""
        if self.course is not None and len(self.course[0]) > 1:
            t, y = thinned(*self.course, MOST_POINTS)
            good = np.isfinite(y)
            t, y = t[good], y[good]
            return (t - t[0]) / max(1e-12, t[-1] - t[0]) if len(t) else t, y
        y = np.array(self.values)
        return 1.0 - np.arange(len(y))[::-1] / (HISTORY - 1), y

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        frame = QRectF(0.5, 0.5, self.width() - 76, self.height() - 1)
        painter.setPen(QPen(colour("hairline")))
        painter.setBrush(colour("card"))
        painter.drawRect(frame)
        places, values = self._shown()
        if len(values) > 1:
            low, high = float(np.min(values)), float(np.max(values))
            if self.control.low and self.control.high:
                low, high = self.low, self.high
            span = (high - low) or 1.0
            points = [
                QPointF(
                    frame.x() + p * frame.width(),
                    frame.bottom() - 3 - (frame.height() - 6) * (v - low) / span,
                )
                for p, v in zip(places.tolist(), values.tolist())
            ]
            painter.setClipRect(frame)
            painter.setPen(QPen(colour("petrol"), 1.3))
            painter.drawPolyline(QPolygonF(points))
            painter.setClipping(False)
        painter.setPen(colour("ink"))
        text = figure(self.values[-1], self.shown, 3) if self.values else "–"
        painter.drawText(
            QRectF(self.width() - 70, 0, 68, self.height()),
            Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
            text,
        )


class EventsControl(Control):
    """A line for each change of its signal, and for what is logged."""

    def __init__(self, control: PanelControl, unit: str, names: Names):
        super().__init__(control, unit, names)
        self.list = QListWidget()
        self.list.setAccessibleName(control.title or "Events")
        self.inside.addWidget(self.list)
        self._last = ""

    def add(self, sentence: str) -> None:
        from datetime import datetime

        self.list.addItem(f"{datetime.now().strftime('%H:%M:%S')}  {sentence}")
        while self.list.count() > MOST_EVENTS:
            self.list.takeItem(0)
        self.list.scrollToBottom()

    def show_value(self, value: float | None) -> None:
        if value is None or not self.control.target:
            return
        words = self.words_for(value)
        if words != self._last and self._last:
            self.add(words)
        self._last = words


FORMS: dict[str, Callable[[PanelControl, str, Names], Control]] = {
    "button": ButtonControl,
    "switch": SwitchControl,
    "selector": SelectorControl,
    "slider": SliderControl,
    "number": NumberControl,
    "lamp": LampControl,
    "figure": FigureControl,
    "bar": BarControl,
    "strip": StripControl,
    "name": NameControl,
    "events": EventsControl,
}
