"""Edits of a drive. Every edit is a list of replaced records, so that undo is exact by construction.

The functions below make a `Command` from the drive as it is; nothing changes until it is applied.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import Any

from pendel.core.drive.document import (
    BESIDE_TABLES,
    PANEL_ORDERS,
    SETTING_UNITS,
    YES,
    Card,
    Drive,
    End,
    FluxTable,
    KeptTransfer,
    OwnEquations,
    PanelControl,
    Point,
    Quantity,
    Wire,
    renamed_signal,
    slug,
)
from pendel.core.drive.duties import DutyPlan
from pendel.core.drive.limits import check_changes, within_sheet
from pendel.core.drive.nesting import free_role, resolved, with_members
from pendel.core.drive.plans import Plan
from pendel.core.errors import DriveProblem
from pendel.core.quantities.expressions import renamed, with_other_cards
from pendel.core.quantities.named import check_name


@dataclass(frozen=True)
class Change:
    """One record replaced; ``None`` stands for absent. ``at`` is its place in the table."""

    table: str
    key: str
    before: Any
    after: Any
    at: int | None = None


@dataclass(frozen=True)
class Command:
    """One step of undo.

    ``gesture`` marks commands that continue one gesture (typing, dragging); equal ones merge.
    """

    title: str
    changes: tuple[Change, ...]
    gesture: str = ""

    def apply(self, drive: Drive, *, checked: bool = False) -> None:
        """Raises `DriveProblem`, and changes nothing, where the drive cannot hold what it would have then
        (`limits`); ``checked`` tells that this was looked at."""
        if not checked:
            check_changes(drive, self.changes)
        for change in self.changes:
            put(drive, change.table, change.key, change.after, change.at)
        drive.print_line({(c.table, c.key) for c in self.changes})

    def revert(self, drive: Drive) -> None:
        for change in reversed(self.changes):
            put(drive, change.table, change.key, change.before, change.at)
        drive.print_line({(c.table, c.key) for c in self.changes})

    def then(self, other: Command, title: str | None = None) -> Command:
        return Command(title or self.title, self.changes + other.changes, other.gesture)


def put(drive: Drive, table: str, key: str, record: Any, at: int | None) -> None:
    records = drive.table(table)
    if record is None:
        records.pop(key, None)
    elif key in records or at is None or at >= len(records):
        records[key] = record
    else:
        items = list(records.items())
        items.insert(at, (key, record))
        records.clear()
        records.update(items)


def changed(drive: Drive, table: str, key: str, after: Any) -> Change:
    records = drive.table(table)
    at = list(records).index(key) if key in records else len(records)
    return Change(table, key, records.get(key), after, at)


def removed(drive: Drive, table: str, keys: Iterable[str]) -> list[Change]:
    """Removals from the last to the first, so that each stored place holds on the way back."""
    order = {key: at for at, key in enumerate(drive.table(table))}
    wanted = sorted(keys, key=lambda k: -order[k])
    return [Change(table, key, drive.table(table)[key], None, order[key]) for key in wanted]


def card_of(drive: Drive, card: str) -> Card:
    if card not in drive.cards:
        raise DriveProblem(f"There is no card {card} in this drive.")
    return drive.cards[card]


def add_card(drive: Drive, kind: str, name: str, x: int = 0, y: int = 0, **fields: Any) -> Command:
    """Add a card; ``inside`` among the fields puts it on the sheet of an assembly."""
    name = drive.free_name(name)
    key = drive.free_id(name)
    role = free_role(drive, fields.get("inside", ""), key)
    card = Card(kind, name, within_sheet(x), within_sheet(y), **fields, role=role)
    return Command(f"Add {name}", (changed(drive, "cards", key, card),))


def remove_cards(drive: Drive, cards: Iterable[str]) -> Command:
    """Delete cards with their wires and taps; an assembly goes with all that is inside."""
    chosen = list(cards)
    title = f"Delete {card_of(drive, chosen[0]).name}" if len(chosen) == 1 else f"Delete {len(chosen)} cards"
    cards = with_members(drive, chosen)
    wires = {w.key for card in cards for w in drive.wires_of(card)}
    taps = [name for name, end in drive.taps.items() if end.card in cards]
    changes = removed(drive, "wires", wires) + removed(drive, "taps", taps) + removed(drive, "cards", cards)
    changes += removed(drive, "notes", [name for name, note in drive.notes.items() if note.inside in cards])
    return Command(title, tuple(changes))


def move_cards(drive: Drive, places: Mapping[str, tuple[int, int]], title: str = "Move", gesture: str = "") -> Command:
    changes = [
        changed(drive, "cards", card, replace(drive.cards[card], x=x, y=y))
        for card, (x, y) in ((card, (within_sheet(x), within_sheet(y))) for card, (x, y) in places.items())
        if (drive.cards[card].x, drive.cards[card].y) != (x, y)
    ]
    return Command(title, tuple(changes), gesture)


def set_value(drive: Drive, card: str, name: str, text: str) -> Command:
    """Set a value of a card; one on the face of an assembly stands for the value behind it."""
    card_of(drive, card)
    behind = resolved(drive, End(card, name))
    card, name, record = behind.card, behind.port, card_of(drive, behind.card)
    return Command(f"Set {name} of {record.name}", (changed(drive, "cards", card, record.with_value(name, text)),))


def set_values(drive: Drive, card: str, texts: Mapping[str, str], title: str) -> Command:
    record = card_of(drive, card)
    return Command(title, (changed(drive, "cards", card, replace(record, values={**record.values, **texts})),))


def set_proposed(drive: Drive, card: str, name: str, text: str) -> Command:
    """Set a value and remember that a rule proposed it."""
    record = card_of(drive, card).with_value(name, text)
    marked = replace(record, proposed={**record.proposed, name: text})
    return Command(f"Set {name} of {record.name}", (changed(drive, "cards", card, marked),))


def set_choice(drive: Drive, card: str, name: str, option: str) -> Command:
    record = card_of(drive, card)
    after = replace(record, choices={**record.choices, name: option})
    return Command(f"Set {name} of {record.name}", (changed(drive, "cards", card, after),))


def set_number_format(drive: Drive, card: str, number: str) -> Command:
    """Choose the number format of a block as shipped; an empty text takes the drive's."""
    record = card_of(drive, card)
    after = replace(record, number_format=number)
    return Command(f"Set number format of {record.name}", (changed(drive, "cards", card, after),))


