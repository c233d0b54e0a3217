"""The alpha test of a cutout as a shadow map makes it: at the mip level that a texel of the map asks for."""

import numpy as np

from eddyfall.core.raster.rasterise import sample_alpha
from eddyfall.core.truth.judge import Judge


def keeps_at_texel(judge: Judge, triangle: np.ndarray, place: np.ndarray, towards: np.ndarray, texel_m: np.ndarray) -> np.ndarray:
    """(n,) bool: whether the alpha test keeps triangles at places (n, 3) m on them, at the level of a map whose texel is texel_m (n,)
    across the light's direction towards (n, 3). True for what is no cutout, and where triangle is -1.

    The level is log2 of the texture's texels along the longer side of the map's texel on the face, as the rasteriser takes it."""
    g, cutouts = judge.frame.geometry, judge.frame.buffers["cutouts"]
    alpha_uv = judge.frame.buffers["textures"].alpha_uv
    material = np.where(triangle >= 0, cutouts.material[g.owner[triangle]], -1)
    kept = np.ones(len(triangle), bool)
    for j in np.flatnonzero(material >= 0):
        m = int(material[j])
        value = float(cutouts.factor[m])
        if cutouts.table[m, 5]:
            corners = g.positions[g.triangles[triangle[j]]].astype(np.float64)
            uvs = alpha_uv[g.triangles[triangle[j]]].astype(np.float64)
            along, up = corners[1] - corners[0], corners[2] - corners[0]
            normal = np.cross(along, up)
            area = float(np.linalg.norm(normal))
            away = place[j] - corners[0]
            u = float(np.cross(away, up) @ normal) / area**2
            v = float(np.cross(along, away) @ normal) / area**2
            at = uvs[0] * (1 - u - v) + uvs[1] * u + uvs[2] * v
            size = cutouts.levels[cutouts.table[m, 0], 1:3]
            d1, d2 = (uvs[1] - uvs[0]) * size, (uvs[2] - uvs[0]) * size
            per_m = np.sqrt(abs(d1[0] * d2[1] - d1[1] * d2[0]) / area)
            slant = max(abs(float(normal @ towards[j])) / area, 1e-3)
            level = float(np.log2(max(texel_m[j] / slant * per_m, 1e-6)))
            value *= sample_alpha(at[0], at[1], level, cutouts.table, m, cutouts.levels, cutouts.alpha)
        kept[j] = value >= cutouts.cutoff[m]
    return kept
