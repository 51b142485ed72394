"""A signal's value and the word by which the processor holds it, each from the other."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QWidget

from pendel.app.widgets.basic import Field, column, label, row, wrapped
from pendel.core.controllers.numbers.representation import Rep
from pendel.core.controllers.numbers.word_text import hexadecimal, read_word
from pendel.core.errors import PendelError
from pendel.core.quantities.units import figure
from pendel.core.quantities.units import unit as unit_of


class Conversion(QWidget):
    """Two fields: a value with its unit, and its word in figures or in hexadecimal digits."""

    def __init__(self, read_value: Callable[[str, str], float]):
        """``read_value`` gives the SI value of a text in a unit. It raises `PendelError`."""
        super().__init__()
        self.read_value = read_value
        self.rep: Rep | None = None
        self.unit = ""
        self.write: Callable[[str], None] | None = None
        """Takes a new text of a live value; a signal is only looked at."""
        inside = column(self, (0, 0, 0, 0), 4)
        inside.addWidget(label("Conversion", "heading"))
        self.value = Field("", "Value", 190)
        self.word = Field("", "Word", 190)
        inside.addLayout(row(label("value"), 1, self.value))
        inside.addLayout(row(label("on the processor"), 1, self.word))
        self.note = wrapped("", "muted")
        inside.addWidget(self.note)
        self.value.committed.connect(self._from_value)
        self.value.stepped.connect(self._from_value)
        self.word.committed.connect(self._from_word)

    def show_signal(
        self,
        signal: str,
        rep: Rep | None,
        unit: str,
        value: float,
        write: Callable[[str], None] | None = None,
    ) -> None:
        """Another signal or live value, at a value (SI); with no ``rep``, ``signal`` are words about it."""
        self.rep, self.unit, self.write = rep, unit, write
        self.value.stepper = None
        self.value.mark("")
        self.word.mark("")
        for field in (self.value, self.word):
            field.setEnabled(rep is not None)
        if rep is None:
            self.value.show_text("")
            self.word.show_text("")
            self.note.setText(signal)
            return
        self.note.setText(
            f"{signal}: {rep.c_type}" + ("" if rep.floating else f", a step is {figure(rep.step, unit, 3)}")
        )
        self._show(value)

    def _show(self, value: float) -> None:
        rep = self.rep
        if rep is None:  # what was written may have taken the value off the page
            return
        if rep.floating:
            self.value.show_text(figure(value, self.unit, 9))
            self.word.show_text(f"{value:.9g}")
            return
        word = rep.word(value)
        self.value.show_text(figure(rep.value(word), self.unit, 6))
        self.word.show_text(f"{word} = {hexadecimal(word, rep.bits)}")

    def _from_value(self, text: str) -> None:
        rep = self.rep
        if rep is None:  # a field that is disabled gives what was being typed into it
            return
        try:
            value = self.read_value(text, self.unit)
        except PendelError as problem:
            self.value.mark(str(problem))
            self.note.setText(str(problem))
            return
        self.value.mark("")
        if rep.range is not None and not rep.angle and value not in rep.range:
            self.note.setText(f"It is limited to {figure(rep.value(rep.word(value)), self.unit, 4)}.")
        if self.write is not None:
            self.write(text)
        self._show(value)

    def _from_word(self, text: str) -> None:
        rep = self.rep
        if rep is None:
            return
        try:
            value = float(text) if rep.floating else rep.value(read_word(text, rep.bits))
        except ValueError:
            self.word.mark(f"“{text}” is no word of {rep.bits} bits. Write it like 1024 or 0x0400.")
            self.note.setText(self.word.toolTip())
            return
        self.word.mark("")
        if self.write is not None:
            self.write(written_in(value, self.unit))
        self._show(value)


def written_in(value: float, unit: str) -> str:
    """A value (SI) as a text in a unit, with all digits that a word of 32 bits has."""
    return f"{value / unit_of(unit)[0]:.10g} {unit}".strip()
