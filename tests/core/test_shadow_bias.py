"""Shadow bias: what planes and walls take by hand, thresholds that equal re-rendered frames count for count, and what no bias can do."""

import json
import math

import numpy as np
import pytest

from eddyfall.core.errors import RequestError, SetupError
from eddyfall.core.frame.core_sample import core_sample
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.passes.contract import LookUp
from eddyfall.core.scene.changes import apply_change, set_leaves
from eddyfall.core.scene.model import Light
from eddyfall.core.scene.setup import parse_setup
from eddyfall.core.shade.lights import gaps_at
from eddyfall.core.shade.shadow_maps import TEXEL_M
from eddyfall.core.truth.bias import ground_of, solve_bias
from eddyfall.core.truth.bias.proving import bias_of_light, change_to, finer
from eddyfall.core.truth.bias.solve import Bias
from eddyfall.core.truth.judge import Judge, asked_of
from eddyfall.core.truth.map_reading import read_maps
from eddyfall.core.truth.surfaces import surfaces_of, to_light
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of, merged

SIZE = (480, 270)
RENDERER = Renderer()
FLOOR = Shape().quad((-20, 0, 5), (40, 0, 0), (0, 0, -45))
SUN = {"kind": "sun", "illuminance_lux": 10.0, "towards": [0.0, 0.5, -0.866], "bias_normal_texels": 0.0}


def walled(thick=0.05, *things, lamps=(), **setup):
    """A floor, and a wall of 2 x 1.5 m at z = -6 with the sun 30 degrees up behind it; one cascade; no bias at all."""
    raw = {
        "viewpoints": {"eye": {"eye": [0, 3, 4], "target": [0, 0, -6], "fov_y_deg": 50}},
        "lights": {"sun": SUN},
        "shadow": {"near_m": 0.5, "cascades": 1, "reach_m": 60.0, "resolution": 1024},
    }
    wall = Thing("wall", Shape().box((-1, 0, -6 - thick), (1, 1.5, -6), 1.0))
    return build_of(Thing("floor", FLOOR), wall, *things, setup=merged(raw, setup), lamps=lamps)


def biased(build, light="sun", **leaves):
    return apply_change(build, set_leaves(build, {("lights", light, k): v for k, v in leaves.items()}, scope="node", title="t"))


def floor_of(build, size=SIZE):
    """(frame, judge, the floor's surfaces, (n,) truly lit by the first light)."""
    frame = RENDERER.frame(build, Request("eye", size), "lit")
    s = surfaces_of(frame)
    s = s.of(s.drawable == frame.geometry.names["floor"])
    judge = Judge(RENDERER, frame)
    towards, distance = to_light(s, 0, frame)
    return frame, judge, s, ~judge.blocked(judge.scene(judge.intended), s, towards, distance)


def texel_of(frame):
    return float(frame.buffers["shadow_maps"].info[0, TEXEL_M])


def drawn_of(judge, s, i=0):
    return judge.drawn(i, s, *to_light(s, i, judge.frame))


def test_acne_on_the_worked_floor_and_the_constant_that_ends_it():
    # Every number of this fixture follows from (r + 1/2) t tan(theta): 1.5 x 111.6 mm x 1.732 = 289.8 mm.
    frame, judge, s, lit = floor_of(walled())
    assert texel_of(frame) == pytest.approx(0.1116, abs=1e-4)
    assert 1.5 * texel_of(frame) * 0.866 / 0.5 == pytest.approx(0.2898, abs=2e-4)
    gaps, slopes, _ = gaps_at(0, asked_of(s, *to_light(s, 0, frame)), judge.table, judge.maps)
    own = lit & (gaps.max(axis=1) < 0.6)
    assert slopes == pytest.approx(texel_of(frame) * 0.866 / 0.5)
    for millimetres, false in ((0.0, 90_070), (290.0, 12)):
        _, again, _, _ = floor_of(biased(walled(), bias_mm=millimetres))
        assert int((own & (drawn_of(again, s) < 1)).sum()) == false
        assert int((own & (gaps.max(axis=1) > millimetres / 1000)).sum()) == false
    # The project's own shift along the normal at 0 texels still holds half the filter: partly dark, and a test at half sees nothing.
    _, project, _, _ = floor_of(biased(walled(shadow={"bias_texels": 0.0}), bias_normal_texels=None))
    partly = drawn_of(project, s)[lit]
    assert int((partly < 1).sum()) == 37_438 and int((partly < 0.5).sum()) == 84


