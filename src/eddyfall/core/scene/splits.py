"""Things cut in two along the planes of flat ones, so that what lies on either side of one is sorted and drawn on its own."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

FLAT = 1e-4  # of a thing's diagonal: corners that stray less from one plane are in it
ON = 1e-6  # of a thing's diagonal: a corner that lies nearer to a plane is on it


@dataclass(frozen=True)
class Plane:
    """Points x (3,) with normal . x = at, m; the normal's largest part is positive: a floor's points up."""

    normal: np.ndarray
    at: float

    def is_one_with(self, other: Plane, within_m: float) -> bool:
        """Whether another plane is the same one."""
        along = float(self.normal @ other.normal)
        return abs(along) > 1 - FLAT and abs(self.at - np.sign(along) * other.at) <= within_m

    def above(self, positions: np.ndarray) -> np.ndarray:
        """(n,) m of positions (n, 3) on the side its normal points to; negative below."""
        return np.asarray(positions.astype(np.float64) @ self.normal - self.at)


@dataclass(frozen=True)
class Piece:
    """Some of a mesh part's triangles (t, 3) with their corners' columns: positions (v, 3), normals (v, 3), uv0, uv1 (v, 2)."""

    columns: dict[str, np.ndarray]
    triangles: np.ndarray

    @property
    def positions(self) -> np.ndarray:
        return self.columns["positions"]


def plane_through(positions: np.ndarray) -> Plane | None:
    """The plane that all positions (n, 3) lie in; None if they lie in none, or in more than one."""
    if len(positions) < 3:
        return None
    middle = positions.mean(axis=0, dtype=np.float64)
    _, lengths, axes = np.linalg.svd(positions.astype(np.float64) - middle, full_matrices=False)
    size = float(np.linalg.norm(np.ptp(positions.astype(np.float64), axis=0)))
    normal = axes[2] * np.sign(axes[2][np.argmax(np.abs(axes[2]))])
    if lengths[1] <= FLAT * size or np.abs((positions - middle) @ normal).max() > FLAT * size:
        return None
    return Plane(normal, float(middle @ normal))


def cut(whole: Piece, planes: Sequence[Plane]) -> list[Piece]:
    """A piece cut along planes one after the other: what lies above first. A piece that a plane does not cross stays whole."""
    pieces = [whole]
    for plane in planes:
        pieces = [side for piece in pieces for side in _cut(piece, plane)]
    return pieces


def _cut(piece: Piece, plane: Plane) -> list[Piece]:
    above = plane.above(piece.positions)
    above[np.abs(above) <= ON * float(np.linalg.norm(np.ptp(piece.positions.astype(np.float64), axis=0)))] = 0.0
    if not ((above > 0).any() and (above < 0).any()):
        return [piece]
    sides = []
    columns, triangles, is_above = cut_along(piece.columns, piece.triangles, above, unit="normals")
    for mine in (triangles[is_above], triangles[~is_above]):
        used, numbers = np.unique(mine, return_inverse=True)
        sides.append(Piece({k: c[used] for k, c in columns.items()}, numbers.reshape(-1, 3).astype(np.int32)))
    return [side for side in sides if len(side.triangles)]


def cut_along(
    columns: Mapping[str, np.ndarray], indices: np.ndarray, above: np.ndarray, *, unit: str
) -> tuple[dict[str, np.ndarray], np.ndarray, np.ndarray]:  # fmt: skip
    """(columns (v + n, ...) with n corners added where edges cross a plane, (t, 3) int32 triangles none of which crosses it, (t,) bool:
    which lie above) of triangles `indices` (m, 3). above (v,): height of each corner, 0 on the plane; unit: the column whose rows have
    length 1. Neighbours share what is added on their edge, so that no crack opens; the order of triangles is kept; what lies in the plane
    counts as below."""
    edges: dict[tuple[int, int], int] = {}
    triangles: list[tuple[int, ...]] = []
    sides: list[bool] = []

    def between(a: int, b: int) -> int:
        return edges.setdefault((min(a, b), max(a, b)), len(above) + len(edges))

    for corners in indices.tolist():
        d = above[corners]
        if d.min() >= 0 or d.max() <= 0:
            triangles.append(tuple(corners))
            sides.append(bool(d.max() > 0))
            continue
        for is_above in (True, False):
            outline: list[int] = []
            for a, b in zip(corners, (*corners[1:], corners[0])):
                if above[a] >= 0 if is_above else above[a] <= 0:
                    outline.append(a)
                if above[a] * above[b] < 0:
                    outline.append(between(a, b))
            for k in range(1, len(outline) - 1):
                triangles.append((outline[0], outline[k], outline[k + 1]))
                sides.append(is_above)
    pairs = np.array(list(edges), np.int64).reshape(-1, 2)
    low, high = pairs[:, 0], pairs[:, 1]
    share = (above[low] / (above[low] - above[high]))[:, None]
    found = {}
    for name, column in columns.items():
        a, b = column[low].astype(np.float64), column[high].astype(np.float64)
        added = a + share * (b - a)
        if name == unit:
            added = added / np.maximum(np.linalg.norm(added, axis=1, keepdims=True), 1e-12)
        found[name] = np.concatenate([column, added.astype(column.dtype)])
    return found, np.array(triangles, np.int32), np.array(sides, bool)
