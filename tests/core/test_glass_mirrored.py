"""Glass in reflections: a pane over a polished floor, mirrored or left out, held against a planar mirror, which draws it from where the
mirrored eye stands; that rays through the frame mirror a picture without it is common practice."""

import numpy as np
import pytest

from eddyfall.core.defects.glass_mirrored import CODE
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.lineup.run import line_up
from eddyfall.core.scene.model import Material
from eddyfall.core.sweep import sweep
from eddyfall.core.truth.reflections.glassy import absent_from
from eddyfall.demo.shapes import Shape
from glass_scenes import clear
from layer_scenes import EXACT, card, unlit
from scenes import Thing, build_of

SIZE, RENDERER = (240, 135), Renderer()


def over_a_floor(rgb=(0.4, 0.4, 0.4), pane_y=(0.0, 1.2), mirror=False, copy="before", reflect=True, rough=0.0, **more):
    """A wall of 1 nit behind a pane, both on a polished floor; the eye looks down at it."""
    polished = Material("polished", (0.9, 0.9, 0.9, 1.0), metallic=1.0, roughness=rough)
    return build_of(
        Thing("floor", Shape().quad((-6, 0, 0), (12, 0, 0), (0, 0, -8)), polished),
        card("wall", (-6, 6), (0, 5), -8.0, unlit("wall", 1.0)), card("pane", (-0.8, 0.8), pane_y, -4.0, clear("tinted", rgb)),
        setup={
            "viewpoints": {"eye": {"eye": [0, 1.6, 0], "target": [0, 0.6, -4], "fov_y_deg": 55}}, **EXACT,
            "refract": {"enabled": True, "reflect_copy": copy}, "depth": {"copy_from": "opaque", "near_m": 0.1},
            "reflect": {"enabled": reflect, "rays": 1, "steps": 256, "reach_m": 30.0, "thickness_m": 0.5},
            "mirrors": {"floor": {"node": "floor"}} if mirror else {}, **more,
        },
    )  # fmt: skip


def frame_of(build):
    return RENDERER.frame(build, Request("eye", SIZE), "linear")


def test_what_is_too_much_is_what_a_planar_mirror_shows_less():
    (absent,) = absent_from(RENDERER, frame_of(over_a_floor()))
    names = [d.name for d in frame_of(over_a_floor()).geometry.drawables]
    assert [names[d] for d in absent.things] == ["pane"] and [names[d] for d in absent.mirrors] == ["floor"]
    now, due = frame_of(over_a_floor()).linear, frame_of(over_a_floor(mirror=True)).linear
    less = (now - due).mean(axis=2).astype(float)
    inside = absent.where & (less > 0.2)
    assert inside.sum() > 0.9 * absent.where.sum() > 300
    assert np.median(absent.too_much.mean(axis=2)[inside] / less[inside]) == pytest.approx(1.0, abs=0.02)
    inner = np.s_[88:110, 98:142]  # off the rim of the mirror image
    assert absent.where[inner].mean() > 0.98 and (less[inner] > 0.2).mean() > 0.98


def test_a_copy_of_after_holds_it_where_the_eye_sees_what_is_mirrored_through_it():
    """A low pane is seen before the foot of the wall, and mirrored before what is higher: no copy helps; before a high one it does."""
    low = [absent_from(RENDERER, frame_of(over_a_floor(copy=c)))[0].where.sum() for c in ("before", "after")]
    assert low[0] == low[1] > 0
    before, after = (frame_of(over_a_floor(copy=c, pane_y=(0.0, 3.0))) for c in ("before", "after"))
    (all_of,), left = absent_from(RENDERER, before), absent_from(RENDERER, after)
    mended = all_of.where & ~(left[0].where if left else False)
    assert mended.sum() > 50
    darker = (before.linear - after.linear).mean(axis=2)
    assert np.median(darker[mended]) > 0.2
    assert np.array_equal(
        frame_of(over_a_floor(copy="after", reflect=False)).linear, frame_of(over_a_floor(reflect=False)).linear
    )


@pytest.mark.long
def test_a_clear_pane_is_missed_by_what_its_faces_let_in():
    """Both faces of a pane let in (1 - .04)^2 = .9216 at the most: left out, what is mirrored through it is at least 8.5 % too bright."""
    (absent,) = absent_from(RENDERER, frame_of(over_a_floor(rgb=(1.0, 1.0, 1.0))))
    now, due = frame_of(over_a_floor(rgb=(1.0, 1.0, 1.0))).linear, frame_of(over_a_floor(rgb=(1.0, 1.0, 1.0), mirror=True)).linear
    where = absent.where & (now[..., 1] > 0.1)
    share = absent.too_much[..., 1][where] / now[..., 1][where]
    assert share.min() >= 0.078 and np.median(share) < 0.12 and (1 - due[..., 1][where] / now[..., 1][where]).max() < 0.15
    assert len(found_in(over_a_floor(rgb=(1.0, 1.0, 1.0)))) == 1


def test_rough_mirrors_planar_ones_and_no_reflections_are_no_matter():
    assert not absent_from(RENDERER, frame_of(over_a_floor(rough=0.4)))
    assert not absent_from(RENDERER, frame_of(over_a_floor(reflect=False)))
    assert not absent_from(RENDERER, frame_of(over_a_floor(mirror=True)))
    assert not absent_from(RENDERER, frame_of(over_a_floor(refract={"enabled": False})))


def found_in(build):
    return [f for f in sweep(build, renderer=RENDERER, size=SIZE).findings if f.code == CODE]


@pytest.mark.long
def test_it_is_found_and_a_planar_mirror_cures_it():
    (found,) = found_in(over_a_floor())
    assert found.suspicion.cause == "tinted" and found.suspicion.subjects == ("floor", "pane")
    verdicts = {r.change.title: r.verdict for r in found.remedies}
    assert verdicts["a planar mirror on floor"] == "cures" and "reflect a picture with what lets light through" in verdicts
    assert not found_in(over_a_floor(mirror=True)) and not found_in(over_a_floor(pane_y=(5.0, 6.0))), (
        "nothing is mirrored through it"
    )


def test_a_case_of_it_is_lined_up():
    told = line_up(over_a_floor(pane_y=(0.0, 3.0)), "eye", (105, 90, 30, 16), "glass not mirrored", size=SIZE, renderer=RENDERER)
    assert told.base_score > 0.1 and told.subject == "floor"
    by = {t.title: t for t in told.trials}
    assert by["a planar mirror on floor"].verdict == "clears it" and by["a planar mirror on floor"].after == 0
    assert by["reflections off"].verdict == "no effect", "no mirror image at all is no cure"
    assert by["reflect a picture with what lets light through"].after < by["a planar mirror on floor"].before
