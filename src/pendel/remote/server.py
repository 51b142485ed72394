"""The doors through which other programs reach a drive: HTTP on this computer, and a Unix socket.

Nothing of a call is read here: its bytes go to the desk, in a process that is confined (`host`), and the desk's answer
comes back. HTTP by aiohttp; JSON-RPC has no standard way on a socket, so there a message is a line."""

from __future__ import annotations

import asyncio
import contextlib
import hmac
import itertools
import logging
import os
import secrets
import socket
import stat
import struct
import threading
from collections.abc import Callable
from concurrent.futures import Future
from pathlib import Path
from typing import TYPE_CHECKING, Any

from pendel.core.errors import DriveProblem
from pendel.remote.channels import LineReader
from pendel.remote.desk import HEAD, taken
from pendel.remote.here import runtime_folder
from pendel.remote.messages import Call, RemoteProblem, answer_to, as_line, failure
from pendel.remote.script_run import LARGEST_CALL, Host

if TYPE_CHECKING:
    from aiohttp import web

LARGEST_BODY, SLOWEST_BODY = 256 << 20, 60.0
"""Bytes of a call, and s in which it must be there."""
MOST_CONNECTIONS, MOST_WAITING = 100, 200
TOKEN_BYTES = 24
SILENT = logging.Logger("doors")  # of its own, with no handler above it
"""For the library of HTTP: it would write what came in a request, and so a token, into a log."""
SILENT.addHandler(logging.NullHandler())
PEER = struct.Struct("3i")
"""SO_PEERCRED: process, user, group (unix(7))."""


class DeskLink:
    """The desk's process, begun again when it ends. ``answer`` answers what it asks of the drive's owner."""

    def __init__(self, files: Path, answer: Callable[[Call], Any]):
        self._files, self._answer = files, answer
        self._lock, self._numbers = threading.Lock(), itertools.count(1)
        self._waiting: dict[int, Future[bytes]] = {}
        self._host: Host | None = None
        self._closed = False
        self._begin()

    def _begin(self) -> None:
        host = self._host = Host(self._files)
        host.give({"job": "desk"})
        threading.Thread(target=self._serve_owner, args=(host,), name="what the desk asks", daemon=True).start()
        threading.Thread(target=self._read, args=(host,), name="what the desk answers", daemon=True).start()

    def _serve_owner(self, host: Host) -> None:
        lines = LineReader(host.owner, LARGEST_CALL)
        with contextlib.suppress(OSError, ValueError):
            while (line := lines.line()) is not None:
                host.owner.sendall(answer_to(line, self._answer).encode() + b"\n")

    def _read(self, host: Host) -> None:
        with contextlib.suppress(EOFError, OSError):
            while True:
                number, size = HEAD.unpack(taken(host.output, HEAD.size))
                if size > LARGEST_CALL:
                    break
                data = taken(host.output, size)
                with self._lock:
                    waiting = self._waiting.pop(number, None)
                if waiting is not None:
                    waiting.set_result(data)
        host.close()
        with self._lock:
            lost, self._waiting = self._waiting, {}
            if self._host is host:
                self._host = None
        for each in lost.values():
            each.set_exception(RemoteProblem("The process that answers ended unexpectedly. Runs it had are gone."))

    def ask(self, text: bytes) -> Future[bytes]:
        """The answer to a message, as it comes. Raises `RemoteProblem`."""
        with self._lock:
            if self._closed:
                raise RemoteProblem("Pendel is closing.")
            if len(self._waiting) >= MOST_WAITING:
                raise RemoteProblem(f"{MOST_WAITING} calls are waiting already. Ask again later.")
            if self._host is None:
                self._begin()
            host, number = self._host, next(self._numbers)
            assert host is not None
            future = self._waiting[number] = Future()
            with contextlib.suppress(OSError):  # it ended; who reads says so
                host.output.sendall(HEAD.pack(number, len(text)) + text)
        return future

    def close(self) -> None:
        with self._lock:
            self._closed, host = True, self._host
        if host is not None:
            host.close()


def answered_with(problem: Exception) -> bytes:
    return as_line(failure(None, problem)).encode()


