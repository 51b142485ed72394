"""The series of a drive, and what varies in the one that is shown."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace

from PyQt6.QtCore import QSignalBlocker, QStringListModel, Qt, pyqtSignal
from PyQt6.QtWidgets import (
    QComboBox,
    QCompleter,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QVBoxLayout,
    QWidget,
)

from pendel.app.session.session import Session
from pendel.app.widgets.basic import Elided, Field, button, clear, column, label, row, rule, scrolled, wrapped
from pendel.app.widgets.table_dialog import taken_from_file
from pendel.core.catalogue.declare import Block
from pendel.core.catalogue.index import known_kind
from pendel.core.check.targets import Target, target, targets
from pendel.core.drive import commands
from pendel.core.drive.document import Drive
from pendel.core.drive.plans import COMBINED, SAMPLED, WAYS, Plan, Varied
from pendel.core.drive.user_text import near_words, parted
from pendel.core.errors import DriveProblem, PendelError
from pendel.core.quantities.stepping import own_unit
from pendel.core.runs.preparing.simulate import signal_infos
from pendel.core.series.columns import known_functions, read_column
from pendel.core.series.loop_figures import MARGINS
from pendel.core.series.points import points_of

WAY_WORDS = {
    "list": "list",
    "even": "even",
    "ratio": "by ratio",
    "uniform": "uniform",
    "normal": "normal",
    "corners": "two ends",
}
HINTS = {
    "list": "3 ohm, 4 ohm, 5 ohm",
    "even": "from, to, count",
    "ratio": "from, to, count",
    "uniform": "from, to",
    "normal": "mean, deviation, cut at … deviations",
    "corners": "low, high",
}
FROM_FILE = "file"
MOST_TYPED = 100
"""Values that are shown as text; of more, as those of a file, how many there are."""
FIRST_FIGURES = ("overshoot", "settling", "rms", "peak")


class Searched(QLineEdit):
    """A line that is completed by any part of what there is; ``chosen`` gives what was typed, and it is empty again."""

    chosen = pyqtSignal(str)

    def __init__(self, name: str, hint: str):
        super().__init__()
        self.setAccessibleName(name)
        self.setPlaceholderText(hint)
        self.setFixedHeight(26)
        self._words = QStringListModel(self)
        self._names: dict[str, str] = {}
        completer = QCompleter(self._words, self)
        completer.setFilterMode(Qt.MatchFlag.MatchContains)
        completer.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
        completer.activated.connect(self._take)
        self.setCompleter(completer)
        self.returnPressed.connect(lambda: self._take(self.text()))

    def offer(self, names: Mapping[str, str]) -> None:
        """Names by the words that are shown for each."""
        if names != self._names:
            self._names = dict(names)
            self._words.setStringList(list(names))

    def _take(self, words: str) -> None:
        if words.strip():
            self.chosen.emit(self._names.get(words, words.strip()))
        self.clear()


class PlanPanel(QWidget):
    """``chosen`` gives the name of a series; ``start_wanted`` begins it, pauses it, or goes on."""

    chosen = pyqtSignal(str)
    start_wanted = pyqtSignal()
    anew_wanted = pyqtSignal()

    def __init__(self, session: Session):
        super().__init__()
        self.session = session
        self.name = ""
        self.setObjectName("side")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedWidth(268)
        inner = QWidget()
        column(self, (0, 0, 0, 0)).addWidget(scrolled(inner))
        inside = column(inner, (10, 12, 10, 12), 4)
        inside.addWidget(label("Series of this drive", "heading"))
        self.list = QListWidget()
        self.list.setAccessibleName("Series of this drive")
        self.list.setToolTip("F2 renames, Delete removes")
        self.list.setEditTriggers(QListWidget.EditTrigger.EditKeyPressed)
        self.list.currentItemChanged.connect(lambda item, _: self._choose(item))
        self.list.itemChanged.connect(self._renamed)
        inside.addWidget(self.list)
        self.new_button = button("New series", self.add, "small")
        self.copy_button = button("Duplicate", self.duplicate, "small")
        self.remove_button = button("Delete", self.remove, "small")
        inside.addLayout(row(self.new_button, self.copy_button, self.remove_button, 1, spacing=4))
        inside.addSpacing(6)
        inside.addWidget(rule())
        self.editor = QWidget()
        inside.addWidget(self.editor)
        self._build_editor()
        self.problem = wrapped("", "wrong")
        inside.addWidget(self.problem)
        self.state = wrapped("", "muted")
        inside.addWidget(self.state)
        self.start_button = button("Run the series", self.start_wanted.emit, "primary")
        inside.addWidget(self.start_button)
        self.workers = QLineEdit()
        self.workers.setAccessibleName("Where rows run")
        self.workers.setPlaceholderText("here; or tcp://host:port, local:4")
        self.workers.setToolTip("Empty runs rows here. The address of a Dask scheduler, or local:N for so many workers")
        inside.addLayout(row(label("runs on", "muted"), self.workers, spacing=6))
        self.anew_button = button("Start anew", self.anew_wanted.emit)
        self.anew_button.setToolTip("With the drive as it is now; the rows that are there go")
        inside.addWidget(self.anew_button)
        inside.addStretch(1)

    def _build_editor(self) -> None:
        inside = column(self.editor, (0, 0, 0, 0), 4)
        inside.addWidget(label("What varies", "heading"))
        self.varied = QVBoxLayout()
        self.varied.setSpacing(6)
        inside.addLayout(self.varied)
        self.vary = Searched("What else varies", "vary … (name, card, setting)")
        self.vary.chosen.connect(self.add_varied)
        inside.addWidget(self.vary)
        self.combined = QComboBox()
        self.combined.setAccessibleName("How it is combined")
        for words in COMBINED:
            self.combined.addItem(words)
        self.combined.activated.connect(lambda _: self._change(combined=self.combined.currentText()))
        inside.addLayout(row(label("combined", "muted"), 1, self.combined))
        self.count = Field("64", "Number of runs", 64)
        self.count.committed.connect(lambda text: self._change(count=text))
        self.count_row = QWidget()
        column(self.count_row, (0, 0, 0, 0)).addLayout(row(label("runs", "muted"), 1, self.count))
        inside.addWidget(self.count_row)
        self.seed = Field("1", "Seed", 64)
        self.seed.setToolTip("Of sampled points and of random sources: each row has its own, and keeps it")
        self.seed.committed.connect(lambda text: self._change(seed=text))
        inside.addLayout(row(label("seed", "muted"), 1, self.seed))
        inside.addSpacing(4)
        inside.addWidget(label("Reported for each run", "heading"))
        self.figures = QVBoxLayout()
        self.figures.setSpacing(4)
        inside.addLayout(self.figures)
        self.figure = Searched("Another figure", "figure … (max, rms, overshoot)")
        self.figure.chosen.connect(self.add_figure)
        inside.addWidget(self.figure)
        inside.addSpacing(4)
        inside.addWidget(label("Traces kept of each run", "heading"))
        self.traces = QVBoxLayout()
        self.traces.setSpacing(4)
        inside.addLayout(self.traces)
        self.trace = Searched("Another trace", "trace … (card, signal)")
        self.trace.setToolTip("What is seen of a signal in a picture, to lay the rows' traces on each other")
        self.trace.chosen.connect(self.add_trace)
        inside.addWidget(self.trace)

    # following the drive ---------------------------------------------------------

    @property
    def plan(self) -> Plan | None:
        return self.session.drive.plans.get(self.name)

    def follow(self) -> None:
        """Show the drive's series, and the chosen one."""
        plans = self.session.drive.plans
        if self.name not in plans:
            self.name = next(iter(plans), "")
            self.chosen.emit(self.name)
        with QSignalBlocker(self.list):
            self.list.clear()
            for name in plans:
                item = QListWidgetItem(name)
                item.setData(Qt.ItemDataRole.UserRole, name)
                item.setFlags(item.flags() | Qt.ItemFlag.ItemIsEditable)
                self.list.addItem(item)
                if name == self.name:
                    self.list.setCurrentItem(item)
        self.list.setVisible(bool(plans))
        self.list.setFixedHeight(min(6, max(1, len(plans))) * 22 + 6)
        self._fill()

    def _fill(self) -> None:
        plan = self.plan
        for widget in (self.editor, self.start_button, self.copy_button, self.remove_button):
            widget.setVisible(plan is not None)
        for rows in (self.varied, self.figures, self.traces):
            clear(rows)
        self.problem.setText("")
        if plan is None:
            self.state.setText(
                "A series runs the drive many times with values that vary, and tells figures of each run. Begin with "
                "New series."
            )
            self.anew_button.setVisible(False)
            return
        for place, varied in enumerate(plan.varied):
            self.varied.addWidget(self._varied_box(place, varied))
        for place, text in enumerate(plan.measures):
            self.figures.addLayout(self._figure_row(place, text))
        for name in plan.traces:
            self.traces.addLayout(self._trace_row(name))
        self.combined.setCurrentText(plan.combined)
        self.count_row.setVisible(plan.combined in SAMPLED)
        self.count.show_text(plan.count)
        self.seed.show_text(plan.seed)
        self._offer()

    def _offer(self) -> None:
        drive = self.session.drive
        self.vary.offer({f"{each.name} · {each.title}": each.name for each in targets(drive)})
        infos = signal_infos(drive)
        titles = known_functions()
        words = {}
        for key, info in infos.items():
            for function in ("max", "min", "peak", "mean", "rms", "ripple", "last", *FIRST_FIGURES[:2]):
                words[f"{function}({key}) · {titles[function]} of {info.card} {info.label}"] = f"{function}({key})"
        for name in ("lost", "supplied", "delivered", "efficiency", "remarks"):
            words[f"{name}() · {titles[name]}"] = f"{name}()"
        for key in regulators(drive):
            words |= {f"{name}({key}) · {titles[name]}": f"{name}({key})" for name in MARGINS}
        self.figure.offer(words)
        self.trace.offer({f"{key} · {info.card} {info.label}": key for key, info in infos.items()})

    def _varied_box(self, place: int, varied: Varied) -> QWidget:
        box = QWidget()
        box.setObjectName("figure_box")
        inside = column(box, (0, 0, 0, 0), 2)
        known: Target | None = None
        try:
            known = target(self.session.drive, varied.target)
        except DriveProblem as problem:
            self.problem.setText(str(problem))
        title = Elided(varied.target)
        title.setToolTip(f"{known.title}, now {known.text}" if known is not None else "not in the drive")
        out = button("×", lambda: self._change_varied(place, None), "small")
        out.setFixedWidth(24)
        out.setAccessibleName(f"Leave {varied.target} out")
        head = row(title, out)
        head.setStretch(0, 1)
        inside.addLayout(head)
        way = QComboBox()
        way.setAccessibleName(f"How {varied.target} varies")
        for name in WAYS if known is None or not known.options else ("list",):
            way.addItem(WAY_WORDS[name], name)
        if known is None or not known.options:
            way.addItem("from a file …", FROM_FILE)
        way.setCurrentIndex(max(0, way.findData(varied.how)))
        way.setFixedWidth(92)
        way.activated.connect(lambda _: self._choose_way(place, varied, way))
        many = len(varied.texts) > MOST_TYPED
        words = f"{len(varied.texts)} values" if many else ", ".join(varied.texts)
        texts = Field(words, f"Values of {varied.target}", 60)
        texts.setReadOnly(many)
        texts.setAlignment(Qt.AlignmentFlag.AlignLeft)
        options = ", ".join(known.options) if known is not None and known.options else HINTS[varied.how]
        texts.setPlaceholderText(options)
        texts.setToolTip(f"{varied.texts[0]} … {varied.texts[-1]}" if many else options)
        texts.committed.connect(lambda text: self._change_varied(place, replace(varied, texts=parts_of(text))))
        line = row(way, texts, spacing=4)
        line.setStretch(1, 1)
        inside.addLayout(line)
        return box

    def _figure_row(self, place: int, text: str):  # type: ignore[no-untyped-def]
        line = Field(text, f"Figure {place + 1}", 120)
        line.setAlignment(Qt.AlignmentFlag.AlignLeft)
        line.setToolTip(
            f"{text}\nA function of a signal, for a response with the setpoint it follows, between two times or events "
            "(start, end, load_step, setpoint_step, when_max(signal), reaches(signal, value)); and what is reckoned "
            "from such figures"
        )
        line.committed.connect(lambda new: self.change_figure(place, new))
        out = button("×", lambda: self.change_figure(place, ""), "small")
        out.setFixedWidth(24)
        out.setAccessibleName(f"Leave figure {place + 1} out")
        whole = row(line, out, spacing=4)
        whole.setStretch(0, 1)
        return whole

    def _trace_row(self, name: str) -> QHBoxLayout:
        out = button("×", lambda: self._leave_trace(name), "small")
        out.setFixedWidth(24)
        out.setAccessibleName(f"Keep no trace of {name}")
        whole = row(Elided(name), out, spacing=4)
        whole.setStretch(0, 1)
        return whole

    # edits -----------------------------------------------------------------------

    def _do(self, make: Callable[[], commands.Command]) -> None:
        self.session.attempt(make)

    def _choose(self, item: QListWidgetItem | None) -> None:
        if item is not None and item.data(Qt.ItemDataRole.UserRole) != self.name:
            self.show_series(item.data(Qt.ItemDataRole.UserRole))

    def show_series(self, name: str) -> None:
        self.name = name
        self.follow()
        self.chosen.emit(name)

    def _renamed(self, item: QListWidgetItem) -> None:
        old, new = item.data(Qt.ItemDataRole.UserRole), item.text()
        if new != old:
            self.name = new.strip() if new.strip() not in self.session.drive.plans and new.strip() else self.name
            self._do(lambda: commands.rename_plan(self.session.drive, old, new))

    def rename(self) -> None:
        if (item := self.list.currentItem()) is not None:
            self.list.editItem(item)

    def free_name(self, stem: str) -> str:
        number = 1
        while f"{stem} {number}" in self.session.drive.plans:
            number += 1
        return f"{stem} {number}"

    def add(self) -> None:
        """A new series; it is shown."""
        self.name = self.free_name("Series")
        self._do(lambda: commands.set_plan(self.session.drive, self.name, Plan()))
        self.chosen.emit(self.name)
        self.vary.setFocus()

    def duplicate(self) -> None:
        if (plan := self.plan) is not None:
            self.name = self.free_name(self.name.rstrip(" 0123456789") or "Series")
            self._do(lambda: commands.set_plan(self.session.drive, self.name, plan))
            self.chosen.emit(self.name)

    def remove(self) -> None:
        if self.plan is not None:
            self._do(lambda: commands.remove_plan(self.session.drive, self.name))

    def _change(self, **fields: object) -> None:
        if (plan := self.plan) is not None:
            after = replace(plan, **fields)  # type: ignore[arg-type]
            self._do(lambda: commands.set_plan(self.session.drive, self.name, after))

    def add_varied(self, name: str) -> None:
        """Let something vary: from 80 to 120 % of what it is, where it is a figure."""
        if self.plan is None:
            self.add()
        plan = self.plan
        if plan is None:
            return
        try:
            of = target(self.session.drive, name)
        except DriveProblem as problem:
            self.problem.setText(str(problem))
            return
        varied = Varied(name, "list", tuple(of.options)) if of.options else Varied(name, "list", (of.text or "0",))
        self._change(varied=(*plan.varied, varied))

    def _change_varied(self, place: int, varied: Varied | None) -> None:
        if (plan := self.plan) is not None and place < len(plan.varied):
            kept = [*plan.varied[:place], *([varied] if varied is not None else []), *plan.varied[place + 1 :]]
            self._change(varied=tuple(kept))

    def _choose_way(self, place: int, varied: Varied, way: QComboBox) -> None:
        if way.currentData() != FROM_FILE:
            self._change_varied(place, replace(varied, how=way.currentData()))
            return
        way.setCurrentIndex(max(0, way.findData(varied.how)))
        self.take_from_file(place, varied)

    def take_from_file(self, place: int, varied: Varied, path: str = "") -> None:
        """Let something take the values of a column of a file, one after the other."""
        try:
            of = target(self.session.drive, varied.target)
            taken = taken_from_file(self, [(varied.target, own_unit(of.text) or of.unit or "")], path)
        except PendelError as problem:
            self.problem.setText(str(problem))
            return
        if taken is not None:
            texts = tuple(text for (text,) in taken[0])
            known = varied.texts if taken[1] and varied.how == "list" else ()
            self._change_varied(place, Varied(varied.target, "list", known + texts))

    def add_figure(self, text: str) -> None:
        if (plan := self.plan) is not None and self._is_figure(text):
            self._change(measures=(*plan.measures, text))

    def change_figure(self, place: int, text: str) -> None:
        """Write another figure, or none."""
        plan = self.plan
        if plan is None or place >= len(plan.measures) or (text.strip() and not self._is_figure(text)):
            return
        kept = [*plan.measures[:place], *([text.strip()] if text.strip() else []), *plan.measures[place + 1 :]]
        self._change(measures=tuple(kept))

    def add_trace(self, name: str) -> None:
        """Keep the trace of another signal."""
        plan = self.plan
        if plan is None or name in plan.traces:
            return
        if name not in (known := signal_infos(self.session.drive)):
            self.problem.setText(f"No signal is called {name}.{near_words(name, known)}")
            return
        self._change(traces=(*plan.traces, name))

    def _leave_trace(self, name: str) -> None:
        if (plan := self.plan) is not None:
            self._change(traces=tuple(each for each in plan.traces if each != name))

    def _is_figure(self, text: str) -> bool:
        try:
            read_column(text)
        except PendelError as problem:
            self.problem.setText(str(problem))
            return False
        return True

    def count_words(self) -> str:
        """How many runs the plan makes, or why none."""
        plan = self.plan
        if plan is None:
            return ""
        try:
            count = points_of(self.session.drive, plan).count
        except PendelError as problem:
            self.problem.setText(str(problem) if plan.varied else "")
            return ""
        return f"{count} run{'' if count == 1 else 's'}"


def regulators(drive: Drive) -> list[str]:
    """Cards that regulate, with the axis where one has several, as figures of loops name them."""
    blocks = ((key, known_kind(card)) for key, card in drive.cards.items())
    return [
        f"{key}.{each.out}" if each.axis else key
        for key, kind in blocks
        if isinstance(kind, Block)
        for each in kind.regulates
    ]


def parts_of(text: str) -> tuple[str, ...]:
    """Texts apart by commas, but for those in brackets."""
    return tuple(part.strip() for part in parted(text, ",") if part.strip())
