"""Shapes that are not ours: stars, arrays of n, turned charts, slanted walls; against shapely and closed formulas."""

import numpy as np
import pytest
from shapely import box, transform, union_all
from shapely.geometry import Polygon

from bake_scenes import UNIT_PAGE, matt, panel
from eddyfall.core.bake.light.light_scene import light_scene
from eddyfall.core.bake.questions.explain import explain
from eddyfall.core.bake.questions.leaks import find_leaks
from eddyfall.core.scene.drawables import pack
from eddyfall.core.scene.model import Material
from eddyfall.core.scene.receivers import receivers
from eddyfall.core.scene.setup.sections.bake import Bake
from eddyfall.core.uv.charts import measure_charts
from eddyfall.core.uv.overlap import doubled_areas, measure_overlap
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of

EDGE = 32


def star(points, outer, inner, middle, turn):
    """(triangles (2 p, 3, 2) about its middle, polygon) of a star. Its area is p R r sin(pi / p) (elementary geometry)."""
    angles = turn + np.pi * np.arange(2 * points) / points
    radius = np.where(np.arange(2 * points) % 2 == 0, outer, inner)
    rim = np.stack([radius * np.cos(angles), radius * np.sin(angles)], axis=1) + middle
    fan = np.stack([np.broadcast_to(middle, rim.shape), rim, np.roll(rim, -1, axis=0)], axis=1)
    return fan, Polygon(rim)


def area(uv):
    d1, d2 = uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]
    return np.abs(d1[:, 0] * d2[:, 1] - d1[:, 1] * d2[:, 0]) / 2


def shared_surface(polygons):
    """Share of the area of polygons that another of them covers, by union."""
    doubled = [p.intersection(union_all([q for j, q in enumerate(polygons) if j != i])) for i, p in enumerate(polygons)]
    return sum(d.area for d in doubled) / sum(p.area for p in polygons)


def shared_texels(first, second):
    """Share of the texels two polygons touch that hold a part of both's intersection."""
    once, twice = (transform(shape, lambda p: p * EDGE) for shape in (first.union(second), first.intersection(second)))
    texels = [box(x, y, x + 1, y + 1) for y in range(EDGE) for x in range(EDGE)]
    touched = [t for t in texels if t.intersection(once).area > 1e-2]
    return sum(t.intersection(twice).area > 1e-2 for t in touched) / len(touched)


@pytest.mark.parametrize("points", [3, 5, 8])
@pytest.mark.parametrize("seed", range(3))
def test_two_stars_share_what_shapely_says(points, seed):
    rng = np.random.default_rng([points, seed])
    one, first = star(points, 0.3, 0.12, np.array([0.4, 0.45]), rng.random() * 6)
    two, second = star(points, 0.28, 0.15, np.array([0.4, 0.45]) + rng.uniform(-0.2, 0.2, 2), rng.random() * 6)
    uv = np.concatenate([one, two])
    assert area(one).sum() == pytest.approx(points * 0.3 * 0.12 * np.sin(np.pi / points), rel=1e-9)
    found = measure_overlap(uv, area(uv), EDGE)
    assert found.surface_share == pytest.approx(shared_surface([first, second]), rel=1e-4, abs=1e-6)
    assert found.texel_share == pytest.approx(shared_texels(first, second), abs=0.03)
    mine = union_all([Polygon(t) for t in doubled_areas(uv, EDGE)])
    assert mine.area == pytest.approx(first.intersection(second).area, rel=1e-3, abs=1e-5)


@pytest.mark.parametrize("count", [2, 3, 7])
@pytest.mark.parametrize(("width", "step"), [(0.5, 0.5), (0.5, 0.6), (0.5, 0.4), (0.5, 0.2), (0.5, 0.0)])
def test_arrays_clear_as_soon_as_the_step_is_as_wide_as_the_chart(count, width, step):
    one = np.array([[[0, 0], [width, 0], [width, 0.4]], [[0, 0], [width, 0.4], [0, 0.4]]])
    uv = np.concatenate([one + np.array([k * step, 0]) for k in range(count)])
    found = measure_overlap(uv, area(uv), EDGE)
    if step >= width:
        assert found.pairs == 0 and found.surface_share == found.texel_share == 0
        return
    polygons = [box(k * step, 0, k * step + width, 0.4) for k in range(count)]
    assert found.surface_share == pytest.approx(shared_surface(polygons), rel=1e-4)
    if step == 0:
        assert found.surface_share == found.texel_share == 1, "an array without offset shares all, whatever its length"


@pytest.mark.parametrize("count", [2, 5, 9])
@pytest.mark.parametrize("step", [0.25, 0.5, 1.0, 1.3])
def test_arrays_that_clear_unwrapped_may_still_meet_modulo_one(count, step):
    one = np.array([[[0.1, 0.1], [0.3, 0.1], [0.3, 0.5]], [[0.1, 0.1], [0.3, 0.5], [0.1, 0.5]]])
    uv = np.concatenate([one + np.array([k * step, 0]) for k in range(count)])
    assert measure_overlap(uv, area(uv), 64).pairs == 0
    places = [(0.1 + k * step) % 1 for k in range(count)]
    meets = any(min((a - b) % 1, (b - a) % 1) < 0.2 - 1e-9 for i, a in enumerate(places) for b in places[:i])
    assert (measure_overlap(uv, area(uv), 64, as_is=True).surface_share > 0) is meets


