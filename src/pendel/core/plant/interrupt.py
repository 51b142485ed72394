"""Ctrl+C while compiled code computes: Python hears of a signal between its own instructions only, so what computes is
in another thread, and the main one waits where it hears of it at once."""

from __future__ import annotations

import os
import signal
import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor, wait
from functools import lru_cache
from types import FrameType
from typing import TypeVar

T = TypeVar("T")


@lru_cache(maxsize=1)
def _computing() -> ThreadPoolExecutor:
    return ThreadPoolExecutor(1, "computes")


os.register_at_fork(after_in_child=_computing.cache_clear)


def interruptible(work: Callable[[], T], stop: Callable[[], None]) -> T:
    """What ``work`` gives. Where this is the main thread and Ctrl+C is heard, ``stop`` is called at each, which must
    make the work end soon; once it has ended, the interrupt goes on. No exception is raised while this waits: it could
    leave what is waited for locked.

    Raises
    ------
    KeyboardInterrupt
    """
    before = signal.getsignal(signal.SIGINT)
    if not callable(before) or threading.current_thread() is not threading.main_thread():
        return work()
    interrupts: list[FrameType | None] = []

    def hear(_number: int, frame: FrameType | None) -> None:
        interrupts.append(frame)
        stop()

    signal.signal(signal.SIGINT, hear)
    try:
        future = _computing().submit(work)
        wait([future])
    finally:
        signal.signal(signal.SIGINT, before)
    if interrupts:
        before(signal.SIGINT, interrupts[0])
    return future.result()
