"""A machine with its converter and inner loops as limits, a lag and losses, and with its rotor: what stands for them
where a drive runs at the level *system*.

J dω/dt = M − b ω − b_2 ω |ω| + what the shaft brings. M follows what is asked with a lag, within a curve over
speed for driving and one for braking; a link at another voltage moves both along the speed, as the voltage that a
machine needs grows with its speed. Losses are those of `pendel.core.catalogue.systems.envelope`, at the torque behind
the drag."""

from __future__ import annotations

import casadi as ca
import numpy as np

from pendel.core.catalogue.declare import Contradiction, Link, Part, Port, Rows, Signal, State, Value, Values
from pendel.core.catalogue.heat.port import heat_port
from pendel.core.catalogue.settled import Turner
from pendel.core.catalogue.systems.curves import along, along_of, rising, with_slopes
from pendel.core.catalogue.systems.envelope import (
    ASK,
    LIMITS,
    LOSSES,
    loss_of_terms,
    short_of_torque,
    terms_at,
)
from pendel.core.drive.document import Card
from pendel.core.equations.context import PartContext
from pendel.core.vocabulary import Group, SignalRole


def build(c: PartContext) -> None:
    u, i = c.pair("dc")
    shaft_speed, through = c.flange("shaft")
    torque, slope = c.state("M")
    speed, d_speed = c.state("omega")
    angle, d_angle = c.state("phi")
    asked = c.input("torque")
    at = ca.fabs(speed) * c.value("U_0") / ca.fmax(u, LEAST_LINK * c.value("U_0"))
    last = c.value(f"M_{c.rows - 1}")
    most = ca.fmax(ca.fmin(0, last), along(c, at, "n", "M"))  # less than 0 where its voltage is beyond the link's
    least = ca.fmax(0, along(c, at, "n", "B"))
    turned = ca.if_else(speed < 0, -1, 1)
    allowed = turned * ca.fmax(-least, ca.fmin(most, turned * asked))
    drag = (c.value("b") + c.value("b_2") * ca.fabs(speed)) * speed
    given = torque - drag
    inertia = c.value("J_m")
    c.equation(c.value("T_lag") * slope - (allowed - torque))
    c.equation(speed - shaft_speed)
    c.equation(d_angle - speed)
    c.equation(inertia * d_speed - (given + through))
    taken = given * speed + terms_at(c, speed, given)
    c.equation(i - taken / ca.fmax(u, LEAST_LINK * c.value("U_0")))  # no current without end from a dead link
    c.signal("torque", torque)
    c.signal("speed", speed)
    c.signal("angle", angle)
    c.signal("shaft_torque", -through)
    c.signal("power", -through * speed)
    c.signal("link_power", u * i)
    c.signal("link_current", i)
    c.signal("all_losses", u * i - given * speed)
    c.signal("most", most)
    c.signal("missing", asked - allowed)
    c.lost(u * i - given * speed)
    c.stored(inertia * speed * speed / 2)


def equation_values(v: Values, card: Card) -> dict[str, float]:
    return with_slopes(with_slopes(dict(v), len(card.rows), "n", "M"), len(card.rows), "n", "B")


def contradictions(v: Values, card: Card) -> list[Contradiction]:
    if len(card.rows) < 2:
        return [Contradiction("Its limits have fewer than two rows. Add speed and torque.", "rows:0")]
    if (row := rising(dict(v), len(card.rows), "n")) is not None:
        return [Contradiction(f"The speed of row {row + 1} is not above that of the row before.", f"rows:{row}")]
    return []


def most_torque(v: Values, card: Card, speed: np.ndarray) -> np.ndarray:
    """What it may give at speeds (rad/s) at the link voltage of its limits."""
    return np.maximum(0.0, along_of(v, len(card.rows), "n", "M", np.abs(speed)))


LEAST_LINK = 0.1
"""Of the link voltage of the limits: below it, what a voltage does is not looked at any more."""
KIND = Part(
    id="folded_machine",
    title="Machine and converter with rotor, by limits and losses",
    sentence="What stands for a machine with its converter and inner loops at the level system.",
    group=Group.MACHINE,
    keywords="envelope system level trip vehicle rotor fold",
    ports=(Port("dc", Link.DC, "DC link", "left"), Port("shaft", Link.SHAFT, "Shaft", "right"), ASK, heat_port()),
    values=(
        *(value for value in LIMITS if value.name in ("M_max", "T_lag")),
        Value("U_0", "Link voltage of its limits", "V", "100", low=0.0, open_low=True),
        Value("J_m", "Rotor inertia", "kg·m²", "0.05", low=0.0, open_low=True),
        Value("b", "Drag by speed", "N·m·s", "0", low=0.0),
        Value("b_2", "Drag by speed²", "N·m·s²", "0", low=0.0),
        *LOSSES,
    ),
    rows=Rows(
        "Limits",
        (
            Value("n", "Speed", "rpm", "1000", low=0.0),
            Value("M", "Drives", "N·m", "50"),
            Value("B", "Brakes", "N·m", "50", low=0.0),
        ),
        ("1000 rpm", "50 N*m", "50 N*m"),
        (("0 rpm", "120 N*m", "120 N*m"), ("1600 rpm", "120 N*m", "120 N*m"), ("4000 rpm", "48 N*m", "48 N*m")),
        needed=2,
    ),
    states=(State("M", "torque", "N·m"), State("omega", "speed", "rad/s"), State("phi", "angle", "rad")),
    signals=(
        Signal("torque", "torque", "N·m", role=SignalRole.TORQUE),
        Signal("speed", "speed", "rad/s", role=SignalRole.SPEED),
        Signal("angle", "angle", "rad", role=SignalRole.SHAFT_ANGLE),
        Signal("shaft_torque", "shaft torque", "N·m"),
        Signal("power", "shaft power", "W"),
        Signal("link_power", "power of the link", "W"),
        Signal("link_current", "link current", "A"),
        Signal("all_losses", "losses, with the converter's", "W"),
        Signal("most", "torque that it may give", "N·m"),
        Signal("missing", "torque asked beyond that", "N·m"),
    ),
    build=build,
    equation_values=equation_values,
    contradictions=contradictions,
    usual=(("torque", "missing"), ("speed",)),
    remarks=(short_of_torque,),
    summary=lambda v, card: (v["M_max"], v["J_m"]),
    main_signal="speed",
    spine="M",
    settled=Turner(loss=loss_of_terms, most=most_torque, link_power="link_power"),
)
