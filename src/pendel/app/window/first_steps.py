"""First steps: a tour in the real window on the door drive. Each station says what to do, sees when it is done, and can
do it; it is left and taken up again at any time."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from PyQt6.QtCore import QRect, Qt, QTimer
from PyQt6.QtGui import QCloseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QDialog, QWidget

from pendel.app.widgets.basic import button, column, label, row
from pendel.app.widgets.marked_text import MarkedText
from pendel.app.widgets.theme import colour
from pendel.core.catalogue.declare import Part
from pendel.core.catalogue.index import kinds
from pendel.core.drive import commands
from pendel.core.drive.document import Drive
from pendel.core.drive.examples import DEMO

if TYPE_CHECKING:
    from pendel.app.window.main_window import MainWindow

LOOK_EVERY_MS, PATIENCE = 250, 30.0
"""How often it is looked whether a station is done, and for how long what it is to do is tried, s."""
AT = "first_steps/station"
MOTOR, LEAF, GAINS, LOOP = "door_motor", "m_leaf", ("K_p", "T_i"), "speed_pi"
"""Of the door drive."""


@dataclass(frozen=True)
class Begun:
    """What there was when a station began."""

    runs: int
    drive: Drive


@dataclass(frozen=True)
class Station:
    """``where`` is what to look at, ``done`` whether it is so, ``does`` does it, or a part of it: it is called until it
    is done."""

    title: str
    words: str
    where: Callable[[MainWindow], QWidget | None]
    done: Callable[[MainWindow, Begun], bool]
    does: Callable[[MainWindow, Begun], object]


def quantity_changed(names: tuple[str, ...]) -> Callable[[MainWindow, Begun], bool]:
    def changed(window: MainWindow, begun: Begun) -> bool:
        now, before = window.session.drive.quantities, begun.drive.quantities
        return any(now.get(name) != before.get(name) for name in names)

    return changed


def has_run(window: MainWindow, begun: Begun) -> bool:
    return len(window.session.runs) > begun.runs and not window.jobs.running


def run(window: MainWindow, begun: Begun) -> None:
    if not window.jobs.running and not has_run(window, begun):
        window.start_run(show=True)


def run_again(window: MainWindow, begun: Begun) -> None:
    run(window, begun)
    if has_run(window, begun):
        window.show_page("Runs")


def heavier(window: MainWindow, begun: Begun) -> None:
    window.show_page("Drive")
    window.session.do(commands.set_quantity(window.session.drive, LEAF, "60 kg"))


def tune(window: MainWindow, begun: Begun) -> None:
    window.show_page("Loops")
    page = window.page("Loops")
    if window.session.judging:
        return
    page.choose(LOOP)
    if page.take_button.isEnabled():
        page.take()


def own_cards(window: MainWindow, begun: Begun) -> list[str]:
    cards = window.session.drive.cards
    return [key for key, card in cards.items() if card.own is not None and key not in begun.drive.cards]


def own_part(window: MainWindow, begun: Begun) -> None:
    window.show_page("Drive")
    kind = next(kind for kind in kinds().values() if kind.own is not None and isinstance(kind, Part))
    place = window.drive_page.sheet.place_for(kind, None)
    command = commands.add_card(window.session.drive, kind.id, kind.title, *place, own=kind.own)
    window.session.do(command)
    window.session.select([command.changes[0].key])


def build(window: MainWindow, begun: Begun) -> None:
    window.show_page("Firmware")
    page = window.page("Firmware")
    if page.checked is None and page.build_button.isEnabled() and page.build_button.text() == "Build and check":
        page.build()


def board_is_there(window: MainWindow, begun: Begun) -> bool:
    return window.page_now == "Bench" and window.page("Bench").board.facts is not None


def board(window: MainWindow, begun: Begun) -> None:
    window.show_page("Bench")
    page = window.page("Bench")
    if page.board.link.value == "not connected":
        page.link.connect_or_not()


STATIONS = (
    Station(
        "Look",
        "The power deck is above, the controller below the dotted line, where everything is sampled. "
        "**Click the card *Door motor*.** Its values are on the right.",
        lambda w: w.drive_page.sheet,
        lambda w, begun: w.session.selection == [MOTOR],
        lambda w, begun: (w.show_page("Drive"), w.session.select([MOTOR])),
    ),
    Station(
        "Run",
        "**Press Ctrl+R**, or *Run* at the top. *Runs* shows what came of it: the speed beside its plan, the current, "
        "the load.",
        lambda w: w.run_button,
        has_run,
        run,
    ),
    Station(
        "Change",
        f"Suppose the leaf is heavier. **On *Drive*, write `60 kg` for `{LEAF}`** in the left column, and press Enter. "
        "All that names it follows; Ctrl+Z takes it back.",
        lambda w: w.drive_page.spine,
        quantity_changed((LEAF,)),
        heavier,
    ),
    Station(
        "Compare",
        "**Run again.** Both runs lie on the same strips, named by what differs between them. The figures on the right "
        "are measured between the two cursors, which you can drag.",
        lambda w: w.run_button,
        lambda w, begun: has_run(w, begun) and w.page_now == "Runs",
        run_again,
    ),
    Station(
        "Tune",
        "The loops were found by themselves. **On *Loops* choose *Speed* and take the proposed gains.** Margins are "
        "shown before and after, with sampling and computing delay.",
        lambda w: getattr(w.pages["Loops"], "take_button", None) if w.page_now == "Loops" else w.tabs.button(2),
        quantity_changed(GAINS),
        tune,
    ),
    Station(
        "A part of your own",
        "What the catalogue has not, you write: **press A on the sheet, type `own equations`, and Enter.** Its lines "
        "are on the right, with units checked term by term. It is taken off again when you go on.",
        lambda w: w.drive_page.sheet,
        lambda w, begun: bool(own_cards(w, begun)),
        own_part,
    ),
    Station(
        "Firmware",
        "The controller is C for a small processor. **On *Firmware* press *Build and check***: it is compiled and "
        "compared with the simulation, to the bit.",
        lambda w: getattr(w.pages["Firmware"], "build_button", None) if w.page_now == "Firmware" else w.tabs.button(4),
        lambda w, begun: getattr(w.pages["Firmware"], "checked", None) is not None,
        build,
    ),
    Station(
        "Board",
        "Try it on a simulated board before you have one. **On *Bench* press *Connect***, then *Build and load* and "
        "*Enable*: values are changed while it runs, and the oscilloscope shows what it does.",
        lambda w: w.page("Bench").link.connect_button if w.page_now == "Bench" else w.tabs.button(5),
        board_is_there,
        board,
    ),
)
END = (
    "That was it. **F1** explains the chosen card, **Ctrl+K** does anything by its words, **?** lists all keys, and "
    "**Ctrl+N** makes a drive from what your data sheet gives. *Examples and recent …* in the menu *File* has more "
    "drives, each with what to try."
)


class Ring(QWidget):
    """A ring around what is to be looked at. Nothing is pressed through it."""

    def __init__(self, parent: QWidget):
        super().__init__(parent)
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.hide()

    def put_around(self, widget: QWidget | None) -> None:
        if widget is None or not widget.isVisible():
            self.hide()
            return
        parent = self.parentWidget()
        assert parent is not None
        corner = widget.mapTo(parent, widget.rect().topLeft())
        room = QRect(corner, widget.size()).adjusted(-3, -3, 3, 3) & parent.rect()
        if self.geometry() != room:
            self.setGeometry(room)
        self.show()
        self.raise_()

    def paintEvent(self, event: QPaintEvent | None) -> None:  # noqa: N802
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(colour("brass"), 3))
        painter.drawRoundedRect(self.rect().adjusted(2, 2, -2, -2), 6, 6)


class FirstSteps(QDialog):
    """Stays beside the window; closed, it comes back where it was."""

    def __init__(self, window: MainWindow):
        super().__init__(window, Qt.WindowType.Tool)
        self.window_of = window
        self.setWindowTitle("First steps")
        self.setModal(False)
        self.setFixedWidth(400)
        inside = column(self, (16, 14, 16, 12), 8)
        self.heading = label("", "title")
        self.text = MarkedText("What to do")
        self.state = label("", "good")
        inside.addWidget(self.heading)
        inside.addWidget(self.text)
        inside.addWidget(self.state)
        self.back_button = button("Back", lambda: self.go_to(self.number - 1))
        self.do_button = button("Do it for me", self.do_it)
        self.next_button = button("Skip", self.go_on)
        for each in (self.back_button, self.do_button, self.next_button):
            each.setAutoDefault(False)
        inside.addLayout(row(self.back_button, self.do_button, 1, self.next_button))
        self.ring = Ring(window)
        self.tried_until = 0.0
        """Time by the clock of the process."""
        self.timer = QTimer(self)
        self.timer.setInterval(LOOK_EVERY_MS)
        self.timer.timeout.connect(self.look)
        self.number = -1

    @property
    def station(self) -> Station | None:
        return STATIONS[self.number] if 0 <= self.number < len(STATIONS) else None

    def begin(self) -> None:
        """Where it was left, on the door drive."""
        self.show()
        place = self.window_of.geometry().bottomLeft()
        self.move(place.x() + 230, place.y() - self.sizeHint().height() - 60)
        kept = str(self.window_of.settings.value(AT, "0"))
        number = int(kept) if kept.isdigit() else 0
        self.go_to(number if number < len(STATIONS) else 0)

    def go_to(self, number: int) -> None:
        self._take_off_own_part()
        self.number = max(0, min(number, len(STATIONS)))
        self.window_of.settings.setValue(AT, str(self.number))
        session = self.window_of.session
        self.begun = Begun(len(session.runs), session.drive.copy())
        self.tried_until, self.was_done = 0.0, False
        station = self.station
        place = f"{self.number + 1} of {len(STATIONS)} · {station.title}" if station is not None else "First steps"
        self.heading.setText(place)
        self.text.show_text(station.words if station is not None else END)
        self.back_button.setEnabled(self.number > 0)
        self.do_button.setVisible(station is not None)
        self.adjustSize()
        self.timer.start()
        self.look()

    def _take_off_own_part(self) -> None:
        """What was added to see how one is written would keep the drive from running."""
        station, window = self.station, self.window_of
        if station is not None and station.does is own_part and (cards := own_cards(window, self.begun)):
            window.session.do(commands.remove_cards(window.session.drive, cards))

    def go_on(self) -> None:
        if self.station is None:
            self.close()
        else:
            self.go_to(self.number + 1)

    def do_it(self) -> None:
        """What takes a while is tried again until it is done."""
        self.tried_until = time.monotonic() + PATIENCE
        self.look()

    def look(self) -> None:
        station, window = self.station, self.window_of
        if window.session.closing:
            self.timer.stop()
            return
        if station is None:
            self.ring.hide()
            self.state.setText("")
            self.next_button.setText("Close")
            return
        trying = time.monotonic() < self.tried_until
        if not self.was_done and trying and not station.done(window, self.begun):
            station.does(window, self.begun)
        self.was_done = self.was_done or station.done(window, self.begun)
        self.state.setText("Done." if self.was_done else "")
        self.next_button.setText("Next" if self.was_done else "Skip")
        self.do_button.setEnabled(not self.was_done and not trying)
        self.ring.put_around(None if self.was_done else station.where(window))

    def closeEvent(self, event: QCloseEvent | None) -> None:  # noqa: N802
        self._take_off_own_part()
        self.timer.stop()
        self.ring.hide()
        super().closeEvent(event)


def first_steps(window: MainWindow) -> None:
    """Begin the tour, or go on with it. It is about the door drive, which is opened where it is not."""
    if MOTOR not in window.session.drive.cards or LEAF not in window.session.drive.quantities:
        if not window.files.may_leave() or not window.files.open_path(DEMO):
            return
        window.settings.setValue(AT, "0")
    tour = window.findChild(FirstSteps) or FirstSteps(window)
    tour.begin()
