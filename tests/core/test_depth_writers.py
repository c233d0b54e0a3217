"""Depth that is written by what is seen through: layers that it hides, fog that reads it; worked out by hand.

That what writes depth hides what is drawn after it and lies behind, whatever of it is seen through, is how a depth buffer works (common
practice; see the fragment's depth test in any graphics API's specification)."""

import numpy as np
import pytest

from eddyfall.core.defects.depth_writers import FOG, WRITES
from eddyfall.core.errors import EddyfallError
from eddyfall.core.frame.core_sample import core_sample
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.layers.capture import captured
from eddyfall.core.layers.glass_strata import strata_in
from eddyfall.core.layers.written import covered_in
from eddyfall.core.lineup.run import line_up
from eddyfall.core.passes.blended import WRITTEN_OVER
from eddyfall.core.scene.model import Material
from eddyfall.core.sweep import sweep
from layer_scenes import AHEAD, EXACT, card, two_sheets, unlit
from scenes import build_of

SIZE, RENDERER = (96, 54), Renderer()


def middle(build, upto="linear"):
    return float(RENDERER.frame(build, Request("eye", SIZE), upto).linear[27, 48, 1])


def test_a_nearer_sheet_that_is_drawn_first_and_writes_hides_what_lies_behind():
    assert middle(two_sheets()) == pytest.approx(0.5 * 0.2 + 0.05, abs=1e-6)
    assert middle(two_sheets("no")) == pytest.approx(0.5 * (0.5 * 0.2 + 0.05) + 0.4, abs=1e-6)
    assert middle(two_sheets(front_rank=0)) == pytest.approx(0.5 * (0.5 * 0.2 + 0.4) + 0.05, abs=1e-6), (
        "drawn last it hides nothing"
    )


def test_capture_replay_core_sample_and_crop_agree_with_the_pass():
    build, request = two_sheets(), Request("eye", SIZE)
    layers = captured(RENDERER, build, request)
    assert np.abs(layers.drawn - layers.frame.linear).max() < 1e-6 and (layers.every.open == WRITTEN_OVER).sum() > 300
    (one,) = covered_in(layers)
    names = [d.name for d in layers.frame.geometry.drawables]
    assert names[one.writer] == "near" and [names[d] for d in one.hidden] == ["far"]
    assert one.nit_px == pytest.approx((one.where.sum()) * 0.15, rel=1e-5), "due .30, drawn .15"
    sample = core_sample(RENDERER, build, request, 48, 27)
    assert any("hidden by the depth that near wrote" in v.state for v in sample.layers)
    assert sum(np.array(v.colour) * v.weight for v in sample.layers) == pytest.approx(layers.frame.linear[27, 48], abs=1e-6)
    crop = RENDERER.frame(build, Request("eye", SIZE, (40, 20, 60, 40)), "linear")
    assert np.array_equal(crop.linear, layers.frame.linear[20:40, 40:60])


def test_where_nothing_is_sorted_nothing_writes():
    for method in ("weighted", "list"):
        plain, writing = (middle(two_sheets(w, order={"method": method})) for w in ("no", "drawn"))
        assert plain == writing


def findings(build, code):
    return [f for f in sweep(build, renderer=RENDERER).findings if f.code == code]


def test_it_is_found_by_name_and_drawing_it_last_cures_it():
    (found,) = findings(two_sheets(), WRITES)
    assert found.suspicion.cause == "near" and found.suspicion.title == "near writes its depth, and hides far behind it"
    assert [r.change.title for r in found.remedies] == ["draw near after far", "do not write the depth of near"]
    assert [r.verdict for r in found.remedies] == ["cures"] * 2 and not found.remedies[0].warnings
    n = int(found.suspicion.value)
    assert found.remedies[1].warnings == (f"far is then drawn over near, which lies before it: {n} px at eye",)
    for build in (two_sheets(front_rank=0), two_sheets("no", front_rank=0)):
        assert not findings(build, WRITES)


def test_own_faces_that_it_hides_are_no_matter():
    box = unlit("near", 0.6, 0.5)
    build = build_of(
        card("backdrop", (-30, 30), (-20, 20), -12.0, unlit("backdrop", 0.2)), card("a", (-1, 1), (0.5, 2.5), -4.0, box),
        setup={**AHEAD, **EXACT, "materials": {"near": {"writes_depth": "drawn"}}},
    )  # fmt: skip
    assert not findings(build, WRITES)


def test_a_case_of_it_is_lined_up():
    shown = line_up(two_sheets(), "eye", (40, 22, 16, 10), "layer hidden", size=SIZE, renderer=RENDERER)
    assert shown.base_score == pytest.approx(0.15, abs=1e-6)
    by = {t.title: t for t in shown.trials}
    assert by["draw near after far"].verdict == "clears it" and by["draw near after far"].after == 0
    without = by["do not write the depth of near"]
    assert without.verdict == "no effect" and without.after == pytest.approx(0.175, abs=1e-6), "then far is drawn over near"