def ramp(theta_deg, phi_deg, **setup):
    """A plane that the sun falls on at theta, its slope at phi from the map's columns, seen from the sun's side, in a map of texels of a
    few centimetres."""
    theta, phi = math.radians(theta_deg), math.radians(phi_deg)
    towards = np.array([0.0, math.sin(math.radians(50)), math.cos(math.radians(50))])
    right = np.cross([0.0, 1.0, 0.0], towards)
    right /= np.linalg.norm(right)
    up = np.cross(towards, right)
    aside = math.cos(phi) * right + math.sin(phi) * up
    normal = math.cos(theta) * towards + math.sin(theta) * aside
    a = np.cross(normal, towards)
    a /= np.linalg.norm(a)
    b = np.cross(normal, a)
    centre = np.array([0.0, 0.0, -6.0])
    corner = centre - 30 * a - 30 * b
    if np.cross(a, b) @ normal < 0:
        a, corner = -a, centre + 30 * a - 30 * b
    eye = centre + 5 * normal
    raw = {
        "viewpoints": {"eye": {"eye": eye.tolist(), "target": centre.tolist(), "fov_y_deg": 40}},
        "lights": {"sun": {**SUN, "towards": towards.tolist()}},
        "shadow": {"near_m": 0.5, "cascades": 1, "reach_m": 20.0, "resolution": 512},
    }
    plane = Shape().quad(tuple(corner), tuple(60 * a), tuple(60 * b))
    return build_of(Thing("floor", plane), setup=merged(raw, setup))


@pytest.mark.parametrize(
    ("theta", "phi", "filter_px"), [(60, 0, 1), (60, 0, 3), (45, 45, 3), (70, 20, 3), (80, 0, 3), (50, 70, 7)]
)
def test_a_plane_needs_the_bias_of_its_slope_and_filter(theta, phi, filter_px):
    """Plane at theta, texel t, box of radius r, azimuth phi in the map: (r + 1/2) t tan(theta) (|cos phi| + |sin phi|) along the light, the
    same with sin(theta) along the normal; derived, and checked by brute force for 60 and 80 degrees in the axis (common practice)."""
    build = ramp(theta, phi, shadow={"filter_px": filter_px})
    frame, judge, s, lit = floor_of(build)
    assert lit.all() and len(s) > 100_000
    t, r = texel_of(frame), filter_px // 2
    along = abs(math.cos(math.radians(phi))) + abs(math.sin(math.radians(phi)))
    need = (r + 0.5) * t * math.tan(math.radians(theta)) * along
    gaps, slopes, _ = gaps_at(0, asked_of(s, *to_light(s, 0, frame)), judge.table, judge.maps)
    assert 0.9 * need < gaps.max() <= need * 1.01, (gaps.max(), need)
    axis = max(abs(math.cos(math.radians(phi))), abs(math.sin(math.radians(phi))))
    assert slopes == pytest.approx(t * math.tan(math.radians(theta)) * axis, rel=1e-6)

    def dark(**leaves):
        return int((drawn_of(floor_of(biased(build, **leaves))[1], s) < 1).sum())

    assert dark(bias_mm=need * 1010) == 0 < dark(bias_mm=gaps.max() * 1000 * 0.98)
    # 2 r + 1 texels of the larger axis slope clear every plane.
    assert dark(bias_slope=2 * r + 1.02) == 0
    sine = math.sin(math.radians(theta))
    assert (
        dark(bias_normal_texels=(r + 0.5) * along * 1.01)
        == 0
        < dark(bias_normal_texels=gaps.max() / t / math.tan(math.radians(theta)) * 0.97)
    )
    assert (r + 0.5) * t * sine * along == pytest.approx(need * math.cos(math.radians(theta)))
    # Followed along its plane, a filter of any width needs no more than that of one texel.
    followed = 0.5 * t * math.tan(math.radians(theta)) * along
    assert dark(bias_mm=followed * 1020, bias_along_plane=True) == 0 < dark(bias_mm=followed * 900, bias_along_plane=True)


