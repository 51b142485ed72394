"""Where a simulated board can be reached: TCP, UDP, a serial line and CAN, the last two over pseudo
terminals."""

from __future__ import annotations

import contextlib
import errno
import os
import pty
import socket
import time
import tty
from collections.abc import Iterator
from typing import Protocol

from pendel.core.bench.errors import DoorClosed

ETHERNET, SERIAL, CAN, DATAGRAM_LINK = 0, 1, 2, 3
"""How packets travel; see ``pd_link.h``."""
DATAGRAM = 1400
HEAD = 4
"""Bytes before a packet: its length and a counter."""


class Door(Protocol):
    """``kind`` says how packets travel, ``max_cto`` and ``max_dto`` how long they may be; ``rate`` how many bytes a
    second the line takes, or 0 where that does not matter."""

    kind: int
    max_cto: int
    max_dto: int
    rate: float
    datagrams: bool
    """Whether each message that is sent must be whole packets."""
    address: str

    def handles(self) -> list[int]:
        """What to wait for."""
        ...

    def take(self, handle: int) -> list[bytes]:
        """What has come in; of CAN each a frame."""
        ...

    def send(self, data: bytes) -> None:
        """Send, or keep what the line does not take now."""
        ...

    def waiting(self) -> int:
        """A handle that takes more once it can be written, where something is kept; else -1."""
        ...

    def close(self) -> None: ...


SILENT = 2.0
"""Seconds after which who has connected and said nothing is let go: else a stranger holds the only place."""
CONNECT = 0xFF
"""The command with which a master begins."""


class TcpDoor:
    """One master at a time; another is turned away. Who says what is no packet, or begins with another command than
    “connect”, is let go: a page in a browser can send bytes here, too."""

    kind, max_cto, max_dto, rate, datagrams = ETHERNET, 255, 1400, 0.0, False

    def __init__(self, port: int = 0, host: str = "127.0.0.1"):
        self._listening = bound(socket.SOCK_STREAM, host, port)
        self._listening.listen(1)
        self._master: socket.socket | None = None
        self._unsent = self._part = b""
        self._came, self._spoke = 0.0, False
        self.opened = False
        """Whether a master has come since this was looked at last."""
        host, port = self._listening.getsockname()
        self.address = f"tcp://{host}:{port}"

    def handles(self) -> list[int]:
        return [s.fileno() for s in (self._listening, self._master) if s is not None]

    def take(self, handle: int) -> list[bytes]:
        if handle == self._listening.fileno():
            self._accept()
            return []
        assert self._master is not None
        try:
            data = self._master.recv(1 << 16)
        except BlockingIOError:
            return []
        except OSError:
            data = b""
        packets = self._packets(data) if data else None
        if packets is None:
            self._let_go()
            return []
        return packets

    def _accept(self) -> None:
        master, _ = self._listening.accept()
        self.look()
        if self._master is not None:
            master.close()
            return
        master.setblocking(False)
        master.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        self._master, self._unsent, self._part = master, b"", b""
        self._came, self._spoke, self.opened = time.monotonic(), False, True

    def _packets(self, data: bytes) -> list[bytes] | None:
        """Whole packets, each with its head; none at all where what came is no protocol of this kind."""
        kept, packets = self._part + data, []
        while len(kept) >= HEAD:
            length = int.from_bytes(kept[:2], "little")
            if not 0 < length <= self.max_cto or (not self._spoke and len(kept) > HEAD and kept[HEAD] != CONNECT):
                return None
            if len(kept) < HEAD + length:
                break
            self._spoke = True
            packets.append(kept[: HEAD + length])
            kept = kept[HEAD + length :]
        self._part = kept
        return packets

    def look(self) -> None:
        """Let a master go that has said nothing."""
        if self._master is not None and not self._spoke and time.monotonic() - self._came > SILENT:
            self._let_go()

    def _let_go(self) -> None:
        if self._master is not None:
            self._master.close()
            self._master = None

    def send(self, data: bytes) -> None:
        if self._master is None:
            return
        self._unsent += data
        with contextlib.suppress(OSError):  # the next look finds out that it has gone
            self._unsent = self._unsent[self._master.send(self._unsent) :]

    def waiting(self) -> int:
        return self._master.fileno() if self._master is not None and self._unsent else -1

    def close(self) -> None:
        for each in (self._master, self._listening):
            if each is not None:
                each.close()


class UdpDoor:
    """Answers go to who asked last."""

    kind, max_cto, max_dto, rate, datagrams = DATAGRAM_LINK, 255, 1400, 0.0, True

    def __init__(self, port: int = 0, host: str = "127.0.0.1"):
        self._socket = bound(socket.SOCK_DGRAM, host, port)
        self._socket.setblocking(False)
        self._master: tuple[str, int] | None = None
        host, port = self._socket.getsockname()
        self.address = f"udp://{host}:{port}"

    def handles(self) -> list[int]:
        return [self._socket.fileno()]

    def take(self, handle: int) -> list[bytes]:
        try:
            data, self._master = self._socket.recvfrom(1 << 16)
        except OSError:
            return []
        return [data]

    def send(self, data: bytes) -> None:
        if self._master is not None:
            for datagram in datagrams(data):
                with contextlib.suppress(OSError):  # a datagram may be lost
                    self._socket.sendto(datagram, self._master)

    def waiting(self) -> int:
        return -1

    def close(self) -> None:
        self._socket.close()


