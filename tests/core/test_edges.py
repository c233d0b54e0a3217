"""Edges of what has alpha: what a picture's colours are told to be, rims by frames, coverage by level; what puts each right.

That multiplied colours have to be averaged, and that averaged alpha thins cutouts out, are facts of the trade (Porter and Duff 1984;
Castano 2010, both from memory); how a picture is told is ours."""

from dataclasses import replace

import numpy as np
import pytest
from scipy.ndimage import gaussian_filter
from scipy.stats import binom

from eddyfall.core.bake.maps.stamps import stamps
from eddyfall.core.defects.edge_faults import COVERAGE, FAMILY, FRINGE, WRONG_KIND
from eddyfall.core.defects.survey import Survey
from eddyfall.core.errors import ChangeError
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.intake import finish_build
from eddyfall.core.layers.coverage import cover_of
from eddyfall.core.layers.edges import told
from eddyfall.core.scene.changes import Change, Operation, apply_change
from eddyfall.core.scene.setup import parse_setup
from eddyfall.core.shade.alpha_forms import Form, stored_as
from eddyfall.core.sweep import sweep
from edge_scenes import EDGE, foliage, leaf_alpha, leaf_on, leaves_before, noise, two_cards

RENDERER = Renderer()


def smoke_alpha(rng):
    soft = gaussian_filter(rng.random((EDGE, EDGE)), rng.uniform(3, 6), mode="wrap")
    return (soft - soft.min()) / np.ptp(soft)


def painted(rng, alpha, holds="straight"):
    """A picture of a mottled colour of its own under an alpha (h, w), holding its colours as said."""
    mottle = gaussian_filter(rng.normal(size=(EDGE, EDGE, 3)), (2, 2, 0)) * rng.uniform(0, 0.25)
    codes = np.clip(rng.uniform(0.25, 0.95, 3) + mottle, 0.02, 1) * 255
    straight = np.concatenate([codes, alpha[..., None] * 255], axis=2)
    if holds == "premultiplied_codes":
        straight[..., :3] *= alpha[..., None]
    pixels = np.rint(straight).astype(np.uint8)
    return stored_as(pixels, Form("straight", "premultiplied", False)) if holds == "premultiplied" else pixels


def test_what_two_hundred_pictures_hold_is_told_or_said_not_to_be_known():
    rng, right, said = np.random.default_rng(77), 0, 0
    for number in range(200):
        holds = ("straight", "premultiplied", "premultiplied_codes")[number % 3]
        alpha = leaf_alpha(rng, rng.uniform(1, 8)) if number % 2 else smoke_alpha(rng)
        pixels = painted(rng, alpha, holds)
        found = told(pixels, np.ones((EDGE, EDGE), bool)).holds
        said += found is not None
        right += found == holds
    assert said >= 180 and right == said, (right, said)


def test_black_and_flat_pictures_say_nothing():
    rng, whole = np.random.default_rng(1), np.ones((EDGE, EDGE), bool)
    black = np.zeros((EDGE, EDGE, 4), np.uint8)
    black[..., 3] = np.rint(leaf_alpha(rng, 4) * 255)
    assert told(black, whole).holds is None
    flat = np.full((EDGE, EDGE, 4), 128, np.uint8)
    assert told(flat, whole).holds is None
    assert told(painted(rng, leaf_alpha(rng, 4)), np.zeros((EDGE, EDGE), bool)).holds is None


def codes_of(build, family=FAMILY):
    return {s.code: s for s in family.inspect(Survey(build, RENDERER))}


@pytest.mark.parametrize("blend", ["BLEND", "MASK"])
def test_a_white_ground_shows_as_a_rim_and_both_remedies_end_it(blend):
    build = leaves_before(0.05, leaf_on((255, 255, 255)), blend)
    found = codes_of(build)
    assert set(found) == {FRINGE}
    rim = found[FRINGE]
    assert rim.subjects == ("leaves",) and rim.value > 100 and rim.evidence[1].value > 5
    titles = {r.change.title: r.verdict for f in sweep(build, renderer=RENDERER).findings for r in f.remedies if f.code == FRINGE}
    assert titles == {
        "average the colours of leaf multiplied by alpha": "cures", "spread the colours of leaf picture into what is clear": "cures",
    }  # fmt: skip


