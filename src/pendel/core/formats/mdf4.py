"""Writing recordings as MDF 4.1 (ASAM MDF, part 1, data format): groups of channels, each with a common time.

Records are written as they come; what only the end of a group knows is put into its place then."""

from __future__ import annotations

import struct
from collections.abc import Sequence
from datetime import UTC, datetime
from pathlib import Path
from types import TracebackType
from typing import BinaryIO

import numpy as np

HEAD = 24
"""Bytes before the links of a block: its id, its length, how many links."""
TIME, NUMBER = 2, 0
"""Kinds of channels: the master, whose values are times, and others."""
REAL = 4
"""Numbers as IEEE 754, lowest byte first."""


class Mdf4Writer:
    """``channels`` are names and units; rows are written with `write`, and after `begin_group` those of another
    group. Use it as a context.

    Parameters
    ----------
    begun
        when time 0 was; now, where it is not given.
    """

    def __init__(self, path: Path, channels: Sequence[tuple[str, str]], note: str = "", begun: datetime | None = None):
        self._file: BinaryIO = path.open("wb")
        self._columns = self.rows = 0
        """Of the present group."""
        self._count_at = self._data_at = 0
        try:
            self._write_heads(note, begun or datetime.now(UTC))
            self.begin_group(channels)
        except BaseException:
            self._file.close()
            raise

    def _write_heads(self, note: str, begun: datetime) -> None:
        self._file.write(struct.pack("<8s8s8s4xH30xHH", b"MDF     ", b"4.10    ", b"Pendel  ", 410, 0, 0))
        moment = int(begun.timestamp() * 1e9)
        header = self._reserve(104)
        history = self._block(
            b"##FH",
            (0, self._text(b"##MD", remark("Recorded by Pendel."))),
            struct.pack("<QhhB3x", moment, 0, 0, 0),
        )
        comment = self._text(b"##MD", remark(note)) if note else 0
        times = struct.pack("<QhhBBBBdd", moment, 0, 0, 0, 0, 0, 0, 0.0, 0.0)
        self._put(header, block(b"##HD", (0, history, 0, 0, 0, comment), times))
        self._next_at = header + HEAD
        """Where the link to the next group goes: in the header, then in the group before."""

    def begin_group(self, channels: Sequence[tuple[str, str]]) -> None:
        """End the present group; what is written from here on belongs to one of these channels, which has times
        of its own."""
        self._end_group()
        self._columns, self.rows = 1 + len(channels), 0
        named = [("time", "s"), *channels]
        after = 0
        for place in range(self._columns - 1, -1, -1):
            after = self._channel(place, *named[place], after)
        data = struct.pack("<QQHHIII", 0, 0, 0, 0, 0, 8 * self._columns, 0)
        group = self._block(b"##CG", (0, after, 0, 0, 0, 0), data)
        place = self._block(b"##DG", (0, group, 0, 0), struct.pack("<B7x", 0))
        self._count_at = group + HEAD + 6 * 8 + 8
        self._data_at = self._block(b"##DT", (), b"")
        self._put(place + HEAD + 2 * 8, struct.pack("<Q", self._data_at))
        self._put(self._next_at, struct.pack("<Q", place))
        self._next_at = place + HEAD
        self._file.seek(0, 2)

    def _end_group(self) -> None:
        if self._columns:
            self._put(self._count_at, struct.pack("<Q", self.rows))
            self._put(self._data_at + 8, struct.pack("<Q", HEAD + self.rows * 8 * self._columns))

    def write(self, times: np.ndarray, values: np.ndarray) -> None:
        """Rows: times (n,) in s and values (n, channels) in the channels' units."""
        rows = np.column_stack([times, values]).astype("<f8")
        if rows.shape[1] != self._columns:
            raise ValueError("there are not as many columns as channels")
        self._file.write(rows.tobytes())
        self.rows += len(rows)

    def close(self) -> None:
        if self._file.closed:
            return
        self._end_group()
        self._file.close()

    def __enter__(self) -> Mdf4Writer:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, problem: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    # Blocks.

    def _channel(self, place: int, name: str, unit: str, after: int) -> int:
        kind = TIME if place == 0 else NUMBER
        links = (after, 0, self._text(b"##TX", name), 0, 0, 0, self._text(b"##TX", unit) if unit else 0, 0)
        about = struct.pack("<BBBBIIIIBBH6d", kind, kind // 2, REAL, 0, 8 * place, 64, 0, 0, 0, 0, 0, *[0.0] * 6)
        return self._block(b"##CN", links, about)

    def _text(self, kind: bytes, text: str) -> int:
        data = text.encode("utf-8", "replace") + b"\0"
        return self._block(kind, (), data + bytes(-len(data) % 8))

    def _block(self, kind: bytes, links: Sequence[int], data: bytes) -> int:
        at = self._file.seek(0, 2)
        self._file.write(block(kind, links, data))
        return at

    def _reserve(self, count: int) -> int:
        at = self._file.seek(0, 2)
        self._file.write(bytes(count))
        return at

    def _put(self, at: int, data: bytes) -> None:
        self._file.seek(at)
        self._file.write(data)


def block(kind: bytes, links: Sequence[int], data: bytes) -> bytes:
    length = HEAD + 8 * len(links) + len(data)
    return struct.pack(f"<4s4xQQ{len(links)}Q", kind, length, len(links), *links) + data


def remark(text: str) -> str:
    """A comment in the standard's XML."""
    from xml.sax.saxutils import escape

    plain = "".join(c for c in text if c.isprintable())
    return f"<HDcomment><TX>{escape(plain)}</TX></HDcomment>" if plain else ""


__all__ = ["Mdf4Writer"]
