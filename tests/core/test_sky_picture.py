"""A sky picture as background and light: what level ground gets of it, its sun as a light with shadows, files with skies in them."""

import json
import math
import zipfile
from dataclasses import replace

import numpy as np
import pytest

from bake_scenes import UNIT_PAGE, baked_setup, matt, panel
from eddyfall.core.bake.maps.run import bake
from eddyfall.core.defects.shadow_sky_sun import CODE, FAMILY
from eddyfall.core.defects.survey import Survey
from eddyfall.core.errors import ChangeError
from eddyfall.core.frame.core_sample import core_sample
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.handover.documents.facts import IntakeDocument
from eddyfall.core.handover.package import write_package
from eddyfall.core.hashing import digest, freeze
from eddyfall.core.intake import finish_build, open_build
from eddyfall.core.scene.changes import Change, Operation, apply_change
from eddyfall.core.scene.gltf_write import write_glb
from eddyfall.core.scene.model import Material, SkyPicture
from eddyfall.core.scene.setup import parse_setup
from eddyfall.core.scene.setup.sections.sky import Sky, SkyColours
from eddyfall.core.scene.sky_pictures import sky_bytes
from eddyfall.core.shade.sky import SkyLight, picture_plain
from eddyfall.core.shade.sky_maps import AROUND, directions_of, make_sky_maps
from eddyfall.core.sweep import sweep
from eddyfall.core.truth.sky_sun import level_lux
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of, glb_bytes, merged
from skies import SKY_LUX, SUN_LUX, TOWARDS, made

MATTE = Material("matte", base_rgba=(0.5, 0.5, 0.5, 1.0), metallic=0.0, roughness=1.0, ior=1.0)
SIZE = (320, 180)
COURT = {
    "viewpoints": {"gate": {"eye": [14, 9, 16], "target": [0, 0, -2], "fov_y_deg": 50}},
    "sky": {"picture": "noon.exr"},
    "exposure": {"mode": "fixed", "ev100": 14},
    "shadow": {"reach_m": 80.0},
}
PICTURE = SkyPicture("noon.exr", freeze(made(256, fine=16)))


def court(setup=None, picture=PICTURE):
    """Level ground with a stack of 4 m on it, under a sky picture and nothing else."""
    ground = Thing("ground", Shape().quad((-20, 0, 20), (40, 0, 0), (0, 0, -40)), MATTE)
    stack = Thing("stack", Shape().box((-0.5, 0, -0.5), (0.5, 4, 0.5)), MATTE)
    raw = merged(merged({"eddyfall_setup": 1}, COURT), setup or {})
    scene = replace(build_of(ground, stack).scene, skies=(picture,))
    return finish_build(scene, parse_setup(raw), raw, [])


def lux_at(build, place):
    """Illuminance of level ground as it is drawn: pi x radiance / reflectance."""
    f = Renderer().frame(build, Request("gate", (640, 360)))
    at = pixel_of(f, place)
    return float(np.median(f.linear[at[1] - 1 : at[1] + 2, at[0] - 1 : at[0] + 2])) * math.pi / 0.5


def pixel_of(frame, place):
    from eddyfall.core.passes.contract import View

    rays = View(frame.camera, frame.pixels).rays
    away = np.asarray(place, float) - rays.eye
    x, y, _ = (
        np.linalg.solve(np.stack([rays.du, rays.dv, rays.d0], axis=1), away)
        / np.linalg.solve(np.stack([rays.du, rays.dv, rays.d0], axis=1), away)[2]
    )
    return int(x), int(y)


OPEN = (6.0, 0.0, 6.0)
SHADE = tuple(np.array([0, 0, 0]) - 2.0 * TOWARDS / TOWARDS[1] * [1, 0, 1])  # on the ground, behind a place 2 m up the stack


def suspicions(build, **more):
    return FAMILY.inspect(Survey(build, Renderer(), size=SIZE, **more))


