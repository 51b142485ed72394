"""Lets other programs reach the drive of this window, as long as somebody wants it."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import QCheckBox, QDialog, QDialogButtonBox, QLineEdit, QPushButton, QWidget

from pendel.app.session.owning import WindowOwner
from pendel.app.session.session import Session
from pendel.app.widgets.basic import button, column, label, row, wrapped
from pendel.core.errors import PendelError

WORDS = (
    "A Python program of yours does “import pendel; d = pendel.connect()” and has this drive; programs in other "
    "languages speak JSON-RPC 2.0. What they do is seen here at once and can be undone. Only programs of your own user "
    "on this computer get in: over the socket by themselves, over HTTP with the token."
)


class OtherPrograms(QObject):
    """The doors of this window, while they are open. ``changed``: they opened or closed, or somebody came
    or left."""

    changed = pyqtSignal()
    _counted = pyqtSignal(int)

    def __init__(self, session: Session, parent: QObject | None = None):
        super().__init__(parent)
        self.session = session
        self.owner = WindowOwner(session, self)
        self.server = None
        self.connected = 0
        self.problem = ""
        self._counted.connect(self._count)
        session.at_close.append(self.close)

    @property
    def is_open(self) -> bool:
        return self.server is not None

    def open(self) -> None:
        """Open the doors. What goes wrong is in ``problem``."""
        from pendel.remote.here import window_socket
        from pendel.remote.owner import answer_of, files_folder
        from pendel.remote.server import Server

        self.problem = ""
        try:
            files = files_folder(self.session.shelf.folder)
            answer = answer_of(self.owner)
            self.server = Server(files, answer, path=window_socket(), port=0, notice=self._counted.emit)
        except PendelError as problem:
            self.problem = str(problem)
        self.changed.emit()

    def close(self) -> None:
        """Close the doors; who is connected is cut off."""
        if self.server is not None:
            self.server.close()
            self.server = None
        self.connected = 0
        if not self.session.closing:
            self.changed.emit()

    def disconnect_all(self) -> None:
        """Cut off who is connected; the token and the port are others then."""
        if self.is_open:
            self.close()
            self.open()

    def _count(self, count: int) -> None:
        self.connected = count if self.is_open else 0
        self.changed.emit()


class AtWork(QPushButton):
    """Tells in the header that other programs have the drive; a click does what is asked."""

    def __init__(self, others: OtherPrograms, open_dialog: Callable[[], None]):
        super().__init__()
        self.setObjectName("link")
        self.setToolTip("Another program has this drive. Click to see, or to disconnect it.")
        self.clicked.connect(lambda: open_dialog())
        self.others = others
        others.changed.connect(self.refresh)
        self.hide()

    def refresh(self) -> None:
        count = self.others.connected
        self.setText("1 program at work" if count == 1 else f"{count} programs at work")
        self.setVisible(count > 0)


class OtherProgramsDialog(QDialog):
    """On or off, where to reach the drive, and who is connected."""

    def __init__(self, others: OtherPrograms, parent: QWidget):
        super().__init__(parent)
        self.others = others
        self.setWindowTitle("Other programs")
        self.resize(560, 300)
        body = column(self, (16, 14, 16, 14), 8)
        body.addWidget(wrapped(WORDS))
        self.on = QCheckBox("Let other programs reach this drive")
        self.on.setChecked(others.is_open)
        self.on.clicked.connect(self._switch)
        body.addWidget(self.on)
        self.socket, self.address, self.token = (self._line(name) for name in ("Socket", "HTTP", "Token"))
        for line in (self.socket, self.address, self.token):
            copy = button("Copy", lambda field=line: self._copy(field), "small")
            words = label(line.accessibleName(), "muted")
            words.setFixedWidth(60)
            body.addLayout(row(words, line, copy, spacing=8))
        self.token.setEchoMode(QLineEdit.EchoMode.Password)
        self.state = wrapped("", "muted")
        self.cut = button("Disconnect all", self.others.disconnect_all)
        self.cut.setToolTip("Programs that are to come back need the new token")
        line = row(self.state, self.cut, spacing=8)
        line.setStretch(0, 1)
        body.addLayout(line)
        body.addStretch(1)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Close)
        buttons.rejected.connect(self.reject)
        body.addWidget(buttons)
        others.changed.connect(self.refresh)
        self.refresh()

    def _line(self, name: str) -> QLineEdit:
        field = QLineEdit()
        field.setReadOnly(True)
        field.setAccessibleName(name)
        return field

    def _copy(self, field: QLineEdit) -> None:
        clipboard = QGuiApplication.clipboard()
        assert clipboard is not None
        clipboard.setText(field.text())

    def _switch(self, on: bool) -> None:
        self.others.open() if on else self.others.close()

    def refresh(self) -> None:
        server = self.others.server
        self.on.setChecked(self.others.is_open)
        self.socket.setText(str(server.path) if server is not None else "")
        self.address.setText(server.address if server is not None else "")
        self.token.setText(server.token if server is not None else "")
        count = self.others.connected
        words = "Nobody is connected." if not count else "1 program is connected." if count == 1 else ""
        self.state.setText(self.others.problem or (words or f"{count} programs are connected.") * self.others.is_open)
        self.cut.setEnabled(self.others.is_open and count > 0)
