"""Ports and values that many blocks share."""

from __future__ import annotations

from pendel.core.catalogue.declare import ANY, Contradiction, Link, Port, Value, Values
from pendel.core.drive.document import Card
from pendel.core.vocabulary import SignalRole, ValueRole


def reads(
    name: str,
    label: str,
    *,
    side: str = "right",
    unit: str = ANY,
    required: bool = True,
    role: SignalRole | None = None,
) -> Port:
    return Port(name, Link.SIGNAL_IN, label, side, unit, required, role=role)


def gives(name: str = "out", label: str = "Output", *, unit: str = ANY, role: SignalRole | None = None) -> Port:
    return Port(name, Link.SIGNAL_OUT, label, "left", unit, role=role)


LONGEST = 1_000_000
"""Ticks that a delay or a window may last; its memory is as long."""
EVERY = Value("every", "Every … ticks", "", "1", low=1.0, high=100000.0, whole=True, role=ValueRole.PERIODS)
TIMER = Value("timer", "Timer steps", "", "", low=2.0, high=1e9, whole=True)
"""Of a modulator: duties are whole parts of it, as a timer sets them."""
LIMITS = (Value("low", "Lower limit", ANY, "-48"), Value("high", "Upper limit", ANY, "48"))


def limits_cross(v: Values, card: Card) -> list[Contradiction]:
    if v["low"] >= v["high"]:
        return [Contradiction("The lower limit is not below the upper limit. Correct one of the two.", "low")]
    return []