def taken_out(build, light="sky_sun"):
    operation = Operation(name="sky.take_sun_out", params={"picture": "noon.exr"} | ({"light": light} if light else {}))
    return apply_change(build, Change(id="out", scope="project", operation=operation))


def test_level_ground_gets_what_the_picture_gives_shadowed_or_not():
    """By hand: 37 374 lx of the disc and 14 661 of the sky: the ground gets 52 035, and behind the stack just as much."""
    build = court()
    assert lux_at(build, OPEN) == pytest.approx(SUN_LUX + SKY_LUX, rel=0.006)
    assert lux_at(build, SHADE) == pytest.approx(SUN_LUX + SKY_LUX, rel=0.006)


def test_with_its_sun_as_a_light_what_is_open_keeps_its_light_and_shade_is_1_83_stops_below():
    build = taken_out(court())
    light, shade = lux_at(build, OPEN), lux_at(build, SHADE)
    assert light == pytest.approx(SUN_LUX + SKY_LUX, rel=0.01) and shade == pytest.approx(SKY_LUX, rel=0.01)
    assert math.log2(shade / light) == pytest.approx(-1.83, abs=0.02)


def test_a_light_beside_a_picture_that_keeps_its_sun_is_0_78_stops_too_bright():
    lights = {"noon": {"kind": "sun", "towards": TOWARDS.tolist(), "illuminance_lux": 68_000.0}}
    both = court({"lights": lights})
    assert math.log2(lux_at(both, OPEN) / (SUN_LUX + SKY_LUX)) == pytest.approx(0.78, abs=0.01)
    (s,) = suspicions(both)
    assert s.value == pytest.approx(SUN_LUX / (2 * SUN_LUX + SKY_LUX), abs=0.005)
    assert any(e.unit == "stops" and e.value == pytest.approx(0.78, abs=0.02) and "noon" in e.measure for e in s.evidence)
    (candidate,) = s.candidates
    repaired = apply_change(both, candidate.change)
    assert list(repaired.setup.lights) == ["noon"] and not suspicions(repaired)
    assert lux_at(repaired, SHADE) == pytest.approx(SKY_LUX, rel=0.01)
    weak = court({"lights": {"noon": {**lights["noon"], "illuminance_lux": 30_000.0}}})
    assert "gives 30,000 lx, the picture's sun gave 67," in suspicions(weak)[0].candidates[0].warnings[0]


def test_the_finding_names_share_direction_and_where_shade_is_due_and_its_remedy_cures():
    result = sweep(court(), size=SIZE)
    (found,) = [f for f in result.findings if f.code == CODE]
    assert found.suspicion.cause == "noon.exr" and found.suspicion.value == pytest.approx(0.718, abs=0.004)
    values = {e.measure: e.value for e in found.suspicion.evidence}
    assert values["its elevation"] == pytest.approx(math.degrees(math.asin(TOWARDS[1])), abs=0.1)
    assert values["its azimuth, from -Z to +X"] == pytest.approx(math.degrees(math.atan2(TOWARDS[0], -TOWARDS[2])) % 360, abs=0.1)
    assert values["its shade is drawn too bright by"] == pytest.approx(1.83, abs=0.02)
    assert found.suspicion.pixels["gate"] > 150 and "ground" in found.suspicion.subjects
    (remedy,) = found.remedies
    assert remedy.verdict == "cures" and found.impact.kind == "measured" and found.impact.share > 0.002
    assert {c.name: c.value for c in remedy.costs}["memory"] == 4 * 2048**2 * 4


@pytest.mark.parametrize("picture", [made(256, lux=0.0), made(256, lux=400.0)])
def test_a_sky_without_a_sun_is_no_finding(picture):
    assert suspicions(court(picture=SkyPicture("noon.exr", freeze(picture)))) == []


