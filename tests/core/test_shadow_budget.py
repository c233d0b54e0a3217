"""What shadows take, light by light, against counts by hand; a target's limits, and what brings a frame inside them."""

import numpy as np
import pytest

from eddyfall.core.defects import families
from eddyfall.core.defects.survey import Survey
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.scene.changes import apply_change
from eddyfall.core.scene.model import Light
from eddyfall.core.sweep import sweep
from eddyfall.core.truth.leftovers import leftovers, looks_of
from eddyfall.core.truth.shadow_budget import frame_budget
from eddyfall.core.truth.shadow_costs import shadow_cost
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of, floor, merged

SIZE = (320, 180)
RENDERER = Renderer()
CODE = "shadow.over-budget"
FAMILY = next(f for f in families() if CODE in {c.code for c in f.codes})
LAMP = (Light("lamp", "point", (1, 1, 1), 400.0, 12.0), (0.0, 3.0, -8.0))
FAR_LAMP = (Light("far_lamp", "point", (1, 1, 1), 400.0, 12.0), (0.0, 3.0, 80.0))


def yard(budget=None, lamps=(LAMP, FAR_LAMP), **setup):
    """A wall on a floor under a sun of four maps, a lamp beside it, another behind the eye where nothing is shown."""
    raw = {
        "viewpoints": {"eye": {"eye": [0, 3, 0], "target": [0, 0, -9], "fov_y_deg": 50}},
        "lights": {
            "sun": {"kind": "sun", "illuminance_lux": 10.0, "towards": [0.3, 0.6, -0.5]}, "lamp": {"casts": True},
            "far_lamp": {"casts": True},
        },
        "shadow": {"reach_m": 60.0, "resolution": 1024, "light_resolution": 512},
        "targets": {"kiosk": {"set": {"budget": budget}}} if budget else {},
    }  # fmt: skip
    wall = Thing("wall", Shape().box((-2, 0, -10.3), (2, 1.5, -10), 1.0))
    return build_of(Thing("floor", floor(0.0, near=-6.0, far=60.0)), wall, lamps=lamps, setup=merged(raw, setup))


def request(target=None):
    return Request("eye", SIZE, None, target)


def test_bytes_are_those_worked_out_by_hand():
    """Four maps of 1024 at four bytes are 16 MiB; six of 512 are 6 MiB a lamp: a point lamp has a map for each face of a cube."""
    found = frame_budget(RENDERER, yard(), request())
    mib = {light.light: light.cost.bytes / 2**20 for light in found.lights}
    assert mib == {"sun": 16.0, "lamp": 6.0, "far_lamp": 6.0} and found.total.bytes == 28 * 2**20
    assert {light.light: light.cost.maps for light in found.lights} == {"sun": 4, "lamp": 6, "far_lamp": 6}
    assert found.limits == {} and found.over == ()
    half = frame_budget(RENDERER, yard(shadow={"map_format": "unorm16"}), request())
    assert half.total.bytes == 20 * 2**20  # a sun's maps alone
    rays = frame_budget(RENDERER, yard(shadow={"technique": "rays"}), request())
    assert rays.total.rays == SIZE[0] * SIZE[1]


@pytest.mark.parametrize("technique", ["cascades", "paged", "rays"])
def test_lights_add_up_to_the_frame(technique):
    build = yard(shadow={"technique": technique})
    found = frame_budget(RENDERER, build, request())
    whole = shadow_cost(RENDERER.frame(build, request(), "traced"))
    for field in ("bytes", "texels", "maps", "draws", "triangles", "rays"):
        assert sum(getattr(v.cost, field) for v in found.lights) == getattr(whole, field) == getattr(found.total, field)


def test_due_pixels_are_where_rays_say_that_a_shadow_falls():
    found = {v.light: v for v in frame_budget(RENDERER, yard(), request()).lights}
    assert found["sun"].due_px > 100 and found["far_lamp"].due_px == 0
    assert found["sun"].drawn_px >= 0.8 * found["sun"].due_px
    off = {v.light: v for v in frame_budget(RENDERER, yard(lights={"sun": {"casts": False}}), request()).lights}
    assert off["sun"].due_px == found["sun"].due_px and off["sun"].drawn_px == 0 and off["sun"].cost.bytes == 0


def inspected(build, target="kiosk"):
    return [s for s in FAMILY.inspect(Survey(build, RENDERER, target, size=SIZE)) if s.code == CODE]


def test_without_a_target_or_within_its_limit_nothing_is_found():
    assert inspected(yard(), None) == []
    assert inspected(yard({"shadow_mib": 20}), None) == []
    assert inspected(yard({"shadow_mib": 28})) == []


def test_a_limit_is_kept_at_the_target_by_what_was_counted():
    build = yard({"shadow_mib": 20})
    [finding] = [f for f in sweep(build, target="kiosk", size=SIZE, renderer=RENDERER).findings if f.code == CODE]
    assert finding.suspicion.value == 28 and finding.suspicion.limit == 20
    titles = {r.change.title: r for r in finding.remedies}
    assert {r.verdict for r in finding.remedies} == {"cures"}
    assert {"shadow maps of 16 bits", "shadow maps of 512 texels"} <= set(titles)
    assert "far_lamp casts no shadow" not in titles  # 6 MiB less are too little by themselves
    for remedy in finding.remedies:
        mended = apply_change(build, remedy.change)
        assert frame_budget(RENDERER, mended, request("kiosk")).total.bytes <= 20 * 2**20
        if remedy.change.scope == "target":  # other targets stay as they are
            assert frame_budget(RENDERER, mended, request()).total.bytes == 28 * 2**20


def test_the_lamp_that_nobody_sees_goes_first_and_settings_are_joined_where_one_is_too_little():
    [suspicion] = inspected(yard({"shadow_mib": 22}))
    assert suspicion.candidates[0].change.title == "far_lamp casts no shadow"
    tight = yard({"shadow_mib": 2})
    [suspicion] = inspected(tight)
    [only] = suspicion.candidates
    assert len(only.change.patch) > 1
    assert frame_budget(RENDERER, apply_change(tight, only.change), request("kiosk")).total.bytes <= 2 * 2**20


def test_where_nobody_sees_a_shadow_the_reach_is_left_alone():
    alone = yard({"shadow_mib": 20}, viewpoints={"eye": {"eye": [0, 3, 0], "target": [0, 30, 0.1], "fov_y_deg": 50}})
    [suspicion] = inspected(alone)
    assert suspicion.candidates and not any("reach" in c.change.title for c in suspicion.candidates)


def test_draws_and_triangles_have_limits_of_their_own():
    found = {s.cause: s for s in inspected(yard({"shadow_draws": 3, "shadow_triangles": 5, "shadow_rays": 10}))}
    assert set(found) == {"budget.shadow_draws", "budget.shadow_triangles"}
    traced = inspected(yard({"shadow_rays": 10}, shadow={"technique": "rays"}))
    assert [s.cause for s in traced] == ["budget.shadow_rays"]


def test_a_budget_is_no_leftover_and_draws_nothing_of_its_own():
    build = yard({"shadow_mib": 20})
    assert [name for name, _ in looks_of(build, SIZE)] == ["eye"]
    assert all("budget" not in s.path for s in leftovers(RENDERER, build, size=SIZE).settings)
    a, b = (RENDERER.frame(x, request("kiosk"), "linear").linear for x in (build, yard({"shadow_mib": 1})))
    assert np.array_equal(a, b)
