"""Why a texel is as it is: the seeded cause comes first, a healthy texel is called healthy."""

import numpy as np
import pytest

from bake_scenes import UNIT_PAGE, baked_setup, matt, panel, under_a_partition
from eddyfall.core.bake.light.light_scene import light_scene
from eddyfall.core.bake.maps.run import attach, bake
from eddyfall.core.bake.questions.banding import measure_bands
from eddyfall.core.bake.questions.explain import explain
from eddyfall.core.bake.questions.leaks import find_leaks
from eddyfall.core.errors import RequestError
from eddyfall.core.scene.changes import Change, Operation, apply_change
from eddyfall.core.scene.drawables import pack
from eddyfall.core.scene.model import Material
from eddyfall.core.scene.receivers import receiver_named
from eddyfall.core.scene.setup.sections.bake import Bake
from eddyfall.core.scene.setup.tables import BakedMap
from eddyfall.core.shade.lightmap_codes import exact_codes, stored
from eddyfall.core.uv import repair
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of

assert repair is not None  # its operations are used by name
SUN = {"lights": {"sun": {"kind": "sun", "towards": [0.3, 1, 0.2], "illuminance_lux": 100.0}}}


@pytest.mark.parametrize(("resolution", "nearest", "linear"), [(64, 70.0, 120.0), (256, 20.0, 32.5)])
def test_a_partition_is_named_with_its_reach(resolution, nearest, linear):
    # The worked case of faults in a finished bake.
    build = under_a_partition(resolution, samples=256)
    found = explain(build, "floor", (int(3.03 / 6.4 * resolution), resolution - 2))
    assert not found.healthy and found.effects[0].code == "bake.leak"
    facts = found.effects[0].facts
    assert (facts["reach_nearest_mm"], facts["reach_linear_mm"]) == (
        pytest.approx(nearest, abs=0.1),
        pytest.approx(linear, abs=0.1),
    )
    assert facts["occluder"] == "partition"
    assert found.reference == pytest.approx(0.05, abs=1e-3) and found.all_removed == pytest.approx(0.05, abs=1e-3)
    assert abs(found.unexplained) < 2e-3


@pytest.mark.parametrize("at_m", [1.234, 2.07, 3.555, 4.71, 5.08])
def test_the_reach_of_any_partition_is_known_within_a_texel(at_m):
    build = under_a_partition(64, at_m=at_m, samples=128)
    geometry = pack(build.scene, build.setup)
    leak = find_leaks(
        geometry, receiver_named(build, geometry, "floor"), [light_scene(build, geometry, None)], build.setup[Bake]
    )[0]
    texel = at_m / 0.1
    expected = (np.floor(texel) + 1.5 - texel) * 100  # to the centre of the next texel on the dark side
    assert leak.reach_linear_mm == pytest.approx(expected, abs=1.0)


def test_splitting_the_chart_ends_the_leak():
    build = under_a_partition(64, samples=64)
    change = Change(
        id="s",
        scope="mesh",
        operation=Operation(name="uv.split", params={"mesh": "floor", "point_m": [3.03, 0, 0], "normal": [1, 0, 0]}),
    )
    parted = apply_change(build, change)
    geometry = pack(parted.scene, parted.setup)
    assert (
        find_leaks(geometry, receiver_named(parted, geometry, "floor"), [light_scene(parted, geometry, None)], parted.setup[Bake])
        == []
    )
    raw = bake(parted, everything=True).raws["floor", None]
    assert np.unique(raw.mean[raw.covered][:, 0].round(3)) == pytest.approx([0.05, 1.0])


def test_a_texel_far_from_anything_is_healthy():
    build = under_a_partition(64, samples=256)
    for x in (10, 25, 36, 60):
        assert explain(build, "floor", (x, 62)).healthy


def floor_with(*more, lightmap=UNIT_PAGE, **bake_settings):
    floor = panel("floor", (0, 0, 4), (4, 0, 0), (0, 0, -4), matt("f", 0.4), lightmap)
    settings = {"resolution": 32, "samples": 64, "bounces": 0, **bake_settings}
    return build_of(floor, *more, setup={**baked_setup([floor], **settings), **SUN})