def bound(kind: int, host: str, port: int) -> socket.socket:
    """Raises `DoorClosed` where the port cannot be had."""
    door = socket.socket(socket.AF_INET, kind)
    try:
        if kind == socket.SOCK_STREAM:
            door.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        door.bind((host, port))
    except (OSError, OverflowError) as problem:
        door.close()
        used = isinstance(problem, OSError) and problem.errno == errno.EADDRINUSE
        raise DoorClosed(f"{host}:{port}", "another program uses it" if used else str(problem)) from problem
    return door


def datagrams(data: bytes) -> Iterator[bytes]:
    """Whole packets, as many as fit a datagram each."""
    begin = end = 0
    while end + 4 <= len(data):
        after = end + 4 + int.from_bytes(data[end : end + 2], "little")
        if after - begin > DATAGRAM + 4 and end > begin:
            yield data[begin:end]
            begin = end
        end = after
    if begin < len(data):
        yield data[begin:]


class Terminal:
    """A pseudo terminal; masters open its other end as a serial port."""

    def __init__(self) -> None:
        self._own, self._other = pty.openpty()  # held open, so that masters may come and go
        tty.setraw(self._own)
        tty.setraw(self._other)
        os.set_blocking(self._own, False)
        self.path = os.ttyname(self._other)
        self._unsent = b""

    def handles(self) -> list[int]:
        return [self._own]

    def read(self) -> bytes:
        with contextlib.suppress(OSError):
            return os.read(self._own, 1 << 16)
        return b""

    def write(self, data: bytes) -> None:
        self._unsent += data
        with contextlib.suppress(OSError):
            self._unsent = self._unsent[os.write(self._own, self._unsent) :]

    def waiting(self) -> int:
        return self._own if self._unsent else -1

    def close(self) -> None:
        os.close(self._own)
        os.close(self._other)


class SerialDoor:
    """A serial line that takes no more than ``speed`` (bit/s) allows, ten bits a byte."""

    kind, max_cto, max_dto, datagrams = SERIAL, 250, 250, False

    def __init__(self, speed: int = 1_000_000) -> None:
        self._terminal = Terminal()
        self.address = f"serial://{self._terminal.path}?speed={speed}"
        self.rate = speed / 10

    def handles(self) -> list[int]:
        return self._terminal.handles()

    def take(self, handle: int) -> list[bytes]:
        data = self._terminal.read()
        return [data] if data else []

    def send(self, data: bytes) -> None:
        self._terminal.write(data)

    def waiting(self) -> int:
        return self._terminal.waiting()

    def close(self) -> None:
        self._terminal.close()


class CanDoor:
    """CAN at 500 kbit/s, some 3000 frames a second, by an adapter whose frames are lines of ASCII over a serial line;
    python-can calls it slcan."""

    kind, max_cto, max_dto, rate, datagrams = CAN, 8, 8, 25_000.0, True

    def __init__(self, hears: int = 0x600, says: int = 0x601) -> None:
        self._terminal = Terminal()
        self.hears, self.says = hears, says
        self.address = f"can://slcan:{self._terminal.path}?to={hears:#x}&from={says:#x}"
        self._text = b""

    def handles(self) -> list[int]:
        return self._terminal.handles()

    def take(self, handle: int) -> list[bytes]:
        *lines, self._text = (self._text + self._terminal.read()).split(b"\r")
        self._text = self._text[-64:]
        frames = []
        for line in lines:
            frame = frame_in(line, self.hears)
            if frame is not None:
                frames.append(frame)
            if line[:1] in b"tT" and line:
                self._terminal.write(b"z\r" if line[:1] == b"t" else b"Z\r")
            else:
                self._terminal.write(b"\r")
        return frames

    def send(self, data: bytes) -> None:
        if not data:
            self._terminal.write(b"")
            return
        self._terminal.write(b"t%03X%d%s\r" % (self.says, len(data), data.hex().upper().encode()))

    def waiting(self) -> int:
        return self._terminal.waiting()

    def close(self) -> None:
        self._terminal.close()


def frame_in(line: bytes, number: int) -> bytes | None:
    """The data of a frame with this identifier, in a line; else nothing."""
    with contextlib.suppress(ValueError):
        if line[:1] == b"t" and len(line) >= 5 and int(line[1:4], 16) == number:
            count = int(line[4:5])
            data = bytes.fromhex(line[5 : 5 + 2 * count].decode("ascii", "replace"))
            return data if len(data) == count and data else None
    return None


__all__ = ["CanDoor", "Door", "SerialDoor", "TcpDoor", "UdpDoor"]
