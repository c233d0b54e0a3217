"""What is wrong as a scene arrives: each planted fault is named once, its healthy twin and the demo's own builds are silent."""

import subprocess
import sys
from dataclasses import replace

import numpy as np
import pytest

from eddyfall.core.delivery.matching import match_scenes
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.hashing import freeze
from eddyfall.core.intake import open_build
from eddyfall.core.intake.arrival import arrivals
from eddyfall.core.intake.undrawn import undrawn
from eddyfall.core.likeness.units import told, unit_of
from eddyfall.core.scene.gltf_write import write_glb
from eddyfall.core.scene.model import Image, Material, TextureUse
from eddyfall.core.scene.read.gltf import read_scene
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of, glb_bytes, glb_parts, wall, write_build

PICTURE = Image("tiles", freeze(np.full((64, 64, 4), 200, np.uint8)))


def box(name, at=0.0, size=1.0, tile_m=1.0, material=None):
    shape = Shape().box((at, 0, 0), (at + size, size, size), tile_m)
    return Thing(name, shape, material or Material("tiled", base_texture=TextureUse(0)))


def with_part(build, mesh, **changes):
    """A build with attributes or triangles of one mesh replaced; None takes an attribute out."""
    number = build.scene.mesh_keys.index(mesh)
    part = build.scene.meshes[number].primitives[0]
    indices = changes.pop("indices", part.indices)
    attributes = {k: v for k, v in {**part.attributes, **changes}.items() if v is not None}
    return build.scene.with_mesh(
        number, replace(build.scene.meshes[number], primitives=(replace(part, attributes=attributes, indices=indices),))
    )


def codes(scene):
    return [(a.code, a.subject) for a in arrivals(scene)]


HEALTHY = build_of(box("a"), box("b", 3), box("c", 6), box("d", 9), images=(PICTURE,))


def test_a_healthy_scene_is_silent():
    assert codes(HEALTHY.scene) == []


def test_pictures_without_coordinates():
    assert codes(with_part(HEALTHY, "b", TEXCOORD_0=None)) == [("import.no-uv", "b")]
    plain = build_of(box("a", material=Material("plain")))
    assert codes(with_part(plain, "a", TEXCOORD_0=None)) == []  # nothing asks for them


def test_parts_without_normals(tmp_path):
    import json
    import struct

    data = write_glb(HEALTHY.scene)
    length = struct.unpack_from("<I", data, 12)[0]
    document = json.loads(data[20 : 20 + length])
    document["meshes"][2]["primitives"][0]["attributes"].pop("NORMAL")
    text = json.dumps(document).encode()
    text += b" " * (-len(text) % 4)
    rest = data[20 + length :]
    (tmp_path / "a.glb").write_bytes(
        b"glTF" + struct.pack("<II", 2, 20 + len(text) + len(rest)) + struct.pack("<I", len(text)) + b"JSON" + text + rest
    )
    assert codes(read_scene(tmp_path / "a.glb")) == [("import.no-normals", "c")]


def test_triangles_without_area():
    indices = np.array(HEALTHY.scene.meshes[0].primitives[0].indices)
    indices[0] = indices[0, 0]
    found = arrivals(with_part(HEALTHY, "a", indices=freeze(indices)))
    assert [(a.code, a.subject, a.value) for a in found] == [("import.zero-area", "a", 1)]


def tangents(turned=0.0, side=1.0):
    """Of a card in the xy plane whose u runs along x, turned by so many degrees."""
    build = build_of(
        Thing("card", Shape().quad((0, 0, 0), (1, 0, 0), (0, 1, 0)), Material("m", normal_texture=TextureUse(0))),
        images=(PICTURE,),
    )
    angle = np.radians(turned)
    return with_part(build, "card", TANGENT=freeze(np.tile([np.cos(angle), np.sin(angle), 0, side], (4, 1)).astype(np.float32)))


@pytest.mark.parametrize(
    ("turned", "side", "wrong"), [(0, 1, False), (30, 1, False), (60, 1, True), (180, 1, True), (0, -1, True)]
)
def test_tangents_against_coordinates(turned, side, wrong):
    """v runs down the picture, so that an unmirrored chart has w = 1 where its v runs against y (glTF 2.0, 3.7.2.1)."""
    assert codes(tangents(turned, side)) == ([("import.tangents", "card")] if wrong else [])


def test_pictures_that_repeat_too_often():
    build = build_of(box("a"), box("b", 3), box("c", 6), box("d", 9, tile_m=0.004), images=(PICTURE,))
    assert ("import.repeats", "d") in codes(build.scene)


