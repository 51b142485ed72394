"""What is known of the target: period, memory, and instructions of a tick on emulated processors."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QVBoxLayout

from pendel.app.firmware.written import Written
from pendel.app.widgets.basic import Field, clear, figure_row, wrapped
from pendel.core.errors import PendelError
from pendel.core.firmware.processors import OnProcessor
from pendel.core.firmware.ship import Checked
from pendel.core.quantities.units import figure


class Target(QVBoxLayout):
    """Rows of figures. ``clock`` is the field of the processor's clock, which ``read_value`` reads in a unit; it
    raises `PendelError`."""

    def __init__(self, clock: Field, read_value: Callable[[str, str], float]):
        super().__init__()
        self.clock, self.read_value = clock, read_value

    def fill(self, written: Written, checked: Checked | None, ran: tuple[OnProcessor, ...]) -> None:
        clear(self)
        if written.deck is None:
            return
        rows = [
            ("sampling period", figure(written.deck.tick, "s", 3)),
            ("computing delay", f"{written.deck.delay} tick"),
        ]
        if written.facts:
            rows.append(("blocks' data", f"{sum(b.data for b in written.facts)} bytes"))
        if checked:
            rows.append(("object file", f"{checked.code_bytes / 1000:.1f} kB"))
        clock, words = self._clock()
        if ran:
            rows.append(("a tick", f"instr. (largest){', % of a period' if clock else ''}"))
        for each in ran:
            load = f", {100 * each.load_at(clock, written.deck.tick):.2g} %" if clock else ""
            rows.append((each.processor.removeprefix("Cortex-"), f"{each.mean:.0f} ({each.largest}){load}"))
        for name, value in rows:
            self.addLayout(figure_row(name, "", value))
        if ran:
            self.addWidget(wrapped(words or processor_words(ran, clock, written.deck.tick), "muted"))

    def _clock(self) -> tuple[float, str]:
        """The processor's clock (Hz) as typed, or 0 and why it is none."""
        try:
            clock = self.read_value(self.clock.text(), "MHz")
            words = "" if clock > 0 else "The clock must be above 0 Hz."
        except PendelError as problem:
            clock, words = 0.0, str(problem)
        self.clock.mark(words)
        return max(0.0, clock), words


def processor_words(ran: tuple[OnProcessor, ...], clock: float, period: float) -> str:
    """Whether the processors gave the same bits, and whether the period is long enough."""
    unlike = [f"{p.processor}: {p.unlike}" for p in ran if p.unlike]
    if unlike:
        return unlike[0]
    late = [p.processor for p in ran if p.load_at(clock, period) > 1.0]
    if late:
        at = figure(clock, "Hz", 3)
        return f"The period is too short for {late[0]} at {at}. Lengthen it, or choose other formats."
    return f"The same to the bit; at {figure(clock, 'Hz', 3)}, a cycle an instruction."
