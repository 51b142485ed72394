"""The Loops page: every loop judged as it is and with proposed gains."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from functools import cached_property
from typing import TypeVar

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QButtonGroup,
    QCheckBox,
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from pendel.app.loops.figures import LoopFigures
from pendel.app.loops.hand_gains import HandGains
from pendel.app.loops.limits_box import LimitsBox
from pendel.app.loops.loop_facts import limits_reached, model_words, still_there, tells_an_angle, watched
from pendel.app.loops.loop_plots import LoopPlots
from pendel.app.loops.modes_view import ModesView
from pendel.app.loops.searching import Searching
from pendel.app.loops.spreading import Spreading
from pendel.app.loops.tolerances_box import TolerancesBox
from pendel.app.loops.way_list import WayList
from pendel.app.loops.way_view import WayView
from pendel.app.loops.wishes import Wishes, renamed_loop
from pendel.app.plots.plot import fit_plots
from pendel.app.session.loop_words import loop_state
from pendel.app.session.page import Page
from pendel.app.widgets.basic import button, clear, column, label, literal, rule, scrolled, wrapped
from pendel.app.widgets.theme import colour, tokens
from pendel.app.widgets.timers import Later, RefreshWhenShown
from pendel.core.drive.commands import Command
from pendel.core.drive.document import KeptTransfer
from pendel.core.drive.file import to_text
from pendel.core.errors import PendelError
from pendel.core.loops.regulators.judged_at import JudgedAt
from pendel.core.loops.regulators.usual_ways import usual_ways
from pendel.core.loops.tuning.gains import take_gains
from pendel.core.loops.tuning.rules import RULES
from pendel.core.loops.tuning.tuning import (
    LoopAnalysis,
    LoopStatus,
    LoopStudy,
    default_crossover,
)
from pendel.core.quantities.units import figure
from pendel.core.runs.preparing.simulate import signal_infos

LIMITS, HAND = "limits", "hand"
"""Choices of the rules' box that are no rules."""


View = TypeVar("View", WayView, ModesView)


