"""Two shapes laid over one another: 24 turns, mirrored or not, then iterated closest points; and how far their surfaces are apart.

Closest points of triangles: Ericson 2005, Real-Time Collision Detection, 5.1.5. Pairs of points: Kabsch 1976, iterated by Besl and McKay
1992; points and planes: Chen and Medioni 1992, for small turns. All from memory."""

from dataclasses import dataclass
from itertools import permutations, product

import numpy as np
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation

from eddyfall.core.likeness.shapes import Shape

COARSE, MIDDLE, FINE = 192, 400, 1536  # points that starts are told apart by, refined by, and that the best is measured with
STARTS = 2  # of either kind that are refined
ROUNDS, BY_POINTS = 24, 4  # of refining; of them by points, the rest by planes
SAME = 2e-4  # of a shape's diagonal, by which a mirrored way must be better at the least
NEAR = 8  # triangles that a point's closest one is looked for among, by the points that lie on them


@dataclass(frozen=True)
class Aligned:
    """How a shape lies on another: x -> linear @ x + shift; mirrored: it turns inside out; apart_m: mean distance of either surface from
    the other, m; most_m: the largest one found."""

    linear: np.ndarray
    shift: np.ndarray
    mirrored: bool
    apart_m: float
    most_m: float


def turns() -> np.ndarray:
    """(48, 3, 3): the 24 turns of a cube, then the same mirrored."""
    found = []
    for order in permutations(range(3)):
        for signs in product((1.0, -1.0), repeat=3):
            matrix = np.zeros((3, 3))
            matrix[range(3), order] = signs
            found.append(matrix)
    return np.array(sorted(found, key=lambda m: (np.linalg.det(m) < 0, not np.array_equal(m, np.eye(3)), m.ravel().tolist())))


TURNS = turns()


class Target:
    """A shape that others are laid over: its points, and its triangles by them."""

    def __init__(self, shape: Shape) -> None:
        self.shape = shape
        points, owner = shape.points_on(2 * FINE, seed=1)
        self.points = np.concatenate([points, shape.corners.mean(axis=1)])
        self.owner = np.concatenate([owner, np.arange(len(shape.corners))])
        self.tree = cKDTree(self.points)
        a, b, c = shape.corners.transpose(1, 0, 2)
        normal = np.cross(b - a, c - a)
        self.normals = normal / np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-30)

    def closest(self, points: np.ndarray, near: int = NEAR) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """((n, 3) closest points on the surface, (n,) distances in m, (n,) their triangles)."""
        _, found = self.tree.query(points, near)
        owners = self.owner[np.reshape(found, (len(points), -1))]
        there = closest_on(np.repeat(points, near, axis=0), self.shape.corners[owners.ravel()]).reshape(len(points), near, 3)
        apart = np.linalg.norm(there - points[:, None], axis=2)
        best = apart.argmin(axis=1)
        rows = np.arange(len(points))
        return there[rows, best], apart[rows, best], owners[rows, best]


def align(piece: Shape, target: Target) -> Aligned:
    """A shape laid over another, of its own size. Of shapes that are their own mirror image the unmirrored way is told."""
    coarse, some = piece.points(COARSE), piece.points(MIDDLE)
    middle, there = piece.box.mean(axis=0), target.shape.box.mean(axis=0)
    scores = [float(target.tree.query((coarse - middle) @ turn.T + there)[0].mean()) for turn in TURNS]
    starts = [*sorted(range(24), key=scores.__getitem__)[:STARTS], *sorted(range(24, 48), key=scores.__getitem__)[:STARTS]]
    refined = [_refined(some, target, TURNS[k], there - TURNS[k] @ middle) for k in starts]
    best = [min(kind, key=lambda found: found[2]) for kind in (refined[:STARTS], refined[STARTS:])]
    proper, mirrored = (_measured(piece, target, linear, shift) for linear, shift, _ in best)
    size = float(np.linalg.norm(target.shape.box[1] - target.shape.box[0]))
    return mirrored if mirrored.apart_m < 0.8 * proper.apart_m - SAME * size else proper


