"""What turns rotation into travel by grip: a wheel that slips, and a vehicle on two axles.

The force a wheel hands on is its load times a friction that depends on its slip alone, rises to a peak and
falls to what a locked or spinning wheel still has; the curve is sin(C·atan(B·κ)), the first part of Pacejka's
formula (Tyre and Vehicle Dynamics, 3rd ed., section 4.3.1; from memory). On a vehicle the driving force at
the ground and the inertia at the centre of gravity shift load between its axles: Gillespie, Fundamentals of
Vehicle Dynamics, chapter 1 (from memory)."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any

import casadi as ca
import numpy as np

from pendel.core.catalogue.declare import (
    Contradiction,
    Curve,
    Figure,
    Link,
    Part,
    Port,
    Signal,
    State,
    Value,
    Values,
)
from pendel.core.drive.document import Card
from pendel.core.equations.context import PartContext
from pendel.core.vocabulary import SignalRole

GRAVITY = 9.80665
"""m/s², standard gravity (ISO 80000-3)."""
CREEP = 0.05
"""m/s. Rolling resistance, which has the sign of the speed, comes up over this speed."""

GRIP = (
    Value("mu", "Greatest friction", "", "0.9", low=0.0, open_low=True),
    Value("kappa", "Slip at the peak", "%", "12", low=0.0, open_low=True, high=1.0),
    Value("slide", "Left when sliding", "%", "75", low=0.0, high=1.0, open_low=True),
    Value("v_s", "Slip refers to", "m/s", "0.5", low=0.0, open_low=True),
)
RADIUS = Value("r", "Wheel radius", "mm", "280", low=0.0, open_low=True)
J_WHEEL = Value("J_w", "Inertia of the wheel", "kg·m²", "0.8", low=0.0, open_low=True)
J_AXLE = replace(J_WHEEL, label="Inertia, axle", default="1.2")


def shape(slide: Any, atan: Any = math.atan, tan: Any = math.tan, asin: Any = math.asin) -> tuple[Any, Any]:
    """C and B·κ_peak of the curve: its limit is sin(C·π/2) = ``slide``, and its peak where the atan is
    π/(2C)."""
    c = 2 - 2 / math.pi * asin(slide)
    return c, tan(math.pi / (2 * c))


def friction_at(slip: ca.SX, mu: ca.SX, kappa: ca.SX, slide: ca.SX) -> ca.SX:
    c, reach = shape(slide, ca.atan, ca.tan, ca.asin)
    return mu * ca.sin(c * ca.atan(reach * slip / kappa))


def slip_of(c: PartContext, rim: ca.SX, v: ca.SX) -> ca.SX:
    """What the rim's speed is beyond the ground's, over the ground's; near standstill over ``v_s``."""
    return (rim - v) / ca.sqrt(v * v + c.value("v_s") ** 2)


def grip(c: PartContext, slip: ca.SX) -> ca.SX:
    return friction_at(slip, c.value("mu"), c.value("kappa"), c.value("slide"))


def axle_speed(c: PartContext, port: str, name: str) -> tuple[ca.SX, ca.SX, ca.SX]:
    """Speed of a wheel that has inertia, so that it may also roll freely; its derivative, and the torque from
    its shaft."""
    across, torque = c.flange(port)
    omega, slope = c.state(name)
    c.equation(omega - across)
    return omega, slope, torque


def build_wheel(c: PartContext) -> None:
    omega, slope, torque = axle_speed(c, "axle", "omega")
    v, through = c.flange("road")
    rim = c.value("r") * omega
    slip = slip_of(c, rim, v)
    force = c.value("N") * grip(c, slip)
    loss = force * (rim - v)
    c.equation(c.value("J_w") * slope - (torque - c.value("r") * force))
    c.equation(through + force)
    c.stored(c.value("J_w") * omega * omega / 2)
    c.signal("force", force)
    c.signal("slip", slip)
    c.signal("speed", v)
    c.signal("torque", torque)
    c.signal("power", force * v)
    c.signal("loss", loss)
    c.lost(loss)


