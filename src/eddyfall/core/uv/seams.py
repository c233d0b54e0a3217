"""Seams: edges of the surface along which the charts on both sides part, and which of them need not."""

import math
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from eddyfall.core.uv.charts import Page, weld

FLAT_DEG = 1.0


@dataclass(frozen=True)
class Seam:
    """Where two charts part though their surface goes on: charts, length in metres, the bend of the surface there in degrees, and one
    edge of each side: (triangle, first corner, second corner), running the same way in space."""

    charts: tuple[int, int]
    length_m: float
    bend_deg: float
    edges: tuple[tuple[int, int, int], tuple[int, int, int]]


def seams(corners: np.ndarray, page: Page) -> list[Seam]:
    """Pairs of different charts whose borders meet along edges of the surface; the flattest edge stands for each pair."""
    b = page.borders
    if not len(b):
        return []
    places = weld(corners.reshape(-1, 3)).reshape(-1, 3)
    start, end = places[b[:, 0], b[:, 1]], places[b[:, 0], b[:, 2]]
    key = np.minimum(start, end) * (int(places.max()) + 1) + np.maximum(start, end)
    order = np.argsort(key, kind="stable")
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-30)
    found: dict[tuple[int, int], Seam] = {}
    for i, j in pairwise(order):
        if key[i] != key[j] or b[i, 3] == b[j, 3]:
            continue
        bend = math.degrees(math.acos(float(np.clip(normal[b[i, 0]] @ normal[b[j, 0]], -1, 1))))
        length = float(np.linalg.norm(corners[b[i, 0], b[i, 1]] - corners[b[i, 0], b[i, 2]]))
        same_way = start[i] == start[j]
        first = (int(b[i, 0]), int(b[i, 1]), int(b[i, 2]))
        second = (int(b[j, 0]), int(b[j, 1 if same_way else 2]), int(b[j, 2 if same_way else 1]))
        pair = (int(b[i, 3]), int(b[j, 3]))
        if pair[0] > pair[1]:
            pair, first, second = pair[::-1], second, first
        known = found.get(pair)
        total = length + (known.length_m if known else 0.0)
        if known is None or bend < known.bend_deg:
            found[pair] = Seam(pair, total, bend, (first, second))
        else:
            found[pair] = Seam(pair, total, known.bend_deg, known.edges)
    return sorted(found.values(), key=lambda s: s.charts)


def needless(corners: np.ndarray, page: Page, flat_deg: float = FLAT_DEG) -> list[Seam]:
    """Seams across a flat surface between charts of one handedness: a split that nothing asks for."""
    return [
        s
        for s in seams(corners, page)
        if s.bend_deg <= flat_deg and page.charts[s.charts[0]].mirrored == page.charts[s.charts[1]].mirrored
    ]
