"""The Drive page: spine, sheet, inspector."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QPoint, pyqtSignal
from PyQt6.QtGui import QCursor
from PyQt6.QtWidgets import QApplication, QHBoxLayout, QStackedWidget, QWidget

from pendel.app.drive.assembly_bar import AssemblyBar
from pendel.app.drive.circuit_view import CircuitView
from pendel.app.drive.editors.text_table import TextTable
from pendel.app.drive.find_line import FindLine
from pendel.app.drive.inspector import Inspector
from pendel.app.drive.new_block import NewBlock
from pendel.app.drive.search_line import Match, SearchLine
from pendel.app.drive.sheet.view import SIGNALS, SheetView
from pendel.app.drive.spine import Spine
from pendel.app.drive.tap_list import TapRow
from pendel.app.session.page import Page
from pendel.app.session.session import Session
from pendel.app.widgets.basic import column
from pendel.app.widgets.drawing import Drawing, drawing_of
from pendel.core.catalogue import own_block, shelf
from pendel.core.catalogue.assembly import Assembly, kind_in, open_ports
from pendel.core.catalogue.declare import Deck, Link, Part
from pendel.core.catalogue.index import kinds
from pendel.core.check import end_exists
from pendel.core.drive import assemblies, commands
from pendel.core.drive.document import Drive, End
from pendel.core.drive.nesting import resolved
from pendel.core.envelope.origin import path_of
from pendel.core.errors import DriveProblem, PendelError
from pendel.core.wiring.completing import add_into_wire, add_wired, completing, through_ports
from pendel.core.wiring.obvious import agreeing, obvious

INTO_WIRE = 0.3
"""How much a kind completes a wire that it goes into."""


class DrivePage(Page):
    place_wanted = pyqtSignal(object)
    """A `Place` that somebody looked for."""

    def __init__(self, session: Session, parent: QWidget | None = None):
        super().__init__(session, parent)
        self.spine, self.sheet, self.inspector = Spine(session), SheetView(session), Inspector(session)
        body = QHBoxLayout(self)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(0)
        body.addWidget(self.spine)
        self.middle = QStackedWidget()
        self.circuit = CircuitView(session)
        self.middle.addWidget(self.sheet)
        self.middle.addWidget(self.circuit)
        self.circuit.closed.connect(self.close_circuit)
        self.sheet.open_wanted.connect(self.open_circuit)
        session.opened.connect(self.close_circuit)
        session.sheet_changed.connect(self.close_circuit)
        stage = QWidget()
        inner = column(stage, (0, 0, 0, 0), 0)
        inner.addWidget(AssemblyBar(session))
        inner.addWidget(self.middle, 1)
        body.addWidget(stage, 1)
        body.addWidget(self.inspector)
        self.search = SearchLine(self.sheet)
        self.search.chosen.connect(self._add)
        self.find_line = FindLine(self.session, self.sheet)
        self.find_line.chosen.connect(self.place_wanted)
        self.sheet.search_wanted.connect(self.open_search)
        self.sheet.edit_wanted.connect(self._edit)
        for source in (self.sheet, self.spine, self.inspector):
            source.status_message.connect(self.status_message)
        self.connect_to: End | None = None
        self.drawn = False
        """Whether somebody drew from that end."""
        self.drop_at: QPoint | None = None

    def fit(self) -> None:
        self.sheet.fit()

    def drawing(self) -> Drawing:
        inside = self.middle.currentWidget()
        return self.sheet.drawing() if inside is self.sheet else drawing_of(inside)

    def rename(self) -> None:
        """The quantity being edited, the tap or the cell of a table in focus, else the selected card."""
        focused = QApplication.focusWidget()
        quantity = next((n for n, f in self.spine.fields.items() if f is focused), None)
        if quantity is not None:
            self.spine.rename_quantity(quantity)
        elif isinstance(focused, TapRow):
            focused.rename_wanted.emit()
        elif isinstance(focused, TextTable) and (cell := focused.currentItem()) is not None:
            focused.editItem(cell)
        elif self.session.selection:
            self.inspector.edit_name()

    def can_open(self, card: str) -> bool:
        """Whether there is something to see inside a card: an assembly's cards, or a converter's circuit."""
        kind = self.sheet.kinds().get(card)
        return isinstance(kind, Assembly) or isinstance(kind, Part) and kind.drawing is not None

    def open_circuit(self, card: str) -> None:
        """Open an assembly into its sheet, a converter into its circuit, or what was made of a drive into that."""
        session = self.session
        made_from = session.drive.cards[card].made_from if card in session.drive.cards else {}
        folder = session.path.parent if session.path is not None else None
        if isinstance(self.sheet.kinds().get(card), Assembly):
            self.session.enter(card)
        elif self.can_open(card):
            self.middle.setCurrentWidget(self.circuit)
            self.circuit.open(card)
        elif made_from and (path := path_of(made_from, folder)) is not None:
            session.drive_wanted.emit(str(path))

    def close_circuit(self) -> None:
        self.middle.setCurrentWidget(self.sheet)
        self.sheet.setFocus()

    def _edit(self) -> None:
        """From the selected card to its first value, or to the first cell of its profile or table, where that is what
        it mainly has."""
        tabs = self.inspector.tabs() if len(self.session.selection) == 1 else []
        if tabs[:1] == ["Profile"] and self.inspector.tab != tabs[0]:
            self.inspector.show_tab(tabs[0])
        first = next(iter(self.inspector.fields.values()), None)
        tables = (each for each in self.inspector.findChildren(TextTable) if each.isVisible())
        if first is not None:
            first.setFocus()
            first.selectAll()
        elif (table := next(tables, None)) is not None:
            table.setFocus()
            table.setCurrentCell(0, table.columnCount() - 1)

    def look_for(self) -> bool:
        self.close_circuit()
        self.find_line.show_at(self.sheet.mapToGlobal(QPoint(self.sheet.width() // 2 - 230, 60)))
        return True

    def open_search(self, where: QPoint | None = None, end: End | None = None) -> None:
        """Open at the pointer; what is selected decides what comes first."""
        if where is None:
            pointer = QCursor.pos()
            inside = self.sheet.rect().contains(self.sheet.mapFromGlobal(pointer))
            where = pointer if inside else self.sheet.mapToGlobal(QPoint(self.sheet.width() // 2 - 200, 60))
        self.drop_at = self.sheet.mapFromGlobal(where)
        self.drawn, self.connect_to = end is not None, end or self._open_end()
        self.search.open_at(where, self._link_of(self.connect_to), self._completing(end))

    def _completing(self, end: End | None) -> dict[str, float]:
        """Kinds that complete the selected card, or go into the selected wire."""
        session = self.session
        wire = session.drive.wires.get(session.selected_wire)
        if end is None and wire is not None:
            link = self._link_of(wire.a)
            fitting = [k.id for k in kinds().values() if link is not None and through_ports(k, link)]
            return dict.fromkeys(fitting, INTO_WIRE)
        card = end.card if end is not None else session.selection[0] if len(session.selection) == 1 else ""
        port = end.port if end is not None else ""
        try:
            return completing(session.drive, card, port) if card in session.drive.cards else {}
        except DriveProblem:  # of a kind that this version does not have
            return {}

    def _link_of(self, end: End | None) -> Link | None:
        if end is None:
            return None
        return Link.SIGNAL_OUT if end.port == SIGNALS else end_exists(self.session.drive, self.sheet.kinds(), end)

    def _open_end(self) -> End | None:
        """The port of the selected card (or wire) to which a new card would be joined."""
        drive = self.session.drive
        if self.session.selected_wire in drive.wires:
            shown = self.sheet.shown_wires.get(self.session.selected_wire)
            return shown.a if shown else None
        if len(self.session.selection) != 1:
            return None
        card = self.session.selection[0]
        joined = {str(e) for w in self.sheet.shown_wires.values() for e in (w.a, w.b)}
        kind = self.session.kinds()[card]
        ports = [p for p in kind.ports if p.link is not Link.SIGNAL_IN or kind.deck is not Deck.POWER]
        ports = [p for p in ports if p.link is not Link.HEAT] or ports  # heat comes by its own port alone
        free = [p for p in ports if f"{card}.{p.name}" not in joined]
        chosen = next(iter(sorted(free, key=lambda p: p.side != "right")), None) or next(
            (p for p in reversed(ports) if p.link in (Link.SHAFT, Link.ROD, Link.DC, Link.AC3, Link.LINE, Link.HEAT)),
            None,
        )
        return End(card, chosen.name) if chosen else None

    def _add(self, match: Match) -> None:
        session, drive = self.session, self.session.drive
        at = self.sheet.mapToScene(self.drop_at) if self.drop_at is not None else None
        if session.selection and self.connect_to is not None and self.connect_to.card == session.selection[0]:
            item = self.sheet.cards.get(session.selection[0])
            if item is not None:  # else it was added so lately that it is not drawn
                at = item.pos() + type(item.pos())(item.size[0] + 36, 0)
        x, y = self.sheet.place_for(match.kind, at)
        if match.shelved is not None:
            self.take_from_shelf(match.shelved, (x, y))
            return
        fields: dict = {"inside": session.inside}
        if match.kind.own is not None:
            fields["own"] = match.kind.own
        if match.kind.has_profile and not match.kind.profile_optional:
            fields["profile"] = match.kind.first_profile
        if match.kind.rows:
            fields.setdefault("rows", match.kind.rows.first)
        command = commands.add_card(drive, match.kind.id, match.kind.title.split(",")[0], x, y, **fields)
        key = command.changes[0].key
        end = self.connect_to
        wire = drive.wires.get(session.selected_wire)
        ports = through_ports(match.kind, link) if wire and (link := self._link_of(wire.a)) is not None else None
        if wire is not None and ports is not None:
            command = add_into_wire(drive, command, key, ports, wire)
        elif end is not None and self._is_obvious(command, key, end):
            command = add_wired(drive, command, key, end.card)
        elif end is not None and match.port and self._still_open(end):
            scratch = drive.copy()
            command.apply(scratch)
            port = self._port_for(end, End(key, match.port), scratch)
            a, b = self._directed(end, End(key, port), scratch) if port else (None, end)
            if a is not None:
                command = command.then(commands.add_wire(scratch, a, b), command.title)
        session.do(command)
        session.select([key])
        self.sheet.setFocus()

    def _is_obvious(self, added: commands.Command, new: str, end: End) -> bool:
        """Whether the end that somebody drew from, or any where a card is selected, is among the wires to a new card
        that are obvious."""
        scratch = self.session.drive.copy()
        added.apply(scratch)
        found = obvious(scratch, [new, end.card]).sure
        return any(end in pair or not self.drawn for pair in found)

    def _port_for(self, end: End, new: End, drive: Drive) -> str:
        """The port of a new card for an end: of signals one whose unit agrees. Where nobody drew a wire only one that
        is the only one, and of the same link, as which line of a pair is meant, or which signal of a part, is not told.
        Empty where there is none."""
        link = self._link_of(end)
        told = link is end_exists(drive, {new.card: kind_in(drive, new.card)}, new)
        if SIGNALS in (end.port, new.port) or link is None or not link.is_signal:
            return new.port if self.drawn or told else ""
        ports = agreeing(drive, end, new.card, surely=not self.drawn)
        return ports[0] if ports and (self.drawn or len(ports) == 1) else ""

    def new_block(self) -> None:
        """Ask what an own block is to be, and show it where it is written."""
        place = self.sheet.place_for(own_block.TEMPLATES[own_block.LANGUAGE], None)
        dialog = NewBlock(self.session, place, self)
        dialog.accepted.connect(self.sheet.setFocus)
        dialog.open()

    def _directed(self, end: End, new: End, drive: Drive) -> tuple[End | None, End]:
        """Both ends of a wire to a card that only ``drive`` has yet, in its direction."""
        where = self.sheet.viewport().mapToGlobal(self.drop_at) if self.drop_at is not None else None
        a, b = (new, end) if self._link_of(end) is Link.SIGNAL_IN else (end, new)
        if a.port != SIGNALS:
            return a, b
        signal = self.sheet.wiring.choose_signal(a.card, b, where, drive)
        return (End(a.card, signal) if signal else None), b

    def _still_open(self, end: End) -> bool:
        link = self._link_of(end)
        fed = {w.b for w in self.session.drive.wires.values()}
        return link is not None and not (link is Link.SIGNAL_IN and resolved(self.session.drive, end) in fed)

    # assemblies ------------------------------------------------------------------

    def group(self) -> None:
        """Fold the selected cards, and name the new card at once."""
        drive, chosen = self.session.drive, self.session.selection
        try:
            command = assemblies.group(drive, chosen, "Assembly", open_ports(drive, chosen))
        except DriveProblem as problem:
            self.status_message.emit(str(problem))
            return
        self.session.do(command)
        self.session.select([command.changes[0].key])
        self.inspector.edit_name()

    def dissolve(self) -> None:
        assembly = self.chosen_assembly()
        if assembly:
            inner = [k for k, c in self.session.drive.cards.items() if c.inside == assembly]
            self.session.do(assemblies.dissolve(self.session.drive, assembly))
            self.session.select(inner)

    def chosen_assembly(self) -> str:
        """The selected assembly, else the open one."""
        chosen = self.session.selection
        card = chosen[0] if len(chosen) == 1 else self.session.inside if not chosen else ""
        return card if card and self.session.drive.cards[card].face is not None else ""

    def shelve(self) -> None:
        assembly = self.chosen_assembly()
        if not assembly:
            return
        try:
            shelf.put_on_shelf(self.session.drive, assembly)
        except PendelError as problem:
            self.status_message.emit(str(problem))
            return
        name = self.session.drive.cards[assembly].name
        self.status_message.emit(f"{name} is on your shelf now. In any drive, press A and type its name.")

    def take_from_shelf(self, path: Path, place: tuple[int, int]) -> None:
        try:
            command, new, differing = shelf.take_from_shelf(self.session.drive, path, self.session.inside, place)
        except PendelError as problem:
            self.status_message.emit(str(problem))
            return
        self.session.do(command)
        self.session.select([new])
        self.sheet.setFocus()
        if differing:
            names = ", ".join(differing)
            self.status_message.emit(
                f"This drive keeps its own value of {names}, which differs from that on the shelf."
            )
