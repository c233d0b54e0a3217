"""Lightmap UVs for demo shapes: every piece of a shape a rectangle of its own on the page, all at one density."""

import numpy as np

from eddyfall.demo.shapes import Shape


def laid_out(shape: Shape, edge: int, gap_texels: float = 4.0, margin_texels: float = 1.0, finest: float = 8.0) -> np.ndarray:
    """(n, 2) UVs of a shape made of quads with UVs in metres: pieces on shelves, `gap_texels` apart, as large as fits the page but no finer
    than `finest` texels/m."""
    sizes = [uv.max(axis=0) - uv.min(axis=0) for uv in shape.uvs]
    low, high = 0.0, min(edge / max(float(np.max(sizes)), 1e-6), finest * 1.0001)
    best: list[np.ndarray] | None = None
    for _ in range(24):
        density = (low + high) / 2
        places = _shelves([s * density for s in sizes], edge, gap_texels, margin_texels)
        if places is None:
            high = density
        else:
            low, best = density, places
    assert best is not None
    result = []
    for uv, place in zip(shape.uvs, best):
        result.append(((uv - uv.min(axis=0)) * low + place) / edge)
    return np.concatenate(result)


def whole_page(shape: Shape) -> np.ndarray:
    """(n, 2) UVs that stretch the only piece of a shape over the whole page."""
    uv = np.concatenate(shape.uvs)
    page: np.ndarray = (uv - uv.min(axis=0)) / np.maximum(uv.max(axis=0) - uv.min(axis=0), 1e-9)
    return page


def _shelves(sizes: list[np.ndarray], edge: int, gap: float, margin: float) -> list[np.ndarray] | None:
    order = sorted(range(len(sizes)), key=lambda i: -float(sizes[i][1]))
    places: list[np.ndarray] = [np.zeros(2)] * len(sizes)
    x, y, tall = margin, margin, 0.0
    for i in order:
        wide, high = (float(v) for v in sizes[i])
        if x + wide > edge - margin:
            x, y, tall = margin, y + tall + gap, 0.0
        if wide > edge - 2 * margin or y + high > edge - margin:
            return None
        places[i] = np.array([x, y])
        x, tall = x + wide + gap, max(tall, high)
    return places