def _refined(
    points: np.ndarray, target: Target, linear: np.ndarray, shift: np.ndarray
) -> tuple[np.ndarray, np.ndarray, float]:  # fmt: skip
    """(linear, shift, mean distance in m of the points from the surface) after the rounds of refining."""
    mean = np.inf
    for k in range(ROUNDS):
        placed = points @ linear.T + shift
        closest, apart, owner = target.closest(placed, 3)
        before, mean = mean, float(apart.mean())
        if k > BY_POINTS and before - mean <= 1e-3 * mean:
            break
        turn, move = _moved(placed, closest) if k < BY_POINTS else _slid(placed, closest, target.normals[owner])
        linear, shift = turn @ linear, turn @ shift + move
    return linear, shift, mean


def _measured(piece: Shape, target: Target, linear: np.ndarray, shift: np.ndarray) -> Aligned:
    _, there, _ = target.closest(piece.points(FINE) @ linear.T + shift)
    _, back, _ = Target(Shape(piece.corners @ linear.T + shift)).closest(target.points[:FINE])
    every = np.concatenate([there, back])
    return Aligned(linear, shift, bool(np.linalg.det(linear) < 0), float(every.mean()), float(every.max()))


def _slid(points: np.ndarray, to: np.ndarray, normals: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(turn, shift) that brings points nearest to planes, for small turns about their middle."""
    middle = points.mean(axis=0)
    rows = np.concatenate([np.cross(points - middle, normals), normals], axis=1)
    found, *_ = np.linalg.lstsq(rows, _dot(to - points, normals), rcond=1e-6)
    turn = Rotation.from_rotvec(found[:3]).as_matrix()
    return turn, middle + found[3:] - turn @ middle


def _moved(points: np.ndarray, to: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(turn (3, 3), shift (3,)) that brings points nearest to others, pair by pair."""
    a, b = points.mean(axis=0), to.mean(axis=0)
    u, _, v = np.linalg.svd((points - a).T @ (to - b))
    sign = np.sign(np.linalg.det(v.T @ u.T))
    turn = v.T @ np.diag([1.0, 1.0, sign]) @ u.T
    return turn, b - turn @ a


def closest_on(points: np.ndarray, corners: np.ndarray) -> np.ndarray:
    """(n, 3) the point of each triangle (n, 3, 3) that is closest to a point (n, 3)."""
    a, b, c = corners.transpose(1, 0, 2)
    ab, ac, ap = b - a, c - a, points - a
    d1, d2 = _dot(ab, ap), _dot(ac, ap)
    bp, cp = points - b, points - c
    d3, d4, d5, d6 = _dot(ab, bp), _dot(ac, bp), _dot(ab, cp), _dot(ac, cp)
    va, vb, vc = d3 * d6 - d5 * d4, d5 * d2 - d1 * d6, d1 * d4 - d3 * d2
    total = np.where(np.abs(va + vb + vc) > 1e-300, va + vb + vc, 1.0)
    found = a + ab * (vb / total)[:, None] + ac * (vc / total)[:, None]
    on_bc = (va <= 0) & (d4 - d3 >= 0) & (d5 - d6 >= 0)
    found[on_bc] = (b + (c - b) * _share(d4 - d3, d4 - d3 + d5 - d6)[:, None])[on_bc]
    on_ac = (vb <= 0) & (d2 >= 0) & (d6 <= 0)
    found[on_ac] = (a + ac * _share(d2, d2 - d6)[:, None])[on_ac]
    on_ab = (vc <= 0) & (d1 >= 0) & (d3 <= 0)
    found[on_ab] = (a + ab * _share(d1, d1 - d3)[:, None])[on_ab]
    for at, corner in (((d6 >= 0) & (d5 <= d6), c), ((d3 >= 0) & (d4 <= d3), b), ((d1 <= 0) & (d2 <= 0), a)):
        found[at] = corner[at]
    return np.asarray(found)


def _dot(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    return np.asarray(np.einsum("ij,ij->i", a, b))


def _share(part: np.ndarray, whole: np.ndarray) -> np.ndarray:
    return np.asarray(part / np.where(np.abs(whole) > 1e-300, whole, 1.0))
