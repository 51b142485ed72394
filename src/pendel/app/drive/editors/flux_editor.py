"""A machine's page “Tables”: where they came from, what is doubtful about them, loading and looking."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtWidgets import QDialog, QFileDialog, QVBoxLayout, QWidget

from pendel.app.drive.editors.flux_dialogs import FluxWindow, FluxWizard, fit_words
from pendel.app.session.session import Session
from pendel.app.widgets.basic import button, clear, column, label, row, wrapped
from pendel.core.catalogue.machines import flux
from pendel.core.drive import commands
from pendel.core.drive.document import FluxTable
from pendel.core.errors import FileProblem
from pendel.core.quantities.units import figure
from pendel.core.vocabulary import ValueRole


class FluxEditor(QWidget):
    def __init__(self, session: Session, card: str):
        super().__init__()
        self.session, self.card = session, card
        self.window_: FluxWindow | None = None
        body = column(self, (0, 4, 0, 4), 8)
        self.words = wrapped("", "")
        body.addWidget(self.words)
        self.look = button("Look at them …", self.open_window)
        body.addLayout(row(button("Load tables …", self.choose), self.look, 1))
        body.addWidget(label("CSV, MAT or HDF5: ψ_d and ψ_q over i_d and i_q", "muted"))
        self.others = QVBoxLayout()
        body.addLayout(self.others)
        self.note = wrapped("", "wrong")
        body.addWidget(self.note)
        self.session.slow_work.arrived.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        table = self.session.drive.cards[self.card].flux
        self.look.setEnabled(table is not None)
        clear(self.others)
        for key, card in self.session.drive.cards.items():
            if key != self.card and card.flux is not None and card.flux != table:
                self.others.addWidget(button(f"Take those of {card.name}", lambda t=card.flux: self._take(t)))
        if table is None:
            self.words.setText("No tables yet.")
            return
        lines = [
            f"{len(table.i_d)} × {len(table.i_q)} points" + (f" from {table.source}" if table.source else ""),
            *(f"{n} {figure(a[0], 'A')} … {figure(a[-1], 'A')}" for n, a in (("i_d", table.i_d), ("i_q", table.i_q))),
            "Beyond, the fluxes go on straight, which is a guess; the picture shows the border dashed.",
        ]
        if not flux.faults(table):
            lines.insert(3, fit_words(table, self.session.slow_work))
        self.words.setText("\n".join(lines))

    def choose(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Load flux tables", "", "Tables (*.csv *.txt *.mat *.h5 *.hdf5)")
        if name:
            self.load(Path(name))

    def load(self, path: Path) -> None:
        """Open the wizard on a file, and take what it makes."""
        limit = self.session.kinds()[self.card].value_name(ValueRole.CURRENT_LIMIT)
        maximum = self.session.examined.values.get(self.card, {}).get(limit, float("nan"))
        try:
            wizard = FluxWizard(path, self.session, maximum, self)
        except FileProblem as problem:
            self.note.setText(str(problem))
            return
        self.note.setText("")
        if wizard.exec() == QDialog.DialogCode.Accepted and wizard.table is not None:
            self._take(wizard.table)
        wizard.deleteLater()

    def _take(self, table: FluxTable) -> None:
        self.session.attempt(lambda: commands.set_flux(self.session.drive, self.card, table))

    def open_window(self) -> None:
        card = self.session.drive.cards[self.card]
        if card.flux is not None:
            self.window_ = FluxWindow(card.flux, card.name, self.session, self.card, self.window())
            self.window_.show()
