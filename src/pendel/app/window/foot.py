"""The foot line: findings, opening upward; on the right what the last run was."""

from __future__ import annotations

from PyQt6.QtCore import QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QPainter, QPaintEvent, QResizeEvent
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QVBoxLayout, QWidget

from pendel.app.session.session import Session
from pendel.app.widgets.basic import Elided, button, clear, column, label, row, scrolled, wrapped
from pendel.app.widgets.explained import explained_by
from pendel.app.widgets.theme import colour
from pendel.app.widgets.timers import Later
from pendel.core.drive.findings import Finding
from pendel.core.quantities.units import figure
from pendel.core.runs.record.kept import KeptRun


class Dot(QWidget):
    def __init__(self) -> None:
        super().__init__()
        self.role = "moss"
        self.setFixedSize(12, 12)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(colour(self.role)))
        painter.drawEllipse(1, 1, 10, 10)


LEAST_SUMMARY = 300
"""px, for the first finding."""


class Foot(QWidget):
    go_wanted = pyqtSignal(object)
    """A finding whose place is to be shown."""

    def __init__(self, session: Session, window: QWidget):
        super().__init__(window)
        self.session = session
        self.setObjectName("foot")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(26)
        self.transient: list[Finding] = []
        self.summary = "No findings"
        body = QHBoxLayout(self)
        body.setContentsMargins(12, 0, 14, 0)
        self.dot = Dot()
        self.words = button("No findings", self.toggle, "link")
        self.words.setAccessibleName("Findings")
        self.words.setStyleSheet(f"color: {colour('ink').name()};")
        self.status_message = Elided("", "muted", right=True)
        self.facts = label("", "muted")
        for widget in (self.dot, self.words, self.status_message, self.facts):
            body.addWidget(widget)
        body.setStretch(2, 1)
        body.setSpacing(10)
        self.panel = QFrame(window)
        self.panel.setObjectName("findings")
        self.panel.setStyleSheet(
            f"QFrame#findings {{ background: {colour('card').name()}; border: 1px solid {colour('hairline').name()}; }}"
        )
        self.inner = QWidget()
        self.list = QVBoxLayout(self.inner)
        self.list.setContentsMargins(12, 10, 12, 10)
        self.list.setSpacing(8)
        column(self.panel, (0, 0, 0, 0)).addWidget(scrolled(self.inner))
        self.panel.hide()
        self._quiet = Later(self, 9000, lambda: self._say(""))
        session.examined_changed.connect(self.refresh)
        session.runs_changed.connect(self.refresh)
        session.changed.connect(lambda _: self.forget())

    def forget(self) -> None:
        """What a run reported is gone with the next edit."""
        if self.transient:
            self.transient = []
            self.refresh()

    def findings(self) -> list[Finding]:
        known = {f.sentence for f in self.session.findings}
        return [*(f for f in self.transient if f.sentence not in known), *self.session.findings]

    def report(self, findings: list[Finding]) -> None:
        self.transient = findings
        self.refresh()

    def say(self, sentence: str) -> None:
        self._say(sentence)
        self._quiet.start()

    def _say(self, sentence: str) -> None:
        self.status_message.set_text(sentence)
        self._fit_summary()

    def refresh(self) -> None:
        findings = self.findings()
        faults = [f for f in findings if f.stops]
        self.dot.role = "brick" if faults else "brass" if findings else "moss"
        self.dot.update()
        if not findings:
            self.summary = "No findings"
        else:
            first = (faults or findings)[0].sentence
            count = f"{len(findings)} finding{'s' if len(findings) > 1 else ''}"
            self.summary = f"{count}: {first}"
            self.words.setToolTip(first)
        run = self.session.last_run
        self.facts.setText(facts_of(run) if run else "")
        self._fit_summary()
        if self.panel.isVisible():
            self._fill()

    def _fit_summary(self) -> None:
        """The first finding takes what room the facts, and what is being said, leave."""
        taken = self.facts.sizeHint().width() + (
            self.status_message.sizeHint().width() if self.status_message.whole else 0
        )
        room = max(LEAST_SUMMARY, self.width() - taken - 90)
        self.words.setText(self.fontMetrics().elidedText(self.summary, Qt.TextElideMode.ElideRight, room))

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._fit_summary()

    def toggle(self) -> None:
        if self.panel.isVisible():
            self.panel.hide()
        else:
            self.open()

    def open(self) -> None:
        self._fill()
        window = self.window()
        count = max(1, len(self.findings()))
        height = min(320, 30 + 58 * count)
        self.panel.setGeometry(8, window.height() - self.height() - height - 2, min(720, window.width() - 40), height)
        self.panel.show()
        self.panel.raise_()

    def _fill(self) -> None:
        clear(self.list)
        findings = self.findings()
        if not findings:
            self.list.addWidget(label("No findings: the drive can run."))
        for finding in findings:
            item = QWidget()
            explained_by(item, self._page_of(finding))
            inside = QVBoxLayout(item)
            inside.setContentsMargins(0, 0, 0, 0)
            inside.setSpacing(1)
            text = wrapped(finding.sentence)
            inside.addWidget(text)
            links: list[QWidget | int] = [label("Fault" if finding.stops else "Attention", "muted")]
            if finding.card or finding.field:
                links.append(button("Go to it", lambda f=finding: self._go(f), "link"))
            if finding.fix is not None:
                links.append(
                    button(
                        f"Fix: {finding.fix_label[:1].lower()}{finding.fix_label[1:]}",
                        lambda f=finding: self.session.do(f.fix),
                        "link",
                    )
                )
            inside.addLayout(row(*links, 1, spacing=14))
            self.list.addWidget(item)
        self.list.addStretch(1)

    def _page_of(self, finding: Finding) -> str:
        """The page of help on what a finding is about: its card's kind, or a setting of the drive."""
        card = self.session.drive.cards.get(finding.card)
        return card.kind if card is not None else f"setting:{finding.field}" if finding.field else ""

    def _go(self, finding: Finding) -> None:
        self.go_wanted.emit(finding)
        self.panel.hide()

    def sizeHint(self) -> QSize:
        return QSize(400, 26)


def facts_of(run: KeptRun) -> str:
    """How long a run is and what it took; the kept part of a live one took what the clock did."""
    if not run.seconds:
        return f"{run.name} kept · {run.end - run.begin:.3g} s"
    steps = f"{run.counters['steps']:,}".replace(",", "\u2009")
    words = f"{run.name} kept · {run.end:.3g} s in {run.seconds:.2f} s · {steps} steps"
    if load := run.settings.get("load"):
        words += f" · load {100 * load:.3g} %, worst step {figure(run.settings['worst_step'], 's', 2)}"
    return words
