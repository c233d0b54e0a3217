"""Meshes that joints carry, against plain matrices, worked numbers and a skin that others made."""

from dataclasses import replace

import numpy as np
import pytest

from eddyfall.core.errors import SceneError
from eddyfall.core.intake.arrival import arrivals
from eddyfall.core.scene.drawables import pack
from eddyfall.core.scene.model import Mesh, Node, Primitive, Scene, Skin
from eddyfall.core.scene.read.gltf import read_scene
from eddyfall.core.scene.setup import parse_setup
from eddyfall.core.scene.skins import posed, weights_of
from glb_files import glb, matrix, turn
from strangers import NPM

SETUP = parse_setup({"eddyfall_setup": 1})
RING = 1.35  # m


def ring(count=24):
    """(v, 3) places of a flat ring of triangles around its middle, (t, 3) triangles."""
    angle = np.arange(count) * 2 * np.pi / count
    outer = np.stack([RING * np.cos(angle), RING * np.sin(angle), np.zeros(count)], axis=1)
    inner = outer * 0.6
    k, n = np.arange(count), (np.arange(count) + 1) % count
    faces = np.concatenate([np.stack([k, n, k + count], 1), np.stack([n, n + count, k + count], 1)])
    return np.concatenate([outer, inner]).astype(np.float32), faces.astype(np.uint16)


def skinned_ring(
    tmp_path, *, quantised=False, weights=None, sets=1, joints_type=np.uint8, where=(7.0, 7.0, 7.0), bend=40.0, joints=None, **more
):  # fmt: skip
    """A ring whose right half hangs on a second joint that is turned; its node stands elsewhere, which says nothing. quantised: positions
    as shorts, their scale in the inverse bind matrices."""
    places, faces = ring()
    count = len(places)
    share = (places[:, 0] > 0).astype(float)
    w = np.zeros((count, 4), np.float32)
    w[:, 0], w[:, 1] = 1 - share, share
    w = w if weights is None else weights(w)
    j = np.zeros((count, 4), joints_type)
    j[:, 1] = 1
    j = j if joints is None else joints(j)
    normals = np.tile(np.array([0, 0, 1], np.float32), (count, 1))
    inverse = np.stack([matrix((-0.5, 0, 0)), matrix((0, -0.25, 0))])
    stored = (places, 5126, "VEC3")
    if quantised:
        scale = RING / 32767
        stored = (np.pad(np.rint(places / scale).astype(np.int16), ((0, 0), (0, 0))), 5122, "VEC3")
        inverse = inverse @ np.diag([scale, scale, scale, 1.0])
    arrays = [stored, (normals, 5126, "VEC3"), (faces.reshape(-1), 5123, "SCALAR"),
              (inverse.transpose(0, 2, 1).reshape(-1, 16).astype(np.float32), 5126, "MAT4")]  # fmt: skip
    attributes = {"POSITION": 0, "NORMAL": 1}
    parts = np.split(w, sets, axis=1) if sets > 1 else [w]
    for n in range(sets):
        some = parts[n] if sets == 1 else np.pad(parts[n], ((0, 0), (0, 4 - parts[n].shape[1])))
        of = j if sets == 1 else np.pad(np.split(j, sets, axis=1)[n], ((0, 0), (0, 4 - parts[n].shape[1])))
        attributes |= {f"JOINTS_{n}": len(arrays), f"WEIGHTS_{n}": len(arrays) + 1}
        kind = {np.float32: 5126, np.uint8: 5121, np.uint16: 5123}[some.dtype.type]
        arrays += [(of, {np.uint8: 5121, np.uint16: 5123, np.float32: 5126}[of.dtype.type], "VEC4"),
                   (some, kind, "VEC4", *([True] if kind != 5126 else []))]  # fmt: skip
    doc = {
        "asset": {"version": "2.0"}, "scene": 0, "scenes": [{"nodes": [0, 1]}],
        "meshes": [{"primitives": [{"attributes": attributes, "indices": 2}]}],
        "nodes": [
            {"name": "ring", "mesh": 0, "skin": 0, "translation": list(where)},
            {"name": "root", "translation": [0, 2, 0], "children": [2, 3]},
            {"name": "left", "translation": [0.5, 0, 0]}, {"name": "right", "translation": [0, 0.25, 0], "rotation": turn(2, bend)},
        ],
        "skins": [{"joints": [2, 3], "inverseBindMatrices": 3}],
        **({"extensionsUsed": ["KHR_mesh_quantization"], "extensionsRequired": ["KHR_mesh_quantization"]} if quantised else {}), **more,
    }  # fmt: skip
    path = tmp_path / "ring.glb"
    path.write_bytes(glb(doc, arrays))
    return path


