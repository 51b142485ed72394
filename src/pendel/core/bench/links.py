"""Links to a board: how packets travel on TCP, UDP, serial lines and CAN. A link is opened from an
address."""

from __future__ import annotations

import contextlib
import os
import socket
import urllib.parse
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Protocol

from pendel.core.bench.errors import LinkLost, NoBoardAddress, NoLink

OPENING = 3.0
"""Seconds that opening may take."""
LOOK = 0.2
"""Seconds after which a reading thread looks whether it is to end."""
LARGEST = 1 << 16


FRAMES = (*range(9), 12, 16, 20, 24, 32, 48, 64)
"""Bytes that a frame of CAN FD can have: ISO 11898-1, DLC 9 to 15 (from memory). What is shorter is filled."""


def frame_length(count: int) -> int:
    """Bytes of the shortest frame of CAN FD that holds so many; as many where none does."""
    return next((n for n in FRAMES if n >= count), count)


class Link(Protocol):
    """``receive`` waits at most `LOOK` seconds, and returns whole packets."""

    address: str

    def send(self, packet: bytes) -> None: ...

    def receive(self) -> list[bytes]: ...

    def close(self) -> None: ...


class Stream:
    """Packets out of bytes that arrive in pieces: two bytes of length, two of a counter, the packet, and on a serial
    line the sum of all. Bytes that begin no packet are dropped one by one."""

    def __init__(self, *, summed: bool):
        self._summed, self._kept, self._sent = summed, b"", 0
        self.garbled = 0

    def framed(self, packet: bytes) -> bytes:
        data = len(packet).to_bytes(2, "little") + self._sent.to_bytes(2, "little") + packet
        self._sent = (self._sent + 1) & 0xFFFF
        return data + bytes([sum(data) & 0xFF]) if self._summed else data

    def packets(self, data: bytes) -> list[bytes]:
        kept, packets, at, tail = self._kept + data, [], 0, int(self._summed)
        while len(kept) - at >= 4:
            length = kept[at] | kept[at + 1] << 8
            end = at + 4 + length + tail
            if length == 0 or length > LARGEST - 5:
                at += 1
                self.garbled += 1
            elif end > len(kept):
                break
            elif tail and sum(kept[at : end - 1]) & 0xFF != kept[end - 1]:
                at += 1
                self.garbled += 1
            else:
                packets.append(kept[at + 4 : end - tail])
                at = end
        self._kept = kept[at:]
        return packets

    def forget(self) -> None:
        """What has come of a packet; the line was quiet, so the rest will not come."""
        self.garbled += len(self._kept)
        self._kept = b""


class TcpLink:
    def __init__(self, host: str, port: int):
        self.address = f"tcp://{host}:{port}"
        try:
            self._socket = socket.create_connection((host, port), OPENING)
        except (OSError, UnicodeError, OverflowError) as problem:
            raise NoLink(self.address, reason_of(problem)) from problem
        self._socket.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        self._socket.settimeout(LOOK)
        self._stream = Stream(summed=False)

    def send(self, packet: bytes) -> None:
        try:
            self._socket.sendall(self._stream.framed(packet))
        except OSError as problem:
            raise LinkLost(self.address, reason_of(problem)) from problem

    def receive(self) -> list[bytes]:
        try:
            data = self._socket.recv(LARGEST)
        except TimeoutError:
            return []
        except OSError as problem:
            raise LinkLost(self.address, reason_of(problem)) from problem
        if not data:
            raise LinkLost(self.address, "the board closed it")
        return self._stream.packets(data)

    def close(self) -> None:
        with contextlib.suppress(OSError):
            self._socket.shutdown(socket.SHUT_RDWR)
        self._socket.close()


class UdpLink:
    def __init__(self, host: str, port: int):
        self.address = f"udp://{host}:{port}"
        self._socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        try:
            self._socket.connect((host, port))
        except (OSError, UnicodeError, OverflowError) as problem:
            self._socket.close()
            raise NoLink(self.address, reason_of(problem)) from problem
        self._socket.settimeout(LOOK)
        self._socket.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4 << 20)
        self._stream = Stream(summed=False)

    def send(self, packet: bytes) -> None:
        try:
            self._socket.send(self._stream.framed(packet))
        except OSError as problem:
            raise LinkLost(self.address, reason_of(problem)) from problem

    def receive(self) -> list[bytes]:
        try:
            data = self._socket.recv(LARGEST)
        except TimeoutError:
            return []
        except OSError as problem:
            raise LinkLost(self.address, reason_of(problem)) from problem
        packets = self._stream.packets(data)
        self._stream.forget()  # a packet does not go on in the next datagram
        return packets

    def close(self) -> None:
        self._socket.close()


