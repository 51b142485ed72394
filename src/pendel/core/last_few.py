"""What was found out last, for who asks again."""

from __future__ import annotations

import threading
from typing import Generic, TypeVar

Key = TypeVar("Key")
Value = TypeVar("Value")


class LastFew(Generic[Key, Value]):
    """Values by keys, of which the oldest go; any thread may ask and keep."""

    def __init__(self, maximum: int):
        self._most = maximum
        self._found: dict[Key, Value] = {}
        self._lock = threading.Lock()

    def get(self, key: Key) -> Value | None:
        return self._found.get(key)

    def keep(self, key: Key, value: Value) -> Value:
        with self._lock:
            self._found[key] = value
            while len(self._found) > self._most:
                del self._found[next(iter(self._found))]
        return value