def by_hand(bend=40.0):
    """(v, 3) of the ring as plain matrices have it."""
    places, _ = ring()
    root = matrix((0, 2, 0))
    left = root @ matrix((0.5, 0, 0)) @ matrix((-0.5, 0, 0))
    right = root @ matrix((0, 0.25, 0), bend) @ matrix((0, -0.25, 0))
    full = np.concatenate([places, np.ones((len(places), 1))], axis=1)
    share = (places[:, :1] > 0).astype(float)
    return (full @ left.T * (1 - share) + full @ right.T * share)[:, :3]


def drawn(path):
    scene = read_scene(path)
    geometry = pack(scene, SETUP)
    return scene, geometry.positions[: len(geometry.positions) - 4]


@pytest.mark.parametrize(("how", "said"), [
    ({}, False), ({"joints_type": np.uint16}, False), ({"where": (0, 0, 0)}, False), ({"sets": 2}, False),
    ({"weights": lambda w: (w * 255).astype(np.uint8)}, False), ({"weights": lambda w: (w * 65535).astype(np.uint16)}, False),
    ({"weights": lambda w: w * 0.5}, True),
])  # fmt: skip
def test_one_ring_in_many_packings(tmp_path, how, said):
    """Joints as bytes or shorts, weights as floats, bytes, shorts, or half of what they should be; the node's own place says nothing."""
    scene, places = drawn(skinned_ring(tmp_path, **how))
    np.testing.assert_allclose(places, by_hand(), atol=2e-6)
    assert [("drawn as shares of their sum" in note) for note in scene.notes] == [True] * said


def test_quantised_positions_have_their_scale_in_the_inverse_bind_matrices(tmp_path):
    """A ring of radius 1.35, its positions shorts: drawn as large as it is."""
    scene, places = drawn(skinned_ring(tmp_path, quantised=True))
    np.testing.assert_allclose(places, by_hand(), atol=2 * RING / 32767)
    assert not scene.notes


def test_weights_that_sum_to_254(tmp_path):
    """A corner 1.7 m up falls 6.67 mm where they are taken as they are; here they are shares of their sum, and that is said."""

    def missing(w):
        out = (w * 255).astype(np.uint8)
        out[out == 255] = 254
        return out

    scene, places = drawn(skinned_ring(tmp_path, weights=missing))
    np.testing.assert_allclose(places, by_hand(), atol=2e-6)
    (note,) = scene.notes
    assert "0.39 %" in note
    (said,) = arrivals(scene)
    due = np.linalg.norm(by_hand(), axis=1).max() / 255 * 1e3
    assert (said.code, said.unit, said.value) == ("import.weights", "mm", pytest.approx(due, rel=1e-4))


def test_a_corner_1_7_m_up_falls_6_67_mm():
    """1.7 m x (1 - 254 / 255), on a mast of one joint."""
    mast = Primitive(
        {
            "POSITION": np.float32([[0, 0, 0], [0.01, 0, 0], [0, 1.7, 0]]), "NORMAL": np.float32([[0, 0, 1]] * 3),
            "JOINTS_0": np.zeros((3, 4), np.uint8), "WEIGHTS_0": np.float32([[254 / 255, 0, 0, 0]] * 3),
        },
        np.int32([[0, 1, 2]]), None,
    )  # fmt: skip
    nodes = (Node("joint", np.eye(4)), Node("mast", np.eye(4), mesh=0, skin=0))
    scene = Scene(meshes=(Mesh("mast", (mast,)),), nodes=nodes, skins=(Skin("s", (0,), np.eye(4)[None]),))
    (said,) = [a for a in arrivals(scene) if a.code == "import.weights"]
    assert said.value == pytest.approx(6.67, abs=0.005)


