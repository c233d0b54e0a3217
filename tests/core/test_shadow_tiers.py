"""Texels against the pixels that show them, and joins between maps: what is too coarse, what changes along a line."""

import math

import numpy as np
import pytest

from eddyfall.core.compare.ciede2000 import delta_e_2000
from eddyfall.core.defects import families
from eddyfall.core.defects.shadow_coarse import predicted, slices_with
from eddyfall.core.defects.survey import Survey
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.scene.changes import apply_change
from eddyfall.core.scene.model import Light
from eddyfall.core.scene.setup.sections.shadow import Shadow
from eddyfall.core.sweep import sweep
from eddyfall.core.truth.fineness import pixel_m
from eddyfall.core.truth.joins import join_gaps
from eddyfall.core.truth.judge import SHADOWED
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of, floor, merged

SIZE = (960, 540)
RENDERER = Renderer()


def fence(lamps=(), **setup):
    """A row of posts along a level path, their shadows across it, from 2 m to 120 m off."""
    posts = Shape()
    for n in range(60):
        posts.box((-1.2, 0, -3.0 - 2 * n), (-0.9, 2.2, -2.6 - 2 * n), 1.0)
    raw = {
        "viewpoints": {"eye": {"eye": [0, 1.7, 2], "target": [0.4, 0.6, -8], "fov_y_deg": 60}},
        "lights": {"sun": {"kind": "sun", "illuminance_lux": 3.0, "towards": [-0.8, 0.55, 0.2]}},
        "shadow": {"near_m": 0.5, "reach_m": 120.0, "resolution": 2048, "cascades": 4, "split_lambda": 0.6},
    }
    return build_of(Thing("path", floor(0.0, near=5, far=150)), Thing("posts", posts), lamps=lamps, setup=merged(raw, setup))


def found(build, code, pictures=False):
    family = next(f for f in families() if code in {c.code for c in f.codes})
    return [s for s in family.inspect(Survey(build, RENDERER, size=SIZE, pictures=pictures)) if s.code == code]


def frame_of(build, size=SIZE):
    return RENDERER.frame(build, Request("eye", size), SHADOWED)


def test_texels_a_pixel_are_those_worked_out_by_hand():
    """Four cascades of 2048 to 360 m, 60 degrees, 1080 rows: 43.4 mm at 2 m cover 20.3 px; past the first join 2.29; 1.076 at every
    far end (spheres around slices, so a ratio of depth and size that does not depend on the slice once it begins far before its end)."""
    build = fence(shadow={"reach_m": 360.0})
    frame = frame_of(build, (1920, 1080))
    slices = slices_with(frame, frame.stage.resolved[Shadow], 2048)
    px = pixel_m(frame)
    assert px == pytest.approx(2 * math.tan(math.radians(30)) / 1080)
    assert slices[0].texel_m / (2.0 * px) == pytest.approx(20.3, abs=0.1)
    assert slices[1].texel_m / (slices[0].far_m * px) == pytest.approx(2.29, abs=0.01)
    assert [s.texel_m / (s.far_m * px) for s in slices] == pytest.approx([1.076] * 4, abs=0.002)


def test_coarse_edges_are_found_where_a_reach_made_them_coarse():
    assert found(fence(), "shadow.coarse") == []
    [suspicion] = found(fence(shadow={"reach_m": 2400.0}), "shadow.coarse")
    assert suspicion.cause == "sun: texels" and suspicion.value > 4 == suspicion.limit
    assert {"path"} <= set(suspicion.subjects)
    assert found(fence(shadow={"reach_m": 2400.0, "technique": "rays"}), "shadow.coarse") == []


def test_its_remedies_cure_at_the_ratio_that_was_predicted():
    build = fence(shadow={"reach_m": 2400.0})
    [finding] = [f for f in sweep(build, size=SIZE, renderer=RENDERER).findings if f.code == "shadow.coarse"]
    verdicts = {r.change.title: r.verdict for r in finding.remedies}
    assert set(verdicts.values()) == {"cures"}, verdicts
    assert any(t.startswith("split lambda") for t in verdicts) or any(t.startswith("shadow reach") for t in verdicts)
    assert all({c.name: c.value for c in r.costs}["memory"] == 0 for r in finding.remedies if "maps of" not in r.change.title)
    for remedy in finding.remedies:
        assert found(apply_change(build, remedy.change), "shadow.coarse") == []