def set_number_formats(drive: Drive, formats: Mapping[str, str], title: str) -> Command:
    """Number formats of several blocks in one step."""
    changes = [
        changed(drive, "cards", card, replace(card_of(drive, card), number_format=number))
        for card, number in formats.items()
        if card_of(drive, card).number_format != number
    ]
    return Command(title, tuple(changes))


def set_range(drive: Drive, card: str, name: str, ends: tuple[str, str] | None) -> Command:
    """Set by hand the lowest and highest value of a signal, for fixed point; none leaves it to be found."""
    return set_ranges(drive, card, {name: ends}, f"Set range of {name} of {card_of(drive, card).name}")


def set_ranges(drive: Drive, card: str, ranges: Mapping[str, tuple[str, str] | None], title: str) -> Command:
    """As `set_range`, for several names of a card."""
    record = card_of(drive, card)
    kept = {n: r for n, r in record.ranges.items() if n not in ranges} | {n: r for n, r in ranges.items() if r}
    return Command(title, (changed(drive, "cards", card, replace(record, ranges=kept)),))


def set_live(drive: Drive, card: str, live: Mapping[str, tuple[str, str] | None]) -> Command:
    """Have values of a block changeable while its code runs, between a lowest and a highest; with none, keep
    them as constants."""
    record = card_of(drive, card)
    after = {n: ends for n, ends in {**record.live, **live}.items() if ends is not None}
    names = ", ".join(live)
    return Command(
        f"Set live values {names} of {record.name}",
        (changed(drive, "cards", card, replace(record, live=after)),),
    )


def set_phase(drive: Drive, card: str, text: str) -> Command:
    """Set at which tick of its period a block runs; an empty text takes the first."""
    record = card_of(drive, card)
    return Command(
        f"Set phase of {record.name}",
        (changed(drive, "cards", card, replace(record, phase=text.strip())),),
    )


