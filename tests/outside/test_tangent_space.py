"""Tangents of parts that came without: against the npm package mikktspace, which is the program that exporters bake by, compiled."""

import shutil
import struct
import subprocess
from dataclasses import replace

import numpy as np
import pytest
import trimesh

from eddyfall.core.hashing import freeze
from eddyfall.core.scene.drawables import pack
from eddyfall.core.scene.model import Image, Material, Primitive, TextureUse
from eddyfall.core.scene.tangent_space import combed, corner_tangents
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of
from strangers import NPM

MAIN = NPM / "mikktspace" / "dist" / "main" / "mikktspace_main.js"
RUN = """
const { generateTangents } = require(process.argv[1]);
const given = require('fs').readFileSync(0), n = given.readUInt32LE(0);
const f = new Float32Array(given.buffer.slice(given.byteOffset + 4, given.byteOffset + 4 + n * 32));
const out = generateTangents(f.slice(0, 3 * n), f.slice(3 * n, 6 * n), f.slice(6 * n, 8 * n));
process.stdout.write(Buffer.from(out.buffer, out.byteOffset, out.byteLength));
"""
there = pytest.mark.skipif(not MAIN.exists() or shutil.which("node") is None, reason="the package is not there")


def theirs(positions, normals, uv, triangles):
    """(3 t, 4) tangents of corners, by the package."""
    rows = [np.asarray(v, "<f4")[triangles.reshape(-1)] for v in (positions, normals, uv)]
    given = struct.pack("<I", 3 * len(triangles)) + b"".join(v.tobytes() for v in rows)
    return np.frombuffer(
        subprocess.run(["node", "-e", RUN, MAIN], input=given, capture_output=True, check=True).stdout, "<f4"
    ).reshape(-1, 4)


def around(mesh):
    """Coordinates by angle and height: they turn over at a seam."""
    v = mesh.vertices
    return np.stack([np.arctan2(v[:, 2], v[:, 0]) / 6.28, v[:, 1]], axis=1)


def folded(mesh):
    """Coordinates that two halves share, mirrored; triangles on the fold span none."""
    return np.abs(mesh.vertices[:, :2])


def at_random(mesh):
    return np.random.default_rng(3).normal(size=(len(mesh.vertices), 2))


@there
@pytest.mark.parametrize("uv_of", [around, folded, at_random])
@pytest.mark.parametrize(
    "mesh", [trimesh.creation.torus(1, 0.3), trimesh.creation.icosphere(2), trimesh.creation.capsule(1.0, 0.3)]
)
def test_corners_have_the_tangents_of_the_program(mesh, uv_of):
    """Within a tenth of a degree; the sign is turned over, since glTF's v runs down the picture. At a pole, where opposite
    triangles cancel each other, the program leaves some out, and on a fold chance decides: one corner in a hundred may differ."""
    given = mesh.vertices.astype(np.float32), mesh.vertex_normals.astype(np.float32), uv_of(mesh).astype(np.float32), mesh.faces
    mine, due = corner_tangents(*given).reshape(-1, 4), theirs(*given)
    said = mine[:, 3] != 0
    assert said.mean() > 0.9
    off = np.einsum("nj,nj->n", mine[:, :3], due[:, :3])[said] < np.cos(np.radians(0.1))
    assert (off | (mine[said, 3] != -due[said, 3])).mean() <= 0.01


def test_a_flat_card_has_the_direction_of_its_u_at_each_corner():
    """Along +u, and the bitangent up the picture, which is -v."""
    given = np.float32([[0, 0, 0], [2, 0, 0], [2, 1, 0], [0, 1, 0]]), np.float32([[0, 0, 1]] * 4)
    uv, triangles = np.float32([[0, 1], [1, 1], [1, 0], [0, 0]]), np.int32([[0, 1, 2], [0, 2, 3]])
    tangents = corner_tangents(*given, uv, triangles).reshape(-1, 4)
    np.testing.assert_allclose(tangents, np.tile([1, 0, 0, 1], (6, 1)), atol=1e-7)
    assert (np.cross([0, 0, 1], tangents[0, :3]) * tangents[0, 3])[1] > 0
    mirrored = corner_tangents(*given, uv * np.float32([-1, 1]), triangles).reshape(-1, 4)
    np.testing.assert_allclose(mirrored, np.tile([-1, 0, 0, -1], (6, 1)), atol=1e-7)


def test_vertices_on_a_mirror_seam_are_told_apart_and_nothing_else_changes():
    """Two quads whose coordinates mirror each other share two vertices: each gets a second one; triangles stay in place and order."""
    positions = np.float32([[-1, 0, 0], [0, 0, 0], [1, 0, 0], [-1, 1, 0], [0, 1, 0], [1, 1, 0]])
    uv = np.float32([[1, 1], [0, 1], [1, 1], [1, 0], [0, 0], [1, 0]])
    triangles = np.int32([[0, 1, 4], [0, 4, 3], [1, 2, 5], [1, 5, 4]])
    target = {"POSITION": freeze(positions * 0.1)}
    plain = {"POSITION": positions, "NORMAL": np.float32([[0, 0, 1]] * 6), "TEXCOORD_0": uv}
    part = Primitive({k: freeze(v) for k, v in plain.items()}, freeze(triangles), 0, targets=(target,))
    done = combed(part, TextureUse(0))
    assert len(done.positions) == 8 and len(done.targets[0]["POSITION"]) == 8
    for name in plain:
        np.testing.assert_array_equal(done.attributes[name][done.indices], part.attributes[name][part.indices])
    np.testing.assert_array_equal(done.targets[0]["POSITION"][done.indices], target["POSITION"][part.indices])
    np.testing.assert_array_equal(done.attributes["TANGENT"][done.indices[:2], 0], -np.ones((2, 3)))
    np.testing.assert_array_equal(done.attributes["TANGENT"][done.indices[2:], 0], np.ones((2, 3)))
    assert combed(part, None) is part and combed(done, TextureUse(0)) is done


def test_only_what_has_a_normal_map_is_combed():
    """A part without one keeps its vertices, and a scene of such parts has no tangents at all."""
    card = Shape().quad((-1, -1, 0), (2, 0, 0), (0, 2, 0))
    image = Image("waves", freeze(np.full((4, 4, 4), 128, np.uint8)))
    bare, mapped = Material("bare"), Material("mapped", normal_texture=TextureUse(0))
    both = build_of(Thing("one", card, bare), Thing("two", card, mapped), images=(image,))
    geometry = pack(both.scene, both.setup)
    one, two = (geometry.triangles[d.first : d.last] for d in geometry.things)
    assert not geometry.tangents[one].any() and geometry.tangents[two, 3].all()
    alone = replace(both.scene, materials=(bare, replace(mapped, normal_texture=None)))
    assert len(pack(alone, both.setup).tangents) == 0
