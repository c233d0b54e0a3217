"""Colours and tangents of vertices, as drawn, met by paths, cast through, baked, cut and written; F0 by KHR_materials_specular."""

from dataclasses import replace

import numpy as np
import pytest

from eddyfall.core.bake.maps.stamps import colours_of
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.hashing import freeze
from eddyfall.core.passes.contract import View
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.drawables import pack
from eddyfall.core.scene.gltf_write import write_glb
from eddyfall.core.scene.model import Image, Material, TextureUse
from eddyfall.core.scene.read.gltf import read_scene
from eddyfall.core.scene.setup import parse_setup
from eddyfall.core.scene.tangents import turned
from eddyfall.core.shade.surface import material_factors, soup_of, surface_plain, surface_rows
from eddyfall.core.truth.reference.of_frame import Wanted, reference_of
from eddyfall.demo.shapes import Shape
from layer_scenes import EXACT
from scenes import Thing, build_of

FRONT = {"eye": {"eye": [0, 0, 2], "target": [0, 0, 0], "fov_y_deg": 50}}
SIZE = (64, 36)


def card(colours=None, tangents=None, **material):
    """A card of 4 x 4 m about the origin, seen along -z."""
    build = build_of(
        Thing("card", Shape().quad((-2, -2, 0), (4, 0, 0), (0, 4, 0)), Material("m", **({"unlit": True} | material))),
        setup=EXACT | {"viewpoints": FRONT},
    )  # fmt: skip
    part = build.scene.meshes[0].primitives[0]
    more = {k: freeze(np.asarray(v, np.float32)) for k, v in (("COLOR_0", colours), ("TANGENT", tangents)) if v is not None}
    mesh = replace(build.scene.meshes[0], primitives=(replace(part, attributes={**part.attributes, **more}),))
    return replace(build, scene=build.scene.with_mesh(0, mesh))


def across(build, low, high):
    """Colours of its card's corners, from `low` at its left edge to `high` at its right one."""
    x = (build.scene.meshes[0].primitives[0].positions[:, :1] + 2) / 4
    return np.asarray(low) * (1 - x) + np.asarray(high) * x


def test_a_colour_runs_between_corners_and_multiplies_the_materials_own():
    """glTF 2.0, 3.9.2: COLOR_0 is a linear multiplier of the base colour."""
    low, high = (0.2, 0.4, 0.8), (1.0, 0.6, 0.1)
    build = card(across(card(), low, high), base_rgba=(0.5, 0.5, 1.0, 1.0))
    linear = Renderer().frame(build, Request("eye", SIZE)).linear
    half = np.tan(np.radians(25)) * 2 * SIZE[0] / SIZE[1]
    x = ((np.arange(SIZE[0]) + 0.5) / SIZE[0] * 2 - 1) * half
    share = ((x + 2) / 4)[:, None]
    due = (np.array(low) * (1 - share) + np.array(high) * share) * [0.5, 0.5, 1.0]
    assert np.abs(linear - due[None]).max() < 1e-5


def test_alpha_of_corners_blends():
    clear = card(across(card(), (1, 1, 1, 0.0), (1, 1, 1, 1.0)), alpha_mode="BLEND", base_rgba=(1, 1, 1, 1))
    linear = Renderer().frame(clear, Request("eye", SIZE)).linear[18, :, 0]
    assert (np.diff(linear) > 0).all()
    assert linear[32] == pytest.approx(0.5, abs=0.02)


def test_paths_meet_the_same_colours():
    """Stand-in and reference agree on an unlit card of many colours."""
    build = card(across(card(), (0.2, 0.4, 0.8), (1.0, 0.6, 0.1)))
    renderer = Renderer()
    drawn = renderer.frame(build, Request("eye", SIZE)).linear
    paths = reference_of(renderer, build, Wanted(request=Request("eye", SIZE), samples=2)).tally.radiance
    assert np.abs(drawn.reshape(-1, 3) - paths).max() < 1e-3


def test_three_channels_are_opaque_and_parts_without_any_are_white():
    scene = card(np.full((4, 3), 0.5)).scene
    geometry = pack(scene, parse_setup({"eddyfall_setup": 1}))
    assert (geometry.colours[:4] == [0.5, 0.5, 0.5, 1]).all() and (geometry.colours[4:] == 1).all()
    plain = pack(card().scene, parse_setup({"eddyfall_setup": 1}))
    assert plain.colours.shape == (0, 4) and plain.content_hash != geometry.content_hash
    assert colours_of(plain, 0) == [] and len(colours_of(geometry, 0)) == 1
    assert colours_of(pack(card(np.ones((4, 3))).scene, parse_setup({"eddyfall_setup": 1})), 0) == []


def test_what_came_with_colours_and_tangents_is_written_with_them(tmp_path):
    build = card(np.full((4, 4), 0.25), np.tile([1.0, 0, 0, 1], (4, 1)))
    (tmp_path / "card.glb").write_bytes(write_glb(build.scene))
    part = read_scene(tmp_path / "card.glb").meshes[0].primitives[0]
    assert (part.attributes["COLOR_0"] == 0.25).all() and (part.attributes["TANGENT"] == [1, 0, 0, 1]).all()


