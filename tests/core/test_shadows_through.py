"""Shadows of what light goes through: none, whole, by a pattern, coloured; worked out by hand and against made scenes.

That a thing leaves as much of a light as it keeps of what is seen through it follows from both being the same product along a ray."""

import numpy as np
import pytest

from awning_scenes import FLOOR, SIZE, awning, row_column
from eddyfall.core.defects.shadow_translucent import CODE
from eddyfall.core.frame.core_sample import core_sample
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.lineup.run import line_up
from eddyfall.core.raster.rasterise import pattern
from eddyfall.core.scene.model import Material
from eddyfall.core.sweep import sweep
from eddyfall.core.truth.autopsy import shadow_autopsy
from eddyfall.demo.shapes import Shape
from layer_scenes import unlit
from scenes import Thing, build_of

RENDERER = Renderer()


def floor_below(build, at=(0.0, 0.0, -8.0)):
    """Nits of the floor at a place, and beside it in the open."""
    frame = RENDERER.frame(build, Request("eye", SIZE), "fogged")
    return [frame.buffers["fogged"][row_column(frame, p)].astype(float) for p in (at, (6.0, 0.0, -8.0))]


@pytest.mark.parametrize("technique", ["cascades", "paged", "rays"])
def test_light_through_half_a_sheet_is_a_stop_less(technique):
    below, beside = floor_below(awning("tinted", technique=technique))
    assert np.log2(below / beside) == pytest.approx([-1.0] * 3, abs=1e-4)
    below, beside = floor_below(awning("tinted", count=3, technique=technique))
    assert np.log2(below / beside) == pytest.approx([-3.0] * 3, abs=1e-4)


def test_what_is_not_said_is_passed_by_and_whole_blocks_it_all():
    for through in (None, "none"):
        below, beside = floor_below(awning(through))
        assert below == pytest.approx(beside)
    below, _ = floor_below(awning("whole"))
    assert below == pytest.approx([0.0] * 3, abs=1e-6)


def test_what_multiplies_colours_the_light_and_what_adds_leaves_it():
    below, beside = floor_below(awning("tinted", alpha=0.999, rgb=(0.8, 0.2, 0.4), blend="multiply"))
    assert below / beside == pytest.approx([0.8, 0.2, 0.4], abs=2e-3)
    below, beside = floor_below(awning("tinted", blend="additive"))
    assert below == pytest.approx(beside)


def test_a_lamp_is_tinted_only_by_what_stands_before_it():
    below, _ = floor_below(awning("tinted", lamp=True))
    plain, _ = floor_below(awning(None, lamp=True))
    assert below / plain == pytest.approx([0.5] * 3, abs=1e-4)
    above = awning("tinted", lamp=True, count=12)  # sheets from 3 to 5.2 m, the lamp hangs at 5.1 m
    below, _ = floor_below(above)
    assert below / plain == pytest.approx([0.5**11] * 3, rel=1e-3)


@pytest.mark.parametrize("alpha", [0.25, 0.5, 0.75])
def test_a_pattern_of_its_share_is_as_much_on_the_mean(alpha):
    """Sixteen even steps over 4 x 4 texels: a filter that takes them all in shows 1 - alpha."""
    frame = RENDERER.frame(awning("dithered", alpha=alpha), Request("eye", SIZE), "fogged")
    y, x = row_column(frame, (0.0, 0.0, -8.0))
    patch = frame.buffers["fogged"][y - 1 : y + 2, x - 6 : x + 7].mean()
    _, beside = floor_below(awning(None))
    assert patch / beside.mean() == pytest.approx(1 - alpha, abs=0.08)
    steps = sorted(pattern(x, y) for x in range(4) for y in range(4))
    assert steps == pytest.approx([(k + 0.5) / 16 for k in range(16)])


def test_a_pattern_that_two_sheets_share_does_not_multiply():
    """Two layers of alpha .5 leave .25 of the light; drawn by one pattern both have the same holes, and leave .5."""
    below = np.mean([floor_below(awning("dithered", count=2), (x, 0.0, -8.0))[0].mean() for x in np.linspace(-1, 1, 15)])
    tinted, beside = floor_below(awning("tinted", count=2))
    assert tinted.mean() / beside.mean() == pytest.approx(0.25, abs=1e-4)
    assert below / beside.mean() == pytest.approx(0.5, abs=0.08)


def test_glass_blocks_light_unless_it_is_said_to_let_it_through():
    """Tinted, as much as is seen through it: its colour times what both faces let in, (1 - .04)^2 = .9216."""
    glass = Material("glass", (0.5, 0.9, 0.9, 1.0), metallic=0.0, roughness=0.0, transmission=1.0, double_sided=True)
    pane = Thing("pane", Shape().quad((-2, 3, -6), (4, 0, 0), (0, 0, -4)), glass)
    floor = Thing("floor", Shape().quad((-20, 0, 10), (40, 0, 0), (0, 0, -60)), FLOOR)
    raw = awning().raw_setup | {"refract": {"enabled": True}}
    for through, due in ((None, [0, 0, 0]), ("tinted", [0.4608, 0.8294, 0.8294]), ("none", [1, 1, 1])):
        build = build_of(floor, pane, setup={**raw, "materials": {"glass": {"shadow_through": through}}})
        below, beside = floor_below(build)
        assert below / beside == pytest.approx(due, abs=1e-3)


def under(shape, material, **of_material):
    """What of the sun's light is left on a floor under a body."""
    floor = Thing("floor", Shape().quad((-20, 0, 10), (40, 0, 0), (0, 0, -60)), FLOOR)
    raw = awning().raw_setup | {
        "refract": {"enabled": True},
        "materials": {material.name: {"shadow_through": "tinted", **of_material}},
    }
    below, beside = floor_below(build_of(floor, Thing("body", shape, material), setup=raw))
    return below / beside


