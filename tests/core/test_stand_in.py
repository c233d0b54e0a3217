"""A twin that stands in for what is missing: in an empty node, or in a gap of a row; what is drawn of it, and what is written."""

import base64
import zlib
from dataclasses import replace

import numpy as np
import pytest

from eddyfall.core.errors import ChangeError
from eddyfall.core.hashing import freeze
from eddyfall.core.likeness.outline import outline_of
from eddyfall.core.likeness.shapes import Shape as Triangles
from eddyfall.core.likeness.twins import missing, stands_in, twins
from eddyfall.core.scene.changes import Change, Operation, apply_change
from eddyfall.core.scene.gltf_write import write_glb
from eddyfall.core.scene.graft import grafted
from eddyfall.core.scene.images import KTX2
from eddyfall.core.scene.model import Image, Material, Mesh, Node, TextureUse
from eddyfall.core.scene.read.gltf import read_scene
from eddyfall.demo.shapes import Shape
from glb_files import glb
from scenes import Thing, build_of


def row(gap=2, count=5, empty=False):
    """Posts in an even row; one is left out, or its node is empty."""
    post = Shape().box((-0.1, 0, -0.1), (0.1, 1.0, 0.1)).box((0.1, 0.6, -0.05), (0.3, 0.7, 0.05))
    build = build_of(*[Thing(f"post_{k}", post, place=(k * 1.0, 0, -6)) for k in range(count) if k != gap])
    nodes = [replace(n, mesh=0) for n in build.scene.nodes]
    scene = replace(build.scene, nodes=tuple(nodes), meshes=build.scene.meshes[:1])
    if empty:
        place = np.eye(4)
        place[:3, 3] = (gap * 1.0, 0, -6)
        scene = replace(scene, nodes=(*scene.nodes, Node(f"post_{gap}", place)))
    return replace(build, scene=scene)


@pytest.mark.parametrize("empty", [True, False])
def test_it_stands_where_it_was_and_is_written_there(empty, tmp_path):
    build = row(empty=empty)
    (tmp_path / "a.glb").write_bytes(write_glb(build.scene))
    read = replace(build, scene=read_scene(tmp_path / "a.glb"))
    what = missing(read.scene)[0]
    after = apply_change(read, stands_in(what, twins(read.scene, what)[0]))
    number = after.scene.node_number[what.name]
    np.testing.assert_allclose(after.scene.world_matrices[number][:3, 3], (2, 0, -6), atol=1e-3)
    (tmp_path / "b.glb").write_bytes(write_glb(after.scene, read.scene))
    again = read_scene(tmp_path / "b.glb")
    np.testing.assert_allclose(again.world_matrices[again.node_number[what.name]], after.scene.world_matrices[number], atol=1e-6)
    assert again.nodes[again.node_number[what.name]].mesh == 0 and len(again.nodes) == 5
    assert missing(again) == []


@pytest.mark.parametrize(
    ("params", "says"),
    [
        ({"node": "post_2", "mesh": "none", "place": np.eye(4).ravel().tolist()}, "mesh 'none' does not exist"),
        ({"node": "post_1", "mesh": "post_0", "place": np.eye(4).ravel().tolist()}, "is not empty"),
        ({"node": "post_2", "mesh": "post_0", "place": [1.0] * 15}, "16 numbers"),
        ({"node": "post_2", "mesh": "post_0", "place": [0.0] * 16}, "has a size"),
        ({"node": "", "mesh": "post_0", "place": np.eye(4).ravel().tolist()}, "must be a name"),
    ],
)
def test_what_cannot_stand_there_is_one_clear_error(params, says):
    with pytest.raises(ChangeError, match=says):
        apply_change(
            row(empty=True), Change(id="a", title="t", scope="node", operation=Operation(name="node.stand_in", params=params))
        )


def test_a_box_has_twelve_lines_of_which_eight_are_two_by_two_and_its_size():
    corners = np.concatenate(
        [np.concatenate(s.positions)[np.concatenate(s.indices)] for s in [Shape().box((0, 0, 0), (2, 1, 0.5))]]
    )
    found = outline_of(Triangles(corners))
    assert found.box == pytest.approx((2, 1, 0.5)) and found.axes == (0, 1, 2)
    lengths = np.linalg.norm(found.lines[:, 1] - found.lines[:, 0], axis=1)
    assert sorted(np.round(lengths, 6)) == [0.0] * 4 + [1.0] * 4 + [2.0] * 4


def test_a_round_pipe_is_outlined_by_its_sides_and_its_rims():
    pipe = Shape().tube((0, 0, 0), (0, 2, 0), 0.1, 0.1, 64, caps=False)
    corners = np.concatenate(pipe.positions)[np.concatenate(pipe.indices)]
    found = outline_of(Triangles(corners))
    long = found.lines[np.linalg.norm(found.lines[:, 1] - found.lines[:, 0], axis=1) > 1]
    assert len(long) == 2 and sorted(np.round(long[:, 0, 0], 2)) == [-0.1, 0.1]


