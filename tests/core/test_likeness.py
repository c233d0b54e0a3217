"""Likeness of shapes against closed forms: distances of pairs of points, and what a turn, a mirror or a scale changes."""

import numpy as np
import pytest
import trimesh

from eddyfall.core.likeness.shapes import Shape, unlikeness


def shape(mesh):
    return Shape(np.asarray(mesh.triangles, float))


def test_pairs_on_a_unit_sphere():
    """P(distance < 1) = 1/4 and the mean is 4/3: the density of distances on a sphere is d/2 (sphere point picking, a handbook's)."""
    ball = shape(trimesh.creation.icosphere(5))
    points = ball.points(400_000)
    apart = np.linalg.norm(points[:200_000] - points[200_000:], axis=1)
    assert (apart < 1).mean() == pytest.approx(0.25, abs=0.004)
    assert apart.mean() == pytest.approx(4 / 3, abs=0.004)


def test_area_box_and_points_are_trimeshs():
    some = trimesh.creation.annulus(0.3, 1.0, 0.5)
    mine = shape(some)
    assert mine.area == pytest.approx(some.area)
    assert np.abs(mine.box - some.bounds).max() < 1e-9
    points = np.abs(shape(trimesh.creation.box((1, 2, 3))).points(500)) / [0.5, 1, 1.5]
    assert points.max() <= 1 + 1e-9 and np.abs(points.max(axis=1) - 1).max() < 1e-9


def test_a_turn_and_a_mirror_change_nothing_and_a_scale_only_the_size():
    some = trimesh.creation.capsule(1.0, 0.3)
    turn = trimesh.transformations.rotation_matrix(np.pi / 2, (0, 1, 0))
    mirrored = some.copy()
    mirrored.vertices[:, 0] *= -1
    rows = unlikeness(
        [shape(some)], [shape(some), shape(some.copy().apply_transform(turn)), shape(mirrored), shape(some.copy().apply_scale(2))]
    )[0]
    assert rows[0] == 0 and rows[1:3].max() < 0.01
    assert rows[3] == pytest.approx((1 - 0.5) / 2, abs=0.01)


def test_shapes_are_told_apart():
    some = [
        trimesh.creation.box((1, 2, 3)),
        trimesh.creation.icosphere(3),
        trimesh.creation.cylinder(0.2, 4),
        trimesh.creation.annulus(1, 1.2, 0.1),
    ]
    table = unlikeness([shape(m) for m in some], [shape(m.subdivide()) for m in some])
    assert (table.argmin(axis=1) == np.arange(4)).all() and np.diag(table).max() < 0.04
    assert (table + np.eye(4)).min() > 0.1


def test_a_shape_without_area_is_like_nothing():
    flat = Shape(np.zeros((1, 3, 3)))
    assert flat.points(4).shape == (0, 3) and flat.distances.sum() == 0
    assert np.isfinite(unlikeness([flat], [shape(trimesh.creation.box())])).all()
