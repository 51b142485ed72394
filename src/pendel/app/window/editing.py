"""What the Edit and Insert menus do to the drive: clipboard, wires, taps, loops opened, sensors made
ideal."""

from __future__ import annotations

import json
from collections.abc import Callable

from PyQt6.QtCore import QMimeData, QObject, pyqtSignal
from PyQt6.QtGui import QAction, QGuiApplication
from PyQt6.QtWidgets import QApplication, QInputDialog, QLineEdit, QPlainTextEdit, QWidget

from pendel.app.drive.page import DrivePage
from pendel.app.drive.wire_dialog import choose_wire
from pendel.app.drive.wire_obvious import wire_obvious
from pendel.app.session.card_text import main_signal
from pendel.app.session.session import Session
from pendel.core.catalogue.declare import Block, Choice
from pendel.core.drive import assemblies, clips, commands, view_edits
from pendel.core.drive.arranging import Way, arranged
from pendel.core.drive.document import End, Quantity, Wire
from pendel.core.drive.file import card_from_record, card_record
from pendel.core.errors import DriveProblem, PendelError
from pendel.core.quantities.named import check_name

CLIP_MIME = "application/x-pendel-cards"


def quantity(name: str, text: str, note: str) -> Quantity:
    """From a clipboard, which anybody may have written. Raises `PendelError`, `TypeError`."""
    check_name(name)
    if not isinstance(text, str) or not isinstance(note, str):
        raise TypeError(name)
    return Quantity(text, note)


def to_clipboard(clipped: clips.Clip) -> None:
    """Cards for *Paste*, here or in another window."""
    record = {
        "cards": {k: card_record(c) for k, c in clipped.cards.items()},
        "wires": [[str(w.a), str(w.b), w.named] for w in clipped.wires],
        "quantities": {name: [q.text, q.note] for name, q in clipped.quantities.items()},
    }
    mime = QMimeData()
    mime.setData(CLIP_MIME, json.dumps(record).encode())
    QGuiApplication.clipboard().setMimeData(mime)


BUNDLES = "view/bundles"
"""In the settings: whether signals that travel together are drawn as one wire."""