def library(own):
    """A file of its own with a post of two materials: one that the row has under its name, one with a picture that it has not."""
    post = Shape().box((-0.1, 0, -0.1), (0.1, 1.0, 0.1)).box((0.1, 0.6, -0.05), (0.3, 0.7, 0.05))
    picture = Image("rust", freeze(np.full((4, 4, 4), (90, 60, 40, 255), np.uint8)))
    known = Material(own, (1.0, 0.0, 0.0, 1.0))
    rusty = Material("rusty", base_texture=TextureUse(0), clearcoat=0.5, clearcoat_texture=TextureUse(0, wrap_u="clamp"))
    build = build_of(Thing("old_post", post, known), Thing("old_cap", post, rusty), images=(picture,))
    (first,), (second,) = (m.primitives for m in build.scene.meshes)
    mesh = Mesh("old_post", (first, second))
    return replace(build.scene, meshes=(mesh,), nodes=(replace(build.scene.nodes[0], mesh=0),))


def test_a_twin_of_another_file_is_brought_along_and_written(tmp_path):
    """With its mesh, in the build's own material where that has the name, with a new one and its picture where it has not; the change holds
    all of it, as JSON; what is written is read again as it stands."""
    (tmp_path / "a.glb").write_bytes(write_glb(row(empty=True).scene))
    build = replace(row(), scene=read_scene(tmp_path / "a.glb"))
    own = build.scene.material_keys[0]
    what, others = missing(build.scene)[0], [("old.glb", library(own))]
    found = twins(build.scene, what, others)
    twin = next(t for t in found if t.source == "old.glb")
    assert stands_in(what, twin) is None
    change = stands_in(what, twin, build.scene, others)
    after = apply_change(build, Change.model_validate_json(change.model_dump_json()))
    assert [m.name for m in after.scene.materials[len(build.scene.materials) :]] == ["rusty"]
    made = after.scene.meshes[-1]
    keys = after.scene.material_keys
    assert [keys[p.material] for p in made.primitives] == [own, "rusty"]
    assert after.scene.materials[keys.index(own)] == build.scene.materials[0]
    (tmp_path / "b.glb").write_bytes(write_glb(after.scene, build.scene))
    again = read_scene(tmp_path / "b.glb")
    assert again.meshes[-1].primitives[0].triangles == made.primitives[0].triangles and again.mesh_keys == after.scene.mesh_keys
    rusty = again.materials[again.material_keys.index("rusty")]
    assert (again.images[rusty.base_texture.image].pixels == (90, 60, 40, 255)).all() and rusty.clearcoat == 0.5
    assert rusty.clearcoat_texture.wrap_u == "clamp" and len(again.images) == 1
    node = again.nodes[again.node_number[what.name]]
    assert node.mesh == len(again.meshes) - 1 and what.name not in [m.name for m in missing(again)]
    twice = apply_change(after, change.model_copy(update={"operation": change.operation.model_copy(
        update={"params": {**change.operation.params, "node": "one more"}})}))  # fmt: skip
    assert len(twice.scene.images) == 1 and len(twice.scene.materials) == len(after.scene.materials)


@pytest.mark.parametrize("of", ["", "no base64", 7, "A" * 1_500_001])
def test_what_is_brought_along_and_is_none_is_one_clear_error(of):
    params = {"node": "post_2", "mesh": "post_0", "place": np.eye(4).ravel().tolist(), "of": of}
    with pytest.raises(ChangeError, match="brought along"):
        apply_change(row(), Change(id="x", scope="node", operation=Operation(name="node.stand_in", params=params)))


def test_a_bomb_is_refused():
    """A hundred megabytes of nothing packed small."""
    of = base64.b64encode(zlib.compress(bytes(100 * 1024**2), 9)).decode()
    with pytest.raises(ChangeError, match="cut off, or too large"):
        grafted(row().scene, of)


def test_a_coded_mesh_is_not_decoded_where_a_change_is_applied():
    """Decoders of Draco, meshopt and KTX2 run in the child that reads uploads alone."""
    corners = [(np.zeros((3, 3), np.float32), 5126, "VEC3")]
    draco = glb({"asset": {"version": "2.0"}, "extensionsUsed": ["KHR_draco_mesh_compression"]}, corners)
    for data in (draco, glb({"asset": {"version": "2.0"}}, [*corners, (np.frombuffer(KTX2, np.uint8), 5121, "SCALAR")])):
        with pytest.raises(ChangeError, match="coded by an extension"):
            grafted(row().scene, base64.b64encode(zlib.compress(data)).decode())
