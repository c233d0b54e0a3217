"""Charts packed anew with their shapes kept: same density for all, a gutter between them.

xatlas packs by the shapes of the charts, but many of them only in its quick way, which fills about half a page of boxes. So many charts are
also packed by their bounds along a skyline (rectpack: bottom-left with a waste map, Jylanki 2010, "A Thousand Ways to Pack the Bin"), and
the denser page is taken.
"""

import math
from collections.abc import Callable

import numpy as np
import rectpack
import xatlas

from eddyfall.core.errors import ChangeError
from eddyfall.core.uv.atlas import new_atlas
from eddyfall.core.uv.charts import measure_charts

SEARCH_STEPS = 12
FEW_CHARTS = 64  # up to so many, the packer also tries every place; beyond, its quick way packs far faster
MOST_RECTANGLES = 1000  # the skyline's time grows with the square of the charts: 1.3 s for 400, half a minute for 2,000
BOUNDS_STEPS = 8  # the search along the skyline starts close to what can fit at all

Packing = np.ndarray | None  # (t, 3, 2) UVs, None where a density does not fit


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
    area = sum(c.area_m2 for c in page.charts)

    def by_shape(density: float) -> Packing:
        return _by_shape(flat, page.chart, resolution, gutter_texels, density)

    def by_bounds(density: float) -> Packing:
        return _by_bounds(flat, page.chart, resolution, gutter_texels, density)

    along_skyline = FEW_CHARTS < len(page.charts) <= MOST_RECTANGLES
    if texels_per_m is not None:
        fits = area * texels_per_m**2 <= resolution**2  # else no packer need try
        packed = by_shape(texels_per_m) if fits else None
        if packed is None and fits and along_skyline:
            packed = by_bounds(texels_per_m)
        if packed is None:
            raise ChangeError(
                f"{texels_per_m:.4g} texels/m do not fit one page of {resolution} texels with a gutter of {gutter_texels}"
            )
        return packed
    density, best = _densest(by_shape, resolution / math.sqrt(area) if area > 0 else 1.0, 0.7, SEARCH_STEPS)
    if along_skyline:
        most = _most_density(np.array([_size(flat[page.chart == k]) for k in range(len(page.charts))]), resolution, gutter_texels)
        other, packed = _densest(by_bounds, most, 0.95, BOUNDS_STEPS) if most > density else (0.0, None)
        best = packed if other > density else best
    if best is None:
        raise ChangeError(f"the charts do not fit one page of {resolution} texels with a gutter of {gutter_texels}")
    return best


def _densest(pack: Callable[[float], Packing], high: float, first: float, steps: int) -> tuple[float, Packing]:
    """(texels/m, UVs) of the highest density below `high` that is found to fit, tried first at that share of it; (0, None) if none fits."""
    low, best = 0.0, None
    for _ in range(steps):
        middle = (low + high) / 2 if low else high * first
        packed = pack(middle)
        if packed is None:
            high = middle
        else:
            low, best = middle, packed
    return low, best


def _size(flat: np.ndarray) -> np.ndarray:
    size: np.ndarray = flat.max(axis=(0, 1)) - flat.min(axis=(0, 1))
    return size


def _most_density(size_m: np.ndarray, resolution: int, gutter: int) -> float:
    """Texels/m at which bounds of size (n, 2) m with their gutters would fill the page without a gap; 0 if gutters alone fill it."""
    # sum((w d + g) (h d + g)) = (r + g)^2 is a quadratic in d.
    a, b = float(size_m.prod(axis=1).sum()), float(gutter * size_m.sum())
    c = len(size_m) * gutter**2 - (resolution + gutter) ** 2
    if a <= 0 or c >= 0:
        return 0.0
    return (-b + math.sqrt(b * b - 4 * a * c)) / (2 * a)


def _by_bounds(flat: np.ndarray, chart: np.ndarray, resolution: int, gutter_texels: int, texels_per_m: float) -> Packing:
    """UVs with the charts' bounds packed along a skyline at a density, None if they do not fit one page."""
    count = int(chart.max(initial=-1)) + 1
    low = np.array([flat[chart == k].min(axis=(0, 1)) for k in range(count)])
    size = np.array([_size(flat[chart == k]) for k in range(count)])
    cells = np.ceil(size * texels_per_m - 1e-9).astype(int) + gutter_texels
    page = rectpack.SkylineBlWm(resolution + gutter_texels, resolution + gutter_texels, rot=False)
    at = np.empty((count, 2))
    for k in np.argsort(-cells.max(axis=1), kind="stable"):
        place = page.add_rect(int(cells[k, 0]), int(cells[k, 1]))
        if place is None:
            return None
        at[k] = place.x, place.y
    result: np.ndarray = ((flat - low[chart][:, None]) * texels_per_m + at[chart][:, None]) / resolution
    return result


def _by_shape(flat: np.ndarray, chart: np.ndarray, resolution: int, gutter_texels: int, texels_per_m: float) -> Packing:
    """UVs packed by xatlas at a density, None if they do not fit one page."""
    ways = (False, True) if int(chart.max(initial=-1)) < FEW_CHARTS else (False,)
    tried = (_packed(flat, chart, resolution, gutter_texels, texels_per_m, every_place) for every_place in ways)
    return next((p for p in tried if p is not None), None)


def _packed(
    flat: np.ndarray, chart: np.ndarray, resolution: int, gutter_texels: int, texels_per_m: float, every_place: bool
) -> Packing:
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
