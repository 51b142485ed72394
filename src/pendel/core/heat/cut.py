"""A drive parted at its heat ports: the electrical side at given temperatures, and the bodies that its heat goes to."""

from __future__ import annotations

from dataclasses import dataclass, replace

from pendel.core.catalogue.card_names import with_values_of_missing
from pendel.core.catalogue.declare import Kind, Part
from pendel.core.catalogue.heat import stand_ins
from pendel.core.catalogue.index import kind_of
from pendel.core.drive import commands
from pendel.core.drive.document import BESIDE_TABLES, Drive, End, Wire
from pendel.core.errors import DriveProblem
from pendel.core.vocabulary import Group, Link, SignalRole


@dataclass(frozen=True)
class Joint:
    """Heat ports that one wire joins, some of parts and some of bodies. ``ends`` are those of parts; ``meter`` is the
    card that holds its temperature on the electrical side, ``source`` the one that gives its heat on the other.
    ``is_read`` tells that a block acts by that temperature; where nothing else is there, no part gives heat."""

    ends: tuple[End, ...]
    title: str
    meter: str
    source: str
    is_read: bool = False
    body: End | None = None
    """The port of a body among them."""

    @property
    def end(self) -> End:
        """By which it is known: the port of a part, else that of the body that is read."""
        return self.ends[0] if self.ends or self.body is None else self.body


@dataclass(frozen=True)
class Fan:
    """A body of which a shaft's speed decides: ``speed`` is the signal (rad/s) on the electrical side, ``value`` what
    it is on the other."""

    speed: str
    value: str


@dataclass(frozen=True)
class Cut:
    """``electric`` has a calorimeter at each joint in place of all bodies, ``bodies`` a source of heat."""

    electric: Drive
    bodies: Drive
    joints: tuple[Joint, ...]
    fans: tuple[Fan, ...] = ()


def is_body(kind: Kind) -> bool:
    return isinstance(kind, Part) and kind.group == Group.HEAT


def cut(drive: Drive) -> Cut:
    """Part a drive.

    Raises
    ------
    DriveProblem
        where no part gives heat to a body, or a block reads something else of one than its temperature.
    """
    kinds = {key: kind_of(card) for key, card in drive.cards.items()}
    bodies = [key for key, kind in kinds.items() if is_body(kind)]
    joints = [net for net in heat_nets(drive, kinds) if any(end.card not in bodies for end in net)]
    joints = [net for net in joints if any(end.card in bodies for end in net)]
    if not joints:
        raise DriveProblem(
            "No part gives heat to a body. Wire a heat port, such as that of a machine's winding, to a heat capacity "
            "or a transient impedance, and these to an ambient."
        )
    electric, cold = drive.copy(), drive.copy()
    for table in (*BESIDE_TABLES, "taps"):
        electric.table(table).clear()
        cold.table(table).clear()
    cold.cards = {key: replace(drive.cards[key], inside="", role="") for key in bodies}
    cold.wires = {k: w for k, w in drive.wires.items() if w.a.card in bodies and w.b.card in bodies}
    readers, fans = _readers(drive, kinds, bodies), _fans(drive, kinds, bodies)
    for port in readers:
        if not any(port in net for net in joints):
            joints.append([port])
    shafts = [[end for end in net if end.card not in bodies] for net in _shaft_nets(drive, kinds, bodies)]
    commands.remove_cards(electric, bodies).apply(electric)
    for net in shafts:  # what a fan's shaft held together stays so
        for end in net[1:]:
            if not {Wire(net[0], end).key, Wire(end, net[0]).key} & set(electric.wires):
                commands.add_wire(electric, net[0], end).apply(electric)
    found = []
    for number, net in enumerate(joints, 1):
        parts = tuple(end for end in net if end.card not in bodies)
        title = ", ".join(titles_of(drive, kinds, end) for end in parts or net)
        meter = _added(electric, stand_ins.METER, f"Meter {number}")
        for end in parts:
            commands.add_wire(electric, end, End(meter, stand_ins.PORT)).apply(electric)
        if not parts:  # nothing gives heat there, so that is said
            nothing = _added(electric, stand_ins.SOURCE, f"Nothing {number}")
            commands.set_value(electric, nothing, End.parse(stand_ins.given(nothing)).port, "0 W").apply(electric)
            commands.add_wire(electric, End(nothing, stand_ins.PORT), End(meter, stand_ins.PORT)).apply(electric)
        acting = [reader for port, ends in readers.items() if port in net for reader in ends]
        for reader in acting:
            commands.add_wire(electric, End.parse(stand_ins.felt(meter)), reader).apply(electric)
        source = _added(cold, stand_ins.SOURCE, f"Source {number}")
        inside = next(end for end in net if end.card in bodies)
        commands.add_wire(cold, End(source, stand_ins.PORT), inside).apply(cold)
        found.append(Joint(parts, title, meter, source, bool(acting), inside))
    _join_bodies(drive, cold, joints, bodies)
    for part in (electric, cold):
        with_values_of_missing(part, drive)
    return Cut(electric, cold, tuple(found), fans)


