"""Twins of what is missing: laid over one another against trimesh's closest points; mirrors told, spokes counted, ends measured."""

from dataclasses import replace

import numpy as np
import pytest
import trimesh

from eddyfall.core.hashing import freeze
from eddyfall.core.likeness.align import TURNS, Target, align, closest_on
from eddyfall.core.likeness.ends import ends_of, misfit_m
from eddyfall.core.likeness.shapes import Shape
from eddyfall.core.likeness.twins import Missing, missing, shape_of, twins
from eddyfall.core.scene.model import Material, Mesh, Node, Primitive, Scene


def shape(mesh):
    return Shape(np.asarray(mesh.triangles, float))


def part(mesh):
    flat = np.asarray(mesh.triangles, np.float32).reshape(-1, 3)
    normals = np.repeat(np.asarray(mesh.face_normals, np.float32), 3, axis=0)
    return Primitive(
        {"POSITION": freeze(flat), "NORMAL": freeze(normals)}, freeze(np.arange(len(flat), dtype=np.int32).reshape(-1, 3)), 0
    )


def scene_of(meshes, nodes):
    """A scene of named trimeshes, and nodes of (name, mesh or None, place)."""
    names = list(meshes)
    made = [Node(name, _at(place), mesh=None if mesh is None else names.index(mesh)) for name, mesh, place in nodes]
    return Scene(tuple(Mesh(n, (part(m),)) for n, m in meshes.items()), tuple(made), (Material("m"),))


def _at(place):
    if np.ndim(place) == 2:
        return np.asarray(place)
    matrix = np.eye(4)
    matrix[:3, 3] = place
    return matrix


def wheel(spokes, rim=0.19):
    """A handwheel: a rim and spokes."""
    parts = [trimesh.creation.torus(rim, 0.015, 48, 12)]
    for k in range(spokes):
        spoke = trimesh.creation.cylinder(0.01, rim, sections=10)
        spoke.apply_translation((0, 0, rim / 2))
        spoke.apply_transform(trimesh.transformations.rotation_matrix(np.pi / 2, (0, 1, 0)))
        spoke.apply_transform(trimesh.transformations.rotation_matrix(2 * np.pi * k / spokes, (0, 0, 1)))
        parts.append(spoke)
    return trimesh.util.concatenate(parts)


def elbow(radius=0.05, bend=0.2, flange=0.0):
    """A pipe bent by a right angle, open at both ends: from (bend, 0, 0) to (0, bend, 0)."""
    angle = np.linspace(0, np.pi / 2, 13)
    middle = np.stack([bend * np.cos(angle), bend * np.sin(angle), 0 * angle], axis=1)
    ring = np.linspace(0, 2 * np.pi, 25)[:-1]
    out = middle / bend
    points = middle[:, None] + radius * (
        np.cos(ring)[None, :, None] * out[:, None] + np.sin(ring)[None, :, None] * np.array([0, 0, 1.0])
    )
    faces = [
        (i * 24 + j, i * 24 + (j + 1) % 24, (i + 1) * 24 + (j + 1) % 24, (i + 1) * 24 + j) for i in range(12) for j in range(24)
    ]
    mesh = trimesh.Trimesh(points.reshape(-1, 3), [t for a, b, c, d in faces for t in ((a, b, c), (a, c, d))], process=False)
    if flange:
        rib = trimesh.creation.box((flange, flange, 3 * flange))
        rib.apply_translation((bend * 0.9, radius * 0.3, radius))
        mesh = trimesh.util.concatenate([mesh, rib])
    return mesh


def pipe(length=1.0, radius=0.05):
    """An open pipe along x, from the origin."""
    ring = np.linspace(0, 2 * np.pi, 25)[:-1]
    points = np.concatenate([np.stack([0 * ring + x, radius * np.cos(ring), radius * np.sin(ring)], axis=1) for x in (0, length)])
    faces = [t for j in range(24) for t in ((j, (j + 1) % 24, 24 + j), ((j + 1) % 24, 24 + (j + 1) % 24, 24 + j))]
    return trimesh.Trimesh(points, faces, process=False)


