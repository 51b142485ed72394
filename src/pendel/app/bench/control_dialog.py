"""Adding or changing a control of the operator panel."""

from __future__ import annotations

from dataclasses import replace

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QComboBox,
    QCompleter,
    QDialog,
    QDialogButtonBox,
    QFormLayout,
    QLineEdit,
    QPlainTextEdit,
    QWidget,
)

from pendel.app.bench.panel_source import PanelSource
from pendel.app.widgets.basic import wrapped
from pendel.core.catalogue.assembly import kind_in
from pendel.core.drive.document import PANEL_FORMS, PANEL_INPUTS, PANEL_ORDERS, PanelControl
from pendel.core.drive.nesting import full_name
from pendel.core.errors import DriveProblem

WORDS = {
    "button": "writes its highest while pressed, its lowest when let go; or gives an order to the board",
    "switch": "writes its lowest when off and its highest when on",
    "selector": "chooses one of the named numbers",
    "slider": "moves a value between its lowest and highest",
    "number": "a field to type a value",
    "lamp": "is on above its highest, or above one half",
    "figure": "shows a number with its unit",
    "bar": "shows a number between its lowest and highest",
    "strip": "shows the latest course of a number",
    "name": "shows the name of a number, such as a mode",
    "events": "lists changes of a number by its names, and what the log says",
}
SIZES = {"events": (4, 3), "strip": (4, 2), "slider": (4, 1), "bar": (4, 1)}


class ControlDialog(QDialog):
    def __init__(self, source: PanelSource, control: PanelControl | None, parent: QWidget):
        super().__init__(parent)
        self.source = source
        self.control = control or PanelControl("slider", "")
        self.is_new = control is None
        self.setWindowTitle("Control of the panel")
        self.setMinimumWidth(460)
        form = QFormLayout(self)
        self.form = QComboBox()
        for name in PANEL_FORMS:
            self.form.addItem(name, name)
        self.form.setCurrentIndex(PANEL_FORMS.index(self.control.form))
        self.words = wrapped("", "muted")
        self.target = QComboBox()
        self.target.setEditable(True)
        self.target.setInsertPolicy(QComboBox.InsertPolicy.NoInsert)
        completer = self.target.completer()
        if completer is not None:
            completer.setFilterMode(Qt.MatchFlag.MatchContains)
            completer.setCompletionMode(QCompleter.CompletionMode.PopupCompletion)
        self.title = QLineEdit(self.control.title)
        self.low, self.high = QLineEdit(self.control.low), QLineEdit(self.control.high)
        self.names = QPlainTextEdit("\n".join(f"{number} = {words}" for number, words in self.control.names))
        self.names.setFixedHeight(92)
        self.names.setPlaceholderText("0 = idle\n1 = feed power in")
        self.names.setTabChangesFocus(True)
        for title, widget in (
            ("Form", self.form),
            ("", self.words),
            ("Acts on, or shows", self.target),
            ("Title", self.title),
            ("Lowest, off", self.low),
            ("Highest, on", self.high),
            ("Names", self.names),
        ):
            form.addRow(title, widget)
            widget.setAccessibleName(title or "What the form does")
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        form.addRow(buttons)
        self.form.activated.connect(lambda _: self._show_form())
        self._show_form()

    def _show_form(self) -> None:
        name = self.form.currentData()
        self.words.setText(WORDS[name])
        known = self.target.currentText() or self.control.target
        self.target.clear()
        for key, words in self._targets(name):
            self.target.addItem(words, key)
        at = self.target.findData(known)
        self.target.setCurrentIndex(at)
        if at < 0:
            self.target.setEditText(known)
        with_ends = name in ("button", "switch", "slider", "bar", "lamp", "strip")
        for widget in (self.low, self.high):
            widget.setEnabled(with_ends)
        self.names.setEnabled(name in ("selector", "name", "switch", "lamp", "events"))

    def _targets(self, form: str) -> list[tuple[str, str]]:
        drive = self.source.session.drive
        if form not in PANEL_INPUTS:
            return [(k, f"{i.card}: {i.label}") for k, i in self.source.infos.items()]
        targets = [(order, order) for order in PANEL_ORDERS] if form == "button" else []
        for key in drive.cards:
            try:
                kind = kind_in(drive, key)
            except DriveProblem:
                continue
            name = full_name(drive, key)
            targets += [(f"{key}.{v.name}", f"{name}: {v.label} ({v.name})") for v in kind.values]
        return targets

    def result_control(self) -> PanelControl:
        """What was entered."""
        form = self.form.currentData()
        at = self.target.currentIndex()
        text = self.target.currentText().strip()
        target = self.target.itemData(at) if at >= 0 and self.target.itemText(at) == text else text
        names = []
        for line in self.names.toPlainText().splitlines():
            number, equals, words = line.partition("=")
            if equals and number.strip() and words.strip():
                names.append((number.strip(), words.strip()))
        w, h = SIZES.get(form, (2, 1)) if self.is_new or form != self.control.form else (self.control.w, self.control.h)
        return replace(
            self.control,
            form=form,
            target=target,
            title=self.title.text().strip() or text.rpartition(": ")[2],
            low=self.low.text().strip(),
            high=self.high.text().strip(),
            names=tuple(names),
            w=w,
            h=h,
        )
