"""The surfaces that a frame shows at some of its pixels, as questions about their light need them."""

import math
from dataclasses import dataclass

import numpy as np

from eddyfall.core.frame.render import Frame
from eddyfall.core.passes.contract import View
from eddyfall.core.passes.shadow_rays import face_normals, ray_directions
from eddyfall.core.shade.columns import DISTANCE, NORMAL_XYZ
from eddyfall.core.shade.lights import DIRECTIONAL, incoming_all
from eddyfall.core.truth.visibility import off_surface


@dataclass(frozen=True)
class Surfaces:
    """n surfaces. pixels (n, 2) x y of the window; drawable, triangle (n,); place (n, 3) m; normal (n, 3) that light is reckoned with,
    face (n, 3) of the triangle itself, turned to the eye; depth_m (n,) along the view, range_m (n,) to the eye."""

    pixels: np.ndarray
    drawable: np.ndarray
    triangle: np.ndarray
    place: np.ndarray
    normal: np.ndarray
    face: np.ndarray
    depth_m: np.ndarray
    range_m: np.ndarray

    def __len__(self) -> int:
        return len(self.pixels)

    def of(self, chosen: np.ndarray) -> "Surfaces":
        """Some of them: indices or (n,) bool."""
        return Surfaces(*(getattr(self, name)[chosen] for name in self.__dataclass_fields__))

    def start(self, towards: np.ndarray) -> np.ndarray:
        """(n, 3) where rays towards (n, 3) start: off the face by more than float32 loses, so that they do not meet their own surface."""
        return off_surface(self.place, self.face, towards, self.range_m[:, None])


def surfaces_of(frame: Frame, every: int = 1, mask: np.ndarray | None = None) -> Surfaces:
    """The surfaces at each `every`-th pixel of a frame across and down, or at the pixels of a mask (h, w)."""
    shown = frame.drawable >= 0
    if mask is not None:
        shown &= mask
    if every > 1:
        grid = np.zeros(shown.shape, bool)
        grid[every // 2 :: every, every // 2 :: every] = True
        shown &= grid
    y, x = np.nonzero(shown)
    view = View(frame.camera, frame.pixels)
    directions = ray_directions(view, x, y)
    row = frame.buffers["surface"][y, x].astype(np.float64)
    away = row[:, DISTANCE]
    triangle = frame.buffers["triangle"][y, x]
    return Surfaces(
        np.stack([x, y], axis=1),
        frame.drawable[y, x],
        triangle,
        view.rays.eye + directions * away[:, None],
        row[:, NORMAL_XYZ],
        face_normals(frame.geometry, triangle, directions),
        away / view.ray_lengths[y, x],
        away,
    )


def to_light(surfaces: Surfaces, light: int, frame: Frame) -> tuple[np.ndarray, np.ndarray]:
    """(unit directions (n, 3) to a light, distances (n,) in m; infinite to a sun)."""
    table = frame.buffers["lights"]
    towards, distance = incoming_all(light, surfaces.place, table)
    return towards, np.where(table.kind[light] == DIRECTIONAL, np.inf, distance)


def pixel_m(frame: Frame) -> float:
    """Size in m of a pixel in the middle of the frame at one metre from the eye."""
    return 2 * math.tan(frame.camera.fov_y_rad / 2) / frame.pixels.size[1]