def test_a_prediction_is_what_is_then_measured():
    build, other = fence(shadow={"reach_m": 4800.0}), fence(shadow={"reach_m": 2400.0})
    family = next(f for f in families() if f.name == "shadow coarse")
    coarse = family.observe(Survey(build, RENDERER, size=SIZE, pictures=False), "eye")["sun"]
    frame = frame_of(build)
    assert predicted(frame, slices_with(frame, frame.stage.resolved[Shadow], 2048), coarse) == pytest.approx(
        coarse.pixels_a_texel
    )
    then = family.observe(Survey(other, RENDERER, size=SIZE, pictures=False), "eye")["sun"].pixels_a_texel
    expected = predicted(frame, slices_with(frame, frame.stage.resolved[Shadow], 2048, reach_m=2400.0), coarse)
    assert then == pytest.approx(expected, rel=0.15)  # the edges that are counted lie a little otherwise


def test_lamps_are_judged_by_their_own_maps():
    lamp = (Light("lamp", "point", (1, 1, 1), 600.0, 20.0), (-2.0, 3.0, -4.0))
    dark = {"sun": {"on": False, "kind": "sun", "illuminance_lux": 1.0}, "lamp": {"casts": True}}
    assert found(fence((lamp,), lights=dark, shadow={"light_resolution": 1024}), "shadow.coarse") == []
    [suspicion] = found(fence((lamp,), lights=dark, shadow={"light_resolution": 64}), "shadow.coarse")
    assert suspicion.facts["light"] == "lamp"


def far_tier(edge=64, **shadow):
    """A long wall beside the path, two cascades to 20 m and a far tier of so many texels behind them."""
    raw = {
        "viewpoints": {"eye": {"eye": [0, 1.7, 2], "target": [0.4, 0.6, -8], "fov_y_deg": 60}},
        "lights": {"sun": {"kind": "sun", "illuminance_lux": 3.0, "towards": [-0.8, 0.55, 0.2]}},
        "shadow": {"near_m": 0.5, "reach_m": 20.0, "cascades": 2, "far_reach_m": 120.0, "far_resolution": edge, **shadow},
    }
    wall = Thing("wall", Shape().box((-1.6, 0, -120), (-1.2, 2.2, 0), 1.0))
    return build_of(Thing("path", floor(0.0, near=5, far=150)), wall, setup=raw)


def test_a_far_tier_that_loses_the_posts_shows_as_a_line():
    assert found(far_tier(4096), "shadow.tier-gap") == []
    [suspicion] = found(far_tier(), "shadow.tier-gap")
    assert suspicion.cause == "sun: join" and suspicion.facts["at_m"] == pytest.approx(20.0)
    assert suspicion.value > 2 == suspicion.limit
    assert found(far_tier(technique="rays"), "shadow.tier-gap") == []


def test_a_gap_is_the_difference_between_two_drawn_frames():
    """At the end of a blended stretch the picture is the far map's: held against the near map's, there, in the frame without a blend."""
    step, blended = (RENDERER.frame(far_tier(join_blend=b), Request("eye", (960, 540))) for b in (0.0, 0.5))
    depth = step.view_depth
    [gap] = [g for g in join_gaps(RENDERER, far_tier(), Request("eye", (960, 540))) if g.at_m == pytest.approx(20.0)]
    before = (depth < 20.0) & (np.roll(depth, 1, axis=0) >= 20.0) & (step.drawable == 0)
    shades = (step.buffers["sun_visibility"] < 0.98) | (blended.buffers["sun_visibility"] < 0.98)
    drawn = float(delta_e_2000(step.display, blended.display)[before & shades].mean())
    assert gap.delta_e == pytest.approx(drawn, rel=0.25)


def test_what_closes_a_gap_is_looked_for_and_proved():
    [finding] = [f for f in sweep(far_tier(), size=SIZE, renderer=RENDERER).findings if f.code == "shadow.tier-gap"]
    assert finding.remedies and {r.verdict for r in finding.remedies} == {"cures"}
    tier = next(r for r in finding.remedies if "far tier" in r.change.title)
    edge = int(tier.change.title.split()[3])
    assert {c.name: c.value for c in tier.costs}["memory"] == 4 * (edge**2 - 64**2)
    # The next smaller one still shows the line.
    assert found(far_tier(edge // 2), "shadow.tier-gap")


def test_mixing_over_a_stretch_makes_the_step_smaller_by_its_pixels():
    [step] = join_gaps(RENDERER, far_tier(), Request("eye", SIZE), 16)[:1]
    [mixed] = join_gaps(RENDERER, far_tier(join_blend=0.4), Request("eye", SIZE), 16)[:1]
    assert step.wide_px == 0 and mixed.wide_px > 2
    assert mixed.delta_e == pytest.approx(step.delta_e) and mixed.step == pytest.approx(step.step / mixed.wide_px)
