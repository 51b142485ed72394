"""The matrices of a linear model, to be looked at."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from PyQt6.QtWidgets import QDialog, QTabWidget, QWidget

from pendel.app.widgets.basic import column, wrapped
from pendel.app.widgets.figure_table import FigureTable
from pendel.core.loops.judging.looked_at import LookedAt
from pendel.core.quantities.units import figure


class Matrices(QDialog):
    """A, B, C and D with the names of states."""

    def __init__(self, looked_at: LookedAt, parent: QWidget):
        super().__init__(parent)
        self.setWindowTitle("A, B, C, D")
        self.resize(820, 520)
        body = column(self, (14, 12, 14, 12), 8)
        tabs = QTabWidget()
        model, minimum = looked_at.transfer.model, looked_at.minimal.model
        for title, each in (("All states", model), ("Minimal", minimum)):
            states = [with_unit(name, looked_at.transfer.units) for name in each.states]
            rows = [*states, with_unit(looked_at.transfer.ends.target, looked_at.transfer.units)]
            columns = [*states, with_unit(looked_at.transfer.ends.source, looked_at.transfer.units)]
            table = FigureTable(title, tuple(columns))
            table.setVerticalHeaderLabels(list(rows))
            whole = np.block([[each.A, each.B], [each.C, each.D]])
            table.show_rows([tuple(f"{v:.6g}" for v in line) for line in whole.tolist()])
            table.setVerticalHeaderLabels(list(rows))
            table.verticalHeader().setVisible(True)  # type: ignore[union-attr]
            tabs.addTab(table, f"{title} ({len(each.states)})")
        kind = f"x⁺ = A x + B u, every {figure(model.dt, 's', 4)}" if model.dt else "dx/dt = A x + B u"
        body.addWidget(
            wrapped(
                f"{kind}, y = C x + D u; in SI. The last column is the input, the last row the output.",
                "muted",
            )
        )
        body.addWidget(tabs, 1)


def with_unit(name: str, units: Mapping[str, str]) -> str:
    return f"{name}, {units[name]}" if name in units else name


__all__ = ["Matrices"]
