"""Wires that are obvious among some cards: each open port joined to what it is usually joined to, where only one thing
can be meant. What could be meant in several ways is asked."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, field, replace
from itertools import combinations

from pendel.core.catalogue.assembly import kind_in
from pendel.core.catalogue.declare import ANY, Block, Kind, Link, Part, Port
from pendel.core.check.signal_units import SignalUnits
from pendel.core.check.unit_fit import misfits
from pendel.core.drive import commands
from pendel.core.drive.commands import Change, Command
from pendel.core.drive.document import Drive, End
from pendel.core.drive.nesting import ancestors, resolved
from pendel.core.errors import DriveProblem, PendelError
from pendel.core.quantities.units import NONE, Dimension, unit
from pendel.core.vocabulary import Group, ValueRole
from pendel.core.wiring.habits import Habits, Place, Through, habits, place_of

PHASES = ("a", "b", "c", "d", "q")
USUAL, NAMED, NEXT_TO_IT = 10.0, 3.0, 1.0
"""What speaks for a wire: that such wires are usual, that both ends are of one phase, or open, that it leads to the
next card of a row."""
ROW = 12
"""Cards that are no further apart in height lie in one row, steps of the grid."""
STEP = 22
"""Between two sensors that are added one below the other, in steps of the grid."""
SENSOR_SIZE = (34, 17)


@dataclass(frozen=True)
class NewSensor:
    """A sensor that is added between a part's signal and a block's input."""

    kind: Through
    name: str
    source: End
    target: End


@dataclass(frozen=True)
class Question:
    """An input, or a port, that several things could be joined to, the likeliest first."""

    target: End
    sources: tuple[End, ...]


@dataclass
class Obvious:
    """``sure`` are pairs of ends, signals from source to reader."""

    sure: list[tuple[End, End]] = field(default_factory=list)
    sensors: list[NewSensor] = field(default_factory=list)
    asked: list[Question] = field(default_factory=list)

    def __bool__(self) -> bool:
        return bool(self.sure or self.sensors or self.asked)


def obvious(drive: Drive, cards: Collection[str]) -> Obvious:
    """What is obvious among some cards of one sheet. The drive stays as it is."""
    return _Search(drive, cards).found()


def usual_pair(drive: Drive, first: str, second: str) -> tuple[End, End] | None:
    """How two cards are usually joined directly, the first on the left of the second and giving where it is a signal;
    none where that is not one way."""
    search = _Search(drive, (first, second))
    search.row = [first, second]
    between = {frozenset(pair) for pair in search.found().sure if {end.card for end in pair} == {first, second}}
    if len(between) != 1:
        return None
    a, b = sorted(*between, key=lambda end: end.card != first)
    port = search.kinds[a.card].port(a.port)
    return None if port is not None and port.link is Link.SIGNAL_IN else (a, b)


def agreeing(drive: Drive, end: End, card: str, *, surely: bool = False) -> list[str]:
    """Ports of another card that may feed an input, or read an output, as far as their units are known; ``surely`` with
    an input that is made for a unit only where that is what comes."""
    search = _Search(drive, (end.card, card))
    end = resolved_or(drive, end)
    here = search.kinds[end.card].port(end.port)
    found = []
    for there, port in search._ports(card):
        if port.link is Link.SIGNAL_OUT and here is not None and here.link is Link.SIGNAL_IN:
            source, target = there, end
        elif port.link is Link.SIGNAL_IN and (here is None or here.link is Link.SIGNAL_OUT):
            source, target = end, there
        else:
            continue
        unknown = surely and search._given(source) is None and search._wanted(target) is not None
        if search._units_agree(source, target) and not unknown:
            found.append(port.name)
    return found


def obvious_command(drive: Drive, found: Obvious, answers: Iterable[tuple[End, End]] = ()) -> Command:
    """All of it as one step of undo, with what was answered: pairs of a target and its source."""
    scratch = drive.copy()
    changes: list[Change] = []

    def take(command: Command) -> None:
        command.apply(scratch)
        changes.extend(command.changes)

    for sensor in found.sensors:
        reader = scratch.cards[sensor.target.card]
        x, y = free_place(scratch, reader.inside, (reader.x, reader.y + STEP))
        command = commands.add_card(scratch, sensor.kind.kind, sensor.name, x, y, inside=reader.inside)
        take(command)
        key = command.changes[0].key
        take(commands.add_wire(scratch, resolved(scratch, sensor.source), End(key, sensor.kind.into)))
        take(commands.add_wire(scratch, End(key, sensor.kind.out), resolved(scratch, sensor.target)))
    for a, b in [*found.sure, *((source, target) for target, source in answers)]:
        take(commands.add_wire(scratch, resolved(scratch, a), resolved(scratch, b)))
    return Command("Wire what is obvious", tuple(changes))


def free_place(drive: Drive, inside: str, near: tuple[int, int]) -> tuple[int, int]:
    """Below a place, where no card lies."""
    x, y = near
    taken = [(c.x, c.y) for c in drive.cards.values() if c.inside == inside]
    while any(abs(x - cx) < SENSOR_SIZE[0] and abs(y - cy) < SENSOR_SIZE[1] for cx, cy in taken):
        y += STEP
    return x, y


class _Search:
    def __init__(self, drive: Drive, cards: Collection[str]):
        self.drive = drive
        self.kinds: dict[str, Kind] = {}
        for key in drive.cards:
            try:
                self.kinds[key] = kind_in(drive, key)
            except DriveProblem:
                continue
        shown = [key for key in drive.cards if key in cards and not set(ancestors(drive, key)) & set(cards)]
        self.cards = [key for key in shown if key in self.kinds]
        self.faces: dict[str, End] = {}
        """Ends within an assembly, which are looked at in its stead, and where its face shows them."""
        for key in self.cards:
            for port in self.kinds[key].ports if drive.cards[key].face is not None else ():
                self.faces[str(resolved_or(drive, End(key, port.name)))] = End(key, port.name)
        self.habits: Habits = habits()
        self.units = SignalUnits(drive, self.kinds)
        self.result = Obvious()
        self.source_of = {str(w.b): w.a for w in drive.wires.values()}
        """Of inputs that are fed."""
        self.joined = {str(end) for w in drive.wires.values() for end in (w.a, w.b)}
        self.ports_of: dict[str, list[tuple[End, Port]]] = {}
        self.dimensions: dict[End, Dimension | None] = {}
        """Of what outputs give, and of what inputs are made for."""
        self.row: list[str] = []
        """Cards from left to right, where that is told by something else than their places."""
        self.parted: set[frozenset[str]] | None = None
        self.nets: dict[str, str] = {}
        """For joined ports, one that stands for all that are joined with them; for cards that move together too."""
        for wire in drive.wires.values():
            self._join(wire.a, wire.b)

    def found(self) -> Obvious:
        self._power()
        readers = [end for key in self.cards for end, port in self._ports(key) if port.link is Link.SIGNAL_IN]
        measuring = [end for end in readers if self.kinds[end.card].group == Group.SENSOR]
        ordered = [*measuring, *(end for end in readers if end not in measuring)]
        open_ends = [end for end in ordered if str(end) not in self.source_of]
        while fed := [end for end in open_ends if self._feed(end)]:  # what is fed decides about the rest
            open_ends = [end for end in open_ends if end not in fed]
        for end in open_ends:
            self._ask(end)
        self._ask_for_twins()
        self._doubt_units()
        return self._on_faces()

    def _ports(self, card: str) -> list[tuple[End, Port]]:
        """Ports of a card, and where they are: of an assembly within it."""
        if card not in self.ports_of:
            ports = self.kinds[card].ports
            self.ports_of[card] = [(resolved_or(self.drive, End(card, port.name)), port) for port in ports]
        return self.ports_of[card]

    def _face(self, end: End) -> End:
        """Where an end is seen on the sheet."""
        return self.faces.get(str(end), end)

    def _on_faces(self) -> Obvious:
        found, face = self.result, self._face
        return Obvious(
            [(face(a), face(b)) for a, b in found.sure],
            [replace(each, source=face(each.source), target=face(each.target)) for each in found.sensors],
            [Question(face(each.target), tuple(map(face, each.sources))) for each in found.asked],
        )

    def _ask_for_twins(self) -> None:
        """One signal for two inputs of the same sort is rarely meant for both."""
        by_source: dict[tuple[str, Place], list[tuple[End, End]]] = defaultdict(list)
        for pair in self.result.sure:
            source, target = pair
            port = self.kinds[target.card].port(target.port)
            if port is not None and port.link is Link.SIGNAL_IN:
                by_source[(str(source), place_of(self.kinds[target.card], target.port))].append(pair)
        for twins in by_source.values():
            for pair in twins if len(twins) > 1 else ():
                self.result.sure.remove(pair)
                self.result.asked.append(Question(pair[1], (pair[0],)))

    def _doubt_units(self) -> None:
        """Units of some signals are known only once all is wired: what does not fit then is asked."""
        if not (self.result.sure or self.result.sensors):
            return
        scratch = self.drive.copy()
        obvious_command(self.drive, self.result).apply(scratch)
        units = SignalUnits(scratch)
        for source, target in [*self.result.sure]:
            port = self.kinds[target.card].port(target.port)
            if port is None or port.link is not Link.SIGNAL_IN or not misfits(units, self.kinds[target.card], target):
                continue
            self.result.sure.remove((source, target))
            if port.required:
                self.result.asked.append(Question(target, (source,)))
        self.result.sensors = [
            s for s in self.result.sensors if not misfits(units, self.kinds[s.target.card], s.target)
        ]

    # power -------------------------------------------------------------------

    def _power(self) -> None:
        """The likeliest first, so that what is joined decides about the rest. Single lines of circuits are left alone:
        to which node an end belongs is never obvious."""
        open_ends = [
            end
            for key in self.cards
            for end, port in self._ports(key)
            if not port.link.is_signal and port.link is not Link.LINE and str(end) not in self.joined
        ]
        while open_ends:
            choices = {end: self._partners(end) for end in open_ends}
            best = {end: self._only(end, ranked) for end, ranked in choices.items()}
            pair = next(
                (
                    (end, there)
                    for end, there in best.items()
                    if there is not None and (there not in best or self._means(best[there], end))
                ),
                None,
            )
            if pair is None:
                for end, ranked in choices.items():
                    port = self.kinds[end.card].port(end.port)
                    if ranked and port is not None and port.required:
                        self.result.asked.append(Question(end, tuple(there for _, there in ranked)))
                return
            self.result.sure.append(pair)
            self._join(*pair)
            self.joined |= set(map(str, pair))
            open_ends = [end for end in open_ends if end not in pair]

    def _only(self, end: End, ranked: list[tuple[float, End]]) -> End | None:
        """The likeliest, where nothing else is as likely but what is joined with it already. Where a card has three and
        more such ports, as a planetary gear, each has a part of its own, and only one way is obvious."""
        kind = self.kinds[end.card]
        port = kind.port(end.port)
        own_parts = port is not None and sum(p.link is port.link for p in kind.ports) > 2 and port.link.moves
        top = [there for score, there in ranked if own_parts or score == ranked[0][0]]
        return top[0] if len({self._net(str(there)) for there in top}) == 1 else None

    def _means(self, chosen: End | None, end: End) -> bool:
        return chosen is not None and self._net(str(chosen)) == self._net(str(end))

    def _partners(self, end: End) -> list[tuple[float, End]]:
        """Ports of the other cards that it may be joined to, with what speaks for them."""
        kind = self.kinds[end.card]
        port = kind.port(end.port)
        assert port is not None
        here = self._face(end).card
        found = []
        for key in self.cards:
            for there, other in self._ports(key):
                if key == here or port.link is not other.link or self._net(str(there)) == self._net(str(end)):
                    continue
                if port.link.moves and self._net(there.card) == self._net(end.card):
                    continue  # a ring of shafts is never obvious
                if frozenset((self._net(str(there)), self._net(str(end)))) in self._parted():
                    continue  # nor what shorts a card that lies between
                usual = self.habits.direct[(place_of(kind, end.port), place_of(self.kinds[there.card], there.port))]
                if not usual:
                    continue
                score = USUAL + (NAMED if str(there) not in self.joined else 0.0)
                beside = self._beside(here, key)
                runs_on = (port.side, other.side) == (("right", "left") if beside > 0 else ("left", "right"))
                found.append((score + (NEXT_TO_IT if beside and runs_on else 0.0), there))
        return sorted(found, key=lambda pair: -pair[0])

    def _beside(self, card: str, other: str) -> int:
        """1 where another card is the next to the right in one row, -1 to the left, 0 where it is neither."""
        if self.row:
            return self.row.index(other) - self.row.index(card)
        here, there = self.drive.cards[card], self.drive.cards[other]
        if abs(here.y - there.y) > ROW:
            return 0
        row = [c.x for key in self.cards if abs((c := self.drive.cards[key]).y - here.y) <= ROW]
        low, high = sorted((here.x, there.x))
        between = any(low < x < high for x in row)
        return 0 if between or here.x == there.x else 1 if there.x > here.x else -1

    def _net(self, end: str) -> str:
        while end in self.nets:
            end = self.nets[end]
        return end

    def _join(self, a: End, b: End) -> None:
        self._unite(str(a), str(b))
        port = self.kinds[a.card].port(a.port) if a.card in self.kinds else None
        if port is not None and port.link.moves:
            self._unite(a.card, b.card)

    def _unite(self, a: str, b: str) -> None:
        one, other = self._net(a), self._net(b)
        if one != other:
            self.nets[one] = other
            self.parted = None

    def _parted(self) -> set[frozenset[str]]:
        """Pairs of nets between which a card has one port each, as the input and the output of a converter."""
        if self.parted is None:
            self.parted = set()
            for key in self.cards:
                powers = [(port.link, self._net(str(end))) for end, port in self._ports(key) if not port.link.is_signal]
                self.parted |= {
                    frozenset((one, other))
                    for (link, one), (like, other) in combinations(powers, 2)
                    if link is like and one != other
                }
        return self.parted

    # signals -----------------------------------------------------------------

    def _feed(self, target: End) -> bool:
        """Whether it is obvious what feeds an input: what usually does, for a regulator of several blocks the only one
        that feeds nothing yet; or a sensor that is added."""
        ranked = self._sources(target)
        best = [source for score, source in ranked if score == ranked[0][0] and score >= USUAL]
        feeding = set(map(str, self.source_of.values()))
        unread = [source for source in best if str(source) not in feeding]
        chosen = unread if len(unread) == 1 and self._for_a_regulator(target, best) else best
        if len(chosen) == 1:
            self.result.sure.append((chosen[0], target))
            self.source_of[str(target)] = chosen[0]
            return True
        if not best and (sensor := self._sensor(target)) is not None:
            self.result.sensors.append(sensor)
            self.source_of[str(target)] = sensor.source
            return True
        return False

    def _for_a_regulator(self, target: End, sources: list[End]) -> bool:
        """A setpoint and what is measured are of one regulator each; what a part has is read as often as one likes."""
        kind = self.kinds[target.card]
        blocks = all(isinstance(self.kinds[source.card], Block) for source in sources)
        return isinstance(kind, Block) and bool(kind.regulates) and blocks

    def _ask(self, target: End) -> None:
        port = self.kinds[target.card].port(target.port)
        likely = [source for score, source in self._sources(target) if score > 0]
        if likely and port is not None and port.required:
            self.result.asked.append(Question(target, tuple(likely)))

    def _sources(self, target: End) -> list[tuple[float, End]]:
        """Outputs among the cards that may feed an input, with what speaks for them."""
        reader = self.kinds[target.card]
        wanted = place_of(reader, target.port)
        measured = {each.actual for each in getattr(reader, "regulates", ())}
        compared = {port for pair in getattr(reader, "alike", ()) if target.port in pair for port in pair}
        taken = {str(self.source_of.get(str(End(target.card, port)))) for port in compared}
        found = []
        for key in self.cards:
            if key == self._face(target).card:
                continue
            ends = [end for end, port in self._ports(key) if port.link is Link.SIGNAL_OUT]
            part = self.kinds[key]
            if isinstance(part, Part) and reader.group == Group.SENSOR:
                ends += [End(key, signal.name) for signal in part.signals]
            for source in ends:
                kind = self.kinds[source.card]
                if self._phase(source) and self._phase(target) and self._phase(source) != self._phase(target):
                    continue
                if not self._units_agree(source, target) or str(source) in taken:
                    continue  # what is compared with itself means nothing
                usual = self.habits.direct[(place_of(kind, source.port), wanted)]
                if target.port in measured and not any(p.link is Link.SIGNAL_IN for p in kind.ports):
                    usual = 0  # what is wished, and not measured, though an example tries a regulator so
                others = [self.habits.direct[(place_of(kind, source.port), place_of(reader, p))] for p in compared]
                if usual < max(others, default=0):
                    usual = 0  # it is rather what this is compared with
                alike = bool(self._phase(source)) and self._phase(source) == self._phase(target)
                measures = alike and self._is_measured(source, target)
                score = (USUAL if usual or measures else 0.0) + (NAMED if alike else 0.0)
                if usual or alike or isinstance(kind, Block):
                    found.append((score + (0.1 if not usual and not alike else 0.0), source))
        return sorted(found, key=lambda pair: -pair[0])

    def _is_measured(self, source: End, target: End) -> bool:
        """Whether a quantity with a unit goes into a sensor for it, or out of one."""
        kind, reader = self.kinds[source.card], self.kinds[target.card]
        given, wanted = self._given(source), self._wanted(target)
        if given is None or wanted not in (None, given) or not any(given):
            return False
        return reader.group == Group.SENSOR if isinstance(kind, Part) else kind.group == Group.SENSOR

    def _phase(self, end: End) -> str:
        """The phase, or d or q, that an end is of: by its name, by what a sensor measures, or by the card's name."""
        last = end.port.rpartition("_")[2]
        if last in PHASES and end.port != last or end.port in PHASES:
            return last
        kind = self.kinds.get(end.card)
        if kind is None or kind.group != Group.SENSOR:
            return ""
        for port in kind.ports:
            source = self.source_of.get(str(End(end.card, port.name)))
            if port.link is Link.SIGNAL_IN and source is not None and source.card != end.card:
                return self._phase(source)
        word = self.drive.cards[end.card].name.split()[-1].lower()
        return word if word in PHASES else ""

    def _units_agree(self, source: End, target: End) -> bool:
        for end, tell in ((source, self._given), (target, self._wanted)):
            if end not in self.dimensions:
                self.dimensions[end] = tell(end)
        given, wanted = self.dimensions[source], self.dimensions[target]
        return given is None or wanted is None or given == wanted

    def _given(self, end: End) -> Dimension | None:
        """The dimension of a signal, where something tells it."""
        kind = self.kinds[end.card]
        port = kind.port(end.port)
        if port is None and isinstance(kind, Part):
            return dimension_of(next((s.unit for s in kind.signals if s.name == end.port), ANY))
        if port is not None and port.unit != ANY:
            return dimension_of(port.unit)
        end = resolved_or(self.drive, end)
        told = self.units.of(end)
        return dimension_of(told) if told else self._by_limits(end)

    def _by_limits(self, end: End) -> Dimension | None:
        """Of an output whose limits are written with a unit."""
        kind = self.kinds.get(end.card)
        for value in kind.values if kind is not None else ():
            if value.unit == ANY and value.at == end.port and value.role is not ValueRole.GAIN:
                written = self.units.written(end.card, value.name, value)
                if written is not None and written.dim != NONE:
                    return written.dim
        return None

    def _wanted(self, end: End) -> Dimension | None:
        """The dimension that an input is made for: as declared, or what a gain makes its output of."""
        kind = self.kinds[end.card]
        port = kind.port(end.port)
        if port is not None and port.unit != ANY:
            return dimension_of(port.unit)
        if isinstance(kind, Block) and kind.gain is not None:
            value, into = kind.gain
            if end.port != into and {end.port, into} not in map(set, kind.alike):
                return None
            whole = self._given(End(end.card, "out"))
            gain = self.units.written(end.card, value, kind.value(value))
            if whole is not None and gain is not None and gain.dim != NONE:
                return tuple(o - g for o, g in zip(whole, gain.dim))
        return None

    def _sensor(self, target: End) -> NewSensor | None:
        """A sensor that brings what an input usually gets from one of the parts."""
        reader = self.kinds[target.card]
        wanted = place_of(reader, target.port)
        found: list[tuple[int, End, Through]] = []
        for key in self.cards:
            kind = self.kinds[key]
            if not isinstance(kind, Part):
                continue
            for signal in kind.signals:
                through = self.habits.through.get((place_of(kind, signal.name), wanted))
                if through and not self._measured(End(key, signal.name), through):
                    best, count = through.most_common(1)[0]
                    found.append((count, End(key, signal.name), best))
        found.sort(key=lambda each: -each[0])
        if not found or len(found) > 1 and found[0][0] == found[1][0]:
            return None
        _, source, best = found[0]
        words = source.port.replace("_", " ")
        return NewSensor(best, f"{words[:1].upper()}{words[1:]}", source, target)

    def _measured(self, signal: End, through: Mapping[Through, int]) -> bool:
        """Whether a sensor of this sort measures the signal already."""
        return any(
            str(w.a) == str(signal)
            and self.kinds.get(w.b.card, None) is not None
            and self.kinds[w.b.card].id in {each.kind for each in through}
            for w in self.drive.wires.values()
        )


def dimension_of(unit_text: str) -> Dimension | None:
    """None where the unit is one of any signal, or none that is known."""
    if unit_text == ANY:
        return None
    try:
        return unit(unit_text)[1]
    except PendelError:
        return None


def resolved_or(drive: Drive, end: End) -> End:
    """The end behind an assembly's face, where it is one."""
    try:
        return resolved(drive, end)
    except (DriveProblem, KeyError):
        return end
