"""What the operator panel shows and acts on: the board where one is connected, else the live run, else
nothing."""

from __future__ import annotations

from collections.abc import Callable

from pendel.app.bench.board import Board, LinkState
from pendel.core.bench.facts import Order
from pendel.core.check.values import unit_in_use
from pendel.core.drive.document import PANEL_ORDERS
from pendel.core.errors import PendelError
from pendel.core.live.frames import Points

ORDERS = dict(zip(PANEL_ORDERS, (Order.ENABLE, Order.IDLE, Order.ACKNOWLEDGE)))

OTHER_CODE = (
    "The board's code is not that of this drive: build and load. Values that are changed while it runs are made live "
    "on Firmware first."
)


class PanelSource:
    def __init__(self, board: Board):
        self.board, self.session = board, board.session

    @property
    def on_board(self) -> bool:
        return self.board.link is LinkState.OPEN and self.board.matches

    @property
    def words(self) -> str:
        """What it is connected to, or what to do, in a sentence."""
        if self.on_board:
            return "The panel acts on the board."
        if self.session.live is not None:
            return "The panel acts on the live run."
        if self.board.link is LinkState.OPEN:
            return OTHER_CODE
        return "Nothing runs: connect to a board, or start a live run."

    def watch(self, keys: list[str]) -> None:
        """Have these signals from now on."""
        self.board.watched = keys

    def value(self, key: str) -> float | None:
        """A signal as it is now, or a value of the drive, in SI."""
        card, _, name = key.partition(".")
        values = self.session.examined.values.get(card, {})
        if self.on_board and key in self.board.figures:
            return self.board.figures[key]
        live = self.session.live
        if not self.on_board and live is not None and key in live.traces:
            y = live.traces[key][1]
            return float(y[-1]) if len(y) else None
        return values.get(name)

    def course(self, key: str) -> Points | None:
        """What a signal of the live run did lately: times (s) and values."""
        live = self.session.live
        return live.traces.get(key) if live is not None and not self.on_board else None

    def units(self) -> Callable[[str], tuple[str, str]]:
        """Gives of each target of the drive as it is the unit that belongs to it, and the one in which it is read."""
        drive, infos, shown = self.session.drive, self.infos, self.session.shelf.units

        def units(target: str) -> tuple[str, str]:
            if target in infos:
                declared = infos[target].unit
                return declared, shown.of(target, declared)
            card, _, name = target.partition(".")
            try:
                unit = unit_in_use(drive, card, name) if card in drive.cards else ""
            except PendelError:  # a finding says what is wrong with it
                unit = ""
            return unit, unit

        return units

    @property
    def infos(self) -> dict:
        from pendel.core.runs.preparing.simulate import signal_infos

        return signal_infos(self.session.drive)

    def order(self, target: str) -> str:
        """Give an order; returns a sentence where it cannot be."""
        if not self.on_board:
            return "There is no board that could be ordered. Connect to one first."
        self.board.order(ORDERS[target])
        return ""
