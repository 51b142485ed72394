"""The frame of every plot: curves over an axis on the left and one below, all drawn alike.

`pyqtgraph.PlotItem` makes a menu of some fifty widgets for each plot, which takes most of its 13 ms and which
nobody sees here; a page of ten plots would hold the window up for as long as a hand notices."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import pyqtgraph as pg
from PyQt6.QtCore import QEvent, Qt
from PyQt6.QtGui import QColor, QContextMenuEvent
from PyQt6.QtWidgets import QGraphicsGridLayout, QGraphicsItem, QSizePolicy, QWidget
from pyqtgraph.GraphicsScene.mouseEvents import MouseClickEvent

from pendel.app.plots.axis import FigureAxis
from pendel.app.widgets.pictures import picture_menu
from pendel.app.widgets.theme import font, tokens
from pendel.app.widgets.timers import Later

# By default a movement within 10 ms of the one before is dropped, also the last one: a reading then stays where the
# pointer no longer is.
pg.setConfigOption("mouseRateLimit", 0)
GRID = 0.13
"""How strong the lines at the ticks are, from 0 to 1."""
ABOVE_FILLED = 0.5
"""Depth of the axes, whose lines lie above what is filled."""


class Frame(pg.GraphicsWidget):
    """Items in a view, with its two axes.

    Parameters
    ----------
    left
        width of the left axis, px.
    bottom, left_axis
        axes below and at the left; by default with figures.
    view
        a view of one's own; by default one without a menu.
    levels
        whether lines stand at the ticks of the left axis, as at those below.
    """

    def __init__(
        self,
        left: int,
        *,
        bottom: pg.AxisItem | None = None,
        left_axis: pg.AxisItem | None = None,
        view: pg.ViewBox | None = None,
        levels: bool = True,
    ):
        super().__init__()
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.vb = view or pg.ViewBox(enableMenu=False)
        self.vb.setBackgroundColor(QColor(tokens().plot))
        self.vb.setBorder(pg.mkPen(tokens().hairline))
        self.left, self.bottom = left_axis or FigureAxis("left"), bottom or FigureAxis("bottom")
        self.items: list[QGraphicsItem] = []
        """What was added, in the order in which it was."""
        cells = QGraphicsGridLayout()
        cells.setContentsMargins(1, 1, 1, 1)
        cells.setSpacing(0)
        self.setLayout(cells)
        cells.addItem(self.vb, 0, 1)
        for axis, place in ((self.left, (0, 0)), (self.bottom, (1, 1))):
            cells.addItem(axis, *place)
            axis.linkToView(self.vb)
            axis.setZValue(ABOVE_FILLED)
            axis.setPen(pg.mkPen(tokens().hairline))
            axis.setTextPen(pg.mkPen(tokens().muted))
            axis.setStyle(tickFont=font(10.5), maxTickLevel=1)
            axis.enableAutoSIPrefix(False)
            axis.setGrid(int(255 * GRID) if levels or axis is self.bottom else False)
        self.left.setWidth(left)

    def label(self, axis: pg.AxisItem, words: str) -> None:
        """Write what an axis counts, and in which unit."""
        axis.setLabel(words, **{"color": tokens().muted, "font-size": "10.5px"})

    def add(self, item: Any, *, fitted: bool = True) -> None:
        """Put an item into the view; ``fitted``: what is shown of itself holds all of it."""
        self.items.append(item)
        self.vb.addItem(item, ignoreBounds=not fitted)

    def remove(self, item: Any) -> None:
        self.items.remove(item)
        self.vb.removeItem(item)

    def wipe(self) -> None:
        """Take off all that was added."""
        while self.items:
            self.remove(self.items[-1])


class HandView(pg.ViewBox):
    """A view that a hand may move and zoom, and that finds its way back to what its owner showed."""

    def __init__(self) -> None:
        super().__init__(enableMenu=False)
        self._shown: list[tuple[float, float] | None] = [None, None]
        """Along and across: the range before a hand moved it, where one did."""
        self._by_hand = False

    @contextmanager
    def _moved_by_hand(self) -> Iterator[None]:
        for axis, span in enumerate(self.viewRange()):
            self._shown[axis] = self._shown[axis] or (float(span[0]), float(span[1]))
        self._by_hand = True
        try:
            yield
        finally:
            self._by_hand = False

    def wheelEvent(self, event: Any, axis: int | None = None) -> None:  # noqa: N802
        with self._moved_by_hand():
            super().wheelEvent(event, axis)

    def mouseDragEvent(self, event: Any, axis: int | None = None) -> None:  # noqa: N802
        with self._moved_by_hand():
            super().mouseDragEvent(event, axis)

    def mouseDoubleClickEvent(self, event: Any) -> None:  # noqa: N802
        self.fit()
        event.accept()

    def setRange(self, rect: Any = None, xRange: Any = None, yRange: Any = None, **how: Any) -> None:
        if not self._by_hand:
            for axis, span in enumerate((xRange, yRange)):
                if rect is not None or span is not None:
                    self._shown[axis] = None
        super().setRange(rect, xRange, yRange, **how)

    def fit(self) -> None:
        """Show what was shown before a hand moved it."""
        across, up = self._shown
        if across is not None or up is not None:
            self.setRange(xRange=across, yRange=up, padding=0)


class PlotView(pg.GraphicsView):
    """A widget that shows one item, such as a frame, in all its room.

    It is painted once when it comes up. Qt tells what is in a view that is shown that its window is active,
    for which each item asks to be painted again; nothing here looks another way then."""

    def __init__(self, item: pg.GraphicsWidget, parent: QWidget | None = None):
        super().__init__(parent, background=tokens().paper)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.enableMouse(False)
        self.setCentralItem(item)
        self._paint = Later(self, 0, lambda: self.setUpdatesEnabled(True), at_last=True)
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)
        # Not at the press of the button, with which a view is zoomed.
        self.scene().sigMouseClicked.connect(self._clicked)

    def fit(self) -> None:
        """Show all there is."""

    def _clicked(self, click: MouseClickEvent) -> None:
        if click.button() == Qt.MouseButton.RightButton and not click.isAccepted():
            picture_menu(self, click.screenPos().toPoint(), fit=self.fit)

    def contextMenuEvent(self, event: QContextMenuEvent | None) -> None:  # noqa: N802
        if event is not None and event.reason() == QContextMenuEvent.Reason.Keyboard:
            picture_menu(self, self.mapToGlobal(self.rect().center()), fit=self.fit)

    def paint_in_turn(self) -> None:
        """Paint all anew, but nothing before it is its turn: a page of plots takes as long as a hand notices, and what
        still changes would be painted twice."""
        self.setUpdatesEnabled(False)
        self._paint.start()

    def viewportEvent(self, event: QEvent | None) -> bool:  # noqa: N802
        if event is not None and event.type() in (QEvent.Type.Show, QEvent.Type.Hide):
            if event.type() == QEvent.Type.Show:
                self.paint_in_turn()
            return False
        return bool(super().viewportEvent(event))


class FrameView(PlotView):
    """A widget with one frame."""

    def __init__(self, frame: Frame, parent: QWidget | None = None):
        super().__init__(frame, parent)
        self.frame, self.vb = frame, frame.vb

    def add(self, item: Any, *, fitted: bool = True) -> None:
        self.frame.add(item, fitted=fitted)
