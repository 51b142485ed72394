"""From a drive to a kept run."""

from __future__ import annotations

import hashlib
import math
import re
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from functools import cached_property, lru_cache
from pathlib import Path
from typing import Any

import numpy as np

from pendel.core.catalogue.declare import DRIVE_LEVEL, Kind, Link, Part
from pendel.core.catalogue.index import code_of_added, kind_of, known_kind
from pendel.core.check import Examined, examine
from pendel.core.check.formats import number_choices, sizes_seen
from pendel.core.check.signal_units import SignalUnits
from pendel.core.check.typed_c import refused_c
from pendel.core.controllers.deck import ControlDeck, LoopWithoutDelay
from pendel.core.controllers.emit import simulation_source, simulation_values, states_of, value_names
from pendel.core.controllers.numbers.lowering import Lowered, control_blocks, lower
from pendel.core.controllers.numbers.source import (
    SensorReadsController,
    shipped_in_simulation,
    shipped_value_names,
    shipped_values,
)
from pendel.core.controllers.numbers.tree import CannotLower
from pendel.core.drive.document import Drive, End
from pendel.core.drive.file import from_text, to_text
from pendel.core.drive.findings import Finding, Remark, fault
from pendel.core.drive.nesting import full_name
from pendel.core.equations.flatten import control_deck, numbers_in, parts_of, skeleton_of, stated_network
from pendel.core.equations.numbers import Numbers
from pendel.core.equations.reduce import EquationProblem
from pendel.core.equations.skeleton import Skeleton
from pendel.core.errors import DriveHasFindings, DriveProblem, FileProblem, PendelError
from pendel.core.last_few import LastFew
from pendel.core.plant.integrate import integrate
from pendel.core.plant.methods import METHODS
from pendel.core.plant.model import PlantModel
from pendel.core.plant.program import (
    Doubles,
    Inputs,
    Outcome,
    Program,
    PulseNumbers,
    RunSettings,
    Structure,
    parameters_of,
    profiles_of,
    pulses_of,
)
from pendel.core.plant.runtime import begin_loop_build
from pendel.core.plant.simulator import Recorded, Watch
from pendel.core.plant.starting import Contradiction, Starts, consistent_starts
from pendel.core.plant.structures import is_known, structure_for, version
from pendel.core.quantities.units import figure
from pendel.core.runs.record import kept
from pendel.core.runs.record.condensed import Condenser
from pendel.core.runs.record.content import Content, content_here
from pendel.core.runs.record.device_events import overlaps, switching_losses
from pendel.core.runs.record.kept import KeptRun, SignalInfo
from pendel.core.runs.remarks.balance import unaccounted
from pendel.core.runs.remarks.duties import duties_beyond
from pendel.core.runs.remarks.limited import limited_words, lost_inside
from pendel.core.runs.remarks.remarks import remarks_of_kinds
from pendel.core.runs.remarks.rounding import add_differences
from pendel.core.runs.remarks.shorts import FOR_GOOD, lasting_shorts, short_paths
from pendel.core.runs.remarks.swings import swings
from pendel.core.system.fold import at_level
from pendel.core.trust import refuse_strange_c
from pendel.core.vocabulary import ValueRole, plainest

_lowered: LastFew[str, Lowered] = LastFew(4)
"""Controllers of drives by the drives' texts: a drive that runs as shipped again is not lowered again."""


