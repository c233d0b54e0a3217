"""Faces in one place (the worked case of flickering floors and oversized bake work): gaps, depth formats, faces turned to the
camera and floors."""

import numpy as np
import pytest

from eddyfall.core.defects.depth_coincident import CODE
from eddyfall.core.frame.render import render
from eddyfall.core.raster.depth_format import DepthFormat
from eddyfall.core.scene.changes import apply_change, set_leaf
from eddyfall.core.sweep import sweep
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of, flat, wall

SIZE = (320, 180)


def facing(z: float, gap_m: float, **depth):
    """A small card gap_m in front of a wall at view depth z, both square to the view."""
    return build_of(
        Thing("card", wall(z, half=z * 0.1), flat("red", (0.8, 0.1, 0.1)), place=(0, 0, gap_m)),
        Thing("wall", wall(z), flat("white", 0.8)),
        setup={"depth": {"near_m": 0.05, **depth}},
    )


def floors(gap_m: float, far: float = 60.0, **depth):
    """A mat gap_m above a floor, seen from 1.7 m up, from straight ahead to `far`."""
    mat = Shape().quad((-2, -1.7 + gap_m, -far * 0.5), (4, 0, 0), (0, 0, -far * 0.5))
    return build_of(
        Thing("mat", mat, flat("red", (0.8, 0.1, 0.1))),
        Thing("floor", Shape().quad((-60, -1.7, 0), (120, 0, 0), (0, 0, -200)), flat("white", 0.8)),
        setup={
            "depth": {"near_m": 0.05, **depth},
            "viewpoints": {"eye": {"eye": [0, 0, 0], "target": [0, -0.1, -1], "fov_y_deg": 40}},
        },
    )


def finding_of(build):
    findings = [f for f in sweep(build, size=SIZE).findings if f.code == CODE]
    assert len(findings) <= 1
    return findings[0] if findings else None


FORMATS = [("unorm16", False), ("unorm24", False), ("float32", False), ("float32", True)]


@pytest.mark.parametrize(("name", "reverse"), FORMATS)
@pytest.mark.parametrize("z", [5.0, 20.0, 90.0])
@pytest.mark.parametrize("gap_mm", [0, 0.2, 1, 10, 200])
def test_facing_pairs_contest_where_the_step_is_coarser_than_the_gap(name, reverse, z, gap_mm):
    gap = gap_mm / 1000
    step = float(DepthFormat(name, reverse, 0.05, None).step_m(z))
    # float32 positions at this depth cannot hold a gap below their own spacing.
    ulp = float(np.spacing(np.float32(z)))
    finding = finding_of(facing(z, gap, format=name, reversed=reverse))
    if gap == 0 or gap < 0.95 * step - ulp:
        assert finding is not None, f"step {step * 1000:.4g} mm"
    elif gap > 1.05 * step + 8 * ulp:
        assert finding is None, f"step {step * 1000:.4g} mm, {finding.suspicion.evidence if finding else ''}"


@pytest.mark.parametrize(("name", "reverse"), FORMATS)
@pytest.mark.parametrize("gap_mm", [0, 0.2, 1, 10, 200])
def test_floors_gain_from_the_slant(name, reverse, gap_mm):
    # The gap along the pixel's ray is gap * z / h: a floor is told apart up to z = g n 2^b / h.
    gap = gap_mm / 1000
    finding = finding_of(floors(gap, format=name, reversed=reverse))
    reach = DepthFormat(name, reverse, 0.05, None).separable_to_m(gap, 1.7)
    if gap == 0 or reach < 20:
        assert finding is not None
    elif reach > 200:
        assert finding is None


def test_a_gap_of_zero_ties_at_any_depth_and_speckles():
    build = floors(0.0, far=8.0)
    alone = apply_change(build, set_leaf(build, ("nodes", "floor", "drawn"), False, scope="node", title="only the mat"))
    # Depth is interpolated in float32, as hardware does: some pixels go to the mat, some to the floor ...
    mat, whole = ((render(b, "eye", size=(640, 360)).drawable == 0).sum() for b in (build, alone))
    assert 0 < mat < whole
    # ... but every pixel of the mat is contested, whoever happens to win it.
    finding = finding_of(build)
    assert finding.suspicion.pixels["eye"] == (render(alone, "eye", size=SIZE).drawable == 0).sum()
    assert finding.suspicion.facts["gap_m"] == 0.0


def test_shared_area_of_two_decks_in_one_plane():
    # Floor and stage overlap 12 x 8 = 96 m^2.
    build = build_of(
        Thing("stage", Shape().quad((-6, -2, -10), (12, 0, 0), (0, 0, -8)), flat("red", 0.5)),
        Thing("floor", Shape().quad((-20, -2, 0), (40, 0, 0), (0, 0, -60)), flat("white", 0.8)),
        setup={"viewpoints": {"eye": {"eye": [0, 0, 0], "target": [0, -0.2, -1], "fov_y_deg": 50}}},
    )
    finding = finding_of(build)
    assert finding.suspicion.facts["area_m2"] == pytest.approx(96, rel=1e-3)
    assert finding.suspicion.subjects == ("floor", "stage")
    for remedy in finding.remedies:
        if remedy.verdict == "cures":
            assert finding_of(apply_change(build, remedy.change)) is None
    assert {r.verdict for r in finding.remedies} >= {"cures"}


