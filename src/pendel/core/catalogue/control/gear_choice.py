"""Chooses a gear by speed: up above a speed of each, down with hysteresis, both later the more is asked, and no change
sooner after another than a time."""

from __future__ import annotations

from pendel.core.catalogue.control.ports import EVERY, reads
from pendel.core.catalogue.declare import Block, Contradiction, Link, Port, Rows, State, Value, Values
from pendel.core.drive.document import Card
from pendel.core.vocabulary import SignalRole

MOST_ROWS = 19


def update(speed, demand, gear, h, later, T_wait, v_open, top, table, chosen, waits, dt):
    if chosen < 0.5:
        chosen = 1.0
    size = absolute(speed) / (1.0 + later * saturate(absolute(demand), 0.0, 1.0))
    waits = maximum(waits - dt, 0.0)
    if waits < 0.5 * dt:
        if chosen < top - 0.5 and size > interpolated(table, chosen):
            chosen = chosen + 1.0
            waits = T_wait
        elif chosen > 1.5 and size < (1.0 - h) * interpolated(table, chosen - 1.0):
            chosen = chosen - 1.0
            waits = T_wait
    gear = chosen
    if absolute(speed) < v_open:
        gear = 0.0


def speeds(v: Values, card: Card) -> list[tuple[float, float]]:
    return [(float(k + 1), v[f"up_{k}"]) for k in range(len(card.rows))]


def top_gear(v: Values, card: Card, period: float) -> dict[str, float]:
    return {"top": len(card.rows) + 1.0}


def out_of_order(v: Values, card: Card) -> list[Contradiction]:
    if not 1 <= len(card.rows) <= MOST_ROWS:
        sentence = f"It changes up {len(card.rows)} times. Give the speeds of 1 to {MOST_ROWS} changes."
        return [Contradiction(sentence, "rows:0")]
    rows = [up for _, up in speeds(v, card)]
    for k in range(1, len(rows)):
        if rows[k] <= rows[k - 1]:
            sentence = f"From gear {k + 1} it goes up at no higher speed than from gear {k}. Sort the rows."
            return [Contradiction(sentence, f"rows:{k}")]
    return []


KIND = Block(
    id="gear_choice",
    title="Gear choice",
    sentence="The number of a gear by speed and how much is asked, with hysteresis and a time between changes.",
    group="setpoint",
    keywords="shift logic gearbox transmission trip vehicle schedule up down",
    ports=(
        reads("speed", "Speed of the vehicle", role=SignalRole.ACTUAL, unit="m/s"),
        reads("demand", "How much is asked, 0 to 1", required=False),
        Port("gear", Link.SIGNAL_OUT, "Number of the gear", "left"),
    ),
    values=(
        Value("h", "Down below, less by", "%", "25", low=0.0, high=0.9),
        Value("later", "Later when all is asked, by", "%", "40", low=0.0, high=5.0),
        Value("T_wait", "Between changes at least", "s", "1.5", low=0.0),
        Value("v_open", "Neutral below", "km/h", "0", low=0.0),
        EVERY,
    ),
    states=(State("chosen", "gear", ""), State("waits", "until the next change", "s")),
    rows=Rows(
        "Up above",
        (Value("up", "Up above", "km/h", "30", low=0.0, open_low=True),),
        ("50 km/h",),
        (("12 km/h",), ("24 km/h",), ("36 km/h",)),
    ),
    update=update,
    derive=top_gear,
    tables=speeds,
    contradictions=out_of_order,
    passes_unit=False,
    bounds={"chosen": "20", "waits": "T_wait", "gear": "20"},
    summary=lambda v, card: (f"{len(card.rows) + 1} gears", v["T_wait"]),
    shape=((0, 1), (0.3, 1), (0.3, 0.6), (0.6, 0.6), (0.6, 0.2), (1, 0.2)),
)
