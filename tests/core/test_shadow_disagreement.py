"""Drawn shadows against true ones over a frame: classes sum to it, planted causes are named, healthy twins are silent."""

import numpy as np
import pytest

from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.frame.stage import make_camera
from eddyfall.core.hashing import freeze
from eddyfall.core.passes.contract import Pixels, View
from eddyfall.core.scene.model import Image, Material, TextureUse
from eddyfall.core.truth.disagreement import disagreement
from eddyfall.core.truth.judge import Judge
from eddyfall.core.truth.shadow_causes import chain_of
from eddyfall.core.truth.shadow_classes import Class, Lost, Wrote
from eddyfall.core.truth.surfaces import surfaces_of, to_light
from eddyfall.demo.shapes import Shape
from plain_rays import plain_hits
from scenes import GREY, Thing, build_of, floor, merged
from sizes import of_many

SIZE = (320, 180)
RENDERER = Renderer()
TOWARDS = [0.0, 0.5, -0.866]


def yard(setup=None, screen=None, material=None, things=(), images=()):
    raw = {
        "viewpoints": {"eye": {"eye": [0, 3, 0], "target": [0, 0, -9], "fov_y_deg": 50}},
        "lights": {"sun": {"kind": "sun", "illuminance_lux": 10.0, "towards": TOWARDS}},
        "shadow": {"reach_m": 60.0, "resolution": 1024},
    }
    screen = screen or Shape().box((-2, 0, -10.05), (2, 1.5, -10), 1.0)
    thing = Thing("screen", screen, material or Material("paint", base_rgba=(0.5, 0.5, 0.5, 1.0), metallic=0.0))
    return build_of(
        Thing("floor", floor(0.0, near=-6.0, far=60.0)), thing, *things, setup=merged(raw, setup or {}), images=images
    )


def judged(build, every=1):
    frame = RENDERER.frame(build, Request("eye", SIZE), "lit")
    return frame, disagreement(RENDERER, frame, every)


CAUSES = {
    Lost.SWITCHED_OFF: {"shadow": {"enabled": False}},
    Lost.LIGHT: {"lights": {"sun": {"casts": False}}},
    Lost.RECEIVER: {"nodes": {"floor": {"receives": False}}},
    Lost.PASS: {"shaders": {"bare": {"passes": {"shadow": False}}}, "materials": {"paint": {"shader": "bare"}}},
    Lost.CULLED: {"shadow": {"technique": "rays", "ray_limit_deg": 60.0}},
    Lost.REACH: {"shadow": {"reach_m": 4.0}},
}


@pytest.mark.parametrize("cause", CAUSES)
def test_each_cause_is_named_over_the_frame(cause):
    frame, found = judged(yard(CAUSES[cause]))
    [sun] = found.lights
    missing = sun.classes == Class.MISSING
    assert missing.sum() > 300 and (sun.lost[missing] == cause).mean() > 0.98, np.unique(sun.lost[missing], return_counts=True)
    assert set(sun.caster[missing]) == {frame.geometry.names["screen"]}


def test_classes_sum_to_the_surfaces_of_the_frame():
    frame, found = judged(yard(CAUSES[Lost.REACH]))
    [sun] = found.lights
    assert sum(sun.counts().values()) == int((frame.drawable >= 0).sum()) == len(found.surfaces)
    assert (sun.lost >= 0).sum() == sun.counts()["missing"] and (sun.wrote >= 0).sum() == sun.counts()["false"]


def test_truth_is_what_plain_rays_say():
    frame, found = judged(yard(), every=23)
    [sun] = found.lights
    s, (towards, _) = found.surfaces, to_light(found.surfaces, 0, frame)
    g = frame.geometry
    chosen = np.flatnonzero(sun.classes >= Class.AGREE)
    start = s.start(towards)
    for i in chosen:
        met, _ = plain_hits(g.positions[g.triangles[g.owner < g.plate]], start[i][None], towards[i][None])
        assert bool(sun.true[i]) == (met[0] < 0), s.pixels[i]


def test_what_is_told_not_to_cast_is_meant_that_way():
    _, found = judged(yard({"nodes": {"screen": {"casts": False}}}))
    assert found.lights[0].counts()["missing"] == 0