def test_a_hidden_face_is_named():
    plinth = Thing("plinth", Shape().box((1.06, 0, 1.06), (2.56, 0.5, 2.56)), matt("p", 0.4))
    build = floor_with(plinth, hidden="keep")
    found = explain(build, "floor", (20, 14))
    assert found.effects[0].code == "bake.hidden-faces" and not found.healthy


def test_overlap_is_named_with_the_surface_that_also_writes():
    low = panel("floor", (0, 0, 4), (4, 0, 0), (0, 0, -4), matt("f", 0.4), UNIT_PAGE)
    shape = Shape().quad((0, 0, 4), (4, 0, 0), (0, 0, -4)).quad((10, 0, 4), (4, 0, 0), (0, 0.0001, -4))
    dark = Thing("roof", Shape().box((9, 3, -1), (15, 3.2, 5)), matt("r", 0.4))
    thing = Thing("floor", shape, low.material, lightmap=np.concatenate([UNIT_PAGE, UNIT_PAGE]))
    build = build_of(thing, dark, setup={**baked_setup([thing], resolution=16, samples=64, bounces=0), **SUN})
    found = explain(build, "floor", (8, 8))
    assert found.effects[0].code == "uv.overlap" and found.effects[0].facts["share"] == pytest.approx(0.5, abs=0.1)


def test_a_chart_folded_onto_itself_is_overlap_too():
    # One chart in which the second half lies over the first: a folded sheet, half of it under a roof.
    shape = Shape().quad((0, 0, 4), (4, 0, 0), (0, 0, -4)).quad((4, 0, 4), (4, 0, 0), (0, 0, -4))
    page = np.concatenate([UNIT_PAGE, UNIT_PAGE[[1, 0, 3, 2]]])
    roof = Thing("roof", Shape().box((3.999, 3, -1), (9, 3.2, 5)), matt("r", 0.4))
    thing = Thing("floor", shape, matt("f", 0.4), lightmap=page)
    sun = {"lights": {"sun": {"kind": "sun", "towards": [0, 1, 0], "illuminance_lux": 100.0}}}
    build = build_of(thing, roof, setup={**baked_setup([thing], resolution=16, samples=64, bounces=0), **sun})
    found = explain(build, "floor", (5, 8))
    assert found.effects[0].code == "uv.overlap" and abs(found.effects[0].effect) == pytest.approx(50, rel=0.15)
    assert found.effects[0].facts["share"] == pytest.approx(0.5, abs=0.1)


def test_a_texel_outside_every_focus_region_is_named():
    box = Thing("box", Shape().box((-1, 0, -1), (-0.5, 2, 5)), matt("w", 0.9))
    build = floor_with(box, bounces=2)
    region = {"far": {"low_m": [50, 0, 0], "high_m": [60, 5, 5]}}
    from eddyfall.core.intake import finish_build
    from eddyfall.core.scene.setup import parse_setup

    raw = {**build.raw_setup, "focus_regions": region}
    outside = finish_build(build.scene, parse_setup(raw), raw, [])
    found = explain(outside, "floor", (0, 16))
    assert found.effects[0].code == "bake.uncovered" and found.effects[0].effect < 0 and not found.healthy
    assert "bake.uncovered" not in [e.code for e in explain(build, "floor", (0, 16)).effects]