def set_outside(drive: Drive, card: str, text: str) -> Command:
    """Whether a block's outputs come from outside on the board: yes, or no. Raises `DriveProblem` for other words."""
    record = card_of(drive, card)
    word = text.strip().lower()
    if word not in (YES, "no", ""):
        raise DriveProblem(f"“{text}” does not say whether {record.name} comes from outside. Write yes or no.")
    after = replace(record, outside=YES if word == YES else "")
    where = "comes from outside" if after.outside else "is part of the controller"
    return Command(f"{record.name} {where}", (changed(drive, "cards", card, after),))


def set_pinned_key(drive: Drive, card: str, text: str) -> Command:
    """Set the number by which a block is found in the shipped code; an empty text lets it follow."""
    record = card_of(drive, card)
    after = replace(record, pinned_key=text.strip())
    return Command(f"Set pinned key of {record.name}", (changed(drive, "cards", card, after),))


def set_step(drive: Drive, card: str, name: str, step: str) -> Command:
    """Set by how much a key changes a value; an empty text leaves it to its size."""
    record = card_of(drive, card)
    after = replace(record, steps=_with_entry(record.steps, name, step))
    return Command(f"Set step of {name} of {record.name}", (changed(drive, "cards", card, after),))


def set_digits(drive: Drive, card: str, name: str, text: str) -> Command:
    """Set to how many digits steps round a value; an empty text leaves all that it has."""
    record = card_of(drive, card)
    after = replace(record, digits=_with_entry(record.digits, name, text.strip()))
    return Command(f"Set digits of {name} of {record.name}", (changed(drive, "cards", card, after),))


def set_base(drive: Drive, card: str, name: str, base: str) -> Command:
    """Set in which of `BASES` the word of a value is shown."""
    record = card_of(drive, card)
    after = replace(record, bases=_with_entry(record.bases, name, "" if base == "decimal" else base))
    return Command(f"Set base of {name} of {record.name}", (changed(drive, "cards", card, after),))


def _with_entry(texts: Mapping[str, str], name: str, text: str) -> dict[str, str]:
    """Texts with one of them set, or taken out where it is empty."""
    return {n: t for n, t in {**texts, name: text}.items() if t}


def set_seen(drive: Drive, sizes: Mapping[str, Mapping[str, float]]) -> Command:
    """Keep by card what its signals came to in a run."""
    changes = [
        changed(drive, "cards", card, replace(card_of(drive, card), seen=dict(seen))) for card, seen in sizes.items()
    ]
    return Command("Find ranges", tuple(changes))


def set_tuned_on(drive: Drive, card: str, gains: Mapping[str, float]) -> Command:
    """Remember what the gains further in were when those of a regulator were taken."""
    record = card_of(drive, card)
    return Command(
        f"Take gains of {record.name}",
        (changed(drive, "cards", card, replace(record, tuned_on=dict(gains))),),
    )


def set_kind(drive: Drive, card: str, kind: str, title: str) -> Command:
    """Turn a card into another of the same ports. Its wires stay, and so does every value, also those the new
    kind lacks."""
    record = card_of(drive, card)
    return Command(f"Make {record.name} a {title}", (changed(drive, "cards", card, replace(record, kind=kind)),))


def set_start(drive: Drive, card: str, state: str, text: str) -> Command:
    record = card_of(drive, card)
    after = replace(record, starts={**record.starts, state: text})
    return Command(f"Set starting value of {record.name}", (changed(drive, "cards", card, after),))


def set_profile(drive: Drive, card: str, points: Iterable[Point], gesture: str = "") -> Command:
    record = card_of(drive, card)
    after = replace(record, profile=tuple(points))
    return Command(f"Edit profile of {record.name}", (changed(drive, "cards", card, after),), gesture)


def set_rows(drive: Drive, card: str, rows: Iterable[Iterable[str]], title: str = "") -> Command:
    """Replace the rows of a card's table."""
    record = card_of(drive, card)
    after = replace(record, rows=tuple(tuple(row) for row in rows))
    return Command(title or f"Edit the table of {record.name}", (changed(drive, "cards", card, after),))


def set_flux(drive: Drive, card: str, table: FluxTable) -> Command:
    """Give a machine other flux tables."""
    record = card_of(drive, card)
    return Command(f"Load tables of {record.name}", (changed(drive, "cards", card, replace(record, flux=table)),))


