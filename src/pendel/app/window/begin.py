"""Where one begins: what was left unsaved, recent drives, examples, each with what it is about."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QModelIndex, QObject, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QPainter, QPixmap
from PyQt6.QtWidgets import (
    QCheckBox,
    QDialog,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QWidget,
)

from pendel.app.session.jobs import LIST_DRIVES, End, Job, Jobs
from pendel.app.session.listed import EXAMPLE, LEFT, Listed, all_listed, found
from pendel.app.widgets.basic import Elided, button, column, row, scrolled, wrapped
from pendel.app.widgets.marked_text import MarkedText
from pendel.app.widgets.small_sheet import SmallSheet, small_picture
from pendel.app.widgets.theme import colour, font
from pendel.core.drive import view_edits

ROLE = Qt.ItemDataRole.UserRole + 1
"""Of an item: its `Listed`, or the heading of a group."""
PICTURE = Qt.ItemDataRole.UserRole + 2
PICTURE_SIZE = QSize(116, 62)
HEADING_HEIGHT, ROW_HEIGHT, MARGIN = 30, 76, 8
"""px"""


class ListedDelegate(QStyledItemDelegate):
    """A picture, a title, and two lines."""

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex) -> QSize:  # noqa: N802
        return QSize(100, HEADING_HEIGHT if isinstance(index.data(ROLE), str) else ROW_HEIGHT)

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        assert painter is not None
        entry, room = index.data(ROLE), QRectF(option.rect)
        painter.save()
        if isinstance(entry, str):
            painter.setFont(font(12, bold=True))
            painter.setPen(colour("muted"))
            painter.drawText(room.adjusted(MARGIN, 6, -MARGIN, 0), Qt.AlignmentFlag.AlignVCenter, entry)
            painter.restore()
            return
        if option.state & QStyle.StateFlag.State_Selected:
            painter.fillRect(option.rect, colour("petrol_tint"))
        box = QRectF(room.x() + MARGIN, room.y() + 7, PICTURE_SIZE.width(), PICTURE_SIZE.height())
        picture = index.data(PICTURE)
        if isinstance(picture, QPixmap):
            painter.drawPixmap(box.topLeft(), picture)
        painter.setPen(colour("hairline"))
        painter.drawRect(box)
        words = QRectF(box.right() + 10, room.y() + 6, room.right() - box.right() - 16, room.height() - 10)
        painter.setFont(font(12, bold=True))
        painter.setPen(colour("ink"))
        title = painter.fontMetrics().elidedText(entry.title, Qt.TextElideMode.ElideRight, int(words.width()))
        painter.drawText(words, Qt.AlignmentFlag.AlignTop, title)
        painter.setFont(font(11))
        painter.setPen(colour("muted"))
        flags = Qt.AlignmentFlag.AlignTop | Qt.TextFlag.TextWordWrap
        painter.drawText(words.adjusted(0, 19, 0, 0), flags, entry.sentence)
        painter.restore()


class BeginDialog(QDialog):
    """``chosen`` gives what is to be opened; ``new_wanted``, ``file_wanted`` and ``steps_wanted`` are the other ways to
    begin."""

    chosen = pyqtSignal(object)
    new_wanted = pyqtSignal()
    file_wanted = pyqtSignal()
    steps_wanted = pyqtSignal()
    at_start_changed = pyqtSignal(bool)

    def __init__(self, jobs: Jobs, recent: list[str], *, at_start: bool, parent: QWidget):
        super().__init__(parent)
        self.setWindowTitle("Begin")
        self.resize(1080, 680)
        self.all: list[Listed] = []
        body = QHBoxLayout(self)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(0)
        body.addWidget(self._build_list(at_start=at_start))
        body.addWidget(self._build_side(), 1)
        self._fill("")
        jobs.start(LIST_DRIVES, lambda job: all_listed(recent), self._take)
        self.line.setFocus()

    def _build_list(self, *, at_start: bool) -> QWidget:
        side = QWidget()
        side.setObjectName("side")
        side.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        side.setFixedWidth(470)
        inside = column(side, (10, 12, 10, 10), 6)
        new = button("New drive …", self.new_wanted.emit, "primary")
        new.setToolTip("An empty sheet, or a whole drive from what a data sheet gives")
        from_file = button("Open a file …", self.file_wanted.emit)
        steps = button("First steps", self.steps_wanted.emit)
        steps.setToolTip("A tour in the window: look, run, change, compare, tune, own part, firmware, board")
        for each in (new, from_file, steps):
            each.setAutoDefault(False)
        inside.addLayout(row(new, from_file, steps, 1))
        self.line = QLineEdit()
        self.line.setPlaceholderText("search: what it is, what is in it, what it is called …")
        self.line.setAccessibleName("Search drives")
        self.line.setClearButtonEnabled(True)
        self.line.textChanged.connect(self._fill)
        self.line.installEventFilter(self)
        inside.addWidget(self.line)
        self.list = QListWidget()
        self.list.setAccessibleName("Drives to open")
        self.list.setItemDelegate(ListedDelegate(self.list))
        self.list.setVerticalScrollMode(QListWidget.ScrollMode.ScrollPerPixel)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.currentItemChanged.connect(lambda item, _: self._show(item))
        self.list.itemActivated.connect(lambda _: self.open_current())
        inside.addWidget(self.list, 1)
        self.start_box = QCheckBox("Show this where no file is opened")
        self.start_box.setChecked(at_start)
        self.start_box.toggled.connect(self.at_start_changed)
        inside.addWidget(self.start_box)
        return side

    def _build_side(self) -> QWidget:
        right = QWidget()
        right.setObjectName("inspector")
        right.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        inside = column(right, (20, 16, 18, 14), 8)
        self.title = Elided("", "title")
        self.where = Elided("", "muted")
        inside.addWidget(self.title)
        inside.addWidget(self.where)
        inner = QWidget()
        words = column(inner, (0, 4, 8, 4), 6)
        self.sentence = wrapped("")
        self.text = MarkedText("What it says of itself")
        words.addWidget(self.sentence)
        words.addWidget(self.text)
        words.addStretch(1)
        inside.addWidget(scrolled(inner), 2)
        self.sheet = SmallSheet()
        inside.addWidget(self.sheet, 3)
        self.open_button = button("Open", self.open_current, "primary")
        self.open_button.setDefault(True)
        self.close_button = button("Close", self.reject)
        self.close_button.setAutoDefault(False)
        inside.addLayout(row(self.open_button, self.close_button, 1, spacing=8))
        return right

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:  # noqa: N802
        """Arrow keys in the search line go through the list."""
        keys = (Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_PageUp, Qt.Key.Key_PageDown)
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress and event.key() in keys:
            self.list.keyPressEvent(event)
            return True
        return super().eventFilter(watched, event)

    def _take(self, job: Job) -> None:
        if job.end is End.FINISHED:
            self.all = job.result
            self._fill(self.line.text())
        elif job.end is End.FAILED:
            self.sentence.setText(job.sentence)

    def _fill(self, text: str) -> None:
        """List what has all words of a text."""
        self.list.clear()
        group = ""
        for each in found(self.all, text):
            if each.group != group:
                group = each.group
                heading = QListWidgetItem(self.list)
                heading.setData(ROLE, group)
                heading.setFlags(Qt.ItemFlag.NoItemFlags)
                heading.setText(group)
            item = QListWidgetItem(self.list)
            item.setData(ROLE, each)
            item.setData(Qt.ItemDataRole.AccessibleTextRole, f"{each.title}. {each.sentence}")
            if each.drive is not None:
                item.setData(PICTURE, small_picture(each.drive, PICTURE_SIZE))
        first = next((k for k in range(self.list.count()) if self._listed(self.list.item(k)) is not None), -1)
        self.list.setCurrentRow(first)
        if first < 0:
            self._show(None)
            self.sentence.setText("Nothing has all these words." if self.all else "Reading …")

    @staticmethod
    def _listed(item: QListWidgetItem | None) -> Listed | None:
        found = item.data(ROLE) if item is not None else None
        return found if isinstance(found, Listed) else None

    @property
    def current(self) -> Listed | None:
        return self._listed(self.list.currentItem())

    def _show(self, item: QListWidgetItem | None) -> None:
        one = self._listed(item)
        self.title.set_text(one.title if one else "")
        where = str(one.path) if one and one.path and one.group != EXAMPLE else one.group if one else ""
        self.where.set_text(where)
        text = view_edits.about(one.drive) if one and one.drive is not None else ""
        self.text.setVisible(bool(text))
        self.text.show_text(text)
        self.sentence.setText(one.sentence if one and not text else "")
        self.sentence.setVisible(bool(self.sentence.text()))
        self.sheet.show_drive(one.drive if one else None)
        self.open_button.setEnabled(one is not None)
        self.open_button.setText("Take it up" if one and one.group == LEFT else "Open")

    def open_current(self) -> None:
        if self.current is not None:
            self.chosen.emit(self.current)
