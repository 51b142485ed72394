"""Loading flux tables from a file, step by step on one page, and looking at them."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QCheckBox, QComboBox, QDialog, QDialogButtonBox, QGridLayout, QWidget

from pendel.app.drive.editors.flux_view import ContourView, SurfaceView
from pendel.app.session.session import Session
from pendel.app.session.slow_work import SlowWork
from pendel.app.widgets.basic import button, column, label, row, wrapped
from pendel.core.catalogue.machines import flux
from pendel.core.drive.document import FluxTable
from pendel.core.errors import FileProblem, RunProblem
from pendel.core.formats.flux_files import ROLES, Layout, assembled, guess, unit_choices, variables
from pendel.core.runs.found.run_roles import signals_of
from pendel.core.vocabulary import SignalRole

FINE = 61
SHOWN_BEYOND = 0.12
"""Of the table's range, on each side of the contour lines."""
MAPS = (
    ("ψ_d", "Wb", (1, 0)),
    ("ψ_q", "Wb", (0, 1)),
    ("L_dd", "H", (2, 0)),
    ("L_qq", "H", (0, 2)),
    ("L_dq", "H", (1, 1)),
)
"""What can be looked at: words, unit, and which derivative of the co-energy it is."""


class MapPair(QWidget):
    """One map, chosen by a list, as surface and contour lines."""

    def __init__(self, slow_work: SlowWork) -> None:
        super().__init__()
        self.slow_work = slow_work
        slow_work.arrived.connect(self._draw)
        self.choice = QComboBox()
        self.choice.setAccessibleName("Map shown")
        for words, unit, _ in MAPS:
            self.choice.addItem(f"{words}, {unit}")
        self.choice.currentIndexChanged.connect(lambda _: self._draw())
        self.surface, self.contours = SurfaceView(), ContourView()
        self.table: FluxTable | None = None
        body = column(self, (0, 0, 0, 0), 6)
        body.addLayout(row(label("Shown", "muted"), self.choice, 1))
        body.addLayout(row(self.surface, self.contours, spacing=10), 1)

    def _fit(self) -> flux.CoEnergy | None:
        """The smooth fit of the table that is shown; none without a sound one, and until it is known."""
        table = self.table
        if table is None or flux.faults(table):
            return None
        try:
            return self.slow_work.known(lambda: flux.fitted(table))
        except RunProblem:  # said beside it
            return None

    def show_table(self, table: FluxTable | None) -> None:
        self.table = table
        self._draw()

    def _draw(self) -> None:
        fit = self._fit()
        for view in (self.surface, self.contours):
            view.setVisible(fit is not None)
        if fit is None or self.table is None:
            return
        rims = (self.table.i_d[0], self.table.i_d[-1]), (self.table.i_q[0], self.table.i_q[-1])
        x, y = (np.linspace(low, high, FINE) for low, high in rims)
        _, unit, by = MAPS[self.choice.currentIndex()]
        self.surface.show_map(x[::2], y[::2], fit.derivative(x[::2], y[::2], *by), unit)
        x, y = (
            np.linspace(low - SHOWN_BEYOND * (high - low), high + SHOWN_BEYOND * (high - low), FINE)
            for low, high in rims
        )
        self.contours.show_map(x, y, fit.derivative(x, y, *by), unit)
        self.contours.show_rims(*rims)


def fit_words(table: FluxTable, slow_work: SlowWork) -> str:
    """How exact the smooth fit is, at the table's nodes and between them, as far as it is known."""
    try:
        shares = slow_work.known(lambda: (flux.fitted(table).misfit, flux.left_out(table)))
    except RunProblem as problem:
        return f"There is no smooth fit of them: {problem}"
    if shares is None:
        return "Their smooth fit is being worked out …"
    at_nodes, between = (max(0.001, 100 * share) for share in shares)
    return (
        f"The smooth fit misses them by at most {at_nodes:.2g} % of the largest flux, "
        f"and nodes left out of it by {between:.2g} %."
    )


