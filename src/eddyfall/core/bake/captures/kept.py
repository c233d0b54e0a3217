"""Captured maps kept by what they were captured from, so that applying a capture again costs nothing. A cache and no more."""

import contextlib
import io
import os
import threading
from collections import OrderedDict

import numpy as np

from eddyfall.core.bake.maps.store import STORE

MEMORY_BYTES = 64 * 1024**2


class KeptCaptures:
    """Codes (edge, edge, 4) uint16 and the drawables that were seen (k,), by key: in memory, and in the folder that bakes are kept in."""

    def __init__(self) -> None:
        self._held: OrderedDict[str, tuple[np.ndarray, tuple[str, ...]]] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, key: str) -> tuple[np.ndarray, tuple[str, ...]] | None:
        """What is kept under a key; None if nothing that can be read."""
        with self._lock:
            if key in self._held:
                self._held.move_to_end(key)
                return self._held[key]
        path = STORE.path_of(key)
        if path is None or not path.exists():
            return None
        try:
            with np.load(path, allow_pickle=False) as data:
                entry = data["codes"], tuple(str(n) for n in data["names"])
        except (OSError, ValueError, KeyError):
            return None
        with contextlib.suppress(OSError):
            path.touch()
        self._hold(key, entry)
        return entry

    def put(self, key: str, codes: np.ndarray, names: tuple[str, ...]) -> None:
        """Keep a capture; written whole or not at all."""
        self._hold(key, (codes, names))
        path = STORE.path_of(key)
        if path is None:
            return
        stream = io.BytesIO()
        np.savez_compressed(stream, codes=codes, names=np.array(names, dtype=str))
        path.parent.mkdir(parents=True, exist_ok=True)
        part = path.with_suffix(f".{os.getpid()}.part")
        part.write_bytes(stream.getvalue())
        part.replace(path)

    def _hold(self, key: str, entry: tuple[np.ndarray, tuple[str, ...]]) -> None:
        with self._lock:
            self._held[key] = entry
            while len(self._held) > 1 and sum(codes.nbytes for codes, _ in self._held.values()) > MEMORY_BYTES:
                self._held.popitem(last=False)


KEPT = KeptCaptures()
