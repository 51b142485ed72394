"""From a drive to a kept run."""

from __future__ import annotations

import re
import time
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path

from pendel.core.catalogue.declare import DRIVE_LEVEL, LEVELS, Link, Part
from pendel.core.catalogue.index import kind_of
from pendel.core.catalogue.own_block import C, block_of
from pendel.core.check import Examined, examine, signal_unit
from pendel.core.controllers.deck import ControlDeck, LoopWithoutDelay
from pendel.core.controllers.language import Update
from pendel.core.controllers.own_c import c_problem
from pendel.core.drive.document import Drive, End
from pendel.core.drive.file import from_text, to_text
from pendel.core.drive.findings import Finding, fault
from pendel.core.drive.inside import full_name
from pendel.core.equations.flatten import flatten
from pendel.core.equations.reduce import EquationProblem
from pendel.core.errors import DriveHasFindings, FileProblem, PendelError
from pendel.core.plant.integrate import Outcome, Recorded, RunSettings, Watch, in_command_order, integrate
from pendel.core.plant.model import PlantModel, begin_loop_build
from pendel.core.plant.starting import Contradiction
from pendel.core.quantities.units import figure
from pendel.core.runs import kept
from pendel.core.runs.condensed import Condenser
from pendel.core.runs.device_events import overlaps, switching_losses
from pendel.core.runs.duties import duties_beyond
from pendel.core.runs.field_faults import field_faults
from pendel.core.runs.kept import KeptRun, Remark, SignalInfo
from pendel.core.runs.orientation import orientation_faults
from pendel.core.runs.shorts import FOR_GOOD, lasting_shorts, short_paths
from pendel.core.runs.tables import left_tables
from pendel.core.trust import is_allowed, refuse_strange_c


@dataclass
class Prepared:
    """A drive ready to run: its checked values, plant and control deck."""

    drive: Drive
    examined: Examined
    model: PlantModel
    deck: ControlDeck

    @cached_property
    def text(self) -> str:
        """The drive as a file would hold it."""
        return to_text(self.drive)

    @cached_property
    def infos(self) -> dict[str, SignalInfo]:
        return signal_infos(self.drive)


def prepare(drive: Drive, *, with_energy: bool = False) -> Prepared:
    """Check and order a drive.

    Raises
    ------
    DriveHasFindings
        with every fault, each naming the card and the remedy.
    """
    examined = examine(drive)
    if examined.faults:
        raise DriveHasFindings(examined.faults)
    if not drive.cards:
        raise DriveHasFindings([fault("The sheet is empty. Press A on it and add a part.")])
    if refused := refused_c(drive):
        raise DriveHasFindings(refused)
    begin_loop_build()
    try:
        flat = flatten(drive, examined, kind_of)
        model = PlantModel(flat.network, flat.deck.measured, with_energy=with_energy)
        missing = signals_of_other_levels(drive, model, flat.deck)
        if missing:
            raise DriveHasFindings(missing)
        model.structure  # noqa: B018  orders the equations now, where problems become findings
    except EquationProblem as problem:
        raise DriveHasFindings([equation_finding(drive, problem)]) from problem
    except LoopWithoutDelay as problem:
        names = tuple(drive.cards[n].name for n in problem.names)
        raise DriveHasFindings([fault(str(LoopWithoutDelay(names)), problem.names[0])]) from problem
    if model.starting.contradictions:
        raise DriveHasFindings(contradicting_starts(drive, model.starting.contradictions))
    return Prepared(drive, examined, model, in_command_order(flat.deck, model.structure.commands))


def refused_c(drive: Drive) -> list[Finding]:
    """What the compiler has against typed C that was allowed here; other C it is not shown."""
    found = []
    for key, card in drive.cards.items():
        if card.kind != C or card.own is None or not is_allowed(card.own):
            continue
        update = block_of(card).update
        if isinstance(update, Update) and update.verbatim and (wrong := c_problem(update)):
            line, reason = wrong
            sentence = f"{card.name}, update line {line + 1}: The compiler says: {reason}."
            found.append(fault(sentence, key, f"equations:{line}"))
    return found