@dataclass
class Prepared:
    """A drive ready to run: its checked values, what its program is, and its numbers."""

    drive: Drive
    examined: Examined
    skeleton: Skeleton
    numbers: Numbers
    structure: Structure
    deck: ControlDeck
    with_energy: bool = False
    whole: Drive | None = None
    """The drive at the level *system*, where ``drive`` is what that comes to."""

    @cached_property
    def text(self) -> str:
        """The drive as a file would hold it."""
        return to_text(self.whole or self.drive)

    @cached_property
    def infos(self) -> dict[str, SignalInfo]:
        return signal_infos(self.drive)

    @property
    def shipped(self) -> bool:
        """Whether the drive runs with its controller as shipped."""
        return self.drive.settings["controller"] == "as shipped" and bool(control_blocks(self.deck))

    @cached_property
    def lowered(self) -> Lowered:
        """The controller in its number formats.

        Raises
        ------
        DriveHasFindings
            naming the block that has no C in its format.
        """
        known = _lowered.get(self.text)
        if known is not None:
            return known
        try:
            lowered = lower(self.deck, number_choices(self.drive, self.examined), sizes_seen(self.drive))
        except CannotLower as problem:
            key = next((b.name for b in self.deck.blocks if b.title == problem.block), "")
            raise DriveHasFindings([fault(str(problem), key, "number_format")]) from problem
        return _lowered.keep(self.text, lowered)

    @cached_property
    def program(self) -> Program:
        return self.shipped_program if self.shipped else program_of(self.structure, self.deck)

    @property
    def shipped_program(self) -> Program:
        """Raises `DriveHasFindings`."""
        deck = self.deck
        try:
            source = shipped_in_simulation(self.lowered)
        except SensorReadsController as problem:
            key = next((b.name for b in deck.blocks if b.title == problem.title), "")
            raise DriveHasFindings([fault(str(problem), key)]) from problem
        names, states = shipped_value_names(self.lowered), tuple(states_of(deck.blocks))
        return Program(self.structure, source, tuple(deck.signals), states, names)

    @cached_property
    def parameters(self) -> Doubles:
        return parameters_of(self.structure, self.numbers)

    @cached_property
    def starting(self) -> Starts:
        """Starting values that agree with each other, and where what was entered does not."""
        profiles = profiles_of(self.structure, self.numbers)
        return consistent_starts(self.structure, self.numbers, self.parameters, profiles)

    @cached_property
    def pulses(self) -> tuple[PulseNumbers, ...]:
        return pulses_of(self.structure, self.numbers)

    def inputs(self, settings: RunSettings, deck: ControlDeck | None = None) -> Inputs:
        """All numbers of a run; of another ``deck`` with the same code where one is given."""
        deck = deck or self.deck
        return Inputs(
            self.parameters,
            self.starting.values,
            np.array(self.structure.mode_starts, dtype=float),
            profiles_of(self.structure, self.numbers),
            self.pulses,
            np.array(
                shipped_values(self.lowered, deck, seed=settings.seed)
                if self.shipped
                else simulation_values(deck, seed=settings.seed),
                dtype=float,
            ),
            deck.tick,
            deck.delay,
            settings,
        )

    @cached_property
    def model(self) -> PlantModel:
        """The equations in symbols, for linear models. They are stated when they are first asked for."""
        parts = parts_of(self.drive, kind_of)
        network, _ = stated_network(self.skeleton, self.numbers, parts)
        return PlantModel(network, self.deck.measured, with_energy=self.with_energy)


def program_of(structure: Structure, deck: ControlDeck) -> Program:
    if not deck.signals:
        return Program(structure, "")
    source, blocks = simulation_source(deck), deck.blocks
    return Program(structure, source, tuple(deck.signals), tuple(states_of(blocks)), value_names(deck))


