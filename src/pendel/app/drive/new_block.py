"""A new own block: what it is called, how it is written, its ports, values and what it remembers."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtWidgets import (
    QButtonGroup,
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QPushButton,
    QRadioButton,
    QTableWidget,
    QWidget,
)

from pendel.app.drive.editors.text_table import TextTable
from pendel.app.session.session import Session
from pendel.app.widgets.basic import Field, column, label, row, wrapped
from pendel.core.catalogue import own_block
from pendel.core.catalogue.card_names import names_of
from pendel.core.check.formats import FORMATS
from pendel.core.controllers.numbers.representation import NumberFormat
from pendel.core.drive import commands
from pendel.core.drive.document import OwnEquations
from pendel.core.errors import DriveProblem, PendelError
from pendel.core.quantities.expressions import value_in_field
from pendel.core.trust import allow

WRITTEN_IN = {
    own_block.LANGUAGE: ("block language", "assignments and decisions, checked as they are typed"),
    own_block.MODES: ("state machine", "modes: what each does, and when it changes"),
    own_block.MATRICES: ("matrices", "a linear block with several inputs and outputs"),
    own_block.C: ("C99", "in float, and in words for fixed point"),
}
WAYS = ("in", "out")


class NewBlock(QDialog):
    """Asks; `create` gives the block a frame that builds, as one step of undo."""

    def __init__(self, session: Session, place: tuple[int, int], parent: QWidget):
        super().__init__(parent)
        self.session, self.place = session, place
        self.created = ""
        """The card, once there is one."""
        self.setWindowTitle("New own block")
        self.resize(600, 640)
        body = column(self, (18, 16, 18, 14), 7)
        self.name = Field("Own block", "Name", 220)
        body.addLayout(row(label("Name"), self.name, 1))
        self.radios: dict[str, QRadioButton] = {}
        group = QButtonGroup(self)
        for kind, (title, what) in WRITTEN_IN.items():
            radio = self.radios[kind] = QRadioButton(title)
            radio.setFixedWidth(132)
            radio.toggled.connect(self._look)
            group.addButton(radio)
            body.addLayout(row(radio, label(what, "muted"), 1))
        heads = ("name", "way", "unit, if any", "lowest", "highest")
        self.ports = self._table(body, "Inputs and outputs", heads, [("x", "in"), ("y", "out")])
        ends = "What a signal lies between, for fixed point; where nothing stands it is proven or found in a run"
        for c in (3, 4):
            if (head := self.ports.horizontalHeaderItem(c)) is not None:
                head.setToolTip(ends)
        self.more = QWidget()
        inside = column(self.more, (0, 0, 0, 0), 7)
        self.values = self._table(inside, "Values", ("name", "value with its unit"), [])
        self.states = self._table(inside, "Remembered", ("name", "starts from"), [])
        body.addWidget(self.more, 2)
        self.every = Field("1", "Runs every so many ticks", 60)
        self.every.setFixedWidth(60)
        self.format = QComboBox()
        self.format.setAccessibleName("Number format as shipped")
        self.format.addItem(f"as all blocks ({session.drive.settings['number_format']})", "")
        for name in FORMATS:
            self.format.addItem(name, name)
        self.format.currentIndexChanged.connect(self._look)
        body.addLayout(row(label("Runs every"), self.every, label("ticks"), 1, label("as shipped in"), self.format))
        self.problem = wrapped("", "wrong")
        body.addWidget(self.problem)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Cancel)
        self.make = QPushButton("Create")
        self.make.clicked.connect(self.create_block)
        buttons.addButton(self.make, QDialogButtonBox.ButtonRole.ActionRole)
        buttons.rejected.connect(self.reject)
        for each in buttons.buttons():
            each.setAutoDefault(False)  # Enter takes what a field has, and there is more to fill in
        body.addWidget(buttons)
        self.name.textEdited.connect(self._look)
        self.every.textEdited.connect(self._look)
        self.radios[own_block.LANGUAGE].setChecked(True)
        self.name.setFocus()
        self.name.selectAll()

    def _table(self, body, title: str, headings: Sequence[str], rows: list[tuple[str, ...]]) -> TextTable:
        body.addWidget(label(title, "heading"))
        table = TextTable(title, headings, words=(0, 2) if len(headings) > 2 else (0,))
        table.setMinimumHeight(84)
        how = QTableWidget.EditTrigger
        table.setEditTriggers(how.DoubleClicked | how.AnyKeyPressed | how.EditKeyPressed)
        table.setTabKeyNavigation(True)
        self._show(table, rows)
        table.typed.connect(lambda *_: self._typed(table))
        body.addWidget(table, 1)
        return table

    def _show(self, table: TextTable, rows: Sequence[Sequence[str]]) -> None:
        """The rows, and an empty one to type the next into."""
        table.show_rows([*rows, [""] * table.columnCount()])
        if table.columnCount() > 2:
            for n in range(table.rowCount()):
                self._offer_ways(table, n)

    def _offer_ways(self, table: TextTable, n: int) -> None:
        item = table.item(n, 1)
        way = QComboBox()
        way.setAccessibleName("Input or output")
        way.addItems(WAYS)
        way.setCurrentText((item.text() if item is not None else "") or WAYS[0])
        way.currentTextChanged.connect(self._look)
        table.setCellWidget(n, 1, way)

    def rows(self, table: TextTable) -> list[list[str]]:
        """What stands in a table; rows without a name are none."""
        texts_of_rows = []
        for n in range(table.rowCount()):
            texts = []
            for c in range(table.columnCount()):
                way, item = table.cellWidget(n, c), table.item(n, c)
                text = way.currentText() if isinstance(way, QComboBox) else item.text() if item else ""
                texts.append(text.strip())
            if texts[0] or (any(texts) and table.columnCount() == 2):
                texts_of_rows.append(texts)
        return texts_of_rows

    def _typed(self, table: TextTable) -> None:
        last = table.item(table.rowCount() - 1, 0)
        if last is not None and last.text().strip():
            self._show(table, self.rows(table))
        self._look()

    @property
    def kind(self) -> str:
        return next(kind for kind, radio in self.radios.items() if radio.isChecked())

    def lines(self) -> OwnEquations:
        """The block as typed, with a frame that builds. Raises `PendelError`."""
        ports = tuple(f"{name}: {way}" + (f", {unit}" if unit else "") for name, way, unit, *_ in self.rows(self.ports))
        shown = (self.values, self.states) if self.kind != own_block.MATRICES else ()
        values, states, *_ = (*(tuple(f"{n} = {t}" for n, t in self.rows(each)) for each in shown), (), ())
        names = names_of(self.session.drive)
        every = value_in_field(self.every.text(), "", names)
        limits = own_block.EVERY
        if every != int(every) or not (limits.low or 1) <= every <= (limits.high or every):
            raise DriveProblem(
                f"A block cannot run every {self.every.text()} ticks. Give a whole number from 1 to {limits.high:.0f}."
            )
        own = own_block.framed(OwnEquations(ports=ports, values=values, states=states), self.kind, names)
        self._check_ranges()
        return own

    def ranges(self) -> dict[str, tuple[str, str]]:
        """Lowest and highest value of ports, as typed, where both are there."""
        return {name: (low, high) for name, _, _, low, high in self.rows(self.ports) if low and high}

    def _check_ranges(self) -> None:
        """Raise `DriveProblem` where an end is missing: one of two, or both of what typed C gives in words."""
        number = str(self.format.currentData()) or self.session.drive.settings["number_format"]
        must = self.kind == own_block.C and NumberFormat(number).fixed
        for name, way, _, low, high in self.rows(self.ports):
            if bool(low) != bool(high):
                raise DriveProblem(f"{name} has one end of its range only. Give its lowest and its highest value.")
            if must and way == "out" and not low:
                raise DriveProblem(
                    f"{name} needs a lowest and a highest value, as C tells none and {number} wants them. "
                    "Give them, or choose float32."
                )

    def _look(self, *_: object) -> None:
        """Say what is wrong as long as something is."""
        self.more.setVisible(self.kind != own_block.MATRICES)
        try:
            self.lines()
            self.problem.setText("" if self.name.text().strip() else "The block has no name. Give it one.")
        except PendelError as problem:
            self.problem.setText(str(problem))
        self.make.setEnabled(not self.problem.text())

    def create_block(self) -> None:
        self._look()
        if not self.make.isEnabled():
            return
        session, own, kind = self.session, self.lines(), self.kind
        if kind == own_block.C:
            allow([own])  # it was asked for and typed here
        every = self.every.text().strip()
        command = commands.add_card(
            session.drive,
            kind,
            self.name.text().strip(),
            *self.place,
            inside=session.inside,
            own=own,
            number_format=str(self.format.currentData()),
            ranges=self.ranges(),
            values={} if every == "1" else {"every": every},
        )
        self.created = command.changes[0].key
        session.do(command)
        session.select([self.created])
        self.accept()
