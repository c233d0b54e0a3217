"""Gathered light kept by what it was gathered from, so that applying a bake again costs nothing. In memory, and in a folder if one is set.

A cache and no more: what is not in it is gathered anew, with the same result to the bit.
"""

import contextlib
import io
import os
import threading
from collections import OrderedDict
from collections.abc import Collection
from dataclasses import dataclass, fields
from pathlib import Path
from typing import Any

import numpy as np

from eddyfall.core.bake.maps.finish import Raw
from eddyfall.core.hashing import digest

MEMORY_BYTES = 256 * 1024**2
FOLDER_BYTES = 8 * 1024**3


class RawStore:
    """Raw results by key, the least recently used let go beyond MEMORY_BYTES."""

    def __init__(self, folder: Path | None = None) -> None:
        self.folder = folder
        self._held: OrderedDict[str, tuple[Raw, tuple[str, ...]]] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, key: str) -> tuple[Raw, tuple[str, ...]] | None:
        """(raw, names `over` indexes) or None."""
        with self._lock:
            if key in self._held:
                self._held.move_to_end(key)
                return self._held[key]
        path = self.path_of(key)
        if path is None or not path.exists():
            return None
        try:
            with np.load(path, allow_pickle=False) as data:
                values = {f.name: data[f.name] for f in fields(Raw) if f.name != "samples"}
                entry = Raw(**values, samples=int(data["samples"])), tuple(str(n) for n in data["names"])
        except (OSError, ValueError, KeyError):
            return None
        with contextlib.suppress(OSError):
            path.touch()  # what is used is kept longest
        self._hold(key, entry)
        return entry

    def holds(self, key: str) -> bool:
        """Whether a result is at hand, without reading it."""
        path = self.path_of(key)
        return key in self._held or (path is not None and path.exists())

    def put(self, key: str, raw: Raw, names: tuple[str, ...]) -> None:
        """Keep a result; written whole or not at all."""
        self._hold(key, (raw, names))
        path = self.path_of(key)
        if path is None:
            return
        stream = io.BytesIO()
        arrays: dict[str, Any] = {f.name: np.asarray(getattr(raw, f.name)) for f in fields(Raw)}
        np.savez_compressed(stream, names=np.array(names, dtype=str), **arrays)
        path.parent.mkdir(parents=True, exist_ok=True)
        part = path.with_suffix(f".{os.getpid()}.part")
        part.write_bytes(stream.getvalue())
        part.replace(path)

    def trim(self, limit_bytes: int = FOLDER_BYTES, needed: Collection[str] = ()) -> int:
        """Take the longest unused results out of the folder until it holds no more than a number of bytes; returns how many went.

        needed: keys of results that somebody has kept: they stay."""
        if self.folder is None:
            return 0
        paths = sorted(((p.stat().st_mtime, p.stat().st_size, p) for p in self.folder.glob("*/*.npz")), reverse=True)
        total = gone = 0
        for _, size, path in paths:
            total += size
            if total > limit_bytes and path.stem not in needed:
                path.unlink(missing_ok=True)
                gone += 1
        return gone

    def _hold(self, key: str, entry: tuple[Raw, tuple[str, ...]]) -> None:
        with self._lock:
            self._held[key] = entry
            self._held.move_to_end(key)
            while len(self._held) > 1 and sum(_bytes(raw) for raw, _ in self._held.values()) > MEMORY_BYTES:
                self._held.popitem(last=False)

    def path_of(self, key: str) -> Path | None:
        """The file of a key; None if no folder is set."""
        return None if self.folder is None else self.folder / key[:2] / f"{key}.npz"


def _bytes(raw: Raw) -> int:
    return sum(np.asarray(getattr(raw, f.name)).nbytes for f in fields(Raw))


def _folder() -> Path | None:
    place = os.environ.get("EDDYFALL_BAKE_CACHE")
    return Path(place) if place else None


@dataclass(frozen=True)
class StoredLight:
    """Where a bake that is applied takes its light from. gathers: what is not stored is gathered; else it is left as it was, stale, and
    shown as such, so that no ray is traced where a user waits."""

    gathers: bool = True


STORE = RawStore(_folder())
RAW_VERSION = 3  # counted up when light is gathered otherwise, so that results of older code are not taken for those of this one


def raw_key(surface: str, scene: str) -> str:
    """Key of a receiver's raw result: stamp of its surface and of everything its light may have met."""
    return digest("raw", RAW_VERSION, surface, scene)[:40]


__all__ = ["STORE", "RawStore", "StoredLight", "raw_key"]
