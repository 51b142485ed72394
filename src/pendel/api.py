"""``import pendel``: the same verbs for scripts. See docs/python.md.

What runs and judges is loaded when it is first called, so that the import takes a moment."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator, Mapping
from html import escape
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import ArrayLike

from pendel.core import verbs
from pendel.core.catalogue.assembly import kind_in, open_ports
from pendel.core.catalogue.declare import Kind
from pendel.core.catalogue.index import kinds
from pendel.core.check import end_exists, examine, fits
from pendel.core.drive import assemblies, commands, file
from pendel.core.drive.document import Card, End, FluxTable, OwnEquations
from pendel.core.drive.document import Drive as Document
from pendel.core.drive.findings import Finding
from pendel.core.errors import DriveProblem, RunProblem
from pendel.core.quantities.named import check_name
from pendel.core.quantities.units import si_unit_of, turn, unit
from pendel.core.trust import allow, allow_all_of, refuse_strange_c
from pendel.core.verbs.asking import LoopReport, SignalReport
from pendel.core.verbs.changing import apply, check_choices, kind_of_card, known_name, named, near_words

if TYPE_CHECKING:
    import matplotlib.figure
    import pandas
    import xarray

    from pendel.core.loops.find import Loop
    from pendel.core.loops.linear import LinearModel
    from pendel.core.runs.balance import Balance, Lost
    from pendel.core.runs.kept import KeptRun, Trace
    from pendel.core.runs.measures import Averages
    from pendel.core.runs.spectra import Spectrum

__all__ = ["CardView", "Drive", "NoSignal", "Run", "open_drive", "open_example"]


class NoSignal(DriveProblem, KeyError):
    """A run has no signal of a name."""

    def __str__(self) -> str:
        return str(self.args[0])


class Run(Mapping[str, "Trace"]):
    """A finished run: traces by the keys of signals. ``run["door_motor.speed"]`` gives times (s) and values in SI.

    Example
    -------
    >>> import pendel
    >>> run = pendel.open_example("car_door_drive").run(0.1)
    >>> "door_motor.speed" in run
    True
    >>> print(f"{run['door_motor.speed'].y_in('rpm')[-1]:.0f} rpm")
    542 rpm
    """

    def __init__(self, kept: KeptRun):
        self.kept = kept

    def __getitem__(self, key: str) -> Trace:
        """A signal's trace. Raises `DriveProblem`, which is a ``KeyError``, with a near name for one that there is not."""
        try:
            return self.kept.trace(key)
        except KeyError:
            raise NoSignal(f"The run has no signal “{key}”.{near_words(key, self.kept.keys)}") from None

    def keys(self) -> list[str]:  # type: ignore[override]
        """Signals that can be shown."""
        return self.kept.keys

    def __contains__(self, key: object) -> bool:
        return key in self.kept.keys

    def __iter__(self) -> Iterator[str]:
        return iter(self.kept.keys)

    def __len__(self) -> int:
        return len(self.kept.keys)

    def __eq__(self, other: object) -> bool:
        return self is other

    def __hash__(self) -> int:
        return id(self)

    def __repr__(self) -> str:
        return f"<Run of {self.kept.end:g} s, {self.kept.level}, {len(self)} signals>"

    def _repr_html_(self) -> str:
        """A table of its signals, for notebooks."""
        infos = self.kept.infos
        rows = ((key, infos[key].card, infos[key].label, infos[key].unit) for key in self if key in infos)
        return html_table(repr(self).strip("<>"), ("signal", "card", "what it is", "unit"), rows)

    def to_pandas(self, signals: Iterable[str] | None = None) -> pandas.DataFrame:
        """Signals as columns over the time (s), in SI, on the times of the first; the others are read there as `at`
        reads them. Needs pandas."""
        import pandas

        keys = list(signals or self)
        times = self[keys[0]].t
        columns = {key: self.at(key, times) for key in keys}
        return pandas.DataFrame(columns, index=pandas.Index(times, name="time"))

    def to_xarray(self, signals: Iterable[str] | None = None) -> xarray.Dataset:
        """Signals as variables over ``time`` (s), in SI, with ``units`` and ``long_name``; on the times of the first.
        Needs xarray."""
        import xarray

        keys = list(signals or self)
        times = self[keys[0]].t
        found = {}
        for key in keys:
            declared = self.kept.declared_unit(key)
            si = si_unit_of(unit(declared)[1], turn(declared))
            about = {"units": si, "long_name": self[key].label}
            found[key] = ("time", self.at(key, times), about)
        return xarray.Dataset(found, coords={"time": ("time", times, {"units": "s"})})

    def plot(self, *signals: str) -> matplotlib.figure.Figure:
        """Signals below each other over the time, in the units they are shown in. Needs Matplotlib, and shows nothing
        by itself; the figure can be saved or displayed."""
        from matplotlib.figure import Figure

        keys = list(signals) or list(self)[:1]
        figure = Figure(figsize=(8, 1 + 1.8 * len(keys)), layout="constrained")
        axes = figure.subplots(len(keys), 1, sharex=True, squeeze=False)[:, 0]
        for axis, key in zip(axes, keys):
            trace = self[key]
            axis.plot(trace.t, trace.y_in(), drawstyle="steps-post" if trace.sampled else "default")
            axis.set_ylabel(f"{trace.label}\n{trace.unit}")
        axes[-1].set_xlabel("time, s")
        return figure

    def spectrum(self, key: str, start: float, end: float, *, fundamental: float = 0.0) -> Spectrum:
        """Lines of a signal between two times (s); see `pendel.core.runs.spectra.spectrum`."""
        from pendel.core.runs.spectra import spectrum

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
        from pendel.core.measures import MEASURES, Span

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
        from pendel.core.runs.measures import averages

        return averages(self.kept.pieces(key), start, end)

    def losses(self, start: float, end: float) -> list[Lost]:
        """What each part lost between two times (s): mean power (W) and energy (J), the largest first."""
        from pendel.core.runs.balance import losses

        return losses(self.kept, start, end)

    def balance(self, start: float, end: float) -> Balance:
        """Where the energy went between two times (s): losses, what was delivered and stored, and whether it
        adds up."""
        from pendel.core.runs.balance import balance

        return balance(self.kept, start, end)

    @property
    def remarks(self) -> list[str]:
        """Sentences about what the run showed that wants attention."""
        return [r.sentence for r in self.kept.remarks]

    def at(self, key: str, times: ArrayLike) -> np.ndarray:
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
        from pendel.core.formats.traces import save_traces

        for key, unit_text in (units or {}).items():
            self.kept.units.choose(key, self.kept.declared_unit(key), unit_text)
        save_traces([self.kept], signals or self.keys(), Path(path))


