"""Rays on world geometry against spheres in closed form, a plain ray caster, and themselves cut otherwise."""

import numpy as np
import pytest
import trimesh

from eddyfall.core.raster.rasterise import Cutouts
from eddyfall.core.rays import threads
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.drawables import pack
from eddyfall.core.scene.model import Image, Material, TextureUse
from eddyfall.demo.shapes import Shape
from plain_rays import plain_hits
from scenes import Thing, build_of

SOLID = Cutouts(
    np.full(8, -1, np.int32), np.zeros(1, np.float32), np.ones(1, np.float32), np.zeros((1, 6), np.int32),
    np.array([[0, 1, 1]], np.int64), np.full(1, 255, np.uint8), np.zeros(1, np.float32),
)  # fmt: skip


def scene_of(build, chosen=None):
    geometry = pack(build.scene, build.setup)
    part = np.zeros(len(geometry.drawables), bool)
    part[: len(build.scene.nodes)] = True if chosen is None else chosen  # the last drawable is a plate for trials
    return RayScene(geometry, part, SOLID, geometry.uv0), geometry


@pytest.fixture(scope="module")
def boxes():
    rng = np.random.default_rng(5)
    things = [
        Thing(f"box_{i}", Shape().box(low, low + rng.uniform(0.5, 2, 3))) for i, low in enumerate(rng.uniform(-4, 4, (8, 3)))
    ]
    return build_of(*things)


def test_first_hits_are_those_of_a_plain_caster(boxes):
    rays, geometry = scene_of(boxes)
    rng = np.random.default_rng(6)
    start = rng.uniform(-6, 6, (1500, 3))
    direction = rng.uniform(-3, 3, (1500, 3)) - start
    triangle, distance = rays.first_hit(start, direction)
    wanted = plain_hits(geometry.positions[geometry.triangles[rays.triangles]], start, direction)[1]
    agree = np.isfinite(wanted) == (triangle >= 0)
    assert agree.mean() > 0.99  # rays through an edge may slip
    hit = agree & (triangle >= 0)
    assert hit.sum() > 100
    assert distance[hit] == pytest.approx(wanted[hit], rel=1e-4, abs=1e-4)


def test_distance_is_in_lengths_of_the_direction(boxes):
    rays, _ = scene_of(build_of(Thing("wall", Shape().quad((-1, -1, -5), (2, 0, 0), (0, 2, 0)))))
    _, distance = rays.first_hit(np.zeros((2, 3)), np.array([[0, 0, -1.0], [0, 0, -0.25]]))
    assert distance == pytest.approx([5, 20])


def test_hits_of_a_ball_lie_on_it():
    # |o + t d| = r solved for t.
    ball = trimesh.creation.icosphere(subdivisions=4, radius=2.0)
    shape = Shape().add(ball.vertices, ball.vertex_normals, np.zeros((len(ball.vertices), 2)), ball.faces)
    rays, _ = scene_of(build_of(Thing("ball", shape)))
    rng = np.random.default_rng(3)
    start = rng.normal(size=(200, 3))
    start *= 6 / np.linalg.norm(start, axis=1, keepdims=True)
    direction = rng.uniform(-1, 1, (200, 3)) - start
    b, c = (start * direction).sum(axis=1), 36 - 4.0
    a = (direction**2).sum(axis=1)
    wanted = (-b - np.sqrt(b * b - a * c)) / a
    _, distance = rays.first_hit(start, direction)
    assert distance == pytest.approx(wanted, rel=5e-3)


def test_only_drawables_that_take_part_are_hit(boxes):
    part = np.zeros(8, bool)
    part[3] = True
    rays, geometry = scene_of(boxes, part)
    rng = np.random.default_rng(2)
    triangle, distance = rays.first_hit(rng.uniform(-6, 6, (400, 3)), rng.normal(size=(400, 3)))
    assert set(geometry.owner[triangle[triangle >= 0]]) == {3}
    assert np.isinf(distance[triangle < 0]).all()


def test_a_cutout_lets_rays_through_its_holes():
    # glTF 2.0, 3.9.4: alpha at or above the cutoff is opaque.
    pixels = np.full((1, 2, 4), 255, np.uint8)
    pixels[0, 0, 3] = 0
    material = Material(
        "grating", base_texture=TextureUse(0, nearest=True), alpha_mode="MASK", alpha_cutoff=0.5, double_sided=True
    )
    net = Thing("net", Shape().quad((-1, -1, -2), (2, 0, 0), (0, 2, 0)), material)
    back = Thing("back", Shape().quad((-2, -2, -6), (4, 0, 0), (0, 4, 0)))
    build = build_of(net, back, images=(Image("holes", pixels),))
    geometry = pack(build.scene, build.setup)
    cutouts = Cutouts(
        np.array([0, -1, -1], np.int32), np.array([0.5], np.float32), np.ones(1, np.float32),
        np.array([[0, 1, 0, 0, 1, 1]], np.int32), np.array([[0, 2, 1]], np.int64), pixels[0, :, 3].copy(), np.zeros(1, np.float32),
    )  # fmt: skip
    rays = RayScene(geometry, np.array([True, True, False]), cutouts, geometry.uv0)
    start = np.array([[-0.75, 0.1, 0.0], [-0.25, 0.1, 0.0]])  # a tile is a metre: hole on its left half
    _, distance = rays.first_hit(start, np.tile([0, 0, -1.0], (2, 1)))
    assert distance == pytest.approx([6, 2], rel=1e-4)


def test_rays_answer_the_same_however_they_are_cut(boxes, monkeypatch):
    rays, _ = scene_of(boxes)
    rng = np.random.default_rng(9)
    start, direction = rng.uniform(-6, 6, (5000, 3)), rng.normal(size=(5000, 3))
    whole = rays.first_hit(start, direction)
    monkeypatch.setattr(threads, "LEAST_RAYS", 100)
    monkeypatch.setattr(threads, "processors", lambda: 7)
    threads._pool.cache_clear()
    parts = rays.first_hit(start, direction)
    assert (whole[0] == parts[0]).all() and (whole[1] == parts[1]).all()


def test_no_geometry_and_no_rays():
    rays, _ = scene_of(build_of(Thing("wall", Shape().quad((0, 0, 0), (1, 0, 0), (0, 1, 0)))), np.zeros(1, bool))
    triangle, distance = rays.first_hit(np.zeros((3, 3)), np.ones((3, 3)))
    assert (triangle == -1).all() and np.isinf(distance).all()
    assert len(rays.first_hit(np.zeros((0, 3)), np.zeros((0, 3)))[0]) == 0