def set_own(drive: Drive, card: str, own: OwnEquations) -> Command:
    """Replace a part's own equations; wires to ports that are gone go with them."""
    record = card_of(drive, card)
    ports = {line.split(":")[0].strip() for line in own.ports}
    names = (
        ports
        | {"mode"}  # of a state machine
        | {line.split(":")[0].strip() for line in own.unknowns + own.states}
        | {f"{p}_{q}" for p in ports for q in "uip"}
    )
    lost = [w.key for w in drive.wires_of(card) for end in (w.a, w.b) if end.card == card and end.port not in names]
    changes = [*removed(drive, "wires", lost), changed(drive, "cards", card, replace(record, own=own))]
    return Command(f"Edit equations of {record.name}", tuple(changes))


def rename_card(drive: Drive, card: str, name: str) -> Command:
    """Rename a card; its id, which names it in wires and in generated code, follows."""
    record = card_of(drive, card)
    name = name.strip()
    if not name:
        raise DriveProblem("A card needs a name.")
    if any(c.name == name for key, c in drive.cards.items() if key != card):
        raise DriveProblem(f"Another card is called {name} already. Choose a different name.")
    new = card if slug(name) == card else drive.free_id(name)
    order = list(drive.cards)

    def moved(end: End) -> End:
        return End(new, end.port) if end.card == card else end

    changes: list[Change] = []
    if new == card:
        changes.append(changed(drive, "cards", card, replace(record, name=name)))
    else:
        at = order.index(card)
        changes += [
            Change("cards", card, record, None, at),
            Change("cards", new, None, replace(record, name=name), at),
        ]
    for key, wire in drive.wires.items():
        if card in (wire.a.card, wire.b.card) and new != card:
            place = list(drive.wires).index(key)
            after = replace(wire, a=moved(wire.a), b=moved(wire.b))
            changes += [
                Change("wires", key, wire, None, place),
                Change("wires", after.key, None, after, place),
            ]
    changes += [changed(drive, "taps", tap, moved(end)) for tap, end in drive.taps.items() if end.card == card]

    def named(signal: str) -> str:
        return renamed_signal(signal, card, new)

    def follow(text: str) -> str:
        return with_other_cards(text, {card: new})

    if new == card:
        return Command(f"Rename {record.name} to {name}", tuple(changes))
    changes[1] = replace(changes[1], after=with_other_texts(replace(record, name=name), follow))  # it may name itself
    changes += texts_that_follow(drive, follow, named)
    changes += in_plans(drive, lambda plan: plan.with_card(card, new))
    changes += in_duties(drive, lambda duty: duty.with_card(card, new))
    notes = {n: replace(note, inside=new) for n, note in drive.notes.items() if note.inside == card}
    changes += [changed(drive, "notes", n, note) for n, note in notes.items()]
    views = {name: view.with_signals(named) for name, view in drive.views.items()}
    changes += [changed(drive, "views", n, view) for n, view in views.items() if view != drive.views[n]]
    for key, other in drive.cards.items():
        inside = new if other.inside == card else other.inside
        tuned_on = {named(name): gain for name, gain in other.tuned_on.items()}
        envelope = {name: named(text) for name, text in other.envelope.items()}
        follower = replace(with_other_texts(other, follow), inside=inside, tuned_on=tuned_on, envelope=envelope)
        if key != card and follower != other:
            changes.append(changed(drive, "cards", key, follower))
    return Command(f"Rename {record.name} to {name}", tuple(changes))


def with_other_texts(card: Card, change: Callable[[str], str]) -> Card:
    """A card with each of its expressions changed, and what was proposed for it."""
    proposed = {name: change(text) for name, text in card.proposed.items()}
    return replace(card.rewritten(change), proposed=proposed)


def texts_that_follow(drive: Drive, follow: Callable[[str], str], named: Callable[[str], str] = str) -> list[Change]:
    """Changes of all expressions but those of cards, and of all that names signals but wires, where something is called
    otherwise."""
    quantities = {n: replace(q, text=follow(q.text)) for n, q in drive.quantities.items()}
    changes = [changed(drive, "quantities", n, q) for n, q in quantities.items() if q != drive.quantities[n]]
    for key, control in drive.panel.items():
        target = control.target if control.target in PANEL_ORDERS else named(control.target)
        after = replace(control.rewritten(follow), target=target)
        if after != control:
            changes.append(changed(drive, "panel", key, after))
    for name in SETTING_UNITS:
        text = drive.settings[name]
        if follow(text) != text:
            changes.append(changed(drive, "settings", name, follow(text)))
    for name, kept in drive.transfers.items():
        opened = tuple(map(named, kept.opened))
        ends = {"source": named(kept.source), "target": named(kept.target)}
        way = replace(kept, **ends, opened=opened, at=follow(kept.at))
        if way != kept:
            changes.append(changed(drive, "transfers", name, way))
    return changes


