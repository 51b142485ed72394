"""Dry and viscous friction between a moving part and the frame, with stiction that really sticks.

The law itself is stated by `pendel.core.equations.friction`, where frictions on one rigid train meet.
Armstrong-Hélouvry, Dupont, Canudas de Wit: Automatica 30 (1994) 1083, section 3 (from memory).
"""

from __future__ import annotations

from collections.abc import Callable

from pendel.core.catalogue.declare import Contradiction, Link, Part, Port, Signal, Value, Values
from pendel.core.catalogue.heat.port import heat_port
from pendel.core.catalogue.settled import ONE_SPEED
from pendel.core.drive.document import Card
from pendel.core.equations.context import PartContext


def _build(c: PartContext, level_name: str, stiction_name: str, viscous_name: str) -> None:
    across_a, through_a = c.flange("a")
    across_b, through_b = c.flange("b")
    w, dw = c.state("w", helper=True)
    force = c.dry_friction(w, dw, sliding=c.value(level_name), breakaway=c.value(stiction_name))
    c.equation(w - across_a)
    c.equation(across_a - across_b)
    c.equation(through_a + through_b - force - c.value(viscous_name) * w)
    whole = force + c.value(viscous_name) * w
    c.signal("speed", w)
    c.signal("force" if level_name == "F_c" else "torque", whole)
    c.signal("loss", whole * w)
    c.lost(whole * w)


def build_rotary(c: PartContext) -> None:
    _build(c, "M_c", "M_s", "b")


def build_linear(c: PartContext) -> None:
    _build(c, "F_c", "F_s", "b")


def stiction_below_sliding(sliding: str, stiction: str) -> Callable[[Values, Card], list[Contradiction]]:
    def check(v: Values, card: Card) -> list[Contradiction]:
        if v[stiction] < v[sliding]:
            return [
                Contradiction(
                    f"The breakaway value {stiction} is below the sliding value {sliding}; it must be at "
                    f"least as large. Raise {stiction}.",
                    stiction,
                )
            ]
        return []

    return check


ROTARY = Part(
    id="friction",
    title="Friction",
    sentence="Viscous and dry friction of a shaft in its bearings; sticks at standstill.",
    group="mechanics",
    keywords="bearing coulomb stiction viscous brake",
    ports=(
        Port("a", Link.SHAFT, "Shaft", "left"),
        Port("b", Link.SHAFT, "Shaft", "right", required=False),
        heat_port(),
    ),
    values=(
        Value("M_c", "Sliding torque", "N·m", "0.02", low=0.0),
        Value("M_s", "Breakaway torque", "N·m", "0.025", low=0.0),
        Value("b", "Viscous coefficient", "N·m·s", "1e-5", low=0.0),
    ),
    signals=(
        Signal("torque", "friction torque", "N·m"),
        Signal("speed", "speed", "rad/s"),
        Signal("loss", "loss", "W"),
    ),
    build=build_rotary,
    settled=ONE_SPEED,
    contradictions=stiction_below_sliding("M_c", "M_s"),
    summary=lambda v, card: ("friction", f"{v['M_c']}"),
    main_signal="torque",
    spine="≈",
)

LINEAR = Part(
    id="rail_friction",
    title="Rail friction",
    sentence="Viscous and dry friction of a moving mass on its rail; sticks at standstill.",
    group="mechanics",
    keywords="slide guide coulomb stiction viscous friction linear",
    ports=(Port("a", Link.ROD, "Rod", "left"), Port("b", Link.ROD, "Rod", "right", required=False), heat_port()),
    values=(
        Value("F_c", "Sliding force", "N", "11", low=0.0),
        Value("F_s", "Breakaway force", "N", "14", low=0.0),
        Value("b", "Viscous coefficient", "N·s/m", "5", low=0.0),
    ),
    signals=(
        Signal("force", "friction force", "N"),
        Signal("speed", "speed", "m/s"),
        Signal("loss", "loss", "W"),
    ),
    build=build_linear,
    contradictions=stiction_below_sliding("F_c", "F_s"),
    summary=lambda v, card: ("rail friction", f"{v['F_c']}"),
    main_signal="force",
    spine="≈",
)

KINDS = (ROTARY, LINEAR)
