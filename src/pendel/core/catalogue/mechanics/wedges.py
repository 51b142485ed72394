"""Worm gear and screw: thread flanks that slide, and may hold a load by themselves.

With the lead angle γ and the friction angle ρ of the flanks, the driving side needs M = M'·tan(γ + ρ)/tan γ
to lift what the driven side asks for, M', and M = M'·tan(γ − ρ)/tan γ to hold it while it sinks. Where ρ is
above γ the latter is negative: the load cannot turn the thread, it must be driven down. Shigley: Mechanical
Engineering Design, sections on power screws and worm gearing (from memory).
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

import casadi as ca

from pendel.core.catalogue.declare import Contradiction, Figure, Link, Part, Port, Signal, Value, Values
from pendel.core.catalogue.heat.port import heat_port
from pendel.core.catalogue.mechanics.transmissions import DEAD_BAND
from pendel.core.drive.document import Card
from pendel.core.equations.context import PartContext

PRESSURE_ANGLE = math.radians(20.0)
"""Of worm teeth, measured square to the flank; it raises the friction angle."""


Angles = Callable[[Callable[[str], Any]], tuple[ca.SX, ca.SX]]
"""Lead angle and angle of friction (rad) from what gives a value by its name."""


def lifting(gamma: Any, rho: Any) -> Any:
    """Efficiency with the load against the movement."""
    return ca.tan(gamma) / ca.tan(gamma + rho)


def lowering(gamma: Any, rho: Any) -> Any:
    """Torque in per torque of the load while the load sinks; below zero the thread holds by itself."""
    return ca.tan(gamma - rho) / ca.tan(gamma)


def sliding_flanks(c: PartContext, gamma: ca.SX, rho: ca.SX, turn: ca.SX, load: ca.SX) -> ca.SX:
    """Friction of the flanks on the shaft that drives; ``load`` is what the other side asks for, reflected to
    it."""
    w, dw = c.state("w", helper=True)
    c.equation(w - turn)
    negative = c.mode("load_negative", 0)
    sign = 1 - 2 * negative.symbol
    negative.transitions += [(0, -load - DEAD_BAND, 1), (1, load - DEAD_BAND, 0)]
    up, down = lifting(gamma, rho), lowering(gamma, rho)

    def level(direction: ca.SX) -> ca.SX:
        lifts = (1 + direction * sign) / 2
        return load * (lifts * (1 / up - 1) + (1 - lifts) * (down - 1))

    return c.loss_by_load(w, dw, sliding=level, forward=level(ca.SX(1)), backward=-level(ca.SX(-1)))


def finish(c: PartContext, loss: ca.SX) -> None:
    c.signal("loss", loss)
    c.lost(loss)


def worm_angles(value: Callable[[str], Any]) -> tuple[ca.SX, ca.SX]:
    gamma, mu = value("gamma"), value("mu")
    return gamma, ca.atan(mu / math.cos(PRESSURE_ANGLE))


def build_worm(c: PartContext) -> None:
    speed_a, torque_a = c.flange("a")
    speed_b, torque_b = c.flange("b")
    ratio = c.value("ratio")
    load = -torque_b / ratio
    friction = sliding_flanks(c, *worm_angles(c.value), speed_a, load)
    c.equation(speed_a - ratio * speed_b)
    c.equation(torque_a - load - friction)
    c.signal("speed", speed_b)
    c.signal("torque", -torque_b)
    c.signal("input_torque", torque_a)
    c.signal("power", -torque_b * speed_b)
    finish(c, torque_a * speed_a + torque_b * speed_b)


def screw_angles(value: Callable[[str], Any]) -> tuple[ca.SX, ca.SX]:
    return ca.atan(value("lead") / (ca.pi * value("d_m"))), ca.atan(value("mu"))


def build_screw(c: PartContext) -> None:
    """v = ω·lead/2π."""
    omega, torque = c.flange("shaft")
    v, force = c.flange("nut")
    travel = c.value("lead") / (2 * ca.pi)
    load = -force * travel
    friction = sliding_flanks(c, *screw_angles(c.value), omega, load)
    c.equation(v - travel * omega)
    c.equation(torque - load - friction)
    c.signal("speed", v)
    c.signal("force", -force)
    c.signal("torque", torque)
    c.signal("power", -force * v)
    finish(c, torque * omega + force * v)


def efficiencies(angles: Angles) -> Callable[[Values, Card], list[Figure]]:
    def follows(v: Values, card: Card) -> list[Figure]:
        gamma, rho = (float(ca.DM(x)) for x in angles(lambda n: v[n]))
        up, down = float(lifting(gamma, rho)), float(lowering(gamma, rho))
        figures = [Figure("Efficiency driving", "η", up, "%")]
        if down > 0:
            return [*figures, Figure("Efficiency driven back", "η'", down, "%")]
        return [*figures, Figure("Holds by itself; driving down takes of the load's torque", "", -down, "%")]

    return follows


def steep(angles: Angles, name: str) -> Callable[[Values, Card], list[Contradiction]]:
    def check(v: Values, card: Card) -> list[Contradiction]:
        gamma, rho = (float(ca.DM(x)) for x in angles(lambda n: v[n]))
        if gamma + rho >= math.radians(85.0):
            return [
                Contradiction("The thread is so steep and rough that nothing can drive it. Lower the friction.", name)
            ]
        return []

    return check


FRICTION = Value("mu", "Friction of the flanks", "", "0.08", low=0.0, high=1.0)
KINDS = (
    Part(
        id="worm_gear",
        title="Worm gear",
        sentence="A large ratio in one step; with a small lead angle the load cannot turn it back.",
        group="mechanics",
        keywords="gear self-locking holds screw reduction transmission",
        ports=(Port("a", Link.SHAFT, "Worm", "left"), Port("b", Link.SHAFT, "Wheel", "right"), heat_port()),
        values=(
            Value("ratio", "Ratio, worm to wheel", "", "40", low=0.0, open_low=True),
            Value("gamma", "Lead angle", "deg", "4.5", low=0.0, open_low=True, high=math.radians(60.0)),
            FRICTION,
        ),
        signals=(
            Signal("speed", "wheel speed", "rad/s"),
            Signal("torque", "wheel torque", "N·m"),
            Signal("input_torque", "worm torque", "N·m"),
            Signal("power", "power", "W"),
            Signal("loss", "loss", "W"),
        ),
        build=build_worm,
        follows=efficiencies(worm_angles),
        contradictions=steep(worm_angles, "mu"),
        summary=lambda v, card: (f"{v['ratio']} : 1", f"μ {v['mu']}"),
        main_signal="torque",
        spine="∞",
    ),
    Part(
        id="screw",
        title="Screw",
        sentence="Turns rotation into travel by a thread, which may hold the load by itself.",
        group="mechanics",
        keywords="spindle lead nut linear self-locking ball thread",
        ports=(Port("shaft", Link.SHAFT, "Screw", "left"), Port("nut", Link.ROD, "Nut", "right"), heat_port()),
        values=(
            Value("lead", "Lead, travel a turn", "mm", "5", low=0.0, open_low=True),
            Value("d_m", "Mean diameter", "mm", "20", low=0.0, open_low=True),
            FRICTION,
        ),
        signals=(
            Signal("speed", "nut speed", "m/s"),
            Signal("force", "force of the nut", "N"),
            Signal("torque", "torque of the screw", "N·m"),
            Signal("power", "power", "W"),
            Signal("loss", "loss", "W"),
        ),
        build=build_screw,
        follows=efficiencies(screw_angles),
        contradictions=steep(screw_angles, "mu"),
        summary=lambda v, card: (f"lead {v['lead']}", f"μ {v['mu']}"),
        main_signal="force",
        spine="∞",
    ),
)
