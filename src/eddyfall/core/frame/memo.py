"""Remembers what was made, by content key, newest first, up to one number of bytes.

Values share arrays (a build with a change has most arrays of the build without it), so every array is counted once, however many
values hold it. Trees of rays have a share of their own: they are slow to grow for their bytes, and shadow maps of 64 MiB, which are
drawn in a moment, would push them out.
"""

import contextlib
import ctypes
import dataclasses
import sys
from collections import OrderedDict
from collections.abc import Callable, Iterator
from threading import Lock
from typing import Any

import numpy as np
from pydantic import BaseModel

LARGE_BYTES = 4096  # from here on bytes are counted by identity, as arrays are
PLAIN_BYTES = 64  # what a number, a short text or an entry of a table is taken for
TREE_SHARE = 0.3  # of the limit: up to it, trees stay, whatever else comes


class Memo:
    """A least-recently-used store of values by key. Safe to share between threads; values must not be changed."""

    def __init__(self, limit_bytes: int = 512 * 1024**2) -> None:
        self.limit_bytes = limit_bytes
        self.bytes = 0
        self.hits = self.misses = 0
        self._entries: OrderedDict[str, _Entry] = OrderedDict()
        self._trees: OrderedDict[str, _Entry] = OrderedDict()
        self._tree_bytes = 0
        self._holders: dict[int, int] = {}  # by identity of an array or a ray scene: how many entries hold it
        self._lock = Lock()
        self._making: dict[str, Lock] = {}

    def get(self, key: str) -> Any:
        """The value, or None."""
        with self._lock:
            store = self._trees if key in self._trees else self._entries
            entry = store.get(key)
            if entry is None:
                self.misses += 1
                return None
            store.move_to_end(key)
            self.hits += 1
            return entry.value

    def put(self, key: str, value: Any) -> None:
        """Store a value and drop the oldest ones beyond the limit (the newest always stays)."""
        entry = _Entry(value)
        with self._lock:
            if key in self._entries or key in self._trees:
                return
            (self._trees if entry.tree_bytes else self._entries)[key] = entry
            self._count(entry)
            while self.bytes > self.limit_bytes and self.entries > 1:
                self._drop(besides=key)

    def renew(self, key: str, value: Any) -> None:
        """Store a value in the place of what is there under its key: something that has grown."""
        with self._lock:
            for store in (self._entries, self._trees):
                if key in store:
                    self._forget(store.pop(key))
        self.put(key, value)

    def once(self, key: str, make: Callable[[], Any]) -> Any:
        """The value under a key, made if it is not there: by one thread, while the others that want it wait for that one."""
        value = self.get(key)
        if value is not None:
            return value
        with self._lock:
            gate = self._making.setdefault(key, Lock())
        with gate:
            try:
                value = self.get(key)
                if value is None:
                    value = make()
                    self.put(key, value)
            finally:
                with self._lock:
                    self._making.pop(key, None)
        return value

    def clear(self) -> None:
        """Forget everything."""
        with self._lock:
            self._entries.clear()
            self._trees.clear()
            self._holders.clear()
            self.bytes = self._tree_bytes = 0

    def shrink(self, by_bytes: int) -> None:
        """Forget the oldest values until so many bytes less are held, or nothing is."""
        with self._lock:
            aim = self.bytes - by_bytes
            while self.bytes > aim and self.entries:
                self._drop()

    @property
    def entries(self) -> int:
        """How many values are remembered."""
        return len(self._entries) + len(self._trees)

    def _drop(self, besides: str = "") -> None:
        """Forget the oldest entry: a tree if they have more than their share, or if there is nothing else."""
        others, trees = (next((k for k in store if k != besides), None) for store in (self._entries, self._trees))
        if trees is not None and (others is None or self._tree_bytes > TREE_SHARE * self.limit_bytes):
            self._forget(self._trees.pop(trees))
        elif others is not None:
            self._forget(self._entries.pop(others))

    def _count(self, entry: "_Entry") -> None:
        self._tree_bytes += entry.tree_bytes
        self.bytes += entry.plain
        for owner, size in entry.large.items():
            self._holders[owner] = self._holders.get(owner, 0) + 1
            if self._holders[owner] == 1:
                self.bytes += size

    def _forget(self, entry: "_Entry") -> None:
        self._tree_bytes -= entry.tree_bytes
        self.bytes -= entry.plain
        for owner, size in entry.large.items():
            self._holders[owner] -= 1
            if not self._holders[owner]:
                del self._holders[owner]
                self.bytes -= size


class _Entry:
    """A value with what it holds: bytes of its own, and the large things that others may hold too, by identity."""

    __slots__ = ("large", "plain", "tree_bytes", "value")

    def __init__(self, value: Any) -> None:
        self.value = value
        self.plain, self.large = 0, {}
        self.tree_bytes = sum(getattr(v, "held_bytes", 0) for v in value) if isinstance(value, tuple) else 0
        for owner, size in _held(value):
            if owner is None:
                self.plain += size
            else:
                self.large[owner] = size


def give_back() -> None:
    """Give memory that was freed back to the system: the C library keeps what lies between things that are still held."""
    with contextlib.suppress(OSError, AttributeError):  # another C library has no malloc_trim
        ctypes.CDLL("libc.so.6").malloc_trim(0)


def size_of(value: Any) -> int:
    """Bytes that a value holds, arrays that stand in it twice counted once."""
    entry = _Entry(value)
    return entry.plain + sum(entry.large.values())


def _held(value: Any) -> Iterator[tuple[int | None, int]]:
    """(identity, bytes) of everything large in a value; identity None for what is small and its own."""
    match value:
        case np.ndarray():
            owner = value
            while isinstance(owner.base, np.ndarray):
                owner = owner.base
            file = owner.base.obj if isinstance(owner.base, memoryview) else owner.base
            yield (id(file), len(file)) if isinstance(file, bytes) else (id(owner), owner.nbytes)
        case bytes() | bytearray() if len(value) > LARGE_BYTES:
            yield id(value), sys.getsizeof(value)
        case str() | bytes() | bytearray():
            yield None, sys.getsizeof(value)
        case dict():
            yield None, PLAIN_BYTES * len(value)
            for key, item in value.items():
                yield from _held(key)
                yield from _held(item)
        case tuple() | list() | set() | frozenset():
            yield None, 8 * len(value)
            for item in value:
                yield from _held(item)
        case _ if hasattr(value, "held_bytes"):  # it says itself what it holds beyond its arrays
            yield id(value), int(value.held_bytes)
            for item in vars(value).values():
                yield from _held(item)
        case BaseModel():
            yield None, PLAIN_BYTES * len(vars(value))
            for item in vars(value).values():
                yield from _held(item)
        case _ if dataclasses.is_dataclass(value):
            yield None, PLAIN_BYTES
            for f in dataclasses.fields(value):
                yield from _held(getattr(value, f.name))
        case _:
            yield None, PLAIN_BYTES


__all__ = ["Memo", "give_back", "size_of"]