def averaged(drive: Drive) -> Drive:
    """The drive with every converter averaged, as linear models need it; the drive itself when it is so already."""
    pulsed = [
        k
        for k, c in drive.cards.items()
        if c.choices.get("level", DRIVE_LEVEL) not in (DRIVE_LEVEL, LEVELS[0])
    ]
    if drive.settings["level"] == LEVELS[0] and not pulsed:
        return drive
    twin = drive.copy()
    twin.settings["level"] = LEVELS[0]
    for key in pulsed:
        card = twin.cards[key]
        twin.cards[key] = replace(card, choices={n: c for n, c in card.choices.items() if n != "level"})
    return twin


def signals_of_other_levels(drive: Drive, model: PlantModel, deck: ControlDeck) -> list[Finding]:
    """Signals a block reads that do not exist at the present level of detail."""
    found = []
    for signal in deck.measured:
        if signal not in model.network.signals:
            card, _, name = signal.partition(".")
            kind = kind_of(drive.cards[card])
            assert isinstance(kind, Part)
            declared = next(s for s in kind.signals if s.name == name)
            found.append(
                fault(
                    f"{drive.cards[card].name}: {declared.label} is wired to a block, but exists only at the level {' or '.join(declared.levels)}. Choose that level or take another signal.",
                    card,
                )
            )
    return found


def contradicting_starts(drive: Drive, contradictions: tuple[Contradiction, ...]) -> list[Finding]:
    found = []
    for c in contradictions:
        key, _, state = c.state.partition(".")
        kind = kind_of(drive.cards[key])
        assert isinstance(kind, Part)
        declared = next(s for s in kind.states if s.name == state)
        found.append(
            fault(
                f"{drive.cards[key].name}: its {declared.label} is to start at {figure(c.wanted, declared.unit)}, but what it is joined to makes it start at "
                f"{figure(c.follows, declared.unit)}. Enter one of the two only.",
                key,
                f"start:{state}",
            )
        )
    return found


def reopen(path: Path) -> KeptRun:
    """Read a kept run from disk. Its equations are stated anew from the drive inside it, so that no code in the file is ever run.

    Raises
    ------
    FileProblem
        when the file is damaged, or the equations of this version differ from those it was recorded with.
    """
    run = kept.load(path)
    try:
        structure = prepare(from_text(run.drive_text)).model.structure
    except PendelError as problem:
        raise FileProblem(str(path), f"the drive inside it cannot be read ({problem}).") from problem
    width = (
        1
        + len(structure.state_keys)
        + len(structure.commands)
        + 2 * len(structure.profile_keys)
        + len(structure.mode_keys)
    )
    known = run.structure
    same = (known.state_keys, known.commands, known.profile_keys, known.mode_keys) == (
        structure.state_keys, structure.commands, structure.profile_keys, structure.mode_keys)  # fmt: skip
    if (
        not same
        or run.rows.ndim != 2
        or run.rows.shape[1] != width
        or len(run.parameters) != len(structure.parameter_keys)
    ):
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
    """Label and unit of every signal of every card."""
    found: dict[str, SignalInfo] = {}
    for key, card in drive.cards.items():
        kind, name = kind_of(card), full_name(drive, key)
        if isinstance(kind, Part):
            for s in kind.signals:
                found[f"{key}.{s.name}"] = SignalInfo(f"{key}.{s.name}", name, s.label, s.unit)
        else:
            for port in kind.ports:
                if port.link.value == "signal out":
                    unit = signal_unit(drive, End(key, port.name))
                    words = card.name if port.label in ("Output", "Sampled value") else port.label
                    found[f"{key}.{port.name}"] = SignalInfo(
                        f"{key}.{port.name}", name, words[:1].lower() + words[1:], unit
                    )
    return found


