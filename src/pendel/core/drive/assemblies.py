"""Assemblies: cards folded into one, with a face of chosen values and ports.

Folding changes nothing of what computes: every card keeps its id and its wires, and the assembly is one more
card that says what it shows. Assemblies of one design follow each other: an edit inside one is repeated in
the others, in the same command, so that one undo takes back all of it.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace

from pendel.core.drive.clips import Clip, paste_cards
from pendel.core.drive.commands import Change, Command, card_of, changed, put, removed
from pendel.core.drive.document import Card, Drive, End, Face, FaceItem, Wire
from pendel.core.drive.nesting import ancestors, free_role, members, resolved, with_members
from pendel.core.errors import DriveProblem
from pendel.core.quantities.named import check_name

KIND = "assembly"


def face_of(drive: Drive, assembly: str) -> Face:
    face = card_of(drive, assembly).face
    if face is None:
        raise DriveProblem(f"{drive.cards[assembly].name} is no assembly. Select cards and group them first.")
    return face


def others_of(drive: Drive, assembly: str) -> list[str]:
    """The other assemblies of the same design."""
    design = face_of(drive, assembly).design
    return [k for k, c in drive.cards.items() if c.face is not None and c.face.design == design and k != assembly]


def follows(drive: Drive, assembly: str) -> bool:
    """Whether it is kept like its design. One inside another of its own design is not: it would grow without
    end."""
    face = drive.cards[assembly].face
    if face is None or not face.follows:
        return False
    around = (drive.cards[a].face for a in ancestors(drive, assembly))
    return all(f is None or f.design != face.design for f in around)


def free_item(taken: Iterable[FaceItem], wish: str, role: str) -> str:
    """A name for something on the face: the one wished for, else with its card's role before it, else
    numbered."""
    names = {i.name for i in taken}
    stem = f"{role.replace('/', '_')}_{wish}"
    candidates = [wish, stem, *(f"{stem}_{n}" for n in range(2, len(names) + 3))]
    return next(c for c in candidates if c not in names)


# commands ----------------------------------------------------------------------


def free_design(drive: Drive, name: str) -> str:
    taken = {c.face.design for c in drive.cards.values() if c.face is not None}
    return next(d for d in (name, *(f"{name} {n}" for n in range(2, len(taken) + 3))) if d not in taken)


def group(drive: Drive, cards: Iterable[str], name: str, also: Iterable[End] = ()) -> Command:
    """Fold cards into an assembly. Its face gets the ports that lead out, and those of ``also``.

    Raises
    ------
    DriveProblem
        when there is nothing to fold, or the cards lie on different sheets.
    """
    wanted = set(cards)
    chosen = [key for key in drive.cards if key in wanted]
    if not chosen:
        raise DriveProblem("Select the cards that are to become an assembly first.")
    sheets = {drive.cards[key].inside for key in chosen}
    if len(sheets) > 1:
        raise DriveProblem("The cards lie on different sheets. Group cards of one sheet.")
    name = drive.free_name(name.strip() or "Assembly")
    new = drive.free_id(name)
    inner = set(with_members(drive, chosen))
    left, top = min(drive.cards[k].x for k in chosen), min(drive.cards[k].y for k in chosen)
    places = {key: (drive.cards[key].x - left + 8, drive.cards[key].y - top + 12) for key in chosen}
    if len(set(places.values())) < len(chosen):  # made without a sheet: side by side
        places = {key: (8 + 38 * n, 12) for n, key in enumerate(chosen)}
    middle = sorted(chosen, key=lambda k: drive.cards[k].x)[len(chosen) // 2]
    assembly = Card(
        KIND,
        name,
        drive.cards[middle].x,
        drive.cards[middle].y,
        inside=sheets.pop(),
        face=Face(free_design(drive, name)),
    )
    assembly = replace(assembly, role=free_role(drive, assembly.inside, new))
    changes = [changed(drive, "cards", new, assembly)]
    for key, (x, y) in places.items():
        card = replace(drive.cards[key], inside=new, role=key, x=x, y=y)
        changes.append(changed(drive, "cards", key, card))
    scratch = drive.copy()
    Command("", tuple(changes)).apply(scratch)
    leaving = [
        end
        for w in drive.wires.values()
        for end in (w.a, w.b)
        if (w.a.card in inner) != (w.b.card in inner) and end.card in inner
    ]
    face = assembly.face
    assert face is not None
    face = replace(face, ports=with_ports(scratch, new, face.ports, [*leaving, *also]))
    changes[0] = replace(changes[0], after=replace(assembly, face=face))
    return Command(f"Group into {name}", tuple(changes))


def with_ports(drive: Drive, assembly: str, ports: tuple[FaceItem, ...], ends: Iterable[End]) -> tuple[FaceItem, ...]:
    """The ports of a face with those added that the given ends need."""
    paths = {key: path for path, key in members(drive, assembly).items()}
    items = list(ports)
    for end in dict.fromkeys(ends):
        if end.card in paths and not any((i.path, i.item) == (paths[end.card], end.port) for i in items):
            path = paths[end.card]
            items.append(FaceItem(free_item(items, end.port, path), path, end.port))
    return tuple(items)


def dissolve(drive: Drive, assembly: str) -> Command:
    """Put the cards of an assembly back on its own sheet, in place of its card."""
    face_of(drive, assembly)
    record = drive.cards[assembly]
    changes = []
    inner = [key for key, card in drive.cards.items() if card.inside == assembly]
    left, top = (min((getattr(drive.cards[k], axis) for k in inner), default=0) for axis in "xy")
    for key in inner:
        card = drive.cards[key]
        x, y, role = record.x + card.x - left, record.y + card.y - top, free_role(drive, record.inside, key)
        changes.append(changed(drive, "cards", key, replace(card, inside=record.inside, role=role, x=x, y=y)))
    notes = {name: note for name, note in drive.notes.items() if note.inside == assembly}
    changes += [changed(drive, "notes", name, replace(note, inside=record.inside)) for name, note in notes.items()]
    return Command(f"Dissolve {record.name}", (*changes, *removed(drive, "cards", [assembly])))


def set_face(drive: Drive, assembly: str, face: Face, title: str = "") -> Command:
    record = card_of(drive, assembly)
    return Command(
        title or f"Change the face of {record.name}",
        (changed(drive, "cards", assembly, replace(record, face=face)),),
    )


def path_inside(drive: Drive, assembly: str, card: str) -> str:
    """Raises `DriveProblem` when the card is not inside."""
    path = next((p for p, key in members(drive, assembly).items() if key == card), None)
    if path is None:
        raise DriveProblem(f"{card} is not inside {card_of(drive, assembly).name}.")
    return path


def show_value(drive: Drive, assembly: str, end: End, shown: bool, name: str = "") -> Command:
    """Put a value of a card inside on the face, under a name of its own if wished, or take it off.

    Raises
    ------
    DriveProblem
        when the card is not inside, or the name is taken.
    """
    face, path = face_of(drive, assembly), path_inside(drive, assembly, end.card)
    rest = tuple(i for i in face.values if (i.path, i.item) != (path, end.port))
    if not shown:
        return set_face(drive, assembly, replace(face, values=rest))
    taken = (*rest, *face.ports)
    if any(i.name == name for i in taken):
        raise DriveProblem(f"The face of {drive.cards[assembly].name} shows {name} already. Choose a different name.")
    item = FaceItem(name or free_item(taken, end.port, path), path, end.port)
    return set_face(drive, assembly, replace(face, values=(*rest, item)))


def rename_item(drive: Drive, assembly: str, old: str, new: str) -> Command:
    """Rename a value or port on the face.

    Raises
    ------
    DriveProblem
        when the name is no identifier, or taken.
    """
    face, new = face_of(drive, assembly), new.strip()
    check_name(new)
    if any(i.name == new for i in (*face.values, *face.ports)):
        raise DriveProblem(f"The face of {drive.cards[assembly].name} shows {new} already. Choose a different name.")
    values, ports = (
        tuple(replace(i, name=new) if i.name == old else i for i in items) for items in (face.values, face.ports)
    )
    return set_face(drive, assembly, replace(face, values=values, ports=ports), f"Rename {old} to {new}")


def show_port(drive: Drive, assembly: str, end: End, shown: bool) -> Command:
    """Put a port of a card inside on the face, or take it off with the wires that led to it from outside.

    Raises
    ------
    DriveProblem
        when the port is on no card inside.
    """
    face, path = face_of(drive, assembly), path_inside(drive, assembly, end.card)
    if shown:
        return set_face(drive, assembly, replace(face, ports=with_ports(drive, assembly, face.ports, [end])))
    inner = set(members(drive, assembly).values())
    outer = [w.key for w in drive.wires.values() if end in (w.a, w.b) and not {w.a.card, w.b.card} <= inner]
    rest = tuple(i for i in face.ports if (i.path, i.item) != (path, end.port))
    command = set_face(drive, assembly, replace(face, ports=rest))
    return Command(command.title, (*removed(drive, "wires", outer), *command.changes))


def let_follow(drive: Drive, assembly: str, follows: bool, after: str) -> Command:
    """Let an assembly follow its design from now on, becoming like ``after`` at once, or let it stand
    alone.

    Raises
    ------
    DriveProblem
        when ``after`` is no other assembly of that design, or one of the two lies in the other.
    """
    record = card_of(drive, assembly)
    if follows and after != assembly:
        model = card_of(drive, after).name
        if after not in others_of(drive, assembly):
            raise DriveProblem(f"{record.name} cannot become like {model}, which is no assembly of its design.")
        if after in ancestors(drive, assembly) or assembly in ancestors(drive, after):
            raise DriveProblem(f"{record.name} cannot become like {model}: one of them lies in the other.")
    face = replace(face_of(drive, assembly), follows=follows)
    title = f"Let {record.name} {'follow' if follows else 'stand alone'}"
    command = set_face(drive, assembly, face, title)
    if not follows:
        return command
    scratch = drive.copy()
    command.apply(scratch)
    return Command(title, (*command.changes, *made_alike(scratch, after, assembly)))


def insert(drive: Drive, clipped: Clip, sheet: str = "", offset: int = 8) -> tuple[Command, list[str]]:
    """Paste cards, on the sheet of an assembly or the drive's own. Assemblies that are not alike become
    designs of their own."""
    command, new = paste_cards(drive, clipped, offset, sheet)
    scratch = drive.copy()
    command.apply(scratch)
    changes = list(command.changes)
    around = {scratch.cards[a].face for a in (sheet, *ancestors(scratch, sheet)) if a in scratch.cards}
    inside_itself = {face.design for face in around if face is not None}
    renamed: dict[str, str] = {}
    for key in (c.key for c in command.changes if c.table == "cards"):
        record = scratch.cards[key]
        if record.face is None or not record.face.follows:
            continue
        design = record.face.design
        model = next((o for o in others_of(scratch, key) if o in drive.cards and follows(scratch, o)), None)
        alone = design in renamed or design in inside_itself
        if alone or (model is not None and made_alike(scratch, model, key)):
            design = renamed.setdefault(design, free_design(scratch, design))
            after = replace(record, face=replace(record.face, design=design))
            changes += applied(scratch, [changed(scratch, "cards", key, after)])
    return Command(command.title, tuple(changes)), new


# following -----------------------------------------------------------------------


def completed(drive: Drive, command: Command) -> Command:
    """The command with what must follow from it: faces kept true, and other assemblies of an edited design
    kept alike."""
    if not any(c.face is not None for c in drive.cards.values()) and not any(
        isinstance(c.after, Card) and c.after.face is not None for c in command.changes
    ):
        return command
    scratch = drive.copy()
    command.apply(scratch)
    more: list[Change] = []
    touched = touched_by(drive, scratch, command.changes)
    done = set(touched)
    for assembly in touched:
        more += applied(scratch, true_face(scratch, assembly))
    while touched:
        source = touched.pop(0)
        if source not in scratch.cards:
            continue
        more += applied(scratch, true_face(scratch, source))  # what is inside may have been made alike since
        if not follows(scratch, source):
            continue
        for other in others_of(scratch, source):
            if other not in scratch.cards:  # it went with what held it, which was made alike
                continue
            nested = source in ancestors(scratch, other) or other in ancestors(scratch, source)
            if other in done or nested or not follows(scratch, other):
                continue
            done.add(other)
            changes = made_alike(scratch, source, other)
            Command("", tuple(changes)).apply(scratch)
            more += changes
            # What holds the other has changed too, after all that the command itself touched; its face may show what
            # went, also where it was looked at before.
            touched += [a for a in ancestors(scratch, other) if changes and a not in touched]
    return Command(command.title, command.changes + tuple(more), command.gesture) if more else command


def applied(drive: Drive, changes: list[Change]) -> list[Change]:
    for change in changes:
        put(drive, change.table, change.key, change.after, change.at)
    return changes


def touched_by(before: Drive, after: Drive, changes: Iterable[Change]) -> list[str]:
    """Assemblies whose inside or face the changes edit, the innermost first."""
    assemblies: dict[str, None] = {}
    for change in changes:
        for drive, record in ((before, change.before), (after, change.after)):
            if isinstance(record, Wire):
                assemblies.update(dict.fromkeys([*ancestors(drive, record.a.card), *ancestors(drive, record.b.card)]))
            elif isinstance(record, Card):
                own = [change.key] if record.face is not None and change.before is not None else []
                assemblies.update(dict.fromkeys([*own, *ancestors(drive, change.key)]))
    kept = [k for k in assemblies if k in after.cards and after.cards[k].face is not None]
    return sorted(kept, key=lambda k: -len(ancestors(after, k)))


def true_face(drive: Drive, assembly: str) -> list[Change]:
    """What a face must change: nothing on it that is gone, and a port for each wire that leads out."""
    record = drive.cards[assembly]
    face = face_of(drive, assembly)
    inner = members(drive, assembly)
    ids = set(inner.values())
    values, ports = ([i for i in items if leads(drive, inner, i)] for items in (face.values, face.ports))
    leaving = [
        e for w in drive.wires.values() for e in (w.a, w.b) if e.card in ids and (w.a.card in ids) != (w.b.card in ids)
    ]
    after = replace(face, values=tuple(values), ports=with_ports(drive, assembly, tuple(ports), leaving))
    return [changed(drive, "cards", assembly, replace(record, face=after))] if after != face else []


def leads(drive: Drive, inner: Mapping[str, str], item: FaceItem) -> bool:
    """Whether something on a face is of a card inside, and on that card's own face if it has one."""
    if item.path not in inner:
        return False
    face = drive.cards[inner[item.path]].face
    return face is None or any(i.name == item.item for i in (*face.values, *face.ports))


