"""Cascades, a paged map and rays draw one true shadow; each loses a caster by its own test, at the value that is worked out by hand."""

import math

import numpy as np
import pytest

from eddyfall.core.frame.core_sample import core_sample
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.passes.frustum import in_frustum, limit_range_m
from eddyfall.core.passes.sun_maps import sun_axes
from eddyfall.core.scene.model import Light
from eddyfall.core.shade.cascades import cascade_slices
from eddyfall.core.truth.disagreement import disagreement
from eddyfall.core.truth.shadow_classes import Class
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of, floor, merged

SIZE = (320, 180)
RENDERER = Renderer()
SUN = [0.3, 0.6, -0.5]


def yard(*things, **setup):
    """A floor with a wall of 4 x 1.5 m, seen from 3 m up; the sun stands behind the wall."""
    raw = {
        "viewpoints": {"eye": {"eye": [0, 3, 0], "target": [0, 0, -9], "fov_y_deg": 50}},
        "lights": {"sun": {"kind": "sun", "illuminance_lux": 10.0, "towards": SUN}},
        "shadow": {"reach_m": 60.0, "resolution": 1024},
    }
    wall = Thing("wall", Shape().box((-2, 0, -10.3), (2, 1.5, -10), 1.0))
    return build_of(Thing("floor", floor(0.0, near=-6.0, far=60.0)), wall, *things, setup=merged(raw, setup))


def frame_of(build, crop=None, upto="linear", size=SIZE):
    return RENDERER.frame(build, Request("eye", size, crop), upto)


def drawn(build):
    return frame_of(build).buffers["sun_visibility"]


TECHNIQUES = ("cascades", "paged", "rays")
VARIANTS = {
    "cascades": {}, "far tier": {"reach_m": 9.0, "far_reach_m": 60.0}, "by range": {"reach_by": "range"},
    "frame": {"casters_from": "frame"},
    "swept": {"casters_from": "swept"}, "tight": {"fit": "tight"}, "unsnapped": {"snap": False}, "slice cut": {"depth_range": "slice_cut"},
    "slice clamped": {"depth_range": "slice_clamped"}, "unorm16": {"map_format": "unorm16"}, "unorm24": {"map_format": "unorm24"},
    "join": {"join_blend": 0.3}, "paged": {"technique": "paged"}, "rays": {"technique": "rays"},
}  # fmt: skip


@pytest.mark.parametrize("name", VARIANTS)
def test_every_technique_draws_the_true_shadow(name):
    build = yard(shadow=VARIANTS[name])
    [sun] = disagreement(RENDERER, frame_of(build, upto="lit")).lights
    counts = sun.counts()
    asked = sum(counts[k] for k in ("agree", "missing", "false", "edge"))
    dark = int(((sun.classes == Class.AGREE) & (sun.true == 0)).sum())
    assert dark > 400 and counts["missing"] + counts["false"] <= 0.004 * asked, (name, counts)


@pytest.mark.parametrize("name", VARIANTS)
def test_a_crop_is_the_same_slice_of_the_full_frame(name):
    build = yard(shadow=VARIANTS[name])
    x0, y0, x1, y1 = 130, 80, 200, 120
    whole, part = frame_of(build), frame_of(build, (x0, y0, x1, y1))
    for buffer in ("linear", "sun_visibility"):
        np.testing.assert_allclose(part.buffers[buffer], whole.buffers[buffer][y0:y1, x0:x1], rtol=1e-6, atol=1e-6, err_msg=name)


@pytest.mark.parametrize("name", ["join", "paged", "rays", "by range"])
def test_the_strata_of_a_core_sample_add_up_in_every_technique(name):
    build = yard(shadow=VARIANTS[name])
    for x, y in ((160, 94), (150, 80), (100, 150), (190, 90)):
        sample = core_sample(RENDERER, build, Request("eye", SIZE), x, y)
        seen = frame_of(build).linear[y, x]
        assert sample.sum == pytest.approx(seen, rel=1e-4, abs=1e-6)


