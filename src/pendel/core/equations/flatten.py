"""From a drive to the skeleton and the numbers of its parts, their network of equations, and its control
deck."""

from __future__ import annotations

import contextlib
import math
from collections.abc import Callable, Iterator, Mapping, Sequence

from pendel.core.controllers.deck import BlockInstance, ControlDeck, in_running_order
from pendel.core.drive.document import YES, Card, Drive, slug
from pendel.core.drive.findings import fault
from pendel.core.equations.connect import connect
from pendel.core.equations.context import Network, PartContext, Pin
from pendel.core.equations.kinds import ABlock, AKind, APart, ExaminedDrive, SurfaceNumbers, is_block, is_part
from pendel.core.equations.numbers import Numbers
from pendel.core.equations.skeleton import Answers, PartForm, PinName, Question, Skeleton
from pendel.core.errors import DriveHasFindings
from pendel.core.vocabulary import Deck, Link, ValueRole


def parts_of(drive: Drive, kind_of: Callable[[Card], AKind]) -> dict[str, APart]:
    """The kinds of all parts, by card."""
    kinds = {key: kind_of(card) for key, card in drive.cards.items()}
    return {key: kind for key, kind in kinds.items() if is_part(kind)}


def skeleton_of(drive: Drive, parts: Mapping[str, APart]) -> Skeleton:
    """What the equations of a drive's parts depend on but for its numbers."""
    ports = port_lines(drive, parts)
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
    """Equations that the user typed, without the texts of values and starts, which are numbers like
    others."""
    if card.own is None:
        return ()
    names = (tuple(line.partition("=")[0].strip() for line in lines) for lines in (card.own.values, card.own.states))
    return (card.own.ports, *names, card.own.unknowns, card.own.equations)


def surfaces_of(kind: APart, card: Card, values: Mapping[str, float] | None = None) -> SurfaceNumbers:
    """Without ``values``, of what they depend on but for its numbers: the sizes are the same."""
    return kind.surfaces(card, values) if kind.surfaces else {}


def numbers_in(drive: Drive, examined: ExaminedDrive, parts: Mapping[str, APart]) -> Numbers:
    """The numbers of a drive's parts, as their equations take them."""
    values, surfaces = {}, {}
    for key, kind in parts.items():
        values[key] = equation_values(key, drive.cards[key], kind, examined)
        surfaces.update(surface_numbers(key, drive.cards[key], kind, examined.values[key]))
    return Numbers(values, examined.starts, frozenset(examined.given_starts), examined.profiles, surfaces)


def equation_values(key: str, card: Card, kind: APart, examined: ExaminedDrive) -> Mapping[str, float]:
    """What a part's equations take for its values. Raises `DriveHasFindings`."""
    with numbers_of(key, card):
        return kind.equation_values(examined.values[key], card) if kind.equation_values else examined.values[key]


def surface_numbers(key: str, card: Card, kind: APart, values: Mapping[str, float]) -> dict[str, Sequence[float]]:
    """By ``card.surface``."""
    return {f"{key}.{name}": numbers for name, (_, numbers) in surfaces_of(kind, card, values).items()}


def stated_network(skeleton: Skeleton, numbers: Numbers, parts: Mapping[str, APart]) -> tuple[Network, Answers]:
    """The equations of every part, connected; and what the parts asked about their values to state them."""
    network = Network()
    pins = connect(network, skeleton.ports, skeleton.groups, skeleton.joins)
    network.ports = pins
    pins_of: dict[str, dict[str, list[Pin]]] = {form.card: {} for form in skeleton.parts}
    for (card, name), pin in pins.items():
        pins_of[card][name] = pin
    answers: list[tuple[str, str, Question, bool]] = []
    for form in skeleton.parts:
        key = form.card
        context = PartContext(
            network,
            form,
            pins=pins_of[key],
            values=numbers.values[key],
            starts=numbers.starts[key],
            given_starts=numbers.given_starts,
            profile=numbers.profiles.get(key, ((), ())),
        )
        parts[key].build(context)
        context.end_heat()
        answers += [(key, name, question, answer) for (name, question), answer in context.answers.items()]
    return network, tuple(answers)


def port_lines(drive: Drive, parts: Mapping[str, APart]) -> dict[tuple[str, str], int]:
    """Ports that carry power, by card and name, with their numbers of lines. A heat port that may be left alone, and
    is, is none: its part has a temperature that was entered, and its heat goes nowhere. So are others that say so."""
    wired = {(end.card, end.port) for wire in drive.wires.values() for end in (wire.a, wire.b)}
    return {
        (key, p.name): p.link.lines
        for key, kind in parts.items()
        for p in kind.ports
        if not p.link.is_signal
        and ((p.link is not Link.HEAT and not p.only_wired) or p.required or (key, p.name) in wired)
    }


def electric_groups(parts: Mapping[str, APart], levels: Mapping[str, str]) -> list[tuple[str, ...]]:
    """Ports with a common potential: as the part says, else each DC pair by itself and all single lines
    together."""
    groups: list[tuple[str, ...]] = []
    for key, kind in parts.items():
        if kind.potentials is not None:
            groups += [(key, *names) for names in kind.potentials(levels[key])]
            continue
        groups += [(key, p.name) for p in kind.ports if p.link is Link.DC]
        lines = [p.name for p in kind.ports if p.link.is_electrical and p.link is not Link.DC]
        if lines:
            groups.append((key, *lines))
    return groups