def test_too_few_samples_are_named_and_more_put_it_right():
    # Light through a small hole in a lid: most of four samples miss it.
    lid = Shape()
    for corner, along, up in (((-1, 1, -1), (6, 0, 0), (0, 0, 2.6)), ((-1, 1, 2.4), (6, 0, 0), (0, 0, 2.6))):
        lid.quad(corner, along, up)
    lid.quad((-1, 1, 1.6), (2.6, 0, 0), (0, 0, 0.8)).quad((2.4, 1, 1.6), (2.6, 0, 0), (0, 0, 0.8))
    sky = {"sky": {"zenith_rgb": [1000] * 3, "horizon_rgb": [1000] * 3, "ground_rgb": [0] * 3}}
    floor = panel("floor", (0, 0, 4), (4, 0, 0), (0, 0, -4), matt("f", 0.0), UNIT_PAGE)
    cover = Thing("lid", lid, Material("lid", base_rgba=(0, 0, 0, 1), metallic=0.0, double_sided=True, ior=1.0))
    build = build_of(floor, cover, setup={**baked_setup([floor], resolution=16, samples=4, bounces=0), **sky})
    codes = [explain(build, "floor", (x, 8)) for x in (5, 7, 9)]
    assert {e.effects[0].code for e in codes} == {"noise.samples"}
    assert all(abs(e.effects[0].without - e.reference) < abs(e.value - e.reference) for e in codes)


def test_steps_of_a_skewed_chart_are_told_in_texels():
    turn = np.radians(7)
    page = (UNIT_PAGE - 0.5) @ np.array([[np.cos(turn), np.sin(turn)], [-np.sin(turn), np.cos(turn)]]) * 0.6 + 0.5
    shade = Thing("shade", Shape().box((2.0, 1.0, -9), (9, 1.1, 9)), matt("s", 0.0))
    floor = panel("floor", (0, 0, 4), (4, 0, 0), (0, 0, -4), matt("f", 0.4), page)
    sun = {"lights": {"sun": {"kind": "sun", "towards": [0, 1, 0], "illuminance_lux": 100.0}}}
    build = build_of(floor, shade, setup={**baked_setup([floor], resolution=64, samples=256, bounces=0), **sun})
    # Texels along the shadow's edge, which runs along the chart: turned onto the chart's grid, each takes another share of it.
    named = []
    for texel in ((33, 18), (33, 20), (32, 24), (32, 31)):
        found = explain(build, "floor", texel)
        if found.effects[0].code == "uv.off-grid" and not found.healthy:
            named.append(found.effects[0])
    assert len(named) > 1, "no texels of a skewed shadow edge blame the skew"
    # The worked case of faults in a finished bake: a step each 1 / tan 7 deg = 8.1 texels.
    assert named[0].facts["step_texels"] == pytest.approx(8.14, abs=0.01) and abs(named[0].facts["skew_deg"]) == pytest.approx(7)


def test_a_denoiser_across_gaps_is_named():
    page = UNIT_PAGE * 0.5 + 0.25
    build = floor_with(lightmap=page, denoise="across_gaps")
    found = explain(build, "floor", (8, 16))
    assert found.effects[0].code == "bake.denoise-lines" and not found.healthy
    assert explain(build, "floor", (16, 16)).healthy


def test_a_stale_texel_is_named():
    baked = bake(floor_with()).build
    dimmed = baked.with_setup(
        baked.setup.model_copy(update={"lights": {"sun": baked.setup.lights["sun"].model_copy(update={"illuminance_lux": 40.0})}})
    )
    found = explain(dimmed, "floor", (16, 16))
    assert found.effects[0].code == "bake.stale" and found.effects[0].effect == pytest.approx(found.value * 0.6, rel=0.02)


def test_bit_depth_is_named_and_counted():
    # The worked case of faults in a finished bake: .002 to .010 over 512 texels: 8-bit sRGB codes 6.59 to 25.46, 18.87 steps,
    # bands of 27.1 texels; 524 steps in 16 bits.
    ramp = np.repeat(np.linspace(0.002, 0.010, 512)[None, :, None], 8, axis=0).repeat(3, axis=2)
    low, high = exact_codes(np.array([0.002, 0.010]), "srgb8", 1.0)
    assert (low, high, high - low) == (
        pytest.approx(6.59, abs=0.005),
        pytest.approx(25.46, abs=0.005),
        pytest.approx(18.87, abs=0.01),
    )
    assert 512 / (high - low) == pytest.approx(27.1, abs=0.05)
    assert np.diff(exact_codes(np.array([0.002, 0.010]), "linear16", 1.0))[0] == pytest.approx(524, abs=0.5)
    covered = np.ones((8, 512), bool)
    assert measure_bands(ramp, covered, "srgb8", 1.0).width_texels == pytest.approx(27.1, abs=6)
    assert measure_bands(ramp, covered, "linear16", 1.0).width_texels <= 1.0
    assert measure_bands(ramp, covered, "srgb8", 1.0, dither=True).width_texels <= 2.0
    dithered = stored(ramp, "srgb8", 1.0, dither=True)
    assert np.abs(exact_codes(dithered, "srgb8", 1.0) - exact_codes(ramp, "srgb8", 1.0)).max() <= 1.0 + 1e-6


