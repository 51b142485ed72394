"""A signal of the shipped code beside that of the same controller in float 64, and their difference."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QVBoxLayout

from pendel.app.plots.plot import Plot
from pendel.app.widgets.basic import label, wrapped
from pendel.app.widgets.theme import tokens
from pendel.core.firmware.ship import Compared
from pendel.core.quantities.units import number_text


class Comparison(QVBoxLayout):
    """Two plots with a title, or where there is nothing to compare, a hint."""

    def __init__(self) -> None:
        super().__init__()
        self.setContentsMargins(0, 0, 0, 0)
        self.title = label("", "heading")
        self.both = Plot("", "", about="comparison")
        self.difference = Plot("difference", "", bottom="time, s", about="comparison")
        self.difference.vb.setXLink(self.both.vb)
        self.hint = wrapped("", "muted")
        self.addWidget(self.title)
        self.addWidget(self.both, 1)
        self.addWidget(self.difference, 1)
        self.addWidget(self.hint)

    def show_hint(self, text: str) -> None:
        """Words in place of the plots; empty for the plots."""
        for widget in (self.both, self.difference, self.title):
            widget.setVisible(not text)
        self.hint.setText(text)
        self.hint.setVisible(bool(text))

    def clear_plots(self) -> None:
        for plot in (self.both, self.difference):
            plot.wipe()

    def show_signal(self, compared: Compared, unit: str, tick: float) -> None:
        """A signal at each tick (s), in a unit."""
        t = np.arange(len(compared.shipped)) * tick
        step = max(1, len(t) // 4000)
        self.both.set_caption(compared.signal, f"{unit + '; ' if unit else ''}float 64, and shipped (dashed)")
        self.both.curve(t[::step], compared.simulated[::step], tokens().pale, 2.4)
        self.both.curve(t[::step], compared.shipped[::step], tokens().strong, 1.2, Qt.PenStyle.DashLine)
        self.difference.set_caption("difference", unit)
        self.difference.curve(t[::step], compared.gap[::step], tokens().contrast, 1.2)
        low, high = float(np.min(compared.simulated)), float(np.max(compared.simulated))
        self.both.vb.setXRange(0, float(t[-1]) if len(t) else 1.0, padding=0.01)
        self.both.vb.setYRange(low - 0.05 * (high - low), high + 0.35 * (high - low or 1.0), padding=0)
        self.difference.vb.autoRange()
        self.title.setText(
            f"Shipped code against float 64, both fed with the run's inputs, {number_text(len(t))} ticks"
        )
