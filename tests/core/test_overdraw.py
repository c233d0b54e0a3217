"""Blended fragments that are laid for nothing, the budget that they are held against, cards cut down to what shows of them."""

import math
from dataclasses import replace

import numpy as np
import pytest
from scipy.spatial import ConvexHull
from shapely import MultiPoint, Polygon

from eddyfall.core.defects.overdraw import CODE
from eddyfall.core.errors import ChangeError
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.hashing import freeze
from eddyfall.core.intake import finish_build
from eddyfall.core.layers.overdraw import overdraw_of
from eddyfall.core.scene.changes import Change, Operation, apply_change
from eddyfall.core.scene.model import TextureUse
from eddyfall.core.scene.setup import parse_setup
from eddyfall.core.sweep import sweep
from eddyfall.core.uv.trim import area, clipped, savings, trimmed
from eddyfall.demo.shapes import Shape
from edge_scenes import disc, spray
from layer_scenes import unlit
from scenes import Thing, build_of
from volume_scenes import mist_and_sheet

RENDERER = Renderer()


def cut(build, **params):
    return apply_change(build, Change(id="t", scope="mesh", operation=Operation(name="mesh.trim", params=params)))


def test_an_octagon_around_a_disc_saves_what_geometry_says():
    # A regular octagon around a circle has 8 r^2 tan(22.5 deg): of a disc of r .8 on a card of 2 x 2 m, 47.0 % of the card are saved.
    due = 1 - 8 * 0.8**2 * math.tan(math.pi / 8) / 4
    assert due == pytest.approx(0.470, abs=5e-4)
    told = trimmed(disc(1024), 8, 0)
    assert len(told.corners) == 8 and told.saved == pytest.approx(due, abs=0.004)  # half a texel around it is kept for look-ups
    assert savings(spray(), 1) == pytest.approx(due, abs=0.03)  # two texels of 256, safe for the first mip


@pytest.mark.parametrize("seed", range(12))
def test_polygons_hold_all_that_shows_and_are_no_larger_than_bounds(seed):
    rng = np.random.default_rng(seed)
    alpha = np.zeros((48, 64))
    for _ in range(int(rng.integers(1, 5))):
        x, y, w, h = rng.integers(2, 40), rng.integers(2, 30), rng.integers(2, 14), rng.integers(2, 14)
        alpha[y : y + h, x : x + w] = 1
    for corners in (3, 4, 6, 8, 16):
        told = trimmed(alpha, corners, 0)
        polygon = Polygon(told.corners * (64, 48))
        rows, columns = np.nonzero(alpha)
        texels = MultiPoint(np.concatenate([np.stack([columns + dx, rows + dy], 1) for dx in (0, 1) for dy in (0, 1)]))
        assert polygon.buffer(1e-6).contains(texels)
        hull = ConvexHull(np.array([p.coords[0] for p in texels.geoms])).volume
        assert polygon.area == pytest.approx(area(told.corners * (64, 48))) and polygon.area >= hull - 1e-6
        assert corners < 4 or polygon.area <= np.ptp(columns + 0.0) * np.ptp(rows + 0.0) * 1.6 + 200
        assert told.saved == pytest.approx(1 - polygon.area / (64 * 48))


def test_cut_polygons_are_shapelys():
    rng = np.random.default_rng(2)
    for _ in range(20):
        points = rng.uniform(-3, 5, (12, 2))
        hull = points[ConvexHull(points).vertices]
        ours, theirs = clipped(hull, (0.0, 0.0, 2.0, 2.0)), Polygon(hull).intersection(Polygon([(0, 0), (2, 0), (2, 2), (0, 2)]))
        assert (area(ours) if len(ours) else 0.0) == pytest.approx(theirs.area, abs=1e-9)


def test_trimmed_cards_show_the_same_and_lay_less():
    build, request = spray(), Request("eye", (480, 270))
    before, after = RENDERER.frame(build, request), RENDERER.frame(cut(build, mesh="spray_0"), request)
    assert np.abs(before.linear - after.linear).max() < 1e-4
    was, now = overdraw_of(before), overdraw_of(after)
    assert now.depth.sum() / was.depth.sum() == pytest.approx(1 - savings(build, 1), abs=0.01)
    assert was.idle / was.depth.sum() == pytest.approx(1 - math.pi * 0.64 / 4, abs=0.02)
    assert now.idle / now.depth.sum() < 0.15


