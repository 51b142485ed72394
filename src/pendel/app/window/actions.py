"""Everything that can be done, declared once: name, title, key, menu, what it does to the window."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QApplication

from pendel.app.widgets.explained import page_wanted
from pendel.core.catalogue.index import kinds
from pendel.core.drive.arranging import Way

if TYPE_CHECKING:
    from pendel.app.window.main_window import MainWindow
    from pendel.core.catalogue.declare import Kind
    from pendel.core.drive.document import Drive
    from pendel.core.topics import Topic


@dataclass(frozen=True)
class ActionSpec:
    """``does`` acts on the window. An empty title makes a separator."""

    name: str
    title: str
    menu: str
    key: str = ""
    does: Callable[[MainWindow], object] = lambda window: None


def show_heat(window: MainWindow) -> None:
    """Beside the window, with what was worked out before."""
    from pendel.app.window.heat_window import HeatWindow  # loaded when it is asked for

    heat = window.findChild(HeatWindow) or HeatWindow(window.session, window)
    heat.show()
    heat.raise_()


def show_held(window: MainWindow) -> None:
    """Beside the window, with what was worked out before."""
    from pendel.app.window.held_window import HeldWindow  # loaded when it is asked for

    held = window.findChild(HeldWindow) or HeldWindow(window.session, window)
    held.fill()
    held.show()
    held.raise_()


def show_envelope(window: MainWindow) -> None:
    """Beside the window, with what was made before."""
    from pendel.app.window.envelope_window import EnvelopeWindow  # loaded when it is asked for

    envelope = window.findChild(EnvelopeWindow) or EnvelopeWindow(window.session, window)
    envelope.fill()
    envelope.show()
    envelope.raise_()


def begin_first_steps(window: MainWindow) -> None:
    from pendel.app.window.first_steps import first_steps

    first_steps(window)


def show_other_programs(window: MainWindow) -> None:
    from pendel.app.window.other_programs import OtherProgramsDialog

    OtherProgramsDialog(window.others, window).open()


def show_keys(window: MainWindow) -> None:
    from pendel.app.window.do_line import KeysDialog

    KeysDialog(window.page_now, window.actions_by_name, window).open()


def show_help(window: MainWindow) -> None:
    """Of what is pointed at or has the focus, of the chosen card, or of all that there is."""
    from pendel.app.window.help_window import HelpWindow

    help_window = window.findChild(HelpWindow)
    if help_window is None:
        help_window = HelpWindow(window.session, window)
        help_window.example_wanted.connect(lambda path: window.files.may_leave() and window.files.open_path(path))
    help_window.show_for(asked_about(window))


ABOUT_PAGES = {"Runs": "plot:strips", "Loops": "loop:crossover"}
"""What is explained first on a page that is of no card."""


def asked_about(window: MainWindow) -> list[Kind | Topic]:
    """What help is wanted about: the figure, plot, setting or finding that is pointed at or has the focus, the page, or
    the chosen cards."""
    from pendel.core.topics import topics

    pages: dict[str, Kind | Topic] = {**kinds(), **topics()}
    for page in (page_wanted(QApplication.activeWindow() or window), ABOUT_PAGES.get(window.page_now, "")):
        if page in pages:
            return [pages[page]]
    of_cards = window.session.kinds()
    return [of_cards[card] for card in window.session.selection if card in of_cards]


def about(window: MainWindow) -> None:
    from pendel.app.window.about import show_about

    show_about(window, str(window.jobs.worker.held))


def span_of(window: MainWindow) -> tuple[float, float] | None:
    """Between the cursors (s), where the strips are there."""
    strips = getattr(window.pages.get("Runs"), "strips", None)  # of a page that is loaded
    return None if strips is None else (min(strips.times), max(strips.times))


def show_closer(window: MainWindow) -> None:
    """A stretch of the trip in detail, in this window."""
    from pendel.app.window.closer_window import CloserDialog  # loaded when it is asked for

    def take(drive: Drive) -> None:
        if window.files.may_leave():
            window.files.take_new(drive, "Look at it in detail")
            window.start_run(show=True)

    CloserDialog(window.session, span_of(window), take, window).open()


def show_flows(window: MainWindow) -> None:
    """Beside the window, of the latest run."""
    from pendel.app.window.flow_window import FlowWindow  # loaded when it is asked for

    flows = window.findChild(FlowWindow) or FlowWindow(window.session, lambda: span_of(window), window)
    flows.show()
    flows.raise_()
    flows.start(None)


def show_best_split(window: MainWindow) -> None:
    """Beside the window, of the latest run."""
    from pendel.app.window.split_window import SplitWindow  # loaded when it is asked for

    best = window.findChild(SplitWindow) or SplitWindow(window.session, lambda: span_of(window), window)
    best.show()
    best.raise_()
    best.start_whole()


SEPARATOR = ""


def separator(menu: str) -> ActionSpec:
    return ActionSpec("", SEPARATOR, menu)


ACTIONS = (
    ActionSpec("new", "New drive …", "File", "Ctrl+N", lambda w: w.files.ask_new_drive()),
    ActionSpec("open", "Open …", "File", "Ctrl+O", lambda w: w.files.open_drive()),
    ActionSpec("begin", "Examples and recent …", "File", "Ctrl+Shift+O", lambda w: w.files.begin()),
    ActionSpec("examples", "Open an example", "File"),
    ActionSpec("recent", "Open recent", "File"),
    separator("File"),
    ActionSpec("save", "Save", "File", "Ctrl+S", lambda w: w.files.save_drive()),
    ActionSpec("save_as", "Save as …", "File", "Ctrl+Shift+S", lambda w: w.files.save_drive_as()),
    separator("File"),
    ActionSpec("save_traces", "Save traces …", "File", "Ctrl+E", lambda w: w.exports.save_traces()),
    ActionSpec("save_c", "Save C …", "File", "", lambda w: w.save_c()),
    ActionSpec("save_board", "Save C for a board …", "File", "", lambda w: w.save_c(board=True)),
    ActionSpec("export_unit", "Export for other simulators …", "File", "", lambda w: w.export_unit()),
    separator("File"),
    ActionSpec("quit", "Quit", "File", "Ctrl+Q", lambda w: w.close()),
    ActionSpec("undo", "Undo", "Edit", "Ctrl+Z", lambda w: w.editing.undo()),
    ActionSpec("redo", "Redo", "Edit", "Ctrl+Shift+Z", lambda w: w.editing.redo()),
    separator("Edit"),
    ActionSpec("cut", "Cut", "Edit", "Ctrl+X", lambda w: w.editing.cut()),
    ActionSpec("copy", "Copy", "Edit", "Ctrl+C", lambda w: w.editing.copy()),
    ActionSpec("paste", "Paste", "Edit", "Ctrl+V", lambda w: w.editing.paste()),
    ActionSpec("duplicate", "Duplicate", "Edit", "Ctrl+D", lambda w: w.editing.duplicate()),
    ActionSpec("delete", "Delete", "Edit", "", lambda w: w.editing.delete()),
    ActionSpec("select_all", "Select all", "Edit", "Ctrl+A", lambda w: w.editing.select_all()),
    ActionSpec("find", "Find …", "Edit", "Ctrl+F", lambda w: w.find()),
    ActionSpec("rename", "Rename", "Edit", "F2", lambda w: w.rename()),
    separator("Edit"),
    ActionSpec("other_programs", "Other programs …", "Edit", "", show_other_programs),
    ActionSpec("preferences", "Preferences …", "Edit", "Ctrl+,", lambda w: w.preferring.show()),
    ActionSpec("add", "Add a part or block …", "Insert", "A", lambda w: w.editing.add_card()),
    ActionSpec("new_block", "New own block …", "Insert", "", lambda w: w.editing.new_block()),
    ActionSpec("note", "Note …", "Insert", "Shift+N", lambda w: w.editing.note()),
    ActionSpec("wire", "Wire …", "Insert", "W", lambda w: w.editing.wire()),
    ActionSpec("wire_obvious", "Wire what is obvious", "Insert", "Shift+W", lambda w: w.editing.wire_obvious()),
    ActionSpec("tap", "Tap on this signal …", "Insert", "P", lambda w: w.editing.tap()),
    ActionSpec("quantity", "Quantity …", "Insert", "Ctrl+Shift+K", lambda w: w.editing.add_quantity()),
    separator("Insert"),
    ActionSpec("group", "Group into an assembly", "Insert", "Ctrl+G", lambda w: w.drive_page.group()),
    ActionSpec("dissolve", "Dissolve the assembly", "Insert", "Ctrl+Shift+G", lambda w: w.drive_page.dissolve()),
    ActionSpec("shelve", "Put the assembly on your shelf", "Insert", "", lambda w: w.drive_page.shelve()),
    ActionSpec("unshelve", "Take off your shelf", "Insert"),
    ActionSpec("run", "Run or stop", "Run", "Ctrl+R", lambda w: w.run_or_stop()),
    ActionSpec("hold", "Hold this run beside new ones", "Run", "H", lambda w: w.page("Runs").kept.hold_current()),
    ActionSpec("live", "Live run, or stop it", "Run", "Ctrl+Shift+R", lambda w: w.live_or_stop()),
    ActionSpec("open_loop", "Open or close this loop", "Run", "Ctrl+L", lambda w: w.editing.toggle_loop()),
    ActionSpec("ideal", "All sensors ideal", "Run", "Ctrl+I", lambda w: w.editing.toggle_sensors()),
    ActionSpec("propose", "Propose gains of all loops", "Run", "Ctrl+Shift+L", lambda w: w.proposing.start()),
    separator("Run"),
    ActionSpec("flows", "Energy flow …", "Run", "", show_flows),
    ActionSpec("best_split", "Best possible split …", "Run", "", show_best_split),
    ActionSpec("envelope", "Make envelope …", "Run", "", show_envelope),
    ActionSpec("closer", "In detail …", "Run", "", show_closer),
    ActionSpec("heat", "Heat over a duty …", "Run", "", show_heat),
    ActionSpec("held", "Torque that heat allows …", "Run", "", show_held),
    separator("Run"),
    ActionSpec("copy_picture", "Copy picture", "Run", "Ctrl+Shift+C", lambda w: w.exports.copy_picture()),
    ActionSpec("save_picture", "Save picture …", "Run", "", lambda w: w.exports.save_picture()),
    ActionSpec("tidy", "Tidy the sheet", "View", "T", lambda w: w.editing.tidy()),
    ActionSpec("in_row", "Align in a row", "View", "", lambda w: w.editing.arrange(Way.ROW)),
    ActionSpec("in_column", "Align in a column", "View", "", lambda w: w.editing.arrange(Way.COLUMN)),
    ActionSpec("row_apart", "Space evenly in a row", "View", "", lambda w: w.editing.arrange(Way.ROW_APART)),
    ActionSpec("column_apart", "Space evenly in a column", "View", "", lambda w: w.editing.arrange(Way.COLUMN_APART)),
    ActionSpec("fit", "Fit", "View", "F", lambda w: w.fit()),
    ActionSpec("open_circuit", "Open what is inside", "View", "O", lambda w: w.editing.open_circuit()),
    ActionSpec("open_bundle", "Open or close a bundle of signals", "View", "B", lambda w: w.editing.open_bundle()),
    ActionSpec("named_link", "Wire as a named link, or as a line", "View", "N", lambda w: w.editing.name_link()),
    ActionSpec("bundles", "Signals in bundles", "View", "", lambda w: w.editing.toggle_bundles()),
    ActionSpec("findings", "Findings", "View", "F8", lambda w: w.show_findings()),
    ActionSpec("speeds", "Speeds in rpm", "View", "", lambda w: w.unit_choices.toggle_speeds()),
    ActionSpec("next_area", "Next area", "View", "F6", lambda w: w.next_area()),
    ActionSpec("first_steps", "First steps", "Help", "", begin_first_steps),
    ActionSpec("help", "What this is", "Help", "F1", show_help),
    ActionSpec("do", "Do …", "Help", "Ctrl+K", lambda w: w.menus.do_line.ask()),
    ActionSpec("keys", "Keys", "Help", "?", show_keys),
    separator("Help"),
    ActionSpec("about", "About Pendel", "Help", "", about),
)
EVERYWHERE = frozenset({"help"})
"""Whose keys are heard in the windows beside this one too."""
ON_SHEET = frozenset(
    {"add", "wire", "wire_obvious", "note", "tap", "tidy", "fit", "open_circuit", "open_bundle", "named_link"}
)
"""Single letters that act only while no text is being typed."""