def prepare(drive: Drive, *, with_energy: bool = False) -> Prepared:
    """Check a drive, and order its equations where no drive of its structure was ordered before.

    Raises
    ------
    DriveHasFindings
        with every fault, each naming the card and the remedy.
    """
    drive = drive.copy()  # what is asked for later must be of this moment
    examined = examine(drive)
    if examined.faults:
        raise DriveHasFindings(examined.faults)
    if not drive.cards:
        raise DriveHasFindings([fault("The sheet is empty. Press A on it and add a part.")])
    if refused := refused_c(drive):
        raise DriveHasFindings(refused)
    begin_loop_build()
    try:
        parts = parts_of(drive, kind_of)
        skeleton, numbers = skeleton_of(drive, parts), numbers_in(drive, examined, parts)
        deck = control_deck(drive, examined, kind_of)
        structure = known_structure(skeleton, numbers, parts, deck.measured, with_energy)
    except SignalsOfOtherLevels as problem:
        raise DriveHasFindings(problem.findings(drive)) from problem
    except EquationProblem as problem:
        raise DriveHasFindings([equation_finding(drive, problem)]) from problem
    except LoopWithoutDelay as problem:
        names = tuple(drive.cards[n].name for n in problem.names)
        raise DriveHasFindings([fault(str(LoopWithoutDelay(names)), problem.names[0])]) from problem
    prepared = Prepared(
        drive, examined, skeleton, numbers, structure, in_command_order(deck, structure.commands), with_energy
    )
    if prepared.starting.contradictions:
        raise DriveHasFindings(contradicting_starts(drive, prepared.starting.contradictions))
    return prepared


def prepare_run(drive: Drive, *, with_energy: bool = False) -> Prepared:
    """The same of a drive that is to run, or ran: at the level *system*, with envelopes in place of machines.

    Raises
    ------
    DriveHasFindings
    """
    looked_at = at_level(drive)
    prepared = prepare(looked_at, with_energy=with_energy)
    return prepared if looked_at is drive else replace(prepared, whole=drive.copy())


def is_ordered(drive: Drive) -> bool:
    """Whether `prepare` would order no equations, which takes long; also where it would find faults
    before."""
    try:
        drive = at_level(drive)
        examined = examine(drive)
        if examined.faults or not drive.cards:
            return True
        parts = parts_of(drive, kind_of)
        numbers = numbers_in(drive, examined, parts)
        key = structure_key(
            skeleton_of(drive, parts), control_deck(drive, examined, kind_of).measured, with_energy=False
        )
    except PendelError:
        return True
    return is_known(key, numbers.values)


def structure_key(skeleton: Skeleton, measured: tuple[str, ...], *, with_energy: bool) -> str:
    return skeleton.key(measured, with_energy, version(), added_code())


def known_structure(
    skeleton: Skeleton,
    numbers: Numbers,
    parts: Mapping[str, Any],
    measured: tuple[str, ...],
    with_energy: bool,
) -> Structure:
    """Raises `EquationProblem` where the equations have no solution, and `SignalsOfOtherLevels`."""

    def order() -> Structure:
        network, answers = stated_network(skeleton, numbers, parts)
        if unknown := tuple(s for s in measured if s not in network.signals):
            raise SignalsOfOtherLevels(unknown)
        return replace(PlantModel(network, measured, with_energy=with_energy).structure, answers=answers)

    return structure_for(structure_key(skeleton, measured, with_energy=with_energy), numbers.values, order)


def in_command_order(deck: ControlDeck, commands: tuple[str, ...]) -> ControlDeck:
    """The deck with its outputs in the order in which the plant takes them; itself where it is so already."""
    if tuple(deck.commands) == commands:
        return deck
    return replace(deck, commands={c: deck.commands.get(c, "") for c in commands})


def averaged(drive: Drive) -> Drive:
    """The drive with every converter averaged and its controller as modelled, as linear models need it; the
    drive itself when it is so already."""
    pulsed = [k for k, c in drive.cards.items() if c.choices.get("level", DRIVE_LEVEL) not in (DRIVE_LEVEL, plainest())]
    modelled = drive.settings["controller"] == "as modelled"
    if drive.settings["level"] == plainest() and not pulsed and modelled:
        return drive
    twin = drive.copy()
    twin.settings["controller"] = "as modelled"
    twin.settings["level"] = plainest()
    for key in pulsed:
        card = twin.cards[key]
        twin.cards[key] = replace(card, choices={n: c for n, c in card.choices.items() if n != "level"})
    return twin


@lru_cache(maxsize=1)
def added_code() -> str:
    """Of all kinds that installed packages add: a hash of their code."""
    return hashlib.sha256(b"\0".join(code_of_added())).hexdigest()[:16]


