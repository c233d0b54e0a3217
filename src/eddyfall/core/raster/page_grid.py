"""Which pages of a shadow map in pages some places lie on."""

import math

import numpy as np
from numba import njit

MOST_MARKED = 1 << 22  # pages that are marked in a grid; more are sorted


@njit(cache=True)
def marks(across, level, number, size, margin):
    """(4 k, 2) page numbers under the corners of a square around each of the k places (n, 2) of one level."""
    count = 0
    for n in range(len(level)):
        count += level[n] == number
    pages = np.empty((4 * count, 2), np.int64)
    at = 0
    for n in range(len(level)):
        if level[n] == number:
            for corner in range(4):
                pages[at, 0] = math.floor((across[n, 0] + (margin if corner > 1 else -margin)) / size)
                pages[at, 1] = math.floor((across[n, 1] + (margin if corner % 2 else -margin)) / size)
                at += 1
    return pages


def each_once(marked_by: np.ndarray, more: np.ndarray) -> np.ndarray:
    """The different rows of page numbers (k, 2) and (m, 2), in order."""
    pages = np.concatenate([marked_by, more])
    if not len(pages):
        return pages
    low, (wide, down) = _extent(pages)
    if wide * down <= MOST_MARKED:
        at = np.flatnonzero(_marked(pages, low, wide, down))
        return np.stack([at // down + low[0], at % down + low[1]], axis=1)
    half = np.int64(1) << 30
    keys = np.unique(((pages[:, 0] + half) << 32) | (pages[:, 1] + half))
    return np.stack([(keys >> 32) - half, (keys & 0xFFFFFFFF) - half], axis=1)


def _extent(pages: np.ndarray) -> tuple[np.ndarray, tuple[int, int]]:
    """(lowest numbers (2,), how many there are across each way)."""
    low = np.array([pages[:, 0].min(), pages[:, 1].min()])
    return low, (int(pages[:, 0].max() - low[0]) + 1, int(pages[:, 1].max() - low[1]) + 1)


@njit(cache=True)
def _marked(pages, low, wide, down):
    """(wide x down,) bool: which numbers there are."""
    marked = np.zeros(wide * down, np.bool_)
    for n in range(len(pages)):
        marked[(pages[n, 0] - low[0]) * down + pages[n, 1] - low[1]] = True
    return marked
