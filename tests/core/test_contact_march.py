"""Contact shadows in screen space: they darken what lies near a foot, see nothing beyond the frame, and are a mask, not a cure."""

import numpy as np
import pytest

from eddyfall.core.frame.core_sample import core_sample
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.scene.changes import apply_change, set_leaf
from eddyfall.core.scene.model import Material
from eddyfall.core.sweep import sweep
from eddyfall.core.truth.disagreement import disagreement
from eddyfall.core.truth.judge import SHADOWED
from eddyfall.core.truth.shadow_classes import Class, Wrote
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of

MATTE = Material("matte", base_rgba=(0.5, 0.5, 0.5, 1.0), metallic=0.0, ior=1.0)
SIZE = (480, 270)
RENDERER = Renderer()


def post(eye=(2.6, 1.7, 2.0), target=(0.6, 0.2, -0.1), **sun):
    """A post on level ground in a sun whose bias stands its shadow off by more than half a metre."""
    things = (
        Thing("ground", Shape().quad((-9, 0, 9), (18, 0, 0), (0, 0, -18)), MATTE),
        Thing("post", Shape().box((-0.2, 0, -0.2), (0.2, 1.5, 0.2)), MATTE),
    )
    light = {"kind": "sun", "illuminance_lux": 3.0, "towards": [-0.7, 0.7, 0.2], "bias_mm": 1200.0}
    setup = {
        "viewpoints": {"eye": {"eye": list(eye), "target": list(target), "fov_y_deg": 40}},
        "lights": {"sun": {**light, **sun}},
        "shadow": {"reach_m": 20.0, "cascades": 1, "resolution": 2048},
    }
    return build_of(*things, setup=setup)


def missing(build):
    frame = RENDERER.frame(build, Request("eye", SIZE), SHADOWED)
    return int((disagreement(RENDERER, frame).lights[0].classes == Class.MISSING).sum())


def test_a_march_darkens_what_the_bias_lets_through_near_the_foot():
    bare, marched = missing(post()), missing(post(contact_m=1.2, contact_thick_m=0.3))
    assert bare > 1000 and marched < 0.35 * bare
    short = missing(post(contact_m=0.1, contact_thick_m=0.3))
    assert marched < short < bare


def test_what_it_darkens_wrongly_is_laid_to_it():
    """Taken for thicker than it is, the post darkens ground that the sun reaches behind it."""
    frame = RENDERER.frame(post(contact_m=1.2, contact_thick_m=0.6), Request("eye", SIZE), SHADOWED)
    light = disagreement(RENDERER, frame).lights[0]
    false = light.classes == Class.FALSE
    assert false.sum() > 200 and (light.wrote[false] == Wrote.MARCHED).mean() > 0.98
    traced = RENDERER.frame(post(contact_m=1.2, contact_thick_m=0.6, technique="rays"), Request("eye", SIZE), SHADOWED)
    light = disagreement(RENDERER, traced).lights[0]
    assert set(light.wrote[light.classes == Class.FALSE]) <= {Wrote.MARCHED, Wrote.OWN_SURFACE}


def test_what_the_frame_does_not_show_is_not_met():
    """The same from so near that the post itself lies outside of the frame: nothing is found to meet."""
    near = {"eye": (0.8, 0.5, -0.19), "target": (0.8, 0.0, -0.2)}
    assert missing(post(**near)) == missing(post(**near, contact_m=1.2, contact_thick_m=0.3)) > 300


def test_without_a_reach_nothing_is_marched_and_the_frame_is_as_it_was():
    build = post()
    off = apply_change(build, set_leaf(build, ("lights", "sun", "contact_thick_m"), 0.5, scope="project", title="thick"))
    a, b = (Renderer().frame(v, Request("eye", SIZE)).linear for v in (build, off))
    assert np.array_equal(a, b)


@pytest.mark.parametrize("technique", ["cascades", "rays", "paged"])
def test_a_crop_and_the_twin_of_a_pixel_are_the_frame(technique):
    build = post(contact_m=1.2, contact_thick_m=0.3, technique=technique)
    whole = RENDERER.frame(build, Request("eye", SIZE)).linear
    part = RENDERER.frame(build, Request("eye", SIZE, (200, 100, 300, 180))).linear
    assert np.array_equal(part, whole[100:180, 200:300])
    bare = RENDERER.frame(post(technique=technique), Request("eye", SIZE)).linear
    darker = np.argwhere(whole[..., 0] < bare[..., 0] * 0.5)
    assert len(darker) or technique == "rays"
    for y, x in darker[:: max(len(darker) // 4, 1)]:
        sample = core_sample(RENDERER, build, Request("eye", SIZE), int(x), int(y))
        assert np.allclose(sample.linear, whole[y, x], rtol=1e-4)


def test_as_a_remedy_of_a_shadow_that_stands_off_it_masks():
    """It makes the frame look nearer to truth; the maps' own contact, which is measured, is lost as before."""
    found = next(f for f in sweep(post(), size=SIZE).findings if f.code == "shadow.detached")
    said = {r.change.title: r.verdict for r in found.remedies}
    (march,) = [verdict for title, verdict in said.items() if "march" in title]
    assert march == "masks" and "cures" in said.values()