def mapped(tangents, code=(218, 128, 218)):
    """The card under a flat normal map of one code."""
    pixels = np.full((4, 4, 4), 255, np.uint8)
    pixels[..., :3] = code
    build = card(tangents=tangents, unlit=False, normal_texture=TextureUse(0))
    return replace(build, scene=replace(build.scene, images=(Image("n", freeze(pixels)),)))


def normals(build):
    frame = Renderer().frame(build, Request("eye", SIZE))
    return frame.buffers["surface"][18, 32, 7:10]


def test_tangents_turn_what_a_normal_map_bends():
    """Its red leans along the tangent, its green along cross(normal, tangent) * w (glTF 2.0, 3.7.2.1)."""
    lean = np.array([218, 128, 218]) / 255 * 2 - 1
    lean /= np.linalg.norm(lean)
    for tangent, due in (
        ([1, 0, 0, 1], lean), ([0, 1, 0, 1], [-lean[1], lean[0], lean[2]]), ([1, 0, 0, -1], [lean[0], -lean[1], lean[2]])
    ):  # fmt: skip
        assert np.abs(normals(mapped(np.tile(np.array(tangent, float), (4, 1)))) - due).max() < 1e-5
    flat = normals(mapped(None))
    assert np.abs(flat - normals(mapped(np.zeros((4, 4))))).max() == 0  # without a side it is no tangent


def test_the_kernel_and_its_plain_twin_agree_on_colours_and_tangents():
    rng = np.random.default_rng(3)
    tangents = np.concatenate([rng.normal(size=(4, 3)), np.ones((4, 1))], axis=1)
    build = mapped(tangents)
    part = build.scene.meshes[0].primitives[0]
    coloured = {**part.attributes, "COLOR_0": freeze(rng.random((4, 4)).astype(np.float32))}
    build = replace(
        build, scene=build.scene.with_mesh(0, replace(build.scene.meshes[0], primitives=(replace(part, attributes=coloured),)))
    )
    frame = Renderer().frame(build, Request("eye", SIZE))
    soup = soup_of(frame.geometry, frame.stage.state.material)
    surfaces = frame.buffers["textures"].surfaces
    rays = View(frame.camera, frame.pixels).rays
    for x, y in ((10.5, 8.5), (40.5, 20.5)):
        t = int(frame.buffers["triangle"][int(y), int(x)])
        row, alpha, _ = surface_plain(x, y, t, rays, soup, surfaces)
        quick = surface_rows(np.array([x]), np.array([y]), np.array([t]), rays, soup, surfaces)[0]
        assert np.abs(row - quick).max() < 1e-5
        assert 0 < alpha < 1


def test_tangents_follow_matrices():
    some = np.array([[1, 0, 0, 1], [0, 1, 0, -1]], np.float32)
    mirrored = turned(some, np.diag([-2.0, 1, 1]))
    assert mirrored.tolist() == [[-1, 0, 0, -1], [0, 1, 0, 1]]


def test_specular_multiplies_f0_of_what_is_no_metal():
    """KHR_materials_specular: F0 = min(F0(ior) * colour, 1) * factor. A bonded dial, 1.47 under 1.49, is due 4.565e-5: a factor of
    .001141 of the .04 that is drawn."""
    due = ((1.49 - 1.47) / (1.49 + 1.47)) ** 2
    assert due == pytest.approx(4.565e-5, rel=1e-3)
    assert 0.04 / due == pytest.approx(876, rel=1e-3) and due / 0.04 == pytest.approx(0.001141, rel=1e-3)
    factors = material_factors((Material("dial", specular=0.001141), Material("red", specular_rgb=(1.0, 0.5, 40.0))))
    assert factors[0, 10] == pytest.approx(due, rel=1e-3)
    for metal, f0 in ((0.0, (0.04, 0.02, 1.0)), (1.0, (0.3, 0.6, 0.9))):
        build = card(unlit=False, metallic=metal, base_rgba=(0.3, 0.6, 0.9, 1), specular_rgb=(1.0, 0.5, 40.0))
        row = Renderer().frame(build, Request("eye", SIZE)).buffers["surface"][18, 32]
        assert np.abs(row[3:6] - f0).max() < 1e-6


def test_specular_is_read_and_written(tmp_path):
    build = card(unlit=False, specular=0.25, specular_rgb=(1.0, 0.5, 2.0))
    (tmp_path / "card.glb").write_bytes(write_glb(build.scene))
    read = read_scene(tmp_path / "card.glb").materials[0]
    assert (read.specular, read.specular_rgb) == (0.25, (1.0, 0.5, 2.0))
    plain = Build(card().scene, card().setup)
    assert "KHR_materials_specular" not in write_glb(plain.scene).decode("latin1")