class SignalsOfOtherLevels(PendelError):
    """Blocks read signals that do not exist at the present level of detail."""

    def __init__(self, signals: tuple[str, ...]):
        super().__init__(signals)
        self.signals = signals

    def findings(self, drive: Drive) -> list[Finding]:
        faults = []
        for signal in self.signals:
            card, _, name = signal.partition(".")
            kind = kind_of(drive.cards[card])
            assert isinstance(kind, Part)
            declared = next(s for s in kind.signals if s.name == name)
            levels = " or ".join(declared.levels)
            sentence = f"{drive.cards[card].name}: {declared.label} is wired to a block, "
            sentence += f"but exists only at the level {levels}. Choose that level or take another signal."
            faults.append(fault(sentence, card))
        return faults


def contradicting_starts(drive: Drive, contradictions: tuple[Contradiction, ...]) -> list[Finding]:
    faults = []
    for c in contradictions:
        key, _, state = c.state.partition(".")
        kind = kind_of(drive.cards[key])
        assert isinstance(kind, Part)
        declared = next(s for s in kind.states if s.name == state)
        faults.append(
            fault(
                f"{drive.cards[key].name}: its {declared.label} is to start at "
                f"{figure(c.wanted, declared.unit)}, but what it is joined to makes it start at "
                f"{figure(c.follows, declared.unit)}. Enter one of the two only.",
                key,
                f"start:{state}",
            )
        )
    return faults


def reopen(path: Path, read: Callable[[Path], Content] = content_here) -> KeptRun:
    """Read a kept run from disk. Its equations are stated anew from the drive inside it, so that no code in
    the file is ever run. ``read`` is as of `pendel.core.runs.record.kept.load`.

    Raises
    ------
    FileProblem
        when the file is damaged, or the equations of this version differ from those it was recorded with.
    """
    run = kept.load(path, read)
    try:
        structure = prepare_run(from_text(run.drive_text)).structure
    except PendelError as problem:
        raise FileProblem(str(path), f"the drive inside it cannot be read ({problem}).") from problem
    width = 1 + sum(structure.row_shape)
    known = run.structure
    same = (known.state_keys, known.commands, known.profile_keys, known.mode_keys) == (
        structure.state_keys,
        structure.commands,
        structure.profile_keys,
        structure.mode_keys,
    )
    if not same or run.rows.ndim != 2 or run.rows.shape[1] != width or len(run.parameters) != structure.parameter_count:
        raise FileProblem(str(path), "the kept run was made by another version of Pendel. Run again.")
    if run.condensed is not None and not run.condensed.fits(len(structure.signals), len(run.devices)):
        run.condensed = None
    if known.signals != structure.signals:
        run.condensed = None  # its columns are those of other signals
    run.structure = structure
    return run


def equation_finding(drive: Drive, problem: EquationProblem) -> Finding:
    sentence = problem.sentence
    for key, card in drive.cards.items():
        sentence = re.sub(rf"(?<![\w.]){re.escape(key)}(?![\w])", card.name, sentence)
    owner = next((o for o in problem.owners if o in drive.cards), "")
    return fault(sentence, owner)


def signal_infos(drive: Drive) -> dict[str, SignalInfo]:
    """Label and unit of every signal of every card; of those whose kind this version does not have there are none."""
    infos: dict[str, SignalInfo] = {}
    units = SignalUnits(drive)
    for key, card in drive.cards.items():
        kind, name = known_kind(card), full_name(drive, key)
        if isinstance(kind, Part):
            for s in kind.signals:
                infos[f"{key}.{s.name}"] = SignalInfo(f"{key}.{s.name}", name, s.label, s.unit)
        elif kind is not None:
            for port in kind.ports:
                if port.link.value == "signal out":
                    unit = units.of(End(key, port.name))
                    words = card.name if port.label in ("Output", "Sampled value") else port.label
                    infos[f"{key}.{port.name}"] = SignalInfo(
                        f"{key}.{port.name}", name, words[:1].lower() + words[1:], unit
                    )
    return infos


