"""The right column of the Drive page: values, what follows, findings and signals of the selected card."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import QButtonGroup, QComboBox, QHBoxLayout, QLabel, QVBoxLayout, QWidget

from pendel.app.drive.about_box import AboutBox
from pendel.app.drive.card_notes import EnvelopeLine, FindingCard, OriginLine, what_it_comes_to
from pendel.app.drive.editors.code_editor import CodeEditor
from pendel.app.drive.editors.curve_view import CurveView
from pendel.app.drive.editors.face_editor import FaceEditor
from pendel.app.drive.editors.own_editor import OwnEditor
from pendel.app.drive.editors.profile_editor import ProfileEditor
from pendel.app.drive.editors.rows_editor import RowsEditor
from pendel.app.session import card_text as shown
from pendel.app.session.session import Session
from pendel.app.session.sparks import spark
from pendel.app.session.stepping import change_in_steps
from pendel.app.widgets.basic import (
    Elided,
    Field,
    Spark,
    button,
    clear,
    column,
    figure_row,
    label,
    row,
    rule,
    scrolled,
    wrapped,
)
from pendel.app.widgets.explained import explained_by
from pendel.app.widgets.theme import colour, trace_colour
from pendel.app.widgets.timers import Later, RefreshWhenShown
from pendel.core.catalogue.assembly import kind_in
from pendel.core.catalogue.declare import Block, Deck, Kind, Part, Value
from pendel.core.catalogue.index import alternatives
from pendel.core.check.formats import CONTROLLERS
from pendel.core.check.signal_units import signal_unit
from pendel.core.check.targets import START, VARY
from pendel.core.drive import commands
from pendel.core.drive.document import Card, End
from pendel.core.drive.findings import Finding
from pendel.core.drive.nesting import resolved, with_members
from pendel.core.drive.usual import take_usual
from pendel.core.errors import DriveProblem, ExpressionProblem, RunProblem
from pendel.core.plant.methods import METHODS
from pendel.core.quantities.units import figure
from pendel.core.wording import sentence_case

WIDTH = 340

if TYPE_CHECKING:
    from pendel.app.drive.editors.flux_editor import FluxEditor

USUAL = "Take the usual value"


class Inspector(QWidget):
    """Shows one card, or the drive's settings when nothing is selected."""

    status_message = pyqtSignal(str)

    def __init__(self, session: Session, parent: QWidget | None = None):
        super().__init__(parent)
        self.session = session
        self.setObjectName("inspector")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedWidth(WIDTH)
        self.card = ""
        self.shape: tuple = ()
        self.tab = "Values"
        self.fields: dict[str, Field] = {}
        self.notes: dict[str, QLabel] = {}
        self.own_editor: OwnEditor | None = None
        self.about: AboutBox | None = None
        self.inner = QWidget()
        self.body = column(self.inner, (16, 12, 14, 12), 5)
        column(self, (0, 0, 0, 0)).addWidget(scrolled(self.inner))
        self._late = Later(self, 0, self.refresh)
        session.changed.connect(lambda _: self._late.start())
        session.examined_changed.connect(self._late.start)
        session.opened.connect(self.rebuild)
        session.selection_changed.connect(self.rebuild)
        session.sheet_changed.connect(self._sheet_changed)
        self._for_runs = RefreshWhenShown(self, self._late.start)
        session.runs_changed.connect(self._for_runs)
        session.evaluator.ended.connect(lambda problem: problem or self._for_runs())

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        self._for_runs.shown()

    def _sheet_changed(self) -> None:
        self.shape = ()  # from its first tab
        self.rebuild()

    # what is shown -----------------------------------------------------------

    def _wanted(self) -> str:
        """The selected card; on the sheet of an assembly, with nothing selected, the assembly itself."""
        chosen = self.session.selection
        return chosen[0] if len(chosen) == 1 else "" if chosen else self.session.inside

    def _shape(self) -> tuple:
        """What decides the rows; while it stays, texts change in place and the focus is kept."""
        card = self.session.drive.cards.get(self._wanted())
        if card is None:
            return ("drive", len(self.session.selection))
        kind = self._kind()
        names = tuple(v.name for v in self._values_that_count(kind)) if kind and self.tab != "Equations" else ()
        own_shape = card.own is None
        return (self._wanted(), card.kind, tuple(sorted(card.choices.items())), names, self.tab, own_shape)

    def _kind(self) -> Kind | None:
        key = self._wanted()
        try:
            return kind_in(self.session.drive, key) if key in self.session.drive.cards else None
        except DriveProblem:
            return self.session.kinds().get(key)

    def refresh(self) -> None:
        if self._shape() != self.shape:
            self.rebuild()
            return
        if self.card:
            self._update_card()
        else:
            self._update_settings()

    def rebuild(self) -> None:
        editor = self.own_editor
        if editor is not None and editor.card in self.session.drive.cards:
            self.own_editor = None
            editor.commit()
        if self.about is not None:
            self.about.commit()
        clear(self.body)
        self.fields, self.notes = {}, {}
        self.profile_editor: ProfileEditor | None = None
        self.own_editor = None
        self.face_editor: FaceEditor | None = None
        self.rows_editor: RowsEditor | None = None
        self.code_editor: CodeEditor | None = None
        self.flux_editor: FluxEditor | None = None
        self.follow_box: QVBoxLayout | None = None
        self.curve_view: CurveView | None = None
        self.name_field: Field | None = None
        self.about = None
        self.card = self._wanted() if self._kind() is not None else ""
        if self.card:
            tabs = self.tabs()
            if self.tab not in tabs or self.shape[:1] != (self.card,):
                self.tab = tabs[0]
        self.shape = self._shape()
        if self.card:
            self._build_card()
        elif len(self.session.selection) > 1:
            self._build_many()
        else:
            self._build_settings()
        self.body.addStretch(1)
        if self.card:
            self._update_card()

    def _build_many(self) -> None:
        self.body.addWidget(label(f"{len(self.session.selection)} cards", "title"))
        self.body.addWidget(
            wrapped("Move them with the arrow keys, copy them with Ctrl+C, delete them with Delete.", "muted")
        )

    # drive settings ------------------------------------------------------------

    def _build_settings(self) -> None:
        self.body.addWidget(label("Drive", "title"))
        self.about = AboutBox(self.session)
        self.body.addWidget(self.about)
        self.body.addSpacing(8)
        self.body.addWidget(wrapped("Click a card to see its values. Press A to add one.", "muted"))
        for name, text, unit_text in (
            ("title", "Title", ""),
            ("until", "Run length", "s"),
            ("tick", "Sampling period", "s"),
            ("computing_delay", "Computing delay", "ticks"),
            ("tolerance", "Tolerance", ""),
            ("step", "Fixed step", "s"),
            ("seed", "Noise seed", ""),
        ):
            self._setting_row(name, text, unit_text)
        self._setting_choice("method", "Method", tuple((method.id, method.title) for method in METHODS))
        self._setting_choice("sensors", "All sensors", (("as they are", "as they are"), ("ideal", "ideal")))
        self._setting_choice("controller", "Controller", tuple((c, c) for c in CONTROLLERS))
        self._update_settings()

    def _setting_row(self, name: str, text: str, unit_text: str) -> None:
        field = Field(self.session.drive.settings[name], text)
        field.more[VARY] = lambda: self.session.vary_wanted.emit(name)
        field.committed.connect(
            lambda t, n=name: self.session.attempt(lambda: commands.set_setting(self.session.drive, n, t))
        )
        self.fields[name] = field
        explained_by(field, f"setting:{name}")
        if name == "title":
            field.setAlignment(Qt.AlignmentFlag.AlignLeft)
            field.setMinimumWidth(240)
            self.body.addLayout(row(label(text), 1, field))
        else:
            self.body.addLayout(self._line(text, "", field, unit_text))
        self.notes[name] = wrapped("", "wrong")
        self.body.addWidget(self.notes[name])

    def _setting_choice(self, name: str, text: str, options) -> None:
        box = self._combo(
            text,
            options,
            self.session.drive.settings[name],
            lambda o, n=name: self.session.attempt(lambda: commands.set_setting(self.session.drive, n, o)),
        )
        explained_by(box, f"setting:{name}")
        self.body.addLayout(row(label(text), 1, box))
        setattr(self, f"{name}_box", box)

    def _update_settings(self) -> None:
        if len(self.session.selection) > 1:
            return
        if self.about is not None:
            self.about.follow()
        for name, field in self.fields.items():
            field.show_text(self.session.drive.settings[name])
            self._mark(name, self.session.examined.finding_at("", name))
        for name in ("method", "sensors", "controller"):
            box = getattr(self, f"{name}_box", None)
            if box is not None:
                box.blockSignals(True)
                box.setCurrentIndex(box.findData(self.session.drive.settings[name]))
                box.blockSignals(False)

    # one card ------------------------------------------------------------------

    def tabs(self) -> list[str]:
        kind, card = self._kind(), self.session.drive.cards[self.card]
        assert kind is not None
        if card.face is not None:
            return ["Face", "Values"] if self.session.inside == self.card else ["Values", "Face"]
        typed = kind.own is not None and isinstance(kind, Part)
        tabs = [] if kind.own is None else ["Equations"] if typed else ["Update"]
        if kind.values or not typed:
            tabs.append("Values")
        if kind.has_profile:
            tabs.insert(len(tabs) if kind.profile_optional else 0, "Profile")
        tabs += [kind.rows.label] if kind.rows else []
        if kind.takes_flux:
            tabs.insert(0, "Tables")
        if isinstance(kind, Part) and kind.states and not typed:
            tabs.append("Start")
        if isinstance(kind, Block) and kind.deck is Deck.CONTROL:
            tabs.append("Code")
        return tabs

    def _build_card(self) -> None:
        kind = self._kind()
        assert kind is not None
        name = Field(self.session.drive.cards[self.card].name, "Name", 200)
        name.setAlignment(Qt.AlignmentFlag.AlignLeft)
        name.setFixedHeight(30)
        name.setStyleSheet(
            "QLineEdit { font-size: 16px; font-weight: bold; border: 1px solid transparent; background: "
            "transparent; padding: 0; }"
            f"QLineEdit:hover, QLineEdit:focus {{ border-bottom: 1px solid {colour('petrol').name()}; }}"
        )
        name.committed.connect(self._rename)
        self.name_field = name
        self.body.addWidget(name)
        self.body.addWidget(wrapped(kind.title, "muted"))
        bar, group = QHBoxLayout(), QButtonGroup(self.inner)
        bar.setSpacing(0)
        for tab in self.tabs():
            tab_button = button(tab, lambda t=tab: self.show_tab(t), "small")
            tab_button.setCheckable(True)
            tab_button.setChecked(tab == self.tab)
            if kind.rows and tab == kind.rows.label:
                tab_button.setToolTip(f"Rows of {', '.join(c.label for c in kind.rows.columns)}.")
            group.addButton(tab_button)
            bar.addWidget(tab_button)
        bar.addStretch(1)
        self.body.addLayout(bar)
        self.body.addWidget(rule())
        {
            "Values": self._build_values,
            "Start": self._build_starts,
            "Profile": self._build_profile,
            "Equations": self._build_own,
            "Update": self._build_own,
            "Face": self._build_face,
            "Code": self._build_code,
            "Tables": self._build_flux,
            **({kind.rows.label: self._build_rows} if kind.rows else {}),
        }[self.tab](kind)
        self.finding_box = QVBoxLayout()
        self.body.addLayout(self.finding_box)
        self.signal_box = QVBoxLayout()
        self.signal_box.setSpacing(3)
        self.body.addLayout(self.signal_box)

    def show_tab(self, tab: str) -> None:
        self.tab = tab
        self.rebuild()

    def edit_name(self) -> None:
        """Begin to rename the card that is shown."""
        if self.name_field is None:
            self.status_message.emit("Select one card to rename it.")
            return
        self.name_field.setFocus()
        self.name_field.selectAll()

    def _rename(self, text: str) -> None:
        try:
            command = commands.rename_card(self.session.drive, self.card, text)
        except DriveProblem as problem:
            self.status_message.emit(str(problem))
            if self.name_field is not None:
                self.name_field.setText(self.session.drive.cards[self.card].name)
            return
        new = next((c.key for c in command.changes if c.table == "cards" and c.after is not None), self.card)
        self.session.do(command)
        self.session.select([new])

    def _build_values(self, kind: Kind) -> None:
        card = self.session.drive.cards[self.card]
        others = {k.id: k.title for k in alternatives(kind)}
        if len(others) > 1:
            box = self._combo(
                "Kind",
                tuple(others.items()),
                card.kind,
                lambda o: self.session.attempt(lambda: commands.set_kind(self.session.drive, self.card, o, others[o])),
            )
            self.body.addLayout(row(label("Kind", "muted"), 1, box))
        for choice in kind.choices_in_force(card):
            box = self._combo(
                choice.label,
                choice.options,
                kind.choice(card, choice.name),
                lambda o, n=choice.name: self.session.attempt(
                    lambda: commands.set_choice(self.session.drive, self.card, n, o)
                ),
            )
            self.body.addLayout(row(label(choice.label, "muted"), 1, box))
        if card.made_from:
            self.body.addWidget(OriginLine(self.session, self.card))
        if card.envelope:
            self.body.addWidget(EnvelopeLine(self.session, self.card))
        for value in self._values_that_count(kind):
            self._value_row(value)
        if card.face is not None and not kind.values:
            self.body.addWidget(wrapped("Its face shows no value yet. Choose some under Face.", "muted"))
        if kind.follows:
            self.body.addSpacing(4)
            self.body.addWidget(rule())
            self.body.addWidget(label("Follows from these", "heading"))
            self.follow_box = QVBoxLayout()
            self.follow_box.setSpacing(5)
            self.body.addLayout(self.follow_box)
        if kind.curve:
            self.curve_view = CurveView()
            self.body.addWidget(self.curve_view)

    def _values_that_count(self, kind: Kind) -> list[Value]:
        """Values in force at the card's level of detail."""
        card = self.session.drive.cards[self._wanted()]
        in_force = kind.values_in_force(card)
        if not isinstance(kind, Part):
            return in_force
        return [v for v in in_force if kind.counts(v, card, self.session.drive.settings["level"])]

    def _value_row(self, value: Value) -> None:
        card = self.session.drive.cards[self.card]
        field = Field(self._text(card, value), f"{value.label} {value.name}")
        if value.optional:
            field.setPlaceholderText("–")
        field.committed.connect(lambda text, v=value: self._take_text(v, text))
        change_in_steps(field, self.session, self.card, value.name)
        behind = ".".join(self._behind(value.name))
        field.more[VARY] = lambda: self.session.vary_wanted.emit(behind)
        self.fields[value.name] = field
        self.body.addLayout(self._line(value.label, value.name, field, shown.unit_label(value.unit)))
        note = wrapped("", "muted")
        note.setAlignment(Qt.AlignmentFlag.AlignRight)
        note.hide()
        self.notes[value.name] = note
        self.body.addWidget(note)

    def _take_text(self, value: Value, text: str) -> None:
        """What was typed; a field that is emptied and must not be is as usual again."""
        if not text.strip() and not value.optional:
            self._take_usual(value.name)
        else:
            self.session.attempt(lambda: commands.set_value(self.session.drive, self.card, value.name, text))

    def _take_usual(self, name: str) -> None:
        self.session.attempt(lambda: take_usual(self.session.drive, self.card, name))
        self._update_card()

    def _is_usual(self, value: Value) -> bool:
        """Whether a value is the catalogue's, as nobody has typed another."""
        card, name = self._behind(value.name)
        return bool(value.default) and name not in self.session.drive.cards[card].values

    def _behind(self, name: str) -> tuple[str, str]:
        """Card and value that a row stands for: for one on a face, those inside."""
        end = resolved(self.session.drive, End(self.card, name))
        return end.card, end.port

    def _text(self, card: Card, value: Value) -> str:
        key, name = self._behind(value.name)
        return (self.session.drive.cards[key] if card.face is not None else card).values.get(name, value.default)

    def _line(self, text: str, symbol: str, field: Field, unit_text: str) -> QHBoxLayout:
        name = Elided(text)
        sign = label("" if symbol == text else symbol)
        sign.setStyleSheet(f"font-style: italic; color: {colour('muted').name()};")
        unit = label(unit_text, "muted")
        unit.setFixedWidth(44)
        if field.minimumWidth() <= 92:
            field.setFixedWidth(96)
        line = row(name, sign, field, unit)
        line.setStretch(0, 1)
        return line

    def _combo(self, name: str, options, now: str, chosen) -> QComboBox:
        box = QComboBox()
        box.setAccessibleName(name)
        box.setFixedHeight(26)
        box.setMinimumWidth(190)
        for stored, text in options:
            box.addItem(text, stored)
        box.setCurrentIndex(max(0, box.findData(now)))
        box.activated.connect(lambda _: chosen(box.currentData()))
        return box

    def _build_starts(self, kind: Kind) -> None:
        assert isinstance(kind, Part)
        self.body.addWidget(
            wrapped("Values at the beginning of a run. States that are tied to others follow from them.", "muted")
        )
        card = self.session.drive.cards[self.card]
        for state in kind.states:
            field = Field(card.starts.get(state.name, "0"), f"Start of {state.label}")
            field.more[VARY] = lambda n=f"{self.card}.{START}{state.name}": self.session.vary_wanted.emit(n)
            field.committed.connect(
                lambda text, n=state.name: self.session.attempt(
                    lambda: commands.set_start(self.session.drive, self.card, n, text)
                )
            )
            self.fields[f"start:{state.name}"] = field
            self.body.addLayout(self._line(sentence_case(state.label), state.name, field, state.unit))
            self.notes[f"start:{state.name}"] = wrapped("", "wrong")
            self.body.addWidget(self.notes[f"start:{state.name}"])

    def _build_profile(self, kind: Kind) -> None:
        assert kind.has_profile is not None
        self.profile_editor = ProfileEditor(self.session, self.card, *kind.has_profile)
        self.body.addWidget(self.profile_editor)

    def _build_rows(self, kind: Kind) -> None:
        assert kind.rows is not None
        self.rows_editor = RowsEditor(self.session, self.card, kind.rows)
        self.body.addWidget(self.rows_editor)

    def _build_flux(self, kind: Kind) -> None:
        from pendel.app.drive.editors.flux_editor import FluxEditor  # slow to load, and seldom needed

        self.flux_editor = FluxEditor(self.session, self.card)
        self.body.addWidget(self.flux_editor)

    def _build_face(self, kind: Kind) -> None:
        self.face_editor = FaceEditor(self.session, self.card)
        self.face_editor.status_message.connect(self.status_message)
        self.body.addWidget(self.face_editor)

    def _build_code(self, kind: Kind) -> None:
        self.code_editor = CodeEditor(self.session, self.card)
        self.body.addWidget(self.code_editor)

    def _build_own(self, kind: Kind) -> None:
        self.own_editor = OwnEditor(self.session, self.card)
        self.body.addWidget(self.own_editor)

    # following the drive ---------------------------------------------------------

    def _update_card(self) -> None:
        session, kind = self.session, self._kind()
        if kind is None or self.card not in session.drive.cards:
            return
        card = session.drive.cards[self.card]
        if self.name_field is not None:
            self.name_field.show_text(card.name)
        for name, field in self.fields.items():
            if name.startswith("start:"):
                field.show_text(card.starts.get(name[6:], "0"))
            else:
                value = kind.value(name)
                if value is not None:
                    field.show_text(self._text(card, value))
                    field.show_usual(usual := self._is_usual(value))
                    if usual:
                        field.more.pop(USUAL, None)
                    else:
                        field.more[USUAL] = lambda n=name: self._take_usual(n)
                    self._show_evaluated(value, self._text(card, value))
            self._mark(name, session.examined.finding_at(*self._behind(name)))
        if self.follow_box is not None:
            self._show_follows(kind)
        if self.profile_editor is not None:
            self.profile_editor.refresh()
        if self.own_editor is not None:
            self.own_editor.refresh()
        for editor in (self.face_editor, self.rows_editor, self.flux_editor, self.code_editor):
            if editor is not None:
                editor.refresh()
        self._show_findings()
        self._show_signals(kind)

    def _show_evaluated(self, value: Value, text: str) -> None:
        """Below an expression, what it comes to."""
        note = self.notes[value.name]
        card, name = self._behind(value.name)
        note.setObjectName("muted")
        words = what_it_comes_to(self.session, card, name, value.unit, text)
        note.setVisible(bool(words))
        note.setText(words)

    def _mark(self, name: str, finding: Finding | None) -> None:
        self.fields[name].mark(finding.sentence if finding else "")
        note = self.notes.get(name)
        if note is None:
            return
        if finding:
            note.setObjectName("wrong")
            note.setStyleSheet(f"color: {colour('brass_text').name()}; font-size: 11px;")
            note.setText(finding.sentence.split(": ", 1)[-1])
            note.show()
        else:
            note.setStyleSheet(f"color: {colour('muted').name()}; font-size: 11px;")
            if note.objectName() == "wrong":
                note.hide()

    def _show_follows(self, kind: Kind) -> None:
        assert self.follow_box is not None and kind.follows is not None
        follows, card = kind.follows, self.session.drive.cards[self.card]
        clear(self.follow_box)
        values = self.session.examined.values.get(self.card, {})
        try:
            figures = self.session.slow_work.known(lambda: follows(values, card)) or []
        except (RunProblem, ArithmeticError, LookupError, RuntimeError, TypeError, ValueError, ExpressionProblem):
            figures = []
        for f in figures:
            unit = signal_unit(self.session.drive, End(self.card, f.at)) if f.at else f.unit
            self.follow_box.addLayout(figure_row(f.label, f.symbol, figure(f.value, unit)))
        if self.curve_view is not None and kind.curve is not None and figures:
            try:
                curve = kind.curve(values, card)
            except (ArithmeticError, LookupError, RuntimeError, TypeError, ValueError):
                curve = None
            if curve is not None:
                self.curve_view.show_curve(curve)

    def _show_findings(self) -> None:
        clear(self.finding_box)
        held = with_members(self.session.drive, [self.card])
        for finding in (f for f in self.session.findings if f.card in held):
            self.finding_box.addWidget(FindingCard(finding, self.session))

    def _show_signals(self, kind: Kind) -> None:
        clear(self.signal_box)
        run = self.session.last_run
        if run is None:
            return
        held = with_members(self.session.drive, [self.card])
        keys = [k for k in run.keys if k.partition(".")[0] in held][:5]
        if not keys or not self.session.evaluator.ready(run, keys):
            return
        self.signal_box.addSpacing(6)
        self.signal_box.addWidget(rule())
        self.signal_box.addWidget(label(f"Signals of {run.name}", "heading"))
        for n, key in enumerate(keys):
            inner = self.session.drive.cards[key.partition(".")[0]].name if len(held) > 1 else ""
            name = Elided(f"{inner} {run.trace(key).label}".strip())
            value = label(shown.figure_of(run, key, self.session.cursor_time))
            value.setMinimumWidth(78)
            value.setAlignment(Qt.AlignmentFlag.AlignRight)
            line = row(name, Spark(spark(run, key), trace_colour(n), 96), value)
            line.setStretch(0, 1)
            self.signal_box.addLayout(line)
