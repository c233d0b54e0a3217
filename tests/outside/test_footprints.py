"""Which texels a chart owns, and how much of each, against shapely."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from shapely import area as area_of
from shapely import box, intersection, polygons

from eddyfall.core.bake.light.footprint import footprint
from eddyfall.core.uv.overlap import into_tile

EDGE = 16


def by_texel(f):
    """{texel: area owned in it}."""
    return {int(t): float(f.area[a:b].sum()) for t, a, b in zip(f.texel, f.first[:-1], f.first[1:])}


def of_shapely(uv, edge):
    """The same, cut by shapely."""
    shapes = polygons(np.asarray(uv) * edge)
    row, column = np.mgrid[0:edge, 0:edge].reshape(2, -1)
    cells = box(column, row, column + 1, row + 1)
    shared = sum(area_of(intersection(shape, cells)) for shape in shapes)
    return {int(i): float(shared[i]) for i in np.flatnonzero(shared > 1e-6)}


@given(st.integers(0, 10_000))
@settings(max_examples=40, deadline=None)
def test_texels_and_areas_are_shapelys(seed):
    uv = np.random.default_rng(seed).uniform(0, 1, (3, 3, 2))
    got, wanted = by_texel(footprint(uv, EDGE)), of_shapely(uv, EDGE)
    slivers = {t for t in got.keys() ^ wanted.keys() if max(got.get(t, 0), wanted.get(t, 0)) > 1e-5}
    assert not slivers
    for texel in got.keys() & wanted.keys():
        assert got[texel] == pytest.approx(wanted[texel], abs=1e-6)


def test_ownership_is_conservative():
    # A sliver of a hundredth of a texel owns each texel it enters: sampling at centres would miss all of them.
    uv = np.array([[[0.1, 0.503], [0.9, 0.503], [0.9, 0.5036]]])
    f = footprint(uv, EDGE)
    assert f.covered[8].sum() == 14 and f.covered.sum() == 14
    assert f.area.sum() == pytest.approx(0.5 * 0.8 * 0.0006 * EDGE**2, rel=1e-6)


@given(st.integers(0, 10_000))
@settings(max_examples=20, deadline=None)
def test_what_wraps_loses_nothing_and_what_does_not_is_cut_at_the_page(seed):
    uv = np.random.default_rng(seed).uniform(-1.5, 2.5, (2, 3, 2))
    whole = float(area_of(polygons(uv)).sum()) * EDGE**2
    assert footprint(uv, EDGE, wraps=True).area.sum() == pytest.approx(whole, rel=1e-3, abs=2e-3)
    inside = float(area_of(intersection(polygons(uv), box(0, 0, 1, 1))).sum()) * EDGE**2
    assert footprint(uv, EDGE).area.sum() == pytest.approx(inside, rel=1e-3, abs=2e-3)


def test_a_footprint_can_be_cut_down_by_texels_and_by_parts():
    uv = np.array([[[0, 0], [0.5, 0], [0.5, 0.5]], [[0.4, 0.1], [0.9, 0.1], [0.9, 0.6]]], float)
    f = footprint(uv, EDGE)
    left = f.only(f.texel % EDGE < 8)
    assert set(left.texel) == {t for t in f.texel if t % EDGE < 8}
    assert left.area.sum() == pytest.approx(sum(a for t, a in by_texel(f).items() if t % EDGE < 8))
    first = f.parts(f.triangle == 0)
    assert by_texel(first) == pytest.approx(by_texel(footprint(uv[:1], EDGE)))
    assert (np.diff(first.first) > 0).all()


def test_the_largest_triangle_of_each_texel():
    # The second triangle has most of the texels right of the middle, the first of those left of it.
    uv = np.array([[[0, 0], [0.52, 0], [0, 1]], [[1, 0], [1, 1], [0.48, 1]]], float)
    f = footprint(uv, EDGE)
    for texel, triangle in zip(f.texel, f.largest_triangle()):
        k = int(np.flatnonzero(f.texel == texel)[0])
        parts = slice(f.first[k], f.first[k + 1])
        shares = np.bincount(f.triangle[parts], f.area[parts], minlength=2)
        assert shares[triangle] == shares.max()


def test_nothing_owns_nothing():
    f = footprint(np.zeros((0, 3, 2)), EDGE)
    assert not f.covered.any() and f.first.tolist() == [0]
    assert not len(footprint(np.full((1, 3, 2), 0.3), EDGE).texel)  # a triangle without area


@pytest.mark.parametrize("wide", [20.0, 1e4, 1e7, 1e30])
def test_uvs_beyond_all_measure_are_left_out_and_cost_nothing(wide):
    # A triangle over 20 x 20 tiles of a map that wraps has no texel of its own; over 1e14 it would be cut for ever.
    uv = np.array([[[0, 0], [wide, 0], [0, wide]], [[0.1, 0.1], [0.3, 0.1], [0.1, 0.3]]])
    pieces, parent = into_tile(uv)
    assert parent.tolist() == [1] and pieces[0] == pytest.approx(uv[1])
    assert footprint(uv, EDGE, wraps=True).area.sum() == pytest.approx(0.02 * EDGE**2, rel=1e-3)


def test_what_spans_a_few_tiles_is_cut_at_their_borders():
    pieces, parent = into_tile(np.array([[[0, 0], [16, 0], [16, 16]]], float))
    assert pieces.min() >= -1e-9 and pieces.max() <= 1 + 1e-9
    a, b = pieces[:, 1] - pieces[:, 0], pieces[:, 2] - pieces[:, 0]
    assert 0.5 * np.abs(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]).sum() == pytest.approx(128)
    assert set(parent) == {0}


def test_many_wide_triangles_are_cut_within_a_budget():
    uv = np.tile(np.array([[[0, 0], [15, 0], [0, 15]]], float), (3000, 1, 1))
    pieces, parent = into_tile(uv)
    assert 0 < len(np.unique(parent)) < 1000 and len(pieces) < 100_000