SHAPES = {
    "box": trimesh.creation.box((0.2, 0.3, 0.4)), "ball": trimesh.creation.icosphere(3, 0.2), "rod": trimesh.creation.cylinder(0.03, 0.5),
    "five": wheel(5), "six": wheel(6), "elbow": elbow(flange=0.03), "pipe": pipe(), "cone": trimesh.creation.cone(0.15, 0.4),
    "washer": trimesh.creation.annulus(0.05, 0.1, 0.02), "capsule": trimesh.creation.capsule(0.3, 0.06),
}  # fmt: skip


def test_turns_are_those_of_a_cube_and_their_mirrors():
    assert len(TURNS) == 48 and np.array_equal(TURNS[0], np.eye(3))
    assert (np.linalg.det(TURNS[:24]) > 0).all() and (np.linalg.det(TURNS[24:]) < 0).all()


def test_closest_points_are_trimeshs():
    rng = np.random.default_rng(0)
    triangles, points = rng.normal(size=(500, 3, 3)), rng.normal(size=(500, 3)) * 2
    assert np.abs(closest_on(points, triangles) - trimesh.triangles.closest_point(triangles, points)).max() < 1e-9


def turned_by(mesh, rng, mirror=False):
    """The shape by another hand: subdivided, turned by a right angle or any, moved, mirrored or not."""
    other = mesh.subdivide()
    if mirror:
        other.vertices[:, 0] *= -1
        other.invert()
    turn = np.eye(4)
    turn[:3, :3] = TURNS[rng.integers(24)]
    other.apply_transform(turn)
    other.apply_transform(trimesh.transformations.rotation_matrix(rng.uniform(-0.15, 0.15), rng.normal(size=3)))
    other.apply_translation(rng.uniform(-3, 3, 3))
    return other


@pytest.mark.parametrize("name", SHAPES)
def test_the_true_twin_lies_on_it_to_a_millimetre(name):
    rng = np.random.default_rng(len(name))
    found = align(shape(turned_by(SHAPES[name], rng)), Target(shape(SHAPES[name])))
    assert found.apart_m < 1e-3 and not found.mirrored


def test_the_true_twin_is_first_in_nine_of_ten():
    rng = np.random.default_rng(4)
    right = 0
    for name, mesh in SHAPES.items():
        others = {f"other {k}": turned_by(m, rng) for k, (n, m) in enumerate(SHAPES.items())}
        scene = scene_of(others, [("gap", None, np.zeros(3))])
        first = twins(scene, Missing("gap", "older delivery", np.eye(4), shape(mesh), False, name))[0]
        right += first.mesh == f"other {list(SHAPES).index(name)}"
    assert right >= 9


def test_a_mirrored_twin_is_told():
    """An elbow with a rib on one side is no turn of its mirror image; a plain wheel is."""
    rng = np.random.default_rng(1)
    assert align(shape(turned_by(SHAPES["elbow"], rng, mirror=True)), Target(shape(SHAPES["elbow"]))).mirrored
    assert not align(shape(turned_by(SHAPES["six"], rng, mirror=True)), Target(shape(SHAPES["six"]))).mirrored


def test_six_spokes_are_never_five():
    rng = np.random.default_rng(2)
    scene = scene_of({"five": turned_by(SHAPES["five"], rng), "six": turned_by(SHAPES["six"], rng)}, [("gap", None, np.zeros(3))])
    for name in ("five", "six"):
        told = twins(scene, Missing("gap", "older delivery", np.eye(4), shape(SHAPES[name]), False, name))
        assert told[0].mesh == name
        assert told[0].aligned.apart_m * 3 < told[1].aligned.apart_m


def test_a_known_misfit_is_told_in_mm():
    """A ball 10 mm larger is 10 mm apart everywhere."""
    found = align(shape(trimesh.creation.icosphere(4, 0.21)), Target(shape(trimesh.creation.icosphere(4, 0.2))))
    assert found.apart_m == pytest.approx(0.010, abs=2e-4) and found.most_m == pytest.approx(0.010, abs=1.5e-3)


