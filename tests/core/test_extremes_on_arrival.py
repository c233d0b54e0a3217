"""Files at their extremes: thousands of materials, hundreds of joints, skeletons that bite their own tail, clips of nothing."""

import numpy as np
import pytest

from eddyfall.core.delivery.matching import match_scenes
from eddyfall.core.errors import SceneError
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.intake import finish_build, open_build
from eddyfall.core.intake.arrival import arrivals
from eddyfall.core.scene.clips import at_moment
from eddyfall.core.scene.drawables import pack
from eddyfall.core.scene.model import Image, Light, Material, TextureUse
from eddyfall.core.scene.read.gltf import read_scene
from eddyfall.core.scene.setup import parse_setup
from eddyfall.demo.shapes import Shape
from glb_files import glb, matrix, turn
from scenes import Thing, build_of, write_build

SETUP = {"eddyfall_setup": 1, "viewpoints": {"eye": {"eye": [0, 0, 6], "target": [0, 0, 0], "fov_y_deg": 50}}}


def test_five_thousand_materials_are_read_drawn_and_matched(tmp_path):
    things = [
        Thing(f"t{i}", Shape().quad((-1 + (i % 100) * 0.02, -0.6 + (i // 100) * 0.02, -8), (0.015, 0, 0), (0, 0.015, 0)),
              Material(f"m{i}", base_rgba=(i / 5000, 0.5, 0.2, 1), metallic=0.0))
        for i in range(5000)
    ]  # fmt: skip
    path = write_build(build_of(*things, lamps=((Light("sun", "directional", intensity=3.0), (0, 0, 0)),)), tmp_path)
    build = open_build(path)
    frame = Renderer().frame(build, Request("eye", (320, 180)))
    assert len(build.scene.materials) == 5000 and len(np.unique(frame.drawable)) > 1000 and np.isfinite(frame.linear).all()
    assert arrivals(build.scene, build.setup) == []
    matches = match_scenes(build.scene, build.scene).of("material")
    assert len(matches) == 5000 and all(m.state == "same" and m.old == m.new for m in matches)


def test_two_hundred_joints_in_a_chain_bend_as_plain_matrices_do(tmp_path):
    count, bend = 200, 0.9
    along = np.arange(count + 1) * 0.02
    places = np.stack([np.stack([along, np.full(count + 1, y), np.zeros(count + 1)], 1) for y in (0.0, 0.05)], 1).reshape(-1, 3)
    k = np.arange(count) * 2
    faces = np.concatenate([np.stack([k, k + 2, k + 1], 1), np.stack([k + 1, k + 2, k + 3], 1)])
    owner = np.repeat(np.minimum(np.arange(count + 1), count - 1), 2)
    joints, weights = np.zeros((len(places), 4), np.uint16), np.zeros((len(places), 4), np.float32)
    joints[:, 0], weights[:, 0] = owner, 1
    inverse = np.stack([matrix((-0.02 * j, 0, 0)) for j in range(count)])
    nodes = [{"name": "sheet", "mesh": 0, "skin": 0}]
    for j in range(count):
        nodes.append({"translation": [0.0 if j == 0 else 0.02, 0, 0], "rotation": turn(2, bend),
                      **({"children": [j + 2]} if j < count - 1 else {})})  # fmt: skip
    doc = {
        "asset": {"version": "2.0"}, "scene": 0, "scenes": [{"nodes": [0, 1]}], "nodes": nodes,
        "meshes": [{"primitives": [{"attributes": {"POSITION": 0, "JOINTS_0": 2, "WEIGHTS_0": 3}, "indices": 1}]}],
        "skins": [{"joints": list(range(1, count + 1)), "inverseBindMatrices": 4}],
    }  # fmt: skip
    arrays = [(places.astype(np.float32), 5126, "VEC3"), (faces.reshape(-1).astype(np.uint16), 5123, "SCALAR"), (joints, 5123, "VEC4"),
              (weights, 5126, "VEC4"), (inverse.transpose(0, 2, 1).reshape(-1, 16).astype(np.float32), 5126, "MAT4")]  # fmt: skip
    (tmp_path / "a.glb").write_bytes(glb(doc, arrays))
    drawn = pack(read_scene(tmp_path / "a.glb"), parse_setup(SETUP)).positions[
        : faces.size
    ]  # without normals each face has corners of its own
    world, due = np.eye(4), []
    chain = []
    for j in range(count):
        world = world @ matrix((0.0 if j == 0 else 0.02, 0, 0), bend)
        chain.append(world @ matrix((-0.02 * j, 0, 0)))
    for place, j in zip(places, owner):
        due.append((chain[j] @ [*place, 1])[:3])
    np.testing.assert_allclose(drawn, np.array(due)[faces.reshape(-1)], atol=2e-4)


def plain(tmp_path, **doc):
    """A triangle, and what else a file says."""
    places = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], np.float32)
    times = np.array([0, 1], np.float32)
    moves = np.zeros((2, 3), np.float32)
    base = {"asset": {"version": "2.0"}, "scene": 0, "scenes": [{"nodes": [0]}], "nodes": [{"name": "a", "mesh": 0}],
            "meshes": [{"primitives": [{"attributes": {"POSITION": 0}}]}]}  # fmt: skip
    path = tmp_path / "plain.glb"
    path.write_bytes(glb({**base, **doc}, [(places, 5126, "VEC3"), (times, 5126, "SCALAR"), (moves, 5126, "VEC3")]))
    return path


@pytest.mark.parametrize(
    "nodes",
    [
        [{"mesh": 0, "children": [1]}, {"children": [2]}, {"children": [1]}],
        [{"mesh": 0, "children": [0]}],
        [{"mesh": 0, "children": [1, 2]}, {"children": [3]}, {"children": [3]}, {}],
    ],
)
def test_a_skeleton_that_bites_its_own_tail_is_one_clear_error(nodes, tmp_path):
    with pytest.raises(SceneError) as told:
        read_scene(plain(tmp_path, nodes=nodes))
    assert "node" in str(told.value) and len(str(told.value)) < 200


@pytest.mark.parametrize(
    "clips",
    [
        [{"name": "nothing", "channels": [], "samplers": []}],
        [{"name": "nowhere", "samplers": [{"input": 1, "output": 2}], "channels": [{"sampler": 0, "target": {"path": "translation"}}]}],
        [{"name": "still", "samplers": [{"input": 1, "output": 2}],
          "channels": [{"sampler": 0, "target": {"node": 0, "path": "translation"}}]}],
    ],
)  # fmt: skip
def test_clips_of_nothing_change_nothing(clips, tmp_path):
    scene = read_scene(plain(tmp_path, animations=clips))
    for clip in scene.clips:
        np.testing.assert_array_equal(at_moment(scene, clip, 0.5).world_matrices[0], np.eye(4))


@pytest.mark.parametrize("scale", [[1, 1000, 1e-3], [-2, 1, 3], [1, 0, 1]])
def test_scales_of_any_kind_are_drawn_or_draw_nothing(scale, tmp_path):
    scene = read_scene(plain(tmp_path, nodes=[{"mesh": 0, "scale": scale}]))
    build = finish_build(scene, parse_setup(SETUP), SETUP, [])
    frame = Renderer().frame(build, Request("eye", (64, 36)))
    assert np.isfinite(frame.linear).all() and frame.display.dtype == np.uint8


def test_a_picture_of_one_texel_is_one_colour():
    one = Image("one", np.array([[[180, 60, 20, 255]]], np.uint8))
    of = Material("m", base_texture=TextureUse(0), unlit=True)
    build = build_of(Thing("a", Shape().quad((-1, -0.6, -8), (2, 0, 0), (0, 1.2, 0)), of), images=(one,))
    frame = Renderer().frame(build, Request("eye", (64, 36)))
    mine = frame.drawable >= 0
    assert mine.any() and (frame.display[mine] == (180, 60, 20)).all()