class Editing(QObject):
    """Acts on what is selected on the Drive page.

    Parameters
    ----------
    commit
        takes what is still being typed.
    """

    status_message = pyqtSignal(str)
    page_wanted = pyqtSignal(str)

    def __init__(self, session: Session, drive_page: DrivePage, commit: Callable[[], None], parent: QWidget):
        super().__init__(parent)
        self.session, self.drive_page, self.commit, self.window = session, drive_page, commit, parent

    def undo(self) -> None:
        self.commit()
        self.session.undo.undo()

    def redo(self) -> None:
        self.session.undo.redo()

    def add_card(self) -> None:
        self.page_wanted.emit("Drive")
        self.drive_page.open_search()

    def new_block(self) -> None:
        """Ask for the ports and values of an own block."""
        self.commit()
        self.page_wanted.emit("Drive")
        self.drive_page.new_block()

    def delete(self) -> None:
        self.drive_page.sheet.delete_selection()

    def duplicate(self) -> None:
        self.drive_page.sheet.duplicate()

    def select_all(self) -> None:
        self.session.select(list(self.drive_page.sheet.cards))

    def tidy(self) -> None:
        self.drive_page.sheet.tidy_all()

    def open_circuit(self) -> None:
        if self.session.selection:
            self.drive_page.open_circuit(self.session.selection[0])

    def add_quantity(self) -> None:
        self.page_wanted.emit("Drive")
        self.drive_page.spine.add_quantity()

    def copy(self) -> None:
        focused = QApplication.focusWidget()
        if isinstance(focused, QLineEdit | QPlainTextEdit):
            focused.copy()
            return
        if not self.session.selection:
            return
        to_clipboard(clips.clip(self.session.drive, self.session.selection))

    def cut(self) -> None:
        focused = QApplication.focusWidget()
        if isinstance(focused, QLineEdit | QPlainTextEdit):
            focused.cut()
            return
        self.copy()
        self.drive_page.sheet.delete_selection()

    def paste(self) -> None:
        focused = QApplication.focusWidget()
        if isinstance(focused, QLineEdit | QPlainTextEdit):
            focused.paste()
            return
        mime = QGuiApplication.clipboard().mimeData()
        if mime is None or not mime.hasFormat(CLIP_MIME):
            return
        try:
            record = json.loads(bytes(mime.data(CLIP_MIME).data()))
            cards = {k: card_from_record(c) for k, c in record["cards"].items()}
            wires = tuple(Wire(End.parse(a), End.parse(b), named is True) for a, b, named in record["wires"])
            quantities = {name: quantity(name, *texts) for name, texts in record.get("quantities", {}).items()}
        except (PendelError, ArithmeticError, AttributeError, LookupError, TypeError, ValueError):
            self.status_message.emit("What is on the clipboard cannot be pasted here. Copy cards of a drive first.")
            return
        clipped = clips.Clip(cards, wires, quantities)
        differing = ", ".join(clipped.differing(self.session.drive))
        command, new = assemblies.insert(self.session.drive, clipped, self.session.inside)
        self.session.do(command)
        self.session.select(new)
        if differing:
            self.status_message.emit(
                f"This drive keeps its own value of {differing}, which differs from what was copied."
            )

    def wire(self) -> None:
        """Wire by keyboard: choose both ends from lists."""
        ends = choose_wire(self.window, self.session)
        if ends is not None:
            self.session.do(commands.add_wire(self.session.drive, *ends))

    def arrange(self, way: Way) -> None:
        """Put the selected cards in a row or a column, or evenly apart."""
        try:
            command = arranged(self.session.drive, self.session.selection, way)
        except DriveProblem as problem:
            self.status_message.emit(str(problem))
            return
        self.session.do(command)

    def note(self) -> None:
        """Words on the sheet."""
        self.commit()
        self.page_wanted.emit("Drive")
        self.drive_page.sheet.notes.add()

    def wire_obvious(self) -> None:
        """Wire what is selected as it is usually wired; what could be meant in several ways is asked."""
        self.commit()
        self.page_wanted.emit("Drive")
        if said := wire_obvious(self.session, self.window):
            self.status_message.emit(said)

    def open_bundle(self) -> None:
        """Draw the signals of the selected line one by one, or as one line again."""
        self.drive_page.sheet.toggle_bundle(self.session.selected_wire)

    def name_link(self) -> None:
        """Draw the selected wire, with what is bundled with it, as two ends that bear a name, or as a line again."""
        session = self.session
        if self.has_wire():
            keys = self.drive_page.sheet.bundles.of(session.selected_wire)
            named = not session.drive.wires[keys[0]].named
            session.do(view_edits.set_named(session.drive, keys, named))

    def has_wire(self) -> bool:
        return self.session.selected_wire in self.session.drive.wires

    def has_bundle(self) -> bool:
        sheet, key = self.drive_page.sheet, self.session.selected_wire
        return key in sheet.shown_wires and sheet.bundles.known(key, sheet.shown_wires[key])

    def follow_bundles(self, action: QAction) -> None:
        """Let an action of the menu show whether signals are drawn in bundles."""
        self.drive_page.sheet.bundle(self.window.settings.value(BUNDLES, "yes") == "yes")
        action.setCheckable(True)
        action.setChecked(self.drive_page.sheet.bundles.on)

    def toggle_bundles(self) -> None:
        wanted = not self.drive_page.sheet.bundles.on
        self.window.settings.setValue(BUNDLES, "yes" if wanted else "no")
        self.drive_page.sheet.bundle(wanted)
        self.window.actions_by_name["bundles"].setChecked(wanted)

    def signal_to_tap(self) -> End | None:
        session = self.session
        if session.selected_wire in session.drive.wires:
            if len(self.drive_page.sheet.bundles.of(session.selected_wire)) > 1:
                return None
            wire = session.drive.wires[session.selected_wire]
            item = self.drive_page.sheet.wires.get(wire.key)
            return wire.a if item is not None and item.link in ("continuous", "sampled") else None
        if len(session.selection) == 1:
            try:
                signal = main_signal(session.drive, session.selection[0])
            except DriveProblem:
                return None
            return End.parse(signal) if signal else None
        return None

    def tap(self) -> None:
        end = self.signal_to_tap()
        if end is None:
            self.status_message.emit("Select a signal wire or a card first, then press P.")
            return
        self.tap_on(end)

    def tap_on(self, end: End) -> None:
        """Name a signal; a second time takes the name off."""
        known = next((name for name, tapped in self.session.drive.taps.items() if tapped == end), None)
        if known is not None:
            self.session.do(commands.remove_tap(self.session.drive, known))
            self.status_message.emit(f"The tap {known} is taken off.")
            return
        name, good = QInputDialog.getText(self.window, "Tap", f"Name for {end}", text=f"{end.card}_{end.port}")
        if good and name.strip():
            try:
                self.session.do(commands.add_tap(self.session.drive, name.strip(), end))
            except DriveProblem as problem:
                self.status_message.emit(str(problem))

    def regulator(self) -> str | None:
        if len(self.session.selection) != 1:
            return None
        card = self.session.selection[0]
        return card if self._loop_choice(card) is not None else None

    def _loop_choice(self, card: str) -> Choice | None:
        """The choice that opens the loop of a regulator."""
        kind = self.session.kinds().get(card)
        return next((c for c in kind.choices if c.name == kind.opens), None) if isinstance(kind, Block) else None

    def toggle_loop(self) -> None:
        card = self.regulator()
        choice = self._loop_choice(card) if card is not None else None
        if card is not None and choice is not None:
            (closed, _), (opened, _) = choice.options
            now = self.session.drive.cards[card].choices.get(choice.name, closed)
            self.session.do(
                commands.set_choice(self.session.drive, card, choice.name, closed if now == opened else opened)
            )

    def toggle_sensors(self) -> None:
        now = self.session.drive.settings["sensors"]
        self.session.do(
            commands.set_setting(self.session.drive, "sensors", "as they are" if now == "ideal" else "ideal")
        )
        self.status_message.emit(
            "All sensors are ideal now. Run to compare." if now != "ideal" else "The sensors behave as they are again."
        )
