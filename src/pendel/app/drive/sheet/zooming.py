"""A view that is zoomed, moved and fitted, with a small overview where not all of it can be read at once."""

from __future__ import annotations

from PyQt6.QtCore import QPoint, QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QResizeEvent, QWheelEvent
from PyQt6.QtWidgets import QGraphicsView, QWidget

from pendel.app.widgets.theme import colour, tokens

SMALLEST_WORDS = 11.0
"""Of the sheet at its own size, px."""
READABLE = 10.0
"""Below which *Fit* makes no words, px."""
FITS_DOWN_TO, FITS_UP_TO = READABLE / SMALLEST_WORDS, 1.5
SMALLEST, LARGEST = 0.15, 3.0
STEP = 1.15
"""Of a turn of the wheel, and of a key."""
OVERVIEW = QSize(168, 116)
EDGE = 10
"""px between the overview and the edge of the view."""


class ZoomedView(QGraphicsView):
    """Wheel, or Ctrl with it, zooms at the pointer; Shift and wheel, or the space bar held and a drag, move; + − 0
    and F zoom by key."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.zoomed_by_hand = False
        self._space = False
        self._grasped: QPoint | None = None
        self.overview = Overview(self)

    # zoom ----------------------------------------------------------------------

    @property
    def zoom(self) -> float:
        return self.transform().m11()

    def zoom_by(self, factor: float) -> None:
        factor = min(LARGEST, max(SMALLEST, self.zoom * factor)) / self.zoom
        self.scale(factor, factor)
        self.zoomed_by_hand = True
        self.overview.follow()

    def zoom_to(self, zoom: float) -> None:
        """About the middle of the view."""
        anchor = self.transformationAnchor()
        self.setTransformationAnchor(QGraphicsView.ViewportAnchor.AnchorViewCenter)
        self.zoom_by(zoom / self.zoom)
        self.setTransformationAnchor(anchor)

    def fit(self) -> None:
        """Show the whole drawing, on a large screen up to one and a half times its size, and never with words too small
        to read: what does not fit then is scrolled to."""
        rect, room = self.sceneRect(), self.viewport().rect()
        if rect.isEmpty() or room.width() < 50:
            return
        scale = min(room.width() / rect.width(), room.height() / rect.height())
        scale = min(FITS_UP_TO, max(FITS_DOWN_TO, scale))
        self.resetTransform()
        self.scale(scale, scale)
        self.zoomed_by_hand = False
        self.overview.follow()

    def show_whole(self) -> None:
        """All of it, however small."""
        rect, room = self.sceneRect(), self.viewport().rect()
        if not rect.isEmpty() and room.width() >= 50:
            scale = min(FITS_UP_TO, room.width() / rect.width(), room.height() / rect.height())
            self.zoom_to(scale)

    def resizeEvent(self, event: QResizeEvent | None) -> None:  # noqa: N802
        super().resizeEvent(event)
        if not self.zoomed_by_hand:
            self.fit()
        self.overview.follow()

    def wheelEvent(self, event: QWheelEvent | None) -> None:  # noqa: N802
        assert event is not None
        turned = event.angleDelta().y()
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier or not turned:  # sideways, or the end of a touch
            super().wheelEvent(event)
            return
        self.zoom_by(STEP if turned > 0 else 1 / STEP)

    def scrollContentsBy(self, dx: int, dy: int) -> None:  # noqa: N802
        super().scrollContentsBy(dx, dy)
        self.overview.update()

    def zoom_key(self, event: QKeyEvent) -> bool:
        """Whether a key zoomed or holds the space bar."""
        keys = {Qt.Key.Key_Plus: STEP, Qt.Key.Key_Equal: STEP, Qt.Key.Key_Minus: 1 / STEP}
        if event.key() == Qt.Key.Key_Space:
            self._space = True
            self.setCursor(Qt.CursorShape.OpenHandCursor)
        elif event.key() in keys:
            self.zoom_to(self.zoom * keys[Qt.Key(event.key())])
        elif event.key() == Qt.Key.Key_0:
            self.zoom_to(1.0)
        else:
            return False
        return True

    def keyReleaseEvent(self, event: QKeyEvent | None) -> None:  # noqa: N802
        assert event is not None
        if event.key() == Qt.Key.Key_Space and not event.isAutoRepeat():
            self._space, self._grasped = False, None
            self.setCursor(Qt.CursorShape.ArrowCursor)
        super().keyReleaseEvent(event)

    # moving --------------------------------------------------------------------

    def begins_to_move(self, event: QMouseEvent) -> bool:
        """Whether a press of the mouse grasps the sheet itself: with the space bar held, or by the middle button."""
        middle = event.button() is Qt.MouseButton.MiddleButton
        if middle or (self._space and event.button() is Qt.MouseButton.LeftButton):
            self._grasped = event.pos()
            self.setCursor(Qt.CursorShape.ClosedHandCursor)
            return True
        return False

    def moves(self, event: QMouseEvent) -> bool:
        """Whether a move of the mouse moves the sheet."""
        if self._grasped is None:
            return False
        shift, self._grasped = event.pos() - self._grasped, event.pos()
        for bar, by in ((self.horizontalScrollBar(), shift.x()), (self.verticalScrollBar(), shift.y())):
            if bar is not None:
                bar.setValue(bar.value() - by)
        return True

    def has_moved(self) -> bool:
        """Whether a release of the mouse ends such a move."""
        if self._grasped is None:
            return False
        self._grasped = None
        self.setCursor(Qt.CursorShape.OpenHandCursor if self._space else Qt.CursorShape.ArrowCursor)
        return True

    # what the overview shows

    def outlines(self) -> list[tuple[QRectF, bool]]:
        """What lies on the sheet, and whether it is marked."""
        return []


class Overview(QWidget):
    """The whole sheet, small, in a corner of its view, with what is seen of it; a press goes there."""

    def __init__(self, view: ZoomedView):
        super().__init__(view)
        self.view = view
        self.setFixedSize(OVERVIEW)
        self.setAccessibleName("Overview of the sheet")
        self.setToolTip("The whole sheet: press where you want to go")
        self.hide()

    def follow(self) -> None:
        """Be there where not all of the sheet is in view, and out of the way else."""
        view, rect = self.view, self.view.sceneRect()
        room = view.viewport().size()
        wanted = rect.width() * view.zoom > room.width() + 8 or rect.height() * view.zoom > room.height() + 8
        self.setVisible(wanted)
        place = view.viewport().geometry().bottomRight()
        self.move(place.x() - self.width() - EDGE, place.y() - self.height() - EDGE)
        self.update()

    @property
    def _scale(self) -> float:
        rect = self.view.sceneRect()
        return min((self.width() - 8) / max(1.0, rect.width()), (self.height() - 8) / max(1.0, rect.height()))

    def _small(self, rect: QRectF) -> QRectF:
        whole, scale = self.view.sceneRect(), self._scale
        x, y = (rect.x() - whole.x()) * scale + 4, (rect.y() - whole.y()) * scale + 4
        return QRectF(x, y, rect.width() * scale, rect.height() * scale)

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802
        painter = QPainter(self)
        painter.setPen(QPen(colour("muted"), 1))
        painter.setBrush(colour("side"))
        painter.drawRect(self.rect().adjusted(0, 0, -1, -1))
        for outline, marked in self.view.outlines():
            painter.fillRect(self._small(outline), colour("petrol" if marked else "muted"))
        seen = self.view.mapToScene(self.view.viewport().rect()).boundingRect()
        tint = QColor(tokens().brass)
        painter.setPen(QPen(tint, 1.4))
        tint.setAlpha(36)
        painter.setBrush(tint)
        painter.drawRect(self._small(seen & self.view.sceneRect()))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802
        assert event is not None
        self._go(event.position())

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:  # noqa: N802
        assert event is not None
        if event.buttons() & Qt.MouseButton.LeftButton:
            self._go(event.position())

    def _go(self, at: QPointF) -> None:
        whole, scale = self.view.sceneRect(), self._scale
        self.view.centerOn(whole.x() + (at.x() - 4) / scale, whole.y() + (at.y() - 4) / scale)
        self.update()
