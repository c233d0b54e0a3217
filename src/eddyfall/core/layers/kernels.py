"""Kernels over the fragments of each pixel: folding them in an order, and sorting them swap by swap; texels that triangles cover."""

import numpy as np
from numba import njit, prange

from eddyfall.core.raster.rasterise import wrap


@njit(cache=True, parallel=True, nogil=True, error_model="numpy")
def fold(starts, order, k, p, q, opaque, out):
    """What comes out of laying the fragments order[starts[i]] .. of each pixel over opaque (n, 3), first one first."""
    for i in prange(len(starts) - 1):
        for c in range(3):
            f = opaque[i, c]
            for m in range(starts[i], starts[i + 1]):
                n = order[m]
                f = k[n, c] * f + p[n, c] + q[n] * opaque[i, c]
            out[i, c] = f


@njit(cache=True, parallel=True, nogil=True, error_model="numpy")
def sort_by(starts, order, key):
    """Sorts the fragments of each pixel by key, least first; those of equal keys stay as they are."""
    for i in prange(len(starts) - 1):
        for m in range(starts[i] + 1, starts[i + 1]):
            n = order[m]
            j = m
            while j > starts[i] and key[order[j - 1]] > key[n]:
                order[j] = order[j - 1]
                j -= 1
            order[j] = n


@njit(cache=True, parallel=True, nogil=True, error_model="numpy")
def count_swaps(starts, order, far, step, swaps):
    """How many swaps of neighbours it takes to draw what is farther first, by pixel; what lies within a step of the other stays."""
    for i in prange(len(starts) - 1):
        total = 0
        for m in range(starts[i] + 1, starts[i + 1]):
            n = order[m]
            j = m
            while j > starts[i] and far[n] - far[order[j - 1]] > step[n]:
                order[j] = order[j - 1]
                j -= 1
                total += 1
            order[j] = n
        swaps[i] = total


@njit(cache=True, parallel=True, nogil=True, error_model="numpy")
def split(starts, order, far, step, k, p, q, opaque, first, s_early, s_late, s_wrong):
    """The same, each swap written down: the fragment that was drawn too early, the one it was drawn before, and what the pair in that order
    adds to the pixel: [b_late (1 - k_early) - b_early (1 - k_late)] by all k that come later, b = p + q O, whatever lies beneath."""
    for i in prange(len(starts) - 1):
        at = first[i]
        for m in range(starts[i] + 1, starts[i + 1]):
            n = order[m]
            j = m
            while j > starts[i] and far[n] - far[order[j - 1]] > step[n]:
                early = order[j - 1]
                for c in range(3):
                    later = 1.0
                    for l in range(j + 1, starts[i + 1]):
                        later *= k[order[l], c]
                    b_early, b_late = p[early, c] + q[early] * opaque[i, c], p[n, c] + q[n] * opaque[i, c]
                    s_wrong[at, c] = (b_late * (1.0 - k[early, c]) - b_early * (1.0 - k[n, c])) * later
                s_early[at], s_late[at] = early, n
                at += 1
                order[j] = early
                j -= 1
                order[j] = n


@njit(cache=True, parallel=True, nogil=True, error_model="numpy")
def put_between(starts, order, far, splits):
    """Moves fragments that split (n,) bool, the farthest first, to before the first of the others that lies nearer, in place."""
    for i in prange(len(starts) - 1):
        first, last = starts[i], starts[i + 1]
        laid, kept, parts = first, np.empty(last - first, np.int64), np.empty(last - first, np.int64)
        count = 0
        for m in range(first, last):
            n = order[m]
            if splits[n]:
                j = count
                while j > 0 and far[parts[j - 1]] < far[n]:
                    parts[j] = parts[j - 1]
                    j -= 1
                parts[j] = n
                count += 1
            else:
                kept[laid - first] = n
                laid += 1
        used = laid - first
        for k in range(count):
            place = 0
            while place < used and far[kept[place]] >= far[parts[k]]:
                place += 1
            for j in range(used, place, -1):
                kept[j] = kept[j - 1]
            kept[place] = parts[k]
            used += 1
        for m in range(first, last):
            order[m] = kept[m - first]


def ordered(starts: np.ndarray, n: int, key: np.ndarray | None = None) -> np.ndarray:
    """(n,) fragments as they are drawn, or by key (n,), least first."""
    order = np.arange(n)
    if key is not None:
        sort_by(starts, order, np.asarray(key, np.float64))
    return order


@njit(cache=True, nogil=True)
def mark(mask, corner, one, other, counts, u, v, wrap_x, wrap_y):
    """Mark the texels of mask (h, w) in which points of triangles lie: counts (n,) of each, at u, v (m,) along its sides."""
    height, width = mask.shape
    k = 0
    for i in range(len(counts)):
        for _ in range(counts[i]):
            a, b = (1 - u[k], 1 - v[k]) if u[k] + v[k] > 1 else (u[k], v[k])
            x = corner[i, 0] + a * one[i, 0] + b * other[i, 0]
            y = corner[i, 1] + a * one[i, 1] + b * other[i, 1]
            mask[wrap(int(np.floor(y)), height, wrap_y), wrap(int(np.floor(x)), width, wrap_x)] = True
            k += 1
