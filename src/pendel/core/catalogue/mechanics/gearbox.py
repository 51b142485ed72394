"""A gearbox with steps: one ratio at a time, changed with the clutch open.

While another gear is wanted than is in, the clutch lets go, the ratio goes over, and the clutch closes again and brings
both sides to one speed by friction: ω_a = i ω_b, M_b = i M_a where it holds. Gear 0 is neutral. Slipping costs
M (ω_a − i ω_b)."""

from __future__ import annotations

import casadi as ca

from pendel.core.catalogue.declare import Contradiction, Figure, Link, Part, Port, Rows, Signal, State, Value, Values
from pendel.core.catalogue.heat.port import heat_port
from pendel.core.drive.document import Card
from pendel.core.equations.context import PartContext

MOST_GEARS = 20
IN = 0.001
"""Of the ratio: so near, the gear is in, and the clutch begins to close; it is closed at a tenth of it."""


def build(c: PartContext) -> None:
    across_a, through_a = c.flange("a")
    across_b, through_b = c.flange("b")
    ratio, change = c.state("ratio")
    slip, slip_change = c.state("slip", helper=True)
    wanted = c.input("gear")
    aim = c.value("i_0")
    for n in range(1, c.rows):
        aim = ca.if_else(wanted > n + 0.5, c.value(f"i_{n}"), aim)
    c.equation(c.value("T") * change - ca.if_else(wanted > 0.5, aim - ratio, 0))  # neutral leaves it where it is
    away = ca.fabs(aim - ratio) / (IN * ca.fabs(aim))
    closed = ca.if_else(wanted > 0.5, ca.fmin(1, ca.fmax(0, 1.1 - away)), 0)
    sliding = closed * c.value("M_max")
    torque = c.dry_friction(slip, slip_change, sliding=sliding, breakaway=c.value("sticks") * sliding)
    c.equation(slip - (across_a - ratio * across_b))
    c.equation(through_a - torque)
    c.equation(through_b + ratio * torque)
    c.signal("torque", torque)
    c.signal("output_torque", ratio * torque)
    c.signal("ratio", ratio)
    c.signal("slip", slip)
    c.signal("closed", closed)
    c.signal("loss", torque * slip)
    c.lost(torque * slip)


def contradictions(v: Values, card: Card) -> list[Contradiction]:
    if not 1 <= len(card.rows) <= MOST_GEARS:
        return [Contradiction(f"It has {len(card.rows)} gears. Give it 1 to {MOST_GEARS}.", "rows:0")]
    for n in range(len(card.rows)):
        if v.get(f"i_{n}") == 0:
            return [Contradiction(f"Gear {n + 1} has a ratio of zero. Backwards, it is below zero.", f"rows:{n}")]
    return []


def follows(v: Values, card: Card) -> list[Figure]:
    ratios = [v[f"i_{n}"] for n in range(len(card.rows)) if f"i_{n}" in v]
    if not ratios:
        return []
    return [
        Figure("Spread of its ratios", "", max(map(abs, ratios)) / min(map(abs, ratios)), ""),
        Figure("Without torque, in a change", "", 6.9 * v["T"], "s"),
    ]


KIND = Part(
    id="stepped_gearbox",
    title="Gearbox with steps",
    sentence="Ratios that a signal chooses, changed with its own clutch open; gear 0 is neutral.",
    group="mechanics",
    keywords="transmission shift gear ratio change automated manual vehicle trip clutch",
    ports=(
        Port("a", Link.SHAFT, "Input shaft", "left"),
        Port("b", Link.SHAFT, "Output shaft", "right"),
        Port("gear", Link.SIGNAL_IN, "Number of the gear, 0: neutral", "bottom"),
        heat_port(),
    ),
    values=(
        Value("M_max", "Clutch slides at", "N·m", "300", low=0.0, open_low=True),
        Value("sticks", "Holds, over slides", "", "1.1", low=1.0),
        Value("T", "A change takes, as a lag", "ms", "60", low=0.0, open_low=True),
    ),
    rows=Rows(
        "Gears",
        (Value("i", "Ratio, input over output", "", "2"),),
        ("1",),
        (("3.6",), ("2.1",), ("1.4",), ("1",)),
    ),
    states=(State("ratio", "ratio", ""),),
    signals=(
        Signal("torque", "torque at the input", "N·m"),
        Signal("output_torque", "torque at the output", "N·m"),
        Signal("ratio", "ratio", ""),
        Signal("slip", "slip", "rad/s"),
        Signal("closed", "clutch closed", "%"),
        Signal("loss", "loss", "W"),
    ),
    build=build,
    usual=(("ratio", "closed"), ("torque", "output_torque")),
    contradictions=contradictions,
    follows=follows,
    summary=lambda v, card: ("steps", f"{len(card.rows)} gears"),
    main_signal="output_torque",
    spine="∞",
)
