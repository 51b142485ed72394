"""How a block is shipped: its number format, and which of its values can be changed while its code runs."""

from __future__ import annotations

from PyQt6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout, QLabel, QWidget

from pendel.app.session.session import Session
from pendel.app.widgets.basic import Elided, Field, column, label, row, wrapped
from pendel.core.catalogue.assembly import kind_in
from pendel.core.catalogue.declare import Block, Deck, Kind, Value
from pendel.core.controllers.deck import delays_in
from pendel.core.controllers.language import read_update
from pendel.core.controllers.numbers.representation import NumberFormat
from pendel.core.drive import commands
from pendel.core.drive.document import YES
from pendel.core.firmware.values import usual_ends

WIDTHS = (76, 76, 56)
"""Of the fields of a row: lowest, highest, step."""
HINT = (
    "A live value is converted when the controller starts, and can be changed while it runs; any other is a "
    "constant "
    "in the C."
)


def values_in_code(kind: Kind) -> list[Value]:
    """Values of a block of the control deck that its code reads and that may be live."""
    if not isinstance(kind, Block) or kind.deck is not Deck.CONTROL:
        return []
    code = read_update(kind.update)
    return [v for v in kind.values if v.name in code.arguments and v.name not in delays_in(code)]


class CodeEditor(QWidget):
    """Rows of values: live or not, lowest, highest, and by how much a key changes it."""

    def __init__(self, session: Session, card: str):
        super().__init__()
        self.session, self.card = session, card
        inside = column(self, (0, 0, 0, 0), 6)
        self.format = QComboBox()
        self.format.setAccessibleName("Number format")
        self.format.setFixedHeight(26)
        self.format.setMinimumWidth(190)
        self.format.addItem("", "")
        for number in NumberFormat:
            self.format.addItem(number.label, number.value)
        self.format.activated.connect(
            lambda _: session.attempt(
                lambda: commands.set_number_format(session.drive, card, self.format.currentData())
            )
        )
        self.outside = QCheckBox("Comes from outside on the board")
        self.outside.setToolTip("In the simulation only: the shipped controller takes its outputs as inputs")
        self.outside.clicked.connect(
            lambda on: session.attempt(lambda: commands.set_outside(session.drive, card, "yes" if on else "no"))
        )
        inside.addWidget(self.outside)
        inside.addLayout(row(label("Number format", "muted"), 1, self.format))
        self.phase = Field("", "Phase", 60)
        self.phase.setPlaceholderText("0")
        self.phase.setToolTip("At which tick of its period the block runs, to spread what a tick computes")
        self.phase.committed.connect(
            lambda text: session.attempt(lambda: commands.set_phase(session.drive, card, text))
        )
        self.phase_note = wrapped("", "wrong")
        inside.addLayout(row(label("Phase, ticks", "muted"), 1, self.phase))
        inside.addWidget(self.phase_note)
        self.key = Field("", "Pinned key", 60)
        self.key.setPlaceholderText("none")
        self.key.setToolTip("A number by which scripts find the block in the code, whatever else changes")
        self.key.committed.connect(
            lambda text: session.attempt(lambda: commands.set_pinned_key(session.drive, card, text))
        )
        self.key_note = wrapped("", "wrong")
        inside.addLayout(row(label("Pinned key", "muted"), 1, self.key))
        inside.addWidget(self.key_note)
        self.live: dict[str, QCheckBox] = {}
        self.ends: dict[str, tuple[Field, Field]] = {}
        self.steps: dict[str, Field] = {}
        self.notes: dict[str, QLabel] = {}
        kind = kind_in(session.drive, card)
        values = values_in_code(kind)
        if values:
            inside.addLayout(self._heads())
        for value in values:
            inside.addLayout(self._row(value))
            self.notes[value.name] = wrapped("", "wrong")
            self.notes[value.name].hide()
            inside.addWidget(self.notes[value.name])
        inside.addWidget(wrapped(HINT if values else "Its code reads no value.", "muted"))
        self.refresh()

    def _heads(self) -> QHBoxLayout:
        heads = row(label("live", "muted"), 1, spacing=4)
        for text, width in zip(("lowest", "highest", "step"), WIDTHS):
            head = label(text, "muted")
            head.setFixedWidth(width)
            heads.addWidget(head)
        return heads

    def _row(self, value: Value) -> QHBoxLayout:
        name = value.name
        box = self.live[name] = QCheckBox()
        box.setAccessibleName(f"{value.label} {name} live")
        box.clicked.connect(lambda on, n=name: self._set_live(n, on))
        low, high = (Field("", f"{end} {name}", 60) for end in ("Lowest", "Highest"))
        self.ends[name] = low, high
        step = self.steps[name] = Field("", f"Step of {name}", 60)
        step.setPlaceholderText("auto")
        step.setToolTip(
            "What a key or the wheel adds, such as 0.5 A, or a factor such as ×1.1; else one in the second digit"
        )
        for field, width in zip((low, high, step), WIDTHS):
            field.setFixedWidth(width)
        for field in (low, high):
            field.committed.connect(lambda _, n=name: self._set_ends(n))
        step.committed.connect(
            lambda text, n=name: self.session.attempt(lambda: commands.set_step(self.session.drive, self.card, n, text))
        )
        sign = Elided(name)
        sign.setToolTip(value.label)
        line = row(box, sign, low, high, step, spacing=4)
        line.setStretch(1, 1)
        return line

    def _set_live(self, name: str, on: bool) -> None:
        drive = self.session.drive
        now = self.session.examined.values.get(self.card, {}).get(name, 0.0)
        ends = usual_ends(drive, self.card, name, now) if on else None
        self.session.attempt(lambda: commands.set_live(drive, self.card, {name: ends}))

    def _set_ends(self, name: str) -> None:
        low, high = (field.text().strip() for field in self.ends[name])
        self.session.attempt(lambda: commands.set_live(self.session.drive, self.card, {name: (low, high)}))

    def refresh(self) -> None:
        """Follow the drive."""
        card, settings = self.session.drive.cards.get(self.card), self.session.drive.settings
        if card is None:
            return
        self.outside.setChecked(card.outside == YES)
        self.format.setItemText(0, f"as all blocks ({settings['number_format']})")
        self.format.setCurrentIndex(max(0, self.format.findData(card.number_format)))
        for name, field, note in (
            ("phase", self.phase, self.phase_note),
            ("pinned_key", self.key, self.key_note),
        ):
            field.show_text(getattr(card, name))
            finding = self.session.examined.finding_at(self.card, name)
            note.setText(finding.sentence.split(": ", 1)[-1] if finding else "")
            note.setVisible(finding is not None)
        for name, box in self.live.items():
            ends = card.live.get(name)
            box.setChecked(ends is not None)
            for field, text in zip(self.ends[name], ends or ("", "")):
                field.setEnabled(ends is not None)
                field.show_text(text)
            self.steps[name].show_text(card.steps.get(name, ""))
            at = self.session.examined.finding_at
            findings = [f for f in (at(self.card, f"live:{name}"), at(self.card, f"step:{name}")) if f]
            self.notes[name].setText(findings[0].sentence.split(": ", 1)[-1] if findings else "")
            self.notes[name].setVisible(bool(findings))
