"""In detail: a stretch of a trip in the drive that an envelope was made of, which opens in this window."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QComboBox, QDialog, QDialogButtonBox, QGridLayout, QLineEdit, QWidget

from pendel.app.session.session import Session
from pendel.app.widgets.basic import column, label, wrapped
from pendel.core.drive.document import Drive
from pendel.core.envelope.closer import LONGEST, in_detail, with_origin
from pendel.core.errors import DriveProblem, ExpressionProblem, FileProblem
from pendel.core.quantities.expressions import value_in_field
from pendel.core.quantities.named import Names
from pendel.core.quantities.units import figure
from pendel.core.runs.record.kept import KeptRun
from pendel.core.vocabulary.levels import OURS

WORDS = (
    "The drive that a card was made of, on a bench, led through the speed and torque of a stretch of the latest run. "
    "It begins half a second before, held at the first of them, and opens here as a drive of its own."
)
NOTHING = (
    "No card of this drive was made of another one. In a detailed drive choose Run, Make envelope …, and paste the "
    "card that it makes here."
)
SHORT = 0.5
"""s that are offered where the cursors say nothing."""


class CloserDialog(QDialog):
    """``take`` opens what comes of it, and runs it. ``span`` is that of the cursors (s), where there are some."""

    def __init__(
        self, session: Session, span: tuple[float, float] | None, take: Callable[[Drive], None], parent: QWidget
    ):
        super().__init__(parent)
        self.session, self.take = session, take
        self.setWindowTitle("In detail")
        self.resize(460, 300)
        body = column(self, (16, 14, 16, 14), 8)
        cards = with_origin(session.drive)
        self.words = wrapped(WORDS if cards else NOTHING, "muted")
        body.addWidget(self.words)
        grid = QGridLayout()
        self.card, self.level = QComboBox(), QComboBox()
        for key in cards:
            self.card.addItem(session.drive.cards[key].name, key)
        chosen = [key for key in session.selection if key in cards]
        self.card.setCurrentIndex(max(0, self.card.findData(chosen[0]) if chosen else 0))
        for level in OURS:
            self.level.addItem(level.capitalize(), level)
        self.level.setCurrentIndex(1)
        begin, end = self._offered(span)
        self.begin, self.end = QLineEdit(figure(begin, "s", 6)), QLineEdit(figure(end, "s", 6))
        rows = (("Part", self.card), ("From", self.begin), ("To", self.end), ("Level", self.level))
        for line, (words, field) in enumerate(rows):
            field.setAccessibleName(words)
            grid.addWidget(label(words, "muted"), line, 0)
            grid.addWidget(field, line, 1)
        for field in (self.begin, self.end):
            field.setAlignment(Qt.AlignmentFlag.AlignRight)
        grid.setColumnStretch(1, 1)
        body.addLayout(grid)
        self.said = wrapped("", "wrong")
        self.said.hide()
        body.addWidget(self.said)
        body.addStretch(1)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Cancel)
        self.open_button = buttons.addButton("Open and run", QDialogButtonBox.ButtonRole.AcceptRole)
        assert self.open_button is not None
        self.open_button.setEnabled(bool(cards))
        buttons.accepted.connect(self.look)
        buttons.rejected.connect(self.reject)
        body.addWidget(buttons)

    def _offered(self, span: tuple[float, float] | None) -> tuple[float, float]:
        run = self.session.last_run
        if run is None:
            return 0.0, SHORT
        begin, end = span or (run.begin, run.end)
        begin = min(max(begin, run.begin), run.end)
        if not 0 < end - begin <= LONGEST or (begin, end) == (run.begin, run.end):
            begin, end = min(begin, max(run.begin, run.end - SHORT)), min(begin + SHORT, run.end)
        return begin, end

    def look(self) -> None:
        try:
            made = self._made()
        except (DriveProblem, ExpressionProblem, FileProblem) as problem:
            self.said.setText(str(problem))
            self.said.show()
            return
        self.accept()
        self.take(made)

    def _made(self) -> Drive:
        """Raises `DriveProblem`, `ExpressionProblem`, `FileProblem`."""
        run: KeptRun | None = self.session.last_run
        if run is None:
            raise DriveProblem("There is no run yet. Press Ctrl+R once, then try again.")
        begin, end = (value_in_field(field.text(), "s", Names({})) for field in (self.begin, self.end))
        folder = self.session.path.parent if self.session.path is not None else None
        made = in_detail(self.session.drive, run, str(self.card.currentData()), begin, end, folder)
        made.settings["level"] = str(self.level.currentData())
        return made
