"""Four-quadrant bridge: averaged over a pulse period, or two legs of switches with their pulses."""

import casadi as ca

from pendel.core.catalogue.declare import LEVELS, Choice, Leg, Link, Part, Port, Signal
from pendel.core.catalogue.electrical.devices import leg
from pendel.core.catalogue.electrical.drawings import FOUR_QUADRANT
from pendel.core.catalogue.electrical.pulse_values import (
    DEVICE_VALUES,
    LEVEL_CHOICE,
    PULSE_VALUES,
    SAMPLING,
    SWITCH_VALUES,
    dead_time_voltage,
    pulse_contradictions,
    pulse_follows,
    pulse_numbers,
    ratings,
    with_off_resistance,
)

LEGS = ("a", "b")


def build(c):
    if c.level == "averaged":
        build_averaged(c)
    else:
        build_switching(c)


def build_averaged(c):
    """u_out = d·u_dc − 2·R_on·i_out − u_dead, i_dc = d·i_out.

    Both legs lose the dead time of each pulse against the direction of the current, so the mean voltage falls by
    2·t_d·f·u_dc towards zero current. Mohan, Undeland, Robbins: Power Electronics, 3rd ed., sections 7-7 and 8-5
    (from memory).
    """
    u_dc, i_dc = c.pair("dc")
    u_out, i_out = c.pair("out")
    duty = ca.fmax(-1.0, ca.fmin(1.0, c.input("duty")))
    load = -i_out
    drop = 2.0 * c.value("R_on") * load + 2.0 * dead_time_voltage(c, u_dc, load)
    c.equation(u_out - duty * u_dc + drop)
    c.equation(i_dc - duty * load)
    report(c, u_out, load, u_dc, i_dc, duty, drop * load)


def build_switching(c):
    plus, minus = c.pins("dc")
    poles = c.pins("out")
    r = ratings(c)
    numbers = pulse_numbers(c)
    currents, loss = [ca.SX(0), ca.SX(0)], ca.SX(0)
    two_levels = c.choice("pattern") == "two levels"
    for name, pole in zip(LEGS, poles):
        gates = c.gate(f"{name}_upper_gate"), c.gate(f"{name}_lower_gate")
        order = (f"{name}_upper_gate", f"{name}_lower_gate")
        inverse = name == "b"
        # Leg b gets the inverse duty on the same carrier; with two levels it is simply the opposite of leg a.
        c.pulse("duty", *(reversed(order) if inverse and two_levels else order), sampling=c.choice("sampling"), offset=0.5,
                scale=-0.5 if inverse and not two_levels else 0.5, numbers=numbers)  # fmt: skip
        upper, lower = leg(c, name, plus.across, pole.across, minus.across, gates, r)
        c.equation(pole.through - lower.i + upper.i)
        currents[0] += upper.i
        currents[1] += lower.i
        loss += upper.loss + lower.loss
        c.signal(f"pole_{name}", pole.across - minus.across)
        c.signal(f"gate_{name}_upper", gates[0])
        c.signal(f"gate_{name}_lower", gates[1])
        c.signal(f"current_{name}_upper", upper.i)
        c.signal(f"current_{name}_lower", lower.i)
    c.equation(plus.through - currents[0])
    c.equation(minus.through + currents[1])
    u_dc, u_out = plus.across - minus.across, poles[0].across - poles[1].across
    report(
        c, u_out, -poles[0].through, u_dc, plus.through, ca.fmax(-1.0, ca.fmin(1.0, c.input("duty"))), loss
    )


def report(c, u_out, load, u_dc, i_dc, duty, loss):
    c.signal("output_voltage", u_out)
    c.signal("output_current", load)
    c.signal("link_voltage", u_dc)
    c.signal("link_current", i_dc)
    c.signal("duty_ratio", duty)
    c.signal("power", u_out * load)
    c.signal("loss", loss)
    c.lost(loss)


PULSED = ("switching", "device")
KIND = Part(
    id="four_quadrant_bridge",
    title="Four-quadrant bridge",
    sentence="Turns a DC link into a voltage of either sign for a machine.",
    group="converter",
    keywords="h-bridge full bridge chopper inverter half",
    ports=(
        Port("dc", Link.DC, "DC link", "left"),
        Port("out", Link.DC, "Output", "right"),
        Port("duty", Link.SIGNAL_IN, "Duty, −1 to 1", "bottom"),
    ),
    values=(*SWITCH_VALUES, *PULSE_VALUES, *DEVICE_VALUES),
    choices=(
        LEVEL_CHOICE,
        Choice("pattern", "Pulse pattern", (("three levels", "three levels"), ("two levels", "two levels"))),
        SAMPLING,
    ),
    levels=LEVELS,
    drawing=FOUR_QUADRANT,
    legs=tuple(
        Leg(n, f"{n}_upper_gate", f"{n}_lower_gate", f"current_{n}_upper", f"current_{n}_lower") for n in LEGS
    ),
    potentials=lambda level: (("dc",), ("out",)) if level == "averaged" else (("dc", "out"),),
    circuit=with_off_resistance,
    contradictions=pulse_contradictions,
    follows=pulse_follows,
    signals=(
        Signal("output_voltage", "output voltage", "V"),
        Signal("output_current", "output current", "A"),
        Signal("link_voltage", "link voltage", "V"),
        Signal("link_current", "link current", "A"),
        Signal("duty_ratio", "duty", ""),
        Signal("power", "power", "W"),
        Signal("loss", "loss", "W"),
        *(Signal(f"pole_{n}", f"voltage of pole {n}", "V", PULSED) for n in LEGS),
        *(
            Signal(f"gate_{n}_{side}", f"gate {n}, {side}", "", PULSED)
            for n in LEGS
            for side in ("upper", "lower")
        ),
        *(
            Signal(f"current_{n}_{side}", f"current of switch {n}, {side}", "A", PULSED)
            for n in LEGS
            for side in ("upper", "lower")
        ),
    ),
    build=build,
    telling=lambda v, card: ("four-quadrant", f"{v['R_on']} a switch"),
    main_signal="output_voltage",
    spine="≡",
)
