"""Results that take long and are kept: a caller that must not wait learns so, and has them worked out elsewhere.

A function decorated with `worked_out` is worked out once for its arguments, as with `functools.lru_cache`. Within
`at_once` it raises `NotYet` instead of working out what is not known, and its `Work` is listed for later."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass
from functools import update_wrapper
from threading import Lock
from typing import Any, Generic, ParamSpec, TypeVar

from pendel.core.errors import PendelError

P = ParamSpec("P")
R = TypeVar("R")
KEPT = 16
"""Results of one function, those asked for last."""


@dataclass(frozen=True)
class Work:
    """A function and its arguments, which can be sent to another process."""

    function: WorkedOut[Any, Any]
    arguments: tuple[Any, ...]

    def do(self) -> Any:
        """The result, worked out here if it is not known."""
        return self.function(*self.arguments)

    def keep(self, result: Any) -> None:
        """Take a result that was worked out elsewhere."""
        self.function.keep(self.arguments, result)


class NotYet(PendelError):
    """A result is not known yet, and this is no place to wait for it."""

    def __init__(self) -> None:
        super().__init__("This is still being worked out.")


LATER: ContextVar[list[Work] | None] = ContextVar("what is to be worked out later", default=None)


@contextmanager
def at_once() -> Iterator[list[Work]]:
    """Within, nothing is waited for in this thread. Yields the list of what would have been, each once."""
    later: list[Work] = []
    token = LATER.set(later)
    try:
        yield later
    finally:
        LATER.reset(token)


class WorkedOut(Generic[P, R]):
    def __init__(self, function: Callable[P, R]):
        self._function = function
        self._known: OrderedDict[tuple[Any, ...], R] = OrderedDict()
        self._lock = Lock()
        update_wrapper(self, function)

    def __call__(self, *arguments: P.args, **named: P.kwargs) -> R:
        if named:
            raise TypeError(f"{self._function.__name__}() takes no named arguments")
        with self._lock:
            if arguments in self._known:
                self._known.move_to_end(arguments)
                return self._known[arguments]
        later = LATER.get()
        if later is not None:
            work = Work(self, arguments)
            if work not in later:
                later.append(work)
            raise NotYet
        result = self._function(*arguments, **named)
        self.keep(arguments, result)
        return result

    def keep(self, arguments: tuple[Any, ...], result: R) -> None:
        with self._lock:
            self._known[arguments] = result
            self._known.move_to_end(arguments)
            while len(self._known) > KEPT:
                self._known.popitem(last=False)

    def forget(self) -> None:
        with self._lock:
            self._known.clear()

    def __reduce__(self) -> str:
        return self._function.__qualname__  # by its name, like any function


def worked_out(function: Callable[P, R]) -> WorkedOut[P, R]:
    """Keep what a function of hashable, positional arguments gives; see the module."""
    return WorkedOut(function)
