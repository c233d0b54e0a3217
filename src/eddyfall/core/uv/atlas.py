"""Atlases of xatlas that end without hanging.

xatlas stops its worker threads by waking each and then joins them, but a worker that is just going to sleep misses the call, and the join
waits for ever: an atlas that ends at once after its work hung within 50,000 rounds on two busy cores. So atlases rest before they end, by
when their workers have long been asleep, and those that are left when the process ends are never ended at all.
"""

import atexit
import ctypes
import threading
import time
from collections import deque
from collections.abc import Iterator
from contextlib import contextmanager

import xatlas

REST_S = 1.0
MOST_AT_REST = 200

_resting: deque[tuple[float, xatlas.Atlas]] = deque()
_lock = threading.Lock()


@contextmanager
def new_atlas() -> Iterator[xatlas.Atlas]:
    """An atlas for the length of a with block."""
    atlas = xatlas.Atlas()
    try:
        yield atlas
    finally:
        with _lock:
            _resting.append((time.monotonic(), atlas))
            del atlas
            while _resting and (len(_resting) > MOST_AT_REST or time.monotonic() - _resting[0][0] > REST_S):
                left = REST_S - (time.monotonic() - _resting[0][0])
                if left > 0:
                    time.sleep(left)
                _resting.popleft()


@atexit.register
def _leave_the_rest() -> None:
    for _, atlas in _resting:
        ctypes.pythonapi.Py_IncRef(ctypes.py_object(atlas))
