"""What a port connects to, where a card stands, and what a card is to the equations."""

from __future__ import annotations

from enum import Enum


class Nature(Enum):
    """What becomes of a card: a part states equations, a block is updated at ticks, a folded card is what is
    inside it."""

    PART = "part"
    BLOCK = "block"
    FOLDED = "folded"


class Deck(Enum):
    POWER = "power"
    SENSOR = "sensor"
    CONTROL = "control"


class Link(Enum):
    """What a port connects to. Only equal links can be wired, but for a line that earths a DC pair.

    ``lines`` is how many lines run along a wire of the link, each with a quantity that is equal at its ends
    (``across``) and
    one that sums to zero where wires meet (``through``), both in SI units; a signal has none. ``style`` is
    how it is drawn.
    """

    lines: int
    across: str
    through: str
    style: str

    DC = ("dc", 2, "V", "A", "dc")
    LINE = ("line", 1, "V", "A", "line")
    AC3 = ("three-phase", 3, "V", "A", "three-phase")
    SHAFT = ("shaft", 1, "rad/s", "N·m", "shaft")
    ROD = ("rod", 1, "m/s", "N", "rod")
    HEAT = ("heat", 1, "°C", "W", "heat")
    SIGNAL_IN = ("signal in", 0, "", "", "")
    SIGNAL_OUT = ("signal out", 0, "", "", "")

    def __new__(cls, word: str, lines: int, across: str, through: str, style: str) -> Link:
        link = object.__new__(cls)
        link._value_ = word
        link.lines, link.across, link.through, link.style = lines, across, through, style
        return link

    @property
    def is_signal(self) -> bool:
        return self.lines == 0

    @property
    def is_electrical(self) -> bool:
        return self.across == "V"

    @property
    def moves(self) -> bool:
        """Whether something turns or travels at it."""
        return self in (Link.SHAFT, Link.ROD)
