"""The drive that somebody else has, such as the window, with the interface of `pendel.Drive`.

It works on a copy, so that reading, running and judging are as fast as they are on a drive of one's own. What changes
in the copy is sent as records and taken over as one step of undo each; what changed there meanwhile is fetched before
the next look."""

from __future__ import annotations

import base64
import contextlib
import io
import os
import stat
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

from pendel.core.drive import commands, file
from pendel.core.drive.document import Drive as Document
from pendel.core.drive.merging import changes_between, records_of
from pendel.core.errors import DriveProblem
from pendel.core.trust import allow_all_of
from pendel.interface.api import Drive
from pendel.remote.channels import Channel, HttpChannel, unix_channel
from pendel.remote.messages import RemoteProblem

if TYPE_CHECKING:
    import matplotlib.figure

    from pendel.interface.run_view import Run

FRESH = 2e-3
"""s for which the copy is taken for what the drive is, while nothing is changed."""


class HereDrive(Drive):
    """A drive that somebody else has. ``together``: changes are sent at the end alone, as of a script."""

    def __init__(self, channel: Channel, *, together: bool = False):
        self._channel, self._together = channel, int(together)
        self._generation, self._looked = -1, 0.0
        self._pictures = self._which = 0
        super().__init__(document=Document())
        self._fetch()

    @property
    def document(self) -> Document:
        if not self._together and time.monotonic() - self._looked > FRESH:
            self._fetch()
        return self._document

    @document.setter
    def document(self, document: Document) -> None:
        self._document = document

    def _fetch(self) -> None:
        reply = self._channel.call("here.fetch", generation=self._generation)
        self._looked = time.monotonic()
        if reply["generation"] != self._generation:
            self._document = file.from_text(reply["text"], "The drive")
            self._base, self._generation = records_of(self._document), reply["generation"]
            self._which, self._done = reply["which"], []
            if reply.get("own_c"):
                allow_all_of(self._document)

    @property
    def generation(self) -> int:
        """A number that changes with the drive."""
        return self._generation

    def save(self, path: str | Path | None = None) -> None:
        """Save the drive in its file, where ``pendel serve`` or ``pendel script`` has it; a window saves its own. With
        a ``path`` a copy is written beside the files of scripts. Raises `DriveProblem` and `FileProblem`."""
        if path is not None:
            super().save(path)
            return
        self.send_changes("Changes before saving")
        self._channel.call("here.save")

    def do(self, command: commands.Command) -> None:
        super().do(command)
        self._send(command.title)

    def undo(self) -> str:
        title = super().undo()
        self._send(f"Undo {title}")
        return title

    @contextlib.contextmanager
    def together(self, title: str = "") -> Iterator[None]:
        """Changes within are one step of undo, of this name; without one, of that of its one change."""
        if self._together:  # part of a larger step
            yield
            return
        self._fetch()
        begun = len(self._done)
        self._together = 1
        try:
            yield
        finally:
            self._together = 0
            done = self._done[begun:]
            if len(done) > 1:  # taken back as one, too
                self._done[begun:] = [commands.Command(title, tuple(c for each in done for c in each.changes))]
            self._send(title or (done[0].title if len(done) == 1 else f"{len(done)} changes"))

    def _send(self, title: str) -> None:
        if self._together:
            return
        for sentence in self.send_changes(title):
            raise DriveProblem(sentence)

    def unsent(self) -> list[list[Any]]:
        """What was changed here and not sent yet."""
        return [change.as_list() for change in changes_between(self._base, records_of(self._document))]

    def send_changes(self, title: str) -> list[str]:
        """Have taken over what was changed here. Returns sentences on what was not, as somebody else changed it
        meanwhile. Raises `DriveProblem`."""
        if not (changes := self.unsent()):
            return []
        reply = self._channel.call("here.merge", which=self._which, changes=changes, title=title)
        conflicts = [str(each) for each in reply["conflicts"]]
        if conflicts:
            self._generation = -1
            self._fetch()
        else:
            self._base, self._generation = records_of(self._document), reply["generation"]
        return conflicts

    # what only a drive has that somebody looks at --------------------------------------

    def keep(self, run: Run, name: str = "") -> str:
        """Keep a run beside the drive, among those of the window, by a name such as ``"R = 3 ohm"``. Raises
        `DriveProblem`."""
        from pendel.core.runs.record import kept

        with tempfile.TemporaryDirectory() as folder:
            path, before, called = Path(folder) / "run.h5", run.kept.file, run.kept.differs
            run.kept.differs = name or called
            try:
                kept.save(run.kept, path)
            finally:
                run.kept.file, run.kept.differs = before, called
            data = path.read_bytes()
        return str(self._channel.call("here.keep", name=name, run=base64.b64encode(data).decode("ascii"))["name"])

    def show(self, *signals: str) -> None:
        """Put signals on the strips of the window, each on a strip of its own."""
        self._channel.call("here.show", signals=list(signals))

    def clear_strips(self) -> None:
        """Take all signals off the strips of the window."""
        self._channel.call("here.clear")

    def hold(self, *runs: str) -> None:
        """Hold kept runs beside new ones in the window, by what `keep` gave back or what they are called, and no
        others. Raises `DriveProblem` where there is no such run."""
        self._channel.call("here.hold", runs=list(runs))

    def picture(self, figure: matplotlib.figure.Figure, name: str = "") -> None:
        """Show a figure of Matplotlib below the script; without a window it is written beside it, as PNG."""
        stream = io.BytesIO()
        figure.savefig(stream, format="png", dpi=110)
        data = base64.b64encode(stream.getvalue()).decode("ascii")
        if not self._channel.call("here.picture", name=name, png=data)["shown"]:
            self._pictures += 1
            path = Path(f"picture{self._pictures}.png")
            path.write_bytes(stream.getvalue())
            print(f"picture {name or self._pictures} in {path.absolute()}")

    def close(self) -> None:
        """Leave the drive to itself."""
        self._channel.close()