class LoopsPage(Page):
    """Choose a loop, a rule and a wish; see what follows; take the gains."""

    def building(self) -> Iterator[None]:
        self.statuses: dict[str, LoopStatus] = {}
        """The drive's loops by their keys, inside out."""
        self.current = ""
        self.now: LoopAnalysis | None = None
        self.proposed: LoopAnalysis | None = None
        self._late = Later(self, 0, self.study)
        self._propose_late = Later(self, 15, self.propose)
        self._late_show = Later(self, 0, self._show_later)
        body = QHBoxLayout(self)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(0)
        body.addWidget(self._build_left())
        yield
        of_loops = QWidget()
        inside = QHBoxLayout(of_loops)
        inside.setContentsMargins(0, 0, 0, 0)
        inside.setSpacing(0)
        inside.addWidget(self._build_right())
        yield
        self.plots = LoopPlots()
        inside.insertWidget(0, self.plots, 1)
        yield
        self.stack = QStackedWidget()
        self.stack.addWidget(of_loops)
        self.stack.currentChanged.connect(lambda place: self.model_box.setVisible(place == 0))
        body.addWidget(self.stack, 1)
        self._follow = RefreshWhenShown(self, self._late.start)
        self._follow()
        self.session.changed.connect(lambda _: self._follow())
        self.session.opened.connect(self._forget)
        self.session.card_renamed.connect(self._follow_card)
        self.session.studied.connect(self._follow)
        self._trying: tuple[str, Command] | None = None
        """A drive that is to run before gains are tried, and the step that takes them."""
        self._try_late = Later(self, 0, self._go_on_trying)
        self.session.runs_changed.connect(self._try_late.start)

    @cached_property
    def way(self) -> WayView:
        """Between two points; made when first looked at, as its plots take a while."""
        return self._stacked(WayView(self.session))

    @cached_property
    def modes(self) -> ModesView:
        """What swings; made when first looked at."""
        return self._stacked(ModesView(self.session))

    def _stacked(self, view: View) -> View:
        view.status_message.connect(self.status_message)
        self.stack.addWidget(view)
        return view

    def _build_left(self) -> QWidget:
        side = QWidget()
        side.setObjectName("side")
        side.setFixedWidth(220)
        inner = QWidget()  # a drive may have more loops than the window is high
        column(side, (0, 0, 0, 0)).addWidget(scrolled(inner))
        inside = column(inner, (8, 12, 8, 12), 4)
        inside.addWidget(label("Loops, inside out", "heading"))
        self.where = QComboBox()
        self.where.setAccessibleName("Where loops are judged")
        self.where.setToolTip(
            "Steady rotation: in the frame that turns with the drive, where a run of it ends. Measured: sines in runs, "
            "with converters at their level of detail; for all that has no linear model"
        )
        self.where.activated.connect(self._judge_there)
        inside.addWidget(self.where)
        self.continuous = QCheckBox("L as of a continuous loop")
        self.continuous.setToolTip(
            "Sampling, hold and computing delay count by what they do to a sine, with no aliases, up "
            "to eight times half "
            "the sampling rate; steps and stability stay those of the samples"
        )
        self.continuous.toggled.connect(lambda _: self.study())
        inside.addWidget(self.continuous)
        self.loop_box = QVBoxLayout()
        self.loop_box.setSpacing(4)
        self.loop_group = QButtonGroup(self)
        inside.addLayout(self.loop_box)
        self.all_button = button("Propose gains of all", lambda: self.wanted.emit("propose"))
        self.all_button.setToolTip(
            "First gains from the drive's values and the sampling, inside out, marked as proposed"
        )
        inside.addWidget(self.all_button)
        inside.addSpacing(6)
        inside.addWidget(rule())
        self.ways = WayList()
        self.ways.chosen.connect(self.show_way)
        self.ways.wished.connect(lambda way: self.draw_way("", way))
        self.ways.ticked.connect(lambda: self.way.lay_under(self.ways.ticked_names()))
        inside.addWidget(self.ways)
        inside.addSpacing(6)
        inside.addWidget(rule())
        inside.addWidget(label("Mechanics", "heading"))
        self.modes_button = button("", self.show_modes)
        self.modes_button.setCheckable(True)
        self.modes_button.setToolTip("Natural frequencies, damping and shapes; notch, low-pass and damping loop")
        inside.addWidget(self.modes_button)
        inside.addSpacing(6)
        inside.addWidget(rule())
        self.model_box = QWidget()
        rows = column(self.model_box, (0, 0, 0, 0), 4)
        rows.addWidget(label("Linear model", "heading"))
        self.model_grid = QGridLayout()
        rows.addLayout(self.model_grid)
        inside.addWidget(self.model_box)
        self.problem = wrapped("", "wrong")
        inside.addWidget(self.problem)
        self.measure_button = button("Measure the loops in runs", self._measure)
        inside.addWidget(self.measure_button)
        inside.addStretch(1)
        inside.addWidget(
            wrapped(
                "L is shown with the sign of the negative feedback taken out. Sampling, hold and "
                "computing delay are in it; outer loops stand still.",
                "muted",
            )
        )
        return side

    def _build_right(self) -> QWidget:
        side = QWidget()
        side.setObjectName("inspector")
        side.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        side.setFixedWidth(280)
        inner = QWidget()
        inside = column(inner, (16, 14, 14, 12), 6)
        self.title = label("", "title")
        self.facts = wrapped("", "muted")
        inside.addWidget(self.title)
        inside.addWidget(self.facts)
        inside.addWidget(label("Choose gains by", "muted"))
        self.rule_box = QComboBox()
        self.rule_box.setAccessibleName("Rule for the gains")
        self.rule_box.setFixedHeight(26)
        for each in RULES:
            self.rule_box.addItem(each.title, each.id)
        self.rule_box.addItem("search within limits", LIMITS)
        self.rule_box.addItem("by hand", HAND)
        self.rule_box.activated.connect(lambda _: self._rule_chosen())
        inside.addWidget(self.rule_box)
        self.wishes = Wishes()
        self.wishes.changed.connect(self._propose_late.start)
        self.wishes.refused.connect(self.status_message)
        inside.addWidget(self.wishes)
        self.hand = HandGains()
        self._hand_of = ""
        self.hand.setVisible(False)
        self.hand.changed.connect(self._propose_late.start)
        inside.addWidget(self.hand)
        self.limits = LimitsBox()
        self.limits.setVisible(False)
        self.limits.search_wanted.connect(self.search)
        self.searching = Searching(self.session, self.limits, self)
        self.searching.improved.connect(self._show_best)
        inside.addWidget(self.limits)
        self.figures = LoopFigures()
        inside.addSpacing(4)
        inside.addWidget(self.figures)
        inside.addSpacing(4)
        self.take_button = button("Take these gains", self.take, "primary")
        self.try_button = button("Try them in a run", self.try_in_run)
        self.try_button.setToolTip("Two kept runs: as it is, unless that ran last, and with these gains")
        inside.addWidget(self.take_button)
        inside.addWidget(self.try_button)
        self.verdict = wrapped("", "good")
        inside.addWidget(self.verdict)
        inside.addWidget(rule())
        self.tolerances = TolerancesBox()
        self.spreading = Spreading(self.session, self.tolerances, self)
        self.tolerances.judge_wanted.connect(lambda: self.spreading.start_or_stop(self.current, self.chosen))
        self.spreading.judged.connect(self._late_show.start)
        inside.addWidget(self.tolerances)
        inside.addStretch(1)
        column(side, (0, 0, 0, 0)).addWidget(scrolled(inner))
        return side

    # studying --------------------------------------------------------------------

    def _judge_there(self, place: int) -> None:
        self.session.judge_loops(JudgedAt(self.where.itemData(place)))
        self.study()

    def _measure(self) -> None:
        self.session.judge_loops(JudgedAt.MEASURED)
        self.study()

    def _offer_places(self) -> None:
        """Where the loops of this drive can be judged; a choice stays while what it needs is off the sheet."""
        turns = tells_an_angle(self.session.drive)
        offered = [at for at in JudgedAt if turns or at is not JudgedAt.STEADY or at is self.session.judge_at]
        if [self.where.itemData(k) for k in range(self.where.count())] != offered:
            self.where.clear()
            for at in offered:
                self.where.addItem(at.label, at)
        self.where.setCurrentIndex(offered.index(self.session.judge_at))

    def _forget(self) -> None:
        """What was asked for was asked of another drive, whose loops may be called alike."""
        self.stack.setCurrentIndex(0)
        self.current = self._hand_of = ""
        self.wishes.forget()
        self.tolerances.clear()
        self._follow()

    def _follow_card(self, old: str, new: str) -> None:
        self.current = renamed_loop(self.current, old, new)
        self.wishes.follow(old, new)
        self.tolerances.follow_card(old, new)

    def fit(self) -> None:
        fit_plots(self)

    def showEvent(self, event) -> None:
        super().showEvent(event)
        self._follow.shown()

    def show_loop(self, key: str) -> None:
        self.stack.setCurrentIndex(0)
        self.current = key
        self._late.start()

    @property
    def chosen(self) -> LoopStudy | None:
        """The study of the chosen loop; none for a loop that has no linear model."""
        return self.statuses[self.current].study if self.current in self.statuses else None

    def study(self) -> None:
        """Show the loops as the session judged them, or that it does so now."""
        if not self.isVisible():
            self._follow()
            return
        session = self.session
        self._offer_places()
        self.measure_button.setVisible(False)
        if session.judging and session.drive.cards and not session.examined.faults:
            session.judge_at_once()
            self.problem.setText("")
            measuring = session.judge_at is JudgedAt.MEASURED
            self.facts.setText("Measuring the loops in runs …" if measuring else "Judging the loops …")
            self.take_button.setEnabled(False)  # what is shown is of the drive before
            self.try_button.setEnabled(False)
            self.all_button.setEnabled(False)
            return
        faults = [*session.examined.faults, *session.deep_findings]
        judged = still_there(session.judged, session.drive) if not faults else []
        self.statuses = {each.loop.key: each for each in judged}
        if not session.drive.cards:
            self.problem.setText("The sheet is empty.")
        elif faults:
            self.problem.setText(f"The loops show once this is fixed: {faults[0]}")
        elif session.judge_problem:
            self.problem.setText(session.judge_problem)
        elif not self.statuses:
            self.problem.setText(
                "No regulator acts on what it measures yet. Wire a sensor to a regulator's actual value "
                "and its output towards the converter."
            )
        else:
            self.problem.setText("")
        self.ways.follow(session.drive)
        self.tolerances.follow(session.drive)
        self._name_modes()
        shown = self.stack.currentWidget()
        if isinstance(shown, WayView | ModesView):
            shown.follow()
        elif self.current not in self.statuses:
            self.current = next(iter(self.statuses), "")
        self.all_button.setEnabled(bool(self.statuses))
        self._fill_loops()
        self._show_chosen()

    def _show_chosen(self) -> None:
        study = self.chosen
        self.ways.offer(usual_ways(study.loop, study.drive.whole) if study is not None else {})
        self._enable(study is not None and bool(study.loop.regulation.gains))
        if study is not None:
            self.now = self._judged_now(study)
            self._prime_wish(study)
            of_this = self._hand_of == self.current and self.hand.gains.keys() == study.gains_now.keys()
            if self.rule_box.currentData() == HAND and not of_this:
                self._begin_by_hand(study, study.gains_now)
            self.propose()
        else:
            self.now = self.proposed = None
            self._show_nothing()

    def _judged_now(self, study: LoopStudy) -> LoopAnalysis | None:
        self.continuous.setEnabled(study.can_be_continuous)
        study.continuous = self.continuous.isChecked() and study.can_be_continuous
        judged = self.statuses[self.current].judged
        return study.analyse(study.gains_now) if study.continuous else judged

    def _show_nothing(self) -> None:
        status = self.statuses.get(self.current)
        if status is not None:
            self.problem.setText(status.problem)
            self.measure_button.setVisible(self.session.judge_at is not JudgedAt.MEASURED)
        card = self.session.drive.cards.get(status.loop.regulator) if status is not None else None
        self.title.setText(card.name if card is not None else "")
        for shown in (self.facts, self.verdict):
            shown.setText("")
        self.figures.clear()
        clear(self.model_grid)
        self.plots.clear()

    def _enable(self, on: bool) -> None:
        for widget in (self.take_button, self.try_button, self.rule_box, self.hand):
            widget.setEnabled(on)
        chosen = self.rule_box.currentData()
        self.wishes.setEnabled(on and chosen in RULES and RULES[chosen].takes_crossover)

    def _fill_loops(self) -> None:
        clear(self.loop_box)
        infos = signal_infos(self.session.drive) if self.statuses else {}
        for key, status in self.statuses.items():
            words, role = loop_state(status)
            actual = watched(status.loop, infos)
            card = actual.card.split(" · ")[-1].lower()
            seen = f"actual {actual.label}" if actual.label.startswith(card) else f"actual {card} {actual.label}"
            loop_button = button(
                literal(f"{status.loop.label}\n{seen if len(seen) < 33 else seen[:31] + ' …'}\n{words}"),
                lambda k=key: self.choose(k),
            )
            loop_button.setToolTip("Responses, margins and gains of this loop.")
            if status.changed_inside:
                names = ", ".join(self.session.drive.cards[name].name for name in status.changed_inside)
                loop_button.setToolTip(f"Tuned before the gains of {names} were changed. Choose its gains again.")
            loop_button.setCheckable(True)
            loop_button.setChecked(key == self.current and self.stack.currentIndex() == 0)
            loop_button.setStyleSheet(
                f"QPushButton {{ text-align: left; color: {tokens().ink}; border: 1px solid transparent; "
                f"border-left: 8px solid {colour(role).name()}; padding: 6px 8px; background: transparent; "
                f"font-size: 11px; }}"
                f"QPushButton:checked {{ background: {tokens().petrol_tint}; border: 1px solid "
                f"{tokens().petrol}; border-left: 8px solid {colour(role).name()}; }}"
                f"QPushButton:focus {{ border: 1px solid {tokens().petrol}; border-left: 8px solid "
                f"{colour(role).name()}; }}"
            )
            self.loop_box.addWidget(loop_button)

    def _name_modes(self) -> None:
        modes = self.session.mechanics.modes
        words = "nothing swings"
        if modes:
            slowest = figure(modes[0][1].frequency, "Hz", 3)
            words = f"1 mode, {slowest}" if len(modes) == 1 else f"{len(modes)} modes, from {slowest}"
        self.modes_button.setText(words)
        self.modes_button.setChecked(isinstance(self.stack.currentWidget(), ModesView))

    def show_modes(self) -> None:
        """Show what swings in the drive."""
        self.stack.setCurrentWidget(self.modes)
        self.ways.show_none()
        self._fill_loops()
        self._name_modes()
        self.modes.follow()

    def show_way(self, name: str) -> None:
        """Show a kept way between two points, or a new one."""
        self.draw_way(name, self.session.drive.transfers.get(name, KeptTransfer("", "")))

    def draw_way(self, name: str, way: KeptTransfer) -> None:
        self.stack.setCurrentWidget(self.way)
        self._name_modes()
        self._fill_loops()
        self.way.show_way(name, way)

    def choose(self, key: str) -> None:
        self.stack.setCurrentIndex(0)
        self.ways.show_none()
        self._name_modes()
        self.current = key
        self.problem.setText("")
        self._fill_loops()
        self._show_chosen()

    def _prime_wish(self, study: LoopStudy) -> None:
        begin = self.statuses[self.current].begin
        if math.isnan(begin):
            begin = default_crossover(study, list(self.statuses.values()))
        self.wishes.begin(self.current, begin, 0.0005 / study.dt, 0.2 / study.dt)

    def _rule_chosen(self) -> None:
        chosen, self.searching.result_shown = self.rule_box.currentData(), False
        self.limits.setVisible(chosen == LIMITS)
        self.hand.setVisible(chosen == HAND)
        self.wishes.setVisible(chosen in RULES)
        self.wishes.setEnabled(chosen in RULES and RULES[chosen].takes_crossover)
        if chosen == HAND and self.chosen is not None:
            shown = self.proposed or self.now
            self._begin_by_hand(self.chosen, shown.gains if shown is not None else self.chosen.gains_now)
        self.propose()

    def _begin_by_hand(self, study: LoopStudy, gains: Mapping[str, float]) -> None:
        self._hand_of = self.current
        self.hand.begin(study, gains)

    def search(self) -> None:
        """Search gains within the limits, or stop that."""
        if self.searching.running:
            self.searching.stop()
        elif self.chosen is not None:
            self.searching.start(self.current, self.chosen, self.statuses)

    def _show_best(self, key: str, best: LoopAnalysis) -> None:
        if self.limits.whole.isChecked() and key != self.current and key in self.statuses:
            self.current = key
            self._fill_loops()
            self.now = self.statuses[key].judged
        if key == self.current and self.rule_box.currentData() == LIMITS and self.chosen is not None:
            self.proposed = best
            self._show(self.chosen)

    def propose(self) -> None:
        study = self.chosen
        if study is None or self.now is None:
            return
        if self.rule_box.currentData() == LIMITS:
            self.proposed = None
            self.verdict.setText("")
            self.searching.stop()
            if not self.searching.result_shown:
                self.limits.show_found(None, "")
            self._late_show.start()
            return
        try:
            if self.rule_box.currentData() == HAND:
                gains = self.hand.gains
            else:
                gains = study.propose(
                    self.rule_box.currentData(),
                    crossover=self.wishes.wish,
                    phase_margin=self.wishes.phase_margin,
                )
            self.proposed = study.analyse({**study.gains_now, **gains})
            self.verdict.setText("")
        except PendelError as problem:
            self.proposed = None
            self.verdict.setText(str(problem))
        self._late_show.start()  # what was found first, then its pictures

    def _show_later(self) -> None:
        study = self.chosen  # whose card may have been taken off meanwhile
        if study is not None and still_there([self.statuses[self.current]], self.session.drive):
            self._show(study)

    # showing ---------------------------------------------------------------------

    def _show(self, study: LoopStudy) -> None:
        card = self.session.drive.cards[study.loop.regulator]
        self.title.setText(card.name)
        self.facts.setText(
            f"{study.loop.regulation.axis.capitalize() + ' · ' if study.loop.regulation.axis else ''}sampled "
            f"every {figure(study.loop.period, 's', 3)} · delay {figure(study.delay, 's', 3)} with hold · "
            f"{'' if study.drive.range else 'linear about the drive '}{study.drive.point.name}"
            f"{limits_reached(self.session.drive, study)}"
        )
        self._show_model(study)
        self.plots.show_loop(self.now, self.proposed, self._step_words())
        best = self.proposed or self.now
        if best is not None and (points := study.measured_points(best.gains)) is not None:
            self.plots.show_measured(*points)
        self.plots.show_modes([(m.frequency, m.name) for _, m in self.session.mechanics.modes])
        if (tolerated := self.spreading.show_for(study)) is not None:
            self.plots.show_band(tolerated)
        self._show_figures(study)

    def _step_words(self) -> str:
        loop = self.statuses[self.current].loop
        plain = loop.depth == 0 and not loop.regulation.axis
        of = watched(loop, signal_infos(self.session.drive)).label if plain else loop.label.lower()
        return f"{of} after a step"

    def _show_model(self, study: LoopStudy) -> None:
        clear(self.model_grid)
        given = signal_infos(self.session.drive).get(study.output)
        rows = model_words(study, given.unit if given is not None else "")
        for r, (name, value) in enumerate(rows):
            self.model_grid.addWidget(label(name), r, 0)
            shown = label(value)
            shown.setAlignment(Qt.AlignmentFlag.AlignRight)
            self.model_grid.addWidget(shown, r, 1)

    def _show_figures(self, study: LoopStudy) -> None:
        self.figures.show_loop(study, self.now, self.proposed)
        if self.proposed is not None:
            m = self.proposed.margins
            good = m.damped
            bad = "Little margin: expect overshoot and ringing." if m.stable else "Unstable with these gains."
            self.verdict.setText("A well-damped loop." if good else bad)
            self.verdict.setStyleSheet(f"color: {tokens().moss if good else tokens().brick};")

    # doing -----------------------------------------------------------------------

    def taking(self) -> Command | None:
        """The step that takes the proposed gains."""
        study = self.chosen
        if self.proposed is None or study is None:
            return None
        gains = {n: float(v) for n, v in self.proposed.gains.items() if abs(v - study.gains_now[n]) > 2e-3 * abs(v)}
        return take_gains(self.session.drive, study.loop, gains)

    def take(self) -> None:
        if (command := self.taking()) is not None:
            self.session.do(command)

    def try_in_run(self) -> None:
        """Run the drive as it is, unless its last run shows that already, and once more with the proposed
        gains."""
        session, command = self.session, self.taking()
        if command is None:
            return
        text, last = to_text(session.drive), session.shelf.drive_of_last()
        if last is not None and to_text(last) == text:
            session.do(command)
        else:
            self._trying = (text, command)
        self.run_wanted.emit()

    def _go_on_trying(self) -> None:
        """With the gains, once the drive as it was has run."""
        if self._trying is None:
            return
        (text, command), self._trying = self._trying, None
        last = self.session.shelf.last
        if last is not None and last.drive_text == text == to_text(self.session.drive):
            self.session.do(command)
            self.run_wanted.emit()
