"""Clips and morph targets against the standard's own formulas, rotations against SciPy's, and files that others made."""

import math
from dataclasses import replace

import numpy as np
import pytest
from scipy.spatial.transform import Rotation, Slerp

from eddyfall.core.errors import RequestError, SceneError
from eddyfall.core.scene.clips import at_moment, between, clip_named
from eddyfall.core.scene.drawables import pack
from eddyfall.core.scene.gltf_write import write_glb
from eddyfall.core.scene.read.gltf import read_scene
from eddyfall.core.scene.setup import parse_setup
from glb_files import glb
from strangers import NPM, strangers

SETUP = parse_setup({"eddyfall_setup": 1})
CORNERS = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], np.float32)
TIMES = np.array([0.5, 1.0, 2.0], np.float32)


def moved(tmp_path, what, values, kind, interpolation="LINEAR", times=TIMES, targets=(), weights=None, clip=True, **node):
    """A triangle, its node's translation, rotation, scale or weights moved by keys at .5, 1 and 2 s."""
    normals = np.tile(np.array([0, 0, 1], np.float32), (3, 1))
    arrays = [(CORNERS, 5126, "VEC3"), (normals, 5126, "VEC3"), (np.asarray(times, np.float32), 5126, "SCALAR"),
              (np.ascontiguousarray(values, np.float32), 5126, kind)]  # fmt: skip
    part = {"attributes": {"POSITION": 0, "NORMAL": 1}}
    if len(targets):
        part["targets"] = [{"POSITION": len(arrays) + k} for k in range(len(targets))]
        arrays += [(np.asarray(t, np.float32), 5126, "VEC3") for t in targets]
    doc = {
        "asset": {"version": "2.0"}, "scene": 0, "scenes": [{"nodes": [0]}],
        "meshes": [{"name": "post", "primitives": [part], **({"weights": weights} if weights else {})}],
        "nodes": [{"name": "gate", "mesh": 0, "translation": [1, 2, 3], "scale": [2, 2, 2], **node}],
    }  # fmt: skip
    if clip:
        channel = {"sampler": 0, "target": {"node": 0, "path": what}}
        doc["animations"] = [{"name": "lift", "channels": [channel], "samplers": [
            {"input": 2, "output": 3, "interpolation": interpolation}]}]  # fmt: skip
    path = tmp_path / "gate.glb"
    path.write_bytes(glb(doc, arrays))
    return path


def places(scene):
    return pack(scene, SETUP).positions[:3].astype(float)


def posed(path, t_s):
    scene = read_scene(path)
    return at_moment(scene, clip_named(scene, "lift"), t_s)


@pytest.mark.parametrize(("t", "share"), [(0.0, 0.0), (0.5, 0.0), (0.75, 0.5), (1.0, 1.0), (1.5, 1.5), (2.0, 2.0), (9.0, 2.0)])
def test_translations_run_straight_and_hold_at_their_ends(tmp_path, t, share):
    path = moved(tmp_path, "translation", [(0, 0, 0), (10, 0, 0), (20, 0, 0)], "VEC3")
    np.testing.assert_allclose(places(posed(path, t)), 2 * CORNERS + (10 * share, 0, 0), atol=1e-5)


def test_steps_hold_their_last_key(tmp_path):
    path = moved(tmp_path, "translation", [(0, 0, 0), (10, 0, 0), (20, 0, 0)], "VEC3", "STEP")
    for t, x in ((0.0, 0), (0.99, 0), (1.0, 10), (1.99, 10), (2.0, 20)):
        assert places(posed(path, t))[0, 0] == pytest.approx(x)


def test_splines_follow_the_standards_formula(tmp_path):
    """Appendix C.5: (2s^3 - 3s^2 + 1) v + d (s^3 - 2s^2 + s) b + (3s^2 - 2s^3) v' + d (s^3 - s^2) a'."""
    g = np.random.default_rng(5)
    rows = g.normal(0, 2, (9, 3))
    path = moved(tmp_path, "translation", rows, "VEC3", "CUBICSPLINE")
    rows = rows.astype(np.float32).astype(float)
    for t in (0.6, 0.9, 1.2, 1.7):
        k = 0 if t < 1 else 1
        d = float(TIMES[k + 1] - TIMES[k])
        s = (t - TIMES[k]) / d
        due = ((2 * s**3 - 3 * s**2 + 1) * rows[3 * k + 1] + d * (s**3 - 2 * s**2 + s) * rows[3 * k + 2]
               + (3 * s**2 - 2 * s**3) * rows[3 * k + 4] + d * (s**3 - s**2) * rows[3 * k + 3])  # fmt: skip
        np.testing.assert_allclose(places(posed(path, t))[0], due, atol=1e-5)


