"""Clear coats (KHR_materials_clearcoat): by formula, as drawn, followed by paths, drilled, mirrored, read and written."""

from dataclasses import replace

import numpy as np
import pytest

from eddyfall.core.frame.core_sample import core_sample
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.hashing import freeze
from eddyfall.core.intake.undrawn import undrawn_in
from eddyfall.core.materials.roles import value_of, with_value
from eddyfall.core.passes.contract import View
from eddyfall.core.scene.gltf_write import write_glb
from eddyfall.core.scene.model import Image, Material, TextureUse
from eddyfall.core.scene.read.gltf import read_scene
from eddyfall.core.shade.brdf import reflected
from eddyfall.core.shade.clear_coat import coat_share, make_coats, share_plain
from eddyfall.core.shade.coat import specular_split
from eddyfall.core.truth.reference.account import differences, parts_of
from eddyfall.core.truth.reference.of_frame import Wanted, reference_of
from eddyfall.core.truth.reference.trace import Asked
from eddyfall.demo.shapes import Shape
from layer_scenes import EXACT
from scenes import Thing, build_of

FRONT = {"eye": {"eye": [0, 0, 2], "target": [0, 0, 0], "fov_y_deg": 50}}
ASIDE = {"eye": {"eye": [3.5, 0, 1.2], "target": [0, 0, 0], "fov_y_deg": 30}}
SIZE = (64, 36)
SUN = np.array([-0.5, 0.3, 1.0]) / np.linalg.norm([-0.5, 0.3, 1.0])
LUX = 100.0
RED = {"base_rgba": (0.8, 0.1, 0.05, 1.0), "metallic": 0.2, "roughness": 0.6}


def card(views=FRONT, images=(), more=(), setup=(), **material):
    """A card of 4 x 4 m about the origin under a sun."""
    shape = Shape().quad((-2, -2, 0), (4, 0, 0), (0, 4, 0))
    sun = {"lights": {"sun": {"kind": "sun", "illuminance_lux": LUX, "towards": SUN.tolist(), "casts": False}}}
    return build_of(
        Thing("card", shape, Material("paint", **material)),
        *more,
        images=images,
        setup=EXACT | {"viewpoints": views} | sun | dict(setup),
    )


def noise(seed, edge=8):
    pixels = np.random.default_rng(seed).integers(60, 256, (edge, edge, 4), np.uint8)
    pixels[..., 3] = 255
    return Image(f"n{seed}", freeze(pixels))


def waves(edge=8):
    """A normal map that leans a few degrees here and there."""
    pixels = np.full((edge, edge, 4), 255, np.uint8)
    pixels[..., :2] = np.random.default_rng(5).integers(118, 138, (edge, edge, 2))
    return Image("waves", freeze(pixels))


def ggx_lobe(n_dot_h, n_dot_v, n_dot_l, roughness):
    """D V of the extension's clearcoat_brdf: GGX and height-correlated Smith (glTF 2.0, appendix B.3)."""
    a2 = roughness**4
    d = a2 / (np.pi * (n_dot_h**2 * (a2 - 1) + 1) ** 2)
    root = n_dot_l * np.sqrt(n_dot_v**2 * (1 - a2) + a2) + n_dot_v * np.sqrt(n_dot_l**2 * (1 - a2) + a2)
    return d * 0.5 / root


@pytest.mark.parametrize("views", [FRONT, ASIDE])
def test_a_lit_card_is_what_the_extension_says(views):
    """base (1 - s) + coat s, s = clearcoat (0.04 + 0.96 (1 - n.v)^5) at an index of refraction of 1.5 (KHR_materials_clearcoat)."""
    build = card(views, **RED, clearcoat=0.7, clearcoat_roughness=0.35)
    frame = Renderer().frame(build, Request("eye", SIZE))
    view, normal = View(frame.camera, frame.pixels), np.array([0, 0, 1.0])
    albedo, f0 = np.array(RED["base_rgba"][:3]) * 0.8, 0.04 * 0.8 + np.array(RED["base_rgba"][:3]) * 0.2
    for x, y in ((28, 14), (32, 18), (37, 23)):
        d = view.rays.d0 + (x + 0.5) * view.rays.du + (y + 0.5) * view.rays.dv
        to_eye = -d / np.linalg.norm(d)
        half = (to_eye + SUN) / np.linalg.norm(to_eye + SUN)
        share = 0.7 * (0.04 + 0.96 * (1 - to_eye[2]) ** 5)
        base = reflected(albedo, f0, 0.6, normal, to_eye, SUN)
        coat = ggx_lobe(half[2], to_eye[2], SUN[2], 0.35) * SUN[2]
        np.testing.assert_allclose(frame.linear[y, x], LUX * (base * (1 - share) + coat * share), rtol=2e-4)


