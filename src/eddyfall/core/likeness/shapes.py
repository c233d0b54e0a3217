"""What a shape is by: its box, its area, and how far apart its points lie (Osada et al. 2002, Shape Distributions: D2; from memory).

Of these none sees which way it is turned; distances are divided by their mean, so that they do not see its size, and a mirror changes none.
"""

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy.spatial.distance import cdist

from eddyfall.core.hashing import freeze

PAIRS = 4096  # distances that a distribution is of
BINS = 48
WIDEST = 3.0  # in mean distances; beyond it lies next to nothing


@dataclass(frozen=True)
class Shape:
    """corners (t, 3, 3) float64 m of its triangles."""

    corners: np.ndarray

    @cached_property
    def areas(self) -> np.ndarray:
        """(t,) m2."""
        a, b, c = self.corners.transpose(1, 0, 2)
        return np.asarray(np.linalg.norm(np.cross(b - a, c - a), axis=1) / 2)

    @property
    def area(self) -> float:
        return float(self.areas.sum())

    @cached_property
    def box(self) -> np.ndarray:
        """(2, 3) m: low and high corner."""
        if not len(self.corners):
            return np.zeros((2, 3))
        points = self.corners.reshape(-1, 3)
        return np.stack([points.min(axis=0), points.max(axis=0)])

    @property
    def sides(self) -> np.ndarray:
        """(3,) m of its box, shortest first."""
        return np.sort(self.box[1] - self.box[0])

    @cached_property
    def pairs_m(self) -> np.ndarray:
        """(PAIRS,) m between two points of its surface, drawn at random; (0,) of a shape without area."""
        points = self.points(2 * PAIRS)
        return freeze(np.linalg.norm(points[: len(points) // 2] - points[len(points) // 2 :], axis=1))

    @cached_property
    def distances(self) -> np.ndarray:
        """(BINS,) shares of pairs of its points, by their distance in mean distances; all zero of a shape without area."""
        apart = self.pairs_m
        if not len(apart):
            return np.zeros(BINS)
        counts, _ = np.histogram(apart / max(float(apart.mean()), 1e-30), BINS, (0.0, WIDEST))
        return freeze(counts / PAIRS)

    def points(self, count: int, seed: int = 0) -> np.ndarray:
        """(count, 3) points spread over its surface at random by area, the same each time; none of a shape without area."""
        return self.points_on(count, seed)[0]

    def points_on(self, count: int, seed: int = 0) -> tuple[np.ndarray, np.ndarray]:
        """The same, and (count,) the triangles that they lie on."""
        if not self.area > 0:
            return np.zeros((0, 3)), np.zeros(0, np.int64)
        rng = np.random.default_rng(seed)
        which = np.searchsorted(np.cumsum(self.areas) / self.area, rng.random(count)).clip(max=len(self.areas) - 1)
        u, v = np.sqrt(rng.random(count))[:, None], rng.random(count)[:, None]
        a, b, c = self.corners[which].transpose(1, 0, 2)
        return np.asarray((1 - u) * a + u * (1 - v) * b + u * v * c), which  # Turk 1990: even over a triangle


def unlikeness(some: list[Shape], others: list[Shape]) -> np.ndarray:
    """(n, m) from 0, alike, to 1: the mean of how differently distances are spread, of how far the sides of boxes and the roots of areas
    are apart as ratios. Turns and mirrors change nothing; size does."""
    if not some or not others:
        return np.zeros((len(some), len(others)))
    spread = 0.5 * cdist(*(np.stack([shape.distances for shape in shapes]) for shapes in (some, others)), "cityblock")
    apart = cdist(*(np.log(np.maximum(_sizes(shapes), 1e-6)) for shapes in (some, others)), "cityblock") / 4
    return np.asarray((spread + 1 - np.exp(-apart)) / 2)


def _sizes(shapes: list[Shape]) -> np.ndarray:
    """(n, 4) m: the sides of a box, and of the square of its area. A side is told to a hundredth of the longest."""
    rows = np.array([[*shape.sides, np.sqrt(shape.area)] for shape in shapes])
    return np.asarray(np.maximum(rows, rows.max(axis=1, keepdims=True) / 100))
