"""In which order blended drawables are drawn: by rank, then by a key of one point of each, the farthest first, then by file order."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from eddyfall.core.passes.contract import Camera, Stage
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.setup.sections.order import Key, Order, Point
from eddyfall.core.scene.setup.tables import Triangles
from eddyfall.core.shade.blend import FIRST_BLENDED

TRIANGLES: tuple[Triangles, ...] = ("file", "back_first", "sorted")


@dataclass(frozen=True, kw_only=True)
class Sorting:
    """What the order follows from: the section's leaves, and by drawable blend kind, rank, m added to the key, (d, 3) shared place (nan:
    none) and turn there, the order of its triangles."""

    key: Key
    direction: tuple[float, float, float]
    point: Point
    blend: np.ndarray
    rank: np.ndarray
    key_shift_m: np.ndarray
    place: np.ndarray
    member: np.ndarray
    triangles: np.ndarray


def sorting(stage: Stage) -> Sorting:
    """As a stage is set."""
    s, order = stage.state, stage.resolved[Order]
    return Sorting(
        key=order.key, direction=order.direction, point=order.point, blend=s.blend, rank=s.rank, key_shift_m=s.key_shift_m,
        place=s.sort_place, member=s.sort_member, triangles=s.triangles,
    )  # fmt: skip


def draw_order(geometry: Geometry, in_view: np.ndarray, camera: Camera, by: Sorting) -> np.ndarray:
    """(k,) blended drawables of `in_view` in the order they are drawn."""
    chosen = np.sort(in_view[by.blend[in_view] >= FIRST_BLENDED])
    key = sort_keys(geometry, chosen, camera, by)
    return chosen[np.lexsort((chosen, by.member[chosen], -key, by.rank[chosen]))].astype(np.int32)


def triangles_of(geometry: Geometry, drawable: int, eye: np.ndarray, by: Sorting) -> np.ndarray:
    """(t,) triangles of a drawable in the order they are drawn for an eye (3,): as in the file; those seen from behind first; or
    by the range of their middles, farthest first."""
    d = geometry.drawables[drawable]
    chosen = np.arange(d.first, d.last, dtype=np.int32)
    kind = TRIANGLES[int(by.triangles[drawable])]
    if kind == "file":
        return chosen
    corners = geometry.positions[geometry.triangles[chosen]].astype(np.float64)
    middles = corners.mean(axis=1)
    if kind == "sorted":
        return chosen[np.argsort(-np.linalg.norm(middles - eye, axis=1), kind="stable")]
    normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    in_front = ((eye - corners[:, 0]) * normals).sum(axis=1) > 0
    return chosen[np.argsort(in_front, kind="stable")]


def sort_keys(geometry: Geometry, chosen: np.ndarray, camera: Camera, by: Sorting) -> np.ndarray:
    """(k,) sort keys in m of drawables (k,); what has more is drawn first."""
    return np.asarray(keys_from(geometry, chosen, np.array([camera.eye], float), camera.forward[None], by)[0])


def keys_from(geometry: Geometry, chosen: np.ndarray, eyes: np.ndarray, forward: np.ndarray, by: Sorting) -> np.ndarray:
    """(m, k) the same from eyes (m, 3) that look along forward (m, 3)."""
    if by.key == "range":
        away = np.broadcast_to(_points(geometry, chosen, eyes, None, by), (len(eyes), len(chosen), 3)) - eyes[:, None]
        return np.asarray(np.linalg.norm(away, axis=2) + by.key_shift_m[chosen])
    along = _along(forward, by)
    points = np.broadcast_to(_points(geometry, chosen, eyes, along, by), (len(eyes), len(chosen), 3)) - eyes[:, None]
    return np.asarray((points * along[:, None]).sum(axis=2) + by.key_shift_m[chosen])


def _along(forward: np.ndarray, by: Sorting) -> np.ndarray:
    """(m, 3) the unit directions that keys other than range are measured along."""
    length = float(np.linalg.norm(by.direction))
    if by.key == "view_depth" or length == 0:
        return forward
    return np.broadcast_to(np.array(by.direction) / length, forward.shape)


def _points(geometry: Geometry, chosen: np.ndarray, eyes: np.ndarray, along: np.ndarray | None, by: Sorting) -> np.ndarray:
    """(m or 1, k, 3) m: the point of each of the drawables (k,) that its key is of; along: None by range."""
    low, high = geometry.bounds[chosen, 0], geometry.bounds[chosen, 1]
    if by.point == "bounds_centre":
        points = (low + high)[None] / 2
    elif by.point == "node_origin":
        points = np.array([geometry.drawables[i].origin for i in chosen], float).reshape(1, -1, 3)
    elif along is None:
        points = np.clip(eyes[:, None], low, high)
    else:
        points = np.where(along[:, None] > 0, low, high)
    shared = by.place[chosen]
    return np.asarray(np.where(np.isnan(shared), points, shared))