def test_a_ground_of_the_leafs_own_colour_is_left_alone():
    assert codes_of(leaves_before(0.05, leaf_on((89, 137, 69)))) == {}
    spread = apply_change(
        leaves_before(0.05, leaf_on((255, 255, 255))),
        Change(id="s", scope="material", operation=Operation(name="texture.spread_colour", params={"image": "leaf picture"})),
    )
    assert codes_of(spread) == {}
    was, now = leaf_on((255, 255, 255)), spread.scene.images[0].pixels
    assert (now[..., 3] == was[..., 3]).all() and (now[..., :3] == (89, 137, 69)).all()


@pytest.mark.parametrize("holds, blend, cure", [
    ("premultiplied", "blended", "draw leaf as premultiplied"),
    ("premultiplied_codes", "premultiplied", "read the colours of leaf as multiplied by alpha as codes"),
    ("straight", "premultiplied", "draw leaf as blended"),
])  # fmt: skip
def test_a_picture_that_is_taken_for_what_it_is_not_is_told_and_cured(holds, blend, cure):
    alpha = leaf_alpha(np.random.default_rng(3), 12.0)
    pixels = painted(np.random.default_rng(8), alpha, holds)
    build = leaves_before(0.6, pixels, blend=blend)
    found = codes_of(build)
    assert WRONG_KIND in found, found
    assert found[WRONG_KIND].facts["holds"] == holds
    assert cure in [c.change.title for c in found[WRONG_KIND].candidates]
    for candidate in found[WRONG_KIND].candidates:
        assert WRONG_KIND not in codes_of(apply_change(build, candidate.change)), candidate.change.title


def test_pictures_that_are_taken_for_what_they_are_bring_nothing():
    alpha = leaf_alpha(np.random.default_rng(3), 12.0)
    for holds, blend in (("straight", "blended"), ("premultiplied", "premultiplied")):
        pixels = painted(np.random.default_rng(8), alpha, holds)
        assert WRONG_KIND not in codes_of(leaves_before(0.6, pixels, blend=blend))


def test_coverage_falls_with_the_level_as_the_binomial_says():
    # Of binary alpha with 30 % at random, level k passes where at least half of 4^k texels do: derived (binomial), the effect described by
    # Castano 2010. Levels 1, 2, 3: .3483, .0744, .0006. The card of 256 texels on 64 px is tested at level 2 everywhere.
    f_px = 270 / 2 / np.tan(np.radians(20))
    z = 2 * f_px / 64
    build = leaves_before(0.05, noise(0.3), "MASK", z=-z)
    cover = cover_of(RENDERER.frame(build, Request("eye", (480, 270)), "depth"), [1])
    assert [v.level for v in cover.levels] == [2] and 3900 < cover.pixels < 4300
    assert cover.due / cover.pixels == pytest.approx(0.3, abs=0.01)
    # Looked up between texels, not at them: nearer than that to what a mean of 16 passes, not the same.
    at_texels = 1 - binom.cdf(7, 16, 0.3)
    assert at_texels == pytest.approx(0.0744, abs=1e-4) and cover.drawn / cover.pixels == pytest.approx(at_texels, abs=0.03)


def test_thinned_leaves_are_told_with_their_level_and_kept_by_scaled_mips():
    build = leaves_before(0.05, foliage(0.3), "MASK", z=-30.0)
    found = codes_of(build)
    assert COVERAGE in found and found[COVERAGE].value > 0.2
    kept = apply_change(build, found[COVERAGE].candidates[0].change)
    assert COVERAGE not in codes_of(kept)
    near = leaves_before(0.05, foliage(0.3), "MASK", z=-1.2)
    assert COVERAGE not in codes_of(near)


def test_no_scale_helps_a_level_of_one_alpha():
    # Stripes of a texel: every level but the finest is .5 all over, it passes as a whole; refused by the measure, not by a word.
    pixels = np.full((256, 256, 4), 200, np.uint8)
    pixels[..., 3] = np.where(np.arange(256) % 2 == 0, 255, 0)
    build = leaves_before(0.05, pixels, "MASK", z=-12.0)
    told_of = [f for f in sweep(build, renderer=RENDERER).findings if f.code == COVERAGE]
    assert len(told_of) == 1 and told_of[0].remedies
    verdicts = {r.change.title: r.verdict for r in told_of[0].remedies}
    assert verdicts["keep the coverage of leaf in its mips"] != "cures" and verdicts["draw leaf as blended"] == "cures"


