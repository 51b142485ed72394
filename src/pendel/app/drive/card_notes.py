"""What is shown next to the values of a card: findings with their remedies, and where values come from."""

from __future__ import annotations

import math

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QWidget

from pendel.app.session.session import Session
from pendel.app.widgets.basic import button, column, row, wrapped
from pendel.app.widgets.theme import colour
from pendel.core.catalogue.declare import ANY
from pendel.core.drive.findings import Finding
from pendel.core.envelope.origin import path_of, state_of
from pendel.core.quantities.expressions import is_literal
from pendel.core.quantities.units import figure, number_text
from pendel.core.system.fold import TORQUE, without_envelope


def what_it_comes_to(session: Session, card: str, name: str, unit: str, text: str) -> str:
    """Below a value: what an expression comes to, and whether a rule proposed it; empty where neither is."""
    number = session.examined.values.get(card, {}).get(name, math.nan)
    words = []
    if text.strip() and not is_literal(text) and not math.isnan(number):
        words.append(f"= {figure(number, unit) if unit != ANY else number_text(number) + ' in SI'}")
    if session.drive.cards[card].is_proposed(name):
        words.append("proposed")
    return ", ".join(words)


class OriginLine(QWidget):
    """Which drive the values of a card were made of, whether that was changed since, and the way to it."""

    def __init__(self, session: Session, card: str):
        super().__init__()
        made_from = session.drive.cards[card].made_from
        folder = session.path.parent if session.path is not None else None
        same, sentence = state_of(made_from, folder)
        body = column(self, (0, 2, 0, 6), 4)
        body.addWidget(wrapped(sentence, "muted" if same else "wrong"))
        path = path_of(made_from, folder)
        if path is not None:
            body.addLayout(row(button("Open that drive", lambda: session.drive_wanted.emit(str(path)), "small"), 1))


class EnvelopeLine(QWidget):
    """That a machine carries an envelope, and the way to let it go."""

    def __init__(self, session: Session, card: str):
        super().__init__()
        envelope = session.drive.cards[card].envelope
        asked = envelope.get(TORQUE, "")
        body = column(self, (0, 2, 0, 6), 4)
        sentence = (
            f"Carries an envelope for the level System: torque asked at {asked}, {envelope.get('M_max', '')} at most."
        )
        body.addWidget(wrapped(sentence, "muted"))
        body.addLayout(row(button("Remove it", lambda: session.do(without_envelope(session.drive, card)), "small"), 1))


class FindingCard(QWidget):
    """A finding with its remedy."""

    def __init__(self, finding: Finding, session: Session):
        super().__init__()
        tint, ink = ("brick_tint", "brick") if finding.stops else ("brass_tint", "brass_text")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setObjectName("finding")
        self.setStyleSheet(
            f"QWidget#finding {{ background: {colour(tint).name()}; border: 1px solid "
            f"{colour(ink).name()}; border-radius: 4px; }}"
        )
        body = column(self, (10, 7, 10, 7), 3)
        text = wrapped(finding.sentence)
        text.setStyleSheet("font-size: 11px;")
        body.addWidget(text)
        if finding.fix is not None:
            fix = button(
                f"Fix: {finding.fix_label[:1].lower()}{finding.fix_label[1:]}",
                lambda: session.do(finding.fix),
                "link",
            )
            fix.setStyleSheet("font-weight: bold; font-size: 11px;")
            body.addWidget(fix)
