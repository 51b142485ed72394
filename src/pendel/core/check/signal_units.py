"""Units of signals, declared or followed through the wiring."""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Callable, Generator, Mapping

from pendel.core.catalogue.card_names import names_of
from pendel.core.catalogue.declare import ANY, Block, Kind, Link, Part, Value
from pendel.core.catalogue.index import kind_of
from pendel.core.drive.document import Drive, End
from pendel.core.errors import DriveProblem, ExpressionProblem
from pendel.core.quantities.expressions import Measured, evaluate, is_plain, read
from pendel.core.quantities.named import Names
from pendel.core.quantities.plain_numbers import first_of_each_unit
from pendel.core.quantities.stepping import own_unit
from pendel.core.quantities.units import NONE, si_unit, si_unit_of, unit

ONE = Measured(1.0)


def signal_unit(drive: Drive, end: End) -> str:
    """Unit a signal is shown in: declared, or followed through the wiring; empty when nothing tells."""
    return SignalUnits(drive).of(end)


class SignalUnits:
    """Units of the signals of a drive as it is now; whoever changes the drive makes another one."""

    def __init__(self, drive: Drive, kinds: Mapping[str, Kind] | None = None, names: Names | None = None) -> None:
        """`kinds` of its cards and its `names`, where they are known."""
        self.drive, self.kinds = drive, kinds
        self.names = names or names_of(drive)
        self._wired: dict[End, str] = {}
        self._made: dict[End, str] = {}
        """What searches of both ways found."""
        self.source: dict[End, End] = {}
        self.targets: dict[End, list[End]] = defaultdict(list)
        for wire in drive.wires.values():
            self.source.setdefault(wire.b, wire.a)
            self.targets[wire.a].append(wire.b)

    def of(self, end: End) -> str:
        """By what comes in, else by what it goes to, else by the values that state it."""
        return _Search(self, self._wired, ahead=True).unit(end) or self.behind(end)

    def behind(self, end: End) -> str:
        """The unit by what a signal is made of, whatever it goes to."""
        return _Search(self, self._made).unit(end)

    def ahead(self, end: End) -> str:
        """The unit by what a signal goes to, whatever it is made of."""
        return _Search(self, self._wired, ahead=True).expected(end)

    def taken(self, end: End) -> str:
        """The unit that the inputs are made for which a signal goes to, where one is."""
        kinds = ((self.kind(target.card), target.port) for target in self.targets.get(end, ()))
        ports = (kind.port(name) for kind, name in kinds if kind is not None)
        return next((p.unit for p in ports if p is not None and p.unit and p.unit != ANY), "")

    def written(self, card: str, name: str, value: Value | None) -> Measured | None:
        """What a value is as it is written; none where it cannot be read."""
        return self.worth(self.drive.cards[card].values.get(name, value.default if value is not None else ""))

    def worth(self, text: str) -> Measured | None:
        try:
            return evaluate(read(text), self.names, text)
        except ExpressionProblem:
            return None

    def kind(self, card: str) -> Kind | None:
        if self.kinds is not None:
            return self.kinds.get(card)
        if card not in self.drive.cards:
            return None
        try:
            return kind_of(self.drive.cards[card])
        except DriveProblem:
            return None


Steps = Generator[End, str | None, str]
"""A search that asks for the units of other ends, and gives that of its own."""


