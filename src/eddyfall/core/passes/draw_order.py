"""In which order blended drawables are drawn: by rank, then by a key of one point of each, the farthest first, then by file order."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from eddyfall.core.passes.contract import Camera, Stage
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.setup.sections.order import Key, Order, Point
from eddyfall.core.shade.blend import FIRST_BLENDED


@dataclass(frozen=True, kw_only=True)
class Sorting:
    """What the order follows from: the section's leaves, and by drawable blend kind, rank, m added to the key, (d, 3) shared place (nan:
    none) and turn there."""

    key: Key
    direction: tuple[float, float, float]
    point: Point
    blend: np.ndarray
    rank: np.ndarray
    key_shift_m: np.ndarray
    place: np.ndarray
    member: np.ndarray


def sorting(stage: Stage) -> Sorting:
    """As a stage is set."""
    s, order = stage.state, stage.resolved[Order]
    return Sorting(
        key=order.key, direction=order.direction, point=order.point, blend=s.blend, rank=s.rank, key_shift_m=s.key_shift_m,
        place=s.sort_place, member=s.sort_member,
    )  # fmt: skip


def draw_order(geometry: Geometry, in_view: np.ndarray, camera: Camera, by: Sorting) -> np.ndarray:
    """(k,) blended drawables of `in_view` in the order they are drawn."""
    chosen = np.sort(in_view[by.blend[in_view] >= FIRST_BLENDED])
    key = sort_keys(geometry, chosen, camera, by)
    return chosen[np.lexsort((chosen, by.member[chosen], -key, by.rank[chosen]))].astype(np.int32)


def sort_keys(geometry: Geometry, chosen: np.ndarray, camera: Camera, by: Sorting) -> np.ndarray:
    """(k,) sort keys in m of drawables (k,); what has more is drawn first."""
    eye = np.array(camera.eye)
    points = sort_points(geometry, chosen, camera, by)
    if by.key == "range":
        key = np.linalg.norm(points - eye, axis=1)
    else:
        key = (points - eye) @ along(camera, by)
    return np.asarray(key + by.key_shift_m[chosen])


def along(camera: Camera, by: Sorting) -> np.ndarray:
    """(3,) the unit direction that keys other than range are measured along."""
    if by.key == "view_depth":
        return camera.forward
    length = float(np.linalg.norm(by.direction))
    return np.array(by.direction) / length if length > 0 else camera.forward


def sort_points(geometry: Geometry, chosen: np.ndarray, camera: Camera, by: Sorting) -> np.ndarray:
    """(k, 3) m: the point of each of the drawables (k,) that its key is of."""
    low, high = geometry.bounds[chosen, 0], geometry.bounds[chosen, 1]
    if by.point == "bounds_centre":
        points = (low + high) / 2
    elif by.point == "node_origin":
        points = np.array([geometry.drawables[i].origin for i in chosen], float).reshape(-1, 3)
    elif by.key == "range":
        points = np.clip(np.array(camera.eye), low, high)
    else:
        points = np.where(along(camera, by) > 0, low, high)
    shared = by.place[chosen]
    return np.asarray(np.where(np.isnan(shared), points, shared))
