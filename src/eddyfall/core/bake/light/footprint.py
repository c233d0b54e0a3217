"""Which texels a receiver's triangles own, conservatively: every texel that any part of a chart enters, with the parts inside it.

A texel's value is the mean over the surface inside it, so samples are spread over these parts by area.
"""

from dataclasses import dataclass

import numpy as np
from numba import njit

from eddyfall.core.kernel import helper
from eddyfall.core.uv.overlap import beyond_measure
from eddyfall.core.uv.polygons import MOST, clip_half, polygon_area

LEAST_TEXELS2 = 1e-6


@dataclass(frozen=True)
class Footprint:
    """Parts of triangles by texel, in a page of edge x edge texels.

    texel (m,) int64 row * edge + column, ascending; first (m + 1,) where its parts start; uv (s, 3, 2) float64 triangles in texels;
    triangle (s,) int64 which input triangle; area (s,) texel^2.
    """

    edge: int
    texel: np.ndarray
    first: np.ndarray
    uv: np.ndarray
    triangle: np.ndarray
    area: np.ndarray

    def only(self, keep: np.ndarray) -> "Footprint":
        """The footprint of some texels: `keep` (m,) bool."""
        counts = np.diff(self.first)
        parts = np.repeat(keep, counts)
        return Footprint(
            self.edge,
            self.texel[keep],
            np.concatenate([[0], np.cumsum(counts[keep])]),
            self.uv[parts],
            self.triangle[parts],
            self.area[parts],
        )

    def parts(self, keep: np.ndarray) -> "Footprint":
        """The footprint of some parts: `keep` (s,) bool; texels left without any are dropped."""
        owner = np.repeat(np.arange(len(self.texel)), np.diff(self.first))[keep]
        counts = np.bincount(owner, minlength=len(self.texel))
        there = counts > 0
        return Footprint(
            self.edge,
            self.texel[there],
            np.concatenate([[0], np.cumsum(counts[there])]),
            self.uv[keep],
            self.triangle[keep],
            self.area[keep],
        )

    @property
    def covered(self) -> np.ndarray:
        """(edge, edge) bool."""
        grid = np.zeros(self.edge * self.edge, bool)
        grid[self.texel] = True
        return grid.reshape(self.edge, self.edge)

    def largest_triangle(self) -> np.ndarray:
        """(m,) the triangle that has most of each texel."""
        order = np.lexsort((self.area, np.repeat(np.arange(len(self.texel)), np.diff(self.first))))
        return np.asarray(self.triangle[order[self.first[1:] - 1]])


def footprint(page_uv: np.ndarray, edge: int, wraps: bool = False) -> Footprint:
    """Footprint of triangles page_uv (t, 3, 2), page 0..1, in a page of edge x edge texels. What lies outside the page is lost, unless
    it wraps; then what reaches over tiles beyond measure is."""
    page_uv = np.asarray(page_uv, np.float64)
    uv = np.ascontiguousarray(page_uv * edge)
    if wraps:
        uv[beyond_measure(page_uv)] = 0.0
    if not len(uv):
        none = np.zeros(0, np.int64)
        return Footprint(edge, none, np.zeros(1, np.int64), np.zeros((0, 3, 2)), none, np.zeros(0))
    room = _cut(uv, edge, wraps, np.zeros(0, np.int64), np.zeros((0, 3, 2)), np.zeros(0, np.int64), np.zeros(0))
    texel, parts = np.zeros(room, np.int64), np.zeros((room, 3, 2))
    triangle, area = np.zeros(room, np.int64), np.zeros(room)
    _cut(uv, edge, wraps, texel, parts, triangle, area)
    order = np.argsort(texel, kind="stable")
    texel, first = np.unique(texel[order], return_index=True)
    return Footprint(edge, texel, np.concatenate([first, [room]]), parts[order], triangle[order], area[order])


@helper
def _clip_to_texel(uv, t, column, row, a, b):
    """Corners of triangle t inside a texel, left in buffer `a`; returns their number."""
    for k in range(3):
        a[k, 0], a[k, 1] = uv[t, k, 0], uv[t, k, 1]
    n = 3
    x0, y0 = float(column), float(row)
    for side in range(4):
        if side == 0:
            n = clip_half(a, n, x0, y0, x0 + 1.0, y0, 1.0, b)
        elif side == 1:
            n = clip_half(a, n, x0 + 1.0, y0, x0 + 1.0, y0 + 1.0, 1.0, b)
        elif side == 2:
            n = clip_half(a, n, x0 + 1.0, y0 + 1.0, x0, y0 + 1.0, 1.0, b)
        else:
            n = clip_half(a, n, x0, y0 + 1.0, x0, y0, 1.0, b)
        if n < 3:
            return 0
        for c in range(n):
            a[c, 0], a[c, 1] = b[c, 0], b[c, 1]
    return n


@njit(cache=True, nogil=True)
def _cut(uv, edge, wraps, texel, parts, triangle, area):
    """Number of parts; written where the arrays have room."""
    a, b = np.empty((MOST, 2)), np.empty((MOST, 2))
    made = 0
    write = texel.shape[0] > 0
    for t in range(uv.shape[0]):
        x0, x1 = min(uv[t, 0, 0], uv[t, 1, 0], uv[t, 2, 0]), max(uv[t, 0, 0], uv[t, 1, 0], uv[t, 2, 0])
        y0, y1 = min(uv[t, 0, 1], uv[t, 1, 1], uv[t, 2, 1]), max(uv[t, 0, 1], uv[t, 1, 1], uv[t, 2, 1])
        c0, c1, r0, r1 = int(np.floor(x0)), int(np.ceil(x1)), int(np.floor(y0)), int(np.ceil(y1))
        if not wraps:
            c0, c1, r0, r1 = max(c0, 0), min(c1, edge), max(r0, 0), min(r1, edge)
        for row in range(r0, r1):
            for column in range(c0, c1):
                n = _clip_to_texel(uv, t, column, row, a, b)
                if n < 3 or abs(polygon_area(a, n)) < LEAST_TEXELS2:
                    continue
                for k in range(1, n - 1):
                    if write:
                        texel[made] = (row % edge) * edge + column % edge
                        triangle[made] = t
                        parts[made, 0, 0], parts[made, 0, 1] = a[0, 0], a[0, 1]
                        parts[made, 1, 0], parts[made, 1, 1] = a[k, 0], a[k, 1]
                        parts[made, 2, 0], parts[made, 2, 1] = a[k + 1, 0], a[k + 1, 1]
                        area[made] = 0.5 * abs(
                            (a[k, 0] - a[0, 0]) * (a[k + 1, 1] - a[0, 1]) - (a[k + 1, 0] - a[0, 0]) * (a[k, 1] - a[0, 1])
                        )
                    made += 1
    return made