class _Search:
    """One search along the wires, which passes each end once: `ahead` asks what a signal goes to, else the values that
    an output is made of. Ends of which something is `known` are not searched again."""

    def __init__(self, units: SignalUnits, known: dict[End, str], *, ahead: bool = False) -> None:
        self.units, self.known, self.ahead = units, known, ahead
        self.seen: set[End] = set()
        self.any_known = False
        """Whether some end on the way has a unit."""

    def unit(self, end: End) -> str:
        if end not in self.known:
            found = run(self._unit, self._unit(end))
            # Where nothing that can be reached has one, those on the way have none either.
            self.known.update({end: found} if self.any_known else dict.fromkeys(self.seen, ""))
        return self.known.get(end, "")

    def expected(self, end: End) -> str:
        return run(self._unit, self._expected(end))

    def _unit(self, end: End) -> Steps:
        if end in self.known:
            self.any_known = self.any_known or bool(self.known[end])
            return self.known[end]
        kind = self.units.kind(end.card)
        if kind is None or end in self.seen:
            return ""
        self.seen.add(end)
        found = yield from self._searched(end, kind)
        self.any_known = self.any_known or bool(found)
        if found and not self.ahead:
            self.known[end] = found
        return found

    def _searched(self, end: End, kind: Kind) -> Steps:
        port = kind.port(end.port)
        if isinstance(kind, Part):
            declared = next((s.unit for s in kind.signals if s.name == end.port), None)
            return declared if declared is not None else port.unit if port else ""
        if port is None or port.unit != ANY:
            return port.unit if port else ""
        if port.link is Link.SIGNAL_IN:
            source = self.units.source.get(end)
            return ((yield source) or "") if source else ""
        return (yield from self._of_output(end, kind))

    def _of_output(self, end: End, kind: Kind) -> Steps:
        if isinstance(kind, Block):
            gain = self.units.written(end.card, kind.gain[0], kind.value(kind.gain[0])) if kind.gain else ONE
            if kind.gain and gain is not None and gain.dim != NONE and (source := (yield End(end.card, kind.gain[1]))):
                return made_by(gain, source, integrates=kind.integrates)
            if kind.passes_unit and gain == ONE:
                for name in passed_by(kind):
                    if passed := (yield End(end.card, name)):
                        return passed
            if not self.ahead and (stated := self._by_value(end, kind)):
                return stated
        return (yield from self._expected(end)) if self.ahead else ""

    def _expected(self, end: End) -> Steps:
        """What an input is made for that a signal goes to; else what its fellow is, as a setpoint is compared with an
        actual value."""
        for target in self.units.targets.get(end, ()):
            kind = self.units.kind(target.card)
            port = kind.port(target.port) if kind is not None else None
            if port and port.unit and port.unit != ANY:
                return port.unit
            alike = kind.alike if isinstance(kind, Block) else ()
            partner = next((a if target.port == b else b for a, b in alike if target.port in (a, b)), None)
            if partner and (found := (yield End(target.card, partner))):
                return found
        return ""

    def _by_value(self, end: End, kind: Block) -> str:
        card = self.units.drive.cards[end.card]
        value = next((kind.value(v) for output, v in kind.stated_by if output == end.port), None)
        if value is not None:
            text = card.values.get(value.name, value.default)
        elif kind.has_profile and kind.has_profile[1] == ANY:
            text = next((level for _, level in first_of_each_unit(card.profile) if not is_plain(level)), "")
        else:
            return ""
        written = self.units.worth(text)
        if written is None or written.dim == NONE and not any(written.turn):
            return ""
        expected = self.units.ahead(end)
        if expected and unit(expected)[1] == written.dim:  # it is converted to that, as from cycles to radians
            return expected
        own = own_unit(text)
        if own and not math.log10(unit(own)[0]).is_integer():  # such as rpm or km/h; figures choose prefixes themselves
            return own
        return "rad" if written.dim == NONE else si_unit_of(written.dim, written.turn)


def run(ask: Callable[[End], Steps], first: Steps) -> str:
    """What a search gives, with all that it asks for in turn: a chain of a thousand blocks is too long for calls within
    calls."""
    searches, answer = [first], None
    while True:
        try:
            next_end = searches[-1].send(answer)
        except StopIteration as ended:
            searches.pop()
            answer = ended.value
            if not searches:
                return answer
        else:
            searches.append(ask(next_end))
            answer = None


def made_by(gain: Measured, source: str, *, integrates: bool) -> str:
    """The unit of a gain times a signal, or that times time."""
    times = (gain.dim, unit(source)[1], *((unit("s")[1],) if integrates else ()))
    text = si_unit(tuple(map(sum, zip(*times))))
    return {"Hz": "rad/s", "J": "N·m"}.get(text, text)


def passed_by(kind: Block) -> list[str]:
    """Inputs whose unit an output has."""
    alike = {name for pair in kind.alike for name in pair}
    passing = (p.name for p in kind.ports if p.link is Link.SIGNAL_IN and p.unit == ANY)
    return [name for name in passing if not alike or name in alike]