_inside: list[HereDrive] = []
"""The drive of the script that runs in this process."""


def here() -> HereDrive:
    """The drive in the window: that of the script's own window, or in any other program of the window that lets other
    programs in. Raises `DriveProblem` where there is none."""
    if _inside:
        return _inside[0]
    return connect()


def begin_inside(channel: Channel) -> HereDrive:
    """This process runs a script."""
    _inside[:] = [HereDrive(channel, together=True)]
    return _inside[0]


def connect(address: str | None = None, token: str = "") -> HereDrive:
    """A drive that a window or ``pendel serve`` lets other programs reach.

    Parameters
    ----------
    address
        a Unix socket's path, or ``http://127.0.0.1:PORT``; that of the window of this user without one.
    token
        for HTTP: what the window or ``pendel serve`` shows; that in ``PENDEL_TOKEN`` without one.

    Raises
    ------
    DriveProblem
        where nobody answers, or the token is another.
    """
    channel = channel_to(address or str(window_socket()), token)
    try:
        return HereDrive(channel)
    except BaseException:
        channel.close()
        raise


def channel_to(address: str, token: str) -> Channel:
    """Raises `RemoteProblem`."""
    if not address.startswith("http://"):
        return unix_channel(address)
    host, _, port = address.removeprefix("http://").rstrip("/").rpartition(":")
    if not port.isdecimal() or not host:
        raise RemoteProblem(f"“{address}” is no address. Write http://127.0.0.1:PORT, or the path of a socket.")
    return HttpChannel(host, int(port), token or os.environ.get("PENDEL_TOKEN", ""))


def runtime_folder() -> Path:
    """Where sockets of this user lie: of the session (XDG Base Directory Specification), else a folder of one's own.
    Raises `DriveProblem` where that is another user's, or open to others."""
    given = os.environ.get("XDG_RUNTIME_DIR", "")
    if given and Path(given).is_dir():
        return Path(given)
    folder = Path(tempfile.gettempdir()) / f"pendel-of-{os.getuid()}"
    try:
        folder.mkdir(mode=0o700, exist_ok=True)
        status = folder.lstat()
    except OSError as problem:
        raise DriveProblem(f"{folder} cannot be used for sockets: {problem.strerror}.") from problem
    if not stat.S_ISDIR(status.st_mode) or status.st_uid != os.getuid() or status.st_mode & 0o077:
        raise DriveProblem(f"{folder} is another user's, or open to others. Remove it, or set XDG_RUNTIME_DIR.")
    return folder


def window_socket() -> Path:
    """Where a window listens that lets other programs in."""
    return runtime_folder() / "pendel-window.sock"
