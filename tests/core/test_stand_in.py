"""A twin that stands in for what is missing: in an empty node, or in a gap of a row; what is drawn of it, and what is written."""

from dataclasses import replace

import numpy as np
import pytest

from eddyfall.core.errors import ChangeError
from eddyfall.core.likeness.outline import outline_of
from eddyfall.core.likeness.shapes import Shape as Triangles
from eddyfall.core.likeness.twins import missing, stands_in, twins
from eddyfall.core.scene.changes import Change, Operation, apply_change
from eddyfall.core.scene.gltf_write import write_glb
from eddyfall.core.scene.model import Node
from eddyfall.core.scene.read.gltf import read_scene
from eddyfall.demo.shapes import Shape
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
