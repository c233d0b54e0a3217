"""Shadows of cutouts: what their holes let through, drawn against true; alpha tests of the shadow pass at chosen mip levels."""

import numpy as np
import pytest

from eddyfall.core.defects import families
from eddyfall.core.defects.shadow_holes import CODE
from eddyfall.core.defects.survey import Survey
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.lineup import line_up
from eddyfall.core.raster.coverage import coverage, scaled_to
from eddyfall.core.scene.changes import apply_change
from eddyfall.core.scene.model import Image, Light, Material, TextureUse
from eddyfall.core.shade.shadow_maps import EDGE, TEXEL_M
from eddyfall.core.sweep import sweep
from eddyfall.core.truth.holes import hole_shares
from eddyfall.core.truth.judge import SHADOWED, Judge
from eddyfall.core.truth.leftovers import leftovers
from eddyfall.core.truth.surfaces import surfaces_of
from eddyfall.demo.pictures import grating
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of, floor, merged

SIZE = (480, 270)
RENDERER = Renderer()
PERIOD_PX, BAR_PX, PER_M = 16, 4, 64  # of the picture: 7/16 are covered
OPEN = (1 - BAR_PX / PERIOD_PX) ** 2
FAMILY = next(f for f in families() if CODE in {c.code for c in f.codes})


def hatch(cutoff=0.35, period_m=PERIOD_PX / PER_M, half=4.0, lamps=(), picture=None, **setup):
    """A level sheet of crossed bars 4 m over a floor under a sun overhead."""
    image = Image("bars", grating((128, 128, 128), 4, BAR_PX) if picture is None else picture)
    bars = Material("bars", base_texture=TextureUse(0), alpha_mode="MASK", alpha_cutoff=cutoff, double_sided=True)
    sheet = Shape().quad((-half, 4, half), (2 * half, 0, 0), (0, 0, -2 * half), 4 * period_m)
    raw = {
        "viewpoints": {"eye": {"eye": [0, 12, 9], "target": [0, 0, 0], "fov_y_deg": 50}},
        "lights": {"sun": {"kind": "sun", "illuminance_lux": 10.0, "towards": [0, 1, 0]}},
        "shadow": {"reach_m": 18.0, "resolution": 2048, "cascades": 1, "bias_texels": 0.0},
    }
    things = (Thing("floor", floor(0.0, near=-20, far=20)), Thing("sheet", sheet, bars))
    return build_of(*things, images=(image,), lamps=lamps, setup=merged(raw, setup))


def frame_of(build, upto=SHADOWED):
    return RENDERER.frame(build, Request("eye", SIZE), upto)


def at_level(level, cutoff):
    """The sheet with its alpha tested at one mip level, whatever texels the map has."""
    texel_m = float(frame_of(hatch(cutoff)).buffers["shadow_maps"].info[0, TEXEL_M])
    return hatch(cutoff, materials={"bars": {"shadow_mip_bias": level - float(np.log2(texel_m * PER_M))}})


def open_in_map(build):
    """Share of the map's texels under whole periods of the sheet that hold nothing of it."""
    maps = frame_of(build).buffers["shadow_maps"]
    edge = int(maps.info[0, EDGE])
    across = (np.arange(edge) + 0.5) / edge * 2 - 1
    u, v = np.meshgrid(across, -across)
    place = np.stack([u, v, np.zeros_like(u), np.ones_like(u)], axis=-1) @ np.linalg.inv(maps.matrix[0]).T
    under = (np.abs(place[..., 0]) < 3) & (np.abs(place[..., 2]) < 3)
    depth = maps.depth.reshape(edge, edge)[under]
    return float((depth > 0.5).mean())  # the sheet lies in the nearer half of the scene's depth


# By hand: a linear look-up crosses the cutoff (0.5 - c) px outside of a bar's edge; at mip 4.25 the alpha is the mean, 7/16, all over.
@pytest.mark.parametrize(
    ("level", "cutoff", "due"),
    [(4.25, 0.35, 0.0), (4.25, 0.5, 1.0), (0.25, 0.35, (1 - 4.3 / 16) ** 2), (0.25, 0.5, OPEN), (-9.0, 0.5, OPEN)],
)
def test_a_grille_is_solid_open_or_true_by_the_mip_level_that_is_tested(level, cutoff, due):
    assert open_in_map(at_level(level, cutoff)) == pytest.approx(due, abs=0.012)


def shares(build, light=0):
    frame = frame_of(build)
    return hole_shares(Judge(RENDERER, frame), light, surfaces_of(frame, 2), 16)


