"""Open ends of shapes: loops of edges that one triangle alone has, and how far those of a piece lie from those of its neighbours."""

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from eddyfall.core.likeness.shapes import Shape

WELD = 1e-5  # of a shape's diagonal: corners nearer than this are one
AROUND = 64  # points that a loop is told by


@dataclass(frozen=True)
class End:
    """points (AROUND, 3) m spread along a loop's edges; middle (3,)."""

    points: np.ndarray

    @cached_property
    def tree(self) -> cKDTree:
        return cKDTree(self.points)

    @property
    def middle(self) -> np.ndarray:
        return np.asarray(self.points.mean(axis=0))


def ends_of(shape: Shape) -> list[End]:
    """The open ends of a shape, largest first."""
    corners = shape.corners.reshape(-1, 3)
    if not len(corners):
        return []
    step = max(float(np.linalg.norm(shape.box[1] - shape.box[0])) * WELD, 1e-9)
    _, number = np.unique(np.round(corners / step).astype(np.int64), axis=0, return_inverse=True)
    faces = number.reshape(-1, 3)
    edges = np.concatenate([faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 0]]])
    edges = edges[edges[:, 0] != edges[:, 1]]
    unique, counts = np.unique(np.sort(edges, axis=1), axis=0, return_counts=True)
    open_ = unique[counts == 1]
    if not len(open_):
        return []
    size = int(number.max()) + 1
    place = np.zeros((size, 3))
    place[number] = corners
    _, label = connected_components(coo_array((np.ones(len(open_)), open_.T), shape=(size, size)), directed=False)
    loops = [open_[label[open_[:, 0]] == k] for k in np.unique(label[open_[:, 0]])]
    found = [(float(np.linalg.norm(place[e[:, 0]] - place[e[:, 1]], axis=1).sum()), End(_spread(place, e))) for e in loops]
    return [end for _, end in sorted(found, key=lambda row: -row[0])]


def _spread(place: np.ndarray, edges: np.ndarray) -> np.ndarray:
    """(AROUND, 3) points evenly along edges (n, 2)."""
    a, b = place[edges[:, 0]], place[edges[:, 1]]
    lengths = np.linalg.norm(b - a, axis=1)
    along = (np.arange(AROUND) + 0.5) / AROUND * lengths.sum()
    which = np.searchsorted(np.cumsum(lengths), along).clip(max=len(edges) - 1)
    share = (along - (np.cumsum(lengths) - lengths)[which]) / np.maximum(lengths[which], 1e-30)
    return np.asarray(a[which] + (b - a)[which] * share[:, None])


def misfit_m(piece: list[End], neighbours: list[End]) -> float | None:
    """Mean distance in m of a piece's open ends from the nearest of its neighbours', along their outlines; None if either has none."""
    if not piece or not neighbours:
        return None
    apart = np.array([[(_from(mine, other) + _from(other, mine)) / 2 for other in neighbours] for mine in piece])
    return float(apart.min(axis=1).mean())


def _from(one: End, other: End) -> float:
    """Mean distance in m of one loop's points from another loop's."""
    return float(other.tree.query(one.points)[0].mean())