def test_open_ends_and_how_far_they_are_apart():
    assert len(ends_of(shape(pipe()))) == 2 and not ends_of(shape(SHAPES["box"]))
    other = pipe()
    other.apply_translation((1.004, 0, 0))
    ends = [ends_of(shape(m)) for m in (pipe(), other)]
    assert misfit_m([ends[0][int(np.argmax([e.middle[0] for e in ends[0]]))]], ends[1]) == pytest.approx(0.004, abs=1e-6)
    assert misfit_m([], ends[1]) is None


def lost_elbow(gap_m=0.0, library=False):
    """A run of pipes with its elbow lost: an empty node where it stood, the elbow itself still on another run."""
    side = np.diag([-1.0, -1, 1, 1])
    side[:3, 3] = (-gap_m, 0.2, 0)
    along = np.eye(4)
    along[:3, :3] = np.array([[0, -1, 0], [-1, 0, 0], [0, 0, 1.0]]) @ np.diag([1, 1, -1])
    along[:3, 3] = (0.2, 0, 0)
    meshes = {"pipe": pipe(), **{k: SHAPES[k] for k in ("box", "rod", "washer")}}
    if not library:
        meshes["elbow"] = elbow()
    nodes = [("run_1", "pipe", along), ("run_2", "pipe", side), ("elbow_1", None, np.zeros(3)), ("far box", "box", (9.0, 0, 0))]
    return scene_of(meshes, [*nodes, *([] if library else [("elbow_2", "elbow", (5.0, 5, 0))])])


def test_a_lost_elbow_is_found_by_its_name_and_its_ends_fit():
    scene = lost_elbow()
    what = missing(scene)
    assert [(w.name, w.how, w.guess, w.like) for w in what] == [("elbow_1", "name", True, "elbow_2")]
    best = twins(scene, what[0])
    assert best[0].mesh == "elbow" and best[0].aligned.apart_m < 1e-4
    assert best[0].end_fit_m == pytest.approx(0.0, abs=1e-3)
    off = lost_elbow(gap_m=0.012)
    assert twins(off, missing(off)[0])[0].end_fit_m == pytest.approx(0.006, abs=1e-3)  # one of two ends is 12 mm off


def test_a_lost_elbow_is_found_in_a_library_by_its_ends_alone():
    scene = lost_elbow(library=True)
    what = missing(scene, expected=["elbow_1"])
    assert what[0].shape is None and what[0].guess
    shelf = scene_of({"elbow": elbow(), "bigger": elbow(0.08), "ball": SHAPES["ball"]}, [])
    best = twins(scene, what[0], [("shelf.glb", shelf)])
    assert (best[0].mesh, best[0].source) == ("elbow", "shelf.glb") and best[0].end_fit_m < 1e-3


def test_an_older_delivery_knows_what_is_missing():
    whole = lost_elbow()
    number = whole.node_number["elbow_1"]
    older = whole.with_node(number, replace(whole.nodes[number], mesh=whole.mesh_keys.index("elbow")))
    what = missing(whole, older)
    assert [(w.name, w.how, w.guess) for w in what] == [("elbow_1", "older delivery", False)]


def test_a_gap_in_an_even_row_is_a_guess():
    row = [("post", "rod", (2.0 * k, 0, 0)) for k in (0, 1, 2, 4, 5)]
    what = missing(scene_of({"rod": SHAPES["rod"]}, row))
    assert [(w.how, w.guess) for w in what] == [("gap in a row", True)] and what[0].place[0, 3] == pytest.approx(6.0)
    for uneven in ((0, 1, 2.3, 4, 5), (0, 1, 2, 3, 4), (0, 2, 4, 8, 16)):
        assert not missing(scene_of({"rod": SHAPES["rod"]}, [("post", "rod", (2.0 * k, 0, 0)) for k in uneven]))


def test_nothing_is_missing_where_empty_nodes_carry_others_or_say_nothing():
    scene = scene_of(
        {"rod": SHAPES["rod"]}, [("group", None, np.zeros(3)), ("rod", "rod", np.zeros(3)), ("pivot", None, np.zeros(3))]
    )
    child = scene.with_node(1, replace(scene.nodes[1], parent=0))
    assert missing(child) == [] and shape_of(child, 0).area > 0