class SerialLink:
    def __init__(self, port: str, speed: int):
        import serial  # slow to load, and not needed for other links

        self.address = f"serial://{port}"
        try:
            self._port = serial.Serial(port, speed, timeout=LOOK, write_timeout=OPENING, exclusive=True)
        except (serial.SerialException, OSError, ValueError) as problem:
            raise NoLink(self.address, reason_of(problem)) from problem
        self._problems = (serial.SerialException, OSError, TypeError)  # TypeError: closed by another thread
        self._stream = Stream(summed=True)

    def send(self, packet: bytes) -> None:
        try:
            self._port.write(self._stream.framed(packet))
        except self._problems as problem:
            raise LinkLost(self.address, reason_of(problem)) from problem

    def receive(self) -> list[bytes]:
        try:
            data = self._port.read(max(1, self._port.in_waiting))
        except self._problems as problem:
            raise LinkLost(self.address, reason_of(problem)) from problem
        if not data:
            self._stream.forget()
        return self._stream.packets(data)

    def close(self) -> None:
        with contextlib.suppress(*self._problems):
            self._port.cancel_read()
        self._port.close()


class CanLink:
    """CAN or CAN FD through python-can: ``interface`` and ``channel`` are its own. ``fd``: 0, 1, or the bit rate of the
    data in frames of CAN FD."""

    def __init__(self, interface: str, channel: str, *, to: int, from_: int, bitrate: int, fd: int):
        import can  # slow to load, and not needed for other links

        self.address = f"can://{interface}:{channel}"
        self._can, self._to, self._from, self._fd = can, to, from_, fd
        options: dict[str, Any] = {"fd": True} if fd else {}
        if fd > 1:
            options["data_bitrate"] = fd
        try:
            self._bus = can.Bus(
                interface=interface,
                channel=channel,
                bitrate=bitrate,
                can_filters=[{"can_id": from_, "can_mask": 0x1FFFFFFF}],
                **options,
            )
        except Exception as problem:  # each driver of python-can raises errors of its own
            raise NoLink(self.address, reason_of(problem)) from problem

    def send(self, packet: bytes) -> None:
        if self._fd:
            packet = packet.ljust(frame_length(len(packet)), b"\0")
        message = self._can.Message(
            arbitration_id=self._to, data=packet, is_extended_id=self._to > 0x7FF, is_fd=bool(self._fd)
        )
        try:
            self._bus.send(message, OPENING)
        except Exception as problem:  # as above
            raise LinkLost(self.address, reason_of(problem)) from problem

    def receive(self) -> list[bytes]:
        try:
            message = self._bus.recv(LOOK)
        except Exception as problem:  # as above
            raise LinkLost(self.address, reason_of(problem)) from problem
        if message is None or message.arbitration_id != self._from or message.is_error_frame:
            return []
        return [bytes(message.data)]

    def close(self) -> None:
        with contextlib.suppress(Exception):
            self._bus.shutdown()


def reason_of(problem: BaseException) -> str:
    """What an error of the system says, in few words."""
    if isinstance(problem, TimeoutError):
        return "there was no answer"
    if isinstance(problem, OSError) and problem.errno:
        return os.strerror(problem.errno).lower()
    return " ".join(str(problem).split())[:160] or type(problem).__name__


@dataclass(frozen=True)
class Address:
    """Where a board is: ``tcp://host:port``, ``udp://host:port``, ``serial:///dev/ttyUSB0?speed=1000000``,
    ``can://interface:channel?to=0x600&from=0x601&bitrate=500000&fd=0``; ``fd`` is 1 for CAN FD, or the bit rate of
    its data."""

    kind: str
    place: str
    port: int = 0
    options: tuple[tuple[str, int], ...] = ()

    def option(self, name: str, usual: int) -> int:
        return dict(self.options).get(name, usual)


KINDS = ("tcp", "udp", "serial", "can")


def read_address(text: str) -> Address:
    """Raises `NoBoardAddress`."""
    kind, parted, rest = text.strip().partition("://")
    if not parted or kind not in KINDS:
        raise NoBoardAddress(text, f"it does not begin with one of {', '.join(f'{k}://' for k in KINDS)}")
    place, _, query = rest.partition("?")
    options = []
    for name, value in urllib.parse.parse_qsl(query):
        try:
            options.append((name, int(value, 0)))
        except ValueError as problem:
            raise NoBoardAddress(text, f"{name} is “{value}”, which is no whole number") from problem
    if kind in ("tcp", "udp"):
        place, _, port = place.rpartition(":")
        if not place or not port.isdecimal() or not 0 < int(port[:6]) < 65536:
            raise NoBoardAddress(text, "host and port from 1 to 65535 are needed")
        return Address(kind, place, int(port), tuple(options))
    if not place:
        raise NoBoardAddress(text, "it names no port")
    return Address(kind, place, 0, tuple(options))


def open_link(address: Address) -> Link:
    """Raises `NoLink`."""
    openers: dict[str, Callable[[], Link]] = {
        "tcp": lambda: TcpLink(address.place, address.port),
        "udp": lambda: UdpLink(address.place, address.port),
        "serial": lambda: SerialLink(address.place, address.option("speed", 1_000_000)),
        "can": lambda: CanLink(
            *(address.place.partition(":")[::2]),
            to=address.option("to", 0x600),
            from_=address.option("from", 0x601),
            bitrate=address.option("bitrate", 500_000),
            fd=address.option("fd", 0),
        ),
    }
    return openers[address.kind]()


__all__ = ["Address", "Link", "open_link", "read_address"]