def build_vehicle(c: PartContext) -> None:
    """m·dv/dt = F_front + F_rear − m·g·sin α − ½·ρ·c_wA·v·|v| − c_r·m·g·cos α.

    All but the driving force acts at the centre of gravity, so that the driving force F_t at the ground
    shifts the load F_t·h/l from front to rear. As F_t is itself load times friction, F_t·(1 + (μ_f −
    μ_r)·h/l) = μ_f·W_f + μ_r·W_r."""
    v, dv = c.state("v")
    place, dx = c.state("x")
    m, r = c.value("m"), c.value("r")
    slope = ca.atan(c.profile())
    weight = m * GRAVITY * ca.cos(slope)
    standing = (weight * c.value("front"), weight * (1 - c.value("front")))
    axles = [axle_speed(c, name, f"omega_{name}") for name in AXLES]
    slips = [slip_of(c, r * omega, v) for omega, *_ in axles]
    mu_f, mu_r = (grip(c, slip) for slip in slips)
    lever = c.value("h") / c.value("l")
    driving = (mu_f * standing[0] + mu_r * standing[1]) / (1 + (mu_f - mu_r) * lever)
    # An axle that has lifted off carries nothing and can lose no more.
    shift = ca.fmax(-standing[1], ca.fmin(standing[0], driving * lever))
    loads = (standing[0] - shift, standing[1] + shift)
    forces = (mu_f * loads[0], mu_r * loads[1])
    air = 0.5 * c.value("rho") * c.value("c_wA") * v * ca.fabs(v)
    rolling = c.value("c_r") * weight * ca.tanh(v / CREEP)
    climbing = m * GRAVITY * ca.sin(slope)
    c.equation(m * dv - (forces[0] + forces[1] - air - rolling - climbing))
    c.equation(dx - v)
    loss, stored = (air + rolling) * v, m * v * v / 2
    for name, (omega, slope_of, torque), slip, load, force in zip(AXLES, axles, slips, loads, forces):
        c.equation(c.value("J_w") * slope_of - (torque - r * force))
        loss += force * (r * omega - v)
        stored += c.value("J_w") * omega * omega / 2
        c.signal(f"load_{name}", load)
        c.signal(f"force_{name}", force)
        c.signal(f"slip_{name}", slip)
    c.signal("speed", v)
    c.signal("position", place)
    c.signal("acceleration", dv)
    c.signal("resistance", air + rolling + climbing)
    c.signal("power", (forces[0] + forces[1]) * v)
    c.signal("loss", loss)
    c.stored(stored)
    c.lost(loss)
    c.delivered(climbing * v)


def grip_curve(v: Values, card: Card) -> Curve:
    slips = np.linspace(0.0, max(1.0, 4 * v["kappa"]), 201)
    c, reach = shape(v["slide"])
    return Curve(
        "Friction over slip",
        "Slip",
        "%",
        "",
        slips,
        v["mu"] * np.sin(c * np.arctan(reach * slips / v["kappa"])),
        mark=(v["kappa"], v["mu"]),
    )


def wheel_follows(v: Values, card: Card) -> list[Figure]:
    return [
        Figure("Greatest force", "F_max", v["mu"] * v["N"], "N"),
        Figure("at a torque of", "M_max", v["mu"] * v["N"] * v["r"], "N·m"),
    ]


def vehicle_follows(v: Values, card: Card) -> list[Figure]:
    """On the level, from rest: with one axle driven, m·a = μ·W/(1 ∓ μ·h/l), with both μ·g; Gillespie, chapter
    2 (from memory)."""
    front, rear = v["mu"] * GRAVITY * v["front"], v["mu"] * GRAVITY * (1 - v["front"])
    lever = v["mu"] * v["h"] / v["l"]
    return [
        Figure("Accelerates, front driven", "a_f", front / (1 + lever), "m/s²"),
        Figure("rear driven", "a_r", min(rear / (1 - lever), v["mu"] * GRAVITY), "m/s²"),
        Figure("both driven", "a", v["mu"] * GRAVITY, "m/s²"),
    ]