def test_strength_nought_and_unlit_change_nothing():
    plain = Renderer().frame(card(**RED), Request("eye", SIZE)).linear
    for more in ({"clearcoat": 0.0, "clearcoat_roughness": 0.9}, {"clearcoat_texture": None}):
        np.testing.assert_array_equal(Renderer().frame(card(**RED, **more), Request("eye", SIZE)).linear, plain)
    unlit = card(**RED, unlit=True, clearcoat=1.0)
    np.testing.assert_allclose(Renderer().frame(unlit, Request("eye", SIZE)).linear[18, 32], RED["base_rgba"][:3], rtol=1e-6)


def test_kernel_and_plain_twin_share_alike():
    rng = np.random.default_rng(1)
    strength, cosine = rng.random(50), rng.uniform(-1, 1, 50)
    np.testing.assert_allclose([coat_share(s, c) for s, c in zip(strength, cosine)], share_plain(strength, cosine), rtol=1e-12)
    assert share_plain(np.ones(2), np.array([1.0, 0.0])).tolist() == pytest.approx([0.04, 1.0])


PICTURED = {
    "clearcoat_texture": TextureUse(0), "clearcoat_roughness_texture": TextureUse(1),
    "clearcoat_normal_texture": TextureUse(2), "clearcoat_normal_scale": 0.8, "normal_texture": TextureUse(2, turn=(2, 0, 0, 0, 2, 0)),
}  # fmt: skip


def pictured(views=ASIDE, **setup):
    return card(views, (noise(1), noise(2), waves()), **RED, clearcoat=0.9, clearcoat_roughness=0.5, **PICTURED, setup=setup)


@pytest.mark.parametrize("sky", [{"ambient": False}, {"ambient": True}])
def test_a_core_sample_adds_up_and_names_the_coats_pictures(sky):
    """Pictures of strength (red), roughness (green) and normals; base normal map apart from the coat's."""
    build, request, renderer = pictured(sky=sky), Request("eye", SIZE), Renderer()
    frame = renderer.frame(build, request)
    for x, y in ((27, 13), (33, 20), (37, 23)):
        drilled = core_sample(renderer, build, request, x, y)
        np.testing.assert_allclose(drilled.sum, frame.linear[y, x], rtol=1e-4)
        facts = next(layer.facts for layer in drilled.layers if "textures" in layer.facts)
        assert {"clear coat", "clear coat roughness", "clear coat normal"} <= {t["role"] for t in facts["textures"]}
        assert 0 < facts["clear_coat"]["share"] < 0.9


def test_paths_bring_what_is_drawn():
    """Of a lamp alone, pixel by pixel: the reference asks the lamp at the coat and below."""
    build, renderer = pictured(), Renderer()
    drawn = renderer.frame(build, Request("eye", SIZE)).linear.reshape(-1, 3)
    paths = reference_of(renderer, build, Wanted(request=Request("eye", SIZE), samples=2, asked=Asked(bounces=0))).tally.radiance
    np.testing.assert_allclose(paths, drawn, rtol=2e-3, atol=1e-3)


def test_even_light_by_tables_and_by_paths():
    """Under an even sky of 1 nit a black card gives s (A + B): as drawn by tables, as paths find it, as the integral has it."""
    even = {"ambient": True, "zenith_rgb": [1, 1, 1], "horizon_rgb": [1, 1, 1], "ground_rgb": [1, 1, 1]}
    build = card(
        ASIDE,
        base_rgba=(0, 0, 0, 1),
        metallic=0.0,
        ior=1.0,
        clearcoat=1.0,
        clearcoat_roughness=0.4,
        setup={"sky": even, "lights": {}},
    )
    renderer, request = Renderer(), Request("eye", SIZE, (32, 18, 33, 19))
    frame = renderer.frame(build, request)
    rays = View(frame.camera, frame.pixels)
    d = rays.rays.d0 + 32.5 * rays.rays.du + 18.5 * rays.rays.dv
    cosine = float(-d[2] / np.linalg.norm(d))
    share = float(share_plain(np.ones(1), np.array([cosine]))[0])
    due = share * specular_split(np.array(cosine), np.array(0.4), 4096).sum()
    assert frame.linear.mean() == pytest.approx(due, rel=0.02)
    paths = reference_of(renderer, build, Wanted(request=request, samples=4096)).tally.radiance
    assert paths.mean() == pytest.approx(due, rel=0.03)


def test_what_shines_is_dimmed_by_its_coat():
    glowing = card(base_rgba=(0, 0, 0, 1), metallic=0.0, ior=1.0, emissive=(10, 10, 10), clearcoat=1.0, setup={"lights": {}})
    renderer = Renderer()
    frame = renderer.frame(glowing, Request("eye", SIZE))
    assert frame.linear[18, 32, 0] == pytest.approx(10 * 0.96, rel=1e-3)
    paths = reference_of(renderer, glowing, Wanted(request=Request("eye", SIZE), samples=2)).tally.radiance
    np.testing.assert_allclose(paths, frame.linear.reshape(-1, 3), rtol=1e-3)


