"""Four-quadrant bridge, averaged over a pulse period."""

import casadi as ca

from pendel.core.catalogue.declare import Link, Part, Port, Signal, Value


def build(c):
    """u_out = d·u_dc − 2·R_on·i_out, i_dc = d·i_out: lossless but for the two switches in the path.

    Mohan, Undeland, Robbins: Power Electronics, 3rd ed., section 7-7 (from memory).
    """
    u_dc, i_dc = c.pair("dc")
    u_out, i_out = c.pair("out")
    duty = ca.fmax(-1.0, ca.fmin(1.0, c.input("duty")))
    drop = 2.0 * c.value("R_on")
    load = -i_out
    c.equation(u_out - duty * u_dc + drop * load)
    c.equation(i_dc - duty * load)
    c.signal("output_voltage", u_out)
    c.signal("output_current", load)
    c.signal("link_voltage", u_dc)
    c.signal("link_current", i_dc)
    c.signal("duty_ratio", duty)
    c.signal("power", u_out * load)
    c.signal("loss", drop * load * load)
    c.lost(drop * load * load)


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
    values=(Value("R_on", "On-resistance of a switch", "mΩ", "6", low=0.0),),
    signals=(
        Signal("output_voltage", "output voltage", "V"),
        Signal("output_current", "output current", "A"),
        Signal("link_voltage", "link voltage", "V"),
        Signal("link_current", "link current", "A"),
        Signal("duty_ratio", "duty", ""),
        Signal("power", "power", "W"),
        Signal("loss", "loss", "W"),
    ),
    build=build,
    telling=lambda v, card: ("four-quadrant", f"{v['R_on']} a switch"),
    main_signal="output_voltage",
    spine="≡",
)
