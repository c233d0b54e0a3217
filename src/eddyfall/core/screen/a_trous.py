"""Noise of few rays smoothed over the screen, and a coarse picture spread over finer pixels: both only along the same surface.

Filter with holes (Dammertz, Sewtz, Hanika and Lensch 2010, Edge-Avoiding A-Trous Wavelet Transform, from memory): the 5 x 5 B-spline
kernel, its taps twice as far apart in each round, each tap weighed by how far it lies off the surface's plane and how its normal turns."""

import math
from typing import NamedTuple

import numpy as np
from numba import njit, prange

from eddyfall.core.kernel import light_helper

SPLINE = np.array([1.0, 4.0, 6.0, 4.0, 1.0]) / 16.0
OFF_PLANE = 0.02  # of its distance: how far off the plane a tap may lie before it counts for 1/e
TURN_POWER = 16


class Guide(NamedTuple):
    """Of each texel: place (h, w, 3) in m, normal (h, w, 3), distance to the eye (h, w) in m; valid (h, w) bool: it has a value."""

    place: np.ndarray
    normal: np.ndarray
    distance: np.ndarray
    valid: np.ndarray


@light_helper
def _alike(place, normal, distance, a, b, place2, normal2, c, d):
    """How much texel (c, d) of a second guide is of the surface that texel (a, b) shows, 0 to 1."""
    turn = 0.0
    off = 0.0
    for k in range(3):
        turn += normal[a, b, k] * normal2[c, d, k]
        off += normal[a, b, k] * (place2[c, d, k] - place[a, b, k])
    if turn <= 0.0:
        return 0.0
    return turn**TURN_POWER * math.exp(-abs(off) / (OFF_PLANE * distance[a, b]))


@njit(cache=True, parallel=True, nogil=True)
def _round(values, place, normal, distance, valid, hole, out):
    height, width, channels = values.shape
    for y in prange(height):
        for x in range(width):
            if not valid[y, x]:
                continue
            total = 0.0
            for c in range(channels):
                out[y, x, c] = 0.0
            for j in range(-2, 3):
                b = y + j * hole
                if b < 0 or b >= height:
                    continue
                for i in range(-2, 3):
                    a = x + i * hole
                    if a < 0 or a >= width or not valid[b, a]:
                        continue
                    weight = SPLINE[i + 2] * SPLINE[j + 2] * _alike(place, normal, distance, y, x, place, normal, b, a)
                    total += weight
                    for c in range(channels):
                        out[y, x, c] += weight * values[b, a, c]
            for c in range(channels):
                out[y, x, c] /= total


def round_plain(values: np.ndarray, guide: Guide, hole: int, x: int, y: int) -> np.ndarray:
    """Plain twin: (c,) of texel x, y after one round whose taps lie `hole` texels apart."""
    height, width = guide.valid.shape
    taps = [(j, i) for j in range(-2, 3) for i in range(-2, 3) if 0 <= y + j * hole < height and 0 <= x + i * hole < width]
    total, weights = np.zeros(values.shape[2]), 0.0
    for j, i in taps:
        at = y + j * hole, x + i * hole
        turn = float(guide.normal[y, x] @ guide.normal[at])
        off = abs(float(guide.normal[y, x] @ (guide.place[at] - guide.place[y, x])))
        weight = SPLINE[i + 2] * SPLINE[j + 2] * max(turn, 0) ** TURN_POWER * np.exp(-off / (OFF_PLANE * guide.distance[y, x]))
        total, weights = total + weight * guide.valid[at] * values[at], weights + weight * guide.valid[at]
    return np.asarray(total / weights)


def smoothed(values: np.ndarray, guide: Guide, rounds: int) -> np.ndarray:
    """(h, w, c) float64 after so many rounds; texels without a value stay as they are."""
    values = np.asarray(values, np.float64)
    for number in range(rounds):
        out = values.copy()
        _round(values, *guide, 2**number, out)
        values = out
    return values


@njit(cache=True, parallel=True, nogil=True)
def _spread(values, place, normal, distance, valid, place2, normal2, valid2, divisor, out):
    height, width = place.shape[:2]
    rows, columns, channels = values.shape
    middle = divisor // 2
    for y in prange(height):
        for x in range(width):
            if not valid[y, x]:
                continue
            fx, fy = (x - middle) / divisor, (y - middle) / divisor
            x0, y0 = math.floor(fx), math.floor(fy)
            total, nearest, near = 0.0, -1.0, 0
            for k in range(4):
                c, d = x0 + k % 2, y0 + k // 2
                if c < 0 or d < 0 or c >= columns or d >= rows or not valid2[d, c]:
                    continue
                flat = (1.0 - abs(fx - c)) * (1.0 - abs(fy - d))
                weight = flat * _alike(place, normal, distance, y, x, place2, normal2, d, c)
                total += weight
                if flat > nearest:
                    nearest, near = flat, d * columns + c
                for i in range(channels):
                    out[y, x, i] += weight * values[d, c, i]
            for i in range(channels):
                if total > 1e-4:
                    out[y, x, i] /= total
                elif nearest >= 0.0:
                    out[y, x, i] = values[near // columns, near % columns, i]


def spread(values: np.ndarray, coarse: Guide, fine: Guide, divisor: int) -> np.ndarray:
    """(h, w, c) of values (h / divisor, w / divisor, c) that stand for the middle of so many by so many texels: from the four around each,
    as far as they are of its surface; the nearest where none is."""
    if divisor == 1:
        return values
    out = np.zeros((*fine.valid.shape, values.shape[2]))
    _spread(values, *fine, coarse.place, coarse.normal, coarse.valid, divisor, out)
    return out


def middles(values: np.ndarray, divisor: int) -> np.ndarray:
    """(h / divisor, w / divisor, ...) of values (h, w, ...): those at the middle of every so many by so many texels."""
    rows, columns = (np.minimum(np.arange(0, edge, divisor) + divisor // 2, edge - 1) for edge in values.shape[:2])
    return np.ascontiguousarray(values[np.ix_(rows, columns)])


def coarser(guide: Guide, divisor: int) -> Guide:
    """The guide at the middle of every so many by so many texels."""
    return Guide(*(middles(part, divisor) for part in guide))