@pytest.mark.long
def test_a_budget_is_held_against_what_is_laid_and_trimming_proves_itself():
    build = spray(6)
    mean = overdraw_of(RENDERER.frame(build, Request("eye", (480, 270)))).mean
    assert not [f for f in sweep(build, renderer=RENDERER).findings if f.code == CODE]
    assert not [f for f in sweep(spray(6, mean * 1.01), renderer=RENDERER).findings if f.code == CODE]
    (found,) = [f for f in sweep(spray(6, mean * 0.95), renderer=RENDERER).findings if f.code == CODE]
    assert found.suspicion.value == pytest.approx(mean, rel=0.02) and found.suspicion.subjects == tuple(
        f"spray_{k}" for k in range(6)
    )
    trims = [r for r in found.remedies if r.change.operation and r.change.operation.name == "mesh.trim"]
    assert len(trims) == 6 and all(r.verdict == "cures" for r in trims)


@pytest.mark.parametrize("params, says", [
    ({"mesh": "nothing"}, "does not exist"), ({"mesh": "spray_0", "corners": 2}, "3 to 16"),
    ({"mesh": "spray_0", "corners": True}, "3 to 16"), ({"mesh": "spray_0", "safe_mip": 9}, "0 to 6"),
    ({"mesh": "bank"}, "without a picture"),
])  # fmt: skip
def test_what_cannot_be_trimmed_is_refused(params, says):
    with pytest.raises(ChangeError, match=says):
        cut(spray(), **params)


def test_meshes_that_are_no_cards_are_left_alone():
    build = build_of(Thing("box", Shape().box((0, 0, -3), (1, 1, -2)), unlit("mist", 0.5, 0.5)))
    with pytest.raises(ChangeError, match="without a picture"):
        cut(build, mesh="box")
    assert savings(build, 0) is None


def material_of(build, **entry):
    """The build with the spray's material set otherwise."""
    raw = {**build.raw_setup, "materials": {"spray": entry}}
    return finish_build(build.scene, parse_setup(raw), raw, [])


def test_what_shows_without_alpha_is_not_cut_off():
    """Drawn as opaque all of a card shows; multiplied colours add their light where alpha is nought."""
    with pytest.raises(ChangeError, match="without a picture whose alpha shows"):
        cut(material_of(spray(), blend="opaque"), mesh="spray_0")
    glow = material_of(spray(), blend="premultiplied")
    assert savings(glow, 1) == pytest.approx(0.0, abs=1e-9)


@pytest.mark.parametrize("wrap", ["clamp", "mirror", "repeat"])
def test_a_card_beyond_its_picture_is_cut_as_it_wraps(wrap):
    build = spray()
    use = TextureUse(0, wrap_u=wrap, wrap_v=wrap)
    scene = build.scene.with_mesh(1, build.scene.meshes[1])
    part = scene.meshes[1].primitives[0]
    uv = np.array([[-0.5, 1], [1.5, 1], [1.5, 0], [-0.5, 0]], np.float32)
    part = replace(part, attributes={**part.attributes, "TEXCOORD_0": freeze(uv)})
    scene = scene.with_mesh(1, replace(scene.meshes[1], primitives=(part,)))
    wide = replace(build, scene=replace(scene, materials=(scene.materials[0], replace(scene.materials[1], base_texture=use))))
    request = Request("eye", (480, 270))
    before, after = (RENDERER.frame(b, request).linear for b in (wide, cut(wide, mesh="spray_0")))
    # Clear all round by clamping: cut; discs at the sides by mirror and repeat: they stay.
    assert np.abs(before - after).max() < 2e-3
    assert (savings(wide, 1) > 0.6) == (wrap == "clamp")


def test_a_volume_is_one_fragment_of_its_pixel_whatever_lies_in_it():
    alone = overdraw_of(RENDERER.frame(mist_and_sheet(80.0), Request("eye", (97, 55)), "linear"))
    within = overdraw_of(RENDERER.frame(mist_and_sheet(30.0), Request("eye", (97, 55)), "linear"))
    laid = [{v.drawable: v.fragments for v in o.laid} for o in (alone, within)]
    assert laid[0][1] == laid[1][1] == 97 * 55 and within.depth.max() == 2