def near_foot(texel_m, **light):
    """The wall, thin, seen from near by, in a map of texels of a given size."""
    view = {"eye": {"eye": [0.3, 0.9, -5], "target": [0.3, 0, -6], "fov_y_deg": 50}}
    base = {"reach_m": 20.0, "resolution": 1024}
    coarse = walled(0.001, viewpoints=view, shadow=base, lights={"sun": light})
    at = texel_of(RENDERER.frame(coarse, Request("eye", (64, 36)), "shadow_maps"))
    return walled(0.001, viewpoints=view, shadow={**base, "resolution": round(1024 * at / texel_m)}, lights={"sun": light})


def test_what_a_constant_detaches_and_a_shift_along_the_normal_eats_at_the_tip():
    # 43.36 mm texels, 60 degrees, filter 3: a constant of 112.7 mm leaves a gap of 97.6 mm at a thin wall's foot (b sin(theta)); a shift of
    # 56.3 mm leaves the foot whole and takes 97.6 mm (shift x tan(theta)) off the tip: what is lower than 56.3 mm throws nothing.
    t, theta = 0.04336, math.radians(60)
    constant, shift = 1.5 * t * math.tan(theta), 1.5 * t * math.sin(theta)
    assert (constant, shift) == (pytest.approx(0.1127, abs=1e-4), pytest.approx(0.0563, abs=1e-4))
    assert constant * math.sin(theta) == pytest.approx(0.0976, abs=1e-4) == pytest.approx(shift * math.tan(theta), abs=1e-4)
    ground = ground_of(RENDERER, near_foot(t), Request("eye", (960, 540)), "sun")
    steps = ground.steps(LookUp(filter_px=3))
    foot, _ = steps.worst(constant)
    assert foot.lost_m == pytest.approx(0.0976, abs=0.008) and foot.limit_m == pytest.approx(0.020)
    assert steps.worst(0.0)[0].lost_m == 0.0
    assert ground.steps(LookUp(filter_px=3, normal_texels=1.5)).worst(0.0)[0].lost_m == 0.0
    view = {"eye": {"eye": [0.3, 1.5, -1.5], "target": [0.3, 0, -3.4], "fov_y_deg": 50}}
    at_tip = ground_of(
        RENDERER, walled(viewpoints=view, shadow={"reach_m": 10.0, "resolution": 2048}), Request("eye", (960, 540)), "sun"
    )
    here = float(at_tip.texel_m[0])
    tip = at_tip.steps(LookUp(filter_px=3, normal_texels=1.5)).worst(0.0)[1]
    assert tip.lost_m == pytest.approx(1.5 * here * math.sin(theta) * math.tan(theta), abs=0.006)
    assert at_tip.steps(LookUp(filter_px=3)).worst(0.0)[1].lost_m < 0.006


def test_steps_lower_than_the_shift_throw_no_shadow():
    step = Thing("step", Shape().box((2.0, 0, -4.4), (4.0, 0.04, -4.0), 1.0))
    high = Thing("step", Shape().box((2.0, 0, -4.4), (4.0, 0.3, -4.0), 1.0))
    for thing, shown in ((step, False), (high, True)):
        for texels in (0.0, 1.5):
            view = {"eye": {"eye": [3, 2, -2.5], "target": [3, 0, -4], "fov_y_deg": 50}}
            build = walled(0.05, thing, viewpoints=view, shadow={"reach_m": 20.0})
            build = biased(build, bias_normal_texels=texels)
            _, judge, s, lit = floor_of(build)
            towards, distance = to_light(s, 0, judge.frame)
            by = judge.first(judge.scene(judge.intended), s, towards, distance)[0]
            mine = ~lit & (judge.frame.geometry.owner[by] == judge.frame.geometry.names["step"])
            seen = (drawn_of(judge, s)[mine] < 0.5).mean()
            assert (seen > 0.4) == (shown or texels == 0.0), (texels, seen)


