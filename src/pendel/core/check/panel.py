"""The operator panel: whether each control acts on, or shows, something that there is."""

from __future__ import annotations

from pendel.core.catalogue.declare import Part
from pendel.core.check.examined import Subject
from pendel.core.check.signal_units import SignalUnits
from pendel.core.check.values import unit_in_use
from pendel.core.check.wires import end_exists
from pendel.core.drive import commands
from pendel.core.drive.document import PANEL_INPUTS, PANEL_ORDERS, End, PanelControl
from pendel.core.drive.findings import attention
from pendel.core.errors import DriveProblem, ExpressionProblem, PendelError
from pendel.core.quantities.expressions import value_in_field


def panel(of: Subject) -> None:
    units = SignalUnits(of.drive, of.kinds, of.names)
    for key, control in of.drive.panel.items():
        if sentence := problem_of_control(of, units, control):
            fix = commands.remove_controls(of.drive, [key])
            of.result.findings.append(attention(sentence, "", f"panel:{key}", fix, "Delete the control"))


def problem_of_control(of: Subject, units: SignalUnits, control: PanelControl) -> str:
    """What is wrong with a control, in a sentence that names it, or nothing."""
    what = f"Panel, {control.title or control.form}"
    if control.form == "events" and not control.target:
        return ""
    if control.target in PANEL_ORDERS:
        return "" if control.form == "button" else f"{what}: only a button can give the order {control.target}."
    card, _, name = control.target.partition(".")
    kind = of.kinds.get(card)
    if control.form in PANEL_INPUTS:
        if kind is None or kind.value(name) is None:
            return f"{what}: there is no value {control.target or '–'} to change. Choose another one."
    else:
        try:
            there = end_exists(of.drive, of.kinds, End.parse(control.target)) is not None
        except DriveProblem:
            there = False
        if not there and not (kind is not None and kind.value(name) is not None):
            return f"{what}: there is no signal {control.target or '–'} to show. Choose another one."
    return problem_of_texts(of, units, control, what)


def unit_of_target(of: Subject, units: SignalUnits, target: str) -> str:
    """Of the signal or the value. Raises `PendelError` where it is not known."""
    card, _, name = target.partition(".")
    kind = of.kinds[card]
    if kind.value(name) is not None and kind.port(name) is None:
        return unit_in_use(of.drive, card, name)
    signals = kind.signals if isinstance(kind, Part) else ()
    shown = next((s.unit for s in signals if s.name == name), None)
    return units.of(End(card, name)) if shown is None else shown


def problem_of_texts(of: Subject, units: SignalUnits, control: PanelControl, what: str) -> str:
    try:
        unit = unit_of_target(of, units, control.target)
    except PendelError:  # a finding says what is wrong with the value
        return ""
    for text in control.texts:
        if text.strip():
            try:
                value_in_field(text, unit, of.names)
            except ExpressionProblem as problem:
                return f"{what}: {problem}"
    if control.form == "slider" and not (control.low.strip() and control.high.strip()):
        return f"{what}: a slider needs a lowest and a highest value. Enter both."
    if control.form == "selector" and not control.names:
        return f"{what}: a selector needs names, such as 0 = idle. Enter some."
    return ""
