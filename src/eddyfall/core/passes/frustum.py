"""Which boxes and balls a camera's frame may show, and which may throw a shadow into it: shared by the passes that cull."""

import math

import numpy as np

from eddyfall.core.passes.contract import Camera
from eddyfall.core.scene.drawables import Geometry


def frustum_planes(camera: Camera, near_m: float) -> list[tuple[np.ndarray, float]]:
    """Inward normals (3,) and offsets of the sides and the near plane of a full view frustum, seen from the eye."""
    right, up, back = camera.axes
    t = np.tan(camera.fov_y_rad / 2)
    return [
        (-back - right / (t * camera.aspect), 0.0),
        (-back + right / (t * camera.aspect), 0.0),
        (-back - up / t, 0.0),
        (-back + up / t, 0.0),
        (-back, near_m),
    ]


def in_frustum(
    camera: Camera, low: np.ndarray, high: np.ndarray, near_m: float, far_m: float | None, sweep: np.ndarray | None = None
) -> np.ndarray:
    """(d,) bool: boxes low..high (d, 3) not wholly outside one plane of the full view frustum. sweep (3,) metres: the boxes are drawn out
    along it, as the shadow that they throw is."""
    back = camera.axes[2]
    centre, half = (low + high) / 2 - np.array(camera.eye), (high - low) / 2
    inside = np.ones(len(low), bool)
    for normal, offset in frustum_planes(camera, near_m):
        further = 0.0 if sweep is None else max(float(normal @ sweep), 0.0)
        inside &= centre @ normal + half @ np.abs(normal) + further >= offset
    if far_m is not None:
        further = 0.0 if sweep is None else max(float(back @ sweep), 0.0)
        inside &= centre @ -back - half @ np.abs(back) - further <= far_m
    return inside


def padding_into_frustum_m(camera: Camera, low: np.ndarray, high: np.ndarray, sweep: np.ndarray | None = None) -> float:
    """Padding in m with which one box low..high (3,) just meets the full view frustum, as `in_frustum` asks it; 0 if it does without."""
    centre, half, needed = (low + high) / 2 - np.array(camera.eye), (high - low) / 2, 0.0
    for normal, offset in frustum_planes(camera, 0.0):
        further = 0.0 if sweep is None else max(float(normal @ sweep), 0.0)
        short = offset - float(centre @ normal + half @ np.abs(normal)) - further
        needed = max(needed, short / float(np.abs(normal).sum()))
    return needed


def ball_radius_m(geometry: Geometry, padding_m: np.ndarray) -> np.ndarray:
    """(d,) radius of the ball around each drawable's box, and its padding."""
    return np.asarray(np.linalg.norm(geometry.bounds[:, 1] - geometry.bounds[:, 0], axis=1) / 2 + padding_m)


def range_m(geometry: Geometry, camera: Camera) -> np.ndarray:
    """(d,) range from the eye to the middle of each drawable's box."""
    return np.asarray(np.linalg.norm(geometry.bounds.mean(axis=1) - np.array(camera.eye), axis=1))


def limit_range_m(radius_m: np.ndarray | float, limit_deg: float) -> np.ndarray:
    """Range beyond which a ball looks smaller than an angle across: r / tan(angle / 2); endless without a limit."""
    if limit_deg <= 0:
        return np.full(np.shape(radius_m), np.inf)
    return np.asarray(radius_m) / math.tan(math.radians(limit_deg) / 2)


def padding_needed_m(radius_m: np.ndarray | float, away_m: np.ndarray | float, limit_deg: float) -> np.ndarray:
    """Padding in m at which a ball of unpadded radius looks as large as an angle across: range tan(angle / 2) - r; negative where it is
    larger without."""
    needed: np.ndarray = np.asarray(away_m) * math.tan(math.radians(limit_deg) / 2) - np.asarray(radius_m)
    return needed