LAMP = (Light("lamp", "point", intensity=50.0, range_m=14.0), (0.4, 2.5, -8.5))
SPOT = (Light("lamp", "spot", intensity=90.0, range_m=14.0, outer_cone_rad=1.1), (0.2, 2.2, -2.0))
LIGHTS = {
    "sun": ({}, (), "sun"),
    "cube": ({"lights": {"lamp": {"casts": True, "bias_normal_texels": 0.0}}}, (LAMP,), "lamp"),
    "spot": ({"lights": {"lamp": {"casts": True, "bias_normal_texels": 0.0}}}, (SPOT,), "lamp"),
    "paged": ({"shadow": {"technique": "paged", "page_texel_px": 2.0}}, (), "sun"),
}


@pytest.mark.long
@pytest.mark.parametrize("filter_px", [1, 3, 7])
@pytest.mark.parametrize("name", LIGHTS)
def test_thresholds_equal_re_rendered_biases_count_for_count(name, filter_px):
    setup, lamps, light = LIGHTS[name]
    build = walled(lamps=lamps, **merged(setup, {"shadow": {"filter_px": filter_px}}))
    ground = ground_of(RENDERER, build, Request("eye", SIZE), light)
    rng, most = np.random.default_rng(filter_px), float(ground.steps(LookUp(filter_px=filter_px)).own_m.max()) * 1000
    seen = set()
    for number in range(24):
        bias = Bias(
            constant_mm=round(float(rng.choice([0.0, 1.0, 1.0]) * rng.uniform(0, 1.1) * most), 2),
            slope=round(float(rng.choice([0.0, 0.0, 1.0]) * rng.uniform(0, filter_px)), 2),
            normal_texels=float(rng.choice([0.0, 0.0, 0.5, 1.25])),
            along_plane=number % 4 == 3,
        )
        again = RENDERER.frame(apply_change(build, change_to(build, light, bias)), Request("eye", SIZE), "lit")
        drawn = ground.drawn_in(Judge(RENDERER, again))
        look_up = again.stage.lights[ground.light].look_up
        steps = ground.steps(look_up)
        by = (look_up.constant_m, look_up.slope)
        assert (steps.false_px(*by), steps.lost_points(*by)) == drawn, bias
        if light == "sun":
            shown = again.buffers["sun_visibility"][ground.lit.pixels[:, 1], ground.lit.pixels[:, 0]]
            assert int((shown < 1).sum()) * ground.each == drawn[0], "what the frame itself has"
        seen.add(drawn)
    assert len(seen) > 10, "the biases tried differ"