def joins(drive: Drive, ports: dict[tuple[str, str], int]) -> list[tuple[PinName, PinName]]:
    pairs: list[tuple[PinName, PinName]] = []
    for wire in drive.wires.values():
        a, b = (wire.a.card, wire.a.port), (wire.b.card, wire.b.port)
        if a not in ports or b not in ports:
            continue
        count = {ports[a], ports[b]}
        if len(count) == 1:
            pairs += [((*a, n), (*b, n)) for n in range(ports[a])]
        else:  # a single line on a DC pair meets its minus line
            pairs.append(((*a, ports[a] - 1), (*b, ports[b] - 1)))
    return pairs


LONGEST_LINE = 1_000_002
"""Periods that a block may remember."""


@contextlib.contextmanager
def numbers_of(key: str, card: Card) -> Iterator[None]:
    """What a kind works out from values that are each possible and together lead to no numbers is a
    finding."""
    try:
        yield
    except (ArithmeticError, LookupError, RuntimeError, TypeError, ValueError) as problem:
        sentence = (
            f"{card.name}: its values together lead to no numbers; one of them is far from what is usual. Correct it."
        )
        raise DriveHasFindings([fault(sentence, key)]) from problem


def block_in(
    drive: Drive, examined: ExaminedDrive, key: str, kind: ABlock, sources: Mapping[str, str]
) -> BlockInstance:
    """A card's block with its values; ``sources`` has what feeds each input, by ``card.port``. Raises
    `DriveHasFindings`."""
    card, tick = drive.cards[key], examined.settings["tick"]
    ideal = drive.settings["sensors"] == "ideal"
    errorless = {c.name: c.ideal for c in kind.choices if c.ideal} if ideal else {}
    if errorless:
        card = Card(card.kind, card.name, choices={**card.choices, **errorless})
    periods = kind.value_name(ValueRole.PERIODS)
    values = {n: v for n, v in examined.values[key].items() if n != periods}
    every, phase = int(examined.values[key].get(periods, 1)), examined.phases.get(key, 0)
    begins = tick * phase
    with numbers_of(key, card):
        if kind.from_first_tick and begins:
            values.update(kind.from_first_tick(values, begins))
        if kind.derive:
            values.update(kind.derive(values, card, tick * every))
    table = tuple(zip(*examined.profiles[key])) if kind.has_profile and examined.profiles.get(key, ([],))[0] else ()
    if table and kind.profile_table:
        table = kind.profile_table(tuple((t - begins, y) for t, y in table), tick * every)
    values = {n: 0.0 if math.isnan(v) else v for n, v in values.items()}
    inputs = tuple(p.name for p in kind.ports if p.link is Link.SIGNAL_IN)
    outputs = tuple(p.name for p in kind.ports if p.link is Link.SIGNAL_OUT)
    if kind.tables:
        with numbers_of(key, card):
            table = tuple(kind.tables(examined.values[key], card))
    block = BlockInstance(
        key,
        f"{kind.id}_{key}" if kind.lone else kind.id,
        drive.cards[key].name,
        kind.update,
        inputs,
        outputs,
        values,
        {p: sources.get(f"{key}.{p}") for p in inputs},
        every,
        kind.deck is Deck.SENSOR or drive.cards[key].outside == YES,
        kind.holds,
        kind.turns,
        table,
        kind.regulates,
        kind.compares,
        kind.smooth,
        kind.bounds,
        phase,
        written_values(drive, key, kind),
        kind.only_turning,
    )
    if block.line_places > LONGEST_LINE:
        sentence = f"{block.title}: it would remember {block.line_places - 2} periods; "
        sentence += "at most a million are possible. Shorten its time or let it run less often."
        raise DriveHasFindings([fault(sentence, key)])
    return block


def written_values(drive: Drive, key: str, kind: ABlock) -> dict[str, tuple[str, str]]:
    """The values of a block as they stand in the drive, where one is a quantity as that stands, with their units."""
    found = {}
    for value in kind.values:
        text = drive.cards[key].values.get(value.name, value.default)
        if value.role is ValueRole.PERIODS:
            continue
        quantity = drive.quantities.get(text.strip())
        found[value.name] = (quantity.text if quantity is not None else text, value.unit)
    return found


def signal_sources(drive: Drive) -> dict[str, str]:
    """What feeds each port, both as ``card.port``."""
    return {str(w.b): str(w.a) for w in drive.wires.values()}


def control_deck(drive: Drive, examined: ExaminedDrive, kind_of: Callable[[Card], AKind]) -> ControlDeck:
    """The blocks of a drive in running order, with their values. Raises `LoopWithoutDelay` and
    `DriveHasFindings`."""
    kinds = {key: kind_of(card) for key, card in drive.cards.items()}
    sources = signal_sources(drive)
    blocks = [block_in(drive, examined, key, kind, sources) for key, kind in kinds.items() if is_block(kind)]
    ordered = in_running_order(blocks)
    own_signals = {f"{b.name}.{p}" for b in blocks for p in b.outputs}
    read_from_plant = [s for b in ordered for s in b.sources.values() if s and s not in own_signals]
    commands = {
        target: source
        for target, source in sources.items()
        if source in own_signals and target.split(".")[0] in kinds and is_part(kinds[target.split(".")[0]])
    }
    return ControlDeck(
        slug(drive.title.split("·")[-1]),
        ordered,
        examined.settings["tick"],
        int(examined.settings["computing_delay"]),
        tuple(dict.fromkeys(read_from_plant)),
        commands,
    )