def test_a_closed_body_counts_by_the_faces_that_are_seen_from_the_light():
    """Of one side, its lid; of two sides, lid and bottom. Of a solid slab of glass, 30 mm that keep (.6 .85 .8) in 100, .9216 of
    (.6^.3 .85^.3 .8^.3) = (.792 .879 .863) is left, whether its thickness is a number or the way to its back faces."""
    box, sheet = (lambda high=0.5: Shape().box((-2, 3, -10), (2, 3 + high, -6))), unlit("sheet", 0.8, 0.5)
    for two_sided, left in ((False, 0.5), (True, 0.25)):
        assert under(box(), sheet, double_sided=two_sided, blend="blended") == pytest.approx([left] * 3, abs=1e-4)
    slab = Material(
        "slab", (1.0, 1.0, 1.0, 1.0), metallic=0.0, roughness=0.0, ior=1.5, transmission=1.0, thickness_m=0.03,
        attenuation_rgb=(0.6, 0.85, 0.8), attenuation_m=0.1,
    )  # fmt: skip
    for thickness in ("value", "back_faces"):
        assert under(box(0.03), slab, thickness=thickness) == pytest.approx([0.792, 0.879, 0.863], abs=2e-3), thickness


def test_core_samples_and_crops_see_the_tint():
    build, request = awning("tinted"), Request("eye", SIZE)
    frame = RENDERER.frame(build, request, "linear")
    y, x = row_column(frame, (0.0, 0.0, -8.0))
    sample = core_sample(RENDERER, build, request, x, y)
    assert np.abs(sum(np.array(v.colour) * np.array(v.weight) for v in sample.layers) - frame.linear[y, x]).max() < 1e-4
    crop = RENDERER.frame(build, Request("eye", SIZE, (x - 5, y - 5, x + 5, y + 5)), "linear")
    assert np.abs(crop.linear - frame.linear[y - 5 : y + 5, x - 5 : x + 5]).max() < 1e-6


def findings(build):
    return [f for f in sweep(build, renderer=RENDERER).findings if f.code == CODE]


def test_only_where_blended_things_are_meant_to_cast_a_lack_is_told_and_three_ways_are_tried():
    assert not findings(awning())
    meant = {"shadow": {"reach_m": 40.0, "cascades": 1, "resolution": 2048, "filter_px": 5, "of_blended": "meant"}}
    (found,) = findings(awning(**meant))
    assert found.suspicion.value == pytest.approx(1.0, abs=1e-3) and found.suspicion.subjects == ("awning_0", "floor")
    verdicts = {r.change.title: r.verdict for r in found.remedies}
    assert verdicts["let sheet 0 colour the light that goes through it"] == "cures"
    assert verdicts["block all light behind sheet 0"] != "cures", "a shadow that is too dark is none of its own"
    assert not findings(awning("tinted", **meant)) and not findings(awning(alpha=0.1, **meant))
    assert not findings(awning(blend="additive", **meant))


MEANT = {"shadow": {"reach_m": 40.0, "cascades": 1, "resolution": 2048, "filter_px": 5, "of_blended": "meant"}}


def test_what_a_light_goes_through_is_told_and_by_how_much_it_is_too_bright_for_that():
    request = Request("eye", SIZE)
    for through, verdict, stops in ((None, "lit through", 2.0), ("tinted", "agrees", 0.0)):
        build = awning(through, count=2, **MEANT)
        y, x = row_column(RENDERER.frame(build, request), (0.0, 0.0, -8.0))
        (light,) = shadow_autopsy(RENDERER, build, request, x, y).lights
        assert (light.verdict, light.due) == (verdict, False) and light.too_bright_stops == pytest.approx(stops, abs=1e-6)
        assert [(p.name, p.throws) for p in light.passed] == [(f"awning_{k}", through or "none") for k in range(2)]
        assert [p.away_m for p in light.passed] == pytest.approx([3.0, 3.2], abs=0.02)
        assert all(p.keeps == pytest.approx((0.5, 0.5, 0.5)) for p in light.passed)
        told = next(v.facts["lights"][0] for v in core_sample(RENDERER, build, request, x, y).layers if v.facts.get("lights"))
        assert told.get("through", [1.0] * 3) == pytest.approx([0.25 if through else 1.0] * 3)
    (light,) = shadow_autopsy(RENDERER, awning(count=2), request, x, y).lights
    assert light.verdict == "agrees", "no one has asked for its shadow"
    (light,) = shadow_autopsy(RENDERER, build, request, 90, 50).lights
    assert not light.passed and light.too_bright_stops is None, "nothing stands before it"


def test_a_case_of_it_is_cleared_by_its_cures_and_by_no_switch_that_takes_all_shadows_away():
    build = awning(**MEANT)
    y, x = row_column(RENDERER.frame(build, Request("eye", SIZE)), (0.0, 0.0, -8.0))
    shown = line_up(build, "eye", (x - 6, y - 2, 12, 4), "lit through", size=SIZE, renderer=RENDERER)
    assert shown.base_score == pytest.approx(1.0, abs=0.01) and shown.subject == "floor"
    verdicts = {t.title: (t.verdict, t.after) for t in shown.trials}
    assert verdicts["let sheet 0 colour the light that goes through it"] == ("clears it", 0.0)
    assert verdicts["shadows off"][0] == "no effect" and verdicts["sun off"][0] == "clears it but breaks something else"
    assert line_up(awning("tinted", **MEANT), "eye", (x, y, 4, 4), "lit through", size=SIZE, renderer=RENDERER).base_score == 0
