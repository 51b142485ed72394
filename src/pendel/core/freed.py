"""Memory of large arrays given back to the system once they are freed. The allocator of glibc raises the size from
which it takes pages of their own with each that is freed (mallopt(3), M_MMAP_THRESHOLD), so that a process that works
through runs would keep nearly all it ever had."""

from __future__ import annotations

import contextlib
import ctypes
from typing import Any

import numpy as np

M_TRIM_THRESHOLD, M_MMAP_THRESHOLD = -1, -3
"""From malloc.h."""
LARGE = 256 << 10
"""Bytes from which an array has pages of its own."""


def give_back_large_arrays() -> None:
    """From now on, in this process. Where the library has no such option, nothing changes."""
    with contextlib.suppress(OSError, AttributeError):
        libc = ctypes.CDLL(None)
        for option in (M_MMAP_THRESHOLD, M_TRIM_THRESHOLD):
            libc.mallopt(option, LARGE)


def give_back_now() -> None:
    """What lies free between smaller things."""
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL(None).malloc_trim(0)


def bytes_of(value: Any) -> int:
    """Of an array, or of all in a table of arrays."""
    if isinstance(value, np.ndarray):
        return int(value.nbytes)
    if isinstance(value, dict):
        return sum(bytes_of(each) for each in list(value.values()))
    return sum(map(bytes_of, value)) if isinstance(value, tuple) else 0
