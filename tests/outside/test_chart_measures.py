"""Chart measures against published values: stretch, gutters by mip level, density, and against shapely and xatlas."""

import math

import numpy as np
import pytest
import shapely
import xatlas

from eddyfall.core.uv.charts import measure_charts, mesh_stretch, triangle_stretch
from eddyfall.core.uv.gutters import focal_px, mip_distance_m, narrowest_gap, padding_for_mip, safe_mip
from eddyfall.core.uv.overlap import measure_overlap
from eddyfall.core.uv.packing import pack_charts

RIGHT = np.array([[[0, 0], [1, 0], [0, 1]]], float)


def rectangle(x, y, w, h, turned_deg=0.0):
    """(2, 3, 2) UVs of a rectangle."""
    a = math.radians(turned_deg)
    corners = np.array([[0, 0], [w, 0], [w, h], [0, h]]) @ np.array([[math.cos(a), math.sin(a)], [-math.sin(a), math.cos(a)]]) + [
        x,
        y,
    ]
    return corners[[[0, 1, 2], [0, 2, 3]]]


def flat(uv):
    """Corners in space whose metres are the UVs."""
    return np.concatenate([uv, np.zeros((*uv.shape[:2], 1))], axis=2)


def test_stretch_of_one_triangle():
    # Sander, Snyder, Gortler and Hoppe 2001, section 3.
    l2, worst = triangle_stretch(RIGHT, np.array([[[0, 0, 0], [2, 0, 0], [0, 1, 0]]], float))
    assert (l2[0], worst[0]) == (pytest.approx(1.5811388301), pytest.approx(2.0))
    l2, worst = triangle_stretch(RIGHT, np.array([[[0, 0, 0], [1, 0, 0], [0.5, math.sqrt(3) / 2, 0]]]))
    assert (l2[0], worst[0]) == (pytest.approx(1.0), pytest.approx(1.2247448714))


def test_stretch_of_a_mesh_and_its_normalisation():
    # U11: the triangle above and an isometric one.
    corners = np.array([[[0, 0, 0], [2, 0, 0], [0, 1, 0]], [[5, 0, 0], [6, 0, 0], [5, 1, 0]]], float)
    assert mesh_stretch(np.concatenate([RIGHT, RIGHT]), corners) == (pytest.approx(1.4142135624), pytest.approx(1.1547005384))


def test_padding_by_mip_level():
    # Derived and brute-forced, no published source: 1, then 1.5 * 2^k - 1; 2^k only for charts snapped to that grid.
    assert [padding_for_mip(k) for k in range(6)] == [1, 2, 5, 11, 23, 47]
    assert [safe_mip(p) for p in (0, 1, 2, 4, 5, 10, 11)] == [-1, 0, 1, 1, 2, 2, 3]
    assert safe_mip(8, snapped_to=8) == 3 and safe_mip(8) == 2


