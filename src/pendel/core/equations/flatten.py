"""From a drive to the skeleton and the numbers of its parts, their network of equations, and its control
deck."""

from __future__ import annotations

import contextlib
import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any

from pendel.core.controllers.deck import BlockInstance, ControlDeck, in_running_order
from pendel.core.drive.document import Card, Drive, slug
from pendel.core.drive.findings import fault
from pendel.core.equations.connect import connect
from pendel.core.equations.context import Network, PartContext
from pendel.core.equations.numbers import Numbers
from pendel.core.equations.skeleton import Answers, PartForm, PinName, Question, Skeleton
from pendel.core.errors import DriveHasFindings

LINES = {"dc": 2, "line": 1, "three-phase": 3, "shaft": 1, "rod": 1}


def parts_of(drive: Drive, kind_of: Callable[[Card], Any]) -> dict[str, Any]:
    """The kinds of all parts, by card."""
    kinds = {key: kind_of(card) for key, card in drive.cards.items()}
    return {key: kind for key, kind in kinds.items() if hasattr(kind, "build")}


def skeleton_of(drive: Drive, parts: Mapping[str, Any]) -> Skeleton:
    """What the equations of a drive's parts depend on but for its numbers."""
    ports = port_lines(parts)
    forms = tuple(
        PartForm(
            key,
            kind.id,
            kind.level(card, drive.settings["level"]),
            tuple((c.name, kind.choice(card, c.name)) for c in kind.choices),
            len(card.rows),
            own_form(card),
            {name: (cells, len(numbers)) for name, (cells, numbers) in surfaces_of(kind, card).items()},
        )
        for key, kind, card in ((key, kind, drive.cards[key]) for key, kind in parts.items())
    )
    groups = electric_groups(parts, {form.card: form.level for form in forms})
    return Skeleton(forms, ports, tuple(groups), tuple(joins(drive, ports)))


def own_form(card: Card) -> tuple[object, ...]:
    """Equations that the user typed, without the texts of values and starts, which are numbers like others."""
    if card.own is None:
        return ()
    names = (
        tuple(line.partition("=")[0].strip() for line in lines)
        for lines in (card.own.values, card.own.states)
    )
    return (card.own.ports, *names, card.own.unknowns, card.own.equations)


def surfaces_of(kind: Any, card: Card) -> dict[str, tuple[tuple[int, int], Sequence[float]]]:
    return kind.surfaces(card) if kind.surfaces else {}


def numbers_in(drive: Drive, examined, parts: Mapping[str, Any]) -> Numbers:
    """The numbers of a drive's parts, as their equations take them."""
    values, surfaces = {}, {}
    for key, kind in parts.items():
        card = drive.cards[key]
        with numbers_of(key, card):
            values[key] = kind.circuit(examined.values[key], card) if kind.circuit else examined.values[key]
        surfaces.update({f"{key}.{name}": numbers for name, (_, numbers) in surfaces_of(kind, card).items()})
    return Numbers(values, examined.starts, frozenset(examined.given_starts), examined.profiles, surfaces)


def stated_network(skeleton: Skeleton, numbers: Numbers, parts: Mapping[str, Any]) -> tuple[Network, Answers]:
    """The equations of every part, connected; and what the parts asked about their values to state them."""
    network = Network()
    pins = connect(network, skeleton.ports, skeleton.groups, skeleton.joins)
    answers: list[tuple[str, str, Question, bool]] = []
    for form in skeleton.parts:
        key = form.card
        context = PartContext(
            network,
            form,
            pins={name: pin for (c, name), pin in pins.items() if c == key},
            values=numbers.values[key],
            starts=numbers.starts[key],
            given_starts=numbers.given_starts,
            profile=numbers.profiles.get(key, ((), ())),
        )
        parts[key].build(context)
        answers += [(key, name, question, answer) for (name, question), answer in context.answers.items()]
    return network, tuple(answers)


def port_lines(parts: Mapping[str, Any]) -> dict[tuple[str, str], int]:
    """Ports that carry power, by card and name, with their numbers of lines."""
    return {
        (key, p.name): LINES[p.link.value]
        for key, kind in parts.items()
        for p in kind.ports
        if p.link.value in LINES
    }


