"""All that can be measured of one receiver's charts, in one value: what the command line prints and the inspectors judge."""

import math
from dataclasses import dataclass

import numpy as np

from eddyfall.core.scene.build import Build
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.receivers import Receiver, triangles_of, uv_of
from eddyfall.core.scene.setup.sections.bake import Bake
from eddyfall.core.shade.lightmap_codes import BYTES_PER_TEXEL
from eddyfall.core.uv.charts import Page, edges_of, measure_charts, mesh_stretch, weld
from eddyfall.core.uv.gutters import Gutter, narrowest_gap, safe_mip, snapped_grid
from eddyfall.core.uv.overlap import Overlap, measure_overlap
from eddyfall.core.uv.seams import Seam, needless

SKEW_LIMIT_DEG = 1.0


@dataclass(frozen=True)
class Edges:
    """Edges of a surface welded by place: boundary (used once), inconsistent (both neighbours run along it the same way), all."""

    boundary: int
    inconsistent: int
    total: int


@dataclass(frozen=True)
class AssetReport:
    """uv (t, 3, 2) tiles, corners (t, 3, 3) m; overlap on the unwrapped plane, wrapped: of uv modulo 1; texels_per_m of a tile of
    `resolution` texels, page_texels_per_m of what the target's page leaves of it; bytes_by_encoding of one map, without and with mips."""

    receiver: Receiver
    uv: np.ndarray
    corners: np.ndarray
    page: Page
    overlap: Overlap
    wrapped: Overlap
    gutter: Gutter
    snapped_to: int
    seams: tuple[Seam, ...]
    edges: Edges
    stretch: float
    uv_use: str

    @property
    def ruling_overlap(self) -> Overlap:
        """The overlap that counts by the target's rule."""
        return self.wrapped if self.uv_use == "as_is" else self.overlap

    @property
    def texels_per_m(self) -> float:
        return self.page.density

    @property
    def page_texels_per_m(self) -> float:
        return self.page.density / self.receiver.side

    @property
    def gutter_texels(self) -> float:
        """Texels between the closest charts on the target's page."""
        return self.gutter.texels / self.receiver.side

    @property
    def safe_mip(self) -> int | None:
        """The last mip level at which no chart takes anything from another; None if there is only one chart."""
        return safe_mip(self.gutter_texels / 2, self.snapped_to) if math.isfinite(self.gutter_texels) else None

    @property
    def skewed(self) -> list[int]:
        """Charts whose border has a direction off the grid by more than a degree."""
        return [i for i, c in enumerate(self.page.charts) if c.skew_deg is not None and abs(c.skew_deg) > SKEW_LIMIT_DEG]

    def memory(self) -> dict[str, int]:
        """Bytes of one map by encoding."""
        return {name: size * self.receiver.resolution**2 for name, size in BYTES_PER_TEXEL.items()}


def asset_report(
    build: Build, geometry: Geometry, receiver: Receiver, bake: Bake | None = None, uv_set: int | None = None
) -> AssetReport:
    """Measure the charts of a receiver as the geometry has them, copies evaluated."""
    bake = bake or build.setup[Bake]
    triangles = triangles_of(geometry, receiver.drawables)
    indices = geometry.triangles[triangles]
    uv = uv_of(geometry, receiver.uv_set if uv_set is None else uv_set)[indices].astype(np.float64)
    return measured(receiver, uv, geometry.positions[indices].astype(np.float64), bake.uv_use)


def measured(receiver: Receiver, uv: np.ndarray, corners: np.ndarray, uv_use: str) -> AssetReport:
    """Measure charts from UVs (t, 3, 2) and world corners (t, 3, 3) of a receiver's triangles, float64."""
    page = measure_charts(uv, corners, receiver.resolution)
    area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1) / 2
    flat = np.isfinite(uv).all()
    stretch = mesh_stretch(uv, corners)[1] if flat and len(uv) else 1.0
    return AssetReport(
        receiver, uv, corners, page,
        measure_overlap(uv, area, receiver.resolution), measure_overlap(uv, area, receiver.resolution, as_is=True),
        narrowest_gap(uv, page), snapped_grid(page), tuple(needless(corners, page)), edges(corners), stretch, uv_use,
    )  # fmt: skip


def edges(corners: np.ndarray) -> Edges:
    """Edges of triangles (t, 3, 3), welded by place since files split vertices at normals and seams. Zero-length ones do not count."""
    if not len(corners):
        return Edges(0, 0, 0)
    ids = weld(corners.reshape(-1, 3)).reshape(-1, 3)
    low, high, _ = edges_of(ids)
    forward = (ids == np.minimum(ids, np.roll(ids, -1, axis=1))).reshape(-1)
    keep = low != high
    key = low[keep] * (int(ids.max()) + 1) + high[keep]
    _, inverse, count = np.unique(key, return_inverse=True, return_counts=True)
    ahead = np.bincount(inverse.reshape(-1), weights=forward[keep].astype(float))
    return Edges(int((count == 1).sum()), int(((count == 2) & (ahead != 1)).sum()), len(count))
