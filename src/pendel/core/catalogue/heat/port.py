"""The port through which a part gives its losses away as heat; it may be left alone."""

from __future__ import annotations

from pendel.core.catalogue.declare import Link, Port, Signal
from pendel.core.equations.context import HEAT
from pendel.core.vocabulary import SignalRole


def heat_port(title: str = "Heat of its losses", name: str = HEAT) -> Port:
    return Port(name, Link.HEAT, title, "top", required=False)


def temperature_of(what: str, name: str = "temperature") -> Signal:
    return Signal(name, f"{what} temperature", "°C", role=SignalRole.TEMPERATURE)
