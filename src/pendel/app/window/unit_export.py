"""A drive, its plant or its controller as a unit for other simulators: what is chosen, and its writing."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QButtonGroup,
    QDialog,
    QDialogButtonBox,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QRadioButton,
    QWidget,
)

from pendel.app.session.jobs import EXPORT_UNIT, LOOK_AT_UNIT, End, Job
from pendel.app.session.session import Session
from pendel.app.session.trust import may_run
from pendel.app.widgets.asked_path import asked_path
from pendel.app.widgets.basic import Field, column, label, row, wrapped
from pendel.core.drive.document import Drive
from pendel.core.quantities.units import figure

if TYPE_CHECKING:
    from pendel.core.fmu.variables import Unit

CHOICES = {
    "drive": ("Drive", "plant and controller: it needs no inputs"),
    "plant": ("Plant", "machines, converters and loads: what the converters are to do comes in"),
    "controller": ("Controller", "sensors and blocks: what is measured comes in"),
}
NAME = Qt.ItemDataRole.UserRole


@dataclass(frozen=True)
class Wish:
    """``step`` is as typed; empty for that of the controller."""

    what: str
    inputs: tuple[str, ...] = ()
    step: str = ""


class UnitExport(QDialog):
    """Chooses and writes. All that needs the equations is done in jobs."""

    def __init__(self, session: Session, parent: QWidget):
        super().__init__(parent)
        self.session = session
        self.drive: Drive = session.drive.copy()
        self.setWindowTitle("Export for other simulators")
        self.resize(640, 580)
        body = column(self, (18, 16, 18, 14), 8)
        words = "One file for co-simulation (FMI 3.0) with all equations in it, for use where Pendel is not."
        body.addWidget(wrapped(words, "muted"))
        self.choices = QButtonGroup(self)
        self.radios: dict[str, QRadioButton] = {}
        for name, (title, what) in CHOICES.items():
            radio = self.radios[name] = QRadioButton(title)
            radio.setFixedWidth(96)
            radio.toggled.connect(lambda on: self._look() if on else None)
            self.choices.addButton(radio)
            body.addLayout(row(radio, label(what, "muted"), 1))
        self.step = Field("", "Step", 110)
        self.step.committed.connect(lambda _: self._look())
        self.step_words = label("", "muted")
        body.addLayout(row(label("Step"), self.step, self.step_words, 1))
        self.search = QLineEdit()
        self.search.setPlaceholderText("Search")
        self.search.setAccessibleName("Search values")
        self.search.setClearButtonEnabled(True)
        self.search.setFixedWidth(170)
        self.search.textChanged.connect(lambda _: self._filter())
        body.addLayout(row(label("Also to come from outside"), 1, self.search))
        self.list = QListWidget()
        self.list.setAccessibleName("Values and profiles that come from outside")
        self.list.itemChanged.connect(lambda _: self._look())
        body.addWidget(self.list, 1)
        self.summary, self.problem = wrapped(""), wrapped("", "wrong")
        body.addWidget(self.summary)
        body.addWidget(self.problem)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Cancel)
        self.export = QPushButton("Export …")
        self.export.setDefault(True)
        self.export.clicked.connect(lambda: self.write())
        buttons.addButton(self.export, QDialogButtonBox.ButtonRole.ActionRole)
        buttons.rejected.connect(self.reject)
        body.addWidget(buttons)
        self.written = ""
        self._job: Job | None = None
        self.finished.connect(lambda _: self._job.stop() if self._job else None)
        self.radios["drive"].setChecked(True)

    def items(self) -> list[QListWidgetItem]:
        return [item for n in range(self.list.count()) if (item := self.list.item(n)) is not None]

    def wish(self) -> Wish:
        what = next(n for n, radio in self.radios.items() if radio.isChecked())
        inputs = tuple(str(i.data(NAME)) for i in self.items() if i.checkState() is Qt.CheckState.Checked)
        return Wish(what, inputs, self.step.text().strip() if self.step.isEnabled() else "")

    def _look(self) -> None:
        """What the unit would be."""
        wish, drive = self.wish(), self.drive
        self.export.setEnabled(False)
        self._job = self.session.jobs.start(LOOK_AT_UNIT, lambda job: unit_of(drive, wish), self._show, at_once=0.03)
        if self._job.end is None:
            self.summary.setText("Looking at the drive …")

    def _show(self, job: Job) -> None:
        if job.end is End.STOPPED:
            return  # a newer look follows, or the dialog is closed
        self.problem.setText(job.sentence)
        if job.end is End.FAILED:
            self.summary.setText("")
            return
        unit: Unit = job.result
        self.export.setEnabled(True)
        self._offer(unit)
        self.step.setEnabled(unit.free_step)
        rhythm = figure(unit.tick, "s")
        if not unit.free_step:
            self.step.show_text("")
        self.step.setPlaceholderText(rhythm)
        self.step_words.setText("from tick to tick" if unit.free_step else "as long as a tick of the controller")
        counts = {
            "input": sum(v.is_input for v in unit.variables),
            "parameter": sum(v.is_parameter for v in unit.variables),
            "signal": sum(v.is_result for v in unit.variables),
        }
        words = ", ".join(f"{n} {name}{'' if n == 1 else 's'}" for name, n in counts.items())
        self.summary.setText(f"{words}, all in SI units; ticks of {rhythm}.")

    def _offer(self, unit: Unit) -> None:
        """List what may come from outside. A list of the same names stays as it is."""
        offered = unit.offered
        if [str(i.data(NAME)) for i in self.items()] == list(offered):
            return
        self.list.blockSignals(True)
        self.list.clear()
        for name, words in offered.items():
            item = QListWidgetItem(f"{words}   {name}")
            item.setData(NAME, name)
            item.setFlags(Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsUserCheckable | Qt.ItemFlag.ItemIsSelectable)
            item.setCheckState(Qt.CheckState.Checked if name in unit.names else Qt.CheckState.Unchecked)
            self.list.addItem(item)
        self.list.blockSignals(False)
        self._filter()

    def _filter(self) -> None:
        words = self.search.text().lower().split()
        for item in self.items():
            item.setHidden(not all(word in item.text().lower() for word in words))

    def write(self, path: str = "") -> None:
        """Write the unit, to a file that is asked for."""
        if not may_run(self.session, self):
            return
        proposed = (self.session.path or Path("drive")).with_suffix(".fmu")
        path = path or asked_path(self, "Export", str(proposed), {".fmu": "Unit for co-simulation"})
        if not path:
            return
        wish, drive = self.wish(), self.drive
        self.export.setEnabled(False)
        self.problem.setText("")
        self.summary.setText("Building …")
        self._job = self.session.jobs.start(EXPORT_UNIT, lambda job: write_unit(job, drive, wish, path), self._end)

    def _end(self, job: Job) -> None:
        if job.end is End.FINISHED:
            self.written = job.result
            self.accept()
        elif job.end is End.FAILED:
            self.summary.setText("")
            self.problem.setText(job.sentence)
            self.export.setEnabled(True)


def unit_of(drive: Drive, wish: Wish) -> Unit:
    """What is wished, but for inputs that this part of the drive does not have."""
    from pendel.core.drive.user_text import read_figure
    from pendel.core.fmu.variables import Unit, What, prepared_for  # slow to load, and not needed to start

    step = read_figure(drive, wish.step, "ms", 0.0) if wish.step else None
    what = What(wish.what)
    plain = Unit(prepared_for(drive, what), what)
    step = step if plain.free_step else None
    return Unit(plain.prepared, plain.what, [name for name in wish.inputs if name in plain.offered], step)


def write_unit(job: Job, drive: Drive, wish: Wish, path: str) -> str:
    from pendel.core.files.writing import write_atomically
    from pendel.core.fmu.export import archive_of  # slow to load, and not needed to start

    content = archive_of(unit_of(drive, wish))
    if not job.stopping:
        write_atomically(Path(path), content)
    return path


__all__ = ["UnitExport"]