def test_acne_is_found_partly_dark_too_and_wrote_itself():
    # A floor under a sun that grazes it, without bias: hardly a pixel is half dark, most are partly.
    _, found = judged(yard({"shadow": {"bias_texels": 0.0, "cascades": 1, "resolution": 512}}))
    [sun] = found.lights
    false = sun.classes == Class.FALSE
    assert false.sum() > 500 and (sun.wrote[false] == Wrote.OWN_SURFACE).mean() > 0.95
    assert (sun.drawn[false] < 0.5).sum() < 0.2 * false.sum(), "half dark alone would miss it"


def test_a_caster_that_no_camera_draws_is_named_for_its_shadow():
    crane = Thing("crane", Shape().box((-1, 3.0, -14), (1, 3.4, -12), 1.0), Material("ghost", metallic=0.0))
    setup = {"shaders": {"unseen": {"passes": {"colour": False}}}, "materials": {"ghost": {"shader": "unseen"}}}
    frame, found = judged(yard(setup, things=(crane,)))
    [sun] = found.lights
    unseen = sun.wrote == Wrote.UNSEEN
    assert unseen.sum() > 100 and set(sun.writer[unseen]) == {frame.geometry.names["crane"]}


def grille(cells=16, open_share=0.5625):
    """A picture of square holes: alpha 0 in a square of `open_share` of each cell's area."""
    edge = 256
    cell = edge // cells
    hole = round(cell * open_share**0.5)
    alpha = np.full((edge, edge), 255, np.uint8)
    at = np.arange(edge) % cell < hole
    alpha[np.ix_(at, at)] = 0
    return Image("grille", freeze(np.dstack([np.full((edge, edge, 3), 128, np.uint8), alpha])))


@pytest.mark.parametrize(("cutoff", "kind"), [(0.35, "hole"), (0.5, "solid")])
def test_a_grille_whose_mip_level_closes_or_opens_is_named(cutoff, kind):
    # Covered .4375: at a mip level of one cell a texel alpha is .4375 everywhere: solid at a cutoff of .35, gone at .5.
    bars = Material("bars", metallic=0.0, alpha_mode="MASK", alpha_cutoff=cutoff, base_texture=TextureUse(0), double_sided=True)
    flat = Shape().quad((-3, 2, -6), (6, 0, 0), (0, 0, -6), 0.1)
    high = {"lights": {"sun": {"towards": [0.0, 1.0, 0.0]}}, "shadow": {"cascades": 1, "resolution": 256, "filter_px": 1}}
    _, found = judged(yard(high, flat, bars, images=(grille(),)))
    [sun] = found.lights
    # Looked at where truth is neither all lit nor all dark around: single pixels of the pattern.
    if kind == "solid":
        lost = sun.lost[sun.classes == Class.MISSING]
        assert (lost == Lost.ALPHA).sum() > 0.9 * len(lost) > 200, np.unique(lost, return_counts=True)
    else:
        _, surfaces, judge = (
            found,
            found.surfaces,
            Judge(RENDERER, RENDERER.frame(yard(high, flat, bars, images=(grille(),)), Request("eye", SIZE), "lit")),
        )
        from eddyfall.core.truth.shadow_causes import writers

        lit = np.flatnonzero((sun.true > 0) & (sun.drawn < 0.5))
        kinds, _ = writers(judge, 0, surfaces.of(lit))
        # The rest lies within a texel of the grille's rim, outside of it.
        assert len(lit) > 200 and (kinds == Wrote.HOLE_LOST).mean() > 0.8, np.unique(kinds, return_counts=True)


def pixel_of(build, place):
    camera = make_camera(build, "eye", SIZE[0] / SIZE[1])
    view = View(camera, Pixels(SIZE, (0, 0, *SIZE)))
    away = np.asarray(place, float) - np.array(camera.eye)
    right, above, back = camera.axes
    half = np.tan(camera.fov_y_rad / 2)
    depth = -(away @ back)
    assert view.ray_lengths.shape == SIZE[::-1]
    return int((away @ right / depth / half / (SIZE[0] / SIZE[1]) * 0.5 + 0.5) * SIZE[0]), int(
        (0.5 - away @ above / depth / half * 0.5) * SIZE[1]
    )


