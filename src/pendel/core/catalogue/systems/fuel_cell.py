"""A fuel cell: its voltage over its current by the rows of a sheet's curve, a resistance at once, the rest with a lag.

u = U(0) − d − R i, T dd/dt = U(0) − U(i) − R i − d, U the curve (its form: Larminie, Dicks: Fuel Cell Systems
Explained, chapter 3; from memory). Hydrogen by Faraday's law for each of its cells in series: ṁ = N i M/(2 F) over
what of it is used (CODATA: F = 96485.33 C/mol; M = 2.016 g/mol; 119.96 MJ/kg of lower heating value; from memory).
It takes nothing: below no current its voltage rises steeply, as behind a diode."""

from __future__ import annotations

import casadi as ca
import numpy as np

from pendel.core.catalogue.declare import Contradiction, Figure, Link, Part, Port, Rows, Signal, State, Value, Values
from pendel.core.catalogue.heat.port import heat_port
from pendel.core.catalogue.remarks.seen import Seen
from pendel.core.catalogue.systems.curves import along, rising, with_slopes
from pendel.core.drive.document import Card
from pendel.core.drive.findings import Remark
from pendel.core.equations.context import PartContext
from pendel.core.quantities.units import figure
from pendel.core.vocabulary import Conduction, SignalRole

FARADAY, MOLAR, HEATING = 96485.33, 2.016e-3, 119.96e6
BACK = 20.0
"""Times its resistance: what it opposes a current backwards with."""
FIRST = (("0 A", "96 V"), ("5 A", "84 V"), ("30 A", "72 V"), ("80 A", "62 V"), ("110 A", "54 V"), ("125 A", "44 V"))


def build(c: PartContext) -> None:
    u, through = c.pair("dc")
    current = -through
    dropped, change = c.state("dropped")
    fuel, burnt = c.state("fuel")
    resistance = c.value("R")
    used = ca.fmax(0, current)
    still = along(c, used, "i", "U") + resistance * used
    c.equation(c.value("T") * change - (c.value("U_0") - still - dropped))
    c.equation(u - (c.value("U_0") - dropped - resistance * current - BACK * resistance * ca.fmin(0, current)))
    rate = c.value("cells") * used * MOLAR / (2 * FARADAY * c.value("share"))
    power = HEATING * rate
    c.equation(burnt - rate)
    c.signal("voltage", u)
    c.signal("current", current)
    c.signal("power", u * current)
    c.signal("fuel", fuel)
    c.signal("fuel_rate", rate)
    c.signal("fuel_power", power)
    c.signal("loss", power - u * current)
    c.supplied(power)
    c.lost(power - u * current)


def equation_values(v: Values, card: Card) -> dict[str, float]:
    return with_slopes(dict(v), len(card.rows), "i", "U")


def contradictions(v: Values, card: Card) -> list[Contradiction]:
    if len(card.rows) < 2:
        return [Contradiction("Its curve has fewer than two rows. Add current and voltage of the sheet.", "rows:0")]
    if v["i_0"] != 0:
        return [Contradiction("Its curve does not begin at a current of 0. Add the voltage without load.", "rows:0")]
    if (row := rising(dict(v), len(card.rows), "i")) is not None:
        return [Contradiction(f"The current of row {row + 1} is not above that of the row before.", f"rows:{row}")]
    falls = {f"U_{n}": -v[f"U_{n}"] for n in range(len(card.rows))}
    if (row := rising(falls, len(card.rows), "U")) is not None:
        return [Contradiction(f"The voltage of row {row + 1} is not below that of the row before.", f"rows:{row}")]
    if v["R"] * (v["i_1"] - v["i_0"]) > v["U_0"] - v["U_1"]:
        return [Contradiction("R takes more than the curve falls at its beginning. Enter a smaller one.", "R")]
    return []


def left_its_curve(seen: Seen, key: str) -> Remark | None:
    """More current than its curve has, or current backwards."""
    run, values, card = seen.run, seen.values[key], seen.drive.cards[key]
    current = run.on_rows([f"{key}.current"], slice(None))[:, 0]
    most = values[f"i_{len(card.rows) - 1}"]
    for beyond, worst, words in (
        (current > 1.001 * most, float(current.max()), f"its curve ends at {figure(most, 'A', 3)}"),
        (current < -1e-3 * most, float(current.min()), "it can take none"),
    ):
        if beyond.any():
            first = float(run.rows[int(np.argmax(beyond)), 0])
            sentence = (
                f"{card.name} carries {figure(worst, 'A', 3)}, first beyond at {figure(first, 's', 4)}, and {words}."
            )
            return Remark(f"{sentence} Take a larger one, or limit what it feeds.", key, first)
    return None


def follows(v: Values, card: Card) -> list[Figure]:
    if contradictions(v, card):
        return []
    powers = [v[f"i_{n}"] * v[f"U_{n}"] for n in range(len(card.rows))]
    best = int(np.argmax(powers))
    per_coulomb = HEATING * v["cells"] * MOLAR / (2 * FARADAY * v["share"])
    return [
        Figure("Most power of its rows", "P", powers[best], "kW"),
        Figure("at a current of", "I", v[f"i_{best}"], "A"),
        Figure("with an efficiency of", "η", v[f"U_{best}"] / per_coulomb, "%"),
    ]


KIND = Part(
    id="fuel_cell",
    title="Fuel cell",
    sentence="Voltage over current by a curve, with a lag, and the hydrogen that it takes.",
    group="supply",
    keywords="hydrogen stack pem range extender trip source polarisation curve",
    ports=(Port("dc", Link.DC, "DC output", "right"), heat_port()),
    values=(
        Value("R", "Resistance at once", "mΩ", "60", low=0.0, open_low=True),
        Value("T", "The rest with a lag of", "s", "0.4", low=0.0, open_low=True),
        Value("cells", "Cells in series", "", "100", low=1.0, whole=True),
        Value("share", "Hydrogen used", "%", "98", low=0.0, open_low=True, high=1.0),
    ),
    rows=Rows(
        "Curve",
        (Value("i", "Current", "A", "50", low=0.0), Value("U", "Voltage", "V", "65", low=0.0, open_low=True)),
        ("140 A", "30 V"),
        FIRST,
    ),
    states=(State("dropped", "what the rest has dropped", "V"), State("fuel", "hydrogen", "kg")),
    signals=(
        Signal("voltage", "terminal voltage", "V"),
        Signal("current", "current", "A"),
        Signal("power", "power", "W"),
        Signal("fuel", "hydrogen used", "kg", role=SignalRole.FUEL),
        Signal("fuel_rate", "hydrogen by time", "g/s"),
        Signal("fuel_power", "power of the hydrogen", "W"),
        Signal("loss", "loss", "W"),
    ),
    build=build,
    usual=(("power", "fuel_power"), ("voltage",)),
    equation_values=equation_values,
    contradictions=contradictions,
    follows=follows,
    remarks=(left_its_curve,),
    summary=lambda v, card: (f"{len(card.rows)} points", v["cells"]),
    main_signal="power",
    spine="H",
    conduction=Conduction(ends=(("dc", 0), ("dc", 1)), holds_voltage=True, stiff=True),
)
