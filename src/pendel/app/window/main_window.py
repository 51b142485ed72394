"""The main window: pages, the run bar, menus, files. What it does is in the pages and the session."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import chain
from threading import Thread
from typing import cast

from PyQt6.QtCore import QEvent, QSettings, Qt, QTimer
from PyQt6.QtGui import (
    QAction,
    QCloseEvent,
    QHelpEvent,
    QResizeEvent,
)
from PyQt6.QtWidgets import (
    QApplication,
    QButtonGroup,
    QHBoxLayout,
    QMainWindow,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from pendel.app.drive.page import DrivePage
from pendel.app.session.live import Live
from pendel.app.session.page import Page
from pendel.app.session.proposing import Proposing
from pendel.app.session.run_jobs import RunJobs
from pendel.app.session.session import Session
from pendel.app.session.trust import may_run
from pendel.app.session.usual_strips import default_strips, kept_strips, keys_of
from pendel.app.widgets.basic import Field, button, label
from pendel.app.widgets.drawing import Drawing
from pendel.app.widgets.explained import explained_by
from pendel.app.widgets.pictures import PictureWanted
from pendel.app.widgets.signal_drag import SpringTab
from pendel.app.window.actions import show_other_programs
from pendel.app.window.editing import Editing
from pendel.app.window.exports import Exports
from pendel.app.window.files import DriveFiles
from pendel.app.window.foot import Foot
from pendel.app.window.live_bar import LiveBar
from pendel.app.window.menus import Menus
from pendel.app.window.other_programs import AtWork, OtherPrograms
from pendel.app.window.pages import PAGES, in_thread
from pendel.app.window.preferring import Preferring
from pendel.app.window.run_bar import LevelChoice, Mark, RunButton
from pendel.app.window.tips import show_words
from pendel.app.window.unit_choices import UnitChoices
from pendel.app.window.unit_export import UnitExport
from pendel.core.drive import commands
from pendel.core.drive.document import PANEL_INPUTS, Drive, End
from pendel.core.drive.findings import Finding, Severity, attention
from pendel.core.errors import DriveProblem
from pendel.core.trust import refuse_strange_c

BUILD_AHEAD_MS = 150
"""Between two pages that are built before they are shown."""
LOOK_MS = 20
"""Between two looks at whether a page is loaded."""


class MainWindow(QMainWindow):
    def __init__(self, settings: QSettings | None = None):
        super().__init__()
        self.settings = settings or QSettings("pendel", "pendel")
        self.session = Session(self, self.settings)
        self.jobs = RunJobs(self.session, self)
        self.live = Live(self.session, self)
        self.foot = Foot(self.session, self)
        self.actions_by_name: dict[str, QAction] = {}
        self.pages: dict[str, QWidget] = {}
        self.stack = QStackedWidget()
        self.show_after_run = False
        self._build_pages()
        self.preferring = Preferring(self)
        self.unit_choices = UnitChoices(self.session, self.settings, self.preferring.preferences, self)
        self.editing = Editing(self.session, self.drive_page, self._commit_editors, self)
        self.files = DriveFiles(self.session, self.settings, self.preferring.preferences, self._commit_editors, self)
        self.proposing = Proposing(self.session, self)
        self.others = OtherPrograms(self.session, self)
        self.exports = Exports(self.session, self, lambda: self.page("Runs"), self._draw_page)
        self.menus = Menus(self)
        self.preferring.give_keys()
        body = QWidget()
        inside = QVBoxLayout(body)
        inside.setContentsMargins(0, 0, 0, 0)
        inside.setSpacing(0)
        inside.addWidget(self._build_header())
        inside.addWidget(LiveBar(self.live, body))
        inside.addWidget(self.stack, 1)
        inside.addWidget(self.foot)
        self.setCentralWidget(body)
        self._connect()
        self.resize(1280, 800)
        geometry = self.settings.value("geometry")
        if geometry is not None:
            self.restoreGeometry(geometry)
        self.drive_page.sheet.setFocus()
        self.session.open(Drive(), None)  # an empty drive is a drive: every view is there from the start
        self._enable_actions()

    # building ------------------------------------------------------------------

    def _build_pages(self) -> None:
        self.drive_page = DrivePage(self.session)
        for spec in PAGES:
            # Others are built when first shown, so that the window is there sooner.
            self.pages[spec.title] = self.drive_page if spec.title == "Drive" else being_loaded(spec.title)
            self.stack.addWidget(self.pages[spec.title])
        self._sites = {
            title: self._building(title) for title, page in self.pages.items() if page is not self.drive_page
        }
        """Pages that are to be built, or are half built, or were."""
        self.page_now = "Drive"

    def page(self, title: str) -> Page:
        """A page, built when first needed."""
        known = self.pages[title]
        if isinstance(known, Page):
            return known
        for _ in self._sites[title]:
            pass
        return cast(Page, self.pages[title])

    def _building(self, title: str) -> Iterator[None]:
        """Build a page and put it into the window."""
        place = list(self.pages).index(title)
        try:
            page = PAGES[place].make(self.session)
            yield from page.building()
        except Exception:
            self._sites[title] = self._building(title)  # for whoever wants the page again
            raise
        yield
        known = self.pages[title]
        self.stack.insertWidget(place, page)
        self.stack.removeWidget(known)
        known.deleteLater()
        self.pages[title] = page
        self._listen_to(page)

    def build_ahead(self, loading: Thread) -> None:
        """Build the pages that were not shown yet, part by part with time for all else between them, once they are
        loaded."""
        ahead = QTimer(self)
        parts = chain.from_iterable(self._sites.values())

        def build_next() -> None:
            if self.session.closing or (not loading.is_alive() and next(parts, ahead) is ahead):
                ahead.stop()

        ahead.timeout.connect(build_next)
        ahead.start(BUILD_AHEAD_MS)

    def _listen_to(self, page: Page) -> None:
        page.status_message.connect(self.say)
        page.wanted.connect(lambda name: self.actions_by_name[name].trigger())
        page.run_wanted.connect(lambda: self.start_run(show=True))
        page.drive_run_wanted.connect(self.run_another)
        page.tap_wanted.connect(lambda key: self.editing.tap_on(End.parse(key)))

    def _build_header(self) -> QWidget:
        header = QWidget()
        header.setObjectName("header")
        header.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        header.setFixedHeight(44)
        inside = QHBoxLayout(header)
        inside.setContentsMargins(8, 0, 14, 0)
        inside.setSpacing(4)
        inside.addWidget(Mark())
        inside.addSpacing(8)
        self.tabs = QButtonGroup(self)
        for n, name in enumerate(self.pages):
            tab = SpringTab(name)
            tab.setObjectName("tab")
            tab.clicked.connect(lambda _, p=name: self.show_page(p))
            tab.setCheckable(True)
            tab.setChecked(n == 0)
            tab.setFixedHeight(44)
            tab.setToolTip(f"Alt+{PAGES[n].key}")
            self.tabs.addButton(tab, n)
            inside.addWidget(tab)
        inside.addStretch(1)
        self.others_button = AtWork(self.others, lambda: show_other_programs(self))
        inside.addWidget(self.others_button)
        self.level = LevelChoice(self.session)
        inside.addWidget(self.level)
        inside.addSpacing(14)
        inside.addWidget(label("until", "muted"))
        self.until = Field("", "Run length", 72)
        self.until.setFixedWidth(76)
        explained_by(self.until, "setting:until")
        self.until.committed.connect(
            lambda text: self.session.do(commands.set_setting(self.session.drive, "until", text))
        )
        inside.addWidget(self.until)
        inside.addSpacing(8)
        self.live_button = button("Live", self.live_or_stop)
        self.live_button.setFixedSize(64, 28)
        self.live_button.setCheckable(True)
        self.live_button.setToolTip("Run in step with the clock, and change values meanwhile (Ctrl+Shift+R)")
        inside.addWidget(self.live_button)
        inside.addSpacing(4)
        self.run_button = RunButton()
        self.run_button.clicked.connect(self.run_or_stop)
        inside.addWidget(self.run_button)
        inside.addWidget(label("Ctrl+R", "muted"))
        return header

    def _connect(self) -> None:
        session = self.session
        session.file_changed.connect(self._show_file)
        session.changed.connect(lambda _: self._follow())
        session.opened.connect(self._follow)
        session.examined_changed.connect(self._follow)
        session.selection_changed.connect(self._enable_actions)
        session.undo.indexChanged.connect(lambda _: self._enable_actions())
        session.shown_keys = self._usual_keys
        self.jobs.started.connect(lambda: self.run_button.set_progress(0.0))
        self.jobs.progressed.connect(self.run_button.set_progress)
        self.jobs.ended.connect(self._run_ended)
        self.jobs.failed_at.connect(self._report)
        self.live.changed.connect(self._show_live)
        self.live.moved.connect(self._live_moved)
        self.live.status_message.connect(self.say)
        self.session.shelf.trimmed.connect(
            lambda count: self.say(f"{count} of the oldest runs went, as all took more than the preferences say.")
        )
        self.live.may_run = lambda: may_run(self.session, self)
        self.live.extra_keys = self._live_keys
        self.drive_page.spine.loop_wanted.connect(self._show_loop)
        self.drive_page.place_wanted.connect(lambda place: self.go_to(attention("", place.card, place.field)))
        self._listen_to(self.drive_page)
        self.drive_page.sheet.action_named = self.actions_by_name.get
        self.editing.page_wanted.connect(self.show_page)
        self.foot.go_wanted.connect(self.go_to)
        for source in (
            self.editing,
            self.files,
            self.exports,
            self.proposing,
            self.unit_choices,
        ):
            source.status_message.connect(self.say)
        self.session.evaluator.begun.connect(self.say)
        self.session.evaluator.ended.connect(self.say)
        self.session.refused.connect(self.say)
        self.session.vary_wanted.connect(self.vary)
        self.session.overlay_wanted.connect(lambda names, by: self.page("Runs").overlay(names, by))
        self.session.strips_wanted.connect(lambda signals: self.page("Runs").put_on_strips(signals))
        self.session.holding_wanted.connect(lambda names: self.page("Runs").kept.hold_only(names))
        self.files.steps_wanted.connect(lambda: self.actions_by_name["first_steps"].trigger())
        self.files.created.connect(lambda: self.show_page("Drive"))

    # showing -------------------------------------------------------------------

    def show_page(self, name: str) -> None:
        """A page that is not loaded yet follows as soon as it is, if it is still wanted then."""
        place = list(self.pages).index(name)
        self.page_now = name
        self.tabs.button(place).setChecked(True)
        if not isinstance(self.pages[name], Page) and not PAGES[place].is_loaded:
            self.stack.setCurrentWidget(self.pages[name])
            self._show_once_loaded(name, in_thread(PAGES[place].load))
        else:
            self._put_page(name)

    def _put_page(self, name: str) -> None:
        self.stack.setCurrentWidget(self.page(name))
        if name == "Drive":
            self.drive_page.sheet.setFocus()

    def _show_once_loaded(self, name: str, loading: Thread) -> None:
        waiting = QTimer(self)

        def look() -> None:
            if loading.is_alive():
                return
            waiting.stop()
            waiting.deleteLater()
            if self.page_now == name and not self.session.closing:
                self._put_page(name)

        waiting.timeout.connect(look)
        waiting.start(LOOK_MS)

    def _show_loop(self, regulator: str) -> None:
        page = self.pages["Loops"]
        if isinstance(page, Page):
            page.show_loop(regulator)

    def _follow(self) -> None:
        self.until.show_text(self.session.drive.settings["until"])
        finding = self.session.examined.finding_at("", "until")
        self.until.mark(finding.sentence if finding else "")
        self._show_file()
        self._enable_actions()

    def _show_file(self) -> None:
        star = " · unsaved changes" if self.session.dirty else ""
        where = f" · {self.session.path.name}" if self.session.path else ""
        self.menus.file_label.set_text(f"{self.session.drive.title}{where}{star}")
        self.setWindowTitle(f"{self.session.drive.title}{where}{star} – Pendel")

    def _enable_actions(self) -> None:
        if self.session.closing:
            return
        undo, redo = self.actions_by_name["undo"], self.actions_by_name["redo"]
        stack = self.session.undo
        undo.setEnabled(stack.canUndo())
        undo.setText(f"Undo {stack.undoText()[:1].lower()}{stack.undoText()[1:]}".strip())
        redo.setEnabled(stack.canRedo())
        redo.setText(f"Redo {stack.redoText()[:1].lower()}{stack.redoText()[1:]}".strip())
        chosen = bool(self.session.selection)
        for name in ("cut", "copy", "duplicate"):
            self.actions_by_name[name].setEnabled(chosen)
        self.actions_by_name["delete"].setEnabled(chosen or bool(self.session.selected_wire))
        self.actions_by_name["open_bundle"].setEnabled(self.editing.has_bundle())
        self.actions_by_name["named_link"].setEnabled(self.editing.has_wire())
        self.actions_by_name["tap"].setEnabled(self.editing.signal_to_tap() is not None)
        chosen_one = len(self.session.selection) == 1 and self.drive_page.can_open(self.session.selection[0])
        self.actions_by_name["open_circuit"].setEnabled(chosen_one)
        self.actions_by_name["group"].setEnabled(chosen)
        for name in ("dissolve", "shelve"):
            self.actions_by_name[name].setEnabled(bool(self.drive_page.chosen_assembly()))
        self.actions_by_name["open_loop"].setEnabled(self.editing.regulator() is not None)
        ideal = self.session.drive.settings["sensors"] == "ideal"
        self.actions_by_name["ideal"].setText("Sensors as they are" if ideal else "All sensors ideal")

    def say(self, sentence: str) -> None:
        """A passing remark in the foot line."""
        self.foot.say(sentence)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self.foot.panel.hide()

    def go_to(self, finding: Finding) -> None:
        if finding.field.startswith("time:"):
            self.show_page("Runs")
            self.page("Runs").go_to_instant(float(finding.field[5:]), finding.card)
            return
        self.show_page("Drive")
        inspector = self.drive_page.inspector
        if finding.card in self.session.drive.cards:
            tab = finding.field.split(":")[0]
            self.session.select([finding.card])
            rows = getattr(self.session.kinds().get(finding.card), "rows", None)
            inspector.tab = {"start": "Start", "profile": "Profile", "rows": rows.label if rows else ""}.get(
                tab,
                "Equations"
                if tab in ("ports", "values", "states", "unknowns", "equations") and ":" in finding.field
                else "Values",
            )
            inspector.rebuild()
            if finding.field in inspector.fields:
                inspector.fields[finding.field].setFocus()
            else:
                self.drive_page.sheet.setFocus()
            item = self.drive_page.sheet.cards.get(finding.card)
            if item is not None:
                self.drive_page.sheet.ensureVisible(item)
        elif finding.field in self.drive_page.spine.fields:
            self.drive_page.spine.fields[finding.field].setFocus()
        else:
            self.session.select([])
            if finding.field in inspector.fields:
                inspector.fields[finding.field].setFocus()

    def find(self) -> None:
        """On the page, or in the drive where there is nothing to look through."""
        self._commit_editors()
        if not self.page(self.page_now).look_for():
            self.show_page("Drive")
            self.drive_page.look_for()

    def show_findings(self) -> None:
        self.foot.toggle()

    # runs ----------------------------------------------------------------------

    def _usual_keys(self) -> list[str]:
        """What the Runs page will show, before it is built."""
        return keys_of(kept_strips(self.session) or default_strips(self.session))

    def run_or_stop(self) -> None:
        if self.jobs.running:
            self.jobs.stop()
        else:
            self.start_run(show=self.page_now == "Drive" and not self.session.runs)

    def live_or_stop(self) -> None:
        """Begin a live run, or end it."""
        if self.live.running:
            self.live.stop()
        elif self.session.examined.faults:
            self.foot.refresh()
            self.foot.open()
            self.say("The drive cannot run before its faults are fixed.")
        else:
            self._commit_editors()
            self.live.start()
            if self.page_now not in ("Drive", "Runs", "Bench"):
                self.show_page("Runs")
        self._show_live()

    def _show_live(self) -> None:
        self.live_button.setChecked(self.live.running)
        self.live_button.setText("Stop live" if self.live.running else "Live")
        self.live_button.setFixedWidth(84 if self.live.running else 64)
        runs = self.pages["Runs"]
        if isinstance(runs, Page):
            self.page("Runs").show_live()

    def _live_keys(self) -> list[str]:
        """What the strips and the operator panel show."""
        panel = [c.target for c in self.session.drive.panel.values() if c.form not in PANEL_INPUTS]
        return [*self.session.shown_keys(), *panel]

    def _live_moved(self) -> None:
        runs = self.pages["Runs"]
        if isinstance(runs, Page) and self.page_now == "Runs":
            self.page("Runs").show_live()
        self.live.watch()

    def start_run(self, *, show: bool = False) -> None:
        self._commit_editors()
        if self.session.examined.faults:
            self.foot.refresh()
            self.foot.open()
            self.say("The drive cannot run before its faults are fixed.")
            return
        if not may_run(self.session, self):
            self.say("The drive did not run: its own C was not allowed.")
            return
        self.show_after_run = show
        self.jobs.start()

    def vary(self, name: str) -> None:
        """Let something vary in the series that is shown, or in a new one."""
        self.show_page("Series")
        self.page("Series").vary(name)

    def run_another(self, drive: Drive, words: str) -> None:
        """Run a drive that came of the open one, such as that of a row, and show it among its runs."""
        if self.jobs.running:
            self.say("A run is under way. Wait for it, or stop it.")
            return
        try:
            refuse_strange_c(drive, "run the drive itself, which asks")
        except DriveProblem as problem:
            self.say(str(problem))
            return
        self.show_after_run = True
        self.jobs.start(drive, words)

    def _commit_editors(self) -> None:
        """What is still being typed belongs to the run."""
        focused = QApplication.focusWidget()
        if isinstance(focused, Field):
            focused._commit()
        for editor in (self.drive_page.inspector.own_editor, self.drive_page.inspector.about):
            if editor is not None:
                editor.commit()

    def _run_ended(self, sentence: str, failed: bool) -> None:
        self.run_button.set_progress(None)
        if sentence:
            self.say(sentence)
            if failed and not self.foot.transient:
                self.foot.report([Finding(Severity.ATTENTION, sentence)])
        if self.show_after_run and not failed:
            self.show_page("Runs")
        self.show_after_run = False

    def _report(self, faults: list[tuple[str, str, str]]) -> None:
        self.foot.report([Finding(Severity.FAULT, sentence, card, where) for sentence, card, where in faults])
        self.foot.open()

    def fit(self) -> None:
        self.page(self.page_now).fit()

    def rename(self) -> None:
        self.page(self.page_now).rename()

    # other ---------------------------------------------------------------------

    def next_area(self) -> None:
        """Take the keyboard round: left column, sheet or plots, right column. On the sheet, Tab goes from
        card to card."""
        shown = self.stack.currentWidget()
        stops = [w for w in shown.findChildren(QWidget) if w.isVisible() and w.focusPolicy() & Qt.FocusPolicy.TabFocus]
        areas: dict[int, QWidget] = {}
        columns = [c for c in shown.findChildren(QWidget) if c.objectName() in ("side", "inspector") and c.isVisible()]
        for stop in stops:
            where = next((n for n, c in enumerate(columns) if c.isAncestorOf(stop)), -1)
            areas.setdefault(where, stop)
        order = [areas[k] for k in sorted(areas)]
        focused = QApplication.focusWidget()
        place = next((n for n, c in enumerate(columns) if focused is not None and c.isAncestorOf(focused)), -1)
        here = sorted(areas).index(place) if place in areas else -1
        if order:
            order[(here + 1) % len(order)].setFocus(Qt.FocusReason.TabFocusReason)

    def _draw_page(self) -> Drawing:
        return self.page(self.page_now).drawing()

    def event(self, event: QEvent | None) -> bool:
        """What nothing under the pointer had words for comes here."""
        return (isinstance(event, QHelpEvent) and show_words(event)) or super().event(event)

    def customEvent(self, event: QEvent | None) -> None:
        """Take the pictures that what is shown in the window asks for."""
        if isinstance(event, PictureWanted):
            self.exports.take_picture(event.draw, to_file=event.to_file)

    def save_c(self, *, board: bool = False) -> None:
        self.page("Firmware").save(board=board)

    def export_unit(self) -> None:
        """Ask for a unit for other simulators, and write it."""
        self._commit_editors()
        dialog = UnitExport(self.session, self)
        dialog.finished.connect(lambda _: self.say(f"Exported {dialog.written}.") if dialog.written else None)
        dialog.open()

    def closeEvent(self, event: QCloseEvent | None) -> None:
        assert event is not None
        pages = [page for page in self.pages.values() if isinstance(page, Page)]
        if not all(page.may_close() for page in pages) or not self.files.may_leave():
            event.ignore()
            return
        self.session.close()
        self.settings.setValue("geometry", self.saveGeometry())
        self.jobs.close()
        event.accept()


def being_loaded(title: str) -> QWidget:
    """A placeholder for a page that is not loaded yet."""
    placeholder = QWidget()
    inside = QVBoxLayout(placeholder)
    words = label(f"{title} is being loaded …", "muted")
    words.setAlignment(Qt.AlignmentFlag.AlignCenter)
    inside.addWidget(words)
    return placeholder
