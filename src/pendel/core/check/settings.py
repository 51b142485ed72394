"""Quantities and settings."""

from __future__ import annotations

from pendel.core.catalogue.declare import Block
from pendel.core.check.examined import Subject
from pendel.core.drive.document import SETTING_UNITS
from pendel.core.drive.findings import attention, fault
from pendel.core.errors import ExpressionProblem, OutOfRange
from pendel.core.plant.methods import METHODS
from pendel.core.quantities.expressions import value_in_field
from pendel.core.quantities.units import number_text
from pendel.core.vocabulary import levels

MOST_TICKS = 5e7


def quantities(of: Subject) -> None:
    drive, names, result = of.drive, of.names, of.result
    for name in drive.quantities:
        try:
            result.quantities[name] = names(name).si
        except ExpressionProblem as problem:
            result.findings.append(fault(f"Quantity {name}: {problem}", field=name))


def settings(of: Subject) -> None:
    drive, kinds, names, result = of.drive, of.kinds, of.names, of.result
    for name, unit_text in SETTING_UNITS.items():
        text = drive.settings[name]
        label = {"until": "Run length", "tick": "Sampling period", "step": "Fixed step"}.get(
            name, name.replace("_", " ").capitalize()
        )
        try:
            value = value_in_field(text, unit_text, names)
            if name in ("until", "tick", "step", "tolerance") and value <= 0:
                raise OutOfRange(label, text, "above 0")
            if name == "computing_delay" and value not in (0.0, 1.0):
                raise OutOfRange(label, text, "0 or 1 tick")
            if name == "tolerance" and not 1e-12 <= value <= 0.1:
                raise OutOfRange(label, text, "between 1e-12 and 0.1")
            result.settings[name] = value
        except ExpressionProblem as problem:
            result.findings.append(fault(f"{label}: {problem}", field=name))
    until, tick = result.settings.get("until"), result.settings.get("tick")
    sampled = any(isinstance(kind, Block) for kind in kinds.values())
    if sampled and until is not None and tick is not None and until / tick > MOST_TICKS:
        result.findings.append(
            fault(
                f"The run of {number_text(until)} s has {number_text(until / tick)} ticks; at most "
                f"{number_text(MOST_TICKS / 1e6)} million are possible. Shorten the run or lengthen the "
                "sampling period.",
                field="until",
            )
        )
    if sampled and until is not None and tick is not None and tick >= until:
        result.findings.append(
            attention(
                f"The sampling period of {number_text(tick)} s is no shorter than the run of "
                f"{number_text(until)} s, so "
                "every block runs once. Shorten the period or run longer.",
                field="tick",
            )
        )
    level = drive.settings["level"]
    if level not in levels():
        sentence = f"The level of detail “{level}” is not known. Choose one of {', '.join(levels())}."
        result.findings.append(fault(sentence, field="level"))
    if drive.settings["method"] not in METHODS:
        result.findings.append(
            fault(
                f"The method “{drive.settings['method']}” is not known. "
                f"Choose one of {', '.join(m.id for m in METHODS)}.",
                field="method",
            )
        )
