"""What passes that draw shadow maps share: axes of a sun's maps, how deep the scene is along them, casters drawn into one map."""

import numpy as np

from eddyfall.core.passes.contract import Values
from eddyfall.core.raster.depth_format import DepthCode
from eddyfall.core.raster.project import project
from eddyfall.core.raster.rasterise import rasterise
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.setup.sections.shadow import Faces

CULLED: dict[Faces, int] = {"front": 1, "back": -1, "both": 0}  # by the side that is drawn: what `project` removes


def sun_axes(towards: np.ndarray) -> np.ndarray:
    """(3, 3) rows right, up, back of a sun's maps; back is the way to the sun."""
    back = towards / np.linalg.norm(towards)
    side = np.array([0.0, 0.0, 1.0]) if abs(back[1]) > 0.99 else np.array([0.0, 1.0, 0.0])
    right = np.cross(side, back)
    right /= np.linalg.norm(right)
    return np.stack([right, np.cross(back, right), back])


def along_sun(towards: np.ndarray, bounds: tuple[np.ndarray, np.ndarray]) -> tuple[float, float]:
    """(nearest, farthest) of a box along the way to the sun in m, with half a metre to spare."""
    low, high = bounds
    corners = np.array([[x, y, z] for x in (low[0], high[0]) for y in (low[1], high[1]) for z in (low[2], high[2])])
    along = corners @ (towards / np.linalg.norm(towards))
    return float(along.max()) + 0.5, float(along.min()) - 0.5


def draw_map(
    matrix: np.ndarray,
    depth: np.ndarray,
    inputs: Values,
    casters: np.ndarray,
    casts_both: np.ndarray,
    faces: Faces = "front",
    bits: int = 32,
) -> None:
    """Draw the casters (d,) bool into a map (edge, edge), d in 0..1 as it is stored with so many bits: the faces that it draws, turned to
    the light (front), away from it or both, and both of what casts from both sides."""
    geometry: Geometry = inputs["caster_geometry"]
    edge = len(depth)
    reached = casters & touches(matrix, geometry.bounds)
    chosen = np.flatnonzero(reached[geometry.owner]).astype(np.int32)
    cull = np.where(casts_both[geometry.owner[chosen]], 0, CULLED[faces]).astype(np.int8)
    screen = project(
        geometry.positions,
        inputs["alpha_uv"],
        geometry.triangles,
        chosen,
        cull,
        matrix.astype(np.float32),
        (edge, edge),
        (0, 0, edge, edge),
    )
    no_ids = np.zeros((0, 0), np.int32)
    top = np.float32(1.0 if bits == 32 else 2**bits - 1)
    if bits < 32:
        depth *= top
    rasterise(
        screen, geometry.owner, casters.astype(np.uint8), inputs["shadow_cutouts"], DepthCode(bits, 1.0), depth, no_ids, (0, 0)
    )
    if bits < 32:
        depth /= top


def touches(matrix: np.ndarray, bounds: np.ndarray) -> np.ndarray:
    """(d,) bool: whether boxes (d, 2, 3) may lie in the map of a light; depth is left out, since casters may stand anywhere before it."""
    pick = np.array([[x, y, z] for x in (0, 1) for y in (0, 1) for z in (0, 1)])
    corners = np.stack([bounds[:, pick[:, axis], axis] for axis in range(3)], axis=-1)
    clip = corners @ matrix[:, :3].T + matrix[:, 3]
    xy, w = clip[..., :2], clip[..., 3:]
    outside = (xy > w).all(axis=1) | (xy < -w).all(axis=1)
    return np.asarray(~(outside.any(axis=1) & (w > 0).all(axis=(1, 2))))