def test_narrow_gap_offers_a_finer_depth_format():
    build = facing(90.0, 0.004, format="unorm24")
    finding = finding_of(build)
    finer = [r for r in finding.remedies if r.change.title == "reversed float depth"]
    assert [r.verdict for r in finer] == ["cures"]
    assert finding_of(apply_change(build, finer[0].change)) is None


def test_unseen_pair_on_one_plane_is_latent():
    build = build_of(
        Thing("a", wall(5.0, half=1), flat("red", 0.5), place=(0, 0, 30)),
        Thing("b", wall(5.0, half=2), flat("white", 0.8), place=(0, 0, 30)),
        Thing("c", wall(9.0, half=2), flat("blue", 0.1)),
    )
    finding = finding_of(build)
    assert (finding.severity, finding.suspicion.pixels) == ("latent", {})


def test_faces_back_to_back_do_not_fight():
    # Two boxes that touch share a plane, but their faces look in opposite directions and each hides the other.
    build = build_of(
        Thing("left", Shape().box((-1, -1, -6), (0, 1, -5)), flat("red", 0.5)),
        Thing("right", Shape().box((0, -1, -6), (1, 1, -5)), flat("white", 0.8)),
    )
    assert finding_of(build) is None


def test_several_pairs_are_several_causes():
    things = [Thing(f"card_{i}", wall(10.0, x0=-1 + i * 0.7, x1=-0.5 + i * 0.7, half=1), flat(f"c{i}", 0.3)) for i in range(3)]
    build = build_of(*things, Thing("wall", wall(10.0), flat("white", 0.8)))
    causes = {f.suspicion.cause for f in sweep(build, size=SIZE).findings if f.code == CODE}
    assert causes == {f"card_{i} + wall" for i in range(3)}


def test_slanted_planes_are_found_too():
    rng = np.random.default_rng(4)
    for _ in range(5):
        along, up = rng.standard_normal(3), rng.standard_normal(3)
        along /= np.linalg.norm(along)
        up -= along * (up @ along)
        up /= np.linalg.norm(up)
        if np.cross(along, up) @ [0, 0, 1] < 0.3:
            continue
        at = np.array([0, 0, -8.0])
        big, small = Shape(), Shape()
        big.quad(tuple(at - 2 * along - 2 * up), tuple(4 * along), tuple(4 * up))
        small.quad(tuple(at - along - up), tuple(1.5 * along), tuple(1.5 * up))
        build = build_of(Thing("big", big, flat("white", 0.8)), Thing("small", small, flat("red", 0.3)))
        assert finding_of(build) is not None


def test_a_larger_near_plane_is_a_remedy_where_nothing_stands_near():
    build = facing(90.0, 0.004, format="unorm24")
    finding = finding_of(build)
    nearer = [r for r in finding.remedies if r.change.title.startswith("near plane")]
    # Half the depth of what stands nearest, 44.998 m, to two digits: a step of z^2 / (n 2^24) = 11 um instead of 9.7 mm.
    assert [(r.change.title, r.verdict) for r in nearer] == [("near plane 45 m", "cures")]
    assert finding_of(apply_change(build, nearer[0].change)) is None


@pytest.mark.parametrize("tilt_deg", [0.0, 0.02, 0.05])
def test_the_area_shared_is_that_where_the_planes_are_within_the_gap(tilt_deg):
    # A card 4 x 4 m hinged at its left edge to a wall 20 m off: at .05 degrees it stands 3.5 mm off at its right. The depth step there
    # is z^2 / (n 2^24) = .48 mm, so that a strip of .48 / tan(tilt) is contested: .55 m of 4 m, and that much area is shared.
    rise = np.tan(np.radians(tilt_deg)) * 4
    card = Shape().quad((-2, -2, -20), (4, 0, rise), (0, 4, 0))
    build = build_of(
        Thing("card", card, flat("red", 0.5)), Thing("wall", wall(20.0), flat("white", 0.8)), setup={"depth": {"near_m": 0.05}}
    )
    finding = finding_of(build)
    step = 20.0**2 / (0.05 * 2**24)
    strip = 4.0 if tilt_deg == 0 else min(4.0, step / np.tan(np.radians(tilt_deg)))
    # What counts as within the gap is a tenth of a millimetre more than what is contested.
    assert 0.9 * strip * 4 < finding.suspicion.facts["area_m2"] < 1.35 * strip * 4 + 0.1
    assert finding.suspicion.pixels["eye"] > 100


def test_a_gap_of_a_fiftieth_of_a_millimetre_is_no_gap_of_nothing():
    finding = finding_of(facing(20.0, 2e-5))
    # 20 m off, float32 keeps 1.9 um: 20 um come out as 19 to 21.
    assert finding.suspicion.facts["gap_m"] == pytest.approx(2e-5, abs=2e-6)
    assert finding_of(facing(20.0, 0.0)).suspicion.facts["gap_m"] == 0.0
