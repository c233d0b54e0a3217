"""Charts of one lightmap: which triangles hang together, and what each chart's size, stretch, skew and handedness are.

A chart is a set of triangles joined by edges whose ends agree in place and in UV. Stretch follows Sander, Snyder, Gortler and
Hoppe 2001, "Texture Mapping Progressive Meshes", section 3.
"""

import math
from dataclasses import dataclass

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

DEGENERATE_TEXELS = 1e-3
STRAIGHT = 0.8  # least concentration of border directions for which a chart has a direction of its own


@dataclass(frozen=True)
class Chart:
    """One chart. uv_area in tiles^2, signed; area_m2; density in texels/m; stretch_l2 and stretch_max normalised so that 1 is the mean
    scale of the page; skew_deg -45..45 to the texel grid, None where its border has no direction; low, high: UV bounds."""

    triangles: int
    uv_area: float
    area_m2: float
    density: float
    stretch_l2: float
    stretch_max: float
    skew_deg: float | None
    low: tuple[float, float]
    high: tuple[float, float]
    border_texels: float

    @property
    def mirrored(self) -> bool:
        """Whether the chart is turned over: its UVs run clockwise (v down) where the surface runs counter-clockwise."""
        return self.uv_area < 0

    @property
    def step_texels(self) -> float:
        """Texels between the steps of a skewed edge, 1 / tan(skew); infinite if the edge lies on the grid."""
        tangent = abs(math.tan(math.radians(self.skew_deg or 0.0)))
        return 1.0 / tangent if tangent > 1e-9 else math.inf


@dataclass(frozen=True)
class Page:
    """All charts of one lightmap: `chart` (t,) int64 chart of each triangle; borders (e, 4) int64: triangle, corner a, corner b, chart."""

    charts: tuple[Chart, ...]
    chart: np.ndarray
    borders: np.ndarray
    resolution: int

    @property
    def density(self) -> float:
        """Texels/m over all charts together."""
        area = sum(c.area_m2 for c in self.charts)
        return math.sqrt(sum(abs(c.uv_area) for c in self.charts) / area) * self.resolution if area > 0 else 0.0

    @property
    def density_spread(self) -> float:
        """Finest chart density over coarsest, charts without area left out; 1 if there are none."""
        densities = [c.density for c in self.charts if c.density > 0]
        return max(densities) / min(densities) if densities else 1.0


def measure_charts(uv: np.ndarray, corners: np.ndarray, resolution: int) -> Page:
    """Charts of triangles uv (t, 3, 2) in tiles (v down) standing at corners (t, 3, 3) metres, in a page of `resolution` texels a tile."""
    uv = np.asarray(uv, np.float64)
    corners = np.asarray(corners, np.float64)
    number, chart, borders = _connect(uv, corners)
    signed = -_cross(uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]) / 2  # v runs down, so a front face turns the other way
    area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1) / 2
    l2, worst = triangle_stretch(uv, corners)
    overall = math.sqrt(np.abs(signed).sum() / area.sum()) if area.sum() > 0 else 0.0
    a, b = uv[borders[:, 0], borders[:, 1]], uv[borders[:, 0], borders[:, 2]]
    length = np.linalg.norm(b - a, axis=1)
    angle = np.arctan2(b[:, 1] - a[:, 1], b[:, 0] - a[:, 0])
    charts = []
    for k in range(number):
        mine, edges = chart == k, borders[:, 3] == k
        uv_area, area_m2 = float(signed[mine].sum()), float(area[mine].sum())
        flat = np.isfinite(l2[mine])
        weight = area[mine][flat]
        mean = float(np.sqrt((l2[mine][flat] ** 2 * weight).sum() / weight.sum())) if weight.sum() > 0 else math.inf
        charts.append(
            Chart(
                int(mine.sum()),
                uv_area,
                area_m2,
                math.sqrt(abs(uv_area) / area_m2) * resolution if area_m2 > 0 else 0.0,
                mean * overall,
                float(worst[mine].max()) * overall,
                skew_deg(angle[edges], length[edges]),
                tuple(uv[mine].min(axis=(0, 1))),
                tuple(uv[mine].max(axis=(0, 1))),
                float(length[edges].sum() * resolution),
            )
        )
    return Page(tuple(charts), chart, borders, resolution)