@pytest.mark.parametrize(
    ("edge", "padding", "level", "clean"), [(3, 4, 3, False), (3, 11, 3, True), (5, 5, 2, True), (7, 4, 2, False)]
)
def test_padding_is_enough_by_making_the_mips(edge, padding, level, clean):
    # A white chart whose edge lies `edge` texels past a block border; what bilinear filtering at that edge takes from the background.
    line = np.zeros(64)
    line[: 32 + edge + padding] = 1.0
    for _ in range(level):
        line = line.reshape(-1, 2).mean(axis=1)
    at = (32 + edge) / 2**level - 0.5
    i = int(at // 1)
    value = line[i] * (1 - (at - i)) + line[i + 1] * (at - i)
    assert (value > 1 - 1e-9) == clean


def test_bleed_distances_of_a_housing():
    # The worked case of white seam at distance: 512 texels/m, 1080 rows, 60 degrees.
    f = focal_px(1080, 60)
    assert f == pytest.approx(935.3, abs=0.05)
    assert mip_distance_m(1, 512, f) == pytest.approx(3.65, abs=0.005)
    assert mip_distance_m(1.5, 512, f) == pytest.approx(5.17, abs=0.005)
    assert mip_distance_m(3, 512, f) == pytest.approx(14.61, abs=0.005)


@pytest.mark.parametrize("seed", range(8))
def test_gaps_are_those_shapely_finds(seed):
    rng = np.random.default_rng(seed)
    charts = [
        rectangle(0.25 * (i % 4) + 0.02, 0.25 * (i // 4) + 0.02, *rng.uniform(0.05, 0.2, 2), rng.uniform(-12, 12))
        for i in range(12)
    ]
    uv = np.concatenate(charts)
    page = measure_charts(uv, flat(uv), 512)
    assert len(page.charts) == 12
    shapes = [shapely.unary_union([shapely.Polygon(t) for t in c]) for c in charts]
    expected = min(a.distance(b) for i, a in enumerate(shapes) for b in shapes[i + 1 :]) * 512
    assert narrowest_gap(uv, page).texels == pytest.approx(expected, abs=1e-3)


@pytest.mark.parametrize("angle", [0.0, 7.0, -7.0, 22.5, 44.0])
def test_skew_is_the_angle_a_chart_was_turned_by(angle):
    uv = rectangle(0.3, 0.3, 0.4, 0.2, angle)
    chart = measure_charts(uv, flat(uv), 256).charts[0]
    assert chart.skew_deg == pytest.approx(angle, abs=1e-6)
    if angle == 7.0:  # The worked case of faults in a finished bake: steps every 1 / tan 7 = 8.1 texels.
        assert chart.step_texels == pytest.approx(8.14, abs=0.01)


def test_charts_are_those_xatlas_made():
    rng = np.random.default_rng(3)
    n = 16
    x, y = np.meshgrid(np.arange(n + 1), np.arange(n + 1))
    positions = np.stack([x, y, rng.normal(0, 1.2, x.shape)], -1).reshape(-1, 3).astype(np.float32)
    a = (np.arange(n)[:, None] * (n + 1) + np.arange(n)).reshape(-1)
    faces = np.concatenate([np.stack([a, a + 1, a + n + 2], 1), np.stack([a, a + n + 2, a + n + 1], 1)]).astype(np.uint32)
    atlas = xatlas.Atlas()
    atlas.add_mesh(positions, faces)
    atlas.generate()
    mapping, indices, uvs = atlas.get_mesh(0)
    page = measure_charts(uvs[indices].astype(float), positions[mapping][indices].astype(float), 1024)
    assert len(page.charts) == atlas.chart_count


@pytest.mark.parametrize("seed", range(4))
def test_packing_keeps_shapes_density_and_gutter(seed):
    rng = np.random.default_rng(seed)
    uv = np.concatenate([rectangle(2 * i, 0, *rng.uniform(0.2, 1.5, 2)) for i in range(9)])
    packed = pack_charts(uv, flat(uv), 256, 4)
    page = measure_charts(packed, flat(uv), 256)
    assert len(page.charts) == 9 and packed.min() >= 0 and packed.max() <= 1
    assert measure_overlap(packed, np.ones(len(packed)), 256).pairs == 0
    assert narrowest_gap(packed, page).texels >= 4 - 1e-3
    assert page.density_spread < 1.25  # the packer rounds charts to whole texels


def test_four_charts_pack_nearly_as_well_as_can_be():
    # The worked case of overlapping lightmap charts: four charts of .8 x .5 fit at .625 of 102.4 texels/m, 64.0, if nothing
    # lies between them; the packer keeps a texel.
    uv = np.concatenate([rectangle(i % 2, i // 2, 0.8, 0.5) for i in range(4)])
    corners = flat(uv) * [2.5, 2.5, 1]
    density = measure_charts(pack_charts(uv, corners, 256, 0), corners, 256).density
    assert 63.0 <= density <= 64.0
