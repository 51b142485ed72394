"""``import pendel``: the same verbs for scripts. See docs/python.md."""

from __future__ import annotations

import difflib
import math
from collections.abc import Iterable, Mapping
from pathlib import Path

import numpy as np

from pendel.core.catalogue.assembly import kind_in, open_ports
from pendel.core.catalogue.declare import Kind
from pendel.core.catalogue.index import kinds
from pendel.core.check import end_exists, examine
from pendel.core.controllers.writer import NumberFormat
from pendel.core.drive import assemblies, commands, file
from pendel.core.drive.assemblies import completed
from pendel.core.drive.document import Drive as Document
from pendel.core.drive.document import End, FluxTable, OwnEquations
from pendel.core.drive.findings import Finding
from pendel.core.errors import DriveProblem, RunProblem
from pendel.core.formats.traces import save_traces
from pendel.core.measures import MEASURES, Span
from pendel.core.quantities.named import check_name
from pendel.core.runs.balance import Balance, Lost, balance, losses
from pendel.core.runs.kept import KeptRun, Trace
from pendel.core.runs.measures import Averages, averages
from pendel.core.runs.simulate import averaged, prepare, run_drive
from pendel.core.runs.spectra import Spectrum, spectrum
from pendel.core.trust import allow, allow_all_of, refuse_strange_c


def known_name(what: str, name: str, known: Iterable[str], owner: str) -> None:
    """Raise `DriveProblem` with what there is, when ``name`` is not among it."""
    known = sorted(known)
    if name not in known:
        raise DriveProblem(f"{owner} has no {what} “{name}”. It has {', '.join(known) or 'none'}.")


def check_choices(kind: Kind, options: Mapping[str, str], owner: str) -> None:
    for name, option in options.items():
        known_name("choice", name, (c.name for c in kind.choices), owner)
        choice = next(c for c in kind.choices if c.name == name)
        known_name(f"option of {name}", option, (stored for stored, _ in choice.options), owner)


class Run:
    """A finished run. ``run["door_motor.speed"]`` gives times and values in SI."""

    def __init__(self, kept: KeptRun):
        self.kept = kept

    def __getitem__(self, key: str) -> Trace:
        return self.kept.trace(key)

    def spectrum(self, key: str, start: float, end: float, *, fundamental: float = 0.0) -> Spectrum:
        """Lines of a signal between two times (s); see `pendel.core.runs.spectra.spectrum`."""
        trace = self[key]
        return spectrum(*trace.drawn, start, end, fundamental=fundamental)

    def measure(self, name: str, key: str, start: float, end: float, *, setpoint: str | None = None) -> float:
        """A measure of a signal between two times (s), in SI; not-a-number where it means nothing there.

        ``name`` is one of `pendel.core.measures.MEASURES`, such as ``"rms"`` or ``"overshoot"``; measures of a response take the
        ``setpoint`` it follows.

        Raises
        ------
        DriveProblem
            for a name, signal or time that there is not.
        """
        known_name("measure", name, (m.id for m in MEASURES), "Pendel")
        for each in (key, setpoint) if setpoint else (key,):
            known_name("signal", each, self.kept.keys, f"The run {self.kept.name}")
        if not 0 <= start < end:
            raise DriveProblem(
                f"{start:g} s to {end:g} s is no span of the run. Write the earlier time first."
            )
        value = MEASURES[name].value(Span(self.kept, key, start, min(end, self.kept.end), setpoint))
        return math.nan if value is None else value

    def averages(self, key: str, start: float, end: float) -> Averages:
        """Mean, rms and ripple (peak to peak) of a signal between two times (s)."""
        return averages(self.kept.pieces(key), start, end)

    def losses(self, start: float, end: float) -> list[Lost]:
        """What each part lost between two times (s): mean power (W) and energy (J), the largest first."""
        return losses(self.kept, start, end)

    def balance(self, start: float, end: float) -> Balance:
        """Where the energy went between two times (s): losses, what was delivered and stored, and whether it
        adds up."""
        return balance(self.kept, start, end)

    @property
    def remarks(self) -> list[str]:
        """Sentences about what the run showed that wants attention."""
        return [r.sentence for r in self.kept.remarks]

    def keys(self) -> list[str]:
        return self.kept.keys

    def at(self, key: str, times) -> np.ndarray:
        """Values of a signal at given times (s): held for sampled signals, linear between steps for others."""
        trace = self[key]
        times = np.asarray(times, dtype=float)
        if trace.sampled:
            return trace.y[
                np.clip(np.searchsorted(trace.t, times + 1e-12, side="right") - 1, 0, len(trace.y) - 1)
            ]
        return np.interp(times, trace.t, trace.y)

    def save(
        self, path: str | Path, signals: list[str] | None = None, units: Mapping[str, str] | None = None
    ) -> None:
        """Traces as ``.csv``, ``.h5`` or ``.mat``, by the ending of ``path``. ``units`` gives single signals
        in others than those they are declared with, such as ``{"door_motor.speed": "rpm"}``.

        Raises
        ------
        DriveProblem
            where a unit is of another kind.
        FileProblem
            where the file cannot be written.
        """
        for key, unit_text in (units or {}).items():
            self.kept.units.choose(key, self.kept.declared_unit(key), unit_text)
        save_traces([self.kept], signals or self.keys(), Path(path))


