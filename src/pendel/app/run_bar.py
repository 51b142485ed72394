"""The pendulum mark and the button that runs, fills and stops."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QColor, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QPushButton, QWidget

from pendel.app.look import colour


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