class FluxWizard(QDialog):
    """Maps a file's columns or matrices to currents and fluxes; remembers it for files of the same names."""

    def __init__(self, path: Path, session: Session, maximum: float, parent: QWidget | None = None):
        super().__init__(parent)
        self.setWindowTitle(f"Flux tables from {path.name}")
        self.resize(820, 640)
        self.path, self.settings, self.maximum = path, session.settings, maximum
        self.slow_work = session.slow_work
        self.arrays = variables(path)
        self.table: FluxTable | None = None
        self.names: dict[str, QComboBox] = {}
        self.units: dict[str, QComboBox] = {}
        self.signs: dict[str, QCheckBox] = {}
        body = column(self, (16, 14, 16, 12), 8)
        body.addWidget(
            wrapped(
                "Say which column or matrix is what. The picture and the sentences below follow at once.",
                "muted",
            )
        )
        body.addLayout(self._build_grid())
        self.rows = QComboBox()
        self.rows.setAccessibleName("What changes from row to row")
        for current in ("i_d", "i_q"):
            self.rows.addItem(f"{current} changes from row to row", current)
        self.mirror = QCheckBox("given for i_q ≥ 0 only: mirror it")
        self.winding = QComboBox()
        self.winding.setAccessibleName("Winding of the tables")
        for stored, words in (("star", "of a phase in star"), ("delta", "of a winding in delta")):
            self.winding.addItem(words, stored)
        body.addLayout(row(label("Matrices"), self.rows, self.mirror, 1, label("Values"), self.winding, spacing=12))
        self.pair = MapPair(self.slow_work)
        body.addWidget(self.pair, 1)
        self.note = wrapped("", "")
        body.addWidget(self.note)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Cancel)
        self.take = buttons.addButton("Use these tables", QDialogButtonBox.ButtonRole.AcceptRole)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        body.addWidget(buttons)
        self._fill(self._remembered() or guess(self.arrays))
        for box in (*self.names.values(), *self.units.values(), self.rows, self.winding):
            box.currentIndexChanged.connect(lambda _: self.follow())
        for check in (*self.signs.values(), self.mirror):
            check.toggled.connect(lambda _: self.follow())
        self.slow_work.arrived.connect(self.follow)
        self.follow()

    def _build_grid(self) -> QGridLayout:
        grid = QGridLayout()
        grid.setHorizontalSpacing(12)
        words = {
            "i_d": "Current along d",
            "i_q": "Current along q",
            "psi_d": "Flux along d",
            "psi_q": "Flux along q",
        }
        for k, role in enumerate(ROLES):
            self.names[role], self.units[role] = QComboBox(), QComboBox()
            self.names[role].addItem("–", "")
            for name, array in self.arrays.items():
                self.names[role].addItem(f"{name}   {' × '.join(map(str, array.shape))}", name)
            for unit in unit_choices(role):
                self.units[role].addItem(unit)
            self.signs[role] = QCheckBox("turn its sign")
            self.names[role].setAccessibleName(words[role])
            self.units[role].setAccessibleName(f"Unit of {words[role]}")
            grid.addWidget(label(words[role]), k, 0)
            for place, widget in enumerate((self.names[role], self.units[role], self.signs[role]), 1):
                grid.addWidget(widget, k, place)
        grid.setColumnStretch(1, 1)
        return grid

    @property
    def _key(self) -> str:
        return "flux/" + "|".join(sorted(self.arrays)).replace("/", "_")

    def _remembered(self) -> Layout | None:
        text = self.settings.value(self._key, "")
        try:
            known = json.loads(str(text)) if text else None
            return (
                Layout(
                    known["names"],
                    known["units"],
                    frozenset(known["turned"]),
                    known["rows"],
                    known["mirror"],
                    known.get("winding", "star"),
                )
                if known
                else None
            )
        except (ValueError, KeyError, TypeError):
            return None  # written by another version

    def _fill(self, layout: Layout) -> None:
        for role in ROLES:
            self.names[role].setCurrentIndex(max(0, self.names[role].findData(layout.names.get(role, ""))))
            self.units[role].setCurrentIndex(max(0, self.units[role].findText(layout.units.get(role, ""))))
            self.signs[role].setChecked(role in layout.turned)
        self.rows.setCurrentIndex(max(0, self.rows.findData(layout.rows)))
        self.mirror.setChecked(layout.mirror)
        self.winding.setCurrentIndex(max(0, self.winding.findData(layout.winding)))

    def layout_chosen(self) -> Layout:
        return Layout(
            {role: self.names[role].currentData() for role in ROLES},
            {role: self.units[role].currentText() for role in ROLES},
            frozenset(role for role in ROLES if self.signs[role].isChecked()),
            self.rows.currentData(),
            self.mirror.isChecked(),
            self.winding.currentData(),
        )

    def follow(self) -> None:
        """Put the table together anew and say what is wrong with it."""
        self.table, sentences = None, []
        try:
            table = assembled(self.arrays, self.layout_chosen(), self.path.name)
        except FileProblem as problem:
            sentences = [str(problem)]
        else:
            sentences = [c.sentence for c in flux.faults(table)]
            if not sentences:
                self.table = table
                sentences = self._doubts(table)
                sentences.append(f"{len(table.i_d)} × {len(table.i_q)} points. {fit_words(table, self.slow_work)}")
        self.note.setText("\n".join(sentences))
        self.pair.show_table(self.table)
        self.take.setEnabled(self.table is not None)

    def _doubts(self, table: FluxTable) -> list[str]:
        try:
            concerns = self.slow_work.known(lambda: flux.concerns(table, self.maximum))
        except RunProblem:  # said with the fit
            return []
        return [c.sentence for c in concerns or ()]

    def accept(self) -> None:
        layout = self.layout_chosen()
        known = {
            "names": dict(layout.names),
            "units": dict(layout.units),
            "turned": sorted(layout.turned),
            "rows": layout.rows,
            "mirror": layout.mirror,
            "winding": layout.winding,
        }
        self.settings.setValue(self._key, json.dumps(known))
        super().accept()


class FluxWindow(QDialog):
    """The tables of a machine, with the currents of its latest run on the contour lines."""

    def __init__(self, table: FluxTable, name: str, session: Session, card: str, parent: QWidget | None = None):
        super().__init__(parent)
        self.setWindowTitle(f"{name}: flux tables")
        self.resize(900, 560)
        self.pair = MapPair(session.slow_work)
        body = column(self, (16, 14, 16, 12), 8)
        body.addWidget(
            label(
                f"{name}: {len(table.i_d)} × {len(table.i_q)} points"
                + (f" from {table.source}" if table.source else ""),
                "heading",
            )
        )
        body.addWidget(self.pair, 1)
        run = session.last_run
        currents = signals_of(run, card, SignalRole.CURRENT_DQ) if run is not None else []
        if run is not None and currents:
            d, q = map(run.trace, currents)
            self.pair.contours.show_path(d.y, q.y)
            body.addWidget(label(f"The line on the contours is {run.name}.", "muted"))
        close = button("Close", self.accept)
        body.addLayout(row(1, close))
        self.pair.show_table(table)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
