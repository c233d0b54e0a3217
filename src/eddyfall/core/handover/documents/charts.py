"""Lightmap charts: what was measured of a receiver's page, and the page's geometry."""

import base64
from typing import Self

import numpy as np

from eddyfall.core.handover.documents.base import Document, Finite, Pair, WholePair
from eddyfall.core.uv.charts import Chart
from eddyfall.core.uv.overlap import Overlap
from eddyfall.core.uv.page import PageGeometry
from eddyfall.core.uv.report import AssetReport
from eddyfall.core.uv.seams import Seam


class OverlapDocument(Document):
    """Shares 0..1 of the surface and of the covered texels that more than one triangle uses."""

    pairs: int
    surface_share: float
    texel_share: float
    texels_covered: int
    texels_doubled: int

    @classmethod
    def from_core(cls, o: Overlap) -> Self:
        return cls.model_validate({name: getattr(o, name) for name in cls.model_fields})


class ChartDocument(Document):
    """One chart. low, high: its bounds in tiles; skew_deg: of its border off the grid; None: no straight border."""

    triangles: int
    uv_area: float
    area_m2: float
    texels_per_m: float
    mirrored: bool
    skew_deg: float | None
    step_texels: Finite
    stretch_l2: Finite
    stretch_max: Finite
    low: Pair
    high: Pair

    @classmethod
    def from_core(cls, c: Chart) -> Self:
        return cls.model_validate({
            "triangles": c.triangles, "uv_area": c.uv_area, "area_m2": c.area_m2, "texels_per_m": c.density, "mirrored": bool(c.mirrored),
            "skew_deg": c.skew_deg, "step_texels": c.step_texels, "stretch_l2": c.stretch_l2, "stretch_max": c.stretch_max,
            "low": c.low, "high": c.high,
        })  # fmt: skip


class SplitDocument(Document):
    """A seam between two charts that the surface does not need."""

    charts: WholePair
    length_m: float
    bend_deg: float

    @classmethod
    def from_core(cls, s: Seam) -> Self:
        return cls.model_validate({"charts": s.charts, "length_m": s.length_m, "bend_deg": s.bend_deg})


class PageMeasures(Document):
    """All that was measured of a receiver's charts, but for the charts one by one. memory_bytes: of one map by encoding."""

    asset: str
    uv_set: int
    uv_use: str
    resolution: int
    page_tiles: float
    triangles: int
    tiles: list[int]
    overlap: OverlapDocument
    overlap_unwrapped: OverlapDocument
    overlap_modulo_1: OverlapDocument
    out_of_range_share: float
    degenerate: int
    texels_per_m: float
    page_texels_per_m: float
    density_spread: float
    stretch_l2: Finite
    gutter_texels: Finite
    safe_mip: int | None
    charts_snapped_to: int
    boundary_edges: int
    inconsistent_edges: int
    memory_bytes: dict[str, int]


def page_measures(report: AssetReport) -> PageMeasures:
    """What was measured of a receiver's charts as a whole."""
    r = report.receiver
    return PageMeasures(
        asset=r.name, uv_set=r.uv_set, uv_use=report.uv_use, resolution=r.resolution, page_tiles=r.side, triangles=len(report.uv),
        tiles=list(report.overlap.tiles), overlap=OverlapDocument.from_core(report.ruling_overlap),
        overlap_unwrapped=OverlapDocument.from_core(report.overlap), overlap_modulo_1=OverlapDocument.from_core(report.wrapped),
        out_of_range_share=report.overlap.out_of_range_share, degenerate=report.overlap.degenerate,
        texels_per_m=report.texels_per_m, page_texels_per_m=report.page_texels_per_m, density_spread=report.page.density_spread,
        stretch_l2=report.stretch, gutter_texels=report.gutter_texels, safe_mip=report.safe_mip,
        charts_snapped_to=report.snapped_to, boundary_edges=report.edges.boundary,
        inconsistent_edges=report.edges.inconsistent, memory_bytes=report.memory(),
    )  # fmt: skip


class ChartsDocument(PageMeasures):
    """A receiver's charts, measured one by one."""

    charts: list[ChartDocument]
    splits: list[SplitDocument]

    @classmethod
    def from_core(cls, report: AssetReport) -> Self:
        return cls(
            **dict(page_measures(report)), charts=[ChartDocument.from_core(c) for c in report.page.charts],
            splits=[SplitDocument.from_core(s) for s in report.seams],
        )  # fmt: skip


class PageDocument(Document):
    """A page's geometry. Arrays are base64 of little-endian float32 (chart numbers: int32), so that a large page loads fast."""

    triangles: str
    chart: str
    density: str
    borders: str
    border_chart: str
    doubled: str
    splits: str
    gutter_at: Pair | None

    @classmethod
    def from_core(cls, page: PageGeometry) -> Self:
        def packed(values: np.ndarray, kind: str) -> str:
            return base64.b64encode(np.ascontiguousarray(values, kind).tobytes()).decode()

        return cls(
            triangles=packed(page.triangles, "<f4"), chart=packed(page.chart, "<i4"), density=packed(page.density, "<f4"),
            borders=packed(page.borders, "<f4"), border_chart=packed(page.border_chart, "<i4"),
            doubled=packed(page.doubled, "<f4"), splits=packed(page.splits, "<f4"), gutter_at=page.gutter_at,
        )  # fmt: skip