def test_rotations_go_the_short_way_as_scipys_do(tmp_path):
    keys = Rotation.from_euler("xyz", [[10, 20, 30], [100, -40, 80], [170, 30, -60]], degrees=True)
    quats = keys.as_quat()
    quats[1] *= -1  # the same rotation, written the other way
    path, slerp = moved(tmp_path, "rotation", quats, "VEC4"), Slerp(TIMES.astype(float), keys)
    for t in (0.5, 0.7, 1.3, 1.9):
        due = slerp(t).as_matrix() @ (2 * CORNERS.T)
        np.testing.assert_allclose(places(posed(path, t)), due.T + np.array([1, 2, 3]), atol=1e-5)
    a, b = Rotation.random(2, random_state=3).as_quat()
    apart = Rotation.from_quat(between(a, b, 0.25)) * Rotation.from_quat(a).inv()
    whole = Rotation.from_quat(b) * Rotation.from_quat(a).inv()
    assert apart.magnitude() == pytest.approx(whole.magnitude() / 4, rel=1e-9)


def test_morph_targets_by_default_weights_and_by_a_clip(tmp_path):
    up, side = [[0, 0, 0], [0, 0, 0], [0, 2, 0]], [[1, 0, 0]] * 3
    at_rest = read_scene(moved(tmp_path, "weights", [0.0], "SCALAR", targets=(up, side), weights=[0.5, 0.25], clip=False))
    expected = 2 * (CORNERS + 0.5 * np.array(up) + 0.25 * np.array(side)) + (1, 2, 3)
    np.testing.assert_allclose(places(at_rest), expected, atol=1e-6)
    own = read_scene(moved(tmp_path, "weights", [0, 0, 1, 0, 1, 1], "SCALAR", targets=(up, side)))
    for t, (a, b) in ((0.5, (0, 0)), (0.75, (0.5, 0)), (1.0, (1, 0)), (1.5, (1, 0.5)), (3.0, (1, 1))):
        there = at_moment(own, clip_named(own, "lift"), t)
        np.testing.assert_allclose(places(there), 2 * (CORNERS + a * np.array(up) + b * np.array(side)) + (1, 2, 3), atol=1e-6)


def test_a_rewritten_part_keeps_its_targets(tmp_path):
    scene = read_scene(moved(tmp_path, "weights", [0.0], "SCALAR", targets=([[0, 1, 0]] * 3,), weights=[0.5], clip=False))
    (part,) = scene.meshes[0].primitives
    changed = scene.with_mesh(0, replace(scene.meshes[0], primitives=(replace(part, attributes={**part.attributes}),)))
    (tmp_path / "again.glb").write_bytes(write_glb(changed, scene))
    np.testing.assert_allclose(places(read_scene(tmp_path / "again.glb")), places(scene), atol=1e-6)


@pytest.mark.parametrize(("how", "says"), [
    ({"times": [0.5, 0.5, 2.0]}, "times must rise"), ({"times": [-1.0, 0.5, 2.0]}, "times must rise"), 
    ({"interpolation": "SMOOTH"}, "SMOOTH"),
    ({"values": [(0, 0, 0)] * 2}, "2 values do not go with 3 times"), ({"values": [(math.nan, 0, 0)] * 3}, "be finite"),
    ({"matrix": np.eye(4).T.ravel().tolist()}, "a node that has a matrix"),
    ({"what": "rotation", "values": np.zeros((3, 4)), "kind": "VEC4"}, "all zero"),
])  # fmt: skip
def test_hostile_clips_are_one_line(tmp_path, how, says):
    given = {"what": "translation", "values": [(0, 0, 0), (10, 0, 0), (20, 0, 0)], "kind": "VEC3", **how}
    with pytest.raises(SceneError, match=says):
        read_scene(moved(tmp_path, **given))


def test_empty_ones_move_nothing_and_wrong_questions_are_one_line(tmp_path):
    path = moved(tmp_path, "translation", [(0, 0, 0)] * 3, "VEC3")
    scene = read_scene(path)
    with pytest.raises(RequestError, match=r"no clip 'open' \(lift\)"):
        clip_named(scene, "open")
    with pytest.raises(RequestError, match="no moment -1 s"):
        at_moment(scene, scene.clips[0], -1.0)
    empty = replace(scene.clips[0], channels=())
    assert empty.ends_s == 0 and at_moment(scene, empty, 1.0).nodes == scene.nodes


def test_clips_that_others_made_play(tmp_path):
    """Every clip of every stranger's file at its middle: sound, within ten times the size that it has at rest."""
    played, files = 0, strangers(tmp_path)
    if not NPM.exists():
        pytest.skip("the packages of free assets are not installed")
    for path in files:
        try:
            scene = read_scene(path)
        except SceneError:
            continue
        for clip in scene.clips[:3]:
            there = pack(at_moment(scene, clip, clip.ends_s / 2), SETUP)
            assert np.isfinite(there.positions).all()
            assert there.diagonal_m <= 10 * pack(scene, SETUP).diagonal_m
            played += 1
    assert played >= 2, played
