"""Faces that face apart are a finding where they show or are baked, and none where nobody can see them."""

from dataclasses import replace

import numpy as np
import pytest

from eddyfall.core.frame.memo import Memo
from eddyfall.core.frame.render import Renderer
from eddyfall.core.scene.model import Mesh, Primitive
from eddyfall.core.sweep import sweep
from eddyfall.demo.shapes import Shape, grid_charts
from scenes import GREY, Thing, build_of

RENDERER = Renderer(Memo(64 * 1024**2))


def crate(double_sided=False, lightmap=False, turned=(0, 1), inner=False):
    """A crate seen from the front, some triangles turned; `inner`: those of a smaller box inside it."""
    shape = Shape().box((-1, -1, -7), (1, 1, -5))
    if inner:
        shape.box((-0.5, -0.5, -6.5), (0.5, 0.5, -5.5))
    thing = Thing("crate", shape, replace(GREY, double_sided=double_sided), lightmap=grid_charts(shape) if lightmap else None)
    setup = {
        "viewpoints": {"eye": {"eye": [2, 2, 0], "target": [0, 0, -6], "fov_y_deg": 40}},
        "sky": {"zenith_rgb": [0.2, 0.3, 0.8], "horizon_rgb": [0.2, 0.3, 0.8], "ground_rgb": [0.2, 0.3, 0.8]},
    }
    build = build_of(thing, setup=setup)
    index = build.scene.mesh_keys.index("crate")
    part = build.scene.meshes[index].primitives[0]
    indices = part.indices.copy()
    rows = np.array(turned) + (12 if inner else 0)
    indices[rows] = indices[rows][:, [0, 2, 1]]
    mesh = Mesh("crate", (Primitive(part.attributes, indices, part.material, part.source_index),))
    return replace(build, scene=build.scene.with_mesh(index, mesh))


def facing_the_eye():
    """Triangles of the crate that face the eye, which looks from the right, from above and from in front."""
    shape = Shape().box((-1, -1, -7), (1, 1, -5)).primitive(0)
    corners = shape.positions.astype(float)[shape.indices]
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    return np.flatnonzero((normal * ([2, 2, 0] - corners[:, 0])).sum(axis=1) > 0)[:2]


def winding(build):
    return [f for f in sweep(build, size=(160, 90), renderer=RENDERER).findings if f.code == "face.winding"]


def test_a_turned_face_that_is_seen_through_is_found_and_turned_back():
    [found] = winding(crate(turned=facing_the_eye()))
    assert found.severity == "blocking" and found.best is not None
    assert found.best.change.operation.name == "face.rewind"


def test_a_turned_face_that_no_frame_shows_is_none():
    assert winding(crate(inner=True)) == []


@pytest.mark.parametrize("lightmap", [False, True])
def test_a_turned_face_drawn_on_both_sides_matters_to_a_bake_alone(lightmap):
    # A face drawn on both sides looks the same either way round; a bake gathers light on the side its normal shows.
    found = winding(crate(double_sided=True, lightmap=lightmap, turned=facing_the_eye()))
    assert bool(found) == lightmap