def test_without_its_light_or_without_the_picture_there_is_no_finding():
    assert suspicions(court({"sky": {"ambient": False}})) == []
    assert suspicions(court({"sky": {"picture": ""}})) == []
    assert suspicions(taken_out(court())) == []


def test_a_sun_that_is_cut_off_is_a_lower_bound_and_says_so():
    cut = SkyPicture("noon.exr", freeze(np.clip(made(64, fine=64), 0, 2e6)))
    (s,) = suspicions(court(picture=cut))
    assert s.facts["verdict"] == "clipped" and s.evidence[0].at_least and s.evidence[1].at_least
    assert "is the least that it gave" in s.candidates[0].warnings[0]


def test_the_yaw_turns_picture_light_and_remedy_together():
    build = court({"sky": {"picture": "noon.exr", "yaw_deg": 90.0}})
    turned = TOWARDS[2], TOWARDS[1], -TOWARDS[0]  # a quarter to the left seen from above: +Z goes to +X
    assert taken_out(build).setup.lights["sky_sun"].towards == pytest.approx(turned, abs=1e-3)
    assert lux_at(build, OPEN) == pytest.approx(SUN_LUX + SKY_LUX, rel=0.006)
    view = {"viewpoints": {"gate": {"eye": [0, 1, 9], "target": (np.array([0, 1, 9]) + turned).tolist(), "fov_y_deg": 20}}}
    frame = Renderer().frame(court(merged(view, {"sky": {"picture": "noon.exr", "yaw_deg": 90.0}})), Request("gate", SIZE))
    y, x = np.unravel_index(frame.linear[..., 0].argmax(), frame.linear.shape[:2])
    assert abs(x - SIZE[0] / 2) < 6 and abs(y - SIZE[1] / 2) < 6 and frame.linear.max() > 1e6


def test_the_twin_of_a_pixel_and_a_crop_are_the_frame():
    build, renderer = court(), Renderer()
    whole = renderer.frame(build, Request("gate", SIZE)).linear
    part = renderer.frame(build, Request("gate", SIZE, (100, 10, 180, 90))).linear
    assert np.abs(part - whole[10:90, 100:180]).max() <= 1e-6 * whole.max()
    for x, y in ((20, 3), (160, 88), (300, 170)):
        told = core_sample(renderer, build, Request("gate", SIZE), x, y)
        assert np.allclose(told.linear, whole[y, x], rtol=1e-4)


def test_even_light_is_the_sum_over_the_picture_for_every_direction():
    # Lambert's cosine law, summed pixel by pixel: what the moments of larger cells give may differ only at the horizon.
    picture = made(128, fine=32).astype(float) * [1.0, 0.8, 0.6]
    maps = make_sky_maps(picture, 2.0, 0.0)
    solid = np.repeat((2 * np.pi / 256 * -np.diff(np.sin(np.pi / 2 - np.arange(129) / 128 * np.pi)))[:, None], 256, axis=1)
    d = directions_of(128, 256)
    for n, normal in enumerate(directions_of(*AROUND).reshape(-1, 3)):
        if n % 97:
            continue
        exact = (picture * (solid * np.maximum(d @ normal, 0))[..., None]).sum(axis=(0, 1)) * 2.0 / np.pi
        assert maps.around[n] == pytest.approx(exact, rel=0.004, abs=2.0)
    assert level_lux(picture) > 0
    even = make_sky_maps(np.full((64, 128, 3), 1000.0), 1.0, 30.0)
    assert even.around == pytest.approx(1000.0, rel=1e-3) and even.texels == pytest.approx(1000.0)
    light = SkyLight(*np.zeros((3, 3)))._replace(**even._asdict())
    assert picture_plain(np.array([0.0, 0.6, 0.8]), 0.7, light) == pytest.approx(1000.0)


def test_what_is_not_finite_is_drawn_as_the_end_of_half_floats():
    broken = made(64).copy()
    broken[3, 5], broken[4, 6] = np.inf, np.nan
    maps = make_sky_maps(broken, 1.0, 0.0)
    assert np.isfinite(maps.texels).all() and np.isfinite(maps.around).all() and maps.texels[3 * 128 + 5, 0] == 65504


