"""What machines lose in the same way: resistances that grow with temperature, and iron that brakes."""

from __future__ import annotations

from collections.abc import Mapping

import casadi as ca

from pendel.core.catalogue.declare import Value
from pendel.core.catalogue.heat.port import heat_port, temperature_of
from pendel.core.drive.document import Card
from pendel.core.drive.findings import Finding, attention
from pendel.core.equations.context import HEAT, PartContext
from pendel.core.quantities.units import figure

COPPER = 0.00393
"""1/K, temperature coefficient of copper's resistance about 20 °C: IEC 60034-1, 8.6.2.1 (as 1/(235 + 20),
from memory)."""

TEMPERATURE = Value("T_w", "Winding at", "°C", "20", low=-60.0, high=250.0)
LARGE_DRAG = 0.1
"""Of the speed at no load; what bearings and brushes take is some percent (common practice, no source)."""


def drags(card: Card, key: str, friction: float, resistance: float, squared: float) -> list[Finding]:
    """A finding where friction is large beside the machine: at a voltage and without load it takes
    b·R/(k² + b·R) off the speed. ``squared`` is what torque and EMF constant, multiplied, amount to
    for its ``resistance``."""
    if squared == 0:  # a machine without magnets has no speed that it would run to by itself
        return []
    taken = friction * resistance / (squared + friction * resistance)
    if not taken > LARGE_DRAG:
        return []
    sentence = (
        f"{card.name}: its viscous friction of {figure(friction, 'N·m·s')} is large beside the machine: without any "
        f"load it takes {100 * taken:.0f} % off the speed of each voltage. Enter less, or 0."
    )
    return [attention(sentence, key, "b_m")]


IRON = (
    Value("P_fe", "Iron loss", "W", "0", low=0.0),
    Value("n_fe", "at the speed", "rpm", "1000", low=0.0, open_low=True),
)


HEAT_PORT = heat_port("Heat of the winding")
IRON_PORT = heat_port("Heat of the iron", "iron")
CAGE_PORT = heat_port("Heat of the cage", "cage")
MAGNET_PORT = heat_port("Temperature of the magnets", "magnet")
WINDING_TEMPERATURE = temperature_of("winding", "winding_temperature")
CAGE_TEMPERATURE = temperature_of("cage", "cage_temperature")
MAGNET_TEMPERATURE = temperature_of("magnet", "magnet_temperature")
MAGNET = Value("k_psi", "ψ over temperature", "%/K", "-0.12", low=-0.01, high=0.0)
"""About 20 °C. Usual for neodymium; −0.2 %/K for ferrite: IEC 60404-8-1 (from memory)."""


def by_temperature(c: PartContext, resistance: ca.SX, entered: ca.SX | float, port: str = HEAT) -> ca.SX:
    """A winding's or cage's resistance at the temperature of its heat port, where that is wired; else as it is.
    ``entered`` is the temperature (°C) at which ``resistance`` holds."""
    temperature = c.temperature(entered, port)
    c.signal((WINDING_TEMPERATURE if port == HEAT else CAGE_TEMPERATURE).name, temperature)
    if not c.has(port):
        return resistance
    return resistance * (1.0 + COPPER * (temperature - 20.0)) / (1.0 + COPPER * (entered - 20.0))


def magnet_flux(c: PartContext, flux: ca.SX) -> ca.SX:
    """Flux (Wb) of the magnets at the temperature of their port, where that is wired; ``flux`` at 20 °C. No loss
    arises in them here; what warms them is what they are wired to."""
    temperature = c.temperature(20.0, MAGNET_PORT.name)
    c.signal(MAGNET_TEMPERATURE.name, temperature)
    if not c.has(MAGNET_PORT.name):
        return flux
    c.warms(ca.SX(0), MAGNET_PORT.name)
    return flux * (1.0 + c.value(MAGNET.name) * (temperature - 20.0))


def lose(c: PartContext, copper: ca.SX, iron: ca.SX, friction: ca.SX) -> None:
    """Losses (W) of a machine, to the ports of winding and iron; what friction takes warms none of these."""
    c.lost(copper)
    c.lost(iron, to=IRON_PORT.name)
    c.lost(friction, to="")


def warmer(v: Mapping[str, float]) -> float:
    """Resistance at the temperature of the winding, over that at 20 °C, at which it is entered."""
    return 1.0 + COPPER * (v["T_w"] - 20.0)


def iron_drag(v: Mapping[str, float]) -> float:
    """N·m·s/rad. Iron loss is the eddy share alone, which grows with the square of the speed."""
    return v["P_fe"] / v["n_fe"] ** 2
