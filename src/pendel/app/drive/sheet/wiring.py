"""Drawing a wire on the sheet: from a handle to a card, with the ports lit that it may end at."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QPen
from PyQt6.QtWidgets import QGraphicsPathItem, QMenu

from pendel.app.widgets.basic import literal
from pendel.app.widgets.theme import colour
from pendel.core.catalogue.declare import Link, Part
from pendel.core.catalogue.index import kind_of
from pendel.core.check import end_exists, fits, signal_unit
from pendel.core.drive import commands
from pendel.core.drive.document import Drive, End
from pendel.core.drive.nesting import resolved
from pendel.core.quantities.units import unit

if TYPE_CHECKING:
    from pendel.app.drive.sheet.view import SheetView

SIGNALS = "signals"
"""Handle at a part's lower edge from which any of its signals can be taken."""


class WireDrawing:
    """The wire being drawn, if any; ``ghost`` is its line on the sheet."""

    def __init__(self, view: SheetView):
        self.view = view
        self.start: End | None = None
        self.link: Link | None = None
        self.ghost = QGraphicsPathItem()
        self.ghost.setPen(QPen(colour("petrol"), 1.6, Qt.PenStyle.DashLine))
        self.ghost.setZValue(5)
        self.ghost.hide()

    def give_up(self) -> None:
        self.start = self.link = None
        self.ghost.hide()
        for item in self.view.cards.values():
            item.lit, item.show_handles = False, item.selected
            item.update()

    def begin(self, end: End) -> None:
        self.start = end
        self.link = (
            Link.SIGNAL_OUT if end.port == SIGNALS else end_exists(self.view.session.drive, self.view.kinds(), end)
        )
        for key, item in self.view.cards.items():
            item.show_handles = bool(self.partners(key))
            item.lit = item.show_handles and key != end.card
            item.update()
        self.ghost.show()

    def partners(self, card: str) -> list[str]:
        """Ports of a card that the wire being drawn could end at."""
        if self.start is None or self.link is None or card == self.start.card:
            return []
        kind = self.view.kinds().get(card)
        if kind is None:
            return []
        drive = self.view.session.drive
        fed = {w.b for w in drive.wires.values()}
        kinds = [
            p.name
            for p in kind.ports
            if fits(self.link, p.link) and not (p.link is Link.SIGNAL_IN and resolved(drive, End(card, p.name)) in fed)
        ]
        if self.link is Link.SIGNAL_IN and isinstance(kind, Part) and kind.signals:
            kinds.append(SIGNALS)
        return kinds

    def draw(self, at: QPointF) -> None:
        assert self.start is not None
        start = self.view.cards[self.start.card].handles[self.start.port]
        path = self.ghost.path()
        path.clear()
        path.moveTo(start)
        middle = (start.x() + at.x()) / 2
        for x, y in ((middle, start.y()), (middle, at.y()), (at.x(), at.y())):
            path.lineTo(x, y)
        self.ghost.setPath(path)

    def finish(self, at: QPointF, where: QPoint) -> None:
        start = self.start
        assert start is not None
        handle = self.view.handle_at(at)
        card = handle.card if handle and handle.card != start.card else self.view.card_at(at)
        partners = self.partners(card) if card else []
        target = (
            End(card, handle.port)
            if handle and card == handle.card and handle.port in partners
            else End(card, partners[0])
            if card and partners
            else None
        )
        link = self.link
        self.give_up()
        if target is not None:
            self.connect_ends(start, target, where)
        elif card is None and (at - self.view.cards[start.card].handles[start.port]).manhattanLength() > 20:
            self.view.search_wanted.emit(where, start if link else None)
        elif card and card != start.card:
            self.view.status_message.emit(
                f"{self.view.session.drive.cards[card].name} has no free port that fits this wire."
            )
        self.view.redraw()

    def connect_ends(self, a: End, b: End, where: QPoint | None = None) -> None:
        """Add the wire; where a part offers several signals, the fitting one is taken or asked for."""
        kinds = self.view.kinds()
        if b.port == SIGNALS or (b.port != SIGNALS and end_exists(self.view.session.drive, kinds, a) is Link.SIGNAL_IN):
            a, b = b, a
        if a.port == SIGNALS:
            signal = self.choose_signal(a.card, b, where)
            if signal is None:
                return
            a = End(a.card, signal)
        self.view.session.do(commands.add_wire(self.view.session.drive, a, b))

    def choose_signal(self, card: str, target: End, where: QPoint | None, drive: Drive | None = None) -> str | None:
        """The signal of a part that suits a port; where several do, the user is asked at ``where``, or the
        first is taken. None when the user took none. ``drive`` may be one that is not shown yet."""
        drive = drive or self.view.session.drive
        kind = kind_of(drive.cards[card])
        assert isinstance(kind, Part)
        target = resolved(drive, target)
        port, unit_there = kind_of(drive.cards[target.card]).port(target.port), signal_unit(drive, target)
        wanted = (port.takes if port else ()) or ((unit_there,) if unit_there else ())
        same = [s for s in kind.signals if s.unit in wanted]
        alike = [s for s in kind.signals if unit(s.unit)[1] in [unit(text)[1] for text in wanted]]
        fitting = same or alike or list(kind.signals)
        if len(fitting) == 1 or where is None:
            return fitting[0].name
        menu = QMenu(self.view)
        actions = {menu.addAction(literal(f"{s.label}  ({s.unit})" if s.unit else s.label)): s.name for s in fitting}
        chosen = menu.exec(where)
        return actions.get(chosen) if chosen else None