def test_lightmaps_hold_the_picture_and_its_sun_with_a_shadow():
    """Open ground gets 52 035 lx; what a wide board just above it hides from the sun gets the sky's share of 14 661 at most."""
    ground = panel("ground", (-8, 0, 8), (16, 0, 0), (0, 0, -16), matt("g", 0.5), UNIT_PAGE)
    board = Thing("board", Shape().box((-2, 1.5, -2), (2, 1.6, 2)), matt("b", 0.5))
    setup = merged(baked_setup([ground], resolution=16, samples=256, bounces=0), {"sky": {"picture": "noon.exr"}})
    build = build_of(ground, board, setup=setup)
    build = replace(build, scene=replace(build.scene, skies=(PICTURE,)))
    lux = bake(build, everything=True).raws["ground", None].mean[..., 1]
    assert lux[1, 1] == pytest.approx(SUN_LUX + SKY_LUX, rel=0.02)
    shade = lux[lux < SKY_LUX * 1.02]
    assert len(shade) >= 4 and shade.min() > 0.2 * SKY_LUX


def test_lightmaps_of_before_there_were_pictures_stay_fresh():
    assert list(SkyColours.model_fields) == ["zenith_rgb", "horizon_rgb", "ground_rgb", "ambient"]
    assert json.loads(SkyColours().model_dump_json()) == {
        "zenith_rgb": [0.0, 0.0, 0.0], "horizon_rgb": [0.0, 0.0, 0.0], "ground_rgb": [0.0, 0.0, 0.0], "ambient": True,
    }  # fmt: skip
    assert digest(SkyColours()) == digest(SkyColours(**{n: getattr(Sky(), n) for n in SkyColours.model_fields}))


def test_a_sky_goes_with_its_glb_and_out_again(tmp_path):
    build = court()
    (tmp_path / "court.glb").write_bytes(write_glb(build.scene))
    (tmp_path / "court.setup.json").write_text(json.dumps(build.raw_setup))
    again = open_build(tmp_path / "court.glb")
    assert np.array_equal(again.scene.skies[0].radiance, PICTURE.radiance) and again.setup[Sky].picture == "noon.exr"
    told = IntakeDocument.from_core(again)
    assert [(i.name, i.width, i.height, i.roles) for i in told.image_sizes] == [("noon.exr", 512, 256, ["sky"])]
    repaired = taken_out(again)
    paths = write_package(again, repaired, [], tmp_path / "out", "court", [])
    handed = open_build(paths["glb"])
    assert np.array_equal(handed.scene.skies[0].radiance, repaired.scene.skies[0].radiance)
    assert handed.scene.skies[0].radiance.max() < 7000 and handed.setup.lights["sky_sun"].illuminance_lux > 67_000
    assert write_glb(again.scene, again.scene) == (tmp_path / "court.glb").read_bytes()


