"""Verbs that change a drive."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from pendel.core.catalogue.assembly import kind_in
from pendel.core.catalogue.declare import Block, Deck, Kind
from pendel.core.drive import commands, cycles
from pendel.core.drive.assemblies import completed
from pendel.core.drive.commands import Command
from pendel.core.drive.document import Drive, End
from pendel.core.drive.user_text import known_name, near_words
from pendel.core.errors import DriveProblem
from pendel.core.formats.cells import cells_of, rows_of

OUTSIDE = "outside"
"""Of a block: whether it comes from outside on the board, yes or no."""


def apply(drive: Drive, command: Command) -> Command:
    """Take a command with all that follows from it, and return the whole. Raises `DriveProblem`."""
    whole = completed(drive, command)
    whole.apply(drive)
    return whole


def check_choices(kind: Kind, options: Mapping[str, str], owner: str) -> None:
    """Raise `DriveProblem` for a choice, or an option of one, that a kind has not."""
    for name, option in options.items():
        known_name("choice", name, (c.name for c in kind.choices), owner)
        choice = next(c for c in kind.choices if c.name == name)
        known_name(f"option of {name}", option, (stored for stored, _ in choice.options), owner)


def kind_of_card(drive: Drive, card: str) -> Kind:
    """Raises `DriveProblem` with a near name where there is no such card."""
    if card not in drive.cards:
        raise DriveProblem(f"There is no card “{card}”.{near_words(card, drive.cards)}")
    return kind_in(drive, card)


def named(drive: Drive, name: str, text: str) -> Command:
    """The command that sets a quantity, a setting, or a value or choice of a card (``card.name``).

    Raises
    ------
    DriveProblem
        where there is no such name.
    """
    if "." in name:
        end = End.parse(name)
        kind = kind_of_card(drive, end.card)
        if kind.value(end.port) is not None:
            return commands.set_value(drive, end.card, end.port, text)
        if any(c.name == end.port for c in kind.choices):
            check_choices(kind, {end.port: text}, end.card)
            return commands.set_choice(drive, end.card, end.port, text)
        if end.port == OUTSIDE and isinstance(kind, Block) and kind.deck is Deck.CONTROL:
            return commands.set_outside(drive, end.card, text)
        raise nothing_of(drive, name)
    if name in drive.quantities:
        return commands.set_quantity(drive, name, text)
    if name in drive.settings:
        return commands.set_setting(drive, name, text)
    raise nothing_of(drive, name)


def nothing_of(drive: Drive, name: str) -> DriveProblem:
    """What is said where no quantity, setting, value or choice has a name. Raises `DriveProblem` where there is no such
    card."""
    if "." in name:
        end = End.parse(name)
        kind = kind_of_card(drive, end.card)
        known = [*(v.name for v in kind.values), *(c.name for c in kind.choices)]
        return DriveProblem(
            f"There is no value {name} in this drive.{near_words(end.port, known)} {end.card} has "
            f"{', '.join(known) or 'none'}."
        )
    known = [*drive.quantities, *drive.settings]
    return DriveProblem(
        f"There is no quantity or setting {name} in this drive.{near_words(name, known)} It has {', '.join(known)}."
    )


def set_named(drive: Drive, assignments: Iterable[str]) -> None:
    """Set what is written as ``NAME=VALUE``, one after the other. Raises `DriveProblem`."""
    for assignment in assignments:
        name, equals, text = assignment.partition("=")
        if not equals or not text.strip() or not name.strip():
            raise DriveProblem(f"“{assignment}” is not NAME=VALUE.")
        apply(drive, named(drive, name.strip(), text))


def take_profile(
    drive: Drive,
    card: str,
    cycle: str | None = None,
    table: str | None = None,
    columns: Iterable[str] = (),
    times: int | str | None = None,
) -> None:
    """Give a card the profile of a built-in ``cycle``, or of a ``table`` in text whose ``columns`` (time, value) are
    named or are the first two, as often as ``times`` one after another.

    Raises
    ------
    DriveProblem
        for a card without a profile, an unknown cycle, neither or both of them.
    FileProblem
        for a text that holds no such table.
    """
    if not kind_of_card(drive, card).has_profile:
        raise DriveProblem(f"{card} has no profile.")
    if (cycle is None) == (table is None):
        raise DriveProblem("Give either a cycle or a table.")
    text = str(times or 1)
    count = int(text) if text.isascii() and text.isdigit() and len(text) < 10 else 0
    if count < 1:
        raise DriveProblem(f"“{times}” is no count. Give a whole number from 1 on, such as 4.")
    corners = _corners_in(table, list(columns)) if table is not None else list(cycles.cycle(cycle or ""))
    apply(drive, commands.set_profile(drive, card, cycles.repeated_texts(corners, count)))


def _corners_in(text: str, columns: list[str]) -> list[tuple[str, str]]:
    cells = cells_of(text, "the table")
    picked = [0, 1]
    if columns:
        if len(columns) != 2:
            raise DriveProblem("Name two columns, of the time and of the value.")
        for name in columns:
            known_name("column", name, cells.names, "the table")
        picked = [cells.names.index(name) for name in columns]
    if len(cells.names) < 2:
        raise DriveProblem("The table has one column; time and value are wanted.")
    return [(time, level) for time, level in rows_of(cells, picked, [cells.units[n] for n in picked])]


def propose_gains(drive: Drive) -> Mapping[str, str]:
    """Take first gains for every loop, inside out. Returns the loops that are left as they are, with the
    reason.

    Raises
    ------
    DriveHasFindings
    """
    from pendel.core.loops.tuning.tuning import propose_all  # slow to load

    proposal = propose_all(drive)
    apply(drive, proposal.command)
    return dict(proposal.left)
