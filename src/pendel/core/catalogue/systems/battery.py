"""A battery: open-circuit voltage over its charge, resistance, up to three lags.

dq/dt = −i/Q, u = U_oc(q) − Σ u_k − R i, τ_k du_k/dt = R_k i − u_k (Plett: Battery Management Systems,
volume I, chapter 2; from memory). All resistances are multiplied by the rows' r(q) and by exp(−c_R (θ − θ_R)),
θ that of its heat port where it has one (an exponential over some tens of kelvins: common practice, no source). Rows
are a curve that somebody measured or a sheet gives; those of a new card are invented."""

from __future__ import annotations

import casadi as ca
import numpy as np

from pendel.core.catalogue.declare import Contradiction, Figure, Link, Part, Port, Rows, Signal, State, Value, Values
from pendel.core.catalogue.heat.port import heat_port
from pendel.core.catalogue.remarks.seen import Seen
from pendel.core.catalogue.settled import Store
from pendel.core.catalogue.systems.curves import along, along_of, rising, with_slopes
from pendel.core.drive.document import Card
from pendel.core.drive.findings import Remark
from pendel.core.equations.context import PartContext
from pendel.core.quantities.units import figure
from pendel.core.vocabulary import Conduction, SignalRole

DIES, DEAD = 0.02, 0.05
"""Share of its charge beyond empty over which its voltage falls, and of the voltage that is left."""
LAGS = (1, 2, 3)
LEAST_FACTOR = 1e-3
"""Of its resistance, whatever the rows come to between them."""
BREAKS = 0.5
"""Of the voltage inside: the terminal voltage at the largest power."""
FIRST = (("0 %", "88 V"), ("10 %", "96 V"), ("50 %", "100 V"), ("90 %", "105 V"), ("100 %", "110 V"))


def build(c: PartContext) -> None:
    u, through = c.pair("dc")
    current = -through
    used, slope = c.state("used")
    charge = c.value("charge_0") - used
    c.equation(c.value("Q") * slope - current)
    # Empty, it dies within a little more charge: what it feeds has to give way.
    dying = c.value("U_0") * ca.fmax(DEAD, 1 + charge / DIES)
    open_voltage = ca.if_else(charge > 0, along(c, charge, "q", "U"), dying)
    temperature = c.temperature(c.value("theta"))
    # Below all charge and beyond it the rows' last factor holds.
    factor = along(c, ca.fmax(c.value("q_0"), ca.fmin(charge, c.value(f"q_{c.rows - 1}"))), "q", "r")
    factor = ca.fmax(LEAST_FACTOR, factor) * ca.exp(-c.value("c_R") * (temperature - c.value("theta_R")))
    resistance = factor * c.value("R")
    lag = ca.SX(0)
    for n in LAGS:
        if n > 1 and c.is_zero(f"R_{n}"):
            continue
        voltage, voltage_slope = c.state(f"u_{n}")
        c.equation(c.value(f"T_{n}") * voltage_slope - (factor * c.value(f"R_{n}") * current - voltage))
        lag += voltage
    c.equation(u - (open_voltage - lag - resistance * current))
    loss = resistance * current * current + lag * current
    c.signal("voltage", u)
    c.signal("current", current)
    c.signal("power", u * current)
    c.signal("charge", charge)
    c.signal("open_voltage", open_voltage)
    c.signal("resistance", resistance)
    c.signal("loss", loss)
    c.supplied(open_voltage * current)
    c.lost(loss)


def equation_values(v: Values, card: Card) -> dict[str, float]:
    return with_slopes(with_slopes(dict(v), len(card.rows), "q", "U"), len(card.rows), "q", "r")


def contradictions(v: Values, card: Card) -> list[Contradiction]:
    if len(card.rows) < 2:
        return [Contradiction("Its curve has fewer than two rows. Add charge and voltage of the sheet.", "rows:0")]
    if (row := rising(dict(v), len(card.rows), "q")) is not None:
        return [Contradiction(f"The charge of row {row + 1} is not above that of the row before.", f"rows:{row}")]
    if (row := rising(dict(v), len(card.rows), "U")) is not None:
        return [
            Contradiction(
                f"The voltage of row {row + 1} is not above that of the row before: a battery's falls as it empties.",
                f"rows:{row}",
            )
        ]
    return []


def left_its_charge(seen: Seen, key: str) -> Remark | None:
    """A battery that was emptied below nothing, or filled beyond all."""
    run, card = seen.run, seen.drive.cards[key]
    charge = run.on_rows([f"{key}.charge"], slice(None))[:, 0]
    for beyond, words in ((charge < 0, "is empty"), (charge > 1, "is full")):
        if beyond.any():
            first = float(run.rows[int(np.argmax(beyond)), 0])
            least = float(charge.min() if words == "is empty" else charge.max())
            return Remark(
                f"{card.name} {words} at {figure(first, 's', 4)}, and the run went on to {100 * least:.0f} %, where "
                "nothing is known of it. Take a larger one, less load, or another charge at the start.",
                key,
                first,
            )
    return None


