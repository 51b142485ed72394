"""Above the sheet of an open assembly: the way back, and whether others of its design follow."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QCheckBox, QWidget

from pendel.app.session.session import Session
from pendel.app.widgets.basic import button, clear, label, literal, row
from pendel.core.drive import assemblies
from pendel.core.drive.nesting import ancestors

MOST_BOXES = 3


class AssemblyBar(QWidget):
    """Hidden while the drive's own sheet is open."""

    def __init__(self, session: Session):
        super().__init__()
        self.session = session
        self.setObjectName("header")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(34)
        self.boxes: dict[str, QCheckBox] = {}
        self.line = row()
        self.line.setContentsMargins(10, 0, 10, 0)
        self.setLayout(self.line)
        self.shown: tuple = ()
        for signal in (session.sheet_changed, session.opened):
            signal.connect(self.refresh)
        session.changed.connect(lambda _: self.refresh())
        self.refresh()

    def refresh(self) -> None:
        drive, inside = self.session.drive, self.session.inside
        self.setVisible(bool(inside))
        if not inside:
            self.shown = ()
            return
        face = assemblies.face_of(drive, inside)
        others = assemblies.others_of(drive, inside)
        following = {key: drive.cards[key].face.follows for key in others}
        way = [inside, *ancestors(drive, inside)][::-1]
        facts = (
            inside,
            face.follows,
            tuple((k, drive.cards[k].name) for k in way),
            tuple((k, drive.cards[k].name, f) for k, f in following.items()),
        )
        if facts == self.shown:
            return
        self.shown = facts
        clear(self.line)
        self.boxes = {}
        self.line.addWidget(
            button(literal(f"‹ {drive.title.split('·')[-1].strip()}"), lambda: self.session.enter(""), "link")
        )
        for key in way:
            self.line.addWidget(
                button(literal(f"/ {drive.cards[key].name}"), lambda k=key: self.session.enter(k), "link")
            )
        self.line.addStretch(1)
        self._add_following(inside, face.follows, following)

    def _add_following(self, inside: str, follows: bool, others: dict[str, bool]) -> None:
        if not others:
            return
        drive = self.session.drive
        if not follows:
            model = next((k for k, f in others.items() if f), next(iter(others)))
            self.line.addWidget(label("It stands alone.", "muted"))
            self.line.addWidget(
                button(f"Follow {drive.cards[model].name}", lambda: self._follow(inside, True, model), "small")
            )
            return
        self.line.addWidget(label("Changes go also to", "muted"))
        for key in list(others)[:MOST_BOXES]:
            box = QCheckBox(literal(drive.cards[key].name))
            box.setChecked(others[key])
            box.setToolTip(f"Whether {drive.cards[key].name} follows what is changed here")
            box.toggled.connect(lambda on, k=key: self._follow(k, on, inside))
            self.boxes[key] = box
            self.line.addWidget(box)
        if len(others) > MOST_BOXES:
            self.line.addWidget(label(f"and {len(others) - MOST_BOXES} more", "muted"))
        self.line.addWidget(button("Only here", lambda: self._follow(inside, False, inside), "small"))

    def _follow(self, key: str, follows: bool, after: str) -> None:
        self.session.attempt(lambda: assemblies.let_follow(self.session.drive, key, follows, after))