def renamed_cards(command: Command) -> dict[str, str]:
    """Cards that have another id after it, by the one before."""

    def as_renamed(gone: Change, new: Change) -> Card:
        card = replace(gone.before, name=new.after.name)
        return with_other_texts(card, lambda text: with_other_cards(text, {gone.key: new.key}))

    return {
        gone.key: new.key
        for gone, new in pairwise(c for c in command.changes if c.table == "cards")
        if gone.at == new.at is not None and gone.after is None is new.before and as_renamed(gone, new) == new.after
    }


def add_wire(drive: Drive, a: End, b: End) -> Command:
    """Join two ports; one on the face of an assembly stands for the port behind it."""
    wire = Wire(resolved(drive, a), resolved(drive, b))
    return Command("Connect", (changed(drive, "wires", wire.key, wire),))


def remove_wires(drive: Drive, keys: Iterable[str]) -> Command:
    return Command("Delete wire", tuple(removed(drive, "wires", keys)))


PROPOSED = "proposed"
"""A quantity's note that begins so goes when its text is written over."""


def set_quantity(drive: Drive, name: str, text: str, note: str | None = None) -> Command:
    old = drive.quantities.get(name)
    if old is None:
        check_name(name)
    kept = old.note if old and not (old.note.startswith(PROPOSED) and text != old.text) else ""
    after = Quantity(text, kept if note is None else note)
    return Command(f"Set {name}" if old else f"Add {name}", (changed(drive, "quantities", name, after),))


def remove_quantity(drive: Drive, name: str) -> Command:
    return Command(f"Delete {name}", tuple(removed(drive, "quantities", [name])))


def rename_quantity(drive: Drive, old: str, new: str) -> Command:
    """Rename a quantity everywhere it is used."""
    new = new.strip()
    check_name(new)
    if new in drive.quantities:
        raise DriveProblem(f"{new} exists already. Choose a different name.")
    if old not in drive.quantities:
        raise DriveProblem(f"There is no quantity {old}.")
    at = list(drive.quantities).index(old)
    record = drive.quantities[old]
    changes = [Change("quantities", old, record, None, at), Change("quantities", new, None, record, at)]

    def follow(text: str) -> str:
        return renamed(text, old, new)

    for key, card in drive.cards.items():
        if (after := with_other_texts(card, follow)) != card:
            changes.append(changed(drive, "cards", key, after))
    changes += [
        change for change in texts_that_follow(drive, follow) if (change.table, change.key) != ("quantities", old)
    ]
    changes += in_plans(drive, lambda plan: plan.with_quantity(old, new))
    changes += in_duties(drive, lambda duty: duty.with_quantity(old, new))
    return Command(f"Rename {old} to {new}", tuple(changes))


def as_in(drive: Drive, other: Drive, title: str, *, whole: bool = False) -> Command:
    """A command that makes of the drive what another one is. Unless it is ``whole``, its title, its panel and its kept
    ways stay, and where cards lie that both have."""
    changes: list[Change] = []
    beside = BESIDE_TABLES if whole else ()
    for table in ("wires", "taps", "cards", "quantities", "settings", *beside):
        now, wanted = drive.table(table), dict(other.table(table))
        if table == "cards" and not whole:
            here = {key: (now[key].x, now[key].y) for key in wanted if key in now}
            wanted |= {key: replace(wanted[key], x=x, y=y) for key, (x, y) in here.items()}
        if table == "settings" and not whole:
            wanted["title"] = drive.title
        in_order = [key for key in now if key in wanted] == [key for key in wanted if key in now]
        stays = {key: record for key, record in now.items() if in_order and key in wanted}
        changes += removed(drive, table, [key for key in now if key not in stays])
        changes += [
            Change(table, key, stays.get(key), record, at)
            for at, (key, record) in enumerate(wanted.items())
            if stays.get(key) != record
        ]
    return Command(title, tuple(changes))