def test_reach_by_range_serves_at_the_sides_what_view_depth_loses_when_looked_at():
    # At the middle of a side edge of 60 degrees and 16:9, range is 1.433 view depths; in a corner 1.545.
    t = math.tan(math.radians(30))
    side, corner = math.sqrt(1 + (t * 16 / 9) ** 2), math.sqrt(1 + t**2 * (1 + (16 / 9) ** 2))
    assert (side, corner) == (pytest.approx(1.433, abs=1e-3), pytest.approx(1.545, abs=1e-3))
    assert 385 / side == pytest.approx(268.7, abs=0.1)
    views = {
        "aside": {"eye": [0, 3, 0], "target": [10 * math.tan(math.radians(35)), 3 - 1.0, -10], "fov_y_deg": 60},
        "at it": {"eye": [0, 3, 0], "target": [0, 2.0, -10], "fov_y_deg": 60},
    }
    post = Thing("post", Shape().box((-3.0, 0, -24.3), (3.0, 3.0, -24), 1.0))
    seen = {}
    for by in ("view_depth", "range"):
        build = yard(post, viewpoints=views, shadow={"reach_m": 22.0, "reach_by": by})
        for view in views:
            frame = RENDERER.frame(build, Request(view, SIZE), "lit")
            [sun] = disagreement(RENDERER, frame).lights
            ids = frame.geometry.names["post"]
            seen[by, view] = int(((sun.caster == ids) & (sun.classes == Class.MISSING)).sum())
    print(seen)
    assert seen["view_depth", "at it"] > 50 and seen["view_depth", "aside"] < seen["view_depth", "at it"] / 4
    assert seen["range", "aside"] > 50 and seen["range", "at it"] > 50


def test_slices_by_range_hold_every_corner_of_what_they_serve():
    fov, aspect = math.radians(60), 16 / 9
    for part in cascade_slices(0.5, 360, 4, 0.6, 2048, fov, aspect, by_range=True):
        t = math.tan(fov / 2)
        rng = np.random.default_rng(1)
        points = np.stack([rng.uniform(-1, 1, 4000) * t * aspect, rng.uniform(-1, 1, 4000) * t, np.ones(4000)], axis=1)
        points *= (rng.uniform(max(part.near_m, 0.5), part.far_m, 4000) / np.linalg.norm(points, axis=1))[:, None]
        assert np.linalg.norm(points - [0, 0, part.centre_m], axis=1).max() <= part.radius_m * (1 + 1e-9)


def test_the_angle_limit_is_where_the_padded_ball_looks_that_small():
    # A ball of 1.6 m at half a degree: 1.6 / tan(.25 deg); .25 m of padding; what 385 m would need.
    assert float(limit_range_m(1.6, 0.5)) == pytest.approx(366.7, abs=0.05)
    assert float(limit_range_m(1.85, 0.5)) == pytest.approx(424.0, abs=0.05)
    assert 385 * math.tan(math.radians(0.25)) - 1.6 == pytest.approx(0.080, abs=5e-4)
    assert np.isinf(limit_range_m(1.6, 0.0))


@pytest.mark.parametrize("technique", ["paged", "rays"])
def test_a_caster_is_lost_just_beyond_its_limit_and_padding_brings_it_back(technique):
    half = Shape().box((-0.8, 0, -10.0 - 0.2), (0.8, 1.6, -10.0), 1.0)
    away = math.hypot(10.1, 3 - 0.8)
    radius = math.hypot(1.6, 1.6, 0.2) / 2
    limit = math.degrees(2 * math.atan(radius / away))
    leaf = "paged_limit_deg" if technique == "paged" else "ray_limit_deg"

    def dark(limit_deg, **nodes):
        build = build_of(
            Thing("floor", floor(0.0, near=-6.0, far=60.0)), Thing("post", half),
            setup={**yard().raw_setup, "shadow": {"technique": technique, leaf: limit_deg}, "nodes": nodes},
        )  # fmt: skip
        return int((drawn(build) < 0.5).sum())

    assert dark(limit * 0.999) > 200 and dark(limit * 1.001) == 0
    needed = away * math.tan(math.radians(limit * 1.1) / 2) - radius
    assert dark(limit * 1.1, post={"bounds_padding_m": needed * 1.01}) > 200
    assert dark(limit * 1.1, post={"bounds_padding_m": needed * 0.99}) == 0


