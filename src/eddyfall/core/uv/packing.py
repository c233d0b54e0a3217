"""Charts packed anew with their shapes kept: same density for all, a gutter between them. Packing is xatlas's."""

import math

import numpy as np
import xatlas

from eddyfall.core.errors import ChangeError
from eddyfall.core.uv.atlas import new_atlas
from eddyfall.core.uv.charts import measure_charts

SEARCH_STEPS = 12
FEW_CHARTS = 64  # up to so many, the packer also tries every place; beyond, its quick way packs closer and far faster


def pack_charts(
    uv: np.ndarray, corners: np.ndarray, resolution: int, gutter_texels: int, texels_per_m: float | None = None
) -> np.ndarray:
    """(t, 3, 2) new UVs in 0..1 of triangles uv (t, 3, 2) at corners (t, 3, 3) m: every chart at the same density, none overlapping.

    texels_per_m None: the highest density that fits one page. ChangeError if the wanted density does not fit. gutter_texels lie
    between any two charts; half of it to the page's edge is not kept, since pages clamp there.
    """
    page = measure_charts(uv, corners, resolution)
    flat = np.array(uv, np.float64)
    for k, chart in enumerate(page.charts):
        mine = page.chart == k
        if abs(chart.uv_area) > 0:
            flat[mine] = (flat[mine] - flat[mine].min(axis=(0, 1))) * math.sqrt(chart.area_m2 / abs(chart.uv_area))
        flat[mine] += [k * 1e4, 0.0]  # apart, so that the packer sees each chart by itself
    if texels_per_m is not None:
        fits = sum(c.area_m2 for c in page.charts) * texels_per_m**2 <= resolution**2  # else no packer need try
        packed = _try(flat, page.chart, resolution, gutter_texels, texels_per_m) if fits else None
        if packed is None:
            raise ChangeError(
                f"{texels_per_m:.4g} texels/m do not fit one page of {resolution} texels with a gutter of {gutter_texels}"
            )
        return packed
    area = sum(c.area_m2 for c in page.charts)
    high = resolution / math.sqrt(area) if area > 0 else 1.0
    low, best = 0.0, None
    for _ in range(SEARCH_STEPS):
        middle = (low + high) / 2 if low else high * 0.7
        packed = _try(flat, page.chart, resolution, gutter_texels, middle)
        if packed is None:
            high = middle
        else:
            low, best = middle, packed
    if best is None:
        raise ChangeError(f"the charts do not fit one page of {resolution} texels with a gutter of {gutter_texels}")
    return best


def _try(flat: np.ndarray, chart: np.ndarray, resolution: int, gutter_texels: int, texels_per_m: float) -> np.ndarray | None:
    """UVs packed at a density, None if they do not fit one page."""
    ways = (False, True) if int(chart.max(initial=-1)) < FEW_CHARTS else (False,)
    tried = (_packed(flat, chart, resolution, gutter_texels, texels_per_m, every_place) for every_place in ways)
    return next((p for p in tried if p is not None), None)


def _packed(
    flat: np.ndarray, chart: np.ndarray, resolution: int, gutter_texels: int, texels_per_m: float, every_place: bool
) -> np.ndarray | None:
    # The packer snaps each chart to whole texels; give it charts near the origin, joined by index, apart by vertices.
    local = np.concatenate([flat[chart == k] - [k * 1e4, 0.0] for k in range(int(chart.max(initial=-1)) + 1)])
    order = np.concatenate([np.flatnonzero(chart == k) for k in range(int(chart.max(initial=-1)) + 1)])
    rows = np.concatenate([local.reshape(-1, 2), np.repeat(chart[order], 3)[:, None]], axis=1).astype(np.float32)
    unique, ids = np.unique(rows, axis=0, return_inverse=True)
    with new_atlas() as atlas:
        atlas.add_uv_mesh(
            np.ascontiguousarray(unique[:, :2]), np.ascontiguousarray(ids.reshape(-1, 3).astype(np.uint32)),
            np.ascontiguousarray(chart[order].astype(np.uint32)[:, None]),
        )  # fmt: skip
        options = xatlas.PackOptions()
        options.padding, options.bilinear, options.resolution = int(gutter_texels), False, int(resolution)
        options.rotate_charts, options.rotate_charts_to_axis = False, False
        options.texels_per_unit = float(texels_per_m)
        options.bruteForce = every_place
        atlas.generate(xatlas.ChartOptions(), options)
        if atlas.atlas_count != 1 or atlas.width > resolution or atlas.height > resolution:
            return None
        _, indices, uvs = atlas.get_mesh(0)
    placed = uvs[indices].astype(np.float64) * np.array([atlas.width, atlas.height]) / resolution
    result = np.empty_like(flat)
    result[order] = placed
    return result
