"""Things cut in two along the planes of flat ones, so that what lies on either side of one is sorted and drawn on its own."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

FLAT = 1e-4  # of a thing's diagonal: corners that stray less from one plane are in it
ON = 1e-6  # of a thing's diagonal: a corner that lies nearer to a plane is on it


@dataclass(frozen=True)
class Plane:
    """Points x (3,) with normal . x = at, m; the normal's largest part is positive: a floor's points up."""

    normal: np.ndarray
    at: float

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
    columns, triangles, signs = _along(piece, above)
    for side in (1.0, -1.0):
        mine = triangles[signs == side]
        used, numbers = np.unique(mine, return_inverse=True)
        sides.append(Piece({k: c[used] for k, c in columns.items()}, numbers.reshape(-1, 3).astype(np.int32)))
    return [side for side in sides if len(side.triangles)]


def _along(piece: Piece, above: np.ndarray) -> tuple[dict[str, np.ndarray], np.ndarray, np.ndarray]:
    """(columns with the corners added where edges cross, triangles none of which crosses, (t,) the side of each). Neighbours share what is
    added on their edge, so that no crack opens; the order of triangles is kept."""
    edges: dict[tuple[int, int], int] = {}
    triangles: list[tuple[int, int, int]] = []
    signs: list[float] = []

    def between(a: int, b: int) -> int:
        return edges.setdefault((min(a, b), max(a, b)), len(above) + len(edges))

    for corners in piece.triangles.tolist():
        d = above[corners]
        if not ((d > 0).any() and (d < 0).any()):
            triangles.append(tuple(corners))
            signs.append(1.0 if d.sum() >= 0 else -1.0)
            continue
        for side in (1.0, -1.0):
            outline: list[int] = []
            for a, b in zip(corners, (*corners[1:], corners[0])):
                if above[a] * side >= 0:
                    outline.append(a)
                if above[a] * above[b] < 0:
                    outline.append(between(a, b))
            for k in range(1, len(outline) - 1):
                triangles.append((outline[0], outline[k], outline[k + 1]))
                signs.append(side)
    pairs = np.array(list(edges), np.int64).reshape(-1, 2)
    share = (above[pairs[:, 0]] / (above[pairs[:, 0]] - above[pairs[:, 1]]))[:, None]
    columns = {}
    for name, column in piece.columns.items():
        a, b = column[pairs[:, 0]].astype(np.float64), column[pairs[:, 1]].astype(np.float64)
        added = a + share * (b - a)
        if name == "normals":
            added = added / np.maximum(np.linalg.norm(added, axis=1, keepdims=True), 1e-30)
        columns[name] = np.concatenate([column, added.astype(column.dtype)])
    return columns, np.array(triangles, np.int32), np.array(signs)