def test_dense_meshes_keep_their_shadow_in_a_paged_map_and_not_with_rays():
    base = {"shadow": {"paged_limit_deg": 60.0, "ray_limit_deg": 60.0}, "meshes": {"wall": {"dense": True}}}
    assert int((drawn(yard(**merged(base, {"shadow": {"technique": "paged"}}))) < 0.5).sum()) > 500
    assert int((drawn(yard(**merged(base, {"shadow": {"technique": "rays"}}))) < 0.5).sum()) == 0


def test_a_blended_mesh_cannot_be_dense():
    from eddyfall.core.errors import ChangeError, SetupError
    from eddyfall.core.scene.changes import apply_change, set_leaf

    with pytest.raises(SetupError, match=r"meshes.wall.dense: its material grey is blended"):
        yard(meshes={"wall": {"dense": True}}, materials={"grey": {"blend": "blended"}})
    dense = yard(meshes={"wall": {"dense": True}}, materials={"grey": {"blend": "cutout"}})
    with pytest.raises(ChangeError, match="blended"):
        apply_change(dense, set_leaf(dense, ("materials", "grey", "blend"), "additive", scope="material", title="t"))


def test_what_stands_behind_the_camera_is_lost_to_cascades_of_the_frame_and_found_by_the_swept_frame():
    stack = Thing("stack", Shape().box((-1, 0, 3), (1, 12, 5), 1.0))
    low = {"lights": {"sun": {"towards": [0.0, 0.5, 0.8]}}}
    dark = {}
    for source in ("scene", "frame", "swept"):
        frame = frame_of(yard(stack, **low, shadow={"casters_from": source}), upto="lit")
        dark[source] = int((frame.buffers["sun_visibility"] < 0.5).sum())
        [sun] = disagreement(RENDERER, frame).lights
        lost = set(sun.lost[sun.lost >= 0].tolist())
        assert (6 in lost) == (source == "frame"), "the cull lost it"
    assert dark["scene"] == dark["swept"] > dark["frame"] + 500
    # A stack of 30 m under a sun at 33.34 degrees throws 45.6 m of shadow: that far off it still matters.
    assert 30 / math.tan(math.radians(33.34)) == pytest.approx(45.6, abs=0.05)


def test_boxes_are_swept_along_their_shadow():
    frame = frame_of(yard(), upto="drawable")
    behind = np.array([[-1.0, 8.0, 5.0]]), np.array([[1.0, 9.0, 6.0]])
    assert not in_frustum(frame.camera, *behind, 0.0, None).any()
    assert in_frustum(frame.camera, *behind, 0.0, None, np.array([0.0, -30.0, -40.0])).all()
    assert not in_frustum(frame.camera, *behind, 0.0, None, np.array([0.0, 30.0, 40.0])).any()


def test_a_cut_slice_loses_what_stands_before_it_and_a_clamped_one_keeps_it():
    # A roof far above the near slice, towards a high sun.
    roof = Thing("roof", Shape().box((-4, 60, -14), (4, 60.5, -2), 1.0))
    high = {"lights": {"sun": {"towards": [0.0, 1.0, 0.05]}}, "shadow": {"cascades": 4, "reach_m": 40.0}}
    dark = {
        name: int((drawn(yard(roof, **merged(high, {"shadow": {"depth_range": name}}))) < 0.5).sum())
        for name in ("scene", "slice_clamped", "slice_cut")
    }
    assert dark["scene"] == dark["slice_clamped"] > 1000 and dark["slice_cut"] < dark["scene"] / 2


def test_sixteen_bits_over_fourteen_hundred_metres_are_steps_of_21_mm():
    assert pytest.approx(21.4, abs=0.05) == 1400 / 65535 * 1000
    # Two casters far apart along the sun make the map that deep; without bias the floor then shades itself in steps.
    far = Thing("far", Shape().box((-1, 0, -1000), (1, 1, -999), 1.0))
    fine = {
        "shadow": {"bias_texels": 0.5, "filter_px": 1, "resolution": 4096, "reach_m": 20.0},
        "lights": {"sun": {"towards": [0, 1, -0.02]}},
    }
    false = {}
    for bits in ("float32", "unorm16"):
        [sun] = disagreement(RENDERER, frame_of(yard(far, **merged(fine, {"shadow": {"map_format": bits}})), upto="lit")).lights
        false[bits] = sun.counts()["false"]
    assert false["float32"] < 60 and false["unorm16"] > false["float32"] + 200, false