def endless_settings(prepared: Prepared) -> RunSettings:
    """Settings of a run that has no end of its own; its steps are those of the drive's ordinary run."""
    settings, drive = prepared.examined.settings, prepared.drive
    kinds = {key: kind_of(card) for key, card in drive.cards.items()}
    return RunSettings(
        ENDLESS,
        settings["tolerance"],
        drive.settings["method"],
        int(settings["seed"]),
        h_max=settings["until"] / 1000,
        fixed_step=settings["step"],
        shorts=short_paths(drive, kinds, prepared.structure.mode_keys),
        short_limit=FOR_GOOD,
    )


ENDLESS = 1e9
"""s."""


def run_drive(
    prepared: Prepared, *, name: str = "Run", watch: Watch | None = None, until: float | None = None
) -> KeptRun:
    """Run a prepared drive. The outcome says whether it reached its end; this never raises for that.

    Raises
    ------
    DriveProblem
        where the drive brings C that was neither typed nor allowed here, or ``until`` is no length of a run.
    """
    refuse_strange_c(prepared.drive, "allow it")
    if until is not None and not 0 < until < math.inf:
        raise DriveProblem(f"A run cannot last {until:g} s. Give a time above 0, such as 0.3 s.")
    run = recorded_run(prepared, name=name, watch=watch, until=until)
    add_remarks(run, prepared)
    return run


def recorded_run(
    prepared: Prepared,
    *,
    name: str = "Run",
    watch: Watch | None = None,
    until: float | None = None,
    drive_text: str | None = None,
) -> KeptRun:
    """The same without a look at what wants attention. ``drive_text`` is that of another drive of the same cards, where
    what the run keeps need not be its own, which takes a while to write."""
    drive, structure, deck = prepared.drive, prepared.structure, prepared.deck
    kinds = {key: kind_of(card) for key, card in drive.cards.items()}
    run_settings = settings_of_run(prepared, kinds, until)
    watch = watch or Watch.private()
    begun = time.perf_counter()
    inputs = prepared.inputs(run_settings)
    devices = switching_losses(drive, kinds, prepared.examined.values, structure.mode_keys)
    condenser = Condenser(structure, inputs.parameters, METHODS[run_settings.method].fixed_steps, devices, watch.stop)
    recorded = integrate(prepared.program, inputs, watch, condenser.take)
    watch.busy[0] += 1  # from here on it is looked at, and hears of no stop
    seconds = time.perf_counter() - begun
    run = KeptRun(
        name,
        recorded.rows,
        recorded.ticks,
        structure,
        inputs.parameters,
        deck.signals,
        deck.tick,
        deck.delay,
        dict(prepared.infos),
        recorded.outcome,
        outcome_sentence(drive, recorded),
        recorded.counters,
        prepared.text if drive_text is None else drive_text,
        {"until": run_settings.until, "tolerance": run_settings.tolerance},
        level=(prepared.whole or drive).settings["level"],
        seconds=seconds,
    )
    run.thinned_until, run.thinned_to, run.condensed = recorded.thinned_until, recorded.thinned_to, condenser.result()
    pulsed = [own.f for shape, own in zip(structure.pulses, inputs.pulses) if "f" in dict(shape.numbers)]
    run.pulse_frequencies = tuple(sorted(set(pulsed)))
    run.devices = devices
    for device in run.devices:
        words = f"switching energy of {device.name}" if device.name else "switching energy"
        run.infos[device.key] = SignalInfo(device.key, full_name(drive, device.card), words, "J")
    if recorded.computing > 0:
        run.settings |= {
            "load": recorded.computing / max(recorded.ended_at, 1e-12),
            "worst_step": recorded.worst_step,
        }
    return run


