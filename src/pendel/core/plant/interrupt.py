"""Ctrl+C while compiled code computes: Python hears of a signal between its own instructions only, so what computes is
in another thread, and the main one waits where it hears of it at once."""

from __future__ import annotations

import contextlib
import os
import signal
import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor, wait
from functools import lru_cache
from typing import TypeVar

T = TypeVar("T")


@lru_cache(maxsize=1)
def _computing() -> ThreadPoolExecutor:
    return ThreadPoolExecutor(1, "computes")


os.register_at_fork(after_in_child=_computing.cache_clear)


def interruptible(work: Callable[[], T], stop: Callable[[], None]) -> T:
    """What ``work`` gives. Where this is the main thread and Ctrl+C is heard, ``stop`` is called then, which must make
    the work end soon; once it has ended, the interrupt goes on.

    Raises
    ------
    KeyboardInterrupt
    """
    heard = callable(signal.getsignal(signal.SIGINT))
    if not heard or threading.current_thread() is not threading.main_thread():
        return work()
    future = _computing().submit(work)
    try:
        return future.result()
    except KeyboardInterrupt:
        stop()
        while not future.done():
            with contextlib.suppress(KeyboardInterrupt):  # it is stopping already
                wait([future])
        raise
