"""A charger: a constant current up to a voltage, then that voltage, within a power; from a mains that has no end.

i = min(I_max, P_max/u, (U_end − u)/R_end) and not below zero, with a lag; by the last the current tapers off at the
voltage that is held (constant current, constant voltage; common practice, no source)."""

from __future__ import annotations

import casadi as ca

from pendel.core.catalogue.declare import Figure, Link, Part, Port, Signal, State, Value, Values
from pendel.core.catalogue.heat.port import heat_port
from pendel.core.drive.document import Card
from pendel.core.equations.context import PartContext


def build(c: PartContext) -> None:
    u, through = c.pair("dc")
    current, change = c.state("i")
    on = ca.fmin(1, ca.fmax(0, c.input("on")))
    taper = (c.value("U_end") - u) / c.value("R_end")
    safe = ca.fmax(u, c.value("U_end") / 10)
    wanted = on * ca.fmax(0, ca.fmin(taper, ca.fmin(c.value("I_max"), c.value("P_max") / safe)))
    c.equation(c.value("T") * change - (wanted - current))
    c.equation(through + current)
    out = u * current
    taken = out / c.value("eta") + on * c.value("P_0")
    c.signal("current", current)
    c.signal("voltage", u)
    c.signal("power", out)
    c.signal("mains_power", taken)
    c.signal("loss", taken - out)
    c.supplied(taken)
    c.lost(taken - out)


def follows(v: Values, card: Card) -> list[Figure]:
    return [Figure("All current up to a voltage of", "U", min(v["P_max"] / v["I_max"], v["U_end"]), "V")]


KIND = Part(
    id="charger",
    title="Charger",
    sentence="Constant current, then constant voltage, within a power, from the mains.",
    group="supply",
    keywords="battery charging station mains plug cc cv trip depot",
    ports=(
        Port("dc", Link.DC, "DC output", "right"),
        Port("on", Link.SIGNAL_IN, "On, above 0: as much as its figure up to 1", "bottom"),
        heat_port(),
    ),
    values=(
        Value("I_max", "Largest current", "A", "30", low=0.0, open_low=True),
        Value("U_end", "Held voltage", "V", "112", low=0.0, open_low=True),
        Value("P_max", "Largest power", "kW", "3.3", low=0.0, open_low=True),
        Value("R_end", "Tapers off over, by current", "mΩ", "20", low=0.0, open_low=True),
        Value("eta", "Efficiency", "%", "93", low=0.0, open_low=True, high=1.0),
        Value("P_0", "Takes besides, while on", "W", "25", low=0.0),
        Value("T", "Lag of the current", "s", "0.2", low=0.0, open_low=True),
    ),
    states=(State("i", "current", "A"),),
    signals=(
        Signal("current", "current", "A"),
        Signal("voltage", "voltage", "V"),
        Signal("power", "power", "W"),
        Signal("mains_power", "power of the mains", "W"),
        Signal("loss", "loss", "W"),
    ),
    build=build,
    usual=(("current",), ("power", "mains_power")),
    follows=follows,
    summary=lambda v, card: (v["I_max"], v["U_end"]),
    main_signal="power",
    spine="+",
)