class Drive:
    """A drive to open or build, change, check and run."""

    def __init__(self, title: str = "Untitled drive", *, document: Document | None = None):
        self.document = document or Document(title)

    def _do(self, command: commands.Command) -> None:
        completed(self.document, command).apply(self.document)

    def add(
        self,
        kind: str,
        name: str,
        *,
        profile=(),
        rows=(),
        flux: FluxTable | None = None,
        own: OwnEquations | None = None,
        starts: Mapping[str, str] | None = None,
        choices: Mapping[str, str] | None = None,
        **values: str | float,
    ) -> str:
        """Add a card and return its id. Values are text with units, or numbers in the value's own unit.

        Raises
        ------
        DriveProblem
            for an unknown kind, or a value, choice, option or start that it has not.
        """
        if kind not in kinds():
            raise DriveProblem(f"There is no part or block “{kind}”. Known are {', '.join(sorted(kinds()))}.")
        template = kinds()[kind]
        if own is None:
            for value in values:
                known_name("value", value, (v.name for v in template.values), kind)
            for state in starts or {}:
                known_name("start", state, (s.name for s in getattr(template, "states", ())), kind)
        check_choices(template, choices or {}, kind)
        if profile and not template.has_profile:
            raise DriveProblem(f"{kind} has no profile.")
        if rows and not template.rows:
            raise DriveProblem(f"{kind} has no table of rows.")
        if flux is not None and not template.takes_flux:
            raise DriveProblem(f"{kind} takes no flux tables.")
        if own is not None:
            allow([own], for_good=False)  # the script that adds it holds it
        texts = {k: str(v) for k, v in values.items()}
        points = tuple((str(t), str(v)) for t, v in profile)
        table = kinds()[kind].rows
        rows = rows or (table.first if table else ())
        command = commands.add_card(
            self.document,
            kind,
            name,
            values=texts,
            choices=dict(choices or {}),
            starts=dict(starts or {}),
            profile=points,
            rows=tuple(tuple(str(cell) for cell in row) for row in rows),
            own=own,
            flux=flux,
        )
        self._do(command)
        return command.changes[0].key

    def connect(self, a: str, b: str) -> None:
        """Wire two ports, ``card.port`` each; for signals from source to reader.

        Raises
        ------
        DriveProblem
            when an end does not exist.
        """
        ends = End.parse(a), End.parse(b)
        known = {key: kind_in(self.document, key) for key in self.document.cards}
        for end in ends:
            if end_exists(self.document, known, end) is None:
                raise DriveProblem(f"There is no port or signal {end}.")
        self._do(commands.add_wire(self.document, *ends))

    def group(self, cards: list[str], name: str, *, face: Mapping[str, str] | None = None) -> str:
        """Fold cards into an assembly and return its id; ``face`` gives names to values inside, as
        ``card.value``.

        Raises
        ------
        DriveProblem
            when cards lie on different sheets, or a value does not exist.
        """
        command = assemblies.group(self.document, cards, name, open_ports(self.document, cards))
        self._do(command)
        new = command.changes[0].key
        for label, where in (face or {}).items():
            self._do(assemblies.show_value(self.document, new, End.parse(where), True, label))
        return new

    def define(self, name: str, value: str | float) -> None:
        """Set a quantity, which need not exist yet: a named value that others may refer to.

        Raises
        ------
        DriveProblem
            when the name cannot be one, or is that of a setting.
        """
        if name in self.document.settings:
            raise DriveProblem(f"“{name}” is a setting. Choose another name for the quantity.")
        check_name(name)
        self._do(commands.set_quantity(self.document, name, str(value)))

    def choose(self, card: str, **options: str) -> None:
        """Change choices of a card, such as ``choose("bridge", level="switching")``.

        Raises
        ------
        DriveProblem
            for an unknown card, choice or option.
        """
        check_choices(self._kind(card), options, card)
        for name, option in options.items():
            self._do(commands.set_choice(self.document, card, name, option))

    def start(self, card: str, **values: str | float) -> None:
        """Change starting values of a part's states, such as ``start("flywheel", omega="100 rpm")``.

        Raises
        ------
        DriveProblem
            for an unknown card or state.
        """
        states = [s.name for s in getattr(self._kind(card), "states", ())]
        for name in values:
            known_name("start", name, states, card)
        for name, value in values.items():
            self._do(commands.set_start(self.document, card, name, str(value)))

    def profile(self, card: str, corners: Iterable[tuple[str | float, str | float]]) -> None:
        """Change a card's profile: times and values of its corners.

        Raises
        ------
        DriveProblem
            for a card that has none.
        """
        if not self._kind(card).has_profile:
            raise DriveProblem(f"{card} has no profile.")
        self._do(commands.set_profile(self.document, card, [(str(t), str(v)) for t, v in corners]))

    def rows(self, card: str, rows: Iterable[Iterable[str | float]]) -> None:
        """Change a card's table, row by row.

        Raises
        ------
        DriveProblem
            for a card that has none.
        """
        if not self._kind(card).rows:
            raise DriveProblem(f"{card} has no table of rows.")
        self._do(commands.set_rows(self.document, card, [[str(cell) for cell in row] for row in rows]))

    def _kind(self, card: str) -> Kind:
        if card not in self.document.cards:
            near = difflib.get_close_matches(card, list(self.document.cards), n=1)
            raise DriveProblem(f"There is no card “{card}”.{f' Is it {near[0]}?' if near else ''}")
        return kind_in(self.document, card)

    def set(self, name: str, value: str | float) -> None:
        """Set a quantity that there is (``K_p``), a card's value (``current_pi.K_p``) or a setting (``until``).

        Raises
        ------
        DriveProblem
            when there is no such name; `define` makes a new quantity.
        """
        if "." in name:
            end = End.parse(name)
            if (
                end.card not in self.document.cards
                or kind_in(self.document, end.card).value(end.port) is None
            ):
                raise DriveProblem(f"There is no value {name}.")
            self._do(commands.set_value(self.document, end.card, end.port, str(value)))
        elif name in self.document.settings:
            self._do(commands.set_setting(self.document, name, str(value)))
        elif name in self.document.quantities:
            self._do(commands.set_quantity(self.document, name, str(value)))
        else:
            known = [*self.document.settings, *self.document.quantities]
            begins = [k for k in known if k.startswith(name)]
            near = begins or difflib.get_close_matches(name, known, n=1)
            hint = f" Is it {near[0]}?" if near else ""
            raise DriveProblem(
                f"There is no quantity or setting “{name}”.{hint} define() makes a new quantity."
            )

    def tap(self, name: str, signal: str) -> None:
        self._do(commands.add_tap(self.document, name, End.parse(signal)))

    def check(self) -> list[Finding]:
        return examine(self.document).findings

    def run(self, until: float | None = None, *, with_energy: bool = False, own_c: bool = False) -> Run:
        """Run to ``until`` (s), or as long as the drive says. ``own_c`` lets C run that the drive's file
        brings.

        Raises
        ------
        DriveHasFindings
        DriveProblem
            where the file brings C of its own that was not allowed
        RunProblem
            whose ``run`` is the `KeptRun` until then
        """
        if own_c:
            allow_all_of(self.document)
        refuse_strange_c(self.document, "call run(own_c=True)")
        kept = run_drive(prepare(self.document, with_energy=with_energy), until=until)
        if kept.message:
            raise RunProblem(kept.message, kept)
        return Run(kept)

    def linear(self, source: str, target: str, *, opened_at: tuple[str, ...] = ()):
        """Linear model from one signal or tap to another. See `pendel.core.loops.linear.LinearModel`."""
        from pendel.core.loops.linear import linear_model

        return linear_model(
            prepare(averaged(self.document)),
            self._signal(source),
            self._signal(target),
            tuple(self._signal(o) for o in opened_at),
        )

    def loops(self):
        """The loops of the drive, inside out, with margins."""
        from pendel.core.loops.find import find_loops

        return find_loops(self.document)

    def propose_gains(self, regulator: str, rule: str = "crossover", **wishes: float):
        """Gains of a regulator by a rule; see `pendel.core.loops.rules`."""
        from pendel.core.loops.tuning import propose

        return propose(self.document, regulator, rule, **wishes)

    def propose_all_gains(self) -> dict[str, str]:
        """Take first gains for every loop, inside out; returns loops left as they are, with the reason."""
        from pendel.core.loops.tuning import propose_all

        proposal = propose_all(self.document)
        self._do(proposal.command)
        return dict(proposal.left)

    def write_c(self, folder: str | Path) -> list[Path]:
        """Write the controller as C: source, header, example."""
        from pendel.core.firmware.ship import write_sources

        return write_sources(prepare(self.document).deck, NumberFormat.FLOAT32, Path(folder))

    def save(self, path: str | Path) -> None:
        file.save(self.document, Path(path))

    def _signal(self, name: str) -> str:
        return str(self.document.taps[name]) if name in self.document.taps else name


def open_drive(path: str | Path) -> Drive:
    """Open a ``.pendel`` file. Raises `FileProblem`."""
    return Drive(document=file.load(Path(path)))
