"""Twins among shapes that others made: each turned, moved, cut into other triangles or mirrored, and looked for among all of them."""

import numpy as np
import pytest
import trimesh

from eddyfall.core.errors import EddyfallError
from eddyfall.core.hashing import freeze
from eddyfall.core.likeness.twins import Missing, shape_of, twins
from eddyfall.core.scene.model import Material, Mesh, Primitive, Scene
from eddyfall.core.scene.read.gltf import read_scene
from sizes import of_many
from strangers import strangers

LEAST, MOST = 60, 6000  # triangles
COUNT = of_many(20, 6)


@pytest.fixture(scope="module")
def shapes(tmp_path_factory):
    """Meshes of strangers' files by file and name, no two of them the same; each of its own file."""
    found, seen = {}, set()
    for path in strangers(tmp_path_factory.mktemp("packed")):
        try:
            scene = read_scene(path)
        except EddyfallError:
            continue
        for number, key in enumerate(scene.mesh_keys):
            shape = shape_of(scene, number)
            if not LEAST <= len(shape.corners) <= MOST or not np.isfinite(shape.corners).all() or shape.area <= 0:
                continue
            size = float(np.linalg.norm(shape.box[1] - shape.box[0]))
            kind = (len(shape.corners), round(shape.area / size**2, 4))
            if kind not in seen:
                seen.add(kind)
                found[f"{path.stem} {key}"] = shape.corners / size  # all as large as one another: size gives nothing away
                break
        if len(found) == COUNT:
            break
    assert len(found) == COUNT, "install assimp-testmodels: ./run test does"
    return found


def library(shapes):
    meshes = []
    for name, corners in shapes.items():
        flat = corners.reshape(-1, 3).astype(np.float32)
        part = Primitive({"POSITION": freeze(flat)}, freeze(np.arange(len(flat), dtype=np.int32).reshape(-1, 3)), 0)
        meshes.append(Mesh(name, (part,)))
    return Scene(tuple(meshes), (), (Material("m"),))


def wanted(corners, rng, mirrored=False):
    """The shape as it should be: in other triangles, turned by any angle about an axis, perhaps mirrored."""
    mesh = trimesh.Trimesh(corners.reshape(-1, 3), np.arange(len(corners) * 3).reshape(-1, 3), process=False)
    points, faces = trimesh.remesh.subdivide(mesh.vertices, mesh.faces)
    turn = trimesh.transformations.rotation_matrix(rng.uniform(0, 0.35), rng.normal(size=3))[:3, :3]
    made = points[faces] @ turn.T
    return type(shape_of(library({"a": corners}), 0))(made * [-1, 1, 1] if mirrored else made)


def first(shapes, scene, name, rng, mirrored=False):
    what = Missing(name, "older delivery", np.eye(4), wanted(shapes[name], rng, mirrored), False, name)
    return twins(scene, what)[0]


def test_the_true_twin_is_first_in_nine_of_ten_of_others_shapes(shapes):
    rng, scene = np.random.default_rng(6), library(shapes)
    hits = [first(shapes, scene, name, rng) for name in shapes]
    right = sum(t.mesh == name for t, name in zip(hits, shapes))
    assert len(shapes) - right <= len(shapes) // 10, [(t.mesh, name) for t, name in zip(hits, shapes) if t.mesh != name]
    # Laid over one another they are apart by less than a five hundredth of their size.
    apart = [t.aligned.apart_m for t, name in zip(hits, shapes) if t.mesh == name]
    assert np.median(apart) < 0.002


@pytest.mark.long
def test_a_mirrored_one_is_told_where_its_mirror_image_is_another_shape(shapes):
    """A shape that is its own mirror image is rightly told as the same: those that are not lie worse when they may not be mirrored."""
    rng, scene = np.random.default_rng(7), library(shapes)
    told = []
    for name in list(shapes)[:8]:
        plain, mirrored = (first(shapes, scene, name, rng, m) for m in (False, True))
        if plain.mesh == mirrored.mesh == name and mirrored.aligned.mirrored:
            told.append(name)
            assert mirrored.aligned.apart_m < 0.01
        elif mirrored.mesh == name:
            assert mirrored.aligned.apart_m < 0.01, f"{name} is told as unmirrored, but lies badly so"
    assert told
