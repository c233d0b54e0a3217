"""Seams of charts, steps of codes, faces on one plane: counted by hand, by the standard's curve, and by shapely."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from shapely import Polygon

from eddyfall.core.bake.questions.banding import measure_bands
from eddyfall.core.scene.drawables import pack
from eddyfall.core.shade.lightmap_codes import BYTES_PER_TEXEL, exact_codes, from_codes, to_codes
from eddyfall.core.shade.srgb import decode
from eddyfall.core.uv.charts import measure_charts
from eddyfall.core.uv.coplanar import on_one_plane, shared_area
from eddyfall.core.uv.seams import needless, seams
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of


def strip(bends):
    """Unit squares in a row, each bent by some degrees against the one before: corners (2n, 3, 3)."""
    corners, at, turn = [], np.zeros(2), 0.0
    for bend in [0.0, *bends]:
        turn += math.radians(bend)
        step = np.array([math.cos(turn), math.sin(turn)])
        a, b = np.array([*at, 0]), np.array([*(at + step), 0])
        up = np.array([0, 0, 1.0])
        corners += [[a, b, b + up], [a, b + up, a + up]]
        at = at + step
    return np.array(corners)


def apart(n, mirrored=()):
    """UVs of n unit squares that touch nowhere; some of them turned over."""
    uv = []
    for k in range(n):
        x0, x1 = 0.02 + k * 0.2, 0.12 + k * 0.2
        if k in mirrored:
            x0, x1 = x1, x0
        a, b, c, d = (x0, 0.1), (x1, 0.1), (x1, 0.2), (x0, 0.2)
        uv += [[a, b, c], [a, c, d]]
    return np.array(uv)


@pytest.mark.parametrize("bend", [0.0, 0.5, 5.0, 90.0])
def test_a_seam_knows_its_length_and_how_the_surface_bends_there(bend):
    corners, uv = strip([bend]), apart(2)
    found = seams(corners, measure_charts(uv, corners, 64))
    assert len(found) == 1
    assert found[0].charts == (0, 1)
    assert found[0].length_m == pytest.approx(1.0) and found[0].bend_deg == pytest.approx(bend, abs=1e-4)
    (t, i, j), (s, k, m) = found[0].edges
    assert corners[t][i] == pytest.approx(corners[s][k]) and corners[t][j] == pytest.approx(corners[s][m])


def test_only_flat_seams_between_charts_of_one_handedness_are_needless():
    corners = strip([0.0, 0.0, 45.0])
    page = measure_charts(apart(4), corners, 64)
    assert [s.charts for s in needless(corners, page)] == [(0, 1), (1, 2)]
    turned = measure_charts(apart(4, mirrored=(1,)), corners, 64)
    assert needless(corners, turned) == []
    assert [s.charts for s in needless(corners, page, flat_deg=60)] == [(0, 1), (1, 2), (2, 3)]


def test_one_chart_has_no_seam():
    corners = strip([0.0])
    uv = np.array([[[0, 0], [0.5, 0], [0.5, 0.5]], [[0, 0], [0.5, 0.5], [0, 0.5]]])
    joined = np.concatenate([uv, uv + np.array([0.5, 0])])
    assert seams(corners, measure_charts(joined, corners, 64)) == []


# -- codes and the steps they leave --


@pytest.mark.parametrize("encoding", ["srgb8", "linear16", "half"])
def test_codes_come_back_within_half_a_step(encoding):
    light = np.random.default_rng(1).uniform(0, 40, (64, 64, 3))
    back = from_codes(to_codes(light, encoding, 40.0), encoding, 40.0)
    # A step of sRGB is steepest at white: its slope there is 2.4 / 1.055 (IEC 61966-2-1); half floats have ten bits below 32.
    step = {"srgb8": 40 / 255 * 2.4 / 1.055, "linear16": 40 / 65535, "half": 32 / 2**10}[encoding]
    assert np.abs(back - light).max() <= step / 2 * 1.02


def test_a_code_is_worth_what_the_standard_says():
    for code in (1, 40, 128, 254):
        assert from_codes(np.array([[[code] * 3]], np.uint8), "srgb8", 100.0)[0, 0, 0] == pytest.approx(
            100 * float(decode(np.array(code / 255))), rel=1e-5
        )
    assert exact_codes(np.array([[50.0]]), "linear16", 100.0)[0, 0] == pytest.approx(65535 / 2)
    assert {k: BYTES_PER_TEXEL[k] for k in ("srgb8", "linear16", "half")} == {"srgb8": 4, "linear16": 8, "half": 8}


def ramp(low, high, width=256):
    return np.repeat(np.repeat(np.linspace(low, high, width)[None, :, None], 8, axis=0), 3, axis=2)


def test_a_dim_ramp_steps_as_wide_as_its_codes_are_apart():
    # 256 texels over codes 3 to 13: an eleventh of them each, by the linear foot of the curve (12.92 L, to code 10.3) and just above.
    low, high = (float(decode(np.array(c / 255.0))) for c in (3, 13))
    bands = measure_bands(ramp(low, high), np.ones((8, 256), bool), "srgb8", 1.0)
    assert bands.steps == pytest.approx(10, abs=0.01)
    assert bands.width_texels == pytest.approx(256 / 10, abs=3)
    assert bands.step > 0.07 and bands.share > 0.7


@pytest.mark.parametrize("encoding", ["linear16", "half"])
def test_more_bits_leave_no_steps(encoding):
    low, high = (float(decode(np.array(c / 255.0))) for c in (3, 13))
    bands = measure_bands(ramp(low, high), np.ones((8, 256), bool), encoding, 1.0)
    assert bands.width_texels == 1 and bands.share == 0


def test_bright_steps_do_not_show_and_dithered_ones_dissolve():
    whole = np.ones((8, 256), bool)
    # Weber: near white a step of sRGB is under a hundredth.
    assert measure_bands(ramp(0.8, 0.99), whole, "srgb8", 1.0).share == 0
    low, high = (float(decode(np.array(c / 255.0))) for c in (3, 13))
    assert measure_bands(ramp(low, high), whole, "srgb8", 1.0, dither=True).share < 0.05
    assert measure_bands(np.zeros((8, 8, 3)), np.zeros((8, 8), bool), "srgb8", 1.0).share == 0


# -- faces on one plane --


def pair(first, second, double_sided=False):
    build = build_of(Thing("first", first), Thing("second", second))
    geometry = pack(build.scene, build.setup)
    solid = np.array([True, True, False])
    return geometry, on_one_plane(geometry, solid, np.array([double_sided, double_sided, False]))


@given(st.integers(0, 10_000))
@settings(max_examples=25, deadline=None)
def test_rectangles_on_one_plane_share_what_shapely_says(seed):
    rng = np.random.default_rng(seed)
    turn, _ = np.linalg.qr(rng.normal(size=(3, 3)))
    turn *= np.sign(np.linalg.det(turn))
    place = rng.uniform(-3, 3, 3)
    flat = [rng.uniform([-2, -2, 0.5, 0.5], [2, 2, 2, 2]) for _ in range(2)]

    def face(x, y, w, h):
        corner, along, up = (turn @ np.array(v) for v in ((x, y, 0), (w, 0, 0), (0, h, 0)))
        return Shape().quad(tuple(corner + place), tuple(along), tuple(up))

    polygons = [Polygon([(x, y), (x + w, y), (x + w, y + h), (x, y + h)]) for x, y, w, h in flat]
    wanted = polygons[0].intersection(polygons[1]).area
    geometry, found = pair(*(face(*f) for f in flat))
    if wanted > 1e-3:
        assert found == {(0, 1)}
        assert shared_area(geometry, 0, 1, turn[:, 2], 1e-4) == pytest.approx(wanted, rel=1e-3)
    elif wanted == 0:
        assert found == set()


@pytest.mark.parametrize(("gap_m", "together"), [(0.0, True), (5e-6, True), (1e-4, False), (0.01, False)])
def test_a_gap_parts_them(gap_m, together):
    square = lambda z: Shape().quad((0, 0, z), (1, 0, 0), (0, 1, 0))  # noqa: E731
    assert bool(pair(square(0.0), square(gap_m))[1]) == together


def test_faces_that_look_apart_only_meet_where_both_sides_are_drawn():
    front = Shape().quad((0, 0, 0), (1, 0, 0), (0, 1, 0))
    back = Shape().quad((1, 0, 0), (-1, 0, 0), (0, 1, 0))
    assert pair(front, back)[1] == set()
    assert pair(front, back, double_sided=True)[1] == {(0, 1)}


def test_a_drawable_does_not_meet_itself():
    twice = Shape().quad((0, 0, 0), (1, 0, 0), (0, 1, 0)).quad((0, 0, 0), (1, 0, 0), (0, 1, 0))
    assert pair(twice, Shape().quad((0, 0, 5), (1, 0, 0), (0, 1, 0)))[1] == set()
