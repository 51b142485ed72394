"""How long what has a temperature over a duty lasts, by the swings of a sheet: a line below the places of a duty."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from PyQt6.QtWidgets import QComboBox, QLineEdit, QWidget

from pendel.app.session.session import Session
from pendel.app.widgets.basic import column, label, row, wrapped
from pendel.core.catalogue.card_names import names_of
from pendel.core.errors import PendelError
from pendel.core.heat.life import Endurance
from pendel.core.heat.over import HeatOver
from pendel.core.quantities.expressions import value_in_field
from pendel.core.quantities.units import figure

FIELDS = (
    ("cycles", "Cycles of the sheet", "lasts", "cycles", "", "100000", 78),
    ("size", "Swing of the sheet", "of", "", "K", "80 K", 58),
    ("exponent", "Exponent of swings", "exponent", "", "", "5", 40),
    ("mean", "Mean temperature of the sheet", "at a mean of", "", "°C", "100 °C", 66),
    ("activation", "Activation energy", "activation", "eV", "", "0", 40),
)
FOR_EVER = 1e4
"""Years that nobody counts."""


class LifeRow(QWidget):
    """Lasts in years, worked out again at each change."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.result_: HeatOver | None = None
        body = column(self, (0, 0, 0, 0), 4)
        self.place = QComboBox()
        self.place.setAccessibleName("What wears")
        self.place.currentIndexChanged.connect(lambda _: self.refresh())
        self.fields: dict[str, QLineEdit] = {}
        parts: list[QWidget] = [label("Life of", "muted"), self.place]
        for name, called, before, after, _, text, width in FIELDS:
            field = self.fields[name] = QLineEdit(text)
            field.setAccessibleName(called)
            field.setFixedWidth(width)
            field.textChanged.connect(lambda _: self.refresh())
            parts += [label(before, "muted"), field, *([label(after, "muted")] if after else [])]
        body.addLayout(row(*parts, 1, spacing=6))
        self.words = wrapped("", "muted")
        body.addWidget(self.words)

    def show_places(self, result: HeatOver | None, keys: Sequence[str]) -> None:
        """Those of a result that may be chosen; the one that was chosen stays so, else it is what swings most."""
        self.result_, before = result, self.place.currentData()
        self.place.blockSignals(True)
        self.place.clear()
        for key in keys:
            self.place.addItem(result.titles[key] if result is not None else "", key)
        swings = [float(np.ptp(result.peaks[key])) for key in keys] if result is not None else []
        place = self.place.findData(before)
        self.place.setCurrentIndex(place if place >= 0 else int(np.argmax(swings)) if swings else -1)
        self.place.blockSignals(False)
        self.refresh()

    def refresh(self) -> None:
        key = self.place.currentData()
        if self.result_ is None or key is None:
            self.words.setText("")
            return
        names = names_of(self.session.drive)
        try:
            numbers = {name: value_in_field(self.fields[name].text(), unit, names) for name, *_, unit, _, _ in FIELDS}
            found = self.result_.life(key, Endurance(**numbers))
        except PendelError as problem:
            self.words.setText(str(problem))
            return
        if not found.swings or not math.isfinite(found.years):
            self.words.setText("It does not swing by as much as 1 K, so that it does not wear by that.")
            return
        count, largest = sum(s.count for s in found.swings), max(s.size for s in found.swings)
        years = "more than 10 000 years" if found.years > FOR_EVER else f"{found.years:.3g} years"
        swings = f"{count:g} swing{'s' * (count != 1)} each time, by {figure(largest, 'K', 3)} at most"
        self.words.setText(
            f"{years} of this duty: {swings}, do {found.damage:.2g} of the damage that it bears (rainflow by ASTM "
            "E1049; Palmgren, Miner)."
        )


__all__ = ["LifeRow"]
