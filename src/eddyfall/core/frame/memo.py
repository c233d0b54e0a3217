"""Remembers outputs of passes by content key, newest first, up to a number of bytes."""

import dataclasses
from collections import OrderedDict
from threading import Lock
from typing import Any

import numpy as np


class Memo:
    """A least-recently-used store of values by key. Safe to share between threads; values must not be changed."""

    def __init__(self, limit_bytes: int = 512 * 1024**2) -> None:
        self.limit_bytes = limit_bytes
        self.bytes = 0
        self.hits = self.misses = 0
        self._entries: OrderedDict[str, tuple[Any, int]] = OrderedDict()
        self._lock = Lock()

    def get(self, key: str) -> Any:
        """The value, or None."""
        with self._lock:
            entry = self._entries.get(key)
            if entry is None:
                self.misses += 1
                return None
            self._entries.move_to_end(key)
            self.hits += 1
            return entry[0]

    def put(self, key: str, value: Any) -> None:
        """Store a value and drop the oldest ones beyond the limit (the newest always stays)."""
        size = size_of(value)
        with self._lock:
            if key in self._entries:
                return
            self._entries[key] = (value, size)
            self.bytes += size
            while self.bytes > self.limit_bytes and len(self._entries) > 1:
                _, (_, dropped) = self._entries.popitem(last=False)
                self.bytes -= dropped


def size_of(value: Any) -> int:
    """Bytes of the arrays in a value."""
    if isinstance(value, np.ndarray):
        return value.nbytes
    if isinstance(value, dict):
        return sum(size_of(v) for v in value.values())
    if isinstance(value, tuple):
        return sum(size_of(v) for v in value)
    if dataclasses.is_dataclass(value):
        return sum(size_of(getattr(value, f.name)) for f in dataclasses.fields(value))
    return 64