def test_shares_are_those_of_the_holes():
    [fine] = shares(at_level(0.0, 0.5))
    assert fine.true == pytest.approx(OPEN, abs=0.05) and abs(fine.off) < 0.04
    [solid] = shares(at_level(4.25, 0.35))
    assert solid.drawn == 0 and solid.off == -solid.true
    [none] = shares(at_level(4.25, 0.5))
    assert none.drawn == 1
    # What else shades the place is left out, and so is a caster that does not cast.
    assert shares(hatch(nodes={"sheet": {"casts": False}})) == []
    assert shares(hatch(shadow={"enabled": False})) == []


def found(build, pictures=True):
    return FAMILY.inspect(Survey(build, RENDERER, size=SIZE, pictures=pictures))


@pytest.mark.parametrize("cutoff", [0.35, 0.5])
def test_a_lost_hole_is_one_finding_and_a_finer_mip_cures_it(cutoff):
    coarse = hatch(cutoff, period_m=0.05, shadow={"resolution": 1024})
    [finding] = [f for f in sweep(coarse, size=SIZE, renderer=RENDERER).findings if f.code == CODE]
    s = finding.suspicion
    assert (s.cause_kind, s.cause) == ("material", "bars") and {"sheet", "floor"} <= set(s.subjects)
    best = finding.best
    assert "mip bias" in best.change.title and best.verdict == "cures"
    [left] = shares(apply_change(coarse, best.change))
    assert abs(left.off) <= 0.1
    # What changes all shadows of the sun is not offered where the material by itself does.
    assert not any("by rays" in r.change.title for r in finding.remedies)


def test_where_no_mip_does_finer_maps_and_rays_are_offered():
    build = hatch(0.35, 0.03, shadow={"resolution": 128}, materials={"bars": {"shadow_mip_bias": -16.0}})
    [suspicion] = found(build)
    assert [c.change.title for c in suspicion.candidates] == ["shadow maps of 256 texels", "sun by rays"]


def test_a_bias_set_the_other_way_is_put_back():
    [suspicion] = found(hatch(0.35, materials={"bars": {"shadow_mip_bias": 16.0}}))
    assert suspicion.candidates[0].change.title == "bars: shadow mip bias 0"


def test_healthy_twins_are_silent():
    assert found(hatch(0.5)) == []
    assert found(hatch(0.35, shadow={"technique": "rays"})) == []
    assert found(hatch(0.5, picture=np.full((64, 64, 4), 255, np.uint8))) == []


def test_thirty_grilles_are_judged_as_their_bars_and_texels_say():
    """Against shares worked out without the judge: the bars' own area, and the mean of what is drawn on the floor straight below."""
    rng = np.random.default_rng(7)
    for _ in range(30):
        covered, period = int(rng.integers(3, 11)), float(rng.uniform(0.03, 0.4))
        cutoff, edge = float(rng.uniform(0.3, 0.7)), int(rng.choice([512, 1024, 2048]))
        picture = grating((90, 90, 90), 4, covered)
        build = hatch(cutoff, period, picture=picture, shadow={"resolution": edge})
        frame = frame_of(build)
        s = surfaces_of(frame, 2)
        inside = (np.abs(s.place[:, [0, 2]]) < 3.6).all(axis=1) & (s.place[:, 1] < 0.01) & (s.drawable == 0)
        judge, up = Judge(RENDERER, frame), np.tile([0.0, 1.0, 0.0], (int(inside.sum()), 1))
        drawn = float(judge.drawn(0, s.of(inside), up, np.full(int(inside.sum()), np.inf)).mean())
        true = (1 - covered / PERIOD_PX - 2 * (0.5 - cutoff) / PERIOD_PX) ** 2  # where a linear look-up crosses the cutoff
        off = drawn - true
        if abs(abs(off) - 0.1) > 0.03:
            assert (found(build, pictures=False) != []) == (abs(off) > 0.1), (covered, period, cutoff, edge, off)


def test_the_alpha_test_can_be_left_out_of_the_shadow_pass():
    for technique in ("cascades", "paged", "rays"):
        build = hatch(0.5, shadow={"technique": technique}, materials={"bars": {"shadow_alpha_test": False}})
        [share] = shares(build)
        assert share.drawn == 0 and share.true == pytest.approx(OPEN, abs=0.05), technique
    [suspicion] = found(hatch(0.5, materials={"bars": {"shadow_alpha_test": False}}))
    assert suspicion.candidates[0].change.title == "bars is alpha tested in shadows"


