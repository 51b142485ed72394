"""The middle of the Bench page: the oscilloscope with its channels, trigger, records and files."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PyQt6.QtCore import Qt, QTimer, pyqtSignal
from PyQt6.QtWidgets import QComboBox, QCompleter, QFileDialog, QMenu, QWidget

from pendel.app.bench.board import Board, LinkState
from pendel.app.bench.channel_table import ChannelTable, Shown
from pendel.app.bench.scope_plot import ScopePlot
from pendel.app.bench.scope_spectrum import ScopeSpectrum
from pendel.app.bench.stream_keeper import StreamKeeper
from pendel.app.bench.trigger_bar import TriggerBar
from pendel.app.session.session import Session
from pendel.app.session.usual_strips import default_strips, keys_of, setpoint_and_actual
from pendel.app.widgets.asked_path import asked_path
from pendel.app.widgets.basic import Elided, Field, button, column, label, row
from pendel.app.widgets.timers import Later
from pendel.core.bench.description import Channel, Description
from pendel.core.bench.errors import BenchProblem
from pendel.core.bench.recording import Recording
from pendel.core.bench.sampling import Sampler
from pendel.core.bench.setups import ChannelSetup, read_setup, setup_text
from pendel.core.bench.trigger import Frame, Mode, Scope
from pendel.core.catalogue.assembly import kind_in
from pendel.core.catalogue.declare import Block
from pendel.core.drive.document import renamed_signal
from pendel.core.errors import ExpressionProblem, PendelError
from pendel.core.files.writing import write_atomically
from pendel.core.quantities.expressions import value_in_field
from pendel.core.quantities.named import Names
from pendel.core.runs.record.kept import KeptRun

FRAME_MS, SPECTRUM_MS = 33, 120
SOME_ROWS, FEW_ROWS = 124, 78
"""Heights of the table of channels, px."""
FIRST_CHANNELS, MOST_CHANNELS = 4, 16


class ScopePanel(QWidget):
    status_message = pyqtSignal(str)

    def __init__(self, board: Board):
        super().__init__()
        self.board, self.session = board, board.session
        self.shown: list[Shown] = []
        self._offered: list[KeptRun] = []
        """Runs to be drawn beside, the newest first."""
        self.keys: list[str] = []
        """Channels by key, also those that the present drive does not have."""
        self._renamed: list[tuple[str, str]] = []
        """Cards that were called otherwise since the drive was opened, by id, and what they were called then."""
        self._emptied = self._of_another_drive = False
        """Whether the last channel was taken off by hand; else the usual ones are shown where there are none."""
        self.sampler: Sampler | None = None
        self._starting = False
        """Whether samples were asked for that did not come yet."""
        self.scope: Scope | None = None
        self.frame: Frame | None = None
        self.frames = 0
        """Frames that were drawn."""
        self.stream = StreamKeeper(board.session.jobs, self)
        self.stream.status_message.connect(self.status_message)
        self.stream.changed.connect(self.refresh)
        inside = column(self, (12, 10, 12, 6), 6)
        inside.addLayout(self._build_top())
        self.trigger = TriggerBar()
        self.trigger.changed.connect(self._trigger_changed)
        inside.addWidget(self.trigger)
        self.plot = ScopePlot()
        self.plot.words_of = lambda number, height: self.shown[number].words(height)
        self.plot.cursors_moved.connect(self._show_figures)
        inside.addWidget(self.plot, 3)
        self.spectrum = ScopeSpectrum()
        self.spectrum.hide()
        inside.addWidget(self.spectrum)
        inside.addLayout(self._build_middle())
        self.table = ChannelTable()
        self.table.changed.connect(self._channel_changed)
        self.table.removed.connect(self.remove)
        self.table.refused.connect(self.status_message)
        self.table.setMinimumHeight(SOME_ROWS)
        inside.addWidget(self.table, 1)
        self._late_spectrum = Later(self, SPECTRUM_MS, self._show_spectrum)
        self.table.itemSelectionChanged.connect(self._late_spectrum.start)
        self._timer = QTimer(self)
        self._timer.setInterval(FRAME_MS)
        self._timer.timeout.connect(self.look)
        board.changed.connect(self.refresh)
        board.framed.connect(self._take_record)
        self.session.runs_changed.connect(self._offer_runs)
        self.session.opened.connect(self._take_other_drive)
        self.session.card_renamed.connect(lambda *names: self._renamed.append(names))
        self._offer_runs()
        self.refresh()

    def _build_top(self):
        self.run_button = button("Start", self.start_or_stop, "primary")
        self.run_button.setToolTip("Sample on the board and show it; Space")
        self.single_button = button("Record at full rate", self.record)
        self.single_button.setToolTip(
            "The board keeps every tick around the trigger in its own memory and sends it afterwards: for "
            "lines that "
            "are slower than the controller"
        )
        self.add_channel = QComboBox()
        self.add_channel.setEditable(True)
        self.add_channel.setInsertPolicy(QComboBox.InsertPolicy.NoInsert)
        self.add_channel.setAccessibleName("Add a channel")
        self.add_channel.setFixedWidth(270)
        line, completer = self.add_channel.lineEdit(), self.add_channel.completer()
        assert line is not None
        line.setPlaceholderText("add a channel, or 0:0x24 int16")
        if completer is not None:
            completer.setFilterMode(Qt.MatchFlag.MatchContains)
            completer.setCompletionMode(QCompleter.CompletionMode.PopupCompletion)
        self.add_channel.activated.connect(lambda at: self.add(self.add_channel.itemData(at) or ""))
        line.returnPressed.connect(self._add_typed)
        self.state = Elided("", "muted")
        bar = row(self.run_button, self.single_button, self.state, self.add_channel)
        bar.setStretch(2, 1)
        return bar

    def _build_middle(self):
        self.overlay = QComboBox()
        self.overlay.setAccessibleName("Run to draw beside it")
        self.overlay.setToolTip("Draws the same signals of a kept run, dashed")
        self.overlay.activated.connect(lambda _: self._lay_beside())
        self.shift = Field("0 s", "Time of the run at the oscilloscope's 0", 58)
        self.shift.setFixedWidth(58)
        self.shift.setToolTip("Time of the run that lies at the oscilloscope's time 0")
        self.shift.committed.connect(lambda _: self._lay_beside())
        self.spectrum_button = button("Spectrum", self.toggle_spectrum)
        self.spectrum_button.setCheckable(True)
        self.spectrum_button.setToolTip("Lines of the chosen channel between the cursors")
        self.keep_button = button("Record stream", self.keep_or_stop)
        self.keep_button.setCheckable(True)
        self.keep_button.setToolTip("Keep all samples from now on, to be saved")
        self.save_button = button("Save …", self.save)
        self.save_button.setToolTip("What was recorded, else the window: MDF4, CSV, MAT or HDF5")
        self.setup_button = button("Set-up", lambda: None)
        self.setup_menu = QMenu(self.setup_button)
        self.setup_menu.addAction("Save set-up …", lambda: self.save_setup())
        self.setup_menu.addAction("Load set-up …", lambda: self.load_setup())
        self.setup_button.setMenu(self.setup_menu)
        return row(
            label("compare with", "muted"),
            self.overlay,
            label("at", "muted"),
            self.shift,
            1,
            self.spectrum_button,
            self.keep_button,
            self.save_button,
            self.setup_button,
            spacing=4,
        )

    # Channels.

    def refresh(self) -> None:
        """Follow the board: what it has, and whether it can be sampled."""
        description = self.board.description
        if description is not None:
            self._offer(description)
            if self._of_another_drive:  # it may be the same one, read again
                self.keys = self.keys if all(has(description, key) for key in self.keys) else []
                self._of_another_drive = False
            if not self.keys and not self._emptied:
                self.keys = self._first_channels(description)
            self._rebuild(description)
            self.trigger.set_tick(description.tick)
        ready = self.board.link is LinkState.OPEN and self.board.matches
        self._starting = self._starting and self.board.busy  # else the board refused
        running = self.sampler is not None
        if running and self.board.sampler is not self.sampler:
            self._stopped("")
            running = False
        self.run_button.setText("Stop" if running or self._starting else "Start")
        self.run_button.setEnabled(ready and bool(self.shown) or running)
        self.single_button.setEnabled(ready and bool(self.shown) and not self.board.busy)
        self.save_button.setEnabled(self.frame is not None or self.stream.unsaved)
        self.keep_button.setEnabled(running)
        self._show_keeping()

    def _take_other_drive(self) -> None:
        self._of_another_drive, self._emptied = True, False
        self._renamed.clear()

    def _offer(self, description: Description) -> None:
        keys = [self.add_channel.itemData(k) for k in range(self.add_channel.count())]
        if keys == list(description.channels):
            return
        self.add_channel.clear()
        for key, channel in description.channels.items():
            self.add_channel.addItem(channel.title, key)
        self.add_channel.setCurrentIndex(-1)
        self.add_channel.setEditText("")

    def _first_channels(self, description: Description) -> list[str]:
        """What the strips would show first, as far as the board has it."""
        wanted = [*regulated(self.session), *keys_of(default_strips(self.session))]
        by_signal: dict[str, str] = {}
        for key, channel in description.channels.items():
            if channel.signal and not key.startswith("output:"):
                by_signal.setdefault(channel.signal, key)
        channels = [by_signal[signal] for signal in wanted if signal in by_signal]
        return list(dict.fromkeys([*channels, *by_signal.values()]))[:FIRST_CHANNELS]

    def _rebuild(self, description: Description) -> None:
        """Channels anew where the description has them elsewhere now; those it has not are left out and
        said."""
        known = {one.channel.key: one for one in self.shown}
        shown, gone = [], []
        for place, key in enumerate(self.keys):
            now = key if has(description, key) else self._called_now(key)
            try:
                channel = description.channel(now)
            except BenchProblem:
                gone.append(key)
                continue
            self.keys[place] = now
            before = known.get(key)
            shown.append(Shown(channel, before.scale, before.offset, before.visible) if before else Shown(channel))
        if gone:
            self.keys = [k for k in self.keys if k not in gone]
            words = ", ".join(gone)
            self.status_message.emit(f"The board has no {words} any more, so the oscilloscope leaves it out.")
        if [s.channel for s in shown] != [s.channel for s in self.shown]:
            self._show_channels(shown)
            if self.sampler is not None:
                self._restart()

    def _called_now(self, key: str) -> str:
        """The key of a channel whose card may be called otherwise."""
        role, colon, signal = key.rpartition(":")
        for old, new in self._renamed:
            signal = renamed_signal(signal, old, new)
        return role + colon + signal

    def _show_channels(self, shown: list[Shown]) -> None:
        self.shown = shown
        self.table.fill(shown)
        self.trigger.show_sources(shown)
        self.plot.show_channels(len(shown), [s.visible for s in shown])
        self._show_units()
        self._show_overlay()
        self.frame = None

    def _show_units(self) -> None:
        plain = [s for s in self.shown if s.visible]
        self.plot.show_units([s.channel.unit if s.scale == 1.0 else f"{s.scale:g} {s.channel.unit}" for s in plain])

    def add(self, key: str) -> None:
        description = self.board.description
        self.add_channel.setCurrentIndex(-1)
        self.add_channel.setEditText("")
        if not key or description is None:
            return
        try:
            channel = description.channel(key)
        except BenchProblem as problem:
            self.status_message.emit(str(problem))
            return
        if len(self.keys) >= MOST_CHANNELS:
            self.status_message.emit(f"{MOST_CHANNELS} channels are shown at most. Take one off first.")
        elif channel.key not in self.keys:
            self.keys.append(channel.key)
            self._show_channels([*self.shown, Shown(channel)])
            self._restart_if_running()
        self.refresh()

    def _add_typed(self) -> None:
        text = self.add_channel.currentText()
        at = self.add_channel.findText(text, Qt.MatchFlag.MatchFixedString)
        if at >= 0:
            self.add(self.add_channel.itemData(at))
        elif text.strip():
            self.add(text.strip())

    def remove(self, place: int) -> None:
        del self.keys[place]
        self._emptied = not self.keys
        self._show_channels([s for k, s in enumerate(self.shown) if k != place])
        self._restart_if_running()
        self.refresh()

    def _channel_changed(self, place: int, shown: Shown) -> None:
        self.shown[place] = shown
        self.plot.show_channels(len(self.shown), [s.visible for s in self.shown])
        self._show_units()
        if self.frame is not None:
            self._draw(self.frame)
        self._show_overlay()

    # Sampling.

    def start_or_stop(self) -> None:
        if self.sampler is not None or self._starting:
            self.board.stop_sampling()
            self._stopped("Stopped.")
        elif self.shown:
            self._start()

    def _start(self) -> None:
        self._starting = True
        channels = [s.channel for s in self.shown]
        self.board.sample(channels, self.trigger.ticks_a_sample, self._started)

    def _started(self, sampler: Sampler) -> None:
        self._starting = False
        if list(sampler.channels) != [s.channel for s in self.shown]:  # others were chosen since it was asked for
            self._restart()
            return
        self.sampler = sampler
        self._new_scope()
        self._timer.start()
        self.refresh()

    @property
    def draws(self) -> bool:
        """Whether it looks for samples, frame by frame."""
        return self._timer.isActive()

    def _restart_if_running(self) -> None:
        if self.sampler is not None:
            self._restart()

    def _restart(self) -> None:
        self._timer.stop()
        self._end_recording("Other channels are sampled now, or at another rate")
        if self.shown:
            self._start()
        else:
            self.board.stop_sampling()
            self._stopped("")

    def _stopped(self, words: str) -> None:
        self._timer.stop()
        self.sampler, self._starting = None, False
        self._end_recording()
        self.state.set_text(words)
        self.refresh()

    def _new_scope(self) -> None:
        description = self.board.description
        if description is None:
            return
        self.scope = Scope(self.trigger.trigger, self.trigger.frame_samples, description.tick)

    def _trigger_changed(self) -> None:
        if self.sampler is not None and self.trigger.ticks_a_sample != self.sampler.every:
            self._restart()
        else:
            self._new_scope()

    def look(self) -> None:
        """Take what has come, and draw the newest frame."""
        sampler, scope = self.sampler, self.scope
        if sampler is None or scope is None:
            return
        samples = sampler.get()
        self.stream.add(samples)
        frame = scope.add(samples)
        if frame is not None:
            self._draw(frame)
        self.state.set_text(self._state_words(sampler, scope))

    def _state_words(self, sampler: Sampler, scope: Scope) -> str:
        mode = self.trigger.trigger.mode
        words = {
            Mode.FREE: "running",
            Mode.NORMAL: "waits for the trigger",
            Mode.SINGLE: "taken" if scope.done else "waits for the trigger",
        }[mode]
        return words + self.stream.words + (f" · {sampler.lost} samples lost" if sampler.lost else "")

    def _draw(self, frame: Frame) -> None:
        self.frame = frame
        self.frames += 1
        columns = [one.drawn(frame.values[:, k]) for k, one in enumerate(self.shown)]
        self.plot.show_data(frame.times, columns, triggered=frame.triggered)
        self.plot.place_cursors()
        self._show_figures()
        self.save_button.setEnabled(True)

    def _show_figures(self) -> None:
        if self.frame is not None:
            self.table.show_figures(self.frame.times, self.frame.values, *self.plot.cursor_times)
            if self.spectrum.isVisibleTo(self) and not self._late_spectrum.isActive():
                self._late_spectrum.start()

    def toggle_spectrum(self) -> None:
        shown = self.spectrum_button.isChecked()
        self.spectrum.setVisible(shown)
        self.table.setMinimumHeight(FEW_ROWS if shown else SOME_ROWS)
        self._show_spectrum()

    def _show_spectrum(self) -> None:
        """Of the chosen channel, else the first that is drawn."""
        frame, at = self.frame, self.table.currentRow()
        if not 0 <= at < len(self.shown):
            at = next((k for k, s in enumerate(self.shown) if s.visible), -1)
        if frame is None or at < 0 or not self.spectrum.isVisibleTo(self) or frame.values.shape[1] <= at:
            return
        one = self.shown[at]
        a, b = self.plot.cursor_times
        self.spectrum.show_channel(one.channel, at, frame.times, frame.values[:, at], a, b)

    # Records at full rate.

    def record(self) -> None:
        """Have the board take a record around the trigger."""
        channels = [s.channel for s in self.shown if s.visible] or [s.channel for s in self.shown]
        if channels != [s.channel for s in self.shown]:
            self.status_message.emit("A record at full rate has all channels; take off those that are not needed.")
        self.board.capture(
            [s.channel for s in self.shown],
            self.trigger.trigger,
            self.trigger.frame_samples,
            self.trigger.ticks_a_sample,
        )
        self.state.set_text("the board records")

    def _take_record(self, frame: Frame, channels: list[Channel]) -> None:
        if channels != [s.channel for s in self.shown]:
            self.status_message.emit("The record came for other channels than those shown now. Record again.")
            return
        if self.sampler is not None:
            self.board.stop_sampling()
            self._stopped("")
        self._draw(frame)
        self.state.set_text("record at full rate")

    # Streams and files.

    def keep_or_stop(self) -> None:
        description, sampler = self.board.description, self.sampler
        if not self.keep_button.isChecked():
            self._end_recording()
            if self.stream.unsaved:
                self.save()
        elif sampler is None or description is None or not self.stream.begin(sampler.channels, description.tick):
            self.keep_button.setChecked(False)
        self._show_keeping()

    def _show_keeping(self) -> None:
        """The button does what it says."""
        self.keep_button.setText("End stream …" if self.stream.running else "Record stream")

    def _end_recording(self, reason: str = "") -> None:
        """A stream that ends is kept until it is saved or another one begins."""
        if self.stream.running and reason:
            self.status_message.emit(f"{reason}, so the recorded stream has ended. Save it with “Save …”.")
        self.stream.end()
        self.keep_button.setChecked(False)
        self._show_keeping()

    def save(self, path: str = "") -> None:
        """Save what was recorded, else what is shown."""
        if self.stream.recording is not None and self.stream.unsaved:
            self.stream.save(self.stream.recording, path)
        elif self.frame is not None:
            self.stream.save(Recording.of_frame(self.frame, [s.channel for s in self.shown]), path)
        else:
            self.status_message.emit("There is nothing to save yet. Start the oscilloscope first.")

    def save_setup(self, path: str = "") -> None:
        path = path or asked_path(self, "Save the set-up", "scope.json", {".json": "Set-up"})
        if not path:
            return
        channels = [ChannelSetup(s.channel.key, s.scale, s.offset, s.visible) for s in self.shown]
        try:
            write_atomically(Path(path), setup_text(channels, self.trigger.state()))
        except PendelError as problem:
            self.status_message.emit(str(problem))
            return
        self.status_message.emit(f"Saved {path}.")

    def load_setup(self, path: str = "") -> None:
        path = path or QFileDialog.getOpenFileName(self, "Load a set-up", "", "Set-up (*.json)")[0]
        description = self.board.description
        if not path or description is None:
            return
        try:
            setup = read_setup(Path(path))
        except PendelError as problem:
            self.status_message.emit(str(problem))
            return
        shown, gone = [], []
        for one in setup.channels[:MOST_CHANNELS]:
            try:
                channel = description.channel(one.key)
            except BenchProblem:
                gone.append(one.key)
                continue
            if channel not in (s.channel for s in shown):
                shown.append(Shown(channel, one.scale, one.offset, one.visible))
        self.keys = [s.channel.key for s in shown]
        self._show_channels(shown)
        self.trigger.restore(setup.trigger)
        self._restart_if_running()
        if gone:
            self.status_message.emit(f"This board has no {', '.join(gone)}; the rest of the set-up is loaded.")
        self.refresh()

    # A run beside it.

    def _offer_runs(self) -> None:
        chosen = self.overlaid
        self._offered = list(reversed(self.session.runs))
        self.overlay.clear()
        self.overlay.addItems(["no run", *(run.name for run in self._offered)])
        self.overlay.setCurrentIndex(next((k for k, run in enumerate(self._offered, 1) if run is chosen), 0))
        self._show_overlay()

    @property
    def overlaid(self) -> KeptRun | None:
        """The run that is drawn beside; two may have one name."""
        at = self.overlay.currentIndex() - 1
        return self._offered[at] if 0 <= at < len(self._offered) else None

    def _show_overlay(self) -> None:
        run = self.overlaid
        self.plot.show_overlays([] if run is None else list(self._traces_of(run)))

    def _lay_beside(self) -> None:
        """As asked for by hand; says where nothing of it can be seen."""
        self._show_overlay()
        run, (left, right) = self.overlaid, self.plot.vb.viewRange()[0]
        drawn = [curve.xData for curve in self.plot.overlays]
        if run is None or self.shift.property("wrong"):
            return
        if not drawn:
            self.status_message.emit(f"{run.name} has none of these channels.")
        elif not any(len(t) and t[0] < right and t[-1] > left for t in drawn):
            self.status_message.emit(
                f"{run.name} lies beside what is shown. Set which time of it is at the oscilloscope's 0."
            )

    def _traces_of(self, run: KeptRun):
        try:
            shift = value_in_field(self.shift.text(), "s", Names({}))
            self.shift.mark("")
        except ExpressionProblem as problem:
            self.shift.mark(str(problem))
            return
        for k, one in enumerate(self.shown):
            if one.visible and one.channel.signal in run.keys:
                t, y = run.trace(one.channel.signal).drawn
                yield np.asarray(t) - shift, one.drawn(np.asarray(y)), k

    def stop(self) -> None:
        """Nothing is drawn any more."""
        self._timer.stop()


def has(description: Description, key: str) -> bool:
    try:
        description.channel(key)
    except BenchProblem:
        return False
    return True


def regulated(session: Session) -> list[str]:
    """Signals that feed the setpoints and actual values of regulators, the outermost first."""
    sources = {str(w.b): str(w.a) for w in session.drive.wires.values()}
    signals = []
    for key in session.drive.cards:
        try:
            kind = kind_in(session.drive, key)
        except PendelError:
            continue
        if isinstance(kind, Block) and kind.regulates:
            signals += [signal for signal in setpoint_and_actual(kind, key, sources) if signal]
    return signals
