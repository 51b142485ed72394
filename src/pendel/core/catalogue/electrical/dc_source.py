"""DC source with internal resistance."""

from __future__ import annotations

from pendel.core.catalogue.declare import Link, Part, Port, Signal, Value
from pendel.core.equations.context import PartContext
from pendel.core.vocabulary import Conduction


def build(c: PartContext) -> None:
    u, i = c.pair("dc")
    e, r = c.value("U_0"), c.parasitic("R_i")
    c.equation(u - e - r * i)
    c.signal("voltage", u)
    c.signal("current", -i)
    c.signal("power", -u * i)
    c.signal("loss", r * i * i)
    c.supplied(-e * i)
    c.lost(r * i * i)


KIND = Part(
    id="dc_source",
    title="DC source",
    sentence="A constant voltage behind a resistance.",
    group="supply",
    keywords="supply battery link voltage",
    ports=(Port("dc", Link.DC, "DC output", "right"),),
    values=(
        Value("U_0", "Open-circuit voltage", "V", "48"),
        Value("R_i", "Internal resistance", "mΩ", "35", low=0.0),
    ),
    signals=(
        Signal("voltage", "terminal voltage", "V"),
        Signal("current", "current", "A"),
        Signal("power", "power", "W"),
        Signal("loss", "loss", "W"),
    ),
    build=build,
    summary=lambda v, card: (v["U_0"], v["R_i"]),
    main_signal="voltage",
    spine="= =",
    conduction=Conduction(ends=(("dc", 0), ("dc", 1)), holds_voltage=True, stiff=True),
)