@pytest.mark.parametrize("name", LIGHTS)
def test_the_look_up_of_every_bias_equals_its_plain_twin(name):
    setup, lamps, light = LIGHTS[name]
    build = walled(lamps=lamps, **setup)
    for leaves in (
        {"bias_mm": 60.0}, {"bias_slope": 1.3}, {"bias_normal_texels": 0.8, "bias_mm": 20.0}, {"bias_along_plane": True, "bias_slope": 0.2},
        {"faces": "back"}, {"faces": "both", "filter_px": 5}, {"resolution": 300, "bias_mm": 35.0},
    ):  # fmt: skip
        frame, judge, s, _ = floor_of(biased(build, light, **leaves))
        i = [v.name for v in frame.stage.lights].index(light)
        towards, _ = to_light(s, i, frame)
        s = s.of(np.flatnonzero(np.einsum("nk,nk->n", s.normal, towards) > 0)[::37])
        reading = read_maps(s, i, judge.table, judge.maps)
        np.testing.assert_allclose(drawn_of(judge, s, i), 1 - reading.blocks.mean(axis=1), atol=1e-12, err_msg=str(leaves))
        sample_at = tuple(int(v) for v in s.pixels[len(s) // 2])
        sample = core_sample(RENDERER, biased(build, light, **leaves), Request("eye", SIZE), *sample_at)
        whole = RENDERER.frame(biased(build, light, **leaves), Request("eye", SIZE), "linear")
        assert sample.sum == pytest.approx(whole.linear[sample_at[1], sample_at[0]], rel=1e-4, abs=1e-6)
        x0, y0, x1, y1 = 180, 120, 300, 200
        part = RENDERER.frame(biased(build, light, **leaves), Request("eye", SIZE, (x0, y0, x1, y1)), "linear")
        np.testing.assert_allclose(part.linear, whole.linear[y0:y1, x0:x1], rtol=1e-6, atol=1e-6, err_msg=str(leaves))


def test_a_bias_trial_redraws_no_map():
    build = walled()
    before = RENDERER.frame(build, Request("eye", SIZE), "lit").keys
    for leaves in (
        {"bias_mm": 10.0},
        {"bias_slope": 2.0},
        {"bias_normal_texels": 1.0},
        {"bias_along_plane": True},
        {"filter_px": 5},
    ):
        after = RENDERER.frame(biased(build, **leaves), Request("eye", SIZE), "lit").keys
        assert after["shadow_maps"] == before["shadow_maps"] and after["lit"] != before["lit"], leaves
    for leaves in ({"resolution": 512}, {"faces": "back"}):
        assert RENDERER.frame(biased(build, **leaves), Request("eye", SIZE), "lit").keys["shadow_maps"] != before["shadow_maps"]


def test_the_smallest_bias_inside_both_limits_is_found_and_drawn():
    solved = bias_of_light(RENDERER, walled(shadow={"resolution": 4096, "reach_m": 20.0}), [Request("eye", SIZE)], "sun")
    front = solved.front
    chosen = front.chosen
    assert chosen is not None and chosen.false_px <= 16 and chosen.foot.lost_mm <= chosen.foot.limit_mm
    assert front.set_to.false_px > 60_000 and not front.set_to.inside
    assert solved.redrawn and all(v.same for v in solved.redrawn), [v for v in solved.redrawn if not v.same]
    by_name = {w.name: w for w in front.ways}
    need = 1.5 * front.texel_mm[1] * 0.866 / 0.5
    assert by_name["constant"].best.bias.constant_mm == pytest.approx(need, rel=0.02)
    assert by_name["along the plane"].best.bias.constant_mm == pytest.approx(need / 3, rel=0.03)
    for a in front.front:
        assert not any(
            b.false_px <= a.false_px and b.foot.lost_mm < a.foot.lost_mm - 1e-6 and b.tip.lost_mm <= a.tip.lost_mm
            for b in front.front
        ), a
    # A tenth of a millimetre less leaves more than the limit.
    ground = ground_of(RENDERER, walled(shadow={"resolution": 4096, "reach_m": 20.0}), Request("eye", SIZE), "sun")
    steps = ground.steps(LookUp(filter_px=3))
    exact = float(steps.constants_m(0.0, np.array([16]))[0])
    assert steps.false_px(exact) <= 16 < steps.false_px(exact - 1e-9)


def test_where_no_constant_does_the_texel_that_would_is_named_and_proved():
    # 20 mm of contact by a constant need texels of no more than 20 / ((r + 1/2) tan(theta) sin(theta)) = 8.9 mm.
    build = near_foot(0.024)
    front = solve_bias([ground_of(RENDERER, build, Request("eye", (960, 540)), "sun")])
    way = next(w for w in front.ways if w.name == "constant")
    assert (
        way.best is None and way.least.foot.lost_mm > 20 and way.texel_mm == pytest.approx(20 / (1.5 * 1.732 * 0.866), rel=0.06)
    )
    found = finer(RENDERER, build, [Request("eye", (960, 540))], front, way="constant")
    assert found is not None and found.best is not None and found.texel_mm == pytest.approx(way.texel_mm, rel=0.12)
    assert found.best.false_px <= 16 and found.best.foot.lost_mm <= 20
    coarser = biased(build, resolution=round(found.resolution / 1.3))
    again = solve_bias([ground_of(RENDERER, coarser, Request("eye", (960, 540)), "sun")])
    assert next(w for w in again.ways if w.name == "constant").best is None


def test_lights_without_a_map_to_bias_are_refused_by_name():
    for setup, words in (
        ({"shadow": {"technique": "rays"}}, "by rays"), ({"lights": {"sun": {"casts": False}}}, "casts no shadow"),
        ({"shadow": {"enabled": False}}, "casts no shadow"),
    ):  # fmt: skip
        with pytest.raises(RequestError, match=words):
            ground_of(RENDERER, walled(**setup), Request("eye", SIZE), "sun")
    with pytest.raises(RequestError, match="'moon' does not shine at eye; there are: sun"):
        ground_of(RENDERER, walled(), Request("eye", SIZE), "moon")


@pytest.mark.parametrize("value", ["NaN", "-1", "1e400", '"much"'])
def test_a_bias_that_is_none_is_refused_with_its_place(value):
    text = f'{{"eddyfall_setup": 1, "lights": {{"lamp": {{"bias_mm": {value}}}}}}}'
    with pytest.raises((SetupError, ValueError), match=r"bias_mm|NaN|number"):
        parse_setup(json.loads(text))


@pytest.mark.parametrize("filter_px", [2, 3, 7])
def test_in_perspective_too_a_slope_of_the_filter_clears_a_plane_and_a_filter_along_it_needs_half_a_texel(filter_px):
    """A lamp's map: the depth of a plane is linear in its texels, so what holds for a sun holds there (derived)."""
    raw = {
        "viewpoints": {"eye": {"eye": [0, 3, 4], "target": [0, 0, -6], "fov_y_deg": 50}},
        "lights": {"lamp": {"casts": True, "bias_normal_texels": 0.0}},
        "shadow": {"filter_px": filter_px},
    }
    frame, judge, s, _ = floor_of(build_of(Thing("floor", FLOOR), setup=raw, lamps=(LAMP,)))
    towards, distance = to_light(s, 0, frame)
    away = np.abs(s.place - np.array(LAMP[1]))
    # On a side of the cube, clear of its borders, which repeat: the floor below it lies square to its map, and has no slope there.
    inside = np.flatnonzero(np.maximum(away[:, 0], away[:, 1]) < 0.85 * away[:, 2])
    asked = asked_of(s.of(inside), towards[inside], distance[inside])
    radius = filter_px // 2
    for along, least, most in ((False, 0.8 * (radius + 0.5) if filter_px % 2 else 0.4, 2 * radius + 1), (True, 0.4, 1.0)):
        maps = judge.maps_by(0, LookUp(filter_px=filter_px, along_plane=along))
        gaps, slopes, _ = gaps_at(0, asked, judge.table, maps)
        share = gaps.max(axis=1) / slopes
        assert len(share) > 3000 and least < share.max() <= most * 1.02, (along, share.max())


def test_a_bias_is_solved_by_each_viewpoints_own_filter():
    view = {"eye": [0, 3, 4], "target": [0, 0, -6], "fov_y_deg": 50}
    raw = {"roles": {"play": {}, "soft": {"set": {"shadow": {"filter_px": 7}}}},
           "viewpoints": {"eye": view, "soft": {**view, "role": "soft"}}, "shadow": {"reach_m": 20.0, "resolution": 4096}}  # fmt: skip
    build = walled(**raw)
    solved = bias_of_light(RENDERER, build, [Request("eye", SIZE), Request("soft", SIZE)], "sun")
    assert all(v.same for v in solved.redrawn)
    t = solved.front.texel_mm[1]
    constant = next(w for w in solved.front.ways if w.name == "constant")
    assert (constant.best or constant.least).bias.constant_mm == pytest.approx(3.5 * t * 0.866 / 0.5, rel=0.02)
    for name in ("eye", "soft"):
        kept = apply_change(build, change_to(build, "sun", solved.front.chosen.bias))
        assert solve_bias([ground_of(RENDERER, kept, Request(name, SIZE), "sun")]).set_to.inside


def test_a_loss_longer_than_the_lift_of_a_plane_is_measured_whole():
    """A slope factor far beyond what the plane needs: the gap of lift x sin(theta) less the wall's 50 mm is not cut short."""
    build = walled(shadow={"reach_m": 20.0, "resolution": 4096}, lights={"sun": {"bias_slope": 60.0}})
    front = solve_bias([ground_of(RENDERER, build, Request("eye", (960, 540)), "sun")])
    lift = 60 * front.texel_mm[1] * 0.866 / 0.5
    assert front.set_to.lift_mm == pytest.approx(lift, rel=0.01)
    assert front.set_to.foot.lost_mm == pytest.approx(lift * 0.866 - 50, rel=0.05), (front.set_to.foot, lift)
