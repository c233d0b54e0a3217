"""Shadows that stop short (the worked case of shadows that disappear with distance), with other reaches, lenses and techniques
than the demo's."""

import math

import numpy as np
import pytest

from eddyfall.core.defects.shadow_reach import CODE
from eddyfall.core.frame.render import render
from eddyfall.core.scene.changes import apply_change
from eddyfall.core.sweep import sweep
from eddyfall.core.truth.visibility import caster_scene, sun_visibility, sunlit_candidates
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of

SIZE = (320, 180)


def pier(depth_m: float, reach_m: float, fov_y_deg: float = 12, **setup):
    """A pier of three posts depth_m away on a level bed, its shadow falling towards the eye."""
    posts = Shape()
    for x in (-8, 0, 8):
        posts.box((x - 1.5, 0, -depth_m - 1.5), (x + 1.5, 14, -depth_m + 1.5))
    return build_of(
        Thing("pier", posts),
        Thing("bed", Shape().quad((-900, 0, 10), (1800, 0, 0), (0, 0, -1400))),
        setup={
            "viewpoints": {"eye": {"eye": [0, 40, 0], "target": [0, 5, -depth_m], "fov_y_deg": fov_y_deg}},
            "lights": {"sun": {"kind": "sun", "illuminance_lux": 3.0, "towards": [0.3, 0.6, -0.5]}},
            "shadow": {"reach_m": reach_m, "resolution": 1024, **setup.pop("shadow", {})},
            **setup,
        },
    )


def finding_of(build, size=SIZE, **options):
    findings = [f for f in sweep(build, size=size, **options).findings if f.code == CODE]
    assert len(findings) <= 1
    return findings[0] if findings else None


@pytest.mark.long
@pytest.mark.parametrize(("depth_m", "reach_m"), [(385, 360), (120, 90), (120, 60), (700, 200)])
def test_pier_beyond_the_reach_is_found_and_every_cure_cures(depth_m, reach_m):
    build = pier(depth_m, reach_m)
    finding = finding_of(build)
    assert finding.suspicion.cause == "shadow.reach_m"
    assert {"pier", "bed"} == set(finding.suspicion.subjects)
    beyond = {e.measure: e.value for e in finding.evidence}
    # View depth of the pier's foot: the eye is 40 m up and looks down at 5. One row of pixels covers this much of the bed there:
    foot = (35 * 40 + depth_m**2) / math.hypot(35, depth_m)
    row_m = math.radians(12) / SIZE[1] * foot**2 / 40
    assert beyond["farthest lost shadow lies beyond the reach by"] == pytest.approx(foot - reach_m, abs=max(row_m, 3))
    assert finding.impact.kind == "measured" and finding.impact.share > 0
    cures = [r for r in finding.remedies if r.verdict == "cures"]
    assert len(cures) >= 2
    for remedy in cures:
        assert finding_of(apply_change(build, remedy.change)) is None, remedy.change.title


@pytest.mark.parametrize(("depth_m", "reach_m"), [(300, 360), (385, 450), (80, 150)])
def test_pier_within_the_reach_is_healthy(depth_m, reach_m):
    assert finding_of(pier(depth_m, reach_m)) is None


@pytest.mark.parametrize(
    "off",
    [{"shadow": {"enabled": False}}, {"nodes": {"pier": {"casts": False}}}, {"nodes": {"bed": {"receives": False}}}],
    ids=["shadows off", "caster does not cast", "receiver takes none"],
)
def test_shadows_that_are_not_wanted_are_not_missed(off):
    build = pier(385, 360, **off)
    # The posts shade themselves as well: turning off the bed leaves those.
    finding = finding_of(build)
    assert finding is None or "bed" not in finding.suspicion.subjects


def test_far_tier_counts_as_reach():
    assert finding_of(pier(385, 200, shadow={"far_reach_m": 450})) is None
    assert finding_of(pier(500, 200, shadow={"far_reach_m": 450})) is not None


def test_raising_the_reach_warns_of_the_coarser_first_texel():
    # The worked case of shadows that disappear with distance: 360 -> 450 m takes the first texel from 43.4 to 53.8 mm, +24 %,
    # limit 10 % unless accepted.
    build = pier(431, 360, fov_y_deg=60, shadow={"resolution": 2048})
    finding = finding_of(build, size=(960, 540))
    raised = next(r for r in finding.remedies if r.change.title == "shadow reach 450 m")
    assert len(raised.warnings) == 1
    assert "43.4 -> 53.8 mm" in raised.warnings[0] and "+24 %" in raised.warnings[0]
    assert finding.best is not raised


def test_chain_names_the_first_failed_test_and_its_margin():
    finding = finding_of(pier(385, 360))
    failed = [t for t in finding.suspicion.facts["chain"] if not t["passes"]]
    assert [t["test"] for t in failed] == ["receiver within the reach"]
    assert failed[0]["margin"] == pytest.approx(-25, abs=12)


def test_reach_that_a_target_sets_is_repaired_at_the_target():
    build = pier(385, 450, targets={"kiosk": {"set": {"shadow": {"reach_m": 120}}}})
    assert finding_of(build) is None
    finding = finding_of(build, target="kiosk")
    assert finding.best is not None and finding.best.change.scope == "target"
    assert finding_of(apply_change(build, finding.best.change), target="kiosk") is None


def test_drawn_shadows_within_the_reach_are_where_rays_say():
    frame = render(pier(120, 200, fov_y_deg=20, shadow={"resolution": 4096, "filter_px": 1}), "eye", size=SIZE)
    pixels = np.argwhere(sunlit_candidates(frame))[:, ::-1]
    truth = sun_visibility(frame, caster_scene(frame), pixels)
    drawn = frame.buffers["sun_visibility"][pixels[:, 1], pixels[:, 0]] >= 0.5
    assert (~truth.lit).sum() > 500
    assert (drawn == truth.lit).mean() > 0.985


def test_receiver_belongs_to_the_tier_of_its_view_depth_alone():
    # Map coverage beyond the reach is not used: the shadow ends at a line of equal view depth.
    frame = render(pier(120, 115, fov_y_deg=20), "eye", size=SIZE)
    beyond = frame.view_depth >= 115
    assert (frame.buffers["sun_visibility"][beyond] == 1).all()
    assert (frame.buffers["sun_visibility"][~beyond] < 1).any()


def test_no_sun_no_finding():
    assert finding_of(pier(385, 360, lights={})) is None
    assert math.isfinite(render(pier(385, 360, lights={}), "eye", size=(32, 18)).linear.sum())