def test_a_small_pool_makes_every_level_coarser_and_says_so():
    rich, poor = (frame_of(yard(shadow={"technique": "paged", "page_pool": pool}), upto="lit") for pool in (4096, 24))
    [(_, pages, coarser)] = rich.buffers["shadow_pages"]
    [(_, fewer, more)] = poor.buffers["shadow_pages"]
    assert coarser == 0 and pages > 24 and fewer <= 24 and more >= 1
    texels = [float(f.buffers["shadow_maps"].pixel_m) for f in (rich, poor)]
    assert texels[1] == pytest.approx(texels[0] * 2**more)
    assert 4096 * 64 * 64 * 4 == 64 * 2**20 == 4 * 2048**2 * 4, "4,096 pages take what four maps of 2048 do"


def test_page_texels_are_near_the_size_of_a_pixel():
    frame = frame_of(yard(shadow={"technique": "paged"}), upto="lit")
    from eddyfall.core.truth.judge import Judge
    from eddyfall.core.truth.surfaces import surfaces_of, to_light

    s = surfaces_of(frame, 3)
    texel = Judge(RENDERER, frame).texel_m(0, s, to_light(s, 0, frame)[1])
    footprint = s.range_m * 2 * math.tan(math.radians(25)) / SIZE[1]
    ratio = texel / footprint
    assert (texel > 0).all() and np.percentile(ratio, 1) > 0.70 and np.percentile(ratio, 99) < 1.43


def test_a_lamp_may_have_its_shadow_traced():
    lamp = (Light("lamp", "point", intensity=80.0), (0.0, 3.0, -14.0))
    for technique in ("cascades", "rays"):
        raw = merged(yard().raw_setup, {"lights": {"lamp": {"casts": True, "technique": technique}}})
        build = build_of(
            Thing("floor", floor(0.0, near=-6.0, far=60.0)), Thing("wall", Shape().box((-2, 0, -10.3), (2, 1.5, -10), 1.0)), setup=raw,
            lamps=(lamp,),
        )  # fmt: skip
        found = {v.light: v for v in disagreement(RENDERER, frame_of(build, upto="lit")).lights}["lamp"]
        counts = found.counts()
        assert ((found.classes == Class.AGREE) & (found.true == 0)).sum() > 300
        assert counts["missing"] + counts["false"] <= 0.02 * sum(counts.values()), (technique, counts)


def test_a_shadow_pass_draws_turned_away_faces_only_of_what_casts_from_both_sides():
    sheet = Thing("sheet", Shape().quad((-2, 0.2, -7), (4, 0, 0), (0, 1.5, 0)))
    plain = int((drawn(yard(sheet)) < 0.5).sum())
    both = int((drawn(yard(sheet, materials={"grey": {"casts_both_sides": True}})) < 0.5).sum())
    shown = int((drawn(yard(sheet, materials={"grey": {"double_sided": True, "casts_both_sides": False}})) < 0.5).sum())
    assert both > plain + 300 and shown < both


def test_axes_of_a_suns_maps_are_square_to_each_other():
    for towards in (SUN, [0, 1, 0], [1, 0.001, 0]):
        axes = sun_axes(np.array(towards, float))
        np.testing.assert_allclose(axes @ axes.T, np.eye(3), atol=1e-12)


