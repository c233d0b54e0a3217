"""What a ray meets that does not come from the eye: the material and the normals of a hit, for the kernels of paths.

A path meets textures at random, so that they are read blurred over a share of a tile instead of by a pixel's footprint. Occlusion maps
are left out: what they stand for is traced."""

import math

import numpy as np

from eddyfall.core.kernel import helper, light_helper
from eddyfall.core.shade.columns import BASE, EMISSIVE, METALLIC, ROUGHNESS, UNLIT
from eddyfall.core.shade.textures import sample_at, turned
from eddyfall.core.shade.vertex_colours import vertex_colour

FOOTPRINT_UV = 1.0 / 64
OCCLUSION_ROLE, NORMAL_ROLE = 4, 2


@light_helper
def blurred(surf, slot, u, v):
    """(r, g, b, a) of a texture slot at a uv, over a path's footprint."""
    u, v = turned(u, v, surf.slots, slot, surf.tables)
    return sample_at(u, v, FOOTPRINT_UV, 0.0, 0.0, FOOTPRINT_UV, surf.slots, slot, surf.levels, surf.tables, surf.texels, 0.0, 1)


@helper
def spanned(positions, c0, c1, c2):
    """Normal of a triangle of three corners, on the side from which they run counter-clockwise, as long as twice its area."""
    fx = np.float64(positions[c1, 0]) - positions[c0, 0]
    fy = np.float64(positions[c1, 1]) - positions[c0, 1]
    fz = np.float64(positions[c1, 2]) - positions[c0, 2]
    gx = np.float64(positions[c2, 0]) - positions[c0, 0]
    gy = np.float64(positions[c2, 1]) - positions[c0, 1]
    gz = np.float64(positions[c2, 2]) - positions[c0, 2]
    return fy * gz - fz * gy, fz * gx - fx * gz, fx * gy - fy * gx


@helper
def met_face(positions, c0, c1, c2):
    """Unit normal of a triangle of three corners, on the side from which they run counter-clockwise."""
    ex, ey, ez = spanned(positions, c0, c1, c2)
    inv = 1.0 / max(math.sqrt(ex * ex + ey * ey + ez * ez), 1e-300)
    return ex * inv, ey * inv, ez * inv


@helper
def met_normal(normals, c0, c1, c2, b0, u, v, ex, ey, ez):
    """Unit shading normal at a hit, on the side of the face's normal e; the face's own where there is none."""
    nx = b0 * normals[c0, 0] + u * normals[c1, 0] + v * normals[c2, 0]
    ny = b0 * normals[c0, 1] + u * normals[c1, 1] + v * normals[c2, 1]
    nz = b0 * normals[c0, 2] + u * normals[c1, 2] + v * normals[c2, 2]
    length = math.sqrt(nx * nx + ny * ny + nz * nz)
    if length < 1e-12 or nx * ex + ny * ey + nz * ez <= 0.0:
        return ex, ey, ez, 1.0
    return nx, ny, nz, length


@helper
def met_material(surf, m, uv0, uv1, colours, c0, c1, c2, b0, u, v):
    """(base r, g, b, emitted r, g, b, metallic, roughness) of material m at a hit; an unlit one shines its colour and reflects nothing."""
    f, used = surf.factors, surf.used
    vr, vg, vb, _ = vertex_colour(colours, c0, c1, c2, b0, u, v)
    r, g, b = f[m, BASE] * vr, f[m, BASE + 1] * vg, f[m, BASE + 2] * vb
    er, eg, eb = f[m, EMISSIVE], f[m, EMISSIVE + 1], f[m, EMISSIVE + 2]
    metal, rough = f[m, METALLIC], f[m, ROUGHNESS]
    for role in range(OCCLUSION_ROLE):
        s = used[m, role]
        if s < 0 or role == NORMAL_ROLE:
            continue
        if surf.slots[s, 5] == 0:
            tu = b0 * uv0[c0, 0] + u * uv0[c1, 0] + v * uv0[c2, 0]
            tv = b0 * uv0[c0, 1] + u * uv0[c1, 1] + v * uv0[c2, 1]
        else:
            tu = b0 * uv1[c0, 0] + u * uv1[c1, 0] + v * uv1[c2, 0]
            tv = b0 * uv1[c0, 1] + u * uv1[c1, 1] + v * uv1[c2, 1]
        tr, tg, tb, _ = blurred(surf, s, tu, tv)
        if role == 0:
            r, g, b = r * tr, g * tg, b * tb
        elif role == 1:
            rough, metal = rough * tg, metal * tb
        else:
            er, eg, eb = er * tr, eg * tg, eb * tb
    if f[m, UNLIT] > 0.0:
        er, eg, eb, r, g, b = r, g, b, 0.0, 0.0, 0.0
    return r, g, b, er, eg, eb, metal, rough
