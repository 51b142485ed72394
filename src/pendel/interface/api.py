"""``import pendel``: the same verbs for scripts. See docs/python.md.

What runs and judges is loaded when it is first called, so that the import takes a moment."""

from __future__ import annotations

import math
from pathlib import Path
from typing import TYPE_CHECKING

from pendel.core import verbs
from pendel.core.catalogue.declare import Block
from pendel.core.drive import file
from pendel.core.drive.document import End
from pendel.core.drive.findings import Finding
from pendel.core.drive.titles import titled_by
from pendel.core.drive.user_text import read_figure
from pendel.core.errors import DriveProblem, RunProblem
from pendel.core.trust import allow_all_of, brings_allowed_c, refuse_strange_c
from pendel.core.verbs.asking import SignalReport
from pendel.core.verbs.changing import OUTSIDE, kind_of_card, nothing_of
from pendel.interface.card_view import CardView
from pendel.interface.drive_firmware import ShippedDrive
from pendel.interface.drive_loops import JudgedDrive
from pendel.interface.drive_series import VariedDrive
from pendel.interface.run_view import NoSignal, Run
from pendel.interface.tables import html_table

if TYPE_CHECKING:
    from pendel.core.plant.simulator import Watch
    from pendel.interface.board_view import Board
    from pendel.interface.live_view import Live
    from pendel.interface.sheet_view import SheetPicture

__all__ = ["CardView", "Drive", "NoSignal", "Run"]


class Drive(JudgedDrive, ShippedDrive, VariedDrive):
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

    path: Path | None = None
    """The file that it was opened from or saved in last; None for a new drive and for examples."""
    _watch: Watch | None = None
    """What sees how far its runs are, and may stop them."""

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
        from pendel.interface.sheet_view import sheet_of

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

    def get(self, name: str) -> float | str:
        """What `set` sets, as it is in force: of a quantity, a setting or a card's value the number in SI, and
        not-a-number where its text has none; of a choice the word.

        Raises
        ------
        DriveProblem
            when there is no such name.

        >>> d.get("K_p"), d.get("door_leaf.m"), d.get("bridge.level"), d.get("until")
        (35.0, 38.0, 'drive', 1.2)
        """
        document = self.document
        if "." in name:
            end = End.parse(name)
            card = self.card(end.card)
            if card.kind.value(end.port) is not None:
                return card[end.port]
            if end.port in card.choices:
                return card.choices[end.port]
            if end.port == OUTSIDE and isinstance(card.kind, Block):
                return document.cards[end.card].outside or "no"
        elif name in document.quantities:
            return self._examined().quantities.get(name, math.nan)
        elif name in document.settings:
            return self._examined().settings.get(name, document.settings[name])
        raise nothing_of(document, name)

    def signals(self) -> list[SignalReport]:
        """What a run can show, before it ran. Raises `DriveHasFindings`.

        >>> [s.key for s in d.signals()][:2]
        ['supply.voltage', 'supply.current']
        """
        return verbs.signals(self.document)

    def check(self) -> list[Finding]:
        """Findings, each a sentence.

        >>> d.set("m_leaf", "60 V")
        >>> print(d.check()[0])
        Door leaf: “m_leaf” is in V, but kg is needed.
        """
        return self._examined().findings

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
        from pendel.core.runs.preparing.simulate import prepare_run, run_drive

        if own_c:
            allow_all_of(self.document)
        refuse_strange_c(self.document, "call run(own_c=True)")
        if isinstance(until, str):
            until = read_figure(self.document, until, "s", 0.0)
        kept = run_drive(prepare_run(self.document, with_energy=with_energy), watch=self._watch, until=until)
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
        from pendel.core.runs.preparing.simulate import prepare_run
        from pendel.interface.live_view import Live

        if own_c:
            allow_all_of(self.document)
        refuse_strange_c(self.document, "call live(own_c=True)")
        prepared = prepare_run(self.document)
        tick = prepared.deck.tick if prepared.deck.blocks else prepared.examined.settings["tick"]
        return Live(Drive(document=self.document.copy()), tick, own_c=own_c or brings_allowed_c(self.document))

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
        from pendel.interface.board_view import Board

        if own_c:
            allow_all_of(self.document)
        refuse_strange_c(self.document, "call board(own_c=True)")
        return Board(self.document.copy(), address, target, own_c=own_c or brings_allowed_c(self.document))

    def save(self, path: str | Path) -> None:
        """As a ``.pendel`` file; a drive without a title gets the file's name. Raises `FileProblem`.

        >>> import tempfile
        >>> d.save(tempfile.mkdtemp() + "/door.pendel")
        """
        if (named := titled_by(self.document, Path(path))) is not None:
            self.do(named)
        file.save(self.document, Path(path))
        self.path = Path(path)

    def in_detail(self, run: Run, card: str, start: float | str, end: float | str) -> Drive:
        """A stretch of a trip in detail: a drive of its own, in which the one that an envelope was made of, from its
        file beside this one, goes through the speed and torque of ``card`` from ``start`` to ``end`` (s, or text) of a
        run. It begins half a second before, at the first of them.

        Raises
        ------
        DriveProblem
            where the card was made of none, or its file is not there.
        FileProblem

        >>> trip = pendel.open_example("works_car")
        >>> detail = trip.in_detail(trip.run("20 s"), "traction", "9 s", "9.2 s")
        >>> detail.document.settings["until"]
        '0.7 s'
        """
        from pendel.core.envelope.closer import in_detail

        span = [read_figure(self.document, at, "s", 0.0) if isinstance(at, str) else float(at) for at in (start, end)]
        folder = self.path.parent if self.path is not None else None
        return Drive(document=in_detail(self.document, run.kept, card, span[0], span[1], folder))

    def keep(self, run: Run, name: str = "") -> str:
        """Keep a run beside the drive's file, in ``NAME.runs``, where the window shows it by its name when it opens the
        drive. Returns what its file is called there.

        Raises
        ------
        DriveProblem
            where the drive has no file yet.
        FileProblem

        >>> import tempfile
        >>> d.save(tempfile.mkdtemp() + "/door.pendel")
        >>> d.keep(d.run(0.01), "R = 5 ohm")
        'run1'
        """
        from pendel.core.runs.record import kept
        from pendel.core.runs.record.places import next_run_path

        if self.path is None:
            raise DriveProblem("The drive has no file yet, beside which runs could be kept. Save it first.")
        path, before = next_run_path(self.path.with_suffix(".runs")), (run.kept.file, run.kept.differs)
        run.kept.differs = name or run.kept.differs
        try:
            kept.save(run.kept, path)
        finally:
            run.kept.file, run.kept.differs = before
        return path.stem