def test_a_level_cutout_closes_or_opens_with_the_maps_mip_level():
    # Holes of 12 px in a period of 16 (.4375 covered), 64 px a metre, the sun overhead. At mip 4.25 alpha is the mean everywhere: a cutoff
    # of .35 draws it solid, one of .5 not at all; at mip .25 what is open is what was cut.
    from scipy.optimize import brentq

    from eddyfall.core.hashing import freeze
    from eddyfall.core.scene.model import Image, Material, TextureUse
    from eddyfall.core.shade.cascades import slice_sphere

    alpha = np.full((256, 256), 255, np.uint8)
    alpha[np.ix_(np.arange(256) % 16 < 12, np.arange(256) % 16 < 12)] = 0
    picture = Image("bars", freeze(np.dstack([np.full((256, 256, 3), 128, np.uint8), alpha])))
    sheet = Shape().quad((-4, 2, -4), (8, 0, 0), (0, 0, -8), 4.0)
    fov, aspect = math.radians(50), SIZE[0] / SIZE[1]

    def open_share(cutoff, level, resolution):
        texel = 2.0**level / 64
        reach = brentq(lambda far: 2 * slice_sphere(0.5, far, fov, aspect)[1] / resolution - texel, 1.0, 400.0)
        bars = Material(
            "bars", metallic=0.0, alpha_mode="MASK", alpha_cutoff=cutoff, base_texture=TextureUse(0), double_sided=True
        )
        shadow = {"cascades": 1, "resolution": resolution, "reach_m": reach, "snap": False}
        setup = merged(yard().raw_setup, {"lights": {"sun": {"towards": [0.0, 1.0, 0.0]}}, "shadow": shadow})
        frame = frame_of(
            build_of(
                Thing("floor", floor(0.0, near=-6.0, far=60.0)), Thing("sheet", sheet, bars), images=(picture,), setup=setup
            ),
            upto="lit",
        )
        maps = frame.buffers["shadow_maps"]
        depth, m, edge = maps.depth.reshape(resolution, resolution), maps.matrix[0], resolution
        rows, columns = np.indices(depth.shape)
        clip = np.stack(
            [(columns + 0.5) / edge * 2 - 1, 1 - (rows + 0.5) / edge * 2, np.zeros(depth.shape), np.ones(depth.shape)], axis=-1
        )
        place = clip @ np.linalg.inv(m).T
        inside = (np.abs(place[..., 0]) < 3.5) & (place[..., 2] < -4.5) & (place[..., 2] > -11.5)
        at_sheet = float((m @ [0, 2, -8, 1])[2])
        return float((depth[inside] > at_sheet + 1e-4).mean())

    assert open_share(0.35, 4.25, 256) == 0.0 and open_share(0.5, 4.25, 256) == 1.0
    # Near the finest level what is open stays within a blurred texel's edge of 144 / 256; a lower cutoff keeps more.
    low, high = open_share(0.35, 0.25, 4096), open_share(0.5, 0.25, 4096)
    assert low < high and low == pytest.approx(144 / 256, abs=0.04) and high == pytest.approx(144 / 256, abs=0.04), (low, high)


def test_sixty_four_lamps_are_judged_and_each_is_named():
    lamps = tuple(
        (Light(f"lamp_{i:02d}", "point", intensity=4.0, range_m=6.0), (float(i % 8) * 2 - 7, 2.5, -4.0 - (i // 8) * 1.5)) for i in range(64)
    )  # fmt: skip
    raw = merged(
        yard().raw_setup,
        {"lights": {f"lamp_{i:02d}": {"casts": i % 2 == 0} for i in range(64)}, "shadow": {"light_resolution": 64}},
    )
    build = build_of(
        Thing("floor", floor(0.0, near=-6.0, far=60.0)),
        Thing("wall", Shape().box((-2, 0, -10.3), (2, 1.5, -10), 1.0)),
        setup=raw,
        lamps=lamps,
    )
    found = disagreement(RENDERER, frame_of(build, upto="lit", size=(160, 90))).lights
    assert len(found) == 65 and len({v.light for v in found}) == 65
    total = sum(found[0].counts().values())
    assert all(sum(v.counts().values()) == total for v in found)
    lost = [v for v in found if (v.lost == 1).any()]
    assert lost and all(int(v.light.split("_")[1]) % 2 == 1 for v in lost), "only lamps that cast nothing lose a shadow by that"


def test_rays_to_a_lamp_are_traced_wherever_its_range_reaches():
    from eddyfall.core.passes.contract import View
    from eddyfall.core.passes.shadow_rays import near_lamp, ray_directions

    frame = frame_of(yard(), upto="lit")
    view = View(frame.camera, frame.pixels)
    y, x = np.nonzero(frame.drawable >= 0)
    places = view.rays.eye + ray_directions(view, x, y) * frame.buffers["surface"][y, x][:, 13:14]
    rng = np.random.default_rng(2)
    for _ in range(200):
        place, reach = rng.uniform([-9, 0, -25], [9, 4, 2]), rng.uniform(0.5, 9)
        inside = np.linalg.norm(places - place, axis=1) < reach
        assert near_lamp(view, place, reach)[y[inside], x[inside]].all(), (place, reach)
    assert near_lamp(view, np.array([0.0, 0.5, -20.0]), 1.0).mean() < 0.05