def set_setting(drive: Drive, name: str, text: str) -> Command:
    if name not in drive.settings:
        raise DriveProblem(f"There is no setting {name}.")
    return Command(f"Set {name.replace('_', ' ')}", (changed(drive, "settings", name, text),))


def set_control(drive: Drive, key: str, control: PanelControl, gesture: str = "") -> Command:
    """Put a control on the operator panel, or change one; an empty key adds one."""
    if not key:
        number = 1
        while f"control_{number}" in drive.panel:
            number += 1
        key = f"control_{number}"
    verb = "Change" if key in drive.panel else "Add"
    title = f"{verb} {control.form} {control.title}".rstrip()
    return Command(title, (changed(drive, "panel", key, control),), gesture)


def remove_controls(drive: Drive, keys: Iterable[str]) -> Command:
    return Command("Delete control", tuple(removed(drive, "panel", keys)))


def keep_transfer(drive: Drive, name: str, kept: KeptTransfer) -> Command:
    """Keep a way between two signals by a name, in the place of one of that name."""
    verb = "Change" if name in drive.transfers else "Keep"
    return Command(f"{verb} {name}", (changed(drive, "transfers", name, kept),))


def remove_transfer(drive: Drive, name: str) -> Command:
    return Command(f"Forget {name}", tuple(removed(drive, "transfers", [name])))


def set_plan(drive: Drive, name: str, plan: Plan, title: str = "") -> Command:
    """Plan a series by a name, in the place of one of that name."""
    title = title or f"{'Change' if name in drive.plans else 'Plan'} {name}"
    return Command(title, (changed(drive, "plans", name, plan),))


def remove_plan(drive: Drive, name: str) -> Command:
    return Command(f"Delete {name}", tuple(removed(drive, "plans", [name])))


def rename_plan(drive: Drive, old: str, new: str) -> Command:
    """Raises `DriveProblem`."""
    new = new.strip()
    if not new or new in drive.plans:
        raise DriveProblem(f"A series is called {new} already." if new else "A series needs a name.")
    at, plan = list(drive.plans).index(old), drive.plans[old]
    return Command(f"Rename {old}", (Change("plans", old, plan, None, at), Change("plans", new, None, plan, at)))


def in_plans(drive: Drive, change: Callable[[Plan], Plan]) -> list[Change]:
    """Changes of planned series that name something that is called otherwise now."""
    return [
        changed(drive, "plans", name, after) for name, plan in drive.plans.items() if (after := change(plan)) != plan
    ]


def in_duties(drive: Drive, change: Callable[[DutyPlan], DutyPlan]) -> list[Change]:
    """Changes of duties that name something that is called otherwise now."""
    return [
        changed(drive, "duties", name, after) for name, duty in drive.duties.items() if (after := change(duty)) != duty
    ]


def add_tap(drive: Drive, name: str, end: End) -> Command:
    check_name(name)
    if name in drive.taps:
        raise DriveProblem(f"A tap is called {name} already. Choose a different name.")
    return Command(f"Add tap {name}", (changed(drive, "taps", name, end),))


def remove_tap(drive: Drive, name: str) -> Command:
    return Command(f"Delete tap {name}", tuple(removed(drive, "taps", [name])))


def rename_tap(drive: Drive, old: str, new: str) -> Command:
    check_name(new)
    if new in drive.taps:
        raise DriveProblem(f"A tap is called {new} already. Choose a different name.")
    at, end = list(drive.taps).index(old), drive.taps[old]
    changes = [Change("taps", old, end, None, at), Change("taps", new, None, end, at)]
    changes += in_transfers(drive, lambda name: new if name == old else name)
    return Command(f"Rename tap {old}", tuple(changes))


def in_transfers(drive: Drive, named: Callable[[str], str]) -> list[Change]:
    """Changes of kept ways whose signals are called otherwise now."""
    changes = []
    for way, kept in drive.transfers.items():
        opened = tuple(map(named, kept.opened))
        moved = replace(kept, source=named(kept.source), target=named(kept.target), opened=opened)
        if moved != kept:
            changes.append(changed(drive, "transfers", way, moved))
    return changes