class Server:
    """Doors to a drive, open until `close`. ``notice`` gets how many programs are connected."""

    def __init__(
        self,
        files: Path,
        answer: Callable[[Call], Any],
        *,
        path: Path | None = None,
        port: int | None = None,
        token: str = "",
        notice: Callable[[int], None] = lambda count: None,
    ):
        """Raises `DriveProblem` where a door cannot be opened."""
        self.token = token or secrets.token_urlsafe(TOKEN_BYTES)
        self.path, self.port = path, 0
        self._notice, self._open = notice, 0
        self._tasks: set[asyncio.Task[Any]] = set()
        self._link = DeskLink(files, answer)
        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._loop.run_forever, name="doors", daemon=True)
        self._thread.start()
        try:
            asyncio.run_coroutine_threadsafe(self._open_doors(path, port), self._loop).result(30)
        except OSError as problem:
            self.close()
            where = f"port {port}" if port is not None and path is None else str(path)
            raise DriveProblem(f"{where} cannot be opened for other programs: {problem.strerror}.") from problem

    @property
    def address(self) -> str:
        return f"http://127.0.0.1:{self.port}" if self.port else ""

    async def _open_doors(self, path: Path | None, port: int | None) -> None:
        if path is not None:
            door = listening(path)
            self._unix = await asyncio.start_unix_server(self._talk, sock=door, limit=LARGEST_BODY)
        if port is not None:
            from aiohttp import web

            application = web.Application(client_max_size=LARGEST_BODY)
            application.router.add_post("/", self._post)
            silent: dict[str, Any] = {"access_log": None, "logger": SILENT}
            self._runner = web.AppRunner(application, handle_signals=False, shutdown_timeout=0.5, **silent)
            await self._runner.setup()
            site = web.TCPSite(self._runner, "127.0.0.1", port)
            await site.start()
            server = site._server
            assert isinstance(server, asyncio.Server)
            self.port = server.sockets[0].getsockname()[1]
            self._hosts = {f"127.0.0.1:{self.port}", f"localhost:{self.port}"}

    async def _answer(self, text: bytes) -> bytes:
        try:
            return await asyncio.wrap_future(self._link.ask(text))
        except DriveProblem as problem:
            return answered_with(problem)

    # HTTP ---------------------------------------------------------------------------

    async def _post(self, request: web.Request) -> web.Response:
        from aiohttp import web

        if request.headers.get("Host", "") not in self._hosts or "Origin" in request.headers:
            return web.Response(
                status=403, text="Calls come from programs on this computer, not from pages of a browser."
            )
        given = request.headers.get("Authorization", "").encode("utf-8", "replace")
        if not hmac.compare_digest(given, f"Bearer {self.token}".encode()):
            return web.Response(
                status=401,
                headers={"WWW-Authenticate": "Bearer"},
                text="The token is missing or another. Copy it from where other programs were let in.",
            )
        if (request.content_length or 0) > LARGEST_BODY:
            return web.Response(status=413, text=f"A call has at most {LARGEST_BODY >> 20} MB.")
        if self._open >= MOST_CONNECTIONS:
            return web.Response(status=503, text=f"{MOST_CONNECTIONS} calls are under way. Ask again later.")
        self._count(1)
        try:
            text = await asyncio.wait_for(request.read(), SLOWEST_BODY)
            answer = await self._answer(text)
        except TimeoutError:
            return web.Response(status=408, text=f"The call did not arrive within {SLOWEST_BODY:.0f} s.")
        finally:
            self._count(-1)
        if not answer:  # to notifications there is none
            return web.Response(status=204)
        return web.Response(body=answer, content_type="application/json")

    # the socket ----------------------------------------------------------------------

    async def _talk(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        task = asyncio.current_task()
        assert task is not None
        self._tasks.add(task)
        wire = writer.get_extra_info("socket")
        _, user, _ = PEER.unpack(wire.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, PEER.size))
        self._count(1)
        try:
            if user != os.getuid():
                writer.write(answered_with(RemoteProblem("This socket is another user's.")) + b"\n")
                return
            if self._open > MOST_CONNECTIONS:
                writer.write(answered_with(RemoteProblem(f"{MOST_CONNECTIONS} programs are connected.")) + b"\n")
                return
            while line := await reader.readline():
                if answer := await self._answer(line):
                    writer.write(answer + b"\n")
                    await writer.drain()
        except ValueError:  # longer than the limit
            writer.write(answered_with(RemoteProblem(f"A call has at most {LARGEST_BODY >> 20} MB.")) + b"\n")
        except (OSError, asyncio.CancelledError):
            pass
        finally:
            self._count(-1)
            self._tasks.discard(task)
            with contextlib.suppress(OSError):
                writer.close()

    def _count(self, change: int) -> None:
        self._open += change
        self._notice(self._open)

    def close(self) -> None:
        """Close all doors, and end what goes on behind them."""

        async def shut() -> None:
            if hasattr(self, "_unix"):
                self._unix.close()
            for task in list(self._tasks):
                task.cancel()
            if hasattr(self, "_runner"):
                await self._runner.cleanup()
            await asyncio.sleep(0)

        self._link.close()
        with contextlib.suppress(Exception):
            asyncio.run_coroutine_threadsafe(shut(), self._loop).result(5)
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join(5)
        if not self._thread.is_alive():
            self._loop.close()
        if self.path is not None and hasattr(self, "_unix"):  # else it is another's, who has it open
            with contextlib.suppress(OSError):
                self.path.unlink()


def listening(path: Path) -> socket.socket:
    """A Unix socket that its user alone may open. One whose process is gone makes way. Raises `OSError`."""
    path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    if path.exists() and stat.S_ISSOCK(path.lstat().st_mode):
        with socket.socket(socket.AF_UNIX) as probe:
            try:
                probe.connect(str(path))
            except OSError:
                path.unlink()
    door = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
    before = os.umask(0o177)
    try:
        door.bind(str(path))
    except OSError:
        door.close()
        raise
    finally:
        os.umask(before)
    door.listen(MOST_CONNECTIONS)
    return door


def token_file(port: int) -> Path:
    """Where a server leaves its token, for programs of the same user."""
    return runtime_folder() / f"pendel-{port}.token"


def leave_token(server: Server) -> Path:
    """Write the token where its user alone may read it. Raises `OSError`."""
    path = token_file(server.port)
    path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    with contextlib.suppress(FileNotFoundError):
        path.unlink()
    handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    with os.fdopen(handle, "w", encoding="ascii") as stream:
        stream.write(server.token)
    return path