def test_corners_without_weights_stand_where_the_node_puts_them(tmp_path):
    _, places = drawn(skinned_ring(tmp_path, weights=lambda w: np.where(np.arange(len(w))[:, None] < 3, 0, w).astype(np.float32)))
    expected = by_hand()
    expected[:3] = ring()[0][:3] + 7.0
    np.testing.assert_allclose(places, expected, atol=2e-6)


def test_joints_that_mirror_turn_faces_over(tmp_path):
    path = skinned_ring(tmp_path)
    scene = read_scene(path)
    geometry = pack(scene, SETUP)
    corners = geometry.positions[geometry.triangles[:-2]].astype(float)
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    assert (normal[:, 2] > 0).mean() > 0.9  # but those that span both halves may be turned by the bend
    skin = scene.skins[0]
    mirrored = np.stack([m @ np.diag([-1.0, 1, 1, 1]) for m in skin.inverse])
    told = posed(replace(scene, skins=(replace(skin, inverse=mirrored),)), 0, scene.meshes[0].primitives[0])
    assert told.turned.all() and np.allclose(told.normals[:, 2], 1.0, atol=1e-6)


def test_influences_renormalised(tmp_path):
    """Handbook case: weights .5 .3 .15 .04 kept of five come to (.50505, .30303, .15152, .04040); bones that move by 1, 2, 3, 10 put a
    corner at 1.96970 (glTF 2.0, 3.7.3.3)."""
    scene = read_scene(
        skinned_ring(tmp_path, weights=lambda w: np.tile(np.array([0.5, 0.3, 0.15, 0.04], np.float32), (len(w), 1)))
    )
    _, weights = weights_of(scene.meshes[0].primitives[0])
    np.testing.assert_allclose(weights[0], (0.5050505, 0.3030303, 0.1515152, 0.0404040), atol=1e-6)
    assert float(weights[0] @ (1, 2, 3, 10)) == pytest.approx(1.96970, abs=1e-5)


@pytest.mark.parametrize(("how", "says"), [
    ({"joints": lambda j: j + 9}, "joint 10 does not exist: its skin has 2"), ({"skins": [{"joints": []}]}, "joints must be a list"),
    ({"skins": [{"joints": [99]}]}, "node 99 does not exist"),
    ({"skins": [{"joints": [1, 2, 3], "inverseBindMatrices": 3}]}, "2 inverse bind"),
    ({"weights": lambda w: w - 2}, "WEIGHTS_0 must be finite and not negative"),
    ({"joints": lambda j: j.astype(np.float32)}, "JOINTS_0 must be"),
])  # fmt: skip
def test_hostile_skins_are_one_line(tmp_path, how, says):
    with pytest.raises(SceneError, match=says):
        read_scene(skinned_ring(tmp_path, **how))


@pytest.mark.parametrize("hand", ["left", "right"])
def test_a_hand_that_others_made_is_as_large_as_a_hand(hand):
    """A free asset: 25 joints under a node of its own scale. Wherever its joints are, so are its fingers."""
    path = NPM / "@webxr-input-profiles/assets/dist/profiles/generic-hand" / f"{hand}.glb"
    if not path.exists():
        pytest.skip("the packages of free assets are not installed")
    scene = read_scene(path)
    skin, geometry = scene.skins[0], pack(scene, SETUP)
    joints = np.stack([scene.world_matrices[j][:3, 3] for j in skin.joints])
    things = np.unique(geometry.triangles[:-2])
    places = geometry.positions[things].astype(float)
    size = np.ptp(places, axis=0).max()
    assert len(skin.joints) == 25 and 0.1 < size < 0.3
    nearest = np.linalg.norm(places[:, None] - joints[None], axis=2).min(axis=1)
    assert nearest.max() < 0.04