@pytest.mark.parametrize("way", ["reflect", "mirror"])
def test_a_polished_coat_mirrors_what_stands_before_it(way):
    """A black floor under a smooth coat shows a shining wall by the coat's share of it: from the frame, by a mirror's own picture, and by
    paths."""
    floor = Shape().quad((-4, 0, 4), (8, 0, 0), (0, 0, -8))
    wall = Shape().quad((-4, 0, -4), (8, 0, 0), (0, 3, 0))
    views = {"eye": {"eye": [0, 1.0, 3.0], "target": [0, 0.3, -4], "fov_y_deg": 50}}
    on = (
        {"reflect": {"enabled": True, "divisor": 1, "rays": 4}} if way == "reflect" else {"mirrors": {"floor": {"node": "floor"}}}
    )
    build = build_of(
        Thing("floor", floor, Material("varnish", base_rgba=(0, 0, 0, 1), metallic=0.0, ior=1.0, clearcoat=1.0)),
        Thing("wall", wall, Material("glow", (0, 0, 0, 1), emissive=(50.0, 50.0, 50.0), metallic=0.0, ior=1.0)),
        setup=EXACT | {"viewpoints": views} | on,
    )  # fmt: skip
    renderer, request = Renderer(), Request("eye", (96, 54), (40, 34, 56, 44))
    drawn = renderer.frame(build, request).linear
    paths = reference_of(renderer, build, Wanted(request=request, samples=32)).tally.radiance
    assert drawn.mean() == pytest.approx(paths.mean(), rel=0.05)
    assert drawn.mean() > 2


def test_an_account_tells_a_coats_light_from_what_is_wrong():
    """Rows of what the stand-in and the reference make of a coated card under a lamp: all of them nothing."""
    renderer, request = Renderer(), Request("eye", SIZE)
    build = card(ASIDE, **RED, emissive=(2.0, 1.0, 1.0), clearcoat=0.9, clearcoat_roughness=0.4)
    frame = renderer.frame(build, request, "linear")
    reference = reference_of(renderer, build, Wanted(request=request, samples=8))
    parts = parts_of(frame, reference.tally.pixels)
    total = parts.lights.sum(axis=0) + parts.emission + parts.even + parts.mirrored
    np.testing.assert_allclose(total, frame.buffers["with_sky"].reshape(-1, 3), rtol=1e-4, atol=1e-4)
    rows = differences(parts, reference.tally)
    assert max(np.abs(row).max() for row in rows.values()) < 0.02 * frame.linear.max()


def test_paths_that_meet_a_coat_see_it_as_the_eye_does():
    """A card in a perfect mirror, against the card seen from the mirrored eye: coats are met by paths, too."""
    mirror = Thing(
        "mirror", Shape().quad((2, -2, 4), (-4, 0, 0), (0, 4, 0)), Material("silver", (1, 1, 1, 1), metallic=1.0, roughness=0.0)
    )
    views = {
        "eye": {"eye": [0, 0.2, 2], "target": [0, 0.2, 4], "fov_y_deg": 12},
        "there": {"eye": [0, 0.2, 6], "target": [0, 0.2, 0], "fov_y_deg": 12},
    }
    paint = RED | {"clearcoat": 1.0, "clearcoat_roughness": 0.5}
    renderer, size = Renderer(), (8, 8)
    seen = reference_of(
        renderer, card(views, more=(mirror,), **paint), Wanted(request=Request("eye", size), samples=64, asked=Asked(bounces=1))
    )
    due = renderer.frame(card(views, **paint), Request("there", size)).linear
    assert seen.tally.radiance.mean(axis=0) == pytest.approx(due.mean(axis=(0, 1)), rel=0.01)


def test_it_is_read_written_and_no_longer_named_as_undrawn(tmp_path):
    build = pictured()
    path = tmp_path / "coat.glb"
    path.write_bytes(write_glb(build.scene))
    scene = read_scene(path)
    (back,) = scene.materials
    (sent,) = build.scene.materials
    assert (back.clearcoat, back.clearcoat_roughness, back.clearcoat_normal_scale) == pytest.approx((0.9, 0.5, 0.8))
    assert {k for k, use in back.every_use.items() if use} == {k for k, use in sent.every_use.items() if use}
    assert undrawn_in(scene) == {} and scene.notes == ()
    again = tmp_path / "again.glb"
    again.write_bytes(write_glb(replace(scene, materials=(with_value(back, "clearcoat", 0.25),)), scene))
    assert (
        read_scene(again).materials[0].clearcoat == 0.25
        and value_of(read_scene(again).materials[0], "clearcoat_roughness") == 0.5
    )


def test_a_scene_without_coats_makes_none():
    assert make_coats((Material("m"), Material("u", unlit=True, clearcoat=1.0)), (), True, 0.0, 1).surfaces is None