def test_names_that_two_have_and_materials_that_say_the_same():
    build = build_of(
        box("a"), box("b", 3, material=Material("again", base_texture=TextureUse(0))), box("c", 6), images=(PICTURE,)
    )
    found = arrivals(replace(build.scene, nodes=(*build.scene.nodes[:2], replace(build.scene.nodes[2], name="a"))))
    assert [(a.code, a.subject, a.value) for a in found] == [
        ("import.doubled-names", "a", 2),
        ("import.equal-materials", "tiled", 2),
    ]
    other = build_of(
        box("a"), box("b", 3, material=Material("again", base_texture=TextureUse(0), roughness=0.5)), images=(PICTURE,)
    )
    assert codes(other.scene) == []


@pytest.mark.parametrize(
    ("ratio", "unit"),
    [(0.0038 / 0.38, "cm"), (0.0097 / 0.38, "inch"), (0.3048, "foot"), (1 / 0.001, "mm per m"), (1 / 0.0254, "inch per m"), (0.0105, None),
     (0.5, None), (2.0, None)],
)  # fmt: skip
def test_ratios_of_sizes_that_are_a_unit_s(ratio, unit):
    """Within 2 % of .001, .01, .0254, .3048 or an inverse: the metric prefixes, and the international inch and foot of 1959."""
    assert unit_of(ratio) == unit
    assert ("unsure" in told(ratio)) == (unit is None)


def test_a_thing_of_another_scale_is_told_by_its_pictures_texels():
    build = build_of(box("a"), box("b", 3), box("c", 6), box("d", 9), box("wheel", 12, size=0.01, tile_m=0.01), images=(PICTURE,))
    found = [a for a in arrivals(build.scene) if a.code == "import.scale"]
    assert [(a.subject, round(a.value, 4)) for a in found] == [("wheel", 0.01)]
    assert "metres were read as cm" in found[0].why


def test_a_thing_of_another_scale_is_told_by_the_delivery_before():
    smaller = build_of(box("a"), box("b", 3), box("c", 6, size=0.0254), box("d", 9), images=(PICTURE,))
    match = match_scenes(HEALTHY.scene, smaller.scene).match_of("node", "c")
    assert match.state == "changed" and "metres were read as inch" in match.why


def test_what_is_not_drawn_of_materials_is_named_with_its_pixels(tmp_path):
    """A board with iridescence and sheen before a wall: as many pixels as the board has; from behind, none."""
    board = Thing("board", Shape().quad((-1, -0.6, -8), (2, 0, 0), (0, 1.2, 0)), Material("lacquered", metallic=0.0))
    views = {"eye": {"eye": [0, 0, 0], "target": [0, 0, -1], "fov_y_deg": 20}, "away": {"eye": [0, 0, 0], "target": [0, 0, 1]}}
    path = write_build(build_of(board, Thing("wall", wall(12.0)), setup={"viewpoints": views}), tmp_path, "board")
    document, binary = glb_parts(path.read_bytes())
    document["extensionsUsed"] = ["KHR_materials_iridescence", "KHR_materials_sheen"]
    document["materials"][0]["extensions"] = {"KHR_materials_iridescence": {}, "KHR_materials_sheen": {}}
    path.write_bytes(glb_bytes(document, binary))
    build, renderer = open_build(path), Renderer()
    frame = renderer.frame(build, Request("eye", (480, 270)), "linear")
    due = int((frame.drawable == frame.geometry.names["board"]).sum())
    assert [(u.extension, u.materials, u.pixels) for u in undrawn(build, renderer)] == [
        ("KHR_materials_iridescence", ("lacquered",), {"eye": due}), ("KHR_materials_sheen", ("lacquered",), {"eye": due})]  # fmt: skip
    assert due > 1000 and undrawn(build_of(board)) == []


def test_a_clear_coat_of_what_is_blended_and_alpha_of_corners_in_a_test_are_named():
    pane = Material("pane", (1, 1, 1, 0.5), alpha_mode="BLEND", clearcoat=1.0)
    leaf = Material("leaf", alpha_mode="MASK", metallic=0.0)
    build = build_of(Thing("pane", Shape().quad((-1, -1, -8), (2, 0, 0), (0, 2, 0)), pane), Thing("leaf", wall(12.0), leaf))
    part = build.scene.meshes[1].primitives[0]
    colours = freeze(np.full((len(part.positions), 4), 0.5, np.float32))
    mesh = replace(build.scene.meshes[1], primitives=(replace(part, attributes={**part.attributes, "COLOR_0": colours}),))
    found = undrawn(replace(build, scene=build.scene.with_mesh(1, mesh)), Renderer())
    assert [(u.extension, u.materials) for u in found] == [
        ("KHR_materials_clearcoat of what is blended or lets light through", ("pane",)),
        ("alpha of COLOR_0 in alpha tests", ("leaf",)),
    ]
    assert [u.materials for u in undrawn(build, Renderer())] == [("pane",)]


def test_what_the_server_forks_for_uploads_has_no_kernels_loaded():
    """Threads of compiled code do not outlive a fork: a child of a process that has them dies at its first kernel."""
    code = "import sys, eddyfall.core.intake, eddyfall.core.handover.documents.facts; print('numba' in sys.modules)"
    assert subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout.strip() == "False"
