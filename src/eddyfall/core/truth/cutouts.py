"""The alpha test of a cutout as a shadow map makes it: at the mip level that a texel of the map asks for."""

import numpy as np

from eddyfall.core.raster.rasterise import keeps_alpha
from eddyfall.core.truth.judge import Judge


def keeps_at_texel(judge: Judge, triangle: np.ndarray, place: np.ndarray, towards: np.ndarray, texel_m: np.ndarray) -> np.ndarray:
    """(n,) bool: whether the alpha test keeps triangles at places (n, 3) m on them, at the level (mip bias added) of a map whose texel is
    texel_m (n,) across the light's direction towards (n, 3). True for what is not tested, and where triangle is -1.

    The level is log2 of the texture's texels along the longer side of the map's texel on the face, as the rasteriser takes it."""
    g, cutouts = judge.frame.geometry, judge.frame.buffers["shadow_cutouts"]
    alpha_uv = judge.frame.buffers["textures"].alpha_uv
    material = np.where(triangle >= 0, cutouts.material[g.owner[triangle]], -1)
    kept, asked = np.ones(len(triangle), bool), np.flatnonzero(material >= 0)
    if not len(asked):
        return kept
    m, corners = material[asked], g.positions[g.triangles[triangle[asked]]].astype(np.float64)
    uvs = alpha_uv[g.triangles[triangle[asked]]].astype(np.float64)
    along, up, away = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0], place[asked] - corners[:, 0]
    normal = np.cross(along, up)
    area = np.maximum(np.linalg.norm(normal, axis=1), 1e-30)
    u = np.einsum("nk,nk->n", np.cross(away, up), normal) / area**2
    v = np.einsum("nk,nk->n", np.cross(along, away), normal) / area**2
    at = uvs[:, 0] * (1 - u - v)[:, None] + uvs[:, 1] * u[:, None] + uvs[:, 2] * v[:, None]
    size = cutouts.levels[cutouts.table[m, 0], 1:3]
    d1, d2 = (uvs[:, 1] - uvs[:, 0]) * size, (uvs[:, 2] - uvs[:, 0]) * size
    per_m = np.sqrt(np.abs(d1[:, 0] * d2[:, 1] - d1[:, 1] * d2[:, 0]) / area)
    slant = np.maximum(np.abs(np.einsum("nk,nk->n", normal, towards[asked])) / area, 1e-3)
    level = np.log2(np.maximum(texel_m[asked] / slant * per_m, 1e-6)) + cutouts.bias[m]
    kept[asked] = keeps_alpha(m, at, level, cutouts)
    return kept