def run_drive(
    prepared: Prepared, *, name: str = "Run", watch: Watch | None = None, until: float | None = None
) -> KeptRun:
    """Run a prepared drive. The outcome says whether it reached its end; this never raises for that.

    Raises
    ------
    DriveProblem
        where the drive brings C that was neither typed nor allowed here.
    """
    refuse_strange_c(prepared.drive, "allow it")
    settings = prepared.examined.settings
    drive = prepared.drive
    end = until or settings["until"]
    # Steps of at most a thousandth keep traces smooth where the method alone would take far longer ones.
    run_settings = RunSettings(
        end,
        settings["tolerance"],
        drive.settings["method"],
        int(settings["seed"]),
        h_max=end / 1000,
        fixed_step=settings["step"],
        shorts=short_paths(drive, kind_of, prepared.model.structure.mode_keys),
        short_limit=FOR_GOOD,
    )
    begun = time.perf_counter()
    model, deck = prepared.model, prepared.deck
    values = prepared.examined.values
    devices = switching_losses(drive, values, kind_of, model.structure.mode_keys)
    condenser = Condenser(model.structure, model.parameters, run_settings.method == "fixed", devices)
    recorded = integrate(model, deck, run_settings, watch, condenser.take)
    seconds = time.perf_counter() - begun
    run = KeptRun(
        name, recorded.rows, recorded.ticks, model.structure, model.parameters, deck.signals, deck.tick, deck.delay, dict(prepared.infos), recorded.outcome,
        outcome_sentence(drive, recorded), recorded.counters, prepared.text, {"until": run_settings.until, "tolerance": run_settings.tolerance},
        level=drive.settings["level"], seconds=seconds)  # fmt: skip
    run.thinned_until, run.condensed = recorded.thinned_until, condenser.result()
    run.pulse_frequencies = tuple(sorted({c.numbers["f"] for c in model.network.pulses if "f" in c.numbers}))
    run.devices = devices
    for device in run.devices:
        words = f"switching energy of {device.name}" if device.name else "switching energy"
        run.infos[device.key] = SignalInfo(device.key, full_name(drive, device.card), words, "J")
    if any(c.numbers.get("off_delay", 0.0) > 0 for c in model.network.pulses):  # else no gates can overlap
        run.remarks = [
            o.remark(drive.cards[o.card].name, values[o.card]["t_dead"])
            for o in overlaps(run, drive, kind_of)
        ]
    if len(run.rows) > 1:
        run.remarks += (shorts := lasting_shorts(run, drive, kind_of))
        if run.outcome is Outcome.SHORTED and shorts:
            run.message += f" {shorts[0].sentence}"
        run.remarks += (
            orientation_faults(run, drive)
            + field_faults(run, drive, values)
            + left_tables(run, drive)
            + duties_beyond(run, drive, kind_of)
        )
    if recorded.computing > 0:
        run.settings |= {
            "load": recorded.computing / max(recorded.ended_at, 1e-12),
            "worst_step": recorded.worst_step,
        }
    if recorded.thinned_until > 0:
        run.remarks.append(
            Remark(
                f"The record was long, so until {figure(recorded.thinned_until, 's', 4)} it keeps one point every {figure(recorded.thinned_to, 's', 3)}; "
                "ripple is seen from there on. Means, rms and losses stay those of all steps. Run a shorter time to keep all of it.",
                "",
                recorded.thinned_until,
            )
        )
    return run


def outcome_sentence(drive: Drive, recorded: Recorded) -> str:
    """What happened, in a sentence that names the part and the time; empty when all went well."""
    card, _, state = recorded.culprit.partition(".")
    name = drive.cards[card].name if card in drive.cards else card
    at = f"{recorded.ended_at * 1e3:.4g} ms"
    moves = card in drive.cards and any(p.link in (Link.SHAFT, Link.ROD) for p in kind_of(drive.cards[card]).ports)  # fmt: skip
    if moves:
        steadied = "Check its limits or add a small compliance."
    else:
        steadied = "Give its devices a drop, such as 0.7 V, and their supply an inductance or a resistance."
    return {
        Outcome.DONE: "",
        Outcome.STOPPED: f"Stopped at {at}.",
        Outcome.SHORTED: f"Stopped at {at}: {name} was short-circuited for {figure(FOR_GOOD, 's', 3)}.",
        Outcome.RAN_AWAY: f"{name} ran away: its state {state} grew without bound at {at}. Check the sign of its feedback and its values.",
        Outcome.STEP_VANISHED: f"The step became too small at {at}; {name} (state {state}) changes too fast. Check its values or loosen the tolerance.",
        Outcome.CHATTERS: f"{name} switches to and fro without end at {at} ({state}). {steadied}",
        Outcome.NO_MEMORY: f"The record grew beyond 4 GB at {at}. Run a shorter time or lower the accuracy.",
        Outcome.NOT_FINITE: f"{name} (state {state}) is not a number from {at} on. Check its values for a division by zero.",
    }[recorded.outcome]