def _shaft_nets(drive: Drive, kinds: dict[str, Kind], bodies: list[str]) -> list[list[End]]:
    """Ends that wires join with the shaft of a body."""
    nets: list[list[End]] = []
    for key in bodies:
        for port in kinds[key].ports:
            net = [End(key, port.name)] if port.link is Link.SHAFT else []
            for end in net:
                for wire in drive.wires.values():
                    net += [there for there in (wire.a, wire.b) if end in (wire.a, wire.b) and there not in net]
            if len(net) > 1 and not any(net[0] in known for known in nets):
                nets.append(net)
    return nets


def _fans(drive: Drive, kinds: dict[str, Kind], bodies: list[str]) -> tuple[Fan, ...]:
    """Raises `DriveProblem` where no part on the shaft says how fast it turns."""
    found = []
    for net in _shaft_nets(drive, kinds, bodies):
        speeds = [
            f"{end.card}.{name}"
            for end in net
            if isinstance(kind := kinds[end.card], Part) and end.card not in bodies
            for name in kind.signal_names(SignalRole.SPEED)
        ]
        fans = [end.card for end in net if end.card in bodies]
        if not speeds:
            raise DriveProblem(
                f"The shaft of {drive.cards[fans[0]].name} has no machine that says how fast it turns, which a duty "
                "has to know. Wire it to a machine's shaft."
            )
        found += [Fan(speeds[0], stand_ins.blown(card)) for card in fans]
    return tuple(found)


def titles_of(drive: Drive, kinds: dict[str, Kind], end: End) -> str:
    """What a heat port is called: its card, and where that has several, the port."""
    ports = [p for p in kinds[end.card].ports if p.link is Link.HEAT]
    port = next(p for p in ports if p.name == end.port)
    name = drive.cards[end.card].name
    return name if len(ports) == 1 else f"{name}: {port.label.lower()}"


def heat_nets(drive: Drive, kinds: dict[str, Kind]) -> list[list[End]]:
    """Ends that heat wires join, in the order of the wires."""
    nets: list[list[End]] = []
    for wire in drive.wires.values():
        port = kinds[wire.a.card].port(wire.a.port) if wire.a.card in kinds else None
        if port is None or port.link is not Link.HEAT:
            continue
        touched = [net for net in nets if wire.a in net or wire.b in net]
        joined = [end for net in touched for end in net]
        joined += [end for end in (wire.a, wire.b) if end not in joined]
        place = nets.index(touched[0]) if touched else len(nets)
        nets[place : place + bool(touched)] = [joined]
        nets = [net for net in nets if net not in touched[1:]]
    return nets


def _added(drive: Drive, kind: str, name: str) -> str:
    """The key of a new card."""
    before = set(drive.cards)
    commands.add_card(drive, kind, name).apply(drive)
    return next(key for key in drive.cards if key not in before)


def _readers(drive: Drive, kinds: dict[str, Kind], bodies: list[str]) -> dict[End, list[End]]:
    """Ends that read the temperature of a body, by the body's port that has it. Raises `DriveProblem` where something
    else of a body is read."""
    found: dict[End, list[End]] = {}
    for wire in drive.wires.values():
        port = kinds[wire.a.card].port(wire.a.port)
        if wire.a.card not in bodies or wire.b.card in bodies or port is not None:
            continue
        if f"{wire.a}" != stand_ins.felt(wire.a.card):
            raise DriveProblem(
                f"{drive.cards[wire.b.card].name} reads “{wire.a.port}” of {drive.cards[wire.a.card].name}. Over a "
                "duty a controller can act by a body's temperature alone: take that wire off, or look at runs."
            )
        found.setdefault(End(wire.a.card, stand_ins.PORT), []).append(wire.b)
    return found


def _join_bodies(drive: Drive, cold: Drive, joints: list[list[End]], bodies: list[str]) -> None:
    """Bodies that were joined through a part's port alone stay joined."""
    for net in joints:
        inside = [end for end in net if end.card in bodies]
        present = {(w.a, w.b) for w in cold.wires.values()}
        for first, second in zip(inside, inside[1:]):
            if (first, second) not in present and (second, first) not in present:
                commands.add_wire(cold, first, second).apply(cold)
