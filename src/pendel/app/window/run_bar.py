"""The pendulum mark and the button that runs, fills and stops."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QColor, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QWidget

from pendel.app.session.session import Session
from pendel.app.widgets.basic import clear
from pendel.app.widgets.theme import colour
from pendel.core.catalogue.declare import Part
from pendel.core.catalogue.index import known_kind
from pendel.core.drive import commands
from pendel.core.vocabulary import levels, plainest
from pendel.core.vocabulary.levels import SYSTEM


class Mark(QWidget):
    """The pendulum."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedSize(40, 42)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(colour("ink"), 2, cap=Qt.PenCapStyle.RoundCap))
        painter.drawLine(QPointF(8, 8), QPointF(28, 8))
        painter.drawLine(QPointF(18, 8), QPointF(25, 28))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(colour("petrol"))
        painter.drawEllipse(QPointF(25.6, 31), 4.4, 4.4)


class LevelChoice(QWidget):
    """Level of detail of the whole drive: one button for each level that its parts have."""

    def __init__(self, session: Session, parent: QWidget | None = None):
        super().__init__(parent)
        self.session = session
        self.buttons: dict[str, QPushButton] = {}
        self.line = QHBoxLayout(self)
        self.line.setContentsMargins(0, 0, 0, 0)
        self.line.setSpacing(0)
        self.setToolTip("Level of detail of the converters; at System, machines with an envelope stand as that")
        session.changed.connect(lambda _: self.refresh())
        session.opened.connect(self.refresh)
        self.refresh()

    def levels(self) -> list[str]:
        """Levels some part of the drive has, coarse to fine; before them that of envelopes where a machine carries
        one."""
        offered = {plainest()}
        for card in self.session.drive.cards.values():
            if card.envelope:
                offered.add(SYSTEM)
            kind = known_kind(card)
            if isinstance(kind, Part):
                offered |= set(kind.levels)
        return [level for level in levels() if level in offered or level == self.session.drive.settings["level"]]

    def refresh(self) -> None:
        levels = self.levels()
        if list(self.buttons) != levels:
            clear(self.line)
            self.buttons = {}
            for n, level in enumerate(levels):
                level_button = QPushButton(level.capitalize())
                level_button.setObjectName("level")
                level_button.setCheckable(True)
                level_button.setFixedHeight(26)
                level_button.setProperty(
                    "place",
                    "only" if len(levels) == 1 else "first" if n == 0 else "last" if n == len(levels) - 1 else "middle",
                )
                level_button.setAccessibleName(f"Level of detail: {level}")
                level_button.clicked.connect(lambda _=False, chosen=level: self.choose(chosen))
                self.buttons[level] = level_button
                self.line.addWidget(level_button)
        for level, level_button in self.buttons.items():
            level_button.setChecked(level == self.session.drive.settings["level"])

    def choose(self, level: str) -> None:
        if level != self.session.drive.settings["level"]:
            self.session.do(commands.set_setting(self.session.drive, "level", level))
        self.refresh()


class RunButton(QPushButton):
    """Fills as the run goes on, and stops it then."""

    def __init__(self) -> None:
        super().__init__("Run")
        self.setObjectName("primary")
        self.setFixedSize(112, 28)
        self.share: float | None = None
        self.setAccessibleName("Run or stop")

    def set_progress(self, share: float | None) -> None:
        self.share = share
        self.setText("Run" if share is None else "Stop")
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        if self.share is None:
            super().paintEvent(event)
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        rect = self.rect().adjusted(0, 0, -1, -1)
        painter.setPen(QPen(colour("petrol"), 1))
        painter.setBrush(colour("petrol_tint"))
        painter.drawRoundedRect(rect, 4, 4)
        filled = rect.adjusted(0, 0, -int(rect.width() * (1 - self.share)), 0)
        painter.setBrush(QColor(colour("petrol")))
        painter.setOpacity(0.45)
        painter.drawRoundedRect(filled, 4, 4)
        painter.setOpacity(1.0)
        painter.setPen(colour("ink"))
        painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, f"Stop · {100 * self.share:.0f} %")
