"""Which surfaces lie over each other in a lightmap texel: parts of different charts, or of one chart that is folded onto itself."""

import numpy as np

from eddyfall.core.uv.polygons import intersection_area_plain

LEAST_SHARED = 1e-3  # texel^2, as overlap is counted (core/uv/overlap.py)


def sheets_in_texel(
    candidates: np.ndarray, chart: np.ndarray, collided: np.ndarray, part_triangle: np.ndarray, part_uv: np.ndarray, charts: int
) -> np.ndarray:
    """(c,) int number of the sheet of each candidate triangle of a texel: its chart, plus `charts` for each time its chart lies over
    itself there. chart, collided (t,) of all triangles; part_triangle (s,) and part_uv (s, 3, 2): the texel's parts, in texels."""
    result = chart[candidates].astype(np.int64)
    for k in np.unique(result):
        mine = candidates[result == k]
        if len(mine) < 2 or collided[mine].sum() < 2:
            continue
        area = {int(t): sum(_area(p) for p in part_uv[part_triangle == t]) for t in mine}
        layers: list[list[int]] = []
        layer_of: dict[int, int] = {}
        for t in sorted(area, key=lambda t: -area[t]):
            parts = part_uv[part_triangle == t]
            at = next((i for i, layer in enumerate(layers) if not _shares(parts, layer, part_triangle, part_uv)), len(layers))
            if at == len(layers):
                layers.append([])
            layers[at].append(t)
            layer_of[t] = at
        result[result == k] = [k + charts * layer_of[int(t)] for t in mine]
    return np.asarray(result)


def _shares(parts: np.ndarray, layer: list[int], part_triangle: np.ndarray, part_uv: np.ndarray) -> bool:
    """Whether parts (n, 3, 2) lie over any part of the triangles of a layer."""
    others = part_uv[np.isin(part_triangle, layer)]
    return any(intersection_area_plain(a, b) > LEAST_SHARED for a in parts for b in others)


def _area(p: np.ndarray) -> float:
    d1, d2 = p[1] - p[0], p[2] - p[0]
    return abs(float(d1[0] * d2[1] - d1[1] * d2[0])) / 2
