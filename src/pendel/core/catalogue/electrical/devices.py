"""Semiconductors as equations: what circuits and converters are built from.

A conducting device is a resistance with a drop, a blocking one a large resistance. They are stated as
conductances: eliminating node potentials then keeps leaks of 1e-9 S beside conductances of 100 S, where
resistances lost them to rounding. A diode stops at the zero of
its current and starts when its voltage passes its drop; the time loop locates both.
Erickson, Maksimović: Fundamentals of Power Electronics, 3rd ed., chapter 4.
"""

from __future__ import annotations

from dataclasses import dataclass

import casadi as ca

from pendel.core.equations.context import PartContext

TINY_VOLTAGE = 1e-6
"""A diode starts this much beyond its drop, so that rounding at zero current cannot start it again."""
TINY_CURRENT = 1e-7
ROUNDED_VOLTAGE = 2e-12
HAIR = 1e-3
FLATTER = 1e4
"""Slope of a saturated channel over that of a conducting one."""
OFF_OVER_ON = 1e9
"""Blocking over conducting resistance where the user gives none; kept within the bounds below."""
OFF_LEAST, OFF_MOST = 1e6, 1e9


def off_resistance(on: float, given: float = float("nan")) -> float:
    """Blocking resistance (ohm): as given, else from the conducting one, which tells the circuit's impedance
    level."""
    return given if given == given else min(OFF_MOST, max(OFF_LEAST, OFF_OVER_ON * on))


@dataclass(frozen=True)
class Device:
    """Voltage across (V) and current through (A) a device in its forward direction."""

    u: ca.SX
    i: ca.SX

    @property
    def loss(self) -> ca.SX:
        return self.u * self.i


@dataclass(frozen=True)
class Ratings:
    """What the equations of a device take: resistances (ohm), drops (V), saturation current (A)."""

    r_on: ca.SX
    r_off: ca.SX
    drop: ca.SX
    """Of the diode."""
    r_diode: ca.SX
    saturates_at: ca.SX | None = None
    """Current that a transistor passes at most; none where it is taken as a plain resistance."""
    on_drop: ca.SX | None = None
    """Of an IGBT, whose channel passes current forward only; a MOSFET's passes it both ways without a
    drop."""


def tiny_current(ratings: Ratings) -> ca.SX:
    """Reverse current (A) at which a diode stops: above what rounding of volts makes of a small
    resistance."""
    return TINY_CURRENT + ROUNDED_VOLTAGE / ratings.r_diode


def diode(c: PartContext, name: str, u: ca.SX, ratings: Ratings) -> Device:
    """A diode with the voltage ``u`` from anode to cathode."""
    i = c.unknown(f"{name}.i")
    mode = c.mode(name, 0)
    on = mode.symbol
    c.equation(i - on * (u - ratings.drop) / ratings.r_diode - (1 - on) * u / ratings.r_off)
    mode.transitions += [(0, u - ratings.drop - TINY_VOLTAGE, 1), (1, -i - tiny_current(ratings), 0)]
    mode.zero_on_entry = i
    return Device(u, i)


def switch(c: PartContext, u: ca.SX, gate: ca.SX, ratings: Ratings, name: str) -> Device:
    """A switch that conducts both ways while its gate is on and blocks both ways while it is off."""
    i = c.unknown(f"{name}.i")
    c.equation(i - (gate / ratings.r_on + (1 - gate) / ratings.r_off) * u)
    return Device(u, i)


def transistor(c: PartContext, name: str, u: ca.SX, gate: ca.SX, ratings: Ratings) -> Device:
    """A switch with an antiparallel diode; ``u`` from collector or drain to emitter or source."""
    return (mosfet if ratings.on_drop is None else igbt)(c, name, u, gate, ratings)


def mosfet(c: PartContext, name: str, u: ca.SX, gate: ca.SX, ratings: Ratings) -> Device:
    """While the gate is on the channel carries current both ways; while it is off the diode decides."""
    i = c.unknown(f"{name}.i")
    mode = c.mode(name, 0)
    free = (1 - gate) * mode.symbol
    if ratings.saturates_at is None:
        channel = gate * u / ratings.r_on
    else:
        channel = limited(c, name, u, i, gate, ratings.r_on, ratings.saturates_at)
    blocked = (1 - gate) * (1 - mode.symbol) * u / ratings.r_off
    c.equation(i - channel - free * (u + ratings.drop) / ratings.r_diode - blocked)
    mode.transitions += [
        (0, (1 - gate) * (-u - ratings.drop - TINY_VOLTAGE), 1),
        (1, (1 - gate) * (i - tiny_current(ratings)), 0),
    ]
    mode.zero_on_entry = i
    return Device(u, i)


def igbt(c: PartContext, name: str, u: ca.SX, gate: ca.SX, ratings: Ratings) -> Device:
    """The channel carries current forward beyond its drop while the gate is on; backward only the diode
    does."""
    assert ratings.on_drop is not None
    i = c.unknown(f"{name}.i")
    diode_mode, channel_mode = c.mode(name, 0), c.mode(f"{name}_channel", 0)
    on, free = gate * channel_mode.symbol, diode_mode.symbol
    beyond = u - ratings.on_drop
    if ratings.saturates_at is None:
        channel = on * beyond / ratings.r_on
    else:
        channel = limited(c, name, beyond, i, on, ratings.r_on, ratings.saturates_at)
    c.equation(i - channel - free * (u + ratings.drop) / ratings.r_diode - (1 - on) * (1 - free) * u / ratings.r_off)
    diode_mode.transitions += [(0, -u - ratings.drop - TINY_VOLTAGE, 1), (1, i - tiny_current(ratings), 0)]
    # The channel ends with its current, and at once with its gate.
    channel_mode.transitions += [
        (0, gate * (beyond - TINY_VOLTAGE), 1),
        (1, ca.fmax(-i - tiny_current(ratings), 0.5 - gate), 0),
    ]
    diode_mode.zero_on_entry = channel_mode.zero_on_entry = i
    return Device(u, i)


def limited(c: PartContext, name: str, u: ca.SX, i: ca.SX, gate: ca.SX, r_on: ca.SX, maximum: ca.SX) -> ca.SX:
    """A channel that passes ``maximum`` (A) at most, as when both transistors of a leg conduct at once."""
    mode = c.mode(f"{name}_saturated", 0)
    full = mode.symbol
    # A hair of hysteresis: where both of a leg are at the limit, rounding must not throw them to and fro.
    mode.transitions += [(0, gate * (i - (1 + HAIR) * maximum), 1), (1, (1 - HAIR) * r_on * maximum - u, 0)]
    beyond = maximum + (u - r_on * maximum) / (FLATTER * r_on)
    return gate * ((1 - full) * u / r_on + full * beyond)
