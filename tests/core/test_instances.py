"""Nodes that show their mesh many times: EXT_mesh_gpu_instancing, as read, drawn, moved and written."""

import math
from dataclasses import replace

import numpy as np
import pytest

from eddyfall.core.errors import SceneError
from eddyfall.core.scene.drawables import pack
from eddyfall.core.scene.gltf_write import write_glb
from eddyfall.core.scene.read.gltf import read_scene
from eddyfall.core.scene.setup import parse_setup
from glb_files import glb, matrix, turn

SETUP = parse_setup({"eddyfall_setup": 1})
CORNERS = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], np.float32)
PLACES = np.array([[0, 0, 0], [2, 0, 0], [0, 3, 0], [0, 0, 4]], np.float32)


def posts(tmp_path, attributes=None, rotation=None, scale=None, **node):
    """A triangle shown four times by a node that stands at (10, 0, 0)."""
    normals = np.tile(np.array([0, 0, 1], np.float32), (3, 1))
    arrays = [(CORNERS, 5126, "VEC3"), (normals, 5126, "VEC3"), (PLACES, 5126, "VEC3")]
    listed = {"TRANSLATION": 2}
    for key, given in (("ROTATION", rotation), ("SCALE", scale)):
        if given is not None:
            listed[key] = len(arrays)
            arrays.append(given)
    doc = {
        "asset": {"version": "2.0"}, "scene": 0, "scenes": [{"nodes": [0]}], "extensionsUsed": ["EXT_mesh_gpu_instancing"],
        "extensionsRequired": ["EXT_mesh_gpu_instancing"],
        "meshes": [{"name": "post", "primitives": [{"attributes": {"POSITION": 0, "NORMAL": 1}}]}],
        "nodes": [{"name": "posts", "mesh": 0, "translation": [10, 0, 0],
                   "extensions": {"EXT_mesh_gpu_instancing": {"attributes": listed if attributes is None else attributes}}, **node}],
    }  # fmt: skip
    path = tmp_path / "posts.glb"
    path.write_bytes(glb(doc, arrays))
    return path


def corners(scene):
    """(things, 3, 3) corners of each drawn triangle."""
    geometry = pack(scene, SETUP)
    return [d.name for d in geometry.things], geometry.positions[geometry.triangles[:-2]].astype(float)


def test_every_instance_is_a_thing_of_its_own(tmp_path):
    names, found = corners(read_scene(posts(tmp_path)))
    assert names == ["posts 1", "posts 2", "posts 3", "posts 4"]
    np.testing.assert_allclose(found, CORNERS + PLACES[:, None] + (10, 0, 0), atol=1e-6)


def test_turned_and_scaled_ones_go_by_their_matrices(tmp_path):
    """Turns as normalized shorts, sizes of their own: T R S each, then the node's."""
    quarter = np.rint(np.array([turn(2, 90.0)] * 4) * 32767).astype(np.int16)
    sizes = np.array([[1, 1, 1], [2, 2, 2], [0.5, 0.5, 0.5], [1, 1, 1]], np.float32)
    _, found = corners(read_scene(posts(tmp_path, rotation=(quarter, 5122, "VEC4", True), scale=(sizes, 5126, "VEC3"))))
    expected = [
        (np.c_[CORNERS, np.ones(3)] @ (matrix((10, 0, 0)) @ matrix(tuple(place), 90.0, float(size[0]))).T)[:, :3]
        for place, size in zip(PLACES, sizes)
    ]
    np.testing.assert_allclose(found, expected, atol=1e-4)


def test_untouched_ones_are_written_as_they_came_and_a_moved_one_by_itself(tmp_path):
    path = posts(tmp_path)
    scene = read_scene(path)
    assert write_glb(scene, scene) == path.read_bytes()
    moved = scene.with_node(2, replace(scene.nodes[2], matrix=matrix((2, 5, 0))))
    again = tmp_path / "again.glb"
    again.write_bytes(write_glb(moved, scene))
    (_, mine), (_, theirs) = corners(moved), corners(read_scene(again))
    np.testing.assert_allclose(theirs, mine, atol=1e-6)


@pytest.mark.parametrize(("how", "says"), [
    ({"attributes": {}}, "instances have no number"), ({"attributes": {"TRANSLATION": 99}}, "accessor 99 does not exist"),
    ({"scale": (np.ones((3, 3), np.float32), 5126, "VEC3")}, "instances have no number"),
    ({"rotation": (np.zeros((4, 4), np.float32), 5126, "VEC4")}, "rotation must not be all zero"),
    ({"scale": (np.full((4, 3), math.nan, np.float32), 5126, "VEC3")}, "scale"),
])  # fmt: skip
def test_hostile_ones_are_one_line(tmp_path, how, says):
    with pytest.raises(SceneError, match=says):
        read_scene(posts(tmp_path, **how))


def test_more_triangles_than_are_drawn_are_refused_before_they_are_unpacked(tmp_path, monkeypatch):
    monkeypatch.setattr("eddyfall.core.scene.read.claims.MAX_TRIANGLES", 3)
    with pytest.raises(SceneError, match="draws 4 triangles"):
        read_scene(posts(tmp_path))
