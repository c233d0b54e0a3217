"""Camera poses from which a set of points fills the frame and nothing of it is cut by the border."""

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.frame.stage import look_at
from eddyfall.core.passes.contract import Camera

FOV_Y_DEG = 50.0
INSIDE_FOV_Y_DEG = 75.0
ASPECT = 16 / 9
MARGIN = 0.96  # of the half frame that points may reach
LEAST_SIZE_M = 1e-6


@dataclass(frozen=True)
class Pose:
    """A viewpoint that is not there yet: eye and target (3,) in metres, vertical field of view in degrees."""

    name: str
    eye: tuple[float, ...]
    target: tuple[float, ...]
    fov_y_deg: float = FOV_Y_DEG

    @property
    def distance(self) -> float:
        """Metres from the eye to the target."""
        return math.dist(self.eye, self.target)

    def entry(self) -> dict[str, Any]:
        """The viewpoint as it stands in a setup document."""
        return {"eye": list(self.eye), "target": list(self.target), "fov_y_deg": self.fov_y_deg}

    def camera(self, aspect: float = ASPECT) -> Camera:
        """The camera that stands there."""
        return Camera(self.eye, look_at(self.eye, self.target), math.radians(self.fov_y_deg), aspect)  # type: ignore[arg-type]


def direction(azimuth_deg: float, elevation_deg: float) -> np.ndarray:
    """(3,) unit vector from a thing towards an eye; azimuth 0 is +Z and turns towards +X."""
    a, e = math.radians(azimuth_deg), math.radians(elevation_deg)
    return np.array([math.sin(a) * math.cos(e), math.sin(e), math.cos(a) * math.cos(e)])


def pose_around(name: str, points: np.ndarray, towards: np.ndarray) -> Pose:
    """The nearest pose in direction `towards` from the middle of points (n, 3) that has them all within its frame.

    A point at (x, y, z) of the camera's axes about the target needs a distance of z + max(|x| / tx, |y| / ty), tx and ty the
    tangents of half the field of view (plain projection, derived). For a ball of radius r that comes to r / sin(fov / 2)."""
    low, high = points.min(axis=0), points.max(axis=0)
    centre = (low + high) / 2
    size = max(float(np.linalg.norm(high - low)), LEAST_SIZE_M, 1e-6 * float(np.abs(centre).max()))
    axes = np.array(look_at(towards, np.zeros(3)))
    local = (points - centre) @ axes.T
    tangent = math.tan(math.radians(FOV_Y_DEG) / 2) * MARGIN
    needed = local[:, 2] + np.maximum(np.abs(local[:, 0]) / (tangent * ASPECT), np.abs(local[:, 1]) / tangent)
    distance = max(float(needed.max()), float(local[:, 2].max()) + 0.25 * size)
    digits = _digits(size)
    eye = centre + towards * distance * (1 + 1e-4)
    return Pose(name, _rounded(eye, digits), _rounded(centre, digits))


def poses_inside(points: np.ndarray) -> list[Pose]:
    """Poses within the box of points (n, 3): from four corners towards the far one, and from the middle along and across."""
    low, high = points.min(axis=0), points.max(axis=0)
    centre, half = (low + high) / 2, (high - low) / 2
    size = max(float(np.linalg.norm(half)), LEAST_SIZE_M)
    digits = _digits(size)
    poses = []
    for i, (x, z) in enumerate(((1, 1), (-1, -1), (-1, 1), (1, -1)), 1):
        eye = centre + half * np.array([0.72 * x, 0.25, 0.72 * z])
        target = centre - half * np.array([0.4 * x, 0.2, 0.4 * z])
        poses.append(Pose(f"fitted_inside_{i}", _rounded(eye, digits), _rounded(target, digits), INSIDE_FOV_Y_DEG))
    for i, (azimuth, elevation) in enumerate(((20.0, 0.0), (140.0, 0.0), (260.0, 0.0), (20.0, 60.0)), 5):
        target = centre - direction(azimuth, -elevation) * size
        poses.append(Pose(f"fitted_inside_{i}", _rounded(centre, digits), _rounded(target, digits), INSIDE_FOV_Y_DEG))
    return poses


def _digits(size: float) -> int:
    """Decimals that keep a hundred-thousandth of a size in metres."""
    return max(4, 5 - math.floor(math.log10(size)))


def _rounded(values: np.ndarray, digits: int) -> tuple[float, ...]:
    return tuple(round(float(v), digits) for v in values)