class Drive:
    """A drive to open or build, change, check and run.

    Example
    -------
    >>> import pendel
    >>> d = pendel.Drive("Bench")
    >>> coil = d.add("inductor", "Coil", L="0.2 mH")
    >>> d.card(coil)["L"]
    0.0002
    >>> d.card(coil)["L"] = "0.3 mH"
    >>> d.undo()
    'Set L of Coil'
    >>> d.card("coil")["L"]
    0.0002
    """

    def __init__(self, title: str = "Untitled drive", *, document: Document | None = None):
        self.document = document or Document(title)
        self._done: list[commands.Command] = []

    def _do(self, command: commands.Command) -> None:
        self._done.append(apply(self.document, command))

    def undo(self) -> str:
        """Take back the last change of this object, and return what it was. Raises `DriveProblem` where there is none."""
        if not self._done:
            raise DriveProblem("There is nothing to undo.")
        last = self._done.pop()
        last.revert(self.document)
        return last.title

    def __repr__(self) -> str:
        cards = len(self.document.cards)
        return f"<Drive “{self.document.title}”, {cards} card{'' if cards == 1 else 's'}>"

    def _repr_html_(self) -> str:
        """A table of its cards, for notebooks."""
        rows = ((str(c.key), c.name, c.kind.title, c.summary) for c in self.cards.values())
        return html_table(repr(self).strip("<>"), ("card", "name", "kind", "values"), rows)

    @property
    def cards(self) -> dict[str, CardView]:
        """Its cards by their keys."""
        return {key: CardView(self, key) for key in self.document.cards}

    def card(self, key: str) -> CardView:
        """A card. Raises `DriveProblem` with a near name where there is none."""
        kind_of_card(self.document, key)
        return CardView(self, key)

    def remove(self, *cards: str) -> None:
        """Take cards off, with their wires. Raises `DriveProblem`."""
        for key in cards:
            kind_of_card(self.document, key)
        self._do(commands.remove_cards(self.document, cards))

    def rename(self, card: str, name: str) -> str:
        """Give a card another name, and return its key. Raises `DriveProblem`."""
        kind_of_card(self.document, card)
        before = list(self.document.cards)
        self._do(commands.rename_card(self.document, card, name))
        return next((key for key in self.document.cards if key not in before), card)

    def judge(self) -> list[LoopReport]:
        """How its loops stand, inside out, with their margins. Raises `DriveHasFindings`."""
        return verbs.loops(self.document)

    def signals(self) -> list[SignalReport]:
        """What a run can show, before it ran. Raises `DriveHasFindings`."""
        return verbs.signals(self.document)

    def add(
        self,
        kind: str,
        name: str,
        *,
        profile: Iterable[tuple[str | float, str | float]] = (),
        rows: Iterable[Iterable[str | float]] = (),
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
            raise DriveProblem(
                f"There is no part or block “{kind}”.{near_words(kind, kinds())} Known are {', '.join(sorted(kinds()))}."
            )
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
        """Wire two ends: a port (``card.port``), or a card alone where only one way fits. For signals, from source to
        reader.

        Raises
        ------
        DriveProblem
            when an end does not exist, and where none or several ways fit.
        """
        ends = ways(self.document, a, b)
        if len(ends) > 1:
            choices = ", ".join(f"{x} – {y}" for x, y in ends[:4])
            raise DriveProblem(f"{a} and {b} can be wired in several ways: {choices}. Name the ports.")
        self._do(commands.add_wire(self.document, *ends[0]))

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
        return kind_of_card(self.document, card)

    def set(self, name: str, value: str | float) -> None:
        """Set a quantity that there is (``K_p``), a card's value (``current_pi.K_p``) or choice (``bridge.level``), or a
        setting (``until``).

        Raises
        ------
        DriveProblem
            when there is no such name; `define` makes a new quantity.
        """
        try:
            command = named(self.document, name, str(value))
        except DriveProblem as problem:
            hint = "" if "." in name else " define() makes a new quantity."
            raise DriveProblem(f"{problem}{hint}") from None
        self._do(command)

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
        from pendel.core.runs.simulate import prepare, run_drive

        if own_c:
            allow_all_of(self.document)
        refuse_strange_c(self.document, "call run(own_c=True)")
        kept = run_drive(prepare(self.document, with_energy=with_energy), until=until)
        if kept.message:
            raise RunProblem(kept.message, kept)
        return Run(kept)

    def linear(self, source: str, target: str, *, opened_at: tuple[str, ...] = ()) -> LinearModel:
        """Linear model from one signal or tap to another. See `pendel.core.loops.linear.LinearModel`."""
        from pendel.core.loops.linear import linear_model
        from pendel.core.runs.simulate import averaged, prepare

        return linear_model(
            prepare(averaged(self.document)),
            self._signal(source),
            self._signal(target),
            tuple(self._signal(o) for o in opened_at),
        )

    def loops(self) -> list[Loop]:
        """The loops of the drive, inside out, with margins."""
        from pendel.core.loops.find import find_loops

        return find_loops(self.document)

    def propose_gains(self, regulator: str, rule: str = "crossover", **wishes: float) -> dict[str, float]:
        """Gains of a regulator by a rule; see `pendel.core.loops.rules`."""
        from pendel.core.loops.tuning import propose

        return propose(self.document, regulator, rule, **wishes)

    def propose_all_gains(self) -> dict[str, str]:
        """Take first gains for every loop, inside out; returns loops left as they are, with the reason."""
        from pendel.core.loops.tuning import propose_all

        proposal = propose_all(self.document)
        if proposal.command.changes:
            self._do(proposal.command)
        return dict(proposal.left)

    def write_c(self, folder: str | Path) -> list[Path]:
        """Write the controller as C: source, header, example. Raises `DriveHasFindings` and `FileProblem`."""
        return list(verbs.write_c(self.document, folder=folder))

    def save(self, path: str | Path) -> None:
        file.save(self.document, Path(path))

    def _signal(self, name: str) -> str:
        return str(self.document.taps[name]) if name in self.document.taps else name


class CardView:
    """A card of a drive: its values in SI by name, and what it can be asked.

    ``card["R_a"]`` is a value in SI, and ``card["R_a"] = "0.5 ohm"`` sets it, as text with a unit or as a number in the
    value's own unit; ``card.R_a`` is the same.
    """

    def __init__(self, drive: Drive, key: str):
        vars(self).update(_drive=drive, key=key)

    if TYPE_CHECKING:
        _drive: Drive
        key: str

    def __repr__(self) -> str:
        return f"<{self.name}: {self.kind.title}>"

    @property
    def _card(self) -> Card:
        kind_of_card(self._drive.document, self.key)
        return self._drive.document.cards[self.key]

    @property
    def kind(self) -> Kind:
        """What it is: its declaration in the catalogue."""
        return kind_of_card(self._drive.document, self.key)

    @property
    def name(self) -> str:
        return self._card.name

    @property
    def values(self) -> dict[str, float]:
        """Values in force, in SI; not-a-number where a text has none."""
        known = examine(self._drive.document).values.get(self.key, {})
        return {v.name: known.get(v.name, math.nan) for v in self.kind.values}

    @property
    def texts(self) -> dict[str, str]:
        """Values as they are written, or as the catalogue has them."""
        written = self._card.values
        return {v.name: written.get(v.name, v.default) for v in self.kind.values}

    @property
    def choices(self) -> dict[str, str]:
        return {c.name: self._card.choices.get(c.name, c.default) for c in self.kind.choices}

    @property
    def ports(self) -> list[str]:
        """Its ports, as `Drive.connect` takes them."""
        return [f"{self.key}.{p.name}" for p in self.kind.ports]

    @property
    def signals(self) -> list[str]:
        """Keys of what a run shows of it. Raises `DriveHasFindings` where the drive cannot run."""
        return [s.key for s in self._drive.signals() if s.key.partition(".")[0] == self.key]

    @property
    def findings(self) -> list[Finding]:
        return [f for f in self._drive.check() if f.card == self.key]

    @property
    def summary(self) -> str:
        return ", ".join(f"{name} = {text}" for name, text in self.texts.items())

    def __getitem__(self, name: str) -> float:
        known_name("value", name, (v.name for v in self.kind.values), self.key)
        return self.values[name]

    def __setitem__(self, name: str, value: str | float) -> None:
        known_name("value", name, (v.name for v in self.kind.values), self.key)
        self._drive.set(f"{self.key}.{name}", value)

    def __getattr__(self, name: str) -> float:
        if name.startswith("_") or all(v.name != name for v in self.kind.values):
            raise AttributeError(f"{self.key} has no value {name}")
        return self[name]

    def __setattr__(self, name: str, value: str | float) -> None:
        try:
            self[name] = value
        except DriveProblem as problem:
            raise AttributeError(str(problem)) from problem

    def __dir__(self) -> list[str]:
        return [*super().__dir__(), *(v.name for v in self.kind.values)]


def ways(drive: Document, a: str, b: str) -> list[tuple[End, End]]:
    """How two ends can be wired: each is a port, or a card whose ports are all tried. Raises `DriveProblem` where there
    is no way."""
    known = {key: kind_in(drive, key) for key in drive.cards}

    def ends(text: str) -> list[End]:
        if "." in text:
            end = End.parse(text)
            if end_exists(drive, known, end) is None:
                near = [f"{key}.{p.name}" for key, kind in known.items() for p in kind.ports]
                raise DriveProblem(f"There is no port or signal {end}.{near_words(text, near)}")
            return [end]
        return [End(text, p.name) for p in kind_of_card(drive, text).ports]

    firsts, seconds = ends(a), ends(b)
    if len(firsts) == len(seconds) == 1 and "." in a and "." in b:
        return [(firsts[0], seconds[0])]
    links = {end: end_exists(drive, known, end) for end in (*firsts, *seconds)}
    pairs = [(x, y, links[x], links[y]) for x in firsts for y in seconds if x != y]
    fitting = [(x, y) for x, y, one, other in pairs if one and other and fits(one, other)]
    wired = {end for wire in drive.wires.values() for end in (wire.a, wire.b)}
    free = [pair for pair in fitting if not wired.intersection(pair)]
    found = free or fitting
    if not found:
        raise DriveProblem(f"No port of {a} fits one of {b}.")
    return found


def html_table(title: str, heads: Iterable[str], rows: Iterable[Iterable[str]]) -> str:
    """A table for notebooks; all its text is shown as it is."""

    def line(cells: Iterable[str], tag: str) -> str:
        return (
            "<tr>" + "".join(f"<{tag} style='text-align:left'>{escape(c)}</{tag}>" for c in cells) + "</tr>"
        )

    body = "".join(line(row, "td") for row in rows)
    return f"<table><caption>{escape(title)}</caption>{line(heads, 'th')}{body}</table>"


def open_drive(path: str | Path) -> Drive:
    """Open a ``.pendel`` file. Raises `FileProblem`."""
    return Drive(document=file.load(Path(path)))


def open_example(name: str) -> Drive:
    """Open one of the examples that come with Pendel, such as ``"car_door_drive"``. Raises `DriveProblem`."""
    folder = Path(__file__).parent / "examples"
    known = sorted(p.stem for p in folder.glob("*.pendel"))
    known_name("example", name, known, "Pendel")
    return open_drive(folder / f"{name}.pendel")