FOG_OF_THE_BANK = {"fog": {"enabled": True, "fog_per_m": 0.03, "rgb": [0.66] * 3}}


def fogged_pane(writes, pane, **more):
    """A bank of .30 nit, 85 m away, seen through something clear 2 m away, in fog."""
    return build_of(
        card("bank", (-200, 200), (-100, 100), -85.0, unlit("bank", 0.30)), card("pane", (-0.5, 0.5), (1.0, 2.0), -2.0, pane),
        setup={**AHEAD, **EXACT, **FOG_OF_THE_BANK, "materials": {"clear": {"writes_depth": writes}}, **more},
    )  # fmt: skip


CLEAR = Material("clear", (1.0, 1.0, 1.0, 0.0), unlit=True, alpha_mode="BLEND", double_sided=True)
GLASS = Material("clear", (1.0, 1.0, 1.0, 1.0), metallic=0.0, roughness=0.0, ior=1.0, transmission=1.0, double_sided=True)


@pytest.mark.long
@pytest.mark.parametrize("pane", [CLEAR, GLASS])
@pytest.mark.parametrize("copy_from", ["opaque", "prepass"])
def test_fog_takes_the_depth_of_a_pane_that_stands_in_the_copy(pane, copy_from):
    """.30 nit fogged as 2 m away: e^-.06 x .30 + (1 - e^-.06) x .66 = .321; at 85 m .632."""
    more = {"refract": {"enabled": pane is GLASS}, "depth": {"copy_from": copy_from}}
    for writes, due in (("copied", 0.321), ("drawn", 0.632), ("no", 0.632)):
        build = fogged_pane(writes, pane, **more)
        assert middle(build) == pytest.approx(due, abs=6e-4), writes
    sample = core_sample(RENDERER, fogged_pane("copied", pane, **more), Request("eye", SIZE), 48, 27)
    fog = next(v for v in sample.layers if v.pass_name == "fog")
    assert fog.facts["copy_distance_m"] == pytest.approx(2.0, abs=1e-3) and fog.facts["surface_distance_m"] == pytest.approx(
        85, abs=0.1
    )
    assert middle(fogged_pane("copied", pane, **more, shaders={"stock_blended": {}})) > 0


def test_the_fogged_pane_is_found_and_put_right():
    (found,) = findings(fogged_pane("copied", CLEAR), FOG)
    assert found.suspicion.value == pytest.approx(np.log2(0.632 / 0.321), abs=0.01)
    assert "stops too dark" in found.suspicion.title and found.suspicion.subjects == ("pane",)
    assert {r.verdict for r in found.remedies} == {"cures"}
    assert not findings(fogged_pane("drawn", CLEAR), FOG) and not findings(fogged_pane("copied", CLEAR, fog={}), FOG)
    shown = line_up(fogged_pane("copied", CLEAR), "eye", (44, 24, 8, 6), "fogged too little", size=SIZE, renderer=RENDERER)
    assert shown.base_score == pytest.approx(0.977, abs=0.01) and min(t.after for t in shown.trials) == 0


def test_a_word_that_is_none_of_the_three_is_refused():
    with pytest.raises(EddyfallError, match="writes_depth"):
        two_sheets("always")


def test_the_log_of_a_pixel_says_what_hides_a_layer_and_what_the_depth_copy_says():
    build, request = two_sheets(), Request("eye", SIZE)
    told = strata_in(RENDERER, build, captured(RENDERER, build, request), request, 48, 27)
    near, far = told.strata
    assert (near.drawable, near.place) == ("near", "in place") and far.place == "hidden by the depth that another wrote"
    assert far.against == ("near",) and told.true == (1, 0) and far.share == (0, 0, 0)
    assert far.true_share == pytest.approx((0.2,) * 3) and near.true_share == pytest.approx((0.05,) * 3)
    assert told.drawn == pytest.approx((0.15,) * 3) and told.due == pytest.approx((0.30,) * 3)
    # A shell 2.6 m away before a wall 6 m away: whatever takes the frame's depth takes 6 m for it, unless it writes its own.
    for writes, copied in (("no", 6.0), ("drawn", 6.0), ("copied", 2.6)):
        shell = build_of(
            card("wall", (-9, 9), (-9, 9), -6.0, unlit("wall", 0.3)), card("shell", (-1, 1), (0.5, 2.5), -2.6, unlit("shell", 0.8, 0.2)),
            setup={**AHEAD, **EXACT, "materials": {"shell": {"writes_depth": writes}}},
        )  # fmt: skip
        log = strata_in(RENDERER, shell, captured(RENDERER, shell, request), request, 48, 27)
        assert log.strata[0].far_m == pytest.approx(2.6, abs=1e-3) and log.solid_m == pytest.approx(6.0, abs=1e-3)
        assert log.copied_m == pytest.approx(copied, abs=1e-3)
