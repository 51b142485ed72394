"""Small shared widgets: labels, rows of figures, fields that evaluate what is typed, sparklines."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PyQt6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import (
    QContextMenuEvent,
    QFocusEvent,
    QKeyEvent,
    QKeySequence,
    QPainter,
    QPaintEvent,
    QPen,
    QPolygonF,
    QWheelEvent,
)
from PyQt6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QLabel,
    QLayout,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from pendel.app.widgets.theme import colour, font
from pendel.core.errors import PendelError


def label(text: str, role: str = "") -> QLabel:
    text_label = QLabel(text)
    if role:
        text_label.setObjectName(role)
    text_label.setTextFormat(Qt.TextFormat.PlainText)
    return text_label


def wrapped(text: str, role: str = "") -> QLabel:
    text_label = label(text, role)
    text_label.setWordWrap(True)
    return text_label


def literal(text: str) -> str:
    """A name for a menu or a button, where Qt would take & for the sign of a key."""
    return text.replace("&", "&&")


def button(text: str, action: Callable[[], object], role: str = "") -> QPushButton:
    push = QPushButton(text)
    if role:
        push.setObjectName(role)
    push.clicked.connect(lambda: action())
    return push


def taken_over(event: QEvent | None, *keys: QKeySequence.StandardKey) -> bool:
    """Whether these keys are about to go to an action of the window, and were taken for the widget instead."""
    if not isinstance(event, QKeyEvent) or event.type() != QEvent.Type.ShortcutOverride:
        return False
    if not any(map(event.matches, keys)):
        return False
    event.accept()
    return True


def rule() -> QFrame:
    line = QFrame()
    line.setFixedHeight(1)
    line.setStyleSheet(f"background: {colour('hairline').name()};")
    return line


class Elided(QLabel):
    """A label that shortens its text with an ellipsis and shows the whole as a tooltip."""

    def __init__(self, text: str, role: str = "", right: bool = False):
        super().__init__()
        self.whole = text
        if role:
            self.setObjectName(role)
        self.right = right
        self.setToolTip(text)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)

    def set_text(self, text: str) -> None:
        self.whole = text
        self.setToolTip(text)
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(self.fontMetrics().horizontalAdvance(self.whole) + 2, self.fontMetrics().height() + 2)

    def minimumSizeHint(self) -> QSize:
        return QSize(20, self.fontMetrics().height() + 2)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setPen(self.palette().color(self.foregroundRole()))
        text = self.fontMetrics().elidedText(self.whole, Qt.TextElideMode.ElideRight, self.width())
        flags = (
            Qt.AlignmentFlag.AlignRight if self.right else Qt.AlignmentFlag.AlignLeft
        ) | Qt.AlignmentFlag.AlignVCenter
        painter.drawText(self.contentsRect(), flags, text)


def row(*widgets: QWidget | int, spacing: int = 6) -> QHBoxLayout:
    """Widgets side by side; a number is a stretch."""
    layout = QHBoxLayout()
    layout.setContentsMargins(0, 0, 0, 0)
    layout.setSpacing(spacing)
    for widget in widgets:
        if isinstance(widget, int):
            layout.addStretch(widget)
        else:
            layout.addWidget(widget)
    return layout


def column(parent: QWidget, margins: tuple[int, int, int, int] = (16, 12, 16, 12), spacing: int = 4) -> QVBoxLayout:
    layout = QVBoxLayout(parent)
    layout.setContentsMargins(*margins)
    layout.setSpacing(spacing)
    return layout


def clear(layout: QLayout) -> None:
    """Remove and delete everything in a layout."""
    while (item := layout.takeAt(0)) is not None:
        widget, inner = item.widget(), item.layout()
        if widget is not None:
            widget.hide()
            widget.deleteLater()
        elif inner is not None:
            clear(inner)


def scrolled(inner: QWidget) -> QScrollArea:
    area = QScrollArea()
    area.setWidgetResizable(True)
    area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    area.setWidget(inner)
    area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
    return area


def figure_row(name: str, symbol: str, value: str, role: str = "") -> QHBoxLayout:
    """Name, symbol in italics, right-aligned figure."""
    left = Elided(name, "muted")
    left.setFont(font(12))
    sign = label(symbol)
    sign.setStyleSheet(f"font-style: italic; color: {colour('muted').name()};")
    right = label(value, role)
    right.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
    right.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
    line = row(left, sign, right)
    line.setStretch(0, 1)
    right.setMinimumWidth(92)
    return line


class Field(QLineEdit):
    """A line that commits on Enter or when left, and goes back on Escape.

    With a ``stepper``, which gives a text after so many steps, the arrow keys and, once it has the focus, the
    wheel change it; with Shift by ten steps.
    """

    committed = pyqtSignal(str)
    stepped = pyqtSignal(str)
    """A text that steps led to; those between two changes of focus belong together."""

    def __init__(self, text: str, name: str, width: int = 92):
        super().__init__(text)
        self.before = text
        self.stepper: Callable[[str, int], str] | None = None
        self.times_entered = 0
        self.more: dict[str, Callable[[], object]] = {}
        """What its menu offers besides, by words."""
        self._plain_tip = ""
        """The tool tip where nothing is wrong."""
        self.setAccessibleName(name)
        self.setFixedHeight(24)
        self.setMinimumWidth(width)
        self.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.editingFinished.connect(self._commit)
        self.setCursorPosition(0)

    def _commit(self) -> None:
        if self.text() != self.before:
            self.before = self.text()
            self.committed.emit(self.text())

    def show_text(self, text: str) -> None:
        """Follow the drive, unless something else is just being typed."""
        if self.hasFocus() and self.text() != self.before:
            return
        if text != self.before:
            self.setText(text)
            self.setCursorPosition(0)
        self.before = text

    def show_usual(self, usual: bool) -> None:
        """Lighter where what it shows is the catalogue's, as nobody has typed another."""
        if bool(self.property("usual")) == usual:
            return
        self.setProperty("usual", usual)
        self.setAccessibleDescription("as usual; not typed for this drive" if usual else "")
        if not self.property("wrong"):
            self._plain_tip = "As usual, from the catalogue: not yet typed for this drive" if usual else ""
            self.setToolTip(self._plain_tip)
        self._dress()

    def mark(self, sentence: str) -> None:
        """Turn brass with a sentence, or back to plain when empty."""
        wrong = bool(self.property("wrong"))
        if sentence:
            self._plain_tip = self._plain_tip if wrong else self.toolTip()
            self.setToolTip(sentence)
        elif wrong:
            self.setToolTip(self._plain_tip)
        if wrong == bool(sentence):
            return
        self.setProperty("wrong", bool(sentence))
        self._dress()

    def _dress(self) -> None:
        style = self.style()
        assert style is not None
        style.unpolish(self)
        style.polish(self)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and event.key() == Qt.Key.Key_Escape:
            self.setText(self.before)
            self.clearFocus()
            return
        direction = {Qt.Key.Key_Up: 1, Qt.Key.Key_Down: -1}.get(event.key()) if event is not None else None
        if event is not None and direction and self.stepper is not None:
            self.step(direction * (10 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1))
            return
        super().keyPressEvent(event)

    def contextMenuEvent(self, event: QContextMenuEvent | None) -> None:
        menu = self.createStandardContextMenu()
        if event is None or menu is None:
            return
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        if self.more:
            menu.addSeparator()
        for words, act in self.more.items():
            menu.addAction(words, act)
        menu.popup(event.globalPos())

    def focusInEvent(self, event: QFocusEvent | None) -> None:
        super().focusInEvent(event)
        self.times_entered += 1

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        if event is None or self.stepper is None or not self.hasFocus():
            super().wheelEvent(event)
            return
        turned = event.angleDelta().y()
        if turned:
            ten = event.modifiers() & Qt.KeyboardModifier.ShiftModifier
            self.step((1 if turned > 0 else -1) * (10 if ten else 1))
        event.accept()

    def step(self, count: int) -> None:
        """Change the text by so many steps, or show why it has none."""
        assert self.stepper is not None
        try:
            text = self.stepper(self.text(), count)
        except PendelError as problem:
            self.mark(str(problem))
            return
        self.mark("")
        self.setText(text)
        self.before = text
        self.stepped.emit(text)


class Spark(QWidget):
    """A trace as a small curve."""

    def __init__(self, points: np.ndarray, tint: str, width: int = 90):
        super().__init__()
        self.points, self.tint = points, tint
        self.setFixedSize(width, 18)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        if len(self.points) < 2:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(colour(self.tint) if self.tint[0] != "#" else self.tint_colour(), 1.3))
        rect = QRectF(1, 2, self.width() - 2, self.height() - 4)
        painter.drawPolyline(
            QPolygonF([QPointF(rect.x() + x * rect.width(), rect.bottom() - y * rect.height()) for x, y in self.points])
        )

    def tint_colour(self):
        from PyQt6.QtGui import QColor

        return QColor(self.tint)