def test_a_sky_lies_beside_the_scene_or_in_its_zip(tmp_path):
    build = court()
    glb, setup = write_glb(replace(build.scene, skies=())), json.dumps(build.raw_setup)
    (tmp_path / "court.glb").write_bytes(glb)
    (tmp_path / "court.setup.json").write_text(setup)
    missing = open_build(tmp_path / "court.glb")
    assert missing.scene.skies == () and any("'noon.exr' is not there" in note for note in missing.notes)
    (tmp_path / "noon.exr").write_bytes(sky_bytes(PICTURE.radiance)[:-900])
    broken = open_build(tmp_path / "court.glb")
    assert broken.scene.skies == () and any("left out: sky noon.exr" in note for note in broken.notes)
    (tmp_path / "noon.exr").write_bytes(sky_bytes(PICTURE.radiance))
    assert np.array_equal(open_build(tmp_path / "court.glb").scene.skies[0].radiance, PICTURE.radiance)
    with zipfile.ZipFile(tmp_path / "court.zip", "w") as archive:
        archive.writestr("a/court.glb", glb)
        archive.writestr("a/noon.exr", sky_bytes(PICTURE.radiance))
        archive.writestr("a/lie.hdr", b"no picture")
    zipped = open_build(tmp_path / "court.zip", tmp_path / "court.setup.json", look_beside=False)
    assert [s.name for s in zipped.scene.skies] == ["noon.exr"] and any("lie.hdr" in note for note in zipped.notes)
    climbing = json.loads(setup) | {"sky": {"picture": "../noon.exr"}}
    (tmp_path / "sub").mkdir()
    (tmp_path / "sub" / "court.glb").write_bytes(glb)
    (tmp_path / "sub" / "court.setup.json").write_text(json.dumps(climbing))
    assert open_build(tmp_path / "sub" / "court.glb").scene.skies == ()


@pytest.mark.parametrize(
    "skies", [5, [5], [{"name": 5}], [{"uri": 7}], [{"uri": "../x.exr"}], [{"bufferView": 99, "mimeType": "image/x-exr"}], [{}]]
)
def test_extras_that_others_call_skies_leave_the_rest_to_be_read(tmp_path, skies):
    from eddyfall.core.scene.read.gltf import read_scene

    scene = replace(court().scene, skies=())
    data = write_glb(scene)
    length = int.from_bytes(data[12:16], "little")
    document = json.loads(data[20 : 20 + length]) | {"extras": {"skies": skies}}
    (tmp_path / "odd.glb").write_bytes(glb_bytes(document, data[20 + length + 8 :]))
    read = read_scene(tmp_path / "odd.glb")
    assert read.skies == () and len(read.meshes) == 2
    assert isinstance(skies, int) or skies == [5] or any("left out: sky 0" in note for note in read.notes)


def test_a_light_set_that_dims_the_sky_does_not_dim_what_becomes_a_light():
    sets = {"light_sets": {"dusk": {"sky": 0.5}}, "viewpoints": {"gate": {**COURT["viewpoints"]["gate"], "light_set": "dusk"}}}
    (s,) = suspicions(court(sets))
    values = {e.measure: e.value for e in s.evidence}
    assert values["the picture's sun on a face turned to it"] == pytest.approx(34_000, rel=0.01), "as the frame has it"
    (candidate,) = s.candidates
    light = apply_change(court(sets), candidate.change).setup.lights["sky_sun"]
    assert light.illuminance_lux == pytest.approx(68_000, rel=0.01) and "dusk" in candidate.warnings[0]


def test_a_scene_without_settings_is_lit_by_its_own_sky(tmp_path):
    (tmp_path / "court.glb").write_bytes(write_glb(court().scene))
    build = open_build(tmp_path / "court.glb")
    assert build.setup[Sky].picture == "noon.exr" and build.setup.lights == {}
    assert any("the sky picture noon.exr with nothing beside it" in note for note in build.notes)
    assert CODE in {f.code for f in sweep(build, size=SIZE).findings}


def test_what_cannot_be_taken_out_is_one_error():
    build = court()
    for params, words in (
        ({"picture": "dusk.exr"}, "there are: noon.exr"),
        ({"picture": "noon.exr", "light": 3}, "must be a name"),
        ({"picture": "noon.exr", "light": "sky_sun", "yaw_deg": "left"}, "yaw_deg must be a number"),
    ):
        with pytest.raises(ChangeError, match=words):
            apply_change(build, Change(id="x", scope="project", operation=Operation(name="sky.take_sun_out", params=params)))
    with pytest.raises(ChangeError, match="has no sun to take out"):
        taken_out(taken_out(build), light=None)
    with pytest.raises(ChangeError, match="is there already"):
        taken_out(court({"lights": {"sky_sun": {"kind": "sun"}}}))