@pytest.mark.parametrize("degrees", [-31.0, -7.0, -1.5, 0.0, 0.4, 7.0, 22.0, 44.0])
@pytest.mark.parametrize("wide", [0.1, 0.35])
def test_a_turned_chart_is_askew_by_the_angle_it_was_turned(degrees, wide):
    turn = np.radians(degrees)
    corner = np.array([[0, 0], [wide, 0], [wide, 0.3], [0, 0.3]]) @ [[np.cos(turn), np.sin(turn)], [-np.sin(turn), np.cos(turn)]]
    uv = corner[[[0, 1, 2], [0, 2, 3]]] + 0.45
    flat = np.array([[0, 0, 0], [wide, 0, 0], [wide, 0, -0.3], [0, 0, -0.3]])[[[0, 1, 2], [0, 2, 3]]]
    [chart] = measure_charts(uv, flat, 256).charts
    assert chart.skew_deg == pytest.approx(degrees, abs=1e-3)
    if degrees:
        assert chart.step_texels == pytest.approx(1 / np.tan(abs(turn)), rel=1e-3)
    assert chart.stretch_l2 == pytest.approx(1, abs=1e-6), "turning stretches nothing (Sander et al. 2001: 1 is an isometry)"


def beside_a_slanted_wall(degrees, off=(0.0, 0.0), texels=32, long=3.2):
    """(a floor of 10 texels/m halved by a thin wall at an angle, dark on one side of it; a point of the wall; its normal)."""
    a = np.radians(degrees)
    along, across = np.array([np.cos(a), 0, np.sin(a)]), np.array([-np.sin(a), 0, np.cos(a)])
    middle = np.array([long / 2 + off[0], 0, long / 2 + off[1]])
    start = middle - along * 4
    black = Material("sheet", base_rgba=(0, 0, 0, 1), metallic=0.0, double_sided=True, ior=1.0)
    build = build_of(
        panel("floor", (0, 0, long), (long, 0, 0), (0, 0, -long), matt("floor", 0.0), UNIT_PAGE),
        Thing("wall", Shape().quad(tuple(start), tuple(along * 8), (0, 2, 0)), black),
        Thing("roof", Shape().quad(tuple(start + np.array([0, 2, 0])), tuple(across * 6), tuple(along * 8)), black),
        setup={
            "lights": {
                "sun": {"kind": "sun", "towards": [0, 1, 0], "illuminance_lux": 0.95},
                "rest": {"kind": "sun", "towards": [0, 1, 0], "illuminance_lux": 0.05, "casts": False},
            },
            "bake": {"resolution": texels, "bounces": 0, "samples": 64, "range_lux": 1.0},
        },
    )
    return build, middle, across


@pytest.mark.long
@pytest.mark.parametrize("degrees", [10, 30, 45, 60, 80])
@pytest.mark.parametrize("off", [(0.0, 0.0), (0.023, -0.041)])
def test_light_leaks_past_a_slanted_wall_as_far_as_the_farthest_corner_of_its_texels(degrees, off):
    # Plane geometry: nearest reading carries a mixed texel's light to its farthest corner, a linear one half a texel on.
    build, middle, across = beside_a_slanted_wall(degrees, off)
    geometry = pack(build.scene, build.setup)
    leaks = find_leaks(geometry, receivers(build, geometry)[0], [light_scene(build, geometry, None)], build.setup[Bake])
    leak = next(k for k in leaks if k.occluder == "wall")
    column, row = leak.texels % 32, leak.texels // 32
    corners = [np.stack([(column + i) * 0.1, 0 * column, (row + k) * 0.1], axis=1) for i in (0, 1) for k in (0, 1)]
    wanted = max(float(((c - middle) @ across).max()) for c in corners) * 1000
    assert leak.reach_nearest_mm == pytest.approx(wanted, abs=1)
    assert leak.reach_linear_mm == pytest.approx(wanted + 50, abs=1)
    assert abs(abs(float(np.dot(leak.normal, across))) - 1) < 1e-3
    # What the lightmap holds: a texel of the wall is as bright as the share of it that lies in the light.
    at = int(leak.texels[len(leak.texels) // 2])
    found = explain(build, "floor", (at % 32, at // 32), geometry=geometry)
    assert found.effects[0].code == "bake.leak" and found.effects[0].facts["occluder"] == "wall"
    cell = np.stack(
        np.meshgrid((at % 32 + (np.arange(50) + 0.5) / 50) * 0.1, [0.0], (at // 32 + (np.arange(50) + 0.5) / 50) * 0.1), -1
    )
    dark = float(((cell.reshape(-1, 3) - middle) @ across > 0).mean())
    assert found.value == pytest.approx(0.05 + 0.95 * (1 - dark), abs=0.07)  # 64 samples
