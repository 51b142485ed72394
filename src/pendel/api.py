"""``import pendel``: the same verbs for scripts. See docs/python.md.

What runs and judges is loaded when it is first called, so that the import takes a moment."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from pendel.card_view import CardView, ways
from pendel.core import verbs
from pendel.core.catalogue.assembly import open_ports
from pendel.core.catalogue.declare import Kind
from pendel.core.catalogue.index import kinds
from pendel.core.check import examine
from pendel.core.drive import assemblies, commands, file
from pendel.core.drive.asked import known_name, near_words, read_figure
from pendel.core.drive.document import Drive as Document
from pendel.core.drive.document import End, FluxTable, KeptTransfer, OwnEquations
from pendel.core.drive.findings import Finding
from pendel.core.errors import DriveProblem, RunProblem
from pendel.core.quantities.named import check_name
from pendel.core.trust import allow, allow_all_of, refuse_strange_c
from pendel.core.verbs.asking import LoopReport, SignalReport
from pendel.core.verbs.changing import apply, check_choices, kind_of_card, named
from pendel.run_view import NoSignal, Run
from pendel.tables import html_table

if TYPE_CHECKING:
    from pendel.board_view import Board
    from pendel.core.firmware.propose import ProposedFormats
    from pendel.core.loops.calming import Calming
    from pendel.core.loops.find import Loop
    from pendel.core.loops.linear_models import LinearModel
    from pendel.core.loops.modes import Mechanics
    from pendel.core.loops.sweep import Swept
    from pendel.core.loops.tolerances import Tolerated
    from pendel.core.loops.transfer import Ends, Transfer
    from pendel.core.loops.within_limits import TunedLoops
    from pendel.core.verbs.shipping import FirmwareReport
    from pendel.live_view import Live
    from pendel.sheet_view import SheetPicture

__all__ = ["CardView", "Drive", "NoSignal", "Run"]


class Drive:
    """A drive to open or build, change, check and run. In the examples ``d`` is
    ``pendel.open_example("car_door_drive")``, opened again for each.

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

    def do(self, command: commands.Command) -> None:
        """Take a command of `pendel.core.drive.commands` or `pendel.core.drive.assemblies`, with all that
        follows from it,
        as one step that `undo` takes back. Raises `DriveProblem`.

        >>> from pendel.core.drive import commands
        >>> d.do(commands.remove_cards(d.document, ["rubbing"]))
        >>> len(d.cards)
        14
        """
        self._done.append(apply(self.document, command))

    def undo(self) -> str:
        """Take back the last change of this object, and return what it was. Raises `DriveProblem` where there
        is none.

        >>> d.set("K_p", "40 A*s/m")
        >>> d.undo()
        'Set K_p'
        """
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

    def sheet(self) -> SheetPicture:
        """Its sheet as SVG, which a notebook shows. Raises `RunProblem` where it cannot be drawn.

        >>> import pendel
        >>> pendel.open_example("car_door_drive").sheet().svg.count("<svg")
        1
        """
        from pendel.sheet_view import sheet_of

        return sheet_of(self.document)

    @property
    def cards(self) -> dict[str, CardView]:
        """Its cards by their keys.

        >>> list(d.cards)[:3]
        ['supply', 'bridge', 'door_motor']
        """
        return {key: CardView(self, key) for key in self.document.cards}

    def card(self, key: str) -> CardView:
        """A card. Raises `DriveProblem` with a near name where there is none.

        >>> d.card("gear").summary
        'ratio = z_gear, eta = 94'
        """
        kind_of_card(self.document, key)
        return CardView(self, key)

    def remove(self, *cards: str) -> None:
        """Take cards off, with their wires. Raises `DriveProblem`.

        >>> d.remove("rubbing")
        >>> "rubbing" in d.cards
        False
        """
        for key in cards:
            kind_of_card(self.document, key)
        self.do(commands.remove_cards(self.document, cards))

    def rename(self, card: str, name: str) -> str:
        """Give a card another name, and return its key. Raises `DriveProblem`.

        >>> d.rename("door_motor", "Leaf motor")
        'leaf_motor'
        """
        kind_of_card(self.document, card)
        before = list(self.document.cards)
        self.do(commands.rename_card(self.document, card, name))
        return next((key for key in self.document.cards if key not in before), card)

    def judge(self, at: str = "rest", *, continuous: bool = False) -> list[LoopReport]:
        """Its loops, inside out, with their margins; at ``"steady"`` in the rotation in which a run ends,
        ``"measured"`` by sines in runs. ``continuous`` gives margins as if nothing were sampled, with delays as such.
        Raises `DriveHasFindings` and `DriveProblem`.

        >>> for loop in d.judge():
        ...     print(loop.name, f"{loop.crossover:.0f} Hz, {loop.phase_margin:.0f}°")
        Current 325 Hz, 83°
        Speed 9 Hz, 84°
        """
        return verbs.loops(self.document, at=at, continuous=continuous)

    def signals(self) -> list[SignalReport]:
        """What a run can show, before it ran. Raises `DriveHasFindings`.

        >>> [s.key for s in d.signals()][:2]
        ['supply.voltage', 'supply.current']
        """
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

        >>> d.add("inertia", "Wheel", J="2e-4 kg*m^2")
        'wheel'
        """
        if kind not in kinds():
            raise DriveProblem(
                f"There is no part or block “{kind}”.{near_words(kind, kinds())} Known are "
                f"{', '.join(sorted(kinds()))}."
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
        self.do(command)
        return command.changes[0].key

    def connect(self, a: str, b: str) -> None:
        """Wire two ends: a port (``card.port``), or a card alone where only one way fits. For signals, from
        source to
        reader.

        Raises
        ------
        DriveProblem
            when an end does not exist, and where none or several ways fit.

        >>> wheel = d.add("inertia", "Wheel")
        >>> d.connect("door_motor.shaft", "wheel.a")
        """
        ends = ways(self.document, a, b)
        if len(ends) > 1:
            choices = ", ".join(f"{x} – {y}" for x, y in ends[:4])
            raise DriveProblem(f"{a} and {b} can be wired in several ways: {choices}. Name the ports.")
        self.do(commands.add_wire(self.document, *ends[0]))

    def group(self, cards: list[str], name: str, *, face: Mapping[str, str] | None = None) -> str:
        """Fold cards into an assembly and return its id; ``face`` gives names to values inside, as
        ``card.value``.

        Raises
        ------
        DriveProblem
            when cards lie on different sheets, or a value does not exist.

        >>> d.group(["rubbing", "rail"], "Frictions")
        'frictions'
        """
        command = assemblies.group(self.document, cards, name, open_ports(self.document, cards))
        self.do(command)
        new = command.changes[0].key
        for label, where in (face or {}).items():
            self.do(assemblies.show_value(self.document, new, End.parse(where), True, label))
        return new

    def define(self, name: str, value: str | float) -> None:
        """Set a quantity, which need not exist yet: a named value that others may refer to.

        Raises
        ------
        DriveProblem
            when the name cannot be one, or is that of a setting.

        >>> d.define("J_wheel", "2e-4 kg*m^2")
        """
        if name in self.document.settings:
            raise DriveProblem(f"“{name}” is a setting. Choose another name for the quantity.")
        check_name(name)
        self.do(commands.set_quantity(self.document, name, str(value)))

    def choose(self, card: str, **options: str) -> None:
        """Change choices of a card, such as ``choose("bridge", level="switching")``.

        Raises
        ------
        DriveProblem
            for an unknown card, choice or option.

        >>> d.choose("bridge", level="switching")
        >>> d.card("bridge").choices["level"]
        'switching'
        """
        check_choices(self._kind(card), options, card)
        for name, option in options.items():
            self.do(commands.set_choice(self.document, card, name, option))

    def start(self, card: str, **values: str | float) -> None:
        """Change starting values of a part's states, such as ``start("flywheel", omega="100 rpm")``.

        Raises
        ------
        DriveProblem
            for an unknown card or state.

        >>> d.start("door_leaf", x="10 cm")
        """
        states = [s.name for s in getattr(self._kind(card), "states", ())]
        for name in values:
            known_name("start", name, states, card)
        for name, value in values.items():
            self.do(commands.set_start(self.document, card, name, str(value)))

    def profile(self, card: str, corners: Iterable[tuple[str | float, str | float]]) -> None:
        """Change a card's profile: times and values of its corners.

        Raises
        ------
        DriveProblem
            for a card that has none.

        >>> d.profile("rubbing", [("0", "0"), ("50 ms", "20 N")])
        """
        if not self._kind(card).has_profile:
            raise DriveProblem(f"{card} has no profile.")
        self.do(commands.set_profile(self.document, card, [(str(t), str(v)) for t, v in corners]))

    def rows(self, card: str, rows: Iterable[Iterable[str | float]]) -> None:
        """Change a card's table, row by row.

        Raises
        ------
        DriveProblem
            for a card that has none.

        >>> table = d.add("curve", "Table")
        >>> d.rows("table", [("0", "0"), ("1", "3")])
        """
        if not self._kind(card).rows:
            raise DriveProblem(f"{card} has no table of rows.")
        self.do(commands.set_rows(self.document, card, [[str(cell) for cell in row] for row in rows]))

    def _kind(self, card: str) -> Kind:
        return kind_of_card(self.document, card)

    def set(self, name: str, value: str | float) -> None:
        """Set a quantity that there is (``K_p``), a card's value (``current_pi.K_p``) or choice
        (``bridge.level``), or a
        setting (``until``).

        Raises
        ------
        DriveProblem
            when there is no such name; `define` makes a new quantity.

        >>> d.set("m_leaf", "60 kg")
        >>> d.card("door_leaf").m
        60.0
        """
        try:
            command = named(self.document, name, str(value))
        except DriveProblem as problem:
            hint = "" if "." in name else " define() makes a new quantity."
            raise DriveProblem(f"{problem}{hint}") from None
        self.do(command)

    def tap(self, name: str, signal: str) -> None:
        """Give a signal a name.

        >>> d.tap("belt_force", "belt.force")
        >>> len(d.transfer("i_set", "belt_force", at="rest").model.states) > 3
        True
        """
        self.do(commands.add_tap(self.document, name, End.parse(signal)))

    def check(self) -> list[Finding]:
        """Findings, each a sentence.

        >>> d.set("m_leaf", "60 V")
        >>> print(d.check()[0])
        Door leaf: “m_leaf” is in V, but kg is needed.
        """
        return examine(self.document).findings

    def run(self, until: float | str | None = None, *, with_energy: bool = False, own_c: bool = False) -> Run:
        """Run to ``until`` (s, or text such as ``"0.3 s"``), or as long as the drive says. ``own_c`` lets C run
        that the drive's file brings.

        Raises
        ------
        DriveHasFindings
        DriveProblem
            where the file brings C of its own that was not allowed
        RunProblem
            whose ``run`` is the `KeptRun` until then

        >>> run = d.run("100 ms")
        >>> print(f"{run['door_leaf.speed'].y[-1]:.3f} m/s")
        0.023 m/s
        """
        from pendel.core.runs.simulate import prepare, run_drive

        if own_c:
            allow_all_of(self.document)
        refuse_strange_c(self.document, "call run(own_c=True)")
        if isinstance(until, str):
            until = read_figure(self.document, until, "s", 0.0)
        kept = run_drive(prepare(self.document, with_energy=with_energy), until=until)
        if kept.message:
            raise RunProblem(kept.message, kept)
        return Run(kept)

    def live(self, *, own_c: bool = False) -> Live:
        """A live run of the drive as it is now, in a process of its own, standing at its start: see `pendel.Live`. For
        a ``with`` block.

        Raises
        ------
        DriveHasFindings, DriveProblem
            as `run`
        RunProblem
            where its process does not start

        >>> with d.live() as live:
        ...     live.advance("10 ms")
        ...     print(f"{live.time:g} s")
        0.01 s
        """
        from pendel.core.runs.simulate import prepare
        from pendel.live_view import Live

        if own_c:
            allow_all_of(self.document)
        refuse_strange_c(self.document, "call live(own_c=True)")
        prepared = prepare(self.document)
        tick = prepared.deck.tick if prepared.deck.blocks else prepared.examined.settings["tick"]
        return Live(Drive(document=self.document.copy()), tick, own_c=own_c)

    def board(self, address: str = "stand-in", *, target: str = "host", own_c: bool = False) -> Board:
        """A board on the bench for the drive as it is now: see `pendel.Board`. For a ``with`` block.

        Parameters
        ----------
        address
            ``"stand-in"`` for one around this drive, or where a board is, as on the page Bench: docs/bench.md.
        target
            what `Board.load` builds for: ``"host"``, or ``"m4f"`` for a stand-in on an emulated processor.

        Raises
        ------
        DriveHasFindings, DriveProblem
            as `run`
        BenchProblem
            where there is no board

        >>> with d.board() as board:
        ...     print(board.state, board.facts.empty)
        idle True
        """
        from pendel.board_view import Board

        if own_c:
            allow_all_of(self.document)
        refuse_strange_c(self.document, "call board(own_c=True)")
        return Board(self.document.copy(), address, target, own_c=own_c)

    def linear(self, source: str, target: str, *, opened_at: tuple[str, ...] = ()) -> LinearModel:
        """Linear model from one signal or tap to another. See `pendel.core.loops.linear_models.LinearModel`.

        >>> model = d.linear("bridge.duty", "i_door")
        >>> model.input, model.output, model.dt
        ('bridge.duty', 'door_motor.current', 0.0)
        """
        from pendel.core.loops.linear import linear_model
        from pendel.core.runs.simulate import averaged, prepare

        return linear_model(
            prepare(averaged(self.document)),
            self._signal(source),
            self._signal(target),
            tuple(self._signal(o) for o in opened_at),
        )

    def transfer(
        self, source: str, target: str, *, opened: Sequence[str] = (), at: str | float = "any"
    ) -> Transfer:
        """The linear model between two signals or taps; see `pendel.core.loops.transfer.Ends` for where and about what;
        a time also as text, such as ``"0.4 s"``.

        Raises
        ------
        DriveHasFindings, DriveProblem

        >>> way = d.transfer("i_set", "i_door", at="rest")
        >>> print(f"{abs(way.response(np.array([100.0]))[0]):.2f}")
        0.98
        """
        from pendel.core.loops.between import model_between

        return model_between(self.document, self._ends(source, target, opened, at))

    def _ends(self, source: str, target: str, opened: Sequence[str], at: str | float) -> Ends:
        """Taps resolved, a time as text read. Raises `DriveProblem`."""
        from pendel.core.loops.looked_at import place_of
        from pendel.core.loops.transfer import Ends

        place = place_of(self.document, at) if isinstance(at, str) else at
        return Ends(self._signal(source), self._signal(target), tuple(map(self._signal, opened)), place)

    def sweep(
        self,
        source: str,
        target: str,
        frequencies: Sequence[float] = (),
        *,
        opened: Sequence[str] = (),
        at: str | float = "any",
        amplitude: float | None = None,
    ) -> Swept:
        """The same measured in runs at the drive's level of detail, at frequencies in Hz; see
        `pendel.core.loops.sweep`.

        Raises
        ------
        DriveHasFindings, DriveProblem

        >>> point = d.sweep("i_set", "i_door", [300.0], at="rest").points[0]
        >>> abs(point.off_db) < 0.2 and abs(point.off_degrees) < 2
        True
        """
        from pendel.core.loops.between import sweep_between

        return sweep_between(self.document, self._ends(source, target, opened, at), frequencies, amplitude)

    def keep_transfer(
        self, name: str, source: str, target: str, *, opened: Sequence[str] = (), at: str = ""
    ) -> None:
        """Keep a way between two signals or taps in the drive by a name, to be looked at on Loops.

        >>> d.keep_transfer("current by setpoint", "i_set", "i_door")
        """
        self.do(commands.keep_transfer(self.document, name, KeptTransfer(source, target, tuple(opened), at)))

    def loops(self) -> list[Loop]:
        """The loops of the drive, inside out, with margins.

        >>> [loop.regulator for loop in d.loops()]
        ['current_pi', 'speed_pi']
        """
        from pendel.core.loops.find import find_loops

        return find_loops(self.document)

    def propose_gains(
        self, regulator: str, rule: str = "crossover", *, at: str = "rest", **wishes: float
    ) -> dict[str, float]:
        """Gains of a regulator by a rule, judged as `judge` does ``at``; see `pendel.core.loops.rules`.

        >>> {name: round(gain, 4) for name, gain in d.propose_gains("current_pi", crossover=900.0).items()}
        {'K_p': 3.2935, 'T_i': 0.0006}
        """
        from pendel.core.loops.judged_at import judged_at
        from pendel.core.loops.tuning import propose

        gains = propose(self.document, regulator, rule, at=judged_at(at), **wishes)
        return {name: float(gain) for name, gain in gains.items()}

    def tune(
        self, loop: str = "", *, goal: str = "disturbance", at: str = "rest", **limits: float
    ) -> TunedLoops:
        """Take the gains that are best by a goal (disturbance, settling, effort) within limits, of one loop by its
        regulator or of all, inside out, where they are judged `at`; see `pendel.core.loops.within_limits.Limits` for
        what can be limited.

        Raises
        ------
        DriveHasFindings, DriveProblem

        >>> tuned = d.tune("current_pi", goal="settling", phase_margin=55.0, ms=1.5)
        >>> list(tuned.found)
        ['current_pi']
        """
        from dataclasses import fields

        from pendel.core.loops.judged_at import judged_at
        from pendel.core.loops.within_limits import Goal, Limits, tune

        known = [f.name for f in fields(Limits)]
        for name in limits:
            known_name("limit", name, known, "tuning")
        known_name("goal", goal, [g.value for g in Goal], "tuning")
        tuned = tune(self.document, Limits(**limits), Goal(goal), loop, at=judged_at(at))
        if tuned.command.changes:
            self.do(tuned.command)
        return tuned

    def tolerate(
        self,
        regulator: str,
        spreads: Mapping[str, float],
        *,
        samples: int = 100,
        at: str = "rest",
        seed: int = 1,
    ) -> Tolerated:
        """Judge a loop, as `judge` does ``at``, while quantities and values (``card.value``) are off by ± shares of
        themselves, at all corners and at random samples; see `pendel.core.loops.tolerances`.

        Raises
        ------
        DriveHasFindings, DriveProblem

        >>> spread = d.tolerate("current_pi", {"door_motor.L_a": 0.2}, samples=5)
        >>> spread.holds, len(spread.samples)
        (True, 8)
        """
        from pendel.core.loops.judged_at import judged_at
        from pendel.core.loops.tolerances import Spread, tolerate

        shares = [Spread(n, s) for n, s in spreads.items()]
        return tolerate(self.document, regulator, shares, samples, at=judged_at(at), seed=seed)

    def modes(self, at: str = "") -> Mechanics:
        """Natural frequencies, damping and shapes of what swings: at rest with everything in contact, or at an
        operating point as for `transfer`.

        Raises
        ------
        DriveHasFindings, DriveProblem

        >>> print(f"{d.modes().modes[0][1].frequency:.1f} Hz")
        6.8 Hz
        """
        from pendel.core.loops.looked_at import mechanics_at

        return mechanics_at(self.document, at)

    def calm(
        self, by: str = "damping", *, mode: int = 1, behind: str = "", speed: str = "", damping: float = 0.3
    ) -> Calming:
        """Put a ``"notch"``, a ``"low-pass"`` or a ``"damping"`` loop against a mode, as blocks, in one step.

        Parameters
        ----------
        mode
            its number from 1, slowest first.
        behind
            the block output they act on; the torque, force or current nearest to the plant without it.
        speed
            what a damping loop feeds back; that of the first body without it.
        damping
            for a damping loop to reach.

        Raises
        ------
        DriveHasFindings, DriveProblem

        >>> found = d.calm("notch", behind="speed_pi.out")
        >>> d.undo()
        'Put a notch behind speed_pi.out'
        """
        from pendel.core.loops.calming import command_for, means_of
        from pendel.core.loops.looked_at import calming_of

        found = calming_of(
            self.document, means_of(by), mode, self._signal(behind), self._signal(speed), float(damping)
        )
        self.do(command_for(self.document, found))
        return found

    def propose_all_gains(self) -> dict[str, str]:
        """Take first gains for every loop, inside out; returns loops left as they are, with the reason.

        >>> d.propose_all_gains()
        {}
        """
        from pendel.core.loops.tuning import propose_all

        proposal = propose_all(self.document)
        if proposal.command.changes:
            self.do(proposal.command)
        return dict(proposal.left)

    def write_c(
        self, folder: str | Path, *, number_format: str | None = None, blocks: Mapping[str, str] | None = None
    ) -> list[Path]:
        """Write the controller as C: source, header, example and library.

        Parameters
        ----------
        number_format
            of all blocks: ``"float64"``, ``"float32"``, ``"fixed32"`` or ``"fixed16"``; the drive's without it.
        blocks
            number formats of single blocks by their keys.

        Raises
        ------
        DriveHasFindings, DriveProblem, FileProblem

        >>> import tempfile
        >>> sorted(path.suffix for path in d.write_c(tempfile.mkdtemp()))
        ['.a2l', '.c', '.c', '.c', '.c', '.h', '.h', '.html']
        """
        mix = [f"{block}={number}" for block, number in (blocks or {}).items()]
        twin = self.document.copy()
        return list(verbs.write_c(twin, folder=folder, number_format=number_format, blocks=mix))

    def export_unit(
        self,
        path: str | Path,
        *,
        what: str = "drive",
        inputs: Sequence[str] = (),
        step: float | None = None,
    ) -> Path:
        """Write the drive, its plant or its controller as a unit for other simulators (FMI 3.0, co-simulation).

        Parameters
        ----------
        what
            ``"drive"``, ``"plant"`` or ``"controller"``.
        inputs
            profiles, and values as ``card.value``, that come from outside.
        step
            s; from tick to tick where no controller of the drive says so.

        Raises
        ------
        DriveHasFindings, DriveProblem, BuildProblem, FileProblem

        >>> import tempfile
        >>> d.export_unit(tempfile.mkdtemp() + "/plant.fmu", what="plant").name
        'plant.fmu'
        """
        text = None if step is None else f"{step!r} s"
        verbs.export_unit(self.document.copy(), what=what, inputs=inputs, step=text).save(Path(path))
        return Path(path)

    def set_live(self, *wished: str, off: bool = False) -> None:
        """Have values of blocks changeable while the code runs, or with ``off`` constants again.

        Parameters
        ----------
        wished
            a block's key for all its values that are not 0, ``"current_pi.K_p"``, or with ends
            ``"current_pi.K_p=0.5…8"``; without them a value goes from a quarter to four times of what it is.

        Raises
        ------
        DriveHasFindings, DriveProblem

        >>> d.set_live("speed_pi.K_p=10…80")
        >>> d.document.cards["speed_pi"].live
        {'K_p': ('10', '80')}
        """
        for command in verbs.live_commands(self.document, wished, off=off):
            self.do(command)

    def find_ranges(self) -> None:
        """Run the drive and keep what the signals of its controller came to, for fixed point. Raises
        `DriveHasFindings` and `DriveProblem`.

        >>> d.set("until", "0.2 s")
        >>> d.find_ranges()
        """
        self.do(commands.set_seen(self.document, verbs.ranges_of(self.document)))

    def propose_formats(self, error: float = 2e-3) -> ProposedFormats:
        """Take the narrowest number formats with which no signal of the controller is further off than this
        fraction of its span (rms, in closed loop). Ranges are to be found before.

        Raises
        ------
        DriveHasFindings

        >>> d.set("until", "0.2 s")
        >>> d.find_ranges()
        >>> d.propose_formats(0.01).error < 0.01
        True
        """
        from pendel.core.firmware.propose import propose_formats

        found = propose_formats(self.document, error)
        self.do(commands.set_number_formats(self.document, found.formats, "Propose formats"))
        return found

    def firmware(self, *, check: bool = False, processor: Sequence[str] = ()) -> FirmwareReport:
        """Report the controller as shipped: formats, ranges, findings; built and compared to the bit with
        ``check``, and on emulated processors (``"m4f"``, ``"m3"``, ``"m0"``).

        Raises
        ------
        DriveHasFindings, DriveProblem, BuildProblem

        >>> d.firmware().blocks[0].name
        'travel_speed'
        """
        return verbs.firmware(self.document.copy(), check=check, processor=processor)

    def save(self, path: str | Path) -> None:
        """As a ``.pendel`` file. Raises `FileProblem`.

        >>> import tempfile
        >>> d.save(tempfile.mkdtemp() + "/door.pendel")
        """
        file.save(self.document, Path(path))

    def _signal(self, name: str) -> str:
        return str(self.document.taps[name]) if name in self.document.taps else name
