"""Boxes of mist of one density: how far a ray goes through one, what it keeps of what lies behind and what it lays over it.

Extinction s on each metre and radiance L of the medium (emission and absorption, or light scattered in evenly): over d metres it keeps
T = exp(-s d) and lays L (1 - T) (Pharr, Jakob and Humphreys, Physically Based Rendering, 4th ed., ch. 11). Cut into parts, their T
multiply to the whole's: what lies inside is drawn between the part behind it and the part before it.
"""

import math
from typing import NamedTuple

import numpy as np
from numba import njit, prange

from eddyfall.core.kernel import light_helper


class Volumes(NamedTuple):
    """By drawable (d,): extinction per m, 0 for what is no volume; rgb (d, 3) nits; low, high (d, 3) m of its box."""

    per_m: np.ndarray
    rgb: np.ndarray
    low: np.ndarray
    high: np.ndarray


@light_helper
def way_through(ex, ey, ez, dx, dy, dz, low, high, d, limit):
    """(from, to) m at which a ray from the eye along a unit direction enters and leaves box d, no farther than limit; to <= from: not at
    all (slabs; Kay and Kajiya 1986)."""
    near, far = 0.0, limit
    for axis in range(3):
        e = ex if axis == 0 else (ey if axis == 1 else ez)
        v = dx if axis == 0 else (dy if axis == 1 else dz)
        if abs(v) < 1e-12:
            if e < low[d, axis] or e > high[d, axis]:
                return 0.0, 0.0
            continue
        a, b = (low[d, axis] - e) / v, (high[d, axis] - e) / v
        near, far = max(near, min(a, b)), min(far, max(a, b))
    return near, far


def way_through_plain(
    eye: np.ndarray, direction: np.ndarray, low: np.ndarray, high: np.ndarray, limit: float
) -> tuple[float, float]:
    """Plain twin of `way_through` for one box."""
    with np.errstate(divide="ignore", invalid="ignore"):
        a, b = (low - eye) / direction, (high - eye) / direction
    inside = (eye >= low) & (eye <= high)
    flat = np.abs(direction) < 1e-12
    if (flat & ~inside).any():
        return 0.0, 0.0
    near, far = np.where(flat, -math.inf, np.minimum(a, b)), np.where(flat, math.inf, np.maximum(a, b))
    return max(0.0, float(near.max())), min(limit, float(far.min()))


@njit(cache=True, parallel=True, nogil=True)
def count_parts(starts, far, long, parts):
    """How many fragments (n,) each becomes when those that take up a length of the ray are cut where others of their pixel lie."""
    for i in prange(len(starts) - 1):
        for n in range(starts[i], starts[i + 1]):
            total = 1
            if long[n] > 0.0:
                low, high = far[n] - long[n] / 2, far[n] + long[n] / 2
                for m in range(starts[i], starts[i + 1]):
                    if long[m] == 0.0:
                        total += low < far[m] < high
                    elif m != n:
                        total += low < far[m] - long[m] / 2 < high
                        total += low < far[m] + long[m] / 2 < high
            parts[n] = total


@njit(cache=True, parallel=True, nogil=True)
def cut(starts, far, long, splits, new_starts, source, new_far, new_long):
    """Cuts them so. source: which fragment each part is of; new_far, new_long: m of its middle, and its length. Parts of one follow each
    other, the farthest first; those of fragments that split (n,) come before the first that lies nearer."""
    for i in prange(len(starts) - 1):
        at, most = new_starts[i], new_starts[i + 1] - new_starts[i]
        if most == 0:
            continue
        edges = np.empty(most + 2)
        for turn in range(2):
            for n in range(starts[i], starts[i + 1]):
                if splits[n] != turn:
                    continue
                if long[n] == 0.0:
                    source[at], new_far[at], new_long[at] = n, far[n], 0.0
                    at += 1
                    continue
                low, high = far[n] - long[n] / 2, far[n] + long[n] / 2
                edges[0], edges[1] = low, high
                count = 2
                for m in range(starts[i], starts[i + 1]):
                    for side in range(2 if long[m] > 0.0 else 1):
                        where = far[m] + (side - 0.5) * long[m] if long[m] > 0.0 else far[m]
                        if m != n and low < where < high:
                            edges[count] = where
                            count += 1
                cuts = np.sort(edges[:count])
                for k in range(count - 2, -1, -1):
                    middle = (cuts[k] + cuts[k + 1]) / 2
                    place = at
                    if turn == 1:
                        place = new_starts[i]
                        while place < at and new_far[place] >= middle:
                            place += 1
                        for j in range(at, place, -1):
                            source[j], new_far[j], new_long[j] = source[j - 1], new_far[j - 1], new_long[j - 1]
                    source[place], new_far[place], new_long[place] = n, middle, cuts[k + 1] - cuts[k]
                    at += 1


def shares(k: np.ndarray, p: np.ndarray, part: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(k, p) (n, 3) of parts of volumes that keep k and lay p as wholes; part (n,): share of the length."""
    kept = np.where(k > 0, np.maximum(k, 1e-300) ** part[:, None], 0.0)
    with np.errstate(divide="ignore", invalid="ignore"):
        laid = np.where(k < 1, p * (1 - kept) / (1 - k), 0.0)
    return kept, np.asarray(laid)
