"""What is lost behind glass: panes in no copy, mist hidden by a pane's depth or drawn over it; healthy glass says nothing."""

import numpy as np
import pytest

from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.layers.capture import captured
from eddyfall.core.layers.chain import chain_at
from eddyfall.core.layers.glass_strata import strata_in
from eddyfall.core.layers.lost import as_it_lies, lost_in
from eddyfall.demo.shapes import Shape
from glass_scenes import behind_panes, clear, pane, pane_and_mist, two_panes
from layer_scenes import mist_and_cutter
from scenes import Thing

SIZE = (240, 136)
EYE = Request("eye", SIZE)


def told(renderer, build, request=EYE):
    names = [d.name for d in renderer.geometry(build).drawables]
    return {(names[one.drawable], one.how): one for one in lost_in(renderer, build, request)}


def test_a_pane_behind_a_pane_is_in_no_copy(renderer):
    """.9216 for .8493: too bright by 8.5 % in all pixels in which the two overlap; with two layers nothing is lost."""
    build = two_panes(bank=0.9)
    lost = told(renderer, build)
    ((name, one),) = lost.items()
    linear = renderer.frame(build, EYE, "linear").linear[..., 0]
    deep = renderer.frame(two_panes({"layers": 2}, bank=0.9), EYE, "linear").linear[..., 0]
    assert name == ("far_pane", "in no copy") and one.all_pixels == int((np.abs(linear - deep) > 1e-3).sum())
    assert one.brighter == pytest.approx(0.085, abs=1e-3) and one.pixels == one.all_pixels
    assert one.nit_px == pytest.approx(float(np.abs(linear - deep).sum()), rel=1e-4)
    assert not told(renderer, two_panes({"layers": 2}))
    assert not told(renderer, two_panes(materials={"far glass": {"inside": "blend"}}))


def test_a_picture_as_it_lies_has_what_is_lost(renderer):
    """Laid in its true order the second pane is there: .8493, as peeling draws it."""
    build = two_panes(bank=0.5)
    lies = as_it_lies(renderer, build, captured(renderer, build, EYE), EYE)
    np.testing.assert_allclose(lies, renderer.frame(two_panes({"layers": 2}), EYE, "linear").linear, atol=1e-6)
    mist = pane_and_mist()
    lies = as_it_lies(renderer, mist, captured(renderer, mist, EYE), EYE)
    np.testing.assert_allclose(lies[90, 100], 0.9216 * (0.25 + 0.45), atol=1e-4)


def test_the_log_of_a_pixel_has_the_lost_ones_in_their_place(renderer):
    """Two panes: the near one is drawn, the far one is in the true log alone; mist behind a pane likewise; before it, it is drawn last."""
    build = two_panes(bank=0.5)
    told = strata_in(renderer, build, captured(renderer, build, EYE), EYE, 120, 68)
    assert [(s.drawable, s.place) for s in told.strata] == [("near_pane", "in place"), ("far_pane", "in no copy")]
    assert told.true == (1, 0) and told.strata[1].against == ("near_pane",)
    np.testing.assert_allclose((told.drawn[0], told.due[0]), (0.4608, 0.4247), atol=1e-4)
    mist = pane_and_mist()
    told = strata_in(renderer, mist, captured(renderer, mist, EYE), EYE, 120, 68)
    assert [(s.drawable, s.place) for s in told.strata] == [
        ("pane", "in place"), ("near_mist", "in place"), ("mist", "hidden by its depth"),
    ]  # fmt: skip
    assert [told.strata[k].drawable for k in told.true] == ["mist", "pane", "near_mist"]
    assert sum(s.true_share[0] for s in told.strata) + 0.5 * 0.5 * 0.9216 * 0.5 == pytest.approx(told.due[0], abs=1e-4)


def test_a_closed_body_is_one_layer_and_a_hollow_one_has_two(renderer):
    """A solid body (KHR_materials_volume: closed, entered and left) keeps .9216 whether its faces are two-sided or not, however deep it is
    peeled. Of a thin-walled box the far wall is a pane of its own, in no copy of a single layer."""
    box = Shape().box((-0.5, 1.1, -3.0), (0.5, 2.1, -2.0))
    for layers in (1, 2):
        solid = behind_panes(Thing("box", box, clear("body", thickness_m=1.0)), refract={"layers": layers})
        assert not told(renderer, solid)
        np.testing.assert_allclose(renderer.frame(solid, EYE, "linear").linear[68, 120], 0.5 * 0.9216, rtol=1e-4)
    hollow = behind_panes(Thing("box", box, clear("shell")))
    (one,) = told(renderer, hollow).values()
    assert one.panes == (one.drawable,) and one.layers == 2
    told_at = chain_at(renderer, hollow, EYE, 120, 68)
    assert [(b.drawable, b.in_copy) for b in told_at.behind] == [("box", False), ("bank", True)]


def test_layers_are_asked_for_by_how_deep_a_thing_lies_and_not_by_how_many_panes_are_before_it(renderer):
    """A row of six windows before one pane: two layers hold it everywhere."""
    row = [pane(f"w{k}", -2.0, clear(f"g{k}"), x=(-1 + 0.34 * k, -0.7 + 0.34 * k)) for k in range(6)]
    (one,) = told(renderer, behind_panes(*row, pane("inner", -3.0, clear("inner", (0.3, 0.9, 0.5))))).values()
    assert len(one.panes) > 2 and one.layers == 2


def test_dirt_leaves_what_is_lost_as_it_is(renderer):
    """Rougher glass blurs what is seen of it, the second pane is as lost as before."""
    clean, dirty = (told(renderer, two_panes(materials=m)) for m in ({}, {"near glass": {"rougher": 0.15}}))
    assert [v.all_pixels for v in clean.values()] == [v.all_pixels for v in dirty.values()]


def test_mist_behind_a_pane_is_hidden_by_its_depth_or_drawn_over_it(renderer):
    """Behind it: the pane keeps .9216 of half the bank and .45 of the mist. Drawn over it the mist is not dimmed by the pane: .9216 (.25 +
    .45) = .645 for .2304 + .45 = .680. Mist before the pane is in its place either way."""
    hidden = told(renderer, pane_and_mist())
    assert set(hidden) == {("mist", "hidden by its depth")}
    one = hidden["mist", "hidden by its depth"]
    assert one.pixels > 3000 and one.brighter < -0.2
    over = told(renderer, pane_and_mist(materials={"clear": {"hides": False}}))
    assert set(over) == {("mist", "drawn over it")}
    only = over["mist", "drawn over it"]
    ahead = renderer.frame(pane_and_mist(materials={"clear": {"hides": False}}), EYE, "linear").linear[:, :, 0]
    assert ahead[90, 100] == pytest.approx(0.9216 * 0.25 + 0.45, abs=1e-4)
    assert only.brighter == pytest.approx((0.9216 * 0.25 + 0.45) / (0.9216 * 0.70) - 1, abs=0.03)


def test_a_crop_and_fog_and_what_is_whole(renderer):
    build = two_panes(fog={"enabled": True, "fog_per_m": 0.05, "rgb": [0.3, 0.3, 0.3]})
    whole = told(renderer, build)["far_pane", "in no copy"]
    part = told(renderer, build, Request("eye", SIZE, (60, 30, 200, 110)))["far_pane", "in no copy"]
    assert np.array_equal(part.where, whole.where[30:110, 60:200])
    assert not lost_in(Renderer(), mist_and_cutter(), EYE)
    assert not told(renderer, behind_panes(pane("one", -2.0, clear())))
    assert not told(renderer, two_panes({"enabled": False}))
