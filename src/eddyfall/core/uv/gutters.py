"""Gutters: how many texels lie between charts, and down to which mip level they keep charts from bleeding into each other."""

import math
from dataclasses import dataclass

import numpy as np
from numba import njit

from eddyfall.core.kernel import helper
from eddyfall.core.uv.charts import Page

FARTHEST_TEXELS = 128.0


@dataclass(frozen=True)
class Gutter:
    """The narrowest gap between two charts: texels (infinite if there is no other chart within 128), the two charts, and where: UV."""

    texels: float
    charts: tuple[int, int]
    at: tuple[float, float]


def narrowest_gap(uv: np.ndarray, page: Page) -> Gutter:
    """The least distance between border edges of different charts, in texels; touching or overlapping charts have 0."""
    if len(page.charts) < 2 or not len(page.borders):
        return Gutter(math.inf, (-1, -1), (0.0, 0.0))
    b = page.borders
    ends = np.concatenate([uv[b[:, 0], b[:, 1]], uv[b[:, 0], b[:, 2]]], axis=1).astype(np.float64) * page.resolution
    order = np.argsort(np.minimum(ends[:, 0], ends[:, 2]), kind="stable")
    gap, i, j = _narrowest(np.ascontiguousarray(ends[order]), b[order, 3], FARTHEST_TEXELS)
    if i < 0:
        return Gutter(math.inf, (-1, -1), (0.0, 0.0))
    first, second = order[i], order[j]
    x, y = (ends[first, :2] + ends[first, 2:]) / 2 / page.resolution
    return Gutter(float(gap), (int(b[first, 3]), int(b[second, 3])), (float(x), float(y)))


@helper
def _to_segment(px, py, ax, ay, bx, by):
    """Distance from a point to a segment."""
    dx, dy = bx - ax, by - ay
    length = dx * dx + dy * dy
    s = 0.0
    if length > 0.0:
        s = min(max(((px - ax) * dx + (py - ay) * dy) / length, 0.0), 1.0)
    return np.hypot(px - ax - s * dx, py - ay - s * dy)


@helper
def _apart(e, i, j):
    """Distance between segments i and j of e (n, 4): 0 if they cross."""
    d1 = (e[i, 2] - e[i, 0]) * (e[j, 1] - e[i, 1]) - (e[i, 3] - e[i, 1]) * (e[j, 0] - e[i, 0])
    d2 = (e[i, 2] - e[i, 0]) * (e[j, 3] - e[i, 1]) - (e[i, 3] - e[i, 1]) * (e[j, 2] - e[i, 0])
    d3 = (e[j, 2] - e[j, 0]) * (e[i, 1] - e[j, 1]) - (e[j, 3] - e[j, 1]) * (e[i, 0] - e[j, 0])
    d4 = (e[j, 2] - e[j, 0]) * (e[i, 3] - e[j, 1]) - (e[j, 3] - e[j, 1]) * (e[i, 2] - e[j, 0])
    if d1 * d2 < 0.0 and d3 * d4 < 0.0:
        return 0.0
    return min(
        min(
            _to_segment(e[i, 0], e[i, 1], e[j, 0], e[j, 1], e[j, 2], e[j, 3]),
            _to_segment(e[i, 2], e[i, 3], e[j, 0], e[j, 1], e[j, 2], e[j, 3]),
        ),
        min(
            _to_segment(e[j, 0], e[j, 1], e[i, 0], e[i, 1], e[i, 2], e[i, 3]),
            _to_segment(e[j, 2], e[j, 3], e[i, 0], e[i, 1], e[i, 2], e[i, 3]),
        ),
    )


@njit(cache=True, nogil=True)
def _narrowest(edges, chart, limit):
    """(gap, i, j) over edges (n, 4) sorted by their least x; sweep along x no wider than the best gap so far."""
    best, first, second = limit, -1, -1
    for i in range(edges.shape[0]):
        right = max(edges[i, 0], edges[i, 2])
        low, high = min(edges[i, 1], edges[i, 3]), max(edges[i, 1], edges[i, 3])
        for j in range(i + 1, edges.shape[0]):
            if min(edges[j, 0], edges[j, 2]) > right + best:
                break
            if chart[j] == chart[i] or min(edges[j, 1], edges[j, 3]) > high + best or max(edges[j, 1], edges[j, 3]) < low - best:
                continue
            d = _apart(edges, i, j)
            if d < best:
                best, first, second = d, i, j
    return best, first, second


def padding_for_mip(level: int, snapped: bool = False) -> int:
    """Texels each side needs so that mip `level` takes nothing from beyond: 1, 2, 5, 11, 23, 47 ... = 1.5 * 2^k - 1.

    Worst case over where the chart's edge lies on the grid, bilinear taps included; 2^k if charts are snapped to the 2^k grid.
    Derived and brute-forced, no published source; the popular 2^k is too small for k >= 2 (level 0 needs 1).
    """
    if snapped:
        return int(2**level)
    return 1 if level == 0 else int(1.5 * 2**level) - 1


def safe_mip(padding_texels: float, snapped_to: int = 1) -> int:
    """The last mip level that `padding_texels` free texels on each side keep clean; -1 if not even level 0.

    snapped_to: the grid in texels that all chart borders lie on (1 if none).
    """
    level = -1
    while level < 20 and padding_for_mip(level + 1) <= padding_texels + 1e-6:
        level += 1
    snapped = -1
    while snapped < 20 and 2 ** (snapped + 1) <= min(padding_texels + 1e-6, snapped_to):
        snapped += 1
    return max(level, snapped)


def snapped_grid(page: Page) -> int:
    """The largest power of two (at most 64) that the bounds of all charts are multiples of, in texels."""
    bounds = np.array([(*c.low, *c.high) for c in page.charts]) * page.resolution
    grid = 1
    while grid < 64 and len(bounds) and np.abs(bounds / (grid * 2) - np.rint(bounds / (grid * 2))).max() < 1e-3 / grid:
        grid *= 2
    return grid


def mip_distance_m(level: float, texels_per_m: float, focal_px: float) -> float:
    """Distance at which a surface seen square on is sampled at a mip level: level = log2(texels/m * distance / focal length in px)."""
    return float(2.0**level * focal_px / texels_per_m)


def focal_px(height_px: int, fov_y_deg: float) -> float:
    """Focal length in pixels of a frame."""
    return height_px / 2 / math.tan(math.radians(fov_y_deg) / 2)
