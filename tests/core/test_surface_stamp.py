"""Surfaces as light meets them: the same however they are cut, different as soon as they differ."""

import numpy as np
import pytest
from scipy.spatial import Delaunay

from bake_scenes import under_a_partition
from eddyfall.core.bake.maps.run import bake
from eddyfall.core.bake.maps.stamps import stale
from eddyfall.core.bake.maps.surface import surface_digest
from eddyfall.core.scene.changes import Change, Operation, apply_change
from eddyfall.core.scene.drawables import pack
from eddyfall.demo.shapes import Shape

QUAD = np.array([[0, 0, 0], [4, 0, 0], [4, 0, 3], [0, 0, 3]], float)


def triangles(shape):
    part = shape.primitive(0)
    return part.positions[part.indices]


def cut_at_random(rng, turn):
    """The quad cut into a Delaunay mesh of points in it and on its border, turned in space."""
    inside = rng.random((15, 2)) * [4, 3]
    border = [[x, z] for x in rng.random(3) * 4 for z in (0, 3)] + [[x, z] for x in (0, 4) for z in rng.random(3) * 3]
    points = np.concatenate([QUAD[:, [0, 2]], border, inside])
    found = Delaunay(points).simplices
    d1, d2 = points[found[:, 1]] - points[found[:, 0]], points[found[:, 2]] - points[found[:, 0]]
    area = d1[:, 0] * d2[:, 1] - d1[:, 1] * d2[:, 0]
    found[area < 0] = found[area < 0][:, ::-1]
    found = found[np.abs(area) > 1e-12]
    flat = np.stack([points[:, 0], np.zeros(len(points)), points[:, 1]], axis=1)
    return (flat @ turn).astype(np.float32)[found]


@pytest.mark.parametrize("seed", range(6))
def test_a_flat_surface_is_the_same_however_it_is_cut(seed):
    rng = np.random.default_rng(seed)
    turn = np.linalg.qr(rng.normal(size=(3, 3)))[0]
    turn *= np.sign(np.linalg.det(turn))
    whole = (QUAD @ turn).astype(np.float32)[[[0, 1, 2], [0, 2, 3]]]
    other = whole[[[0]], [[0, 1, 2]]], whole[[[1]], [[0, 1, 2]]]
    assert surface_digest(cut_at_random(rng, turn)) == surface_digest(whole)
    assert surface_digest(np.concatenate(other)[::-1]) == surface_digest(whole)


def test_whatever_light_could_tell_apart_differs():
    box = triangles(Shape().box((0, 0, 0), (1, 2, 3)))
    first = surface_digest(box)
    taller = triangles(Shape().box((0, 0, 0), (1, 2.001, 3)))
    moved = box + np.float32(0.001)
    without = box[2:]
    turned = box[:, ::-1]
    doubled = np.concatenate([box, box[:2]])
    assert len({first, *(surface_digest(b) for b in (taller, moved, without, turned, doubled))}) == 6
    holed = cut_at_random(np.random.default_rng(3), np.eye(3))
    assert surface_digest(holed) != surface_digest(np.delete(holed, 9, axis=0))
    assert surface_digest(box[::-1]) == first and surface_digest(np.roll(box, 1, axis=1)) == first


def test_gentle_curves_are_no_plane():
    n = 40
    x, z = np.meshgrid(np.linspace(0, 4, n), np.linspace(0, 3, n))

    def sheet(height):
        p = np.stack([x, height, z], axis=-1).reshape(-1, 3).astype(np.float32)
        a = (np.arange(n - 1)[:, None] * n + np.arange(n - 1)[None]).reshape(-1)
        return p[np.concatenate([np.stack([a, a + n, a + n + 1], 1), np.stack([a, a + n + 1, a + 1], 1)])]

    hill = sheet(1e-3 * np.sin(x) * np.sin(z))
    other = sheet(1e-3 * np.sin(x) * np.sin(z) * (1 + 0.2 * (x > 1)))
    assert surface_digest(hill) != surface_digest(other)
    assert surface_digest(sheet(0 * x)) == surface_digest(sheet(0 * x)[::-1])


def test_splitting_a_chart_leaves_the_other_lightmaps_fresh():
    build = under_a_partition(32, samples=4)
    raw = {**build.raw_setup, "meshes": {"floor": {"lightmap_uv": 1}, "partition": {"lightmap_uv": 0}}}
    from eddyfall.core.intake import finish_build
    from eddyfall.core.scene.setup import parse_setup

    baked = bake(finish_build(build.scene, parse_setup(raw), raw, [])).build
    params = {"mesh": "floor", "node": "floor", "point_m": [3.03, 0, 0], "normal": [1, 0, 0]}
    cut = apply_change(baked, Change(id="cut", scope="mesh", operation=Operation(name="uv.split", params=params)))
    states = {s.receiver.name: s.why for s in stale(cut, pack(cut.scene, cut.setup))}
    assert states == {"floor": ("the receiver or how it is baked changed",), "partition": ()}
