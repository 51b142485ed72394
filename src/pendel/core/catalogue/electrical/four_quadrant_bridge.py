"""Four-quadrant bridge: averaged over a pulse period, or two legs of switches with their pulses."""

from __future__ import annotations

import casadi as ca

from pendel.core.catalogue.declare import Choice, Leg, Link, Port, Signal
from pendel.core.catalogue.electrical.drawings import FOUR_QUADRANT
from pendel.core.catalogue.electrical.legs import leg_converter, leg_port, mean_leg, pulsed_leg
from pendel.core.catalogue.electrical.pulse_values import PULSED, SAMPLING
from pendel.core.equations.context import PartContext
from pendel.core.vocabulary import SignalRole

LEGS = ("a", "b")


def build(c: PartContext) -> None:
    if c.level == "averaged":
        build_averaged(c)
    else:
        build_switching(c)


def build_averaged(c: PartContext) -> None:
    """Both legs by `mean_leg`; the difference of their shares of u_dc is the output, and of i_out the link's
    current."""
    u_dc, i_dc = c.pair("dc")
    u_out, i_out = c.pair("out")
    duty = ca.fmax(-1.0, ca.fmin(1.0, c.input("duty")))
    load = -i_out
    half = 0.5 + 0.5 * duty  # of leg a; leg b carries the current back at the opposite duty
    opposed = c.choice("pattern") == "two levels"
    a = mean_leg(c, "a", half, load, u_dc)
    b = mean_leg(c, "b", 1.0 - half, -load, u_dc, opposed=opposed)
    share, drop = a.share - b.share, a.drop - b.drop
    c.signal("switching_loss", a.switched + b.switched)
    c.equation(u_out - share * u_dc + drop)
    c.equation(i_dc - share * load)
    for name, leg, current in zip(LEGS, (a, b), (load, -load)):
        c.lost(leg.drop * current, to=leg_port(c, name))
        c.warms(leg.switched, leg_port(c, name))
    report(c, u_out, load, u_dc, i_dc, duty, drop * load)


def build_switching(c: PartContext) -> None:
    plus, minus = c.pins("dc")
    poles = c.pins("out")
    currents, loss = [ca.SX(0), ca.SX(0)], ca.SX(0)
    two_levels = c.choice("pattern") == "two levels"
    for name, pole in zip(LEGS, poles):
        # Leg b gets the inverse duty on the same carrier; with two levels it is simply the opposite of leg a.
        inverse = name == "b"
        upper, lower = pulsed_leg(
            c,
            Leg(name),
            "duty",
            plus.across,
            pole.across,
            minus.across,
            flipped=inverse and two_levels,
            offset=0.5,
            scale=-0.5 if inverse and not two_levels else 0.5,
        )
        c.equation(pole.through - lower.i + upper.i)
        currents[0] += upper.i
        currents[1] += lower.i
        loss += upper.loss + lower.loss
        c.signal(f"pole_{name}", pole.across - minus.across)
    c.equation(plus.through - currents[0])
    c.equation(minus.through + currents[1])
    u_dc, u_out = plus.across - minus.across, poles[0].across - poles[1].across
    report(c, u_out, -poles[0].through, u_dc, plus.through, ca.fmax(-1.0, ca.fmin(1.0, c.input("duty"))), loss)


def report(c: PartContext, u_out: ca.SX, load: ca.SX, u_dc: ca.SX, i_dc: ca.SX, duty: ca.SX, loss: ca.SX) -> None:
    c.signal("output_voltage", u_out)
    c.signal("output_current", load)
    c.signal("link_voltage", u_dc)
    c.signal("link_current", i_dc)
    c.signal("duty_ratio", duty)
    c.signal("power", u_out * load)
    c.signal("loss", loss)


KIND = leg_converter(
    id="four_quadrant_bridge",
    title="Four-quadrant bridge",
    sentence="Turns a DC link into a voltage of either sign for a machine.",
    keywords="h-bridge full bridge chopper inverter half",
    ports=(
        Port("dc", Link.DC, "DC link", "left"),
        Port("out", Link.DC, "Output", "right"),
        Port("duty", Link.SIGNAL_IN, "Duty, −1 to 1", "bottom", low=-1.0, high=1.0),
    ),
    names=LEGS,
    choices=(
        Choice("pattern", "Pulse pattern", (("three levels", "three levels"), ("two levels", "two levels"))),
        SAMPLING,
    ),
    drawing=FOUR_QUADRANT,
    potentials=lambda level: (("dc",), ("out",)) if level == "averaged" else (("dc", "out"),),
    signals=(
        Signal("output_voltage", "output voltage", "V"),
        Signal("output_current", "output current", "A"),
        Signal("link_voltage", "link voltage", "V", role=SignalRole.LINK_VOLTAGE),
        Signal("link_current", "link current", "A"),
        Signal("duty_ratio", "duty", ""),
        Signal("power", "power", "W"),
        Signal("loss", "loss", "W"),
        *(Signal(f"pole_{n}", f"voltage of pole {n}", "V", PULSED) for n in LEGS),
    ),
    build=build,
    summary=lambda v, card: ("four-quadrant", f"{v['R_on']} a switch"),
)