def test_lamps_lose_holes_too():
    lamp = (Light("lamp", "point", (1, 1, 1), 900.0), (0.0, 8.0, 0.0))
    setup = {"lights": {"sun": {"illuminance_lux": 10.0, "kind": "sun", "on": False}, "lamp": {"casts": True}}}
    coarse = hatch(0.35, 0.05, half=1.5, lamps=(lamp,), **setup, shadow={"light_resolution": 128})
    [suspicion] = found(coarse, pictures=False)
    assert suspicion.facts["light"] == "lamp" and "too solid" in suspicion.title
    assert found(hatch(0.5, 0.4, half=1.5, lamps=(lamp,), **setup, shadow={"light_resolution": 1024}), pictures=False) == []


def test_a_line_up_on_the_shadows_density_finds_the_mip_and_lamps_out_of_reach_do_not_count():
    far = (Light("far_lamp", "point", (1, 1, 1), 900.0, 5.0), (60.0, 3.0, 0.0))
    build = hatch(0.35, 0.05, lamps=(far,), lights={"far_lamp": {"casts": True}}, shadow={"resolution": 1024})
    result = line_up(build, "eye", (200, 168, 80, 30), "shadow density", subject="floor", renderer=RENDERER, size=SIZE)
    [share] = shares(build)
    assert result.base_score == pytest.approx(abs(share.off), abs=0.05)
    cleared = [t.title for t in result.trials if t.verdict == "clears it"]
    assert any("shadow mip bias" in title for title in cleared), [(t.title, t.verdict, t.before, t.after) for t in result.trials]


def test_scaled_alpha_passes_the_test_over_the_same_share():
    # I. Castano, "Computing Alpha Mipmaps", 2010 (from memory): coverage at the cutoff is kept from mip to mip.
    rng = np.random.default_rng(3)
    for share in (0.1, 0.35, 0.62, 0.9):
        alpha = rng.integers(1, 256, (64, 64)).astype(np.uint8)
        for least in (60.0, 128.0, 200.0):
            assert coverage(scaled_to(alpha, least, share), least) == pytest.approx(share, abs=0.03)
    same = np.full((8, 8), 112, np.uint8)  # one alpha all over: all of it or nothing, whichever is nearer
    assert coverage(scaled_to(same, 128.0, 0.56), 128.0) == 1 and coverage(scaled_to(same, 90.0, 0.3), 90.0) == 0
    assert (scaled_to(np.zeros((3, 3), np.uint8), 128.0, 0.5) == 0).all()


def test_kept_coverage_holds_in_the_map():
    """Leaves strewn at random: each mip averages them away; kept, as much shadow is drawn as of the finest."""
    rng = np.random.default_rng(5)
    picture = np.full((64, 64, 4), 120, np.uint8)
    picture[..., 3] = np.where(rng.random((64, 64)) < 0.35, 255, 0)
    texel = float(frame_of(hatch(0.5, picture=picture)).buffers["shadow_maps"].info[0, TEXEL_M])
    for level in (1.0, 2.0, 3.0):
        opened = {}
        for kept in (False, True):
            bars = {"shadow_mip_bias": level - float(np.log2(texel * PER_M)), "shadow_coverage_kept": kept}
            opened[kept] = open_in_map(hatch(0.5, picture=picture, materials={"bars": bars}))
        finest = open_in_map(hatch(0.5, picture=picture, materials={"bars": {"shadow_mip_bias": -12.0}}))
        assert abs(opened[True] - finest) < 0.7 * abs(opened[False] - finest) and abs(opened[True] - finest) < 0.12, level


def test_a_shadows_alpha_test_redraws_no_camera_pass():
    renderer = Renderer()
    renderer.frame(hatch(), Request("eye", SIZE), "linear")
    renderer.ran.clear()
    renderer.frame(hatch(materials={"bars": {"shadow_mip_bias": -2.0}}), Request("eye", SIZE), "linear")
    assert "shadow" in renderer.ran and not {"prepass", "opaque", "surface"} & set(renderer.ran)


def test_a_bias_that_changes_nothing_is_a_leftover():
    build = hatch(0.5, materials={"bars": {"shadow_mip_bias": -3.0}, "grey": {"shadow_mip_bias": -1.0}})
    told = {s.path: s.needed for s in leftovers(RENDERER, build, size=SIZE).settings}
    assert told["materials", "bars", "shadow_mip_bias"] and not told["materials", "grey", "shadow_mip_bias"]