@pytest.mark.parametrize("params, says", [
    ({"image": "nothing"}, "does not exist"), ({}, "does not exist"), ({"image": 3}, "does not exist"),
])  # fmt: skip
def test_a_picture_that_is_not_there_is_refused(params, says):
    change = Change(id="s", scope="material", operation=Operation(name="texture.spread_colour", params=params))
    with pytest.raises(ChangeError, match=says):
        apply_change(leaves_before(0.05, leaf_on((255, 255, 255))), change)


@pytest.mark.parametrize("alpha, says", [(0, "nothing but clear"), (255, "no clear texel")])
def test_a_picture_that_is_clear_or_solid_all_over_is_refused(alpha, says):
    pixels = np.full((8, 8, 4), alpha, np.uint8)
    change = Change(id="s", scope="material", operation=Operation(name="texture.spread_colour", params={"image": "leaf picture"}))
    with pytest.raises(ChangeError, match=says):
        apply_change(leaves_before(0.05, pixels), change)


@pytest.mark.parametrize("by", ["pattern", "scattered"])
def test_a_level_of_one_alpha_is_drawn_as_often_as_it_is_covered(by):
    """Where no scale helps, dithering does: on the mean as much is drawn as there is."""
    pixels = np.full((256, 256, 4), 200, np.uint8)
    pixels[..., 3] = np.where(np.arange(256) % 4 == 0, 255, 0)
    plain = leaves_before(0.05, pixels, "MASK", z=-8.0)
    assert COVERAGE in codes_of(plain)
    build = leaves_before(0.05, pixels, "MASK", z=-8.0, cut_by=by)
    cover = cover_of(RENDERER.frame(build, Request("eye", (480, 270)), "depth"), [1])
    assert cover.due / cover.pixels == pytest.approx(0.25, abs=0.02) and cover.drawn / cover.due == pytest.approx(1.0, abs=0.1)
    assert COVERAGE not in codes_of(build)


def test_hashed_layers_spread_as_the_binomial_says():
    """Two layers of alpha .5 let .25 through; each pixel tosses for it: a standard deviation of .433, .217 and .108 at 1, 4 and 16 samples;
    one pattern for both lets .50 through (derived, binomial)."""
    request = Request("eye", (120, 120))
    for by, mean in (("scattered", 0.25), ("pattern", 0.5)):
        shown = RENDERER.picture(two_cards(by), request)[20:100, 20:100, 0]
        assert (shown > 0.5).mean() == pytest.approx(mean, abs=0.02), by
    for samples, std in ((1, 0.433), (4, 0.217), (16, 0.108)):
        shown = RENDERER.picture(two_cards("scattered"), request, samples)[20:100, 20:100, 0]
        assert float(shown.std()) == pytest.approx(std, rel=0.08)


def test_a_picture_that_only_the_setup_binds_is_looked_at_and_bounds_of_mist_are_not():
    build = leaves_before(0.05, leaf_on((255, 255, 255)))
    bare = build.scene.materials[1]
    scene = replace(build.scene, materials=(build.scene.materials[0], replace(bare, base_texture=None)))
    raw = {**build.raw_setup, "materials": {"leaf": {"maps": {"base": {"image": "leaf picture"}}}}}
    bound = finish_build(scene, parse_setup(raw), raw, [])
    assert set(codes_of(bound)) == {FRINGE}
    filled = {**build.raw_setup, "volumes": {"m": {"node": "leaves"}}}
    assert codes_of(finish_build(build.scene, parse_setup(filled), filled, [])) == {}


def test_a_cutout_whose_colours_are_averaged_otherwise_is_another_to_a_bake():
    """What a lightmap was baked from names how base pictures are stored; nothing is said of those that are stored as they are."""
    stamped = [
        stamps(b, RENDERER.geometry(b), None).drawables["leaves"]
        for b in (
            leaves_before(0.05, leaf_on((255, 255, 255)), "MASK"),
            leaves_before(0.05, leaf_on((255, 255, 255)), "MASK", coverage_kept=True),
            leaves_before(0.05, leaf_on((255, 255, 255)), "MASK", filtered="premultiplied"),
        )
    ]
    assert stamped[0] == stamped[1] != stamped[2]