def electric_groups(parts, levels: Mapping[str, str]) -> list[tuple[str, ...]]:
    """Ports with a common potential: as the part says, else each DC pair by itself and all single lines
    together."""
    groups: list[tuple[str, ...]] = []
    for key, kind in parts.items():
        if kind.potentials is not None:
            groups += [(key, *names) for names in kind.potentials(levels[key])]
            continue
        groups += [(key, p.name) for p in kind.ports if p.link.value == "dc"]
        lines = [p.name for p in kind.ports if p.link.value in ("line", "three-phase")]
        if lines:
            groups.append((key, *lines))
    return groups


def joins(drive: Drive, ports: dict[tuple[str, str], int]) -> list[tuple[PinName, PinName]]:
    found: list[tuple[PinName, PinName]] = []
    for wire in drive.wires.values():
        a, b = (wire.a.card, wire.a.port), (wire.b.card, wire.b.port)
        if a not in ports or b not in ports:
            continue
        count = {ports[a], ports[b]}
        if len(count) == 1:
            found += [((*a, n), (*b, n)) for n in range(ports[a])]
        else:  # a single line on a DC pair meets its minus line
            found.append(((*a, ports[a] - 1), (*b, ports[b] - 1)))
    return found


LONGEST_LINE = 1_000_002
"""Periods that a block may remember."""


@contextlib.contextmanager
def numbers_of(key: str, card: Card) -> Iterator[None]:
    """What a kind works out from values that are each possible and together lead to no numbers is a finding."""
    try:
        yield
    except (ArithmeticError, LookupError, RuntimeError, TypeError, ValueError) as problem:
        sentence = f"{card.name}: its values together lead to no numbers; one of them is far from what is usual. Correct it."
        raise DriveHasFindings([fault(sentence, key)]) from problem


def control_deck(drive: Drive, examined, kind_of: Callable[[Card], Any]) -> ControlDeck:
    """The blocks of a drive in running order, with their values. Raises `LoopWithoutDelay` and
    `DriveHasFindings`."""
    kinds = {key: kind_of(card) for key, card in drive.cards.items()}
    sources = {str(w.b): str(w.a) for w in drive.wires.values()}
    tick = examined.settings["tick"]
    ideal = drive.settings["sensors"] == "ideal"
    blocks = []
    for key, kind in kinds.items():
        if not hasattr(kind, "update"):
            continue
        card = drive.cards[key]
        if ideal and any(c.name == "mode" for c in kind.choices):
            card = Card(card.kind, card.name, choices={**card.choices, "mode": "ideal"})
        values = {n: v for n, v in examined.values[key].items() if n != "every"}
        every = int(examined.values[key].get("every", 1))
        with numbers_of(key, card):
            if kind.derive:
                values.update(kind.derive(values, card, tick * every))
        values = {n: 0.0 if math.isnan(v) else v for n, v in values.items()}
        inputs = tuple(p.name for p in kind.ports if p.link.value == "signal in")
        outputs = tuple(p.name for p in kind.ports if p.link.value == "signal out")
        table = (
            tuple(zip(*examined.profiles[key]))
            if kind.has_profile and examined.profiles.get(key, ([],))[0]
            else ()
        )
        if kind.tables:
            with numbers_of(key, card):
                table = tuple(kind.tables(examined.values[key], card))
        blocks.append(
            BlockInstance(
                key,
                f"{kind.id}_{key}" if kind.group == "own" else kind.id,
                drive.cards[key].name,
                kind.update,
                inputs,
                outputs,
                values,
                {p: sources.get(f"{key}.{p}") for p in inputs},
                every,
                kind.deck.value == "sensor",
                kind.holds,
                kind.turns,
                table,
                kind.regulates,
                kind.smooth,
            )
        )
        if blocks[-1].line_places > LONGEST_LINE:
            sentence = f"{blocks[-1].title}: it would remember {blocks[-1].line_places - 2} periods; at most a million are possible. Shorten its time or let it run less often."
            raise DriveHasFindings([fault(sentence, key)])
    ordered = in_running_order(blocks)
    own_signals = {f"{b.name}.{p}" for b in blocks for p in b.outputs}
    read_from_plant = [s for b in ordered for s in b.sources.values() if s and s not in own_signals]
    commands = {
        target: source
        for target, source in sources.items()
        if source in own_signals
        and target.split(".")[0] in kinds
        and hasattr(kinds[target.split(".")[0]], "build")
    }
    return ControlDeck(
        slug(drive.title.split("·")[-1]),
        ordered,
        tick,
        int(examined.settings["computing_delay"]),
        tuple(dict.fromkeys(read_from_plant)),
        commands,
    )
