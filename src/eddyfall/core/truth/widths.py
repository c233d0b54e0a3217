"""How wide a caster is across a light's rays: its outline as the light sees it, at its narrowest; and which are narrower than a texel.

Of these a map holds what a texel's centre happens to meet: their shadow shows in some places and not in others, and swims."""

from dataclasses import dataclass

import numpy as np
from scipy.spatial import ConvexHull, QhullError

from eddyfall.core.frame.render import Frame, Renderer
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.truth.judge import Judge
from eddyfall.core.truth.shadow_classes import Disagreement, Lost, OfLight
from eddyfall.core.truth.surfaces import to_light

LEAST_TEXELS = 1.0  # a caster's width, below which the map may miss it altogether


def outline_width_m(geometry: Geometry, drawable: int, towards: np.ndarray) -> float:
    """The narrowest width in m of one drawable's outline across the direction towards (3,) a light: the least distance between two
    parallel lines that hold all of its corners between them (one of them lies along an edge of their convex hull, M. I. Shamos 1978;
    from memory). 0 where the outline is a line or a point."""
    d = geometry.drawables[drawable]
    corners = geometry.positions[np.unique(geometry.triangles[d.first : d.last])].astype(np.float64)
    along = towards / np.linalg.norm(towards)
    side = np.cross(along, [0.0, 1.0, 0.0] if abs(along[1]) < 0.9 else [1.0, 0.0, 0.0])
    side /= np.linalg.norm(side)
    flat = (corners - corners.mean(axis=0)) @ np.stack([side, np.cross(along, side)], axis=1)
    try:
        hull = flat[ConvexHull(flat).vertices]
    except QhullError:
        return 0.0
    edges = np.roll(hull, -1, axis=0) - hull
    across = np.stack([-edges[:, 1], edges[:, 0]], axis=1) / np.linalg.norm(edges, axis=1, keepdims=True)
    heights = np.einsum("ek,vk->ev", across, hull)
    return float((heights.max(axis=1) - heights.min(axis=1)).min())


@dataclass(frozen=True)
class Thin:
    """One caster. rows (n,): surfaces that lack its shadow; width_m across the light's rays; texel_m: median of the texels that serve
    those surfaces; depth_m (n,): what the light's maps tell them apart by."""

    drawable: int
    rows: np.ndarray
    width_m: float
    texel_m: float
    depth_m: np.ndarray

    @property
    def texels(self) -> float:
        """The caster's width in texels."""
        return self.width_m / max(self.texel_m, 1e-12)


def thin_casters(renderer: Renderer, frame: Frame, whole: Disagreement, number: int) -> list[Thin]:
    """The casters whose shadow in a light is lost to the width of texels, and that are narrower than one."""
    light: OfLight = whole.lights[number]
    lost = np.flatnonzero((light.lost == Lost.WIDTH) & (light.caster >= 0))
    if not len(lost):
        return []
    judge, found = Judge(renderer, frame), []
    for d in np.unique(light.caster[lost]):
        rows = lost[light.caster[lost] == d]
        s = whole.surfaces.of(rows)
        towards, distance = to_light(s, number, frame)
        texel = float(np.median(judge.texel_m(number, s, distance)))
        width = outline_width_m(frame.geometry, int(d), towards[len(rows) // 2])
        if width < LEAST_TEXELS * texel:
            by_range = judge.shadow.reach_by == "range"
            found.append(Thin(int(d), rows, width, texel, s.range_m if by_range else s.depth_m))
    return found
