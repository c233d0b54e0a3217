"""A lightmap's page as geometry to look at: charts, their borders, what is doubled, splits that nothing asks for, the narrowest gutter."""

from dataclasses import dataclass

import numpy as np

from eddyfall.core.uv.overlap import doubled_areas, into_tile
from eddyfall.core.uv.report import AssetReport


@dataclass(frozen=True)
class PageGeometry:
    """All places (..., 2) float32 on the page, 0..1, v down: triangles (t, 3, 2) with the chart and density (texels/m) of each (t,);
    borders (e, 2, 2) with the chart of each (e,); doubled (d, 3, 2); splits (s, 2, 2); gutter_at (2,) or None (no two charts are near)."""

    triangles: np.ndarray
    chart: np.ndarray
    density: np.ndarray
    borders: np.ndarray
    border_chart: np.ndarray
    doubled: np.ndarray
    splits: np.ndarray
    gutter_at: tuple[float, float] | None


def page_geometry(report: AssetReport) -> PageGeometry:
    """The page of a measured asset. Where the target takes UVs modulo 1, triangles are cut at tile borders and moved into the page."""
    receiver, uv = report.receiver, report.uv
    place = receiver.page_uv
    triangles, parent = into_tile(uv) if receiver.wraps else (uv, np.arange(len(uv)))
    d1, d2, corners = uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0], report.corners
    twice = np.abs(d1[:, 0] * d2[:, 1] - d1[:, 1] * d2[:, 0])
    area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    density = np.sqrt(np.divide(twice, area, out=np.zeros_like(twice), where=area > 0)) * receiver.resolution / receiver.side
    b = report.page.borders
    borders = np.stack([uv[b[:, 0], b[:, 1]], uv[b[:, 0], b[:, 2]]], axis=1) if len(b) else np.zeros((0, 2, 2))
    splits = np.array([[uv[s.edges[0][0], s.edges[0][k]] for k in (1, 2)] for s in report.seams]).reshape(-1, 2, 2)

    def single(values: np.ndarray) -> np.ndarray:
        moved = values - np.floor(values.min(axis=-2, keepdims=True) + 1e-9) if receiver.wraps and len(values) else values
        return np.ascontiguousarray(place(moved), np.float32)

    gutter = None
    if np.isfinite(report.gutter.texels):
        at = place(np.array(report.gutter.at) % 1.0 if receiver.wraps else np.array(report.gutter.at))
        gutter = (float(at[0]), float(at[1]))
    return PageGeometry(
        np.ascontiguousarray(place(triangles), np.float32), report.page.chart[parent].astype(np.int32),
        density[parent].astype(np.float32), single(borders), b[:, 3].astype(np.int32) if len(b) else np.zeros(0, np.int32),
        np.ascontiguousarray(place(doubled_areas(uv, receiver.resolution, as_is=receiver.wraps)), np.float32), single(splits), gutter,
    )  # fmt: skip
