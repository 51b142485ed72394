"""What is known of the target: period, memory, and instructions of a tick on emulated processors."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QVBoxLayout

from pendel.app.widgets.basic import Field, clear, figure_row, wrapped
from pendel.core.errors import PendelError
from pendel.core.firmware.processors import OnProcessor
from pendel.core.firmware.ship import Checked
from pendel.core.firmware.written import Written
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
            rows.append(("a tick", f"instr. (largest){', period' if clock else ''}"))
        for each in ran:
            load = f", {share_text(each.load_at(clock, written.deck.tick))}" if clock else ""
            rows.append((each.processor.removeprefix("Cortex-"), f"{each.mean:.0f} ({each.largest}){load}"))
        for name, value in rows:
            self.addLayout(figure_row(name, "", value))
        if ran:
            self.addWidget(wrapped(words or sameness_words(ran, clock), "muted"))

    def findings(self, written: Written, ran: tuple[OnProcessor, ...]) -> list[str]:
        """What the emulated processors found wrong: other bits, or a period that is too short."""
        unlike = [f"{p.processor}: {p.unlike}" for p in ran if p.unlike]
        clock = self._clock()[0]
        if written.deck is None or not clock:
            return unlike
        late = [(p.processor, p.load_at(clock, written.deck.tick)) for p in ran]
        return unlike + [
            f"The longest tick takes {share_text(load)} of the period on {name} at {figure(clock, 'Hz', 3)}. "
            "Lengthen the period, or choose narrower formats."
            for name, load in late
            if load > 1.0
        ]

    def _clock(self) -> tuple[float, str]:
        """The processor's clock (Hz) as typed, or 0 and why it is none."""
        try:
            clock = self.read_value(self.clock.text(), "MHz")
            words = "" if clock > 0 else "The clock must be above 0 Hz."
        except PendelError as problem:
            clock, words = 0.0, str(problem)
        self.clock.mark(words)
        return max(0.0, clock), words


def share_text(share: float) -> str:
    """A fraction in per cent, with two digits but never a power of ten."""
    return f"{100 * share:.0f} %" if share >= 0.0995 else f"{100 * share:.2g} %"


def sameness_words(ran: tuple[OnProcessor, ...], clock: float) -> str:
    """How the processors' figures are to be read."""
    if any(p.unlike for p in ran):
        return "Not the same to the bit; see findings."
    return "The same to the bit" + (f"; at {figure(clock, 'Hz', 3)}, a cycle an instruction." if clock else ".")
