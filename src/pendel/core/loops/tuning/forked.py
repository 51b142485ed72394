"""Work shared out among processes that begin as copies of this one, and so know all that it knows."""

from __future__ import annotations

import gc
import sys
import warnings
from collections.abc import Callable, Sequence
from concurrent.futures import Future, ProcessPoolExecutor, wait
from concurrent.futures.process import BrokenProcessPool
from multiprocessing import get_context
from typing import TypeVar

from pendel.core.cores import usable_cores
from pendel.core.errors import Stopped
from pendel.core.runs.confined.child import end_with_parent

FEWEST, PIECE = 100, 16
"""Below so many it is not worth the while; so many are handed over at once."""
LOOK = 0.05
"""Seconds between two looks at whether to stop."""

Given = TypeVar("Given")
Result = TypeVar("Result")

_work: Callable = print
"""What the copies do; it need not be sent to them."""
_items: Sequence = ()


def _begin() -> None:
    """A copy ends with this process, and computes in one thread: those of several would wait for each other."""
    from threadpoolctl import threadpool_limits

    end_with_parent()
    threadpool_limits(1)
    gc.freeze()  # looking through what it began with would copy all of that


def _piece(first: int) -> list:
    return [_work(item) for item in _items[first : first + PIECE]]


def on_all_processes(
    work: Callable[[Given], Result],
    items: Sequence[Given],
    *,
    stopping: Callable[[], bool] = lambda: False,
    report: Callable[[float], None] = lambda share: None,
) -> list[Result]:
    """Results in the order of the items. One process does all where there are few, or where none can be copied.

    Raises
    ------
    Stopped
    """
    global _work, _items
    cores = usable_cores() if sys.platform == "linux" else 1
    if cores < 2 or len(items) < FEWEST:
        return one_by_one(work, items, stopping, report)
    _work, _items = work, items
    try:
        with warnings.catch_warnings():
            # Where other threads run, a copy may miss what they held; here it only computes.
            warnings.simplefilter("ignore", DeprecationWarning)
            with ProcessPoolExecutor(cores, get_context("fork"), _begin) as pool:
                return gathered([pool.submit(_piece, k) for k in range(0, len(items), PIECE)], stopping, report)
    except (BrokenProcessPool, OSError):  # no room for copies
        return one_by_one(work, items, stopping, report)
    finally:
        _work, _items = print, ()


def gathered(pieces: list[Future[list]], stopping: Callable[[], bool], report: Callable[[float], None]) -> list:
    left = set(pieces)
    while left:
        done, left = wait(left, LOOK)
        if stopping():
            for piece in left:
                piece.cancel()
            raise Stopped
        if done:
            report(1 - len(left) / len(pieces))
    return [result for piece in pieces for result in piece.result()]


def one_by_one(
    work: Callable[[Given], Result],
    items: Sequence[Given],
    stopping: Callable[[], bool],
    report: Callable[[float], None],
) -> list[Result]:
    results = []
    for place, item in enumerate(items):
        if stopping():
            raise Stopped
        results.append(work(item))
        report((place + 1) / len(items))
    return results


__all__ = ["on_all_processes", "one_by_one"]