def skew_deg(angle_rad: np.ndarray, length: np.ndarray) -> float | None:
    """Angle between a chart's border and the texel grid, -45..45 degrees, weighted by edge length; None if the border has no direction.

    The mean of directions that repeat every quarter turn (Mardia and Jupp 2000, section 9, from memory).
    """
    total = float(length.sum())
    if total <= 0:
        return None
    z = complex((length * np.exp(4j * angle_rad)).sum()) / total
    if abs(z) < STRAIGHT:
        return None
    skew = math.degrees(math.atan2(z.imag, z.real) / 4)
    return 0.0 if abs(skew) < 1e-4 else skew


def triangle_stretch(uv: np.ndarray, corners: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(L2, L-infinity) stretch of each triangle (t,): root mean square and largest singular value of UV -> surface, metres a tile.

    Infinite where a triangle has no UV area (Sander et al. 2001, section 3: L2 = sqrt((a + c) / 2), L-infinity the larger value).
    """
    s, t = uv[..., 0], uv[..., 1]
    twice = _cross(uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0])
    safe = np.where(np.abs(twice) > 1e-20, twice, 1.0)[:, None]
    q1, q2, q3 = corners[:, 0], corners[:, 1], corners[:, 2]
    along_s = (q1 * (t[:, 1] - t[:, 2])[:, None] + q2 * (t[:, 2] - t[:, 0])[:, None] + q3 * (t[:, 0] - t[:, 1])[:, None]) / safe
    along_t = (q1 * (s[:, 2] - s[:, 1])[:, None] + q2 * (s[:, 0] - s[:, 2])[:, None] + q3 * (s[:, 1] - s[:, 0])[:, None]) / safe
    a, b, c = (along_s**2).sum(axis=1), (along_s * along_t).sum(axis=1), (along_t**2).sum(axis=1)
    root = np.sqrt((a - c) ** 2 + 4 * b**2)
    none = np.abs(twice) <= 1e-20
    return np.where(none, np.inf, np.sqrt((a + c) / 2)), np.where(none, np.inf, np.sqrt((a + c + root) / 2))


def mesh_stretch(uv: np.ndarray, corners: np.ndarray) -> tuple[float, float]:
    """(L2 over the mesh in metres a tile, the same normalised by the area ratio: 1 is the best there is); infinite if there is
    no area on the page or in space. Sander et al. 2001."""
    l2, _ = triangle_stretch(np.asarray(uv, np.float64), np.asarray(corners, np.float64))
    area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1) / 2
    uv_area = np.abs(_cross(uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0])).sum() / 2
    if not (area.sum() > 0 and uv_area > 0):
        return math.inf, math.inf
    total = math.sqrt((l2**2 * area).sum() / area.sum())
    return total, total * math.sqrt(uv_area / area.sum())


def weld(*columns: np.ndarray) -> np.ndarray:
    """(n,) int64 number of each distinct row of some float columns (n, k), to float32; -0 and 0 are one."""
    rows = np.concatenate([np.asarray(c, np.float32) + np.float32(0) for c in columns], axis=1)
    packed = np.ascontiguousarray(rows).view(np.dtype((np.void, rows.shape[1] * 4))).reshape(-1)
    return np.unique(packed, return_inverse=True)[1].astype(np.int64).reshape(-1)


def edges_of(ids: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """For welded corners (t, 3): (lower id, higher id, triangle * 3 + first corner) of all 3 t directed edges."""
    a, b = ids, np.roll(ids, -1, axis=1)
    return np.minimum(a, b).reshape(-1), np.maximum(a, b).reshape(-1), np.arange(ids.size)


def _connect(uv: np.ndarray, corners: np.ndarray) -> tuple[int, np.ndarray, np.ndarray]:
    t = len(uv)
    ids = weld(corners.reshape(-1, 3), uv.reshape(-1, 2)).reshape(t, 3)
    low, high, at = edges_of(ids)
    key = low * (int(ids.max(initial=0)) + 1) + high
    order = np.argsort(key, kind="stable")
    key, triangle = key[order], at[order] // 3
    same = key[1:] == key[:-1]
    joined = coo_matrix((np.ones(int(same.sum()), bool), (triangle[:-1][same], triangle[1:][same])), shape=(t, t))
    number, chart = connected_components(joined, directed=False)
    alone = np.concatenate([[True], ~same]) & np.concatenate([~same, [True]]) if t else np.zeros(0, bool)
    edge = at[order][alone]
    borders = np.stack([edge // 3, edge % 3, (edge % 3 + 1) % 3, chart[edge // 3]], axis=1).astype(np.int64)
    return int(number), chart.astype(np.int64), borders


def _cross(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    return np.asarray(a[..., 0] * b[..., 1] - a[..., 1] * b[..., 0])
