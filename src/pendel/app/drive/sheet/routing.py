"""Paths of wires, found a few at a time, so that the window answers meanwhile."""

from __future__ import annotations

import time
from collections.abc import Iterator
from itertools import islice

from PyQt6.QtCore import QObject, pyqtSignal

from pendel.app.drive.sheet.geometry import Box, Link, Point, routed
from pendel.app.widgets.timers import Later

AT_A_TIME = 0.02
"""Seconds for which paths are looked for before all else has its turn."""


class Router(QObject):
    done = pyqtSignal()
    """All paths that were asked for last are there."""

    def __init__(self, parent: QObject):
        super().__init__(parent)
        self.paths: dict[str, list[Point]] = {}
        """The paths found last, by the key of their links."""
        self._asked: tuple[dict[str, Box], list[Link]] = ({}, [])
        self._left: Iterator[tuple[str, list[Point]]] = iter(())
        self._found: dict[str, list[Point]] = {}
        self._later = Later(self, 0, self._go_on)

    def find(self, boxes: dict[str, Box], links: list[Link], *, at_once: bool = False) -> None:
        """Find the paths of links between boxes; most edits move no card, so there is nothing to find."""
        if (boxes, links) != self._asked:
            self._asked, self._found = (boxes, links), {}
            self._left = routed(boxes, links)
        if at_once:
            self.finish()
        else:
            self._go_on()

    def finish(self) -> None:
        """Find what is left without a pause."""
        self._find_for(float("inf"))

    def _go_on(self) -> None:
        self._find_for(AT_A_TIME)

    def _find_for(self, seconds: float) -> None:
        self._later.stop()
        until = time.monotonic() + seconds
        while len(self._found) < len(self._asked[1]):
            self._found.update(islice(self._left, 1))
            if time.monotonic() > until:
                self._later.start()
                return
        self.paths = self._found
        self.done.emit()