PLANTED = {
    "switched off": {"shadow": {"enabled": False}},
    "light": {"lights": {"sun": {"casts": False}}},
    "receiver": {"nodes": {"floor": {"receives": False}}},
    "pass": {"shaders": {"bare": {"passes": {"shadow": False}}}, "materials": {"paint": {"shader": "bare"}}},
    "face": None,
    "culled": {"shadow": {"technique": "rays", "ray_limit_deg": 80.0}},
    "paged": {"shadow": {"technique": "paged", "paged_limit_deg": 80.0}},
    "reach": {"shadow": {"reach_m": 2.0}},
}
EXPECTED = {
    "switched off": Lost.SWITCHED_OFF, "light": Lost.LIGHT, "receiver": Lost.RECEIVER, "pass": Lost.PASS, "face": Lost.FACE,
    "culled": Lost.CULLED, "paged": Lost.CULLED, "reach": Lost.REACH,
}  # fmt: skip


def test_in_two_hundred_random_yards_the_planted_cause_is_named_and_twins_are_silent():
    rng = np.random.default_rng(11)
    names, named, tried, unexplained, judged_px, false_alarms = list(PLANTED), 0, 0, 0, 0, 0
    for number in range(of_many(200, 48)):
        up, around = np.radians(rng.uniform(25, 60)), rng.uniform(-0.7, 0.7)
        towards = [float(np.sin(around) * np.cos(up)), float(np.sin(up)), float(-np.cos(around) * np.cos(up))]
        wide, high, z = rng.uniform(1.5, 6), rng.uniform(0.8, 3), rng.uniform(-14, -6)
        solid = Shape().box((-wide / 2, 0, z - 0.3), (wide / 2, high, z), 1.0)
        leaf = Shape().quad((-wide / 2, 0, z), (wide, 0, 0), (0, high, 0))  # its front looks away from the sun
        base = {"lights": {"sun": {"towards": towards}}, "shadow": {"resolution": 1024, "cascades": 3, "reach_m": 30.0}}
        cause = names[number % len(names)]
        _, healthy = judged(yard(base, solid), every=4)
        _, sick = judged(yard(merged(base, PLANTED[cause] or {}), leaf if cause == "face" else solid), every=4)
        [twin], [sun] = healthy.lights, sick.lights
        judged_px += len(sick.surfaces)
        unexplained += int((sun.lost == Lost.UNEXPLAINED).sum() + (sun.wrote == Wrote.UNEXPLAINED).sum())
        false_alarms += int(
            np.isin(twin.lost, [Lost.SWITCHED_OFF, Lost.LIGHT, Lost.RECEIVER, Lost.PASS, Lost.CULLED, Lost.REACH]).sum()
        )
        lost = sun.lost[sun.lost >= 0]
        if len(lost) < 5:
            continue
        tried += 1
        values, counts = np.unique(lost, return_counts=True)
        named += int(values[counts.argmax()] == EXPECTED[cause])
    assert tried >= of_many(180, 43) and named >= 0.95 * tried, (named, tried)
    assert false_alarms == 0 and unexplained <= 0.01 * judged_px, (false_alarms, unexplained, judged_px)


def test_every_test_is_evaluated_whatever_fails_before_it():
    both = yard({"shadow": {"reach_m": 4.0}, **CAUSES[Lost.PASS]})
    frame = RENDERER.frame(both, Request("eye", SIZE), "lit")
    surfaces = surfaces_of(frame)
    judge = Judge(RENDERER, frame)
    classes, _, _ = judge.classes(0, surfaces)
    chain = chain_of(judge, 0, surfaces.of(classes == Class.MISSING))
    assert not chain.passed[:, Lost.PASS].any() and not chain.passed[:, Lost.REACH].any()
    assert chain.passed[:, Lost.RECEIVER].all() and chain.first_lost(0) is Lost.PASS


def test_faces_turned_away_under_a_lit_normal_are_a_class_of_their_own():
    # An upright sheet whose normals lean to the sun: its face is turned away, its shading is not.
    sheet = Shape().quad((-2, 0.1, -7), (4, 0, 0), (0, 2.0, 0))
    sheet.normals[0][:] = np.array([0.0, 0.9, 0.44])
    _, found = judged(yard(things=(Thing("sheet", sheet, GREY),)))
    assert found.lights[0].counts()["terminator"] > 300