def asked_too_much(seen: Seen, key: str) -> Remark | None:
    """A battery that is asked for more power than it can give: U (U_oc − u_1 − U)/R is largest at half of that
    voltage, and below it more current gives less."""
    run, card = seen.run, seen.drive.cards[key]
    names = [f"{key}.{name}" for name in ("voltage", "current", "charge", "resistance")]
    u, i, charge, resistance = run.on_rows(names, slice(None)).T
    inside = u + resistance * i
    over = (i > 0) & (charge > 0) & (u < BREAKS * inside)
    if not over.any():
        return None
    first = int(np.argmax(over))
    most = float(inside[first] ** 2 / (4 * resistance[first]))
    at = float(run.rows[first, 0])
    broken = figure(float(u[over].min()), "V", 3)
    return Remark(
        f"{card.name} cannot give what is asked of it at {figure(at, 's', 4)}: at a charge of "
        f"{100 * charge[first]:.0f} % it gives {figure(most, 'kW', 3)} at most, and its voltage breaks down to "
        f"{broken}. Take a larger one, or let what it feeds derate with the voltage.",
        key,
        at,
    )


def follows(v: Values, card: Card) -> list[Figure]:
    if len(card.rows) < 2:
        return []
    first, last = v["U_0"], v[f"U_{len(card.rows) - 1}"]
    mean = (first + last) / 2
    return [
        Figure("Energy, roughly", "E", v["Q"] * mean, "kWh"),
        Figure("Most power, half full", "P_max", mean * mean / (4 * (v["R"] + sum(v[f"R_{n}"] for n in LAGS))), "kW"),
    ]


def settled_voltage(v: Values, card: Card, charge: np.ndarray) -> np.ndarray:
    return along_of(v, len(card.rows), "q", "U", charge)


def settled_resistance(v: Values, card: Card, charge: np.ndarray) -> np.ndarray:
    """At once and later, at its present temperature."""
    return (1 + sum(v[f"R_{n}"] for n in LAGS) / v["R"]) * resistance_at_once(v, card, charge)


def resistance_at_once(v: Values, card: Card, charge: np.ndarray) -> np.ndarray:
    count = len(card.rows)
    inside = np.clip(charge, v["q_0"], v[f"q_{count - 1}"])
    factor = np.maximum(LEAST_FACTOR, along_of(v, count, "q", "r", inside))
    return v["R"] * factor * np.exp(-v["c_R"] * (v["theta"] - v["theta_R"]))


KIND = Part(
    id="battery",
    title="Battery",
    sentence="Open-circuit voltage over its charge, behind a resistance and up to three lags.",
    group="supply",
    keywords="accumulator storage charge soc cell traction lithium lead",
    ports=(Port("dc", Link.DC, "DC output", "right"), heat_port()),
    values=(
        Value("Q", "Capacity", "Ah", "40", low=0.0, open_low=True),
        Value("charge_0", "Charge at start", "%", "70", low=0.0, high=1.0),
        Value("R", "Resistance at once", "mΩ", "20", low=0.0, open_low=True),
        Value("R_1", "Resistance, later", "mΩ", "10", low=0.0),
        Value("T_1", "with a lag of", "s", "30", low=0.0, open_low=True),
        Value("R_2", "Second lag: resistance", "mΩ", "0", low=0.0),
        Value("T_2", "with a lag of", "s", "300", low=0.0, open_low=True),
        Value("R_3", "Third lag: resistance", "mΩ", "0", low=0.0),
        Value("T_3", "with a lag of", "s", "3000", low=0.0, open_low=True),
        Value("c_R", "Resistances fall by", "%/K", "0", low=-0.2, high=0.2),
        Value("theta_R", "from those at", "°C", "25"),
        Value("theta", "Temperature", "°C", "25"),
    ),
    rows=Rows(
        "Curve",
        (
            Value("q", "Charge", "%", "50"),
            Value("U", "Open circuit", "V", "100", low=0.0, open_low=True),
            Value("r", "of R, R_1", "%", "100", low=0.0, open_low=True),
        ),
        ("100 %", "110 V"),
        FIRST,
        needed=2,
    ),
    states=(
        State("used", "charge taken, of all", ""),
        State("u_1", "voltage of the lag", "V"),
        State("u_2", "voltage of the second lag", "V"),
        State("u_3", "voltage of the third lag", "V"),
    ),
    signals=(
        Signal("voltage", "terminal voltage", "V"),
        Signal("current", "current", "A"),
        Signal("power", "power", "W"),
        Signal("charge", "charge", "%", role=SignalRole.CHARGE),
        Signal("open_voltage", "open-circuit voltage", "V"),
        Signal("resistance", "resistance at once", "Ω"),
        Signal("loss", "loss", "W"),
    ),
    build=build,
    usual=(("charge",), ("power", "loss")),
    equation_values=equation_values,
    contradictions=contradictions,
    follows=follows,
    remarks=(left_its_charge, asked_too_much),
    summary=lambda v, card: (v["Q"], v["charge_0"]),
    main_signal="charge",
    spine="= =",
    settled=Store(
        voltage=settled_voltage,
        resistance=settled_resistance,
        at_once=resistance_at_once,
        capacity=lambda v: v["Q"],
        power="power",
        resistance_now="resistance",
    ),
    conduction=Conduction(ends=(("dc", 0), ("dc", 1)), holds_voltage=True, stiff=True),
)