def settings_of_run(prepared: Prepared, kinds: Mapping[str, Kind], until: float | None) -> RunSettings:
    settings = prepared.examined.settings
    end = settings["until"] if until is None else until
    # Steps of at most a thousandth keep traces smooth where the method alone would take far longer ones.
    return RunSettings(
        end,
        settings["tolerance"],
        prepared.drive.settings["method"],
        int(settings["seed"]),
        h_max=end / 1000,
        fixed_step=settings["step"],
        shorts=short_paths(prepared.drive, kinds, prepared.structure.mode_keys),
        short_limit=FOR_GOOD,
    )


def add_remarks(run: KeptRun, prepared: Prepared) -> None:
    """Look at a run for what wants attention."""
    drive, values = prepared.drive, prepared.examined.values
    kinds = {key: kind_of(card) for key, card in drive.cards.items()}
    if any(own.off_delay > 0 for own in prepared.pulses):
        run.remarks = [
            o.remark(
                drive.cards[o.card].name,
                dead := kinds[o.card].value_name(ValueRole.DEAD_TIME),
                values[o.card][dead],
            )
            for o in overlaps(run, kinds)
        ]
    if len(run.rows) > 1:
        run.remarks += (shorts := lasting_shorts(run, drive, kinds))
        if run.outcome is Outcome.SHORTED and shorts:
            run.message += f" {shorts[0].sentence}"
        run.remarks += remarks_of_kinds(run, drive, kinds, values) + duties_beyond(run, drive, kinds)
        run.remarks += swings(run, drive, kinds, values, prepared.deck)
        if METHODS[drive.settings["method"]].fixed_steps and not own_parts(drive, kinds):
            run.remarks += unaccounted(run, prepared.examined.settings["step"])
        if prepared.shipped:
            run.remarks += limited_words(run, prepared.lowered) + lost_inside(run, prepared.lowered)
            add_differences(run, prepared.lowered)
    if run.thinned_until > 0:
        run.remarks.append(
            Remark(
                f"The record was long, so until {figure(run.thinned_until, 's', 4)} it keeps one "
                f"point every {figure(run.thinned_to, 's', 3)}; "
                "ripple is seen from there on. Means, rms and losses stay those of all steps. Run a "
                "shorter time to keep all of it.",
                "",
                run.thinned_until,
            )
        )


def own_parts(drive: Drive, kinds: Mapping[str, Kind]) -> list[str]:
    """Cards with equations of the user's own, which may keep energy to themselves."""
    return [key for key, card in drive.cards.items() if card.own is not None and isinstance(kinds[key], Part)]


def outcome_sentence(drive: Drive, recorded: Recorded) -> str:
    """What happened, in a sentence that names the part and the time; empty when all went well."""
    card, _, state = recorded.culprit.partition(".")
    name = drive.cards[card].name if card in drive.cards else card
    at = f"{recorded.ended_at * 1e3:.4g} ms"
    moves = card in drive.cards and any(p.link in (Link.SHAFT, Link.ROD) for p in kind_of(drive.cards[card]).ports)
    if moves:
        steadied = "Check its limits or add a small compliance."
    else:
        steadied = "Give its devices a drop, such as 0.7 V, and their supply an inductance or a resistance."
    return {
        Outcome.DONE: "",
        Outcome.STOPPED: f"Stopped at {at}.",
        Outcome.SHORTED: f"Stopped at {at}: {name} was short-circuited for {figure(FOR_GOOD, 's', 3)}.",
        Outcome.RAN_AWAY: f"{name} ran away: its state {state} grew without bound at {at}. Check the sign "
        "of its feedback and its values.",
        Outcome.STEP_VANISHED: f"The step became too small at {at}; {name} (state {state}) changes too "
        "fast. Check its values or loosen the tolerance.",
        Outcome.CHATTERS: f"{name} switches to and fro without end at {at} ({state}). {steadied}",
        Outcome.NO_MEMORY: f"The record grew beyond 4 GB at {at}. Run a shorter time or lower the accuracy.",
        Outcome.NOT_FINITE: f"{name} (state {state}) is not a number from {at} on. Check its values for a "
        "division by zero.",
    }[recorded.outcome]