def stands(v: Values, card: Card) -> list[Contradiction]:
    if v["mu"] * v["h"] >= 0.95 * v["l"]:
        return [
            Contradiction(
                f"with a friction of {v['mu']:.3g} it tips over before its wheels slip, as its centre of "
                f"gravity at {v['h']:.3g} m is too high for {v['l']:.3g} m between the axles. Lower it or "
                "the friction.",
                "h",
            )
        ]
    return []


AXLES = ("front", "rear")
AXLE_SIGNALS = tuple(
    Signal(f"{name}_{axle}", f"{words} of the {axle} axle", unit)
    for axle in AXLES
    for name, words, unit in (("load", "load", "N"), ("force", "force", "N"), ("slip", "slip", ""))
)
KINDS = (
    Part(
        id="wheel",
        title="Wheel with slip",
        sentence="Turns rotation into travel by the grip of a wheel under a constant load.",
        group="mechanics",
        keywords="tyre tire rail traction adhesion grip friction",
        ports=(Port("axle", Link.SHAFT, "Axle", "left"), Port("road", Link.ROD, "Travel", "right")),
        values=(RADIUS, J_WHEEL, Value("N", "Load", "N", "2500", low=0.0, open_low=True), *GRIP),
        states=(State("omega", "speed", "rad/s"),),
        signals=(
            Signal("force", "force", "N"),
            Signal("slip", "slip", ""),
            Signal("speed", "travel speed", "m/s", role=SignalRole.SPEED),
            Signal("torque", "axle torque", "N·m"),
            Signal("power", "power", "W"),
            Signal("loss", "loss", "W"),
        ),
        build=build_wheel,
        follows=wheel_follows,
        curve=grip_curve,
        summary=lambda v, card: (f"r {v['r']}", f"μ {v['mu']}"),
        main_signal="force",
        spine="◎",
    ),
    Part(
        id="vehicle",
        title="Vehicle",
        sentence="A body on two axles that slip, with weight transfer, air, rolling resistance and slope.",
        group="mechanics",
        keywords="car cart body wheel axle traction slope hill grade drag road",
        ports=(
            Port("front", Link.SHAFT, "Front axle", "left", required=False),
            Port("rear", Link.SHAFT, "Rear axle", "left", required=False),
        ),
        values=(
            Value("m", "Mass", "kg", "640", low=0.0, open_low=True),
            RADIUS,
            J_AXLE,
            Value("front", "Weight in front", "%", "50", low=0.0, high=1.0),
            Value("l", "Distance of the axles", "m", "1.9", low=0.0, open_low=True),
            Value("h", "Height of its centre", "m", "0.55", low=0.0),
            Value("c_wA", "Drag area", "m²", "0.8", low=0.0),
            Value("rho", "Density of air", "kg/m³", "1.2", low=0.0),
            Value("c_r", "Rolling resistance", "%", "1", low=0.0),
            *GRIP,
        ),
        states=(
            State("v", "speed", "m/s"),
            State("x", "position", "m"),
            State("omega_front", "speed of the front axle", "rad/s"),
            State("omega_rear", "speed of the rear axle", "rad/s"),
        ),
        signals=(
            Signal("speed", "travel speed", "m/s", role=SignalRole.SPEED),
            Signal("position", "position", "m", role=SignalRole.DISTANCE),
            Signal("acceleration", "acceleration", "m/s²"),
            *AXLE_SIGNALS,
            Signal("resistance", "air, rolling and slope", "N"),
            Signal("power", "power", "W"),
            Signal("loss", "loss", "W"),
        ),
        build=build_vehicle,
        follows=vehicle_follows,
        contradictions=stands,
        curve=grip_curve,
        has_profile=("Slope", "%"),
        profile_optional=True,
        summary=lambda v, card: (v["m"], f"μ {v['mu']}"),
        usual=(tuple(f"slip_{axle}" for axle in AXLES),),
        main_signal="speed",
        spine="▭",
    ),
)