def made_alike(drive: Drive, source: str, target: str) -> list[Change]:
    """What makes the inside of ``target`` like that of ``source``, but for the values on the face and the
    wires outside."""
    drive = drive.copy()
    changes: list[Change] = []

    def do(*more: Change) -> None:
        changes.extend(applied(drive, list(more)))

    model, twin = members(drive, source), members(drive, target)
    gone = [key for path, key in twin.items() if path not in model]
    do(*removed(drive, "wires", {w.key for key in gone for w in drive.wires_of(key)}))
    do(*removed(drive, "taps", [name for name, end in drive.taps.items() if end.card in gone]))
    do(*removed(drive, "cards", gone))
    twin = {path: key for path, key in twin.items() if path in model}
    face, shown = face_of(drive, source), values_shown(drive, source)
    for path in sorted(model, key=lambda p: p.count("/")):
        wanted = drive.cards[model[path]]
        holder = twin[path.rpartition("/")[0]] if "/" in path else target
        if path in twin:
            old = drive.cards[twin[path]]
            texts = kept_values(shown.get(path, set()), wanted.values, old.values)
            card = replace(
                wanted,
                name=old.name,
                inside=holder,
                values=texts,
                # How it is shipped hangs on what it is used for, so it is each assembly's own.
                number_format=old.number_format,
                ranges=old.ranges,
                seen=old.seen,
                live=old.live,
                pinned_key=old.pinned_key,
                tuned_on=old.tuned_on,
            )
        else:
            name = drive.free_name(wanted.name)
            twin[path] = drive.free_id(name)
            card = replace(wanted, name=name, inside=holder, ranges={}, seen={}, live={}, pinned_key="", tuned_on={})
        if card != drive.cards.get(twin[path]):
            do(changed(drive, "cards", twin[path], card))
    record = drive.cards[target]
    if record.face is not None and replace(face, follows=record.face.follows) != record.face:
        do(changed(drive, "cards", target, replace(record, face=replace(face, follows=record.face.follows))))
    model_wires = [
        replace(w, a=End(twin[a], w.a.port), b=End(twin[b], w.b.port)) for w, a, b in inner_wires(drive, model)
    ]
    twin_wires = {w.key for w, _, _ in inner_wires(drive, twin)}
    do(*removed(drive, "wires", twin_wires - {w.key for w in model_wires}))
    for wire in model_wires:
        if wire != drive.wires.get(wire.key):
            do(changed(drive, "wires", wire.key, wire))
    return changes


def values_shown(drive: Drive, assembly: str) -> dict[str, set[str]]:
    """By path of a card inside, its values that stand on the face."""
    paths = {key: path for path, key in members(drive, assembly).items()}
    shown: dict[str, set[str]] = {}
    for item in face_of(drive, assembly).values:
        end = resolved(drive, End(assembly, item.name))
        if end.card in paths:
            shown.setdefault(paths[end.card], set()).add(end.port)
    return shown


def kept_values(shown: set[str], wanted: Mapping[str, str], own: Mapping[str, str]) -> dict[str, str]:
    """Texts of the design, but for what stands on the face: that is each assembly's own."""
    texts = {name: text for name, text in wanted.items() if name not in shown}
    return {**texts, **{name: own[name] for name in shown if name in own}}


def inner_wires(drive: Drive, inner: Mapping[str, str]) -> list[tuple[Wire, str, str]]:
    """Wires among the members, with the paths of both ends."""
    paths = {key: path for path, key in inner.items()}
    return [
        (w, paths[w.a.card], paths[w.b.card]) for w in drive.wires.values() if w.a.card in paths and w.b.card in paths
    ]
