"""Which card lies inside which assembly, and where a wire's end is seen from the sheet of one."""

from __future__ import annotations

from collections.abc import Iterable

from pendel.core.drive.document import Drive, End, Wire


def ancestors(drive: Drive, card: str) -> list[str]:
    """The assemblies that hold a card, from the innermost outwards."""
    outward: list[str] = []
    while card in drive.cards and (card := drive.cards[card].inside) and card not in outward:
        outward.append(card)
    return outward


def members(drive: Drive, assembly: str) -> dict[str, str]:
    """All cards inside, however deep: from their path of roles, such as ``leg/coil``, to their id."""
    roles: dict[str, str] = {}
    for key, card in drive.cards.items():
        line = ancestors(drive, key)
        if assembly in line:
            between = line[: line.index(assembly)]
            roles["/".join([*(drive.cards[k].role for k in reversed(between)), card.role])] = key
    return roles


def member_at(drive: Drive, assembly: str, path: str) -> str:
    """The card inside with this path of roles; empty when there is none."""
    for role in path.split("/"):
        assembly = next((k for k, c in drive.cards.items() if c.inside == assembly and c.role == role), "")
        if not assembly:
            break
    return assembly


def with_members(drive: Drive, cards: Iterable[str]) -> list[str]:
    """The cards and all that lies inside them."""
    wanted = dict.fromkeys(cards)
    return [key for key in drive.cards if key in wanted or not wanted.keys().isdisjoint(ancestors(drive, key))]


def shown_card(drive: Drive, card: str, inside: str) -> str:
    """The card of a sheet that stands for ``card``: itself, or the assembly that holds it; empty when neither
    is there."""
    line = [card, *ancestors(drive, card)]
    return next((key for key in line if key in drive.cards and drive.cards[key].inside == inside), "")


def resolved(drive: Drive, end: End) -> End:
    """The end of a wire or a value behind a face: what an assembly shows under that name, else ``end``
    itself."""
    card = drive.cards.get(end.card)
    if card is None or card.face is None:
        return end
    item = next((i for i in (*card.face.ports, *card.face.values) if i.name == end.port), None)
    inner = member_at(drive, end.card, item.path) if item else ""
    return resolved(drive, End(inner, item.item)) if item and inner else end


def faces_on(drive: Drive, inside: str) -> dict[End, End]:
    """What the assemblies on a sheet show of what is inside them: from the end there to the one on the
    face."""
    faces: dict[End, End] = {}
    for key, card in drive.cards.items():
        for port in card.face.ports if card.face and card.inside == inside else ():
            faces.setdefault(resolved(drive, End(key, port.name)), End(key, port.name))
    return faces


def shown_end(drive: Drive, end: End, inside: str, faces: dict[End, End] | None = None) -> End | None:
    """Where a wire's end is seen on the sheet of ``inside``: at its card or at the face that shows it.
    ``faces`` are those of `faces_on`, for who asks often."""
    card = shown_card(drive, end.card, inside)
    if not card or card == end.card:
        return End(card, end.port) if card else None
    return (faces_on(drive, inside) if faces is None else faces).get(end)


def wires_on(drive: Drive, inside: str) -> dict[str, Wire]:
    """The wires to draw on a sheet, with their ends as seen there."""
    if not inside and not any(c.inside for c in drive.cards.values()):
        return dict(drive.wires)
    wires, faces = {}, faces_on(drive, inside)
    for key, wire in drive.wires.items():
        a, b = (shown_end(drive, end, inside, faces) for end in (wire.a, wire.b))
        if a is not None and b is not None and a.card != b.card:
            wires[key] = Wire(a, b, wire.named)
    return wires


def sheet_of(drive: Drive, wire: Wire) -> str:
    """The innermost sheet on which both ends of a wire are seen."""
    outer = [*ancestors(drive, wire.b.card), ""]
    return next(sheet for sheet in (*ancestors(drive, wire.a.card), "") if sheet in outer)


def full_name(drive: Drive, card: str) -> str:
    """A card's name with those of the assemblies around it before it."""
    return " · ".join(drive.cards[k].name for k in reversed([card, *ancestors(drive, card)]))


def free_role(drive: Drive, assembly: str, wish: str) -> str:
    """A role no other card inside the assembly has; empty on the drive's own sheet."""
    if not assembly:
        return ""
    taken = {c.role for c in drive.cards.values() if c.inside == assembly}
    return next(r for r in (wish, *(f"{wish}_{n}" for n in range(2, len(taken) + 3))) if r not in taken)
