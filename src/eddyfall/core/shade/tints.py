"""How much of a light things leave that it goes through: as much as they keep of what is seen through them."""

import math

import numpy as np
from numba import njit

from eddyfall.core.kernel import light_helper
from eddyfall.core.shade.blend import KINDS, REFRACTING
from eddyfall.core.shade.brdf import schlick
from eddyfall.core.shade.columns import BASE, BASE_ALPHA, DIELECTRIC_F0, F0_TINT, IOR, METALLIC, SIGMA, THICKNESS
from eddyfall.core.shade.glass import BACK_FACES, FAR_M, MAP, MISSING, THICKNESS_ROLE, TRANSMISSION_ROLE, mirrored_by, slab_lets
from eddyfall.core.shade.textures import sample
from eddyfall.core.shade.vertex_colours import vertex_colour

KIND_CUTOUT, KIND_BLENDED, KIND_PREMULTIPLIED, KIND_MULTIPLY = (
    KINDS[name] for name in ("cutout", "blended", "premultiplied", "multiply")
)


@njit(cache=True)
def keeps(
    triangles, uv0, uv1, colours, triangle, u, v, cosine, material, blend, transmission, bends, thickness, factors, used, slots, levels,
    tables, texels, whole,
):  # fmt: skip
    """(n, 3) of what is seen through triangles (n,) at barycentric u, v (n,), how much is kept; cosine (n,): of the ray with their normals;
    pictures at their finest level. Of glass: its colour and transmission, what both its faces let in (as pass 8.5 has it; whole: with
    all that is mirrored between them), what it takes up on a way that its material gives; the way to its back faces is for who knows
    them."""
    out = np.ones((len(triangle), 3))
    for i in range(len(triangle)):
        m, t, k = material[i], triangle[i], blend[i]
        r, g, b, a = factors[m, BASE], factors[m, BASE + 1], factors[m, BASE + 2], factors[m, BASE_ALPHA]
        vr, vg, vb, va = vertex_colour(
            colours, triangles[t, 0], triangles[t, 1], triangles[t, 2], 1.0 - u[i] - v[i], u[i], v[i]
        )  # fmt: skip
        r, g, b, a = r * vr, g * vg, b * vb, a * va
        if used[m, 0] >= 0:
            tr, tg, tb, ta = texel(triangles, uv0, uv1, t, u[i], v[i], used[m, 0], slots, levels, tables, texels)
            r, g, b, a = r * tr, g * tg, b * tb, a * ta
        glass = k <= KIND_CUTOUT or k == REFRACTING
        share, way = transmission[i], 0.0
        if glass and used[m, TRANSMISSION_ROLE] >= 0:
            share *= texel(triangles, uv0, uv1, t, u[i], v[i], used[m, TRANSMISSION_ROLE], slots, levels, tables, texels)[0]
        if glass and bends[i] and thickness[i] != BACK_FACES:
            ior = max(factors[m, IOR], 1.0)
            inside = math.sqrt(max(1.0 - (1.0 - cosine[i] * cosine[i]) / (ior * ior), 0.0))
            way = FAR_M if thickness[i] == MISSING else factors[m, THICKNESS] / max(inside, 1e-3)
            if thickness[i] == MAP and used[m, THICKNESS_ROLE] >= 0:
                way *= texel(triangles, uv0, uv1, t, u[i], v[i], used[m, THICKNESS_ROLE], slots, levels, tables, texels)[1]
        metal = factors[m, METALLIC]
        for c in range(3):
            colour = r if c == 0 else (g if c == 1 else b)
            if k in (KIND_BLENDED, KIND_PREMULTIPLIED):
                out[i, c] = 1.0 - a
            elif k == KIND_MULTIPLY:
                out[i, c] = 1.0 + a * (colour - 1.0)
            elif glass:
                if whole:
                    absorbed = colour * math.exp(-factors[m, SIGMA + c] * way)
                    out[i, c] = (
                        share * (1.0 - metal) * slab_lets(mirrored_by(cosine[i], 1.0 / max(factors[m, IOR], 1.0)), absorbed)
                    )
                    continue
                f0 = min(factors[m, DIELECTRIC_F0] * factors[m, F0_TINT + c], 1.0) * (1.0 - metal) + colour * metal
                enters = 1.0 - schlick(f0, min(1.0, 50.0 * f0), cosine[i])
                out[i, c] = share * colour * (1.0 - metal) * enters * enters * math.exp(-factors[m, SIGMA + c] * way)
    return out


@light_helper
def texel(triangles, uv0, uv1, t, u, v, slot, slots, levels, tables, texels):
    """(r, g, b, a) of a texture slot at barycentric u, v of triangle t, at its finest level."""
    uv = uv0 if slots[slot, 5] == 0 else uv1
    w = 1.0 - u - v
    one, two, three = triangles[t, 0], triangles[t, 1], triangles[t, 2]
    s = uv[one, 0] * w + uv[two, 0] * u + uv[three, 0] * v
    p = uv[one, 1] * w + uv[two, 1] * u + uv[three, 1] * v
    return sample(s, p, 0.0, 0.0, 0.0, 0.0, slots, slot, levels, tables, texels, 0.0, 1)
