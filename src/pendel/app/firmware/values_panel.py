"""The table of values with what its edits do to the drive."""

from __future__ import annotations

from dataclasses import replace

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QShowEvent

from pendel.app.firmware.conversion import written_in
from pendel.app.firmware.values_table import DIGITS, HIGHEST, LOWEST, STEP, WORD, ValuesTable
from pendel.app.session.session import Session
from pendel.app.session.stepping import step_value, value_after
from pendel.app.widgets.timers import RefreshWhenShown
from pendel.core.controllers.numbers.word_text import read_word
from pendel.core.drive import commands
from pendel.core.errors import PendelError
from pendel.core.firmware.values import ValueFacts, usual_ends
from pendel.core.firmware.written import Written


class ValuesPanel(ValuesTable):
    """Values of the drive as it is written; edits are steps of undo."""

    refused = pyqtSignal(str)
    """Why an edit was not taken."""

    def __init__(self, session: Session):
        super().__init__()
        self.session = session
        self.edited.connect(self._edit)
        self.live_wished.connect(self._set_live)
        self.stepped.connect(self._step)
        self.base_wished.connect(self._set_base)
        self._written = Written()
        self._known: tuple[ValueFacts, ...] = ()
        """Those of the last drive that had C."""
        self._show = RefreshWhenShown(self, self._show_values)

    def show_written(self, written: Written) -> None:
        """The values; where a fault of the drive leaves no C, those of before with what was typed since."""
        self._written, self._known = written, written.values or self._known
        self._show()

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        self._show.shown()

    def _show_values(self) -> None:
        written = self._written
        at = self.session.examined.finding_at
        values = written.values
        if not values and written.problem:
            cards = self.session.drive.cards
            values = tuple(
                replace(
                    v,
                    text=cards[v.block].values.get(v.name, v.text),
                    ends=cards[v.block].live.get(v.name),
                    step=cards[v.block].steps.get(v.name, ""),
                    digits=cards[v.block].digits.get(v.name, ""),
                    numbers=(),
                )
                for v in self._known
                if v.block in cards
            )
        wrong = {}
        for v in values:
            findings = [at(v.block, f) for f in (f"live:{v.name}", v.name, f"step:{v.name}", f"digits:{v.name}")]
            wrong[v.key] = next((f.sentence for f in findings if f is not None), "")
        self.fill(values, wrong)

    def facts(self, key: str) -> ValueFacts | None:
        return next((v for v in self.values if v.key == key), None)

    def _edit(self, key: str, column: int, text: str) -> None:
        """What was typed into a value's row."""
        drive, (block, _, name), value = self.session.drive, key.partition("."), self.facts(key)
        assert value is not None
        if column == WORD and value.alone is not None:
            try:
                word = read_word(text, value.alone.rep.bits)
            except ValueError:
                self.refused.emit(f"“{text}” is no word of {value.alone.rep.bits} bits. Write it like 0x0400.")
                self.show_written(Written(values=tuple(self.values)))
                return
            text = written_in(value.alone.rep.value(word), value.unit)

        def command() -> commands.Command:
            if column == STEP:
                return commands.set_step(drive, block, name, text)
            if column == DIGITS:
                return commands.set_digits(drive, block, name, text)
            if column in (LOWEST, HIGHEST):
                low, high = value.ends or ("", "")
                return commands.set_live(drive, block, {name: (text, high) if column == LOWEST else (low, text)})
            return commands.set_value(drive, block, name, text)

        self.session.attempt(command)

    def _set_live(self, keys: list[str], on: bool) -> None:
        drive, by_block = self.session.drive, dict[str, dict[str, tuple[str, str] | None]]()
        for key in keys:
            v = self.facts(key)
            assert v is not None
            if v.block not in drive.cards:  # just taken off
                continue
            ends = (v.ends or usual_ends(drive, v.block, v.name, v.now)) if on else None
            by_block.setdefault(v.block, {})[v.name] = ends
        for block, live in by_block.items():
            self.session.attempt(lambda block=block, live=live: commands.set_live(drive, block, live))

    def _set_base(self, key: str, base: str) -> None:
        block, _, name = key.partition(".")
        self.session.attempt(lambda: commands.set_base(self.session.drive, block, name, base))

    def _step(self, key: str, count: int) -> None:
        (block, _, name), value = key.partition("."), self.facts(key)
        if value is None or not value.text:
            return
        try:
            text = value_after(
                self.session, block, name, self.session.drive.cards[block].values.get(name, value.text), count
            )
        except PendelError as problem:
            self.refused.emit(str(problem))
            return
        step_value(self.session, block, name, text, f"table {key}")
