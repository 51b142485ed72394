"""What machines lose in the same way: resistances that grow with temperature, and iron that brakes."""

from __future__ import annotations

from collections.abc import Mapping

import casadi as ca

from pendel.core.catalogue.declare import Link, Port, Signal, Value
from pendel.core.equations.context import PartContext
from pendel.core.vocabulary import SignalRole

COPPER = 0.00393
"""1/K, temperature coefficient of copper's resistance about 20 °C: IEC 60034-1, 8.6.2.1 (as 1/(235 + 20),
from memory)."""

TEMPERATURE = Value("T_w", "Winding at", "°C", "20", low=-60.0, high=250.0)
IRON = (
    Value("P_fe", "Iron loss", "W", "0", low=0.0),
    Value("n_fe", "at the speed", "rpm", "1000", low=0.0, open_low=True),
)


HEAT_PORT = Port("heat", Link.HEAT, "Heat of the winding", "top", required=False)
WINDING_TEMPERATURE = Signal("winding_temperature", "winding temperature", "°C", role=SignalRole.TEMPERATURE)


def by_temperature(c: PartContext, resistance: ca.SX, entered: ca.SX | float) -> ca.SX:
    """A winding's resistance at the temperature of its heat port, where that is wired; else as it is. ``entered`` is
    the temperature (°C) at which ``resistance`` holds."""
    if not c.has(HEAT_PORT.name):
        c.signal(WINDING_TEMPERATURE.name, ca.SX(entered))
        return resistance
    temperature = c.line(HEAT_PORT.name).across
    c.signal(WINDING_TEMPERATURE.name, temperature)
    return resistance * (1.0 + COPPER * (temperature - 20.0)) / (1.0 + COPPER * (entered - 20.0))


def heats(c: PartContext, power: ca.SX) -> None:
    """Heat (W) of a winding goes to its port, where that is wired."""
    if c.has(HEAT_PORT.name):
        c.equation(c.line(HEAT_PORT.name).through + power)


def warmer(v: Mapping[str, float]) -> float:
    """Resistance at the temperature of the winding, over that at 20 °C, at which it is entered."""
    return 1.0 + COPPER * (v["T_w"] - 20.0)


def iron_drag(v: Mapping[str, float]) -> float:
    """N·m·s/rad. Iron loss is the eddy share alone, which grows with the square of the speed."""
    return v["P_fe"] / v["n_fe"] ** 2
