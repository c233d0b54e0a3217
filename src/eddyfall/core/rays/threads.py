"""Many rays at once: embree lets other threads run while it traces, so that a large batch is cut into one part for each processor."""

import os
from concurrent.futures import ThreadPoolExecutor
from functools import cache
from typing import Any

import numpy as np

LEAST_RAYS = 8192


@cache
def _pool(process: int) -> ThreadPoolExecutor:
    """The threads of a process (a forked one needs its own)."""
    return ThreadPoolExecutor(processors(), thread_name_prefix="rays")


def processors() -> int:
    """Processors this process may use."""
    return len(os.sched_getaffinity(0))


def traced(scene: Any, start: np.ndarray, direction: np.ndarray, distance: np.ndarray | None = None, **asked: Any) -> Any:
    """What EmbreeScene.run(start (n, 3), direction (n, 3), dists=distance (n,), **asked) gives: rays do not depend on each other, so the
    answer is the same however they are cut. float32 throughout."""
    n = len(start)
    count = min(processors(), max(n // LEAST_RAYS, 1))

    def part(a: int, b: int) -> Any:
        more = {} if distance is None else {"dists": np.ascontiguousarray(distance[a:b], np.float32)}
        return scene.run(
            np.ascontiguousarray(start[a:b], np.float32), np.ascontiguousarray(direction[a:b], np.float32), **more, **asked
        )

    if count == 1:
        return part(0, n)
    ends = np.linspace(0, n, count + 1).astype(int)
    parts = list(_pool(os.getpid()).map(part, ends[:-1], ends[1:]))
    if isinstance(parts[0], dict):
        return {key: np.concatenate([p[key] for p in parts]) for key in parts[0]}
    return np.concatenate(parts)
