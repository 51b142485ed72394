"""What a signal, a value or a part is to those who do not know its kind: a run that is read, a loop that is
judged, a check.

A kind gives roles where it declares its signals, values and ports. Nobody outside the catalogue asks for a
kind or for the name
of a signal or value.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum, auto


class SignalRole(Enum):
    """Of signals of parts, and of outputs and inputs of blocks. Several signals of one role stand in the
    order of their
    declaration: phases a, b, c; axes d, q or α, β; axles front, rear."""

    CHARGE = auto()
    """Of a store, 1: full."""
    DISTANCE = auto()
    """Travelled by a vehicle, m."""
    FUEL = auto()
    """Burnt since the start, kg."""
    PHASE_CURRENT = auto()
    PHASE_VOLTAGE = auto()
    CURRENT_DQ = auto()
    """In the rotor's frame, A peak."""
    FLUX_DQ = auto()
    """In the rotor's frame, Wb."""
    FLUX_ALPHA_BETA = auto()
    """In the stator's frame, Wb."""
    ROTOR_ANGLE = auto()
    """Electrical angle of a rotor with a field of its own, rad; it is fixed to the shaft."""
    FIELD_ANGLE = auto()
    """Angle of a field that slips against the rotor, rad in the stator's frame."""
    SHAFT_ANGLE = auto()
    SPEED = auto()
    """Of a shaft (rad/s), or of what travels (m/s)."""
    TORQUE = auto()
    """Of a machine, in its air gap."""
    MACHINE_CURRENT = auto()
    """A current a machine's heating follows, A."""
    COPPER_LOSS = auto()
    LINK_VOLTAGE = auto()
    LOAD = auto()
    """What a load does to the drive."""
    LOAD_LEVEL = auto()
    """The profile of a load, whose first rise is a disturbance."""
    GRID_POWER = auto()
    """Power out of a grid, W; negative where it is fed back."""
    TEMPERATURE = auto()
    """Of a winding, a junction or a body, °C."""
    SECTOR = auto()
    """Of block commutation, 1 to 6; 0 where the sensors tell none."""
    HALL_LINE = auto()
    SETPOINT = auto()
    ACTUAL = auto()


class ValueRole(Enum):
    """Of values of cards; all are in SI."""

    DEAD_TIME = auto()
    DROP = auto()
    """A voltage lost by the sign of a current alone."""
    LINK_VOLTAGE = auto()
    """The link voltage it is laid out for."""
    CURRENT_LIMIT = auto()
    """A, peak."""
    VOLTAGE_SHARE = auto()
    """Share of the link voltage's range that a regulator may use."""
    POLE_PAIRS = auto()
    PERIODS = auto()
    """Every how many ticks a block is updated."""
    BEGINS = auto()
    """When a generator starts, s."""
    FREQUENCY = auto()
    """Of a grid, Hz; what its harmonics multiply."""
    TURN_ON_ENERGY = auto()
    TURN_OFF_ENERGY = auto()
    RECOVERY_ENERGY = auto()
    TRANSITION_TIME = auto()
    REFERENCE_VOLTAGE = auto()
    """At which the switching energies hold."""
    REFERENCE_CURRENT = auto()
    TEMPERATURE_LIMIT = auto()
    """°C, of the sheet."""
    GAIN = auto()
    """Multiplies a signal, and so has not the unit of the output."""


Pin = tuple[str, int]
"""A port and the number of the line within it."""


@dataclass(frozen=True)
class Conduction:
    """What a part is to those who look for short circuits: between its ``ends`` it may conduct, or hold a
    voltage.

    ``conducts`` names modes and gates any of which joins the ends; ``joined`` are pins that are one, always;
    ``earths`` is a pin
    that is one with those of all other parts that earth.
    """

    ends: tuple[Pin, Pin] | None = None
    conducts: tuple[str, ...] = ()
    holds_voltage: bool = False
    current: str = "current"
    """The signal that tells what flows out of its first end."""
    stiff: bool = False
    """Whether nothing but the devices limits its current in a short circuit."""
    joined: tuple[tuple[Pin, Pin], ...] = ()
    earths: Pin | None = None


ENERGY_FACTOR = "_energy_factor"
"""Behind a gate's name, the signal of what temperature makes of its device's switching energies."""
