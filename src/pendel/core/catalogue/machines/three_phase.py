"""What three-phase machines have in common: their ports, the signals of their phases, and their rotor."""

from __future__ import annotations

from collections.abc import Iterable

import casadi as ca

from pendel.core.catalogue.declare import Link, Port, Signal
from pendel.core.equations.context import PartContext
from pendel.core.vocabulary import SignalRole

PHASES = ("a", "b", "c")
PORTS = (Port("phases", Link.AC3, "Three phases", "left"), Port("shaft", Link.SHAFT, "Shaft", "right"))
SIGNALS = (
    Signal("speed", "speed", "rad/s", role=SignalRole.SPEED),
    Signal("torque", "torque", "N·m", role=SignalRole.TORQUE),
    Signal("current", "current, peak", "A", role=SignalRole.MACHINE_CURRENT),
    *(Signal(f"current_{n}", f"current of phase {n}", "A", role=SignalRole.PHASE_CURRENT) for n in PHASES),
    *(Signal(f"voltage_{n}", f"voltage of phase {n}", "V", role=SignalRole.PHASE_VOLTAGE) for n in PHASES),
    Signal("angle", "angle", "rad", role=SignalRole.SHAFT_ANGLE),
    Signal("shaft_torque", "shaft torque", "N·m"),
    Signal("power", "shaft power", "W"),
    Signal("copper_loss", "copper loss", "W", role=SignalRole.COPPER_LOSS),
    Signal("loss", "loss", "W"),
)


def report_phases(c: PartContext, currents: Iterable[ca.SX]) -> None:
    """Let the phase currents flow into an open star, and tell them and the voltages against its middle."""
    pins = c.pins("phases")
    star = sum((pin.across for pin in pins), ca.SX(0)) / 3.0
    for name, pin, current in zip(PHASES, pins, currents):
        c.equation(pin.through - current)
        c.signal(f"current_{name}", current)
        c.signal(f"voltage_{name}", pin.across - star)


class Rotor:
    """Speed and angle of a machine's rotor as states of the part."""

    def __init__(self, c: PartContext) -> None:
        self.c = c
        self.shaft_speed, self.load = c.flange("shaft")
        self.speed, self.d_speed = c.state("omega")
        self.angle, self.d_angle = c.state("phi")

    def turn(self, torque: ca.SX, drag: ca.SX) -> None:
        """J·dω/dt = M − drag·ω + what the shaft brings (N·m), with the signals of the shaft."""
        c = self.c
        c.equation(self.speed - self.shaft_speed)
        c.equation(self.d_angle - self.speed)
        c.equation(c.value("J_m") * self.d_speed - (torque - drag * self.speed + self.load))
        for name, value in (
            ("speed", self.speed),
            ("torque", torque),
            ("angle", self.angle),
            ("shaft_torque", -self.load),
            ("power", -self.load * self.speed),
        ):
            c.signal(name, value)

    @property
    def energy(self) -> ca.SX:
        return self.c.value("J_m") * self.speed * self.speed / 2
