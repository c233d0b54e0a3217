"""In which order blended drawables are drawn: by rank, then by a key of one point of each, the farthest first, then by file order."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from eddyfall.core.passes.contract import Camera, DrawableState, Stage
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.setup.sections.order import Key, Method, Order, Point
from eddyfall.core.scene.setup.tables import Triangles
from eddyfall.core.shade.blend import VOLUME, blends

OVER_ALL = 1_000_000  # added to the rank of volumes that are not sorted
TRIANGLES: tuple[Triangles, ...] = ("file", "back_first", "sorted")


@dataclass(frozen=True, kw_only=True)
class Sorting:
    """What the order follows from: the section's leaves, and by drawable blend kind, rank, m added to the key, (d, 3) shared place (nan:
    none), turn there and number of the mesh they are drawn as (0: none), the order of its triangles; method, layers: how layers of a
    pixel are put together."""

    key: Key
    direction: tuple[float, float, float]
    point: Point
    blend: np.ndarray
    rank: np.ndarray
    key_shift_m: np.ndarray
    place: np.ndarray
    member: np.ndarray
    mesh: np.ndarray
    triangles: np.ndarray
    method: Method = "sorted"
    layers: int = 4

    @property
    def in_order(self) -> int:
        """How many of the nearest layers of a pixel are drawn in order, where things are not sorted."""
        return 0 if self.method == "weighted" else self.layers

    @property
    def averages(self) -> bool:
        """Whether the rest is averaged; else it is left out."""
        return self.method != "peeled"


def sorting(stage: Stage) -> Sorting:
    """As a stage is set."""
    s, order = stage.state, stage.resolved[Order]
    return Sorting(
        key=order.key, direction=order.direction, point=order.point, blend=s.blend,
        rank=np.where((s.blend == VOLUME) & (s.volume_sort > 0), s.rank + OVER_ALL, s.rank), key_shift_m=s.key_shift_m,
        place=s.sort_place, member=s.sort_member, mesh=s.sort_mesh, triangles=s.triangles, method=order.method, layers=order.layers,
    )  # fmt: skip


def blended_in(state: DrawableState) -> np.ndarray:
    """(k,) drawables that are blended and drawn."""
    return np.flatnonzero(state.blended & state.drawn & state.colour_pass & ~state.camera_hidden)


def draw_order(geometry: Geometry, in_view: np.ndarray, camera: Camera, by: Sorting) -> np.ndarray:
    """(k,) blended drawables of `in_view` in the order they are drawn."""
    chosen = np.sort(in_view[blends(by.blend[in_view])])
    key = sort_keys(geometry, chosen, camera, by)
    return chosen[np.lexsort((chosen, by.member[chosen], -key, by.rank[chosen]))].astype(np.int32)


def triangles_in(geometry: Geometry, order: np.ndarray, eye: np.ndarray, by: Sorting) -> np.ndarray:
    """(t,) triangles of drawables (k,) that are drawn in this order, as they are drawn for an eye (3,): those of one after those of
    another, but where some are drawn as one mesh."""
    runs: list[np.ndarray] = []
    at = 0
    while at < len(order):
        mesh, end = by.mesh[order[at]], at + 1
        while mesh and end < len(order) and by.mesh[order[end]] == mesh:
            end += 1
        run = np.concatenate([triangles_of(geometry, int(d), eye, by) for d in order[at:end]])
        runs.append(run[np.argsort(-_ranges(geometry, run, eye), kind="stable")] if end - at > 1 else run)
        at = end
    return np.concatenate(runs)


def _ranges(geometry: Geometry, triangles: np.ndarray, eye: np.ndarray) -> np.ndarray:
    """(t,) m from an eye (3,) to the middles of triangles."""
    middles = geometry.positions[geometry.triangles[triangles]].astype(np.float64).mean(axis=1)
    return np.asarray(np.linalg.norm(middles - eye, axis=1))


def triangles_of(geometry: Geometry, drawable: int, eye: np.ndarray, by: Sorting) -> np.ndarray:
    """(t,) triangles of a drawable in the order they are drawn for an eye (3,): as in the file; those seen from behind first; or
    by the range of their middles, farthest first."""
    d = geometry.drawables[drawable]
    chosen = np.arange(d.first, d.last, dtype=np.int32)
    kind = TRIANGLES[int(by.triangles[drawable])]
    if kind == "file":
        return chosen
    if kind == "sorted":
        return chosen[np.argsort(-_ranges(geometry, chosen, eye), kind="stable")]
    corners = geometry.positions[geometry.triangles[chosen]].astype(np.float64)
    normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    in_front = ((eye - corners[:, 0]) * normals).sum(axis=1) > 0
    return chosen[np.argsort(in_front, kind="stable")]


def sort_keys(geometry: Geometry, chosen: np.ndarray, camera: Camera, by: Sorting) -> np.ndarray:
    """(k,) sort keys in m of drawables (k,); what has more is drawn first."""
    each = (len(chosen), 3)
    eye = np.array(camera.sorts_from or camera.eye, float)
    return keys_from(
        geometry, chosen, np.broadcast_to(eye, each), np.broadcast_to(camera.forward, each), by
    )  # fmt: skip


def keys_from(geometry: Geometry, which: np.ndarray, eyes: np.ndarray, forward: np.ndarray, by: Sorting) -> np.ndarray:
    """(n,) sort keys in m of drawables which (n,), each from an eye (n, 3) that looks along forward (n, 3)."""
    if by.key == "range":
        away = np.linalg.norm(_points(geometry, which, eyes, None, by) - eyes, axis=1)
        return np.asarray(away + by.key_shift_m[which])
    along = _along(forward, by)
    return np.asarray(((_points(geometry, which, eyes, along, by) - eyes) * along).sum(axis=1) + by.key_shift_m[which])


def _along(forward: np.ndarray, by: Sorting) -> np.ndarray:
    """(n, 3) the unit directions that keys other than range are measured along."""
    length = float(np.linalg.norm(by.direction))
    if by.key == "view_depth" or length == 0:
        return forward
    return np.broadcast_to(np.array(by.direction) / length, forward.shape)


def _points(geometry: Geometry, which: np.ndarray, eyes: np.ndarray, along: np.ndarray | None, by: Sorting) -> np.ndarray:
    """(n, 3) m: the point of each of the drawables (n,) that its key is of; along: None by range."""
    if by.point == "nearest":
        low, high = geometry.bounds[which, 0], geometry.bounds[which, 1]
        points = np.clip(eyes, low, high) if along is None else np.where(along > 0, low, high)
    else:
        points = (geometry.middles if by.point == "bounds_centre" else geometry.origins)[which]
    if np.isnan(by.place).all():
        return np.asarray(points)
    shared = by.place[which]
    return np.asarray(np.where(np.isnan(shared), points, shared))
