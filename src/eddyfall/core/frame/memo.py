"""Remembers what was made, by content key, up to one number of bytes: what took long for its bytes stays longer.

What is dropped is what has the least of (seconds it took / bytes it holds) + the same of what was dropped last when it was last asked
for: the greedy-dual-size rule (Cao and Irani 1997, from memory), which for things alike is least recently used. What has not been asked
for in a long while goes first, whatever it took.

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
from heapq import heapify, heappop, heappush
from threading import Lock
from time import perf_counter
from typing import Any

import numpy as np
from pydantic import BaseModel

LARGE_BYTES = 4096  # from here on bytes are counted by identity, as arrays are
PLAIN_BYTES = 64  # what a number, a short text or an entry of a table is taken for
STALE = 20_000  # askings after which what was not asked for goes first
TREE_SHARE = 0.3  # of the limit: up to it, trees stay, whatever else comes


class Memo:
    """A store of values by key, as large as it may be. Safe to share between threads; values must not be changed."""

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
        self._line: list[tuple[float, int, str]] = []  # a heap: what goes first; rows of what was asked for since are passed over
        self._dropped, self._asked = 0.0, 0

    def get(self, key: str) -> Any:
        """The value, or None."""
        with self._lock:
            store = self._trees if key in self._trees else self._entries
            entry = store.get(key)
            if entry is None:
                self.misses += 1
                return None
            store.move_to_end(key)
            self._stand(key, entry)
            self.hits += 1
            return entry.value

    def put(self, key: str, value: Any, seconds: float = 0.0) -> None:
        """Store a value that took so long to make, and drop others beyond the limit (the newest always stays)."""
        entry = _Entry(value, seconds)
        with self._lock:
            if key in self._entries or key in self._trees:
                return
            (self._trees if entry.tree_bytes else self._entries)[key] = entry
            self._stand(key, entry)
            self._count(entry)
            while self.bytes > self.limit_bytes and self.entries > 1:
                self._drop(besides=key)

    def renew(self, key: str, value: Any, seconds: float = 0.0) -> None:
        """Store a value that took so long in the place of what is there under its key: something that has grown."""
        with self._lock:
            for store in (self._entries, self._trees):
                if key in store:
                    self._forget(store.pop(key))
        self.put(key, value, seconds)

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
                    start = perf_counter()
                    value = make()
                    self.put(key, value, perf_counter() - start)
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
            self._line.clear()
            self.bytes = self._tree_bytes = 0

    def shrink(self, by_bytes: int) -> None:
        """Forget values until so many bytes less are held, or nothing is."""
        with self._lock:
            aim = self.bytes - by_bytes
            while self.bytes > aim and self.entries:
                self._drop()

    @property
    def entries(self) -> int:
        """How many values are remembered."""
        return len(self._entries) + len(self._trees)

    def _drop(self, besides: str = "") -> None:
        """Forget the entry whose turn it is: a tree if they have more than their share, or if there is nothing else."""
        tree = next((k for k in self._trees if k != besides), None)
        other = None if tree is not None and self._tree_bytes > TREE_SHARE * self.limit_bytes else self._first_in_line(besides)
        if other is not None:
            self._forget(self._entries.pop(other))
        elif tree is not None:
            self._forget(self._trees.pop(tree))

    def _stand(self, key: str, entry: "_Entry") -> None:
        """Put an entry into line anew: it was asked for."""
        self._asked += 1
        entry.asked, entry.turn = self._asked, self._dropped + entry.worth
        heappush(self._line, (entry.turn, entry.asked, key))
        if len(self._line) > 64 + 4 * (len(self._entries) + len(self._trees)):
            self._line = [(e.turn, e.asked, k) for store in (self._entries, self._trees) for k, e in store.items()]
            heapify(self._line)

    def _first_in_line(self, besides: str) -> str | None:
        """Which of the entries that are no trees goes first."""
        oldest = next((k for k in self._entries if k != besides), None)
        if oldest is None or self._asked - self._entries[oldest].asked > STALE:
            return oldest
        put_back = []
        found = None
        while self._line and found is None:
            turn, asked, key = heappop(self._line)
            entry = self._entries.get(key)
            if entry is None or entry.asked != asked:
                continue
            if key == besides:
                put_back.append((turn, asked, key))
                continue
            self._dropped, found = turn, key
        for row in put_back:
            heappush(self._line, row)
        return found if found is not None else oldest

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
    """A value with what it holds: bytes of its own, and the large things that others may hold too, by identity; seconds that it took, for
    each byte; when it was last asked for, its turn to go."""

    __slots__ = ("asked", "large", "plain", "tree_bytes", "turn", "value", "worth")

    def __init__(self, value: Any, seconds: float = 0.0) -> None:
        self.value, self.asked, self.turn = value, 0, 0.0
        self.plain, self.large = 0, {}
        self.tree_bytes = sum(getattr(v, "held_bytes", 0) for v in value) if isinstance(value, tuple) else 0
        for owner, size in _held(value):
            if owner is None:
                self.plain += size
            else:
                self.large[owner] = size
        self.worth = seconds / max(self.plain + sum(self.large.values()), 1)


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
