"""The open drive as scripts and other programs reach it: what they ask in threads of their own is done in the window's,
one thing at a time."""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Callable
from concurrent.futures import Future
from concurrent.futures import TimeoutError as NotDone
from pathlib import Path
from typing import Any, TypeVar

from PyQt6.QtCore import QObject, pyqtSignal

from pendel.app.session.session import Session
from pendel.core.drive import file
from pendel.core.drive.document import Drive
from pendel.core.drive.merging import RecordChange, merged
from pendel.core.errors import DriveProblem, PendelError
from pendel.core.files.writing import write_atomically
from pendel.core.processes.requests import OrderRequest
from pendel.core.runs.record.kept import KeptRun

ANSWERED_WITHIN = 60.0
"""s in which the window takes its turn."""
LONGEST_ORDERING = 600.0
T = TypeVar("T")


class WindowOwner(QObject):
    """The `pendel.remote.owner.Owner` of the open drive. ``which`` counts drives, so that a script that holds one does
    not change another."""

    pictured = pyqtSignal(bytes, str)
    """A picture as PNG, and what it is called."""
    _asked = pyqtSignal(object)

    def __init__(self, session: Session, parent: QObject | None = None):
        super().__init__(parent)
        self.session = session
        self._asked.connect(self._do)
        self.kept: list[str] = []
        """Names of runs that came this way, the newest last."""

    def _in_window(self, work: Callable[[], T]) -> T:
        """What ``work`` gives, done in the window's thread. Raises what it raises."""
        if self.session.closing:
            raise DriveProblem("The window is closing.")
        if threading.current_thread() is threading.main_thread():
            return work()
        future: Future[T] = Future()
        self._asked.emit((work, future))
        try:
            return future.result(ANSWERED_WITHIN)
        except NotDone as problem:
            raise DriveProblem("The window does not answer. A dialog may be open in it.") from problem

    def _do(self, asked: tuple[Callable[[], Any], Future[Any]]) -> None:
        work, future = asked
        if not future.set_running_or_notify_cancel():
            return
        try:
            future.set_result(work())
        except Exception as problem:  # noqa: BLE001  goes to who asked
            future.set_exception(problem)

    def fetch(self) -> tuple[int, int, Drive]:
        session = self.session
        return self._in_window(lambda: (session.generation, session.which, session.drive.copy()))

    def merge(self, which: int, changes: list[RecordChange], title: str) -> tuple[int, tuple[str, ...]]:
        return self._in_window(lambda: self._merge(which, changes, title))

    def _merge(self, which: int, changes: list[RecordChange], title: str) -> tuple[int, tuple[str, ...]]:
        session = self.session
        if which != session.which:
            raise DriveProblem("Another drive is open in the window now, so nothing was changed in it.")
        result = merged(session.drive, changes, title)
        refused: list[str] = []
        with listening(session.refused, refused.append):
            session.do(result.command)
        if refused:
            raise DriveProblem(refused[0])
        return session.generation, result.conflicts

    def keep(self, run: bytes, name: str) -> str:
        """Bring it to the drive's runs, and read it there as one from elsewhere."""
        from pendel.core.runs.preparing.simulate import is_ordered, reopen  # slow to load, and not needed to start

        session = self.session
        which, (path, called) = session.which, self._in_window(session.shelf.next_place)
        path.parent.mkdir(parents=True, exist_ok=True)
        write_atomically(path, run)
        try:
            content = session.shelf.evaluator.content
            loaded = reopen_ordered(path, content, session, is_ordered, reopen)
        except PendelError:
            path.unlink(missing_ok=True)
            raise
        loaded.name, loaded.differs = called, (name or loaded.differs)[:200]

        def take() -> str:
            if session.which != which:
                return loaded.name
            session.shelf.relabel(loaded, loaded.differs)
            session.add_run(loaded)
            self.kept.append(loaded.name)
            return loaded.name

        return self._in_window(take)

    def show(self, signals: list[str]) -> None:
        self._in_window(lambda: self.session.strips_wanted.emit(signals))

    def clear(self) -> None:
        self._in_window(lambda: self.session.strips_wanted.emit([]))

    def hold(self, runs: list[str]) -> None:
        self._in_window(lambda: self._hold(runs))

    def _hold(self, runs: list[str]) -> None:
        kept = self.session.runs
        names = [next((r.name for r in kept if asked in (r.name, r.differs)), "") for asked in runs]
        if "" in names:
            missing = runs[names.index("")]
            called = ", ".join(each.differs or each.name for each in kept) or "none"
            raise DriveProblem(f"“{missing[:60]}” is no kept run of this drive. Kept are: {called[:300]}.")
        self.session.holding_wanted.emit(names)

    def picture(self, png: bytes, name: str) -> bool:
        self._in_window(lambda: self.pictured.emit(png, name))
        return True

    def save(self) -> None:
        raise DriveProblem("A drive in a window is saved there (Ctrl+S).")


def reopen_ordered(
    path: Path,
    content: Callable[[Path], Any],
    session: Session,
    is_ordered: Callable[[Drive], bool],
    reopen: Callable[..., KeptRun],
) -> KeptRun:
    """A kept run, whose drive is ordered by another process where that was not done before. Raises `PendelError`."""
    from pendel.core.runs.record import kept

    drive = file.from_text(kept.load(path, content).drive_text)
    if not is_ordered(drive):
        session.beside_worker.ask(OrderRequest(file.to_text(drive)), LONGEST_ORDERING)
    return reopen(path, content)


@contextlib.contextmanager
def listening(signal: Any, hear: Callable[[str], object]) -> Any:
    """Hear a signal for a moment."""
    signal.connect(hear)
    try:
        yield
    finally:
        signal.disconnect(hear)


__all__ = ["WindowOwner"]
