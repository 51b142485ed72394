"""The sheet: a view of the drive on which cards are added, moved, wired, copied and deleted."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QPoint, QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import (
    QAction,
    QContextMenuEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QShowEvent,
)
from PyQt6.QtWidgets import QGraphicsScene, QGraphicsView, QMenu, QWidget

from pendel.app.drive.sheet.bundles import Bundles, signal_words, wire_label
from pendel.app.drive.sheet.captions import Obstacles
from pendel.app.drive.sheet.geometry import (
    CONTROL_SIZE,
    GRID,
    POWER_SIZE,
    Box,
    boundary,
)
from pendel.app.drive.sheet.geometry import Link as Routed
from pendel.app.drive.sheet.handles import place_handles
from pendel.app.drive.sheet.items import BoundaryItem, CardFace, CardItem, WireItem
from pendel.app.drive.sheet.named_links import NamedLinkItem, link_name, place_links
from pendel.app.drive.sheet.notes import SheetNotes
from pendel.app.drive.sheet.routing import Router
from pendel.app.drive.sheet.terminals import Terminals
from pendel.app.drive.sheet.tidying import tidy
from pendel.app.drive.sheet.wiring import SIGNALS, WireDrawing
from pendel.app.drive.sheet.zooming import ZoomedView
from pendel.app.session import card_text as shown
from pendel.app.session.session import Session
from pendel.app.session.sparks import NOTHING, spark
from pendel.app.widgets.drawing import Drawing, drawing_of_scene
from pendel.app.widgets.pictures import offer_pictures
from pendel.app.widgets.theme import colour
from pendel.app.widgets.timers import Later, RefreshWhenShown
from pendel.core.catalogue.declare import Deck, Kind, Link, Part
from pendel.core.catalogue.index import known_kind
from pendel.core.check import end_exists
from pendel.core.drive import clips, commands
from pendel.core.drive.document import End, Wire
from pendel.core.drive.nesting import resolved, wires_on, with_members
from pendel.core.quantities.units import figure
from pendel.core.runs.record.kept import KeptRun
from pendel.core.vocabulary import Group, ValueRole

REACH = 9.0
EDGE = 16.0
"""Pixels around the drawing in a picture."""

FOR_SHEET = ("add", "note", "wire_obvious", "tidy")
"""Actions in the menu of the pointer where nothing is chosen; else these:"""
FOR_CHOSEN = (
    *("open_circuit", "open_bundle", "named_link", "wire_obvious", "group", "dissolve", "shelve"),
    *("tap", "open_loop", "copy", "duplicate", "delete"),
)
IF_POSSIBLE = ("open_loop", "tap", "open_circuit", "open_bundle", "named_link", "dissolve", "shelve")
"""Those of them that are left out where they can do nothing."""


class SheetView(ZoomedView):
    """Shows and edits the two decks. All edits are commands of the session."""

    search_wanted = pyqtSignal(QPoint, object)
    """Where on the screen to open the search line, and the end a new card should connect to (or None)."""
    status_message = pyqtSignal(str)
    edit_wanted = pyqtSignal()
    open_wanted = pyqtSignal(str)

    def __init__(self, session: Session, parent: QWidget | None = None):
        super().__init__(parent)
        self.session = session
        self.action_named: Callable[[str], QAction | None] = lambda name: None
        """The window's actions, for the menu."""
        self.sheet = QGraphicsScene(self)
        self.setScene(self.sheet)
        self.setFrameShape(QGraphicsView.Shape.NoFrame)
        self.setBackgroundBrush(colour("paper"))
        self.setRenderHint(QPainter.RenderHint.Antialiasing)
        self.setAccessibleName("Sheet")
        self.setMouseTracking(True)
        self.setTransformationAnchor(QGraphicsView.ViewportAnchor.AnchorUnderMouse)
        self.setViewportUpdateMode(QGraphicsView.ViewportUpdateMode.FullViewportUpdate)
        self.setAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop)
        self.router = Router(self)
        self.router.done.connect(self._lay_wires)
        self._sides = (0.0, 0.0)
        """Left and right of what is drawn."""
        self._written: object = None
        """What words were placed for."""
        self.cards: dict[str, CardItem] = {}
        self.wires: dict[str, WireItem] = {}
        self.shown_wires: dict[str, Wire] = {}
        """Wires of the open sheet, with their ends as seen there."""
        self.bundles = Bundles()
        self.terminals = Terminals(self)
        self.notes = SheetNotes(self)
        self.edge = BoundaryItem()
        self.sheet.addItem(self.edge)
        self._fit_then = False
        self._press: QPointF | None = None
        self._moving: dict[str, tuple[int, int]] = {}
        self._dragging = False
        self.wiring = WireDrawing(self)
        self._ghost = self.wiring.ghost
        self.sheet.addItem(self._ghost)
        self._band: QPointF | None = None
        self._late = Later(self, 0, self.sync)
        session.changed.connect(lambda _: self._late.start())
        session.opened.connect(self._opened)
        self._for_runs = RefreshWhenShown(self, self._late.start)
        session.runs_changed.connect(self._for_runs)
        session.live_moved.connect(self._for_runs)
        session.evaluator.ended.connect(lambda problem: problem or self._for_runs())
        session.sheet_changed.connect(self._sheet_changed)
        session.selection_changed.connect(self._show_selection)
        session.examined_changed.connect(self._late.start)

    # drawing the drive -------------------------------------------------------

    def _opened(self) -> None:
        self.zoomed_by_hand = False
        self._fit_then = True
        self._late.start()

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        self._for_runs.shown()

    def redraw(self) -> None:
        self._late.start()

    def kinds(self) -> dict[str, Kind]:
        return self.session.kinds()

    def sync(self) -> None:
        """Make the items match the drive."""
        drive = self.session.drive
        kinds = self.kinds()
        for key in [k for k in self.cards if k not in kinds or drive.cards[k].kind != self.cards[k].face.kind.id]:
            self.sheet.removeItem(self.cards.pop(key))
        if self.wiring.start is not None and self.wiring.start.card not in kinds:
            self.wiring.give_up()
        run = shown.run_on_cards(self.session)
        for key, kind in kinds.items():
            face = self._face(key, kind, run)
            if key not in self.cards:
                self.cards[key] = CardItem(face)
                self.sheet.addItem(self.cards[key])
            item = self.cards[key]
            item.show_face(face)
            if not self._dragging:
                item.setPos(drive.cards[key].x * GRID, drive.cards[key].y * GRID)
            item.update()
        wires = wires_on(drive, self.session.inside)
        styles = {key: style for key, wire in wires.items() if (style := self._wire_style(wire, kinds)) is not None}
        self.shown_wires = {key: wires[key] for key in styles}
        self.terminals.sync(kinds)
        names = {str(end): name for name, end in drive.taps.items()}
        taps = {key: names.get(str(drive.wires[key].a), "") for key in self.shown_wires}
        self.bundles.sort(self.shown_wires, styles, {key for key, tap in taps.items() if tap})
        drawn = {self.bundles.line_of(key) for key in self.shown_wires} | set(self.terminals.wires)
        for key in [k for k in self.wires if k not in drawn]:
            self.sheet.removeItem(self.wires.pop(key))
        for key in (k for k in styles if k in drawn):
            item = self.wire_item(key, styles[key], named=drive.wires[key].named)
            bundle = self.bundles.of(key)
            item.bundle = [signal_words(drive, drive.wires[k]) for k in bundle] if len(bundle) > 1 else []
            item.label = wire_label(drive, drive.wires[key]) if len(bundle) == 1 else ""
            item.tap = taps[key]
            if isinstance(item, NamedLinkItem):
                item.name, item.tap = link_name(drive, drive.wires[key], len(bundle), taps[key]), ""
        self.notes.sync()
        self.reroute()
        self._show_selection()
        if self._fit_then:
            self._fit_then = False
            self.fit()

    def wire_item(self, key: str, link: str, *, named: bool = False) -> WireItem:
        """The drawn wire of that key, made when it is not there yet."""
        if key in self.wires and isinstance(self.wires[key], NamedLinkItem) is not named:
            self.sheet.removeItem(self.wires.pop(key))
        if key not in self.wires:
            self.wires[key] = NamedLinkItem(key, link) if named else WireItem(key, link, "")
            self.sheet.addItem(self.wires[key])
        self.wires[key].link = link
        return self.wires[key]

    def _face(self, key: str, kind: Kind, run: KeptRun | None) -> CardFace:
        session = self.session
        card = session.drive.cards[key]
        signal = shown.main_signal(session.drive, key)
        known = run is not None and signal in run.keys
        held = with_members(session.drive, [key]) if card.face is not None else [key]
        findings = [f for f in session.findings if f.card in held]
        trouble = "fault" if any(f.stops for f in findings) else "attention" if findings else ""
        every = session.examined.values.get(key, {}).get(kind.value_name(ValueRole.PERIODS))
        tick = session.examined.settings.get("tick")
        rate = figure(every * tick, "s", 3) if kind.deck is not Deck.POWER and every and tick and every == every else ""
        return CardFace(
            key,
            kind,
            card.name,
            shown.summary_lines(session.drive, key, session.examined),
            shown.figure_of(run, signal, session.cursor_time) if known else "",
            spark(run, signal) if known else NOTHING,
            kind.deck is Deck.POWER,
            rate,
            trouble,
            card.face is not None,
            shown.figure_in_words(run, signal, session.cursor_time) if known else "",
            set(held) <= session.examined.aside,
        )

    def _wire_style(self, wire: Wire, kinds: dict[str, Kind]) -> str | None:
        link_a, link_b = (
            end_exists(self.session.drive, kinds, wire.a),
            end_exists(self.session.drive, kinds, wire.b),
        )
        if link_a is None or link_b is None:
            return None
        if link_a.is_signal:
            source = resolved(self.session.drive, wire.a).card
            return "continuous" if isinstance(known_kind(self.session.drive.cards[source]), Part) else "sampled"
        return Link.LINE.style if Link.LINE in (link_a, link_b) else link_a.style

    def bundle(self, wanted: bool) -> None:
        """Draw signals that travel together as one wire, or each by itself."""
        self.bundles.on = wanted
        self.bundles.opened.clear()
        self.sync()

    def toggle_bundle(self, key: str) -> None:
        """Open or close the bundle of a wire, where it has one."""
        if key in self.shown_wires and self.bundles.toggle(key, self.shown_wires[key]):
            self.sync()

    def boxes(self) -> dict[str, Box]:
        return {key: item.box() for key, item in self.cards.items()}

    def _links(self) -> list[Routed]:
        routed = self.terminals.links()
        for key, wire in self.shown_wires.items():
            if key in self.wires and wire.a.card in self.cards and wire.b.card in self.cards:
                signal = self.wires[key].link in ("continuous", "sampled")
                routed.append(
                    Routed(
                        key,
                        wire.a.card,
                        wire.b.card,
                        signal,
                        str(wire.a),
                        str(wire.b),
                        self.cards[wire.a.card].face.power,
                        self.cards[wire.b.card].face.power,
                    )
                )
        return routed

    def reroute(self) -> None:
        self.terminals.place(self.boxes())
        boxes, links = {**self.boxes(), **self.terminals.boxes()}, self._links()
        placed = place_handles(self.cards, self.kinds(), boxes, links)
        power = [item.box() for item in self.cards.values() if item.face.power]
        right = max([b.x + b.w for b in boxes.values()] + [740.0]) + 16
        bottom = max([b.y + b.h for b in boxes.values()] + [600.0]) + 30
        left = min([b.x for b in boxes.values()] + [16.0]) - 16
        top = min([b.y for b in boxes.values()] + [40.0]) - 40
        # Inside an assembly of one deck alone there is no boundary to see.
        self.edge.setVisible(not self.session.inside or 0 < len(power) < len(self.cards))
        self.edge.place(boundary(power), left, right, figure(self.session.examined.settings.get("tick", 5e-5), "s", 3))
        self._sides = left, right
        whole = QRectF(left, top, right - left, bottom - top)
        for room in self.notes.rooms():
            whole = whole.united(room.adjusted(-16, -16, 16, 16))
        self.sheet.setSceneRect(whole)
        self.overview.follow()
        self.router.find(boxes, place_links(links, self.wires, placed), at_once=self._dragging)

    def _lay_wires(self) -> None:
        """Draw wires along the paths that were found; write the names of the decks, and what wires carry, where no
        wire and no card is in the way."""
        paths, (left, right) = self.router.paths, self._sides
        for key, path in paths.items():
            self.wires[key].set_path(path)
        drawn = [item for item in self.wires.values() if item.lines]
        lines = [line for item in drawn for line in item.in_the_way]
        boxes = {**self.boxes(), **self.terminals.boxes()}
        edge = (self.edge.isVisible(), self.edge.height, self.edge.words)
        written = (boxes, lines, [(item, item.words) for item in drawn], edge, left, right)
        if written != self._written:  # most edits change no words
            self._written = written
            obstacles = Obstacles(lines, boxes.values(), left, right)
            if self.edge.isVisible():
                self.edge.place_words(obstacles)
            for item in drawn:
                item.place_words(obstacles)
        self.viewport().update()

    def _show_selection(self) -> None:
        for key, item in self.cards.items():
            item.selected = key in self.session.selection
            item.show_handles = item.selected or item.show_handles and self.wiring.start is not None
        for key, wire in self.wires.items():
            wire.selected = key == self.bundles.line_of(self.session.selected_wire)
        self.viewport().update()

    def _sheet_changed(self) -> None:
        self.wiring.give_up()
        self._opened()
        self.sync()  # at once, as what was double-clicked is what is shown

    def outlines(self) -> list[tuple[QRectF, bool]]:
        chosen = self.session.selection
        return [(QRectF(i.pos().x(), i.pos().y(), *i.size), key in chosen) for key, i in self.cards.items()]

    # the mouse -----------------------------------------------------------------

    def card_at(self, at: QPointF) -> str | None:
        return next(
            (
                k
                for k, item in reversed(self.cards.items())
                if QRectF(item.pos().x(), item.pos().y(), *item.size).contains(at)
            ),
            None,
        )

    def handle_at(self, at: QPointF) -> End | None:
        best, end = REACH, None
        for key, item in self.cards.items():
            for name, point in item.handles.items():
                distance = (point - at).manhattanLength()
                if distance <= best:
                    best, end = distance, End(key, name)
        return end

    def wire_at(self, at: QPointF) -> str:
        point = (at.x(), at.y())
        near = [(wire.distance(point), key) for key, wire in self.wires.items()]
        return min(near)[1] if near and min(near)[0] < 6 else ""

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        self.setFocus()
        if self.begins_to_move(event):
            return
        if event.button() is not Qt.MouseButton.LeftButton:
            if event.button() is Qt.MouseButton.RightButton:
                self._select_under(self.mapToScene(event.pos()), False)
            return
        at = self.mapToScene(event.pos())
        if self.notes.press(at):
            return
        self._press = at
        adding = bool(event.modifiers() & (Qt.KeyboardModifier.ShiftModifier | Qt.KeyboardModifier.ControlModifier))
        handle = self.handle_at(at)
        if handle and not adding and (self.cards[handle.card].show_handles or self.cards[handle.card].selected):
            self.wiring.begin(handle)
            return
        self._select_under(at, adding)
        if self.session.selection and self.card_at(at):
            self._moving = {
                k: (self.session.drive.cards[k].x, self.session.drive.cards[k].y) for k in self.session.selection
            }
        elif not self.session.selected_wire:
            self._band = at

    def _select_under(self, at: QPointF, adding: bool) -> None:
        card = self.card_at(at)
        session = self.session
        if card is None:
            session.select([], self.terminals.at(at) or self.wire_at(at))
        elif adding:
            session.select(
                [c for c in session.selection if c != card] if card in session.selection else [*session.selection, card]
            )
        elif card not in session.selection:
            session.select([card])

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        at = self.mapToScene(event.pos())
        if self.moves(event) or self.notes.move(at):
            return
        if self.wiring.start is not None:
            self.wiring.draw(at)
        elif self._moving and self._press is not None and (self._dragging or (at - self._press).manhattanLength() > 4):
            self._dragging = True
            dx, dy = (round((at.x() - self._press.x()) / GRID), round((at.y() - self._press.y()) / GRID))
            for key, (x, y) in self._moving.items():
                self.cards[key].setPos((x + dx) * GRID, (y + dy) * GRID)
            self.reroute()
        elif self._band is not None:
            path = self._ghost.path()
            path.clear()
            path.addRect(QRectF(self._band, at).normalized())
            self._ghost.setPath(path)
            self._ghost.show()
        else:
            self._hover(at)

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        card = self.card_at(self.mapToScene(event.pos()))
        if self.notes.open(self.mapToScene(event.pos())):
            return
        if card is not None:
            self._moving, self._press = {}, None
            self.open_wanted.emit(card)
            return
        self.toggle_bundle(self.wire_at(self.mapToScene(event.pos())))

    def _hover(self, at: QPointF) -> None:
        near = self.handle_at(at)
        over = self.card_at(at) or (near.card if near else None)
        for key, item in self.cards.items():
            wanted = key == over or item.selected
            if item.show_handles != wanted:
                item.show_handles = wanted
                item.update()
        self.setCursor(
            Qt.CursorShape.CrossCursor if near and self.cards[near.card].show_handles else Qt.CursorShape.ArrowCursor
        )
        if near:
            self.setToolTip(self._handle_tip(near))

    def _handle_tip(self, end: End) -> str:
        kind = self.kinds()[end.card]
        if end.port == SIGNALS:
            return "Drag to a sensor or block: takes one of this part's signals"
        port = kind.port(end.port)
        return port.label if port else end.port

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        at = self.mapToScene(event.pos())
        if self.has_moved() or self.notes.release():
            return
        if self.wiring.start is not None:
            self.wiring.finish(at, event.globalPosition().toPoint())
        elif self._dragging:
            self._dragging = False
            moved = {k: (round(self.cards[k].x() / GRID), round(self.cards[k].y() / GRID)) for k in self._moving}
            self.session.do(commands.move_cards(self.session.drive, moved, "Move"))
            self.sync()
        elif self._band is not None:
            rect = QRectF(self._band, at).normalized()
            if rect.width() > 6 or rect.height() > 6:
                self.session.select(
                    [k for k, i in self.cards.items() if rect.intersects(QRectF(i.pos().x(), i.pos().y(), *i.size))]
                )
            self._ghost.hide()
        self._moving, self._press, self._band = {}, None, None

    # verbs -------------------------------------------------------------------------

    def delete_selection(self) -> None:
        session = self.session
        if self.notes.delete():
            return
        if session.selection:
            session.do(commands.remove_cards(session.drive, session.selection))
        elif session.selected_wire in self.terminals.wires:
            session.do(self.terminals.removal(session.selected_wire))
            session.select([])
        elif session.selected_wire:
            session.do(commands.remove_wires(session.drive, list(self.bundles.of(session.selected_wire))))
            session.select([])

    def duplicate(self) -> None:
        if self.session.selection:
            command, new = clips.copy_cards(self.session.drive, self.session.selection)
            self.session.do(command)
            self.session.select(new)

    def tidy_all(self) -> None:
        drive, kinds = self.session.drive, self.kinds()
        power = [k for k, kind in kinds.items() if kind.deck is Deck.POWER]
        control = [k for k, kind in kinds.items() if kind.deck is not Deck.POWER]
        wires = list(self.shown_wires.values())
        power_links = [
            (w.a.card, w.b.card) for w in wires if self._wire_style(w, kinds) not in (None, "continuous", "sampled")
        ]
        signal_links = [(w.a.card, w.b.card) for w in wires if w.a.card in control and w.b.card in control]
        outputs = {w.a.card for w in wires if w.a.card in control and w.b.card in power}
        measured = {w.b.card for w in wires if w.a.card in power and w.b.card in control}
        feeding = [k for k in power if kinds[k].group == Group.SUPPLY and not earths(kinds[k])]
        sources = feeding or [k for k in power if kinds[k].group == Group.MACHINE]
        self.session.do(
            commands.move_cards(
                drive, tidy(power, power_links, control, signal_links, outputs, sources, measured), "Tidy"
            )
        )
        self.zoomed_by_hand = False
        self.sync()
        self.fit()

    def place_for(self, kind: Kind, at: QPointF | None) -> tuple[int, int]:
        """A free place near a point for a new card, in grid steps, on the right deck."""
        size = POWER_SIZE if kind.deck is Deck.POWER else CONTROL_SIZE
        boxes = self.boxes()
        line = boundary([b for k, b in boxes.items() if self.cards[k].face.power])
        if not self.edge.isVisible():
            line = -1e6 if kind.deck is not Deck.POWER else line
        x, y = (at.x(), at.y()) if at else (24.0, 40.0 if kind.deck is Deck.POWER else max(line, 0.0) + 40)
        if kind.deck is not Deck.POWER:
            y = max(y, line + 30)
        for ring in range(40):
            for dx, dy in ((0, 0), (1, 0), (0, 1), (-1, 0), (1, 1), (-1, 1)) if ring else ((0, 0),):
                px, py = x + dx * ring * 36, y + dy * ring * 36
                box = Box(round(px / GRID) * GRID - 8, round(py / GRID) * GRID - 8, size[0] + 16, size[1] + 16)
                inside = px >= 8 and (kind.deck is Deck.POWER or py > line)
                if inside and not any(box.overlaps(b) for b in boxes.values()):
                    return round(px / GRID), round(py / GRID)
        return round(x / GRID), round(y / GRID)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        session = self.session
        arrows = {
            Qt.Key.Key_Left: (-1, 0),
            Qt.Key.Key_Right: (1, 0),
            Qt.Key.Key_Up: (0, -1),
            Qt.Key.Key_Down: (0, 1),
        }
        if self.zoom_key(event):
            return
        if event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            self.delete_selection()
        elif event.key() == Qt.Key.Key_Escape:
            self.wiring.give_up()
            if not session.selection and not session.selected_wire and session.inside:
                session.enter(session.drive.cards[session.inside].inside)
            session.select([])
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and session.selection:
            self.edit_wanted.emit()
        elif event.key() in (Qt.Key.Key_Tab, Qt.Key.Key_Backtab) and self.cards:
            keys = list(self.cards)
            here = keys.index(session.selection[0]) if session.selection else -1
            session.select([keys[(here + (1 if event.key() == Qt.Key.Key_Tab else -1)) % len(keys)]])
        elif Qt.Key(event.key()) in arrows and self.notes.nudge(*arrows[Qt.Key(event.key())]):
            return
        elif Qt.Key(event.key()) in arrows and session.selection:
            dx, dy = arrows[Qt.Key(event.key())]
            places = {
                k: (session.drive.cards[k].x + dx * 2, session.drive.cards[k].y + dy * 2) for k in session.selection
            }
            session.do(
                commands.move_cards(session.drive, places, "Move", gesture="nudge " + " ".join(session.selection))
            )
        else:
            super().keyPressEvent(event)

    def focusNextPrevChild(self, next_: bool) -> bool:
        return False

    def drawing(self) -> Drawing:
        """The whole sheet, whatever of it is on the screen."""
        self.router.finish()
        whole = self.sheet.itemsBoundingRect().adjusted(-EDGE, -EDGE, EDGE, EDGE)
        return drawing_of_scene(self.sheet, whole)

    def contextMenuEvent(self, event: QContextMenuEvent | None) -> None:
        assert event is not None
        menu = QMenu(self)
        names = FOR_CHOSEN if self.session.selection or self.session.selected_wire else FOR_SHEET
        for name in names:
            action = self.action_named(name)
            if action is not None and (name not in IF_POSSIBLE or action.isEnabled()):
                menu.addAction(action)
        if names is FOR_SHEET:
            offer_pictures(menu, self, self.drawing)
        menu.exec(event.globalPos())


def earths(kind: Kind) -> bool:
    """Whether a part only ties a potential, and feeds nothing."""
    return isinstance(kind, Part) and kind.conduction.earths is not None
