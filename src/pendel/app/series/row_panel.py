"""One row of a series, and what matters most for a figure."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from pendel.app.series.goal_box import GoalBox
from pendel.app.series.table import cell_text
from pendel.app.widgets.basic import button, clear, column, figure_row, label, rule, scrolled, wrapped
from pendel.app.widgets.theme import colour, font
from pendel.core.quantities.units import number_text
from pendel.core.series.gathered import Gathered, Share
from pendel.core.series.mattering import Slope
from pendel.core.series.rows import DONE, Row


class SharesBars(QWidget):
    """Bars of shares, with their intervals."""

    LINE, NAME = 20, 96

    def __init__(self) -> None:
        super().__init__()
        self.shares: list[Share] = []
        self.setAccessibleName("What matters most")

    def show_shares(self, shares: list[Share]) -> None:
        self.shares = shares
        self.setFixedHeight(self.LINE * len(shares) + 2)
        words = "; ".join(share_told(s) for s in shares)
        self.setAccessibleDescription(words)
        self.setToolTip(words)
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setFont(font(11))
        metrics = painter.fontMetrics()
        room = self.width() - self.NAME - 40
        for k, share in enumerate(self.shares):
            y = k * self.LINE
            painter.setPen(colour("ink"))
            name = metrics.elidedText(share.name, Qt.TextElideMode.ElideMiddle, self.NAME - 6)
            middle = Qt.AlignmentFlag.AlignVCenter
            painter.drawText(QRectF(0, y, self.NAME, self.LINE), middle, name)
            if share.total == share.total:
                whole = QRectF(self.NAME, y + 4, room * min(1.0, share.total), 12)
                painter.fillRect(whole, colour("petrol_tint"))
                painter.setPen(QPen(colour("petrol"), 1))
                painter.drawRect(whole)
            painter.fillRect(QRectF(self.NAME, y + 6, room * share.share, 8), colour("strong"))
            painter.setPen(QPen(colour("ink"), 1.2))
            for edge in (share.low, share.high):
                at = self.NAME + room * edge
                painter.drawLine(int(at), y + 7, int(at), y + 13)
            painter.drawLine(int(self.NAME + room * share.low), y + 10, int(self.NAME + room * share.high), y + 10)
            figure = QRectF(self.width() - 38, y, 38, self.LINE)
            told = share.total if share.total == share.total else share.share
            painter.drawText(figure, middle | Qt.AlignmentFlag.AlignRight, f"{told:.2f}")


def share_told(share: Share) -> str:
    words = f"{share.name} {share.share:.2f} ({share.low:.2f} to {share.high:.2f})"
    if share.total == share.total:
        words += f", in all {share.total:.2f} ({share.total_low:.2f} to {share.total_high:.2f})"
    return words


class RowPanel(QWidget):
    """``taken`` wants the values of the row in the drive, ``run_wanted`` an ordinary run of it."""

    taken = pyqtSignal()
    run_wanted = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("inspector")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedWidth(272)
        inner = QWidget()
        column(self, (0, 0, 0, 0)).addWidget(scrolled(inner))
        inside = column(inner, (16, 14, 14, 12), 6)
        self.title = label("", "title")
        self.facts = wrapped("", "muted")
        inside.addWidget(self.title)
        inside.addWidget(self.facts)
        self.lines = QVBoxLayout()
        self.lines.setSpacing(2)
        inside.addLayout(self.lines)
        self.reason = wrapped("", "wrong")
        inside.addWidget(self.reason)
        self.take_button = button("Take these values", self.taken.emit, "primary")
        self.take_button.setToolTip("Write what varied in this row into the drive, as one step of undo")
        self.run_button = button("Open as a run", self.run_wanted.emit)
        self.run_button.setToolTip(
            "Run the drives of the selected rows once more, up to twelve, among the kept runs; colours tell what varied"
        )
        inside.addWidget(self.take_button)
        inside.addWidget(self.run_button)
        inside.addSpacing(6)
        inside.addWidget(rule())
        self.matters = label("What matters most", "heading")
        inside.addWidget(self.matters)
        self.bars = SharesBars()
        inside.addWidget(self.bars)
        self.bars_words = wrapped("", "muted")
        inside.addWidget(self.bars_words)
        self.slopes_title = label("Slopes, the others held", "muted")
        inside.addWidget(self.slopes_title)
        self.slopes = QVBoxLayout()
        self.slopes.setSpacing(2)
        inside.addLayout(self.slopes)
        inside.addSpacing(6)
        inside.addWidget(rule())
        self.goals = GoalBox()
        inside.addWidget(self.goals)
        inside.addStretch(1)
        self.show_row(None, None)
        self.show_slopes(None, 0, [])

    def show_row(self, gathered: Gathered | None, row: Row | None) -> None:
        """A row, or none."""
        clear(self.lines)
        there = gathered is not None and row is not None
        self.take_button.setEnabled(there)
        self.run_button.setEnabled(there)
        self.reason.setText("")
        if gathered is None or row is None:
            self.title.setText("No row")
            self.facts.setText("Choose a row in the table or in a plot.")
            return
        self.title.setText(f"Row {row.number}")
        self.facts.setText(f"seed {row.seed} · {row.seconds:.2g} s")
        for k, (head, text) in enumerate(zip(gathered.heads, row.texts)):
            self.lines.addLayout(figure_row(head.name, "", f"{cell_text(head, gathered.value(k, text))} {head.unit}"))
        for head, si in zip(gathered.heads[gathered.axes :], row.figures):
            shown = f"{cell_text(head, si)} {head.unit}".strip() if si == si else "–"
            self.lines.addLayout(figure_row(head.short, "", shown, "strong"))
        if row.outcome != DONE or row.reason:
            self.reason.setText(row.reason)

    def show_shares(self, figure: str, shares: list[Share], words: str) -> None:
        self.matters.setText(f"What matters most for {figure}" if figure else "What matters most")
        self.matters.setWordWrap(True)
        self.bars.show_shares(shares)
        self.bars_words.setText(words)

    def show_slopes(self, gathered: Gathered | None, column_: int, found: list[Slope]) -> None:
        """How the figure goes with each thing, the others held, in the units that are shown."""
        clear(self.slopes)
        self.slopes_title.setVisible(bool(found))
        if gathered is None or not found:
            return
        up, by_name = gathered.heads[column_], {head.name: head for head in gathered.heads}
        for each in found:
            head = by_name[each.name]
            size = up.shown(1.0) / head.shown(1.0)
            slope, error = number_text(each.slope * size, 3), number_text(each.error * abs(size), 2)
            unit = f"{up.unit or '1'}/{head.unit}" if head.unit else up.unit
            self.slopes.addLayout(figure_row(each.name, "", f"{slope} ± {error} {unit}".strip()))
