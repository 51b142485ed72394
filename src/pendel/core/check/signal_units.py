"""Units of signals, declared or followed through the wiring."""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Mapping

from pendel.core.catalogue.declare import ANY, Block, Kind, Link, Part, Value
from pendel.core.catalogue.index import kind_of
from pendel.core.drive.document import Drive, End
from pendel.core.errors import DriveProblem, ExpressionProblem
from pendel.core.quantities.expressions import Measured, evaluate, is_plain, read
from pendel.core.quantities.named import Names
from pendel.core.quantities.stepping import own_unit
from pendel.core.quantities.units import NONE, dimension_text, si_unit_of, unit

ONE = Measured(1.0)


def signal_unit(drive: Drive, end: End) -> str:
    """Unit a signal is shown in: declared, or followed through the wiring; empty when nothing tells."""
    return SignalUnits(drive).of(end)


class SignalUnits:
    """Units of the signals of a drive as it is now; whoever changes the drive makes another one."""

    def __init__(self, drive: Drive, kinds: Mapping[str, Kind] | None = None, names: Names | None = None) -> None:
        """`kinds` of its cards and its `names`, where they are known."""
        self.drive, self.kinds = drive, kinds
        self.names = names or Names({name: q.text for name, q in drive.quantities.items()})
        self._behind: dict[End, str] = {}
        self._of: dict[End, str] = {}
        self.source: dict[End, End] = {}
        self.targets: dict[End, list[End]] = defaultdict(list)
        for wire in drive.wires.values():
            self.source.setdefault(wire.b, wire.a)
            self.targets[wire.a].append(wire.b)

    def of(self, end: End) -> str:
        """What comes in tells the unit first, then what it goes to, then the values that state it."""
        if end not in self._of:
            self._of[end] = _Search(self, ahead=True).unit(end) or self.behind(end)
        return self._of[end]

    def behind(self, end: End) -> str:
        """The unit by what a signal is made of, whatever it goes to."""
        if end not in self._behind:
            self._behind[end] = _Search(self, stated=True).unit(end)
        return self._behind[end]

    def ahead(self, end: End) -> str:
        """The unit by what a signal goes to, whatever it is made of."""
        return _Search(self, ahead=True).expected(end)

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


class _Search:
    """One search along the wires, which passes each end once. `ahead` asks what a signal goes to, `stated` the values
    that an output is made of."""

    def __init__(self, units: SignalUnits, *, ahead: bool = False, stated: bool = False) -> None:
        self.units, self.ahead, self.stated = units, ahead, stated
        self.seen: set[End] = set()

    def unit(self, end: End) -> str:
        kind = self.units.kind(end.card)
        if kind is None or end in self.seen:
            return ""
        self.seen.add(end)
        port = kind.port(end.port)
        if isinstance(kind, Part):
            declared = next((s.unit for s in kind.signals if s.name == end.port), None)
            return declared if declared is not None else port.unit if port else ""
        if port is None or port.unit != ANY:
            return port.unit if port else ""
        if port.link is Link.SIGNAL_IN:
            source = self.units.source.get(end)
            return self.unit(source) if source else ""
        return self._of_output(end, kind)

    def _of_output(self, end: End, kind: Kind) -> str:
        if isinstance(kind, Block):
            gain = self.units.written(end.card, kind.gain[0], kind.value(kind.gain[0])) if kind.gain else ONE
            if gain is not None and gain.dim != NONE and (by_gain := self._by_gain(end, kind, gain)) is not None:
                return by_gain
            if kind.passes_unit and gain == ONE and (passed := self._passed(end.card, kind)):
                return passed
            if self.stated and (stated := self._by_value(end, kind)):
                return stated
        return self.expected(end) if self.ahead else ""

    def expected(self, end: End) -> str:
        found = (self._expected(target) for target in self.units.targets.get(end, ()))
        return next((u for u in found if u), "")

    def _expected(self, target: End) -> str:
        """What an input is made for; else what its fellow is, as a setpoint is compared with an actual value."""
        kind = self.units.kind(target.card)
        port = kind.port(target.port) if kind is not None else None
        if port and port.unit and port.unit != ANY:
            return port.unit
        if not isinstance(kind, Block):
            return ""
        partner = next((a if target.port == b else b for a, b in kind.alike if target.port in (a, b)), None)
        return self.unit(End(target.card, partner)) if partner else ""

    def _passed(self, card: str, kind: Block) -> str:
        alike = {name for pair in kind.alike for name in pair}
        passing = (p for p in kind.ports if p.link is Link.SIGNAL_IN and p.unit == ANY)
        found = (self.unit(End(card, p.name)) for p in passing if not alike or p.name in alike)
        return next((u for u in found if u), "")

    def _by_gain(self, end: End, kind: Block, gain: Measured) -> str | None:
        """Unit of gain times input, when the gain was written with a unit."""
        assert kind.gain is not None
        source = self.unit(End(end.card, kind.gain[1]))
        if not source:
            return None
        times = (gain.dim, unit(source)[1], *((unit("s")[1],) if kind.integrates else ()))
        text = dimension_text(tuple(map(sum, zip(*times))))
        return {"rad/s (or Hz)": "rad/s", "J (or N·m)": "N·m", "a plain number": ""}.get(text, text)

    def _by_value(self, end: End, kind: Block) -> str:
        card = self.units.drive.cards[end.card]
        value = next((kind.value(v) for output, v in kind.stated_by if output == end.port), None)
        if value is not None:
            text = card.values.get(value.name, value.default)
        elif kind.has_profile and kind.has_profile[1] == ANY:
            text = next((level for _, level in card.profile if not is_plain(level)), "")
        else:
            return ""
        written = self.units.worth(text)
        if written is None or written.dim == NONE and not any(written.turn):
            return ""
        wanted = self.units.ahead(end)
        if wanted and unit(wanted)[1] == written.dim:  # it is converted to that, as from cycles to radians
            return wanted
        own = own_unit(text)
        if own and not math.log10(unit(own)[0]).is_integer():  # such as rpm or km/h; figures choose prefixes themselves
            return own
        return "rad" if written.dim == NONE else si_unit_of(written.dim, written.turn)
