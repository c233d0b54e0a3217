"""Shadows laid over lightmaps: what of its baked light a surface keeps in the drawn shadow of each light that multiplies on lightmaps."""

from collections.abc import Sequence

import numpy as np

from eddyfall.core.passes.contract import LookUp, Values, View
from eddyfall.core.passes.look_ups import looked_up
from eddyfall.core.passes.shadow_rays import face_normals, ray_directions
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.shade.columns import DISTANCE, NORMAL_XYZ
from eddyfall.core.shade.lights import Places, incoming_all, shares_all, visibility_at
from eddyfall.core.shade.shadow_maps import TRACED

Shades = Sequence[float | None]


def kept_of_lightmaps(
    inputs: Values, shades: Shades, receives: np.ndarray, mapped: np.ndarray, look_ups: Sequence[LookUp]
) -> np.ndarray:
    """(h, w) float64: share of its lightmap that each pixel keeps. inputs: buffers of a frame drawn up to its shadows; shades: of each
    light, what stays in its shadow (None: all); receives, mapped: (drawables,) bool."""
    visible, drawable, lights = inputs["visible"], inputs["drawable"], inputs["lights"]
    kept = np.ones(visible.shape)
    y, x = np.nonzero((visible >= 0) & (drawable >= 0) & (mapped & receives)[drawable])
    if not len(x):
        return kept
    view = View(inputs["camera"], inputs["pixels"])
    geometry: Geometry = inputs["geometry"]
    directions = ray_directions(view, x, y)
    row = inputs["surface"][y, x].astype(np.float64)
    away, normal = row[:, DISTANCE], row[:, NORMAL_XYZ]
    place = view.rays.eye + directions * away[:, None]
    face, depth = face_normals(geometry, inputs["triangle"][y, x], directions), away / view.ray_lengths[y, x]
    maps = looked_up(inputs["shadow_maps"], look_ups)
    for i, stays in enumerate(shades):
        if stays is None:
            continue
        towards, distance = incoming_all(i, place, lights)
        n_dot_l = np.einsum("nk,nk->n", normal, towards)
        met = (n_dot_l > 0) & (shares_all(i, towards, distance, lights) > 0)
        if lights.technique[i] == TRACED:
            seen = inputs["traced"][y, x, i].astype(np.float64)
        else:
            seen = visibility_at(i, Places(place, normal, face, n_dot_l, depth, distance), lights, maps)
            if inputs["traced"].shape[:2] == visible.shape:
                seen = seen * inputs["traced"][y, x, i]
        kept[y, x] *= np.where(met, 1.0 - (1.0 - stays) * (1.0 - seen), 1.0)
    return kept
