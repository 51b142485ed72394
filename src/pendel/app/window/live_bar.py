"""What a live run is steered by, below the header while there is one."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QWidget

from pendel.app.session.live import Live
from pendel.app.widgets.basic import Elided, Field, button, label
from pendel.core.errors import ExpressionProblem
from pendel.core.quantities.expressions import value_in_field
from pendel.core.quantities.named import Names
from pendel.core.quantities.units import figure

PACES = (
    ("× 0.01", 0.01),
    ("× 0.1", 0.1),
    ("× 1, real time", 1.0),
    ("× 10", 10.0),
    ("as fast as it can", float("inf")),
)
USUAL = 2


class LiveBar(QWidget):
    def __init__(self, live: Live, parent: QWidget | None = None):
        super().__init__(parent)
        self.live = live
        self.setObjectName("menu")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(36)
        inside = QHBoxLayout(self)
        inside.setContentsMargins(16, 0, 14, 0)
        inside.setSpacing(6)
        self.pace = QComboBox()
        self.pace.setAccessibleName("Pace of the live run")
        for text, factor in PACES:
            self.pace.addItem(text, factor)
        self.pace.setCurrentIndex(USUAL)
        self.pace.activated.connect(lambda _: live.set_pace(self.pace.currentData()))
        self.pause = button("Pause", live.pause_or_go)
        self.tick = button("One tick", lambda: live.step(1))
        self.tick.setToolTip("Go on to the next tick of the controller, and pause")
        self.period = button("One period", lambda: live.step(self.ticks_of_period))
        self.period.setToolTip("Go on until all blocks have run once more, the slowest included, and pause")
        self.seconds = Field("1 s", "How much of the live run is kept", 54)
        self.seconds.setFixedWidth(58)
        self.keep = button("Keep the last", self.keep_latest)
        self.keep.setToolTip("Keep the latest part as a run, as far back as the values of its parts are the same")
        self.state = Elided("", "muted")
        for widget in (label("Live", "heading"), self.pace, self.pause, self.tick, self.period):
            inside.addWidget(widget)
        inside.addSpacing(10)
        inside.addWidget(self.keep)
        inside.addWidget(self.seconds)
        inside.addSpacing(10)
        inside.addWidget(self.state, 1)
        live.changed.connect(self.refresh)
        live.moved.connect(self.refresh)
        self.hide()

    @property
    def ticks_of_period(self) -> int:
        """Ticks after which all blocks have run."""
        cards = self.live.session.drive.cards
        values = self.live.session.examined.values
        every = [int(v["every"]) for key, v in values.items() if key in cards and v.get("every", 0) >= 1]
        return max(every, default=1)

    def keep_latest(self) -> None:
        try:
            seconds = value_in_field(self.seconds.text(), "s", Names({}))
            self.seconds.mark("" if seconds > 0 else "Enter a time above 0.")
        except ExpressionProblem as problem:
            self.seconds.mark(str(problem))
            return
        if seconds > 0:
            self.live.keep(seconds)

    def refresh(self) -> None:
        live = self.live
        if self.isVisibleTo(self.parentWidget()) != live.running:
            self.setVisible(live.running)
            if live.running:
                self.pace.setCurrentIndex(USUAL)
        if not live.running:
            return
        status = live.status
        state = status.get("state", "preparing")
        self.pause.setText("Go on" if live.paused else "Pause")
        for each in (self.pause, self.tick, self.period, self.keep):
            each.setEnabled(state in ("runs", "paused"))
        words = [{"preparing": "preparing …", "ended": "ended"}.get(state, "")]
        if state in ("runs", "paused"):
            words = [f"at {status['time']:.3f} s"]
        if state == "paused":
            words.append("paused")
        if state == "runs":
            words += [f"pace {status['pace']:.2f} ×", f"load {100 * status['load']:.0f} % of a core"]
        if status.get("late", 0.0) > 0.05:
            words.append(f"{figure(status['late'], 's', 2)} behind the clock in all")
        if status.get("sentence"):
            words.append(status["sentence"])
        self.state.set_text(" · ".join(w for w in words if w))
