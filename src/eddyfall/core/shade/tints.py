"""How much of a light things leave that it goes through: as much as they keep of what is seen through them."""

import numpy as np
from numba import njit

from eddyfall.core.shade.blend import KINDS, REFRACTING
from eddyfall.core.shade.columns import BASE, BASE_ALPHA
from eddyfall.core.shade.textures import sample

KIND_CUTOUT, KIND_BLENDED, KIND_PREMULTIPLIED, KIND_MULTIPLY = (
    KINDS[name] for name in ("cutout", "blended", "premultiplied", "multiply")
)


@njit(cache=True)
def keeps(triangles, uv0, uv1, triangle, u, v, material, blend, transmission, factors, used, slots, levels, tables, texels):
    """(n, 3) of what is seen through triangles (n,) at barycentric u, v (n,), how much is kept; pictures at their finest level."""
    out = np.ones((len(triangle), 3))
    for i in range(len(triangle)):
        m, t = material[i], triangle[i]
        r, g, b, a = factors[m, BASE], factors[m, BASE + 1], factors[m, BASE + 2], factors[m, BASE_ALPHA]
        slot = used[m, 0]
        if slot >= 0:
            uv = uv0 if slots[slot, 5] == 0 else uv1
            w = 1.0 - u[i] - v[i]
            one, two, three = triangles[t, 0], triangles[t, 1], triangles[t, 2]
            s = uv[one, 0] * w + uv[two, 0] * u[i] + uv[three, 0] * v[i]
            p = uv[one, 1] * w + uv[two, 1] * u[i] + uv[three, 1] * v[i]
            tr, tg, tb, ta = sample(s, p, 0.0, 0.0, 0.0, 0.0, slots, slot, levels, tables, texels, 0.0, 1)
            r, g, b, a = r * tr, g * tg, b * tb, a * ta
        for c in range(3):
            colour = r if c == 0 else (g if c == 1 else b)
            if blend[i] == KIND_BLENDED or blend[i] == KIND_PREMULTIPLIED:
                out[i, c] = 1.0 - a
            elif blend[i] == KIND_MULTIPLY:
                out[i, c] = 1.0 + a * (colour - 1.0)
            elif blend[i] <= KIND_CUTOUT or blend[i] == REFRACTING:
                out[i, c] = transmission[i] * colour
    return out
