"""Ways to who has the drive: a socket on which a message is a line, or HTTP."""

from __future__ import annotations

import http.client
import itertools
import socket
import threading
from pathlib import Path
from typing import Any, Protocol

from pendel.remote.messages import RemoteProblem, request, result_of

LONGEST_ANSWER = 1 << 30
"""Bytes of a message that is read."""


class Channel(Protocol):
    """Calls a method elsewhere and gives its result. Raises `RemoteProblem`."""

    def call(self, method: str, /, **params: Any) -> Any: ...

    def close(self) -> None: ...


class LineReader:
    """Lines of a socket, each at most so many bytes."""

    def __init__(self, wire: socket.socket, longest: int = LONGEST_ANSWER):
        self._wire, self._longest = wire, longest
        self._parts: list[bytes] = []

    def line(self) -> bytes | None:
        """The next line without its end; None where the other side has closed. Raises `OSError`, and `ValueError` for
        one that is too long."""
        size = sum(map(len, self._parts))
        while True:
            last = self._parts[-1] if self._parts else b""
            if (at := last.find(b"\n")) >= 0:
                whole = b"".join([*self._parts[:-1], last[:at]])
                self._parts = [rest] if (rest := last[at + 1 :]) else []
                return whole
            data = self._wire.recv(1 << 18)
            if not data:
                return None
            size += len(data)
            if size > self._longest:
                raise ValueError("the line is too long")
            self._parts.append(data)


class StreamChannel:
    """Over a connected socket, one call at a time."""

    def __init__(self, wire: socket.socket, gone: str = "Who has the drive does not answer any more."):
        self._wire, self._gone = wire, gone
        self._lines, self._keys, self._lock = LineReader(wire), itertools.count(1), threading.Lock()

    def call(self, method: str, /, **params: Any) -> Any:
        with self._lock:
            key = next(self._keys)
            try:
                self._wire.sendall(request(method, params, key).encode() + b"\n")
                line = self._lines.line()
            except (OSError, ValueError) as problem:
                raise RemoteProblem(self._gone) from problem
            if line is None:
                raise RemoteProblem(self._gone)
            return result_of(line, key)

    def close(self) -> None:
        self._wire.close()


def unix_channel(path: str | Path) -> StreamChannel:
    """To a Unix socket, which knows by itself whose process this is. Raises `RemoteProblem`."""
    wire = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
    try:
        wire.connect(str(path))
    except OSError as problem:
        wire.close()
        raise RemoteProblem(
            f"Nobody answers at {path}: {problem.strerror}. Turn on “Other programs” in the window’s menu Edit, "
            "or start “pendel serve”."
        ) from problem
    return StreamChannel(wire)


class HttpChannel:
    """Over HTTP, kept open between calls."""

    def __init__(self, host: str, port: int, token: str):
        self._address, self._token = (host, port), token
        self._keys, self._lock = itertools.count(1), threading.Lock()
        self._open: http.client.HTTPConnection | None = None

    def call(self, method: str, /, **params: Any) -> Any:
        host, port = self._address
        with self._lock:
            key = next(self._keys)
            head = {"Authorization": f"Bearer {self._token}", "Content-Type": "application/json"}
            for again in (True, False):  # one that was closed meanwhile is opened once more
                kept = self._open is not None
                try:
                    self._open = self._open or http.client.HTTPConnection(host, port, timeout=3600)
                    self._open.request("POST", "/", request(method, params, key).encode(), head)
                    answer = self._open.getresponse()
                    text = answer.read(LONGEST_ANSWER)
                    break
                except (OSError, http.client.HTTPException) as problem:
                    self._open = None
                    if not (kept and again and isinstance(problem, ConnectionError | http.client.RemoteDisconnected)):
                        raise RemoteProblem(f"Nobody answers at {host}:{port}: {problem}.") from problem
            if answer.status != 200:
                words = text.decode("utf-8", "replace").strip()[:300]
                raise RemoteProblem(words or f"The server refused the call ({answer.status}).")
            return result_of(text, key)

    def close(self) -> None:
        if self._open is not None:
            self._open.close()
