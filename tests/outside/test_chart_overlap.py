"""Chart overlap against plane geometry and shapely."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from shapely import STRtree, intersection, polygons, union_all

from eddyfall.core.uv.overlap import colliding_pairs, measure_overlap, pair_areas
from eddyfall.core.uv.polygons import intersection_area_plain


def square(x: float, y: float, w: float = 1.0, h: float = 1.0) -> np.ndarray:
    """Two triangles (2, 3, 2) of a rectangle."""
    return np.array([[[x, y], [x + w, y], [x + w, y + h]], [[x, y], [x + w, y + h], [x, y + h]]], float)


def overlap(*parts: np.ndarray, resolution: int = 100, as_is: bool = False):
    uv = np.concatenate(parts)
    area = 0.5 * np.abs(np.cross(uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]))
    return measure_overlap(uv, area, resolution, as_is=as_is)


def test_two_unit_squares_shifted_by_a_half():
    # Plane geometry: intersection .25, union 1.75.
    o = overlap(square(0, 0), square(0.5, 0.5))
    assert o.surface_share == pytest.approx(0.25 * 2 / 2)
    assert o.texel_share == pytest.approx(0.25 / 1.75, abs=2e-3)


@pytest.mark.parametrize(
    ("first", "second", "area"),
    [
        (((0, 0), (1, 0), (0, 1)), ((0, 0), (1, 0), (1, 1)), 0.25),  # share the base
        (((0, 0), (1, 0), (0, 1)), ((1, 0), (1, 1), (0, 1)), 0.0),  # share an edge
        (((0, 0), (2, 0), (0, 2)), ((0, 0), (0, 2), (2, 0)), 2.0),  # one and the same, turned round
    ],
)
def test_triangle_intersections(first, second, area):
    a, b = np.array(first, float), np.array(second, float)
    assert intersection_area_plain(a, b) == pytest.approx(area, abs=1e-12)
    both = np.stack([a, b if np.cross(b[1] - b[0], b[2] - b[0]) > 0 else b[::-1]])
    assert pair_areas(both, np.array([[0, 1]])) == pytest.approx([area], abs=1e-12)


def test_triple_overlap_counts_by_union():
    # Rectangles [0,2] [1,3] [1.5,2.5] x [0,1]: covered more than once 1.5, sum of pairs 2.5.
    o = overlap(square(0, 0, 2), square(1, 0, 2), square(1.5, 0, 1), resolution=200)
    assert o.texels_doubled / 200**2 == pytest.approx(1.5, rel=1e-6)
    assert o.surface_share == pytest.approx((1.0 + 1.5 + 1.0) / 5)


def test_overlap_that_appears_only_after_wrapping():
    # u in [.9, 1.1] and [0, .2]: free on the plane, .1 x 1 shared modulo 1.
    parts = square(0.9, 0, 0.2), square(0.0, 0, 0.2)
    assert overlap(*parts).pairs == 0
    wrapped = overlap(*parts, as_is=True)
    assert wrapped.texels_doubled / 100**2 == pytest.approx(0.1, rel=1e-6)
    assert wrapped.surface_share == pytest.approx(0.5)


def test_a_leaf_mirrored_on_two_axes():
    # Planes across X and Y, each with U + 1: copies at 0, 1, 1, 2. Covered 1.20, doubled .40: 33.3 % of texels, 50 % of surface.
    o = overlap(square(0, 0, 0.8, 0.5), square(1, 0, 0.8, 0.5), square(1, 0, 0.8, 0.5), square(2, 0, 0.8, 0.5), resolution=200)
    assert o.texel_share == pytest.approx(1 / 3, abs=1e-9)
    assert o.surface_share == pytest.approx(0.5)
    apart = [square(x, y, 0.8, 0.5) for x in (0, 1) for y in (0, 1)]
    assert overlap(*apart).pairs == 0
    assert overlap(*apart, as_is=True).surface_share == pytest.approx(1.0)


@pytest.mark.parametrize("copies", [2, 7, 50])
def test_an_array_without_offset_overlaps_wholly_whatever_its_length(copies):
    # Common practice, no source.
    o = overlap(*[square(0.1, 0.1, 0.3, 0.3)] * copies)
    assert (o.surface_share, o.texel_share) == pytest.approx((1.0, 1.0))
    assert o.pairs == 2 * copies * (copies - 1) // 2


def shapely_measure(uv: np.ndarray) -> tuple[set[tuple[int, int]], float, float]:
    """(pairs that share area, area covered twice, area covered) by shapely."""
    shapes = polygons(uv)
    i, j = STRtree(shapes).query(shapes, predicate="intersects")
    keep = i < j
    i, j = i[keep], j[keep]
    cut = intersection(shapes[i], shapes[j])
    big = np.array([c.area for c in cut]) > 1e-6
    twice = union_all([c for c, b in zip(cut, big) if b]).area if big.any() else 0.0
    return set(zip(i[big].tolist(), j[big].tolist())), twice, union_all(shapes).area


@settings(max_examples=25, deadline=None)
@given(st.integers(0, 10_000), st.integers(3, 60))
def test_random_charts_agree_with_shapely(seed, count):
    rng = np.random.default_rng(seed)
    uv = rng.random((count, 1, 2)) + 0.15 * rng.standard_normal((count, 3, 2))
    turned = np.where((np.cross(uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]) < 0)[:, None, None], uv[:, ::-1], uv)
    pairs, twice, covered = shapely_measure(turned)
    ours = {tuple(sorted(p)) for p in colliding_pairs(np.ascontiguousarray(turned), 1e-6).tolist()}
    assert ours == pairs
    o = measure_overlap(uv, np.zeros(count), 1000)
    # Surface share by shapely: the part of each triangle that the others cover.
    shapes = polygons(turned)
    hidden = sum(shapes[k].intersection(union_all(np.delete(shapes, k))).area for k in range(count))
    assert o.surface_share == pytest.approx(hidden / sum(s.area for s in shapes), abs=2e-5)
    # Texels that hold any part are at least the area, at most the area grown by a texel along the borders.
    border = sum(s.length for s in shapes) / 1000 * 1.5
    assert twice - 1e-6 <= o.texels_doubled / 1e6 <= twice + border
    assert covered - 1e-6 <= o.texels_covered / 1e6 <= covered + border


def test_turned_over_and_degenerate_charts():
    flipped = square(0, 0)[:, ::-1]
    assert overlap(flipped).pairs == 0
    thin = np.array([[[0.0, 0.0], [0.5, 0.0], [1.0, 0.0]]])
    assert measure_overlap(thin, np.array([2.0]), 64).degenerate == 1
    assert measure_overlap(np.zeros((0, 3, 2)), np.zeros(0), 64).pairs == 0


def test_touching_cells_of_a_dense_clean_page_do_not_collide():
    n = 40
    cells = [square(x / n, y / n, 1 / n, 1 / n) for x in range(n) for y in range(n)]
    o = overlap(*cells, resolution=64)
    assert (o.pairs, o.texel_share) == (0, 0.0)
