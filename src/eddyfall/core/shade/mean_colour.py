"""What each material looks like on the whole, where a ray into the world only asks for one colour of it."""

import numpy as np
from numba import njit

from eddyfall.core.shade.columns import BASE, DIELECTRIC_F0, EMISSIVE, METALLIC, UNLIT
from eddyfall.core.shade.surface import Surfaces
from eddyfall.core.shade.textures import sample_at

GRID = 16  # by so many places a texture is averaged


@njit(cache=True)
def _mean(surf, slot, out):
    out[:] = 0.0
    step = 1.0 / GRID
    for j in range(GRID):
        for i in range(GRID):
            r, g, b, _ = sample_at(
                (i + 0.5) * step, (j + 0.5) * step, step, 0.0, 0.0, step, surf.slots, slot, surf.levels, surf.tables, surf.texels,
                0.0, 1,
            )  # fmt: skip
            out[0] += r
            out[1] += g
            out[2] += b
    out /= GRID * GRID


def mean_colours(surfaces: Surfaces) -> tuple[np.ndarray, np.ndarray]:
    """((m, 3) share of even light that each material gives back, both layers together; (m, 3) radiance in nits that it shines with)."""
    f, found = surfaces.factors, np.zeros(3)
    base, shines, metal = f[:, BASE : BASE + 3].copy(), f[:, EMISSIVE : EMISSIVE + 3].copy(), f[:, METALLIC].copy()
    for m in range(len(f)):
        for role, values in ((0, base[m]), (3, shines[m])):
            if surfaces.used[m, role] >= 0:
                _mean(surfaces, surfaces.used[m, role], found)
                values *= found
        if surfaces.used[m, 1] >= 0:
            _mean(surfaces, surfaces.used[m, 1], found)
            metal[m] *= found[2]
    unlit = f[:, UNLIT] > 0
    shines[unlit] = base[unlit]
    coat = f[:, DIELECTRIC_F0, None] * (1 - metal[:, None])
    gives_back = base * (1 - coat) + coat
    gives_back[unlit] = 0.0
    return gives_back, shines
