"""What starts a frame of the oscilloscope, and how long it is."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QComboBox, QWidget

from pendel.app.bench.channel_table import Shown
from pendel.app.widgets.basic import Field, column, label, row
from pendel.core.bench.trigger import Condition, Mode, Trigger
from pendel.core.errors import ExpressionProblem
from pendel.core.quantities.expressions import value_in_field
from pendel.core.quantities.named import Names
from pendel.core.quantities.units import figure, number_text

SAMPLES = 2000
"""Of a frame, where nothing else is set."""
MOST_SAMPLES, LONGEST_WHOLE = 200_000, 10


class TriggerBar(QWidget):
    changed = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        inside = column(self, (0, 0, 0, 0), 4)
        self.tick = 0.0
        self.every = Field("1", "Every how many ticks", 40)
        self.samples = Field(str(SAMPLES), "Samples in the window", 60)
        self.window_label = label("", "muted")
        self.mode = QComboBox()
        self.mode.setAccessibleName("Trigger mode")
        for mode in Mode:
            self.mode.addItem(mode.value, mode)
        self.source = QComboBox()
        self.source.setAccessibleName("Trigger source")
        self.source.setMinimumWidth(210)
        self.condition = QComboBox()
        self.condition.setAccessibleName("Trigger condition")
        for condition in Condition:
            if condition is not Condition.AT_ONCE:
                self.condition.addItem(condition.value, condition)
        self.low = Field("0", "Trigger level", 62)
        self.and_label = label("and", "muted")
        self.high = Field("1", "Upper trigger level", 62)
        self.before = Field("25 %", "Part of the window before the trigger", 48)
        self.hold_off = Field("0 s", "Hold-off", 54)
        self.hold_off.setToolTip("Time from one trigger to the next, at least")
        self.before.setToolTip("Part of the window that lies before the trigger")
        inside.addLayout(
            row(
                label("every", "muted"),
                self.every,
                label("ticks ·", "muted"),
                self.samples,
                label("samples", "muted"),
                self.window_label,
                1,
                label("before", "muted"),
                self.before,
                label("hold-off", "muted"),
                self.hold_off,
            )
        )
        inside.addLayout(
            row(
                label("trigger", "muted"),
                self.mode,
                self.source,
                self.condition,
                self.low,
                self.and_label,
                self.high,
                1,
            )
        )
        for field, width in zip(self.fields, (40, 58, 74, 74, 48, 58)):
            field.setFixedWidth(width)
        for combo in (self.mode, self.source, self.condition):
            combo.activated.connect(lambda _: self._edited())
        for field in self.fields:
            field.committed.connect(lambda _: self._edited())
        self.trigger = Trigger()
        self._sources: list[Shown] = []
        self._edited()

    @property
    def fields(self) -> tuple[Field, ...]:
        return (self.every, self.samples, self.low, self.high, self.before, self.hold_off)

    def show_sources(self, shown: Sequence[Shown]) -> None:
        """Offer channels as sources; the same stays chosen."""
        chosen = self.source.currentData()
        self._sources = list(shown)
        self.source.clear()
        for one in shown:
            self.source.addItem(one.channel.title, one.channel.key)
        self.source.setCurrentIndex(max(0, self.source.findData(chosen)))
        self._edited(tell=False)

    def set_tick(self, tick: float) -> None:
        if tick != self.tick:
            self.tick = tick
            self._show_window()

    @property
    def ticks_a_sample(self) -> int:
        return self._whole(self.every, 1, 255, 1)

    @property
    def frame_samples(self) -> int:
        return self._whole(self.samples, 10, MOST_SAMPLES, SAMPLES)

    def _whole(self, field: Field, low: int, high: int, usual: int) -> int:
        text = field.text().replace("\u2009", "").replace(" ", "")
        number = int(text) if text.isdecimal() and len(text) < LONGEST_WHOLE else -1
        if low <= number <= high:
            field.mark("")
            return number
        field.mark(f"Enter a whole number from {low} to {high}.")
        return usual

    def _number(self, field: Field, unit: str, usual: float, low: float, high: float) -> float:
        try:
            value = value_in_field(field.text(), unit, Names({}))
        except ExpressionProblem as problem:
            field.mark(str(problem))
            return usual
        good = low <= value <= high
        field.mark("" if good else f"Enter {number_text(low)} to {number_text(high)}.")
        return value if good else usual

    def _edited(self, *, tell: bool = True) -> None:
        condition, mode = self.condition.currentData(), self.mode.currentData()
        free = mode is Mode.FREE
        for widget in (self.source, self.condition, self.low, self.high, self.before, self.hold_off):
            widget.setEnabled(not free)
        self.low.setVisible(condition.levels > 0)
        for widget in (self.and_label, self.high):
            widget.setVisible(condition.levels > 1)
        at = max(0, self.source.currentIndex())
        unit = self._sources[at].channel.unit if at < len(self._sources) else ""
        far = 1e30
        low = self._number(self.low, unit, 0.0, -far, far)
        high = self._number(self.high, unit, low, -far, far) if condition.levels > 1 else low
        if high < low:
            self.high.mark("The upper level is below the lower one.")
            low, high = high, low
        before = self._number(self.before, "", 0.25, 0.0, 1.0)
        hold_off = self._number(self.hold_off, "s", 0.0, 0.0, 3600.0)
        self.trigger = Trigger(mode, condition, at, low, high, before, hold_off)
        self._show_window()
        if tell:
            self.changed.emit()

    def _show_window(self) -> None:
        span = self.frame_samples * self.ticks_a_sample * self.tick
        self.window_label.setText(f"= {figure(span, 's')}" if span else "")

    # Set-ups.

    def state(self) -> dict[str, str]:
        return {
            "mode": self.mode.currentText(),
            "condition": self.condition.currentText(),
            "source": self.source.currentData() or "",
            **{name: getattr(self, name).text() for name in ("every", "samples", "low", "high", "before", "hold_off")},
        }

    def restore(self, state: dict[str, str]) -> None:
        for combo, name in ((self.mode, "mode"), (self.condition, "condition")):
            combo.setCurrentIndex(max(0, combo.findText(state.get(name, ""))))
        self.source.setCurrentIndex(max(0, self.source.findData(state.get("source", ""))))
        for name in ("every", "samples", "low", "high", "before", "hold_off"):
            if name in state:
                field: Field = getattr(self, name)
                field.setText(state[name])
                field.before = state[name]
        self._edited()