def test_a_texel_between_two_codes_blames_the_bit_depth():
    build = floor_with(encoding="srgb8", range_lux=1e6)
    settings = build.setup[Bake]
    fresh = bake(build).raws["floor", None].mean
    held = attach(build, "floor", None, fresh, np.zeros((32, 32), np.int32), BakedMap(image="x"), settings)
    assert explain(held, "floor", (16, 16)).effects[0].code == "bake.banding"


def test_bad_questions_get_one_clear_answer():
    build = floor_with()
    with pytest.raises(RequestError, match="does not lie in"):
        explain(build, "floor", (40, 2))
    with pytest.raises(RequestError, match="no lightmapped asset"):
        explain(build, "cellar", (1, 1))


def test_a_texel_on_the_edge_of_a_shadow_is_healthy():
    # A texel holds the mean over its surface: half in the light is half the light, and nothing is wrong with that.
    shade = Thing("shade", Shape().box((2.06, 1.0, -9), (9, 1.1, 9)), matt("s", 0.0))
    sun = {"lights": {"sun": {"kind": "sun", "towards": [0, 1, 0], "illuminance_lux": 100.0}}}
    floor = panel("floor", (0, 0, 4), (4, 0, 0), (0, 0, -4), matt("f", 0.4), UNIT_PAGE)
    build = build_of(floor, shade, setup={**baked_setup([floor], resolution=32, samples=64, bounces=0), **sun})
    found = explain(build, "floor", (16, 16))
    # Texels of 125 mm: the shadow begins 60 mm into this one.
    assert found.reference == pytest.approx(100 * 0.06 / 0.125, abs=2)
    assert found.value == pytest.approx(found.reference, abs=3)
    assert found.healthy, [(e.code, e.effect) for e in found.effects[:3]]


def test_the_reach_of_a_leak_goes_by_the_texel_along_it():
    # A floor 6.4 x .4 m on a whole page of 64: texels of 100 x 6.25 mm. Past the wall at 3.03 m the mixed texel ends 70 mm on, and a
    # bilinear look-up reaches half a texel further along: 50 mm, not half of the root of the texel's area (12.5 mm).
    floor = panel("floor", (0, 0, 0.4), (6.4, 0, 0), (0, 0, -0.4), matt("floor", 0.0), UNIT_PAGE)
    base = under_a_partition(64, samples=256)
    shapes = [Thing(n.name, _shape_of(base.scene.meshes[n.mesh]), base.scene.materials[base.scene.meshes[n.mesh].primitives[0].material])
              for n in base.scene.nodes if n.mesh is not None and n.name != "floor"]  # fmt: skip
    build = build_of(floor, *shapes, setup={**base.raw_setup, "meshes": {"floor": {"lightmap_uv": 1}}})
    geometry = pack(build.scene, build.setup)
    leak = find_leaks(
        geometry, receiver_named(build, geometry, "floor"), [light_scene(build, geometry, None)], build.setup[Bake]
    )[0]
    assert leak.reach_nearest_mm == pytest.approx(70, abs=1)
    assert leak.reach_linear_mm == pytest.approx(120, abs=1)


def _shape_of(mesh):
    shape, part = Shape(), mesh.primitives[0]
    return shape.add(part.positions, part.attributes["NORMAL"], part.attributes["TEXCOORD_0"], part.indices)
