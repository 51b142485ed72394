"""The left column of the Bench page: which board, its state, and what is done with it."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QComboBox, QGridLayout, QLineEdit, QWidget

from pendel.app.bench.board import STAND_IN, Board, LinkState
from pendel.app.widgets.basic import Elided, button, column, label, row, rule, wrapped
from pendel.app.widgets.theme import colour
from pendel.core.bench.facts import BoardFacts, BoardState, Order
from pendel.core.firmware.targets import TARGETS
from pendel.core.quantities.units import figure, number_text
from pendel.core.wording import sentence_case

KINDS = (
    ("Stand-in board", STAND_IN, "A simulated board on this computer, with the drive around it"),
    ("TCP", "tcp://", "host:port"),
    ("UDP", "udp://", "host:port"),
    ("Serial line", "serial://", "/dev/ttyUSB0?speed=1000000"),
    ("CAN, CAN FD", "can://", "socketcan:can0?to=0x600&from=0x601&bitrate=500000&fd=0"),
)
MARKS = {
    BoardState.IDLE: ("idle", "muted"),
    BoardState.ENABLED: ("enabled", "moss"),
    BoardState.FAULT: ("fault", "brick"),
}


class LinkPanel(QWidget):
    ports_wanted = pyqtSignal()

    def __init__(self, board: Board):
        super().__init__()
        self.board = board
        self.setObjectName("side")
        self.setFixedWidth(264)
        inside = column(self, (16, 12, 14, 12), 6)
        inside.addWidget(label("Board", "heading"))
        self.kind = QComboBox()
        self.kind.setAccessibleName("Kind of link")
        for title, prefix, hint in KINDS:
            self.kind.addItem(title, prefix)
            self.kind.setItemData(self.kind.count() - 1, hint, Qt.ItemDataRole.ToolTipRole)
        self.kind.activated.connect(lambda _: self._show_kind())
        inside.addWidget(self.kind)
        self.place = QComboBox()
        self.place.setEditable(True)
        self.place.setAccessibleName("Address of the board")
        line = self.place.lineEdit()
        assert isinstance(line, QLineEdit)
        line.returnPressed.connect(self.connect_or_not)
        self.refresh_button = button("Find", self.find_ports)
        self.refresh_button.setToolTip("Look for ports again")
        self.place_row = QWidget()
        place_inside = column(self.place_row, (0, 0, 0, 0))
        place_inside.addLayout(row(self.place, self.refresh_button, spacing=4))
        inside.addWidget(self.place_row)
        self.connect_button = button("Connect", self.connect_or_not, "primary")
        inside.addWidget(self.connect_button)
        inside.addSpacing(4)
        inside.addWidget(rule())
        self.state = label("", "title")
        inside.addWidget(self.state)
        self.code = wrapped("", "muted")
        inside.addWidget(self.code)
        self.enable_button = button("Enable", lambda: board.order(Order.ENABLE))
        self.idle_button = button("Set idle", lambda: board.order(Order.IDLE))
        self.acknowledge_button = button("Acknowledge", lambda: board.order(Order.ACKNOWLEDGE))
        inside.addLayout(row(self.enable_button, self.idle_button, spacing=4))
        inside.addWidget(self.acknowledge_button)
        inside.addSpacing(4)
        inside.addWidget(rule())
        inside.addWidget(label("Program", "heading"))
        self.load_button = button("Build and load", lambda: board.load())
        self.load_button.setToolTip("Compile the controller for the board, load it over the link and start it")
        self.idle_load_button = button("Set idle and load", lambda: board.load(idle_first=True))
        self.target = QComboBox()
        self.target.setAccessibleName("Built for")
        for name, title in TARGETS.items():
            self.target.addItem(f"for {title}", name)
        self.target.setToolTip(
            "What runs the controller of a stand-in board: this computer, or an emulated processor "
            "with the link at its "
            "UART"
        )
        self.target.activated.connect(lambda _: setattr(board, "target", self.target.currentData()))
        inside.addWidget(self.target)
        inside.addWidget(self.load_button)
        inside.addWidget(self.idle_load_button)
        inside.addSpacing(4)
        inside.addWidget(rule())
        inside.addLayout(self._build_figures())
        inside.addStretch(1)
        board.changed.connect(self.refresh)
        board.progressed.connect(self._show_progress)
        self._show_kind()
        self.refresh()

    def _build_figures(self) -> QGridLayout:
        grid = QGridLayout()
        grid.setVerticalSpacing(5)
        self.figures: dict[str, Elided] = {}
        names = (
            ("Sampling period", ""),
            ("Running for", "Time of the board since its program started"),
            ("Late ticks", "Ticks that began more than 10 ms late"),
            ("Lost samples", "Samples that found no room on the link"),
            ("Garbled bytes", "Bytes received that were no packet"),
            ("Faults", ""),
            ("Processor", "The processor that runs the code of a stand-in board"),
            ("Pace", "Simulated time over time by the clock, of a stand-in board"),
            ("Load", "Computing time over time by the clock, of a stand-in board, on one core"),
        )
        for line, (name, hint) in enumerate(names):
            title = label(name, "muted")
            title.setToolTip(hint)
            value = Elided("–", "figure", right=True)
            self.figures[name] = value
            grid.addWidget(title, line, 0)
            grid.addWidget(value, line, 1)
        grid.setColumnStretch(1, 1)
        return grid

    # The link.

    def _show_kind(self) -> None:
        kind = self.kind.currentData()
        self.place_row.setVisible(kind != STAND_IN)
        hint = KINDS[self.kind.currentIndex()][2]
        line = self.place.lineEdit()
        if kind != STAND_IN and line is not None:
            self.find_ports()
            line.setPlaceholderText(hint)
            self.place.setToolTip(f"Such as {hint}")

    def find_ports(self) -> None:
        """Offer the ports that there are."""
        from pendel.core.bench.ports import ports_for

        typed = self.place.currentText()
        ports = ports_for(self.kind.currentData())
        self.place.clear()
        self.place.addItems(ports)
        self.place.setEditText(typed if typed and typed not in ports else ports[0] if ports else "")

    @property
    def address(self) -> str:
        kind = self.kind.currentData()
        return kind if kind == STAND_IN else f"{kind}{self.place.currentText().strip()}"

    def connect_or_not(self) -> None:
        if self.board.link in (LinkState.OPEN, LinkState.OPENING):
            self.board.disconnect()
        else:
            self.board.connect_to(self.address)

    # Its status.

    def refresh(self) -> None:
        board, facts = self.board, self.board.facts
        open_ = board.link is LinkState.OPEN
        tied = board.link in (LinkState.OPEN, LinkState.OPENING)
        self.connect_button.setText("Disconnect" if tied else "Connect")
        self.kind.setEnabled(not tied)
        self.place_row.setEnabled(not tied)
        words, tint = board.link.value, "muted"
        if open_ and facts is not None:
            words, tint = MARKS[facts.state] if not facts.empty else ("empty", "muted")
        self.state.setText(sentence_case(words))
        self.state.setStyleSheet(f"color: {colour(tint if tint != 'muted' else 'ink').name()};")
        self.code.setText(self._code_words(facts))
        idle = open_ and facts is not None and facts.state is BoardState.IDLE
        enabled = open_ and facts is not None and facts.state is BoardState.ENABLED
        free = not board.busy
        self.enable_button.setEnabled(bool(idle and board.matches and free))
        self.idle_button.setEnabled(bool(enabled and free))
        self.acknowledge_button.setVisible(bool(open_ and facts is not None and facts.state is BoardState.FAULT))
        self.load_button.setEnabled(bool(open_ and free and not enabled and board.description))
        self.idle_load_button.setVisible(bool(enabled))
        self.idle_load_button.setEnabled(bool(free and board.description))
        self._show_figures(facts)

    def _code_words(self, facts: BoardFacts | None) -> str:
        described = self.board.described
        if described is not None and described.problem:
            return described.problem
        if facts is None:
            return "Connect to a board, then build and load."
        if facts.empty:
            return "There is no program on the board yet."
        if self.board.matches:
            return f"Its code is that of this drive ({facts.checksum:08x})."
        code = f"Its code ({facts.checksum:08x})"
        return f"{code} is not that of this drive, so nothing is written to it. Build and load."

    def _show_figures(self, facts: BoardFacts | None) -> None:
        texts = dict.fromkeys(self.figures, "–")
        if facts is not None and not facts.empty:
            texts |= {
                "Sampling period": figure(facts.tick, "s"),
                "Running for": f"{facts.ticks * facts.tick:.1f} s",
                "Late ticks": number_text(facts.late),
                "Lost samples": number_text(facts.lost),
                "Garbled bytes": number_text(facts.garbled),
                "Faults": number_text(facts.faults),
            }
        status = self.board.status
        if status.get("program") == "runs":
            texts["Processor"] = status.get("processor") or "this computer"
            texts["Pace"] = f"{status['pace']:.2f} ×"
            texts["Load"] = f"{100 * status['load']:.0f} %"
        for name, text in texts.items():
            self.figures[name].set_text(text)

    def _show_progress(self, share: float) -> None:
        self.code.setText(f"Loading, {100 * share:.0f} % …")
