"""Fields of values that keys and the wheel change in steps, as one step of undo."""

from __future__ import annotations

from dataclasses import replace

from pendel.app.session.session import Session
from pendel.app.widgets.basic import Field
from pendel.core.catalogue.assembly import kind_in
from pendel.core.catalogue.card_names import names_of
from pendel.core.catalogue.declare import ANY
from pendel.core.drive import commands
from pendel.core.quantities.stepping import digits_of, stepped


def value_after(session: Session, card: str, name: str, text: str, count: int) -> str:
    """A value's text after so many of its steps. Raises `ExpressionProblem`."""
    drive = session.drive
    value = kind_in(drive, card).value(name)
    names = names_of(drive)
    unit = value.unit if value is not None and value.unit != ANY else ""
    record = drive.cards[card]
    return stepped(text, unit, count, record.steps.get(name, ""), names, digits_of(record.digits.get(name, "")))


def step_value(session: Session, card: str, name: str, text: str, gesture: str) -> None:
    """Take a value's text; what is of one gesture is undone at once."""
    command = commands.set_value(session.drive, card, name, text)
    session.do(replace(command, gesture=f"step {card}.{name} {gesture}"))


def change_in_steps(field: Field, session: Session, card: str, name: str) -> None:
    """Have keys and the wheel change the value that a field shows."""
    field.stepper = lambda text, count: value_after(session, card, name, text, count)
    field.stepped.connect(lambda text: step_value(session, card, name, text, f"{id(field)} {field.times_entered}"))
