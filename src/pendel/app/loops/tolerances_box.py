"""Values that spread, and how the chosen loop holds over them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QListWidget, QListWidgetItem, QWidget

from pendel.app.loops.way_fields import SignalBox
from pendel.app.widgets.basic import Field, button, column, label, row, wrapped
from pendel.core.drive.document import Drive, renamed_signal
from pendel.core.errors import ExpressionProblem
from pendel.core.loops.tuning.tolerances import Tolerated
from pendel.core.quantities.expressions import value_in_field
from pendel.core.quantities.named import Names
from pendel.core.quantities.units import number_text

SPREAD = Qt.ItemDataRole.UserRole


class SpreadList(QListWidget):
    """Delete takes a value out."""

    changed = pyqtSignal()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            if self.currentRow() >= 0:
                self.takeItem(self.currentRow())
                self.changed.emit()
            return
        super().keyPressEvent(event)


class TolerancesBox(QWidget):
    """``judge_wanted`` begins to judge, or stops it."""

    judge_wanted = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        inside = column(self, (0, 0, 0, 0), 4)
        inside.addWidget(label("Tolerances", "heading"))
        self.name = SignalBox("Value that spreads")
        self.share = Field("20 %", "Spread", 56)
        self.share.setFixedWidth(58)
        self.add_button = button("Add", self.add, "small")
        inside.addLayout(row(self.name, label("±", "muted"), self.share, self.add_button, spacing=4))
        self.list = SpreadList()
        self.list.setAccessibleName("Values that spread")
        self.list.setToolTip("Delete takes a value out")
        self.list.changed.connect(self._fit)
        inside.addWidget(self.list)
        self.button = button("Judge over the spread", self.judge_wanted.emit)
        inside.addWidget(self.button)
        self.words = wrapped("", "muted")
        inside.addWidget(self.words)
        self._fit()

    def follow(self, drive: Drive) -> None:
        """Offer what was entered."""
        cards = {
            f"{key}.{name}": f"{card.name}: {name}"
            for key, card in drive.cards.items()
            for name, text in card.values.items()
            if text.strip()
        }
        names = {**{q: f"quantity {q}" for q in drive.quantities}, **cards}
        self.name.offer(list(names), names)

    def add(self) -> None:
        name = self.name.key()
        self.share.mark("")
        try:
            share = value_in_field(self.share.text(), "%", Names({}))
        except ExpressionProblem as problem:
            self.share.mark(str(problem))
            self.words.setText(str(problem))
            return
        if not name:
            return
        self._fill({**{n: s for n, s in self.spreads() if n != name}, name: share})

    def _fill(self, spreads: Mapping[str, float]) -> None:
        self.list.clear()
        for name, share in spreads.items():
            item = QListWidgetItem(f"{name}  ± {number_text(100 * share, 3)} %")
            item.setData(SPREAD, (name, share))
            self.list.addItem(item)
        self._fit()

    def clear(self) -> None:
        """Another drive is open."""
        self._fill({})
        self.words.setText("")

    def follow_card(self, old: str, new: str) -> None:
        """A card is called otherwise."""
        self._fill({renamed_signal(name, old, new): share for name, share in self.spreads()})

    def _fit(self) -> None:
        self.list.setVisible(self.list.count() > 0)
        self.list.setFixedHeight(8 + 20 * min(4, max(1, self.list.count())))
        self.button.setEnabled(self.list.count() > 0)

    def spreads(self) -> tuple[tuple[str, float], ...]:
        items = [item for n in range(self.list.count()) if (item := self.list.item(n)) is not None]
        return tuple(tuple(item.data(SPREAD)) for item in items)

    def show_judging(self) -> None:
        self.button.setText("Stop")
        self.words.setText("Judging …")

    def show_words(self, sentence: str) -> None:
        self.button.setText("Judge over the spread")
        self.words.setText(sentence)


def sentence_of(tolerated: Tolerated, spreads: Sequence[tuple[str, float]]) -> str:
    names = ", ".join(f"{name} ± {number_text(100 * share, 3)} %" for name, share in spreads)
    failed = [s for s in tolerated.samples if s.margins is None]
    if failed:
        factors = ", ".join(f"{n} × {number_text(f, 3)}" for n, f in failed[0].factors.items())
        return f"No model at {factors}: {failed[0].problem}"
    if not tolerated.holds:
        worst = next(s for s in tolerated.samples if s.margins is not None and not s.margins.stable)
        factors = ", ".join(f"{n} × {number_text(f, 3)}" for n, f in worst.factors.items())
        return f"Does not hold for {names}: unstable at {factors}."
    phase, ms = tolerated.worst(lambda m: m.phase).margins, tolerated.worst(lambda m: -m.ms).margins
    assert phase is not None and ms is not None
    costs = sorted(((c, n) for n, c in tolerated.costs.items() if c == c), reverse=True)
    maximum = (
        f" {costs[0][1]} costs most: {number_text(costs[0][0], 2)}° of phase margin."
        if costs and costs[0][0] > 0.05
        else ""
    )
    return (
        f"Holds for {names} in {len(tolerated.samples)} samples: phase margin at least "
        f"{number_text(phase.phase, 3)}°, Ms at most "
        f"{number_text(ms.ms, 3)}.{maximum}"
    )


__all__ = ["TolerancesBox"]
