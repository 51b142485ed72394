"""What a script changes in a drive, each change a step that can be undone."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Mapping
from typing import TypeVar

from pendel.core.catalogue.assembly import open_ports
from pendel.core.catalogue.index import kinds
from pendel.core.catalogue.strips import laid_out
from pendel.core.catalogue.where import Place, places
from pendel.core.check import Examined, examine
from pendel.core.drive import assemblies, commands, cycles, file, view_edits
from pendel.core.drive.document import Drive as Document
from pendel.core.drive.document import End, FluxTable, OwnEquations
from pendel.core.drive.limits import within_sheet
from pendel.core.drive.user_text import known_name, near_words, read_figure
from pendel.core.drive.views import Note
from pendel.core.errors import DriveProblem
from pendel.core.quantities.named import check_name
from pendel.core.trust import allow
from pendel.core.verbs.changing import apply, check_choices, kind_of_card, named
from pendel.core.wiring.obvious import obvious, obvious_command, usual_pair
from pendel.interface.card_view import ways
from pendel.interface.run_view import Run

Does = TypeVar("Does", bound=Callable[..., object])


def changes_drive(method: Does) -> Does:
    """Marks a method that changes the drive, where the class does not say so."""
    method.changes_drive = True  # type: ignore[attr-defined]
    return method


def is_at(end: End, text: str) -> bool:
    """Whether an end is what a text names: the port, or any of the card."""
    return text in (str(end), end.card)


class EditedDrive:
    """A drive that can be changed: the part of `pendel.Drive` that adds, connects and sets."""

    def __init__(self, title: str = "Untitled drive", *, document: Document | None = None):
        self.document = document or Document(title)
        self._done: list[commands.Command] = []
        self._watched: Document | None = None
        self._known: Examined | None = None

    def _examined(self) -> Examined:
        """The drive as it was examined last, or now where it has changed since."""
        document = self.document
        if document is not self._watched:
            document.listeners.append(self._forget)
            self._watched, self._known = document, None
        if self._known is None:
            self._known = examine(document)
        return self._known

    def _forget(self, touched: set[tuple[str, str]]) -> None:
        self._known = None

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
        """Wire two ends: a port (``card.port``), or a card alone where only one way fits or one is usual. For signals,
        from source to reader; shafts run from the first to the second.

        Raises
        ------
        DriveProblem
            when an end does not exist, and where none or several ways fit.

        >>> wheel = d.add("inertia", "Wheel")
        >>> d.connect("door_motor.shaft", "wheel.a")
        """
        ends = ways(self.document, a, b)
        if len(ends) > 1 and "." not in a + b and (pair := usual_pair(self.document, a, b)):
            ends = [pair]
        if len(ends) > 1:
            choices = ", ".join(f"{x} – {y}" for x, y in ends[:4])
            raise DriveProblem(f"{a} and {b} can be wired in several ways: {choices}. Name the ports.")
        self.do(commands.add_wire(self.document, *ends[0]))

    def disconnect(self, a: str, b: str = "") -> None:
        """Take the wires off between two ends, each a port (``card.port``) or a card; with one end, all of its wires.

        Raises
        ------
        DriveProblem
            where there is none.

        >>> d.disconnect("door_motor", "bridge")
        >>> d.connect("door_motor", "bridge")
        """
        for text in filter(None, (a, b)):
            kind_of_card(self.document, text.partition(".")[0])
        gone = []
        for key, wire in self.document.wires.items():
            ends = (wire.a, wire.b)
            if any(is_at(one, a) and (not b or is_at(other, b)) for one, other in (ends, ends[::-1])):
                gone.append(key)
        if not gone:
            raise DriveProblem(f"No wire ends at {a}." if not b else f"No wire joins {a} and {b}.")
        self.do(commands.remove_wires(self.document, gone))

    def connect_obvious(self, *cards: str) -> dict[str, list[str]]:
        """Wire cards as they are usually wired, all of them by default, with sensors where signals of parts are wanted;
        one step of `undo`. Returns the ports that several things could be joined to, with these, for `connect`.

        Raises
        ------
        DriveProblem
            for an unknown card.

        >>> d.connect_obvious()
        {}
        """
        for card in cards:
            kind_of_card(self.document, card)
        found = obvious(self.document, cards or list(self.document.cards))
        self.do(obvious_command(self.document, found))
        return {str(each.target): [str(source) for source in each.sources] for each in found.asked}

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

    def take_back_to(self, run: Run) -> None:
        """Make the drive what it was in a run, as one step. Its title, its panel and its kept ways stay, and where
        cards lie. Raises `DriveProblem`.

        >>> run = d.run(0.01)
        >>> d.set("K_p", "40 A*s/m")
        >>> d.remove("rubbing")
        >>> d.take_back_to(run)
        >>> "rubbing" in d.cards, d.document.quantities["K_p"].text
        (True, '35 A*s/m')
        """
        then = file.from_text(run.kept.drive_text)
        self.do(commands.as_in(self.document, then, "Take the drive as it was in a run"))

    def find(self, text: str) -> list[Place]:
        """Where something is by what it is called or what is written there: cards, quantities, taps, values and lines
        of own equations that hold all words of a text.

        >>> [(place.title, place.card, place.field) for place in d.find("link voltage")][1:]
        [('Pulse stage: U_dc', 'pulse_stage', 'U_dc')]
        """
        return places(self.document, text)

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
        for key in cards:
            kind_of_card(self.document, key)
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
        check_choices(kind_of_card(self.document, card), options, card)
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
        states = [s.name for s in getattr(kind_of_card(self.document, card), "states", ())]
        for name in values:
            known_name("start", name, states, card)
        for name, value in values.items():
            self.do(commands.set_start(self.document, card, name, str(value)))

    def profile(self, card: str, corners: str | Iterable[tuple[str | float, str | float]], times: int = 1) -> None:
        """Change a card's profile: times and values of its corners, or the name of a driving cycle (``urban``,
        ``extra_urban``, ``combined`` of UN R83), ``times`` one after another.

        Raises
        ------
        DriveProblem
            for a card that has none, an unknown cycle, or more corners than a drive can hold.

        >>> d.profile("rubbing", [("0", "0"), ("50 ms", "20 N")])
        """
        if not kind_of_card(self.document, card).has_profile:
            raise DriveProblem(f"{card} has no profile.")
        named = cycles.cycle(corners) if isinstance(corners, str) else corners
        texts = [(str(t), str(v)) for t, v in named]
        self.do(commands.set_profile(self.document, card, cycles.repeated_texts(texts, times)))

    def rows(self, card: str, rows: Iterable[Iterable[str | float]]) -> None:
        """Change a card's table, row by row.

        Raises
        ------
        DriveProblem
            for a card that has none.

        >>> table = d.add("curve", "Table")
        >>> d.rows("table", [("0", "0"), ("1", "3")])
        """
        if not kind_of_card(self.document, card).rows:
            raise DriveProblem(f"{card} has no table of rows.")
        self.do(commands.set_rows(self.document, card, [[str(cell) for cell in row] for row in rows]))

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

    @property
    def about(self) -> str:
        """What the drive says of itself, in Markdown.

        >>> "first drive to look at" in d.about
        True
        """
        return view_edits.about(self.document)

    def describe(self, text: str) -> None:
        """Have the drive say this of itself, in Markdown; an empty text takes it away.

        >>> d.describe("# A door\\n\\nTry a heavier leaf.")
        >>> d.about
        '# A door\\n\\nTry a heavier leaf.'
        """
        self.do(view_edits.set_about(self.document, text))

    def note(self, text: str, at: tuple[int, int] = (5, 2), inside: str = "") -> str:
        """Put words on the sheet, in Markdown, at a place in steps of 4 px; returns what `remove_note` takes.

        >>> d.note("The leaf **swings** on its belt.", at=(120, 90))
        'note_1'
        """
        name = view_edits.free_note(self.document)
        self.do(view_edits.set_note(self.document, name, Note(text.rstrip(), *map(within_sheet, at), inside)))
        return name

    def remove_note(self, name: str) -> None:
        """Take a note off the sheet.

        Raises
        ------
        DriveProblem
            where there is no such note.

        >>> d.remove_note(d.note("Gone again."))
        """
        known_name("note", name, self.document.notes, "This drive")
        self.do(view_edits.set_note(self.document, name, Note()))

    def lay_out(
        self,
        strips: Iterable[Iterable[str]],
        cursors: tuple[float | str, float | str] | None = None,
        heights: Iterable[float] = (),
    ) -> None:
        """Have the drive open with these strips, each a list of signals or taps; what feeds a setpoint is dashed.
        ``cursors`` are two times, ``heights`` multiples of a usual strip's. No strips: those that its parts ask for.

        Raises
        ------
        DriveProblem
            for a signal that no run of it has, or what no drive can hold.

        >>> d.lay_out([["travel_speed.out", "travel_plan.speed"], ["i_door"]], cursors=("0.2 s", "1 s"))
        """
        from pendel.core.runs.preparing.simulate import signal_infos  # slow to load

        taps = {name: str(end) for name, end in self.document.taps.items()}
        lists = [tuple(taps.get(name, name) for name in strip) for strip in strips]
        known = [*signal_infos(self.document), *taps]
        for name in (each for strip in lists for each in strip):
            if name not in known:
                raise DriveProblem(f"No run of this drive has a signal “{name}”.{near_words(name, known)}")
        times = tuple(read_figure(self.document, str(time), "s", math.nan) for time in cursors or ())
        view = laid_out(self.document, lists, times, tuple(heights))
        self.do(view_edits.set_view(self.document, view))
