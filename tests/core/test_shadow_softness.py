"""Soft shadows: how wide a penumbra is by similar triangles, drawn by a search and by rays; edges that are drawn too wide or too narrow."""

import math
from itertools import pairwise

import numpy as np
import pytest

from eddyfall.core.defects.shadow_softness import CODE, FAMILY
from eddyfall.core.defects.survey import Survey
from eddyfall.core.errors import RequestError
from eddyfall.core.frame.core_sample import core_sample
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.passes.contract import View
from eddyfall.core.scene.changes import apply_change, set_leaf
from eddyfall.core.scene.model import Light, Material
from eddyfall.core.sweep import sweep
from eddyfall.core.truth.bias.proving import bias_of_light
from eddyfall.core.truth.disagreement import disagreement
from eddyfall.core.truth.fineness import fineness
from eddyfall.core.truth.judge import SHADOWED, Judge
from eddyfall.core.truth.shadow_classes import Class
from eddyfall.core.truth.shadow_costs import shadow_cost
from eddyfall.core.truth.surfaces import surfaces_of
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of, merged

MATTE = Material("matte", base_rgba=(0.5, 0.5, 0.5, 1.0), metallic=0.0, ior=1.0)
SUN_DEG = 0.533  # seen from the ground, a handbook value
LOW = math.radians(33.34)
SIZE = (480, 270)
DISC_10_90 = 0.687  # of a disc's penumbra: the share of a disc beyond a chord climbs from .1 to .9 over .687 of its width
RENDERER = Renderer()


def ledge(height=4.0, technique="cascades", eye=1.2, **sun):
    """A ledge with a straight edge over level ground; the sun stands 33.34 degrees high across it."""
    foot = height / math.tan(LOW)
    view = {"eye": [foot, eye, 0.01], "target": [foot, 0, 0], "fov_y_deg": 40}
    light = {"kind": "sun", "illuminance_lux": 3.0, "towards": [-math.cos(LOW), math.sin(LOW), 0], "technique": technique}
    things = (
        Thing("ground", Shape().quad((-20, 0, 40), (90, 0, 0), (0, 0, -80)), MATTE),
        Thing("ledge", Shape().box((0, height, -12), (14, height + 0.02, 12)), MATTE),
    )
    setup = {
        "viewpoints": {"eye": view},
        "lights": {"sun": {**light, "diameter_deg": SUN_DEG, **sun}},
        "shadow": {"reach_m": 30.0, "cascades": 1, "resolution": 2048},
    }
    return build_of(*things, setup=setup)


def places(frame):
    """(h, w) x in m of the level ground at each pixel."""
    rays = View(frame.camera, frame.pixels).rays
    y, x = np.mgrid[0 : frame.pixels.size[1], 0 : frame.pixels.size[0]]
    d = rays.d0 + (x + 0.5)[..., None] * rays.du + (y + 0.5)[..., None] * rays.dv
    return rays.eye[0] - d[..., 0] * rays.eye[1] / d[..., 1]


def width_m(build):
    """10-90 % width on the ground: where the light over that without shadows lies between, across the edge."""
    frame = RENDERER.frame(build, Request("eye", SIZE))
    (name,) = build.setup.lights
    bare = apply_change(build, set_leaf(build, ("lights", name, "casts"), False, scope="project", title="bare"))
    light, x = frame.linear[..., 0] / RENDERER.frame(bare, Request("eye", SIZE)).linear[..., 0], places(frame)
    bins = np.linspace(x.min(), x.max(), 400)
    means = [light[(x >= a) & (x < b)].mean() for a, b in pairwise(bins) if ((x >= a) & (x < b)).any()]
    return float(sum(0.1 < v < 0.9 for v in means) * (bins[1] - bins[0]))


def test_numbers_of_penumbrae_by_hand():
    """Similar triangles: .533 degrees are 93.0 mm at 10 m; an edge 4 m up at 33.34 degrees 67.7 mm across the rays, 123.2 mm on the floor;
    a box of three texels of 43.36 mm is as wide 13.98 m behind; a lamp of .3 m, 2 m to the edge, 6 m to the floor: .600 m, 25.6 texels."""
    a_metre = 2 * math.tan(math.radians(SUN_DEG) / 2)
    assert a_metre * 10 == pytest.approx(0.0930, abs=5e-5)
    across = a_metre * 4 / math.sin(LOW)
    assert across == pytest.approx(0.0677, abs=5e-5) and across / math.sin(LOW) == pytest.approx(0.1232, abs=1e-4)
    assert 3 * 0.04336 / a_metre == pytest.approx(13.98, abs=0.01)
    assert pytest.approx(0.6) == 0.3 * (6 - 2) / 2 and pytest.approx(25.6) == 0.6 / (2 * 6 / 512)
    share = lambda t: (math.acos(t) - t * math.sqrt(1 - t * t)) / math.pi  # noqa: E731  (segment of a unit disc)
    t = np.linspace(-1, 1, 20001)
    s = np.array([share(v) for v in t])
    assert (t[s < 0.9].min() - t[s < 0.1].min()) / -2 == pytest.approx(DISC_10_90, abs=0.001)


@pytest.mark.long
@pytest.mark.parametrize(
    ("settings", "technique", "within"),
    [
        ({"softness": "rays", "soft_rays": 256}, "rays", 0.05),
        ({"softness": "search", "bias_along_plane": True}, "cascades", 0.2),
        ({"softness": "search", "bias_along_plane": True}, "paged", 0.2),
    ],
)
def test_a_penumbra_is_drawn_as_wide_as_it_is(settings, technique, within):
    assert width_m(ledge(technique=technique, **settings)) == pytest.approx(DISC_10_90 * 0.1232, rel=within)


def test_a_box_has_one_width_wherever_it_is():
    narrow, wide = width_m(ledge()), width_m(ledge(height=9.0))
    assert narrow == pytest.approx(wide, rel=0.2)
    soft = {"softness": "search", "bias_along_plane": True, "search_texels": 48}
    assert width_m(ledge(height=9.0, eye=2.0, **soft)) == pytest.approx(9 / 4 * DISC_10_90 * 0.1232, rel=0.15)


def lamp_over_a_plate(**lamp):
    """A lamp .3 m wide 6 m over level ground, and a plate with a straight edge 2 m below it."""
    things = (
        Thing("ground", Shape().quad((-8, 0, 8), (16, 0, 0), (0, 0, -16)), MATTE),
        Thing("plate", Shape().box((0, 3.99, -4), (4, 4.0, 4)), MATTE),
    )
    setup = {
        "viewpoints": {"eye": {"eye": [0, 3.0, 0.01], "target": [0, 0, 0], "fov_y_deg": 45}},
        "lights": {"lamp": {"casts": True, "diameter_m": 0.3, **lamp}},
        "shadow": {"light_resolution": 512},
    }
    return build_of(*things, setup=setup, lamps=((Light("lamp", "point", intensity=400.0), (0.0, 6.0, 0.0)),))


@pytest.mark.parametrize(
    "settings", [{"softness": "search", "bias_along_plane": True}, {"technique": "rays", "softness": "rays"}]
)
def test_a_lamps_penumbra_is_600_mm(settings):
    assert width_m(lamp_over_a_plate(**settings)) == pytest.approx(DISC_10_90 * 0.6, rel=0.1)


def test_what_a_search_may_look_through_is_the_widest_it_can_be():
    cut = width_m(lamp_over_a_plate(softness="search", bias_along_plane=True, search_texels=12))
    assert cut < 0.75 * DISC_10_90 * 0.6


def test_a_wide_filter_takes_540_mm_of_constant_bias_or_20_along_the_plane():
    """By hand, 25.6 texels of 23.44 mm on a face 60 degrees off: (12.8 + .5) x 23.44 x tan 60 = 540 mm; along the plane half a texel of it,
    20.3 mm. Here the whole filter lies on one plane, so that anything darker is acne."""
    texel = 2 * 6 / 512
    assert (12.8 + 0.5) * texel * math.tan(math.radians(60)) == pytest.approx(0.540, abs=0.001)
    assert 0.5 * texel * math.tan(math.radians(60)) == pytest.approx(0.0203, abs=1e-4)

    def dark(**lamp):
        ramp = Shape().quad((-3, -3 * 1.732, 4), (6, 6 * 1.732, 0), (0, 0, -8))  # 60 degrees
        things = (Thing("ramp", ramp, MATTE),)
        setup = {
            "viewpoints": {"eye": {"eye": [-4, 3.0, 0.01], "target": [0, 0, 0], "fov_y_deg": 45}},
            "lights": {"lamp": {"casts": True, "diameter_m": 0.3, "softness": "search", "bias_normal_texels": 0.0, **lamp}},
            "shadow": {"light_resolution": 512},
        }
        build = build_of(*things, setup=setup, lamps=((Light("lamp", "point", intensity=400.0), (0.0, 6.0, 0.0)),))
        frame = RENDERER.frame(build, Request("eye", SIZE), SHADOWED)
        light = disagreement(RENDERER, frame).lights[0]
        return int((light.classes == Class.FALSE).sum())

    assert dark(bias_along_plane=True, bias_mm=20.3) == 0
    assert dark(bias_mm=20.3) > 300


@pytest.mark.parametrize("rays", [16, 225])
def test_rays_at_half_shadow_scatter_no_more_than_chance_would(rays):
    """Binomial: .5 / sqrt(N), so that 2 % would take 625. Places spread over the disc do better."""
    assert 0.5 / math.sqrt(625) == pytest.approx(0.02)
    build = ledge(technique="rays", softness="rays", soft_rays=rays)
    frame = RENDERER.frame(build, Request("eye", (240, 135)))
    light, x = frame.linear[..., 0] / frame.linear[..., 0].max(), places(frame)
    half = (np.abs(light - 0.5) < 0.3) & (np.abs(x - x[np.abs(light - 0.5) < 0.05].mean()) < 0.004)
    assert half.sum() > 30 and light[half].std() < 0.5 / math.sqrt(rays) + 0.02


def test_what_lies_in_a_penumbra_is_no_disagreement():
    for build in (
        ledge(softness="search", bias_along_plane=True), lamp_over_a_plate(softness="search", bias_along_plane=True),
        ledge(technique="rays", softness="rays"),
    ):  # fmt: skip
        light = disagreement(RENDERER, RENDERER.frame(build, Request("eye", SIZE), SHADOWED)).lights[0]
        wrong = int(np.isin(light.classes, (Class.MISSING, Class.FALSE)).sum())
        assert wrong < 0.002 * light.classes.size and (light.classes == Class.EDGE).sum() > 1000


def suspicions(build):
    return FAMILY.inspect(Survey(build, Renderer(), size=SIZE))


@pytest.mark.long
def test_an_edge_far_too_narrow_is_found_and_a_search_cures_it():
    build = ledge(height=9.0, eye=2.0, diameter_deg=2.0)
    found = [f for f in sweep(build, size=SIZE).findings if f.code == CODE]
    (f,) = found
    true = DISC_10_90 * 2 * math.tan(math.radians(1)) * 9 / math.sin(LOW) ** 2
    assert f.suspicion.cause == "sun" and "too narrow, 16 m" in f.suspicion.title
    (soft,) = fineness(Renderer(), build, Request("eye", SIZE)).soft
    assert soft.true_mm == pytest.approx(true * 1000, rel=0.12) and soft.off > 4, "looked at from straight above"
    cures = [r.change.title for r in f.remedies if r.verdict == "cures"]
    assert any("search" in t for t in cures) and any("rays over its disc" in t for t in cures)
    assert all(suspicions(apply_change(build, r.change)) == [] for r in f.remedies if r.verdict == "cures")


def test_an_edge_too_wide_at_its_foot_is_found():
    build = ledge(height=1.0, eye=0.6, filter_px=7)
    (s,) = suspicions(merged_shadow(build, {"resolution": 1024}))
    assert "too wide" in s.title and s.value > 2


def merged_shadow(build, shadow):
    from eddyfall.core.intake import finish_build
    from eddyfall.core.scene.setup import parse_setup

    raw = merged(build.raw_setup, {"shadow": shadow})
    return finish_build(build.scene, parse_setup(raw), raw, [])


def test_without_a_diameter_softness_is_not_judged():
    assert suspicions(ledge(height=9.0, diameter_deg=0.0)) == []
    assert fineness(Renderer(), ledge(diameter_deg=0.0), Request("eye", SIZE)).soft == ()


def test_a_bias_is_not_solved_for_a_filter_without_one_width():
    with pytest.raises(RequestError, match="searches for the width of its filter"):
        bias_of_light(Renderer(), ledge(softness="search"), [Request("eye", SIZE)], "sun")


@pytest.mark.parametrize(("technique", "softness"), [("cascades", "search"), ("paged", "search"), ("rays", "rays")])
def test_a_crop_and_the_twin_of_a_pixel_are_the_frame(technique, softness):
    build = ledge(technique=technique, softness=softness, bias_along_plane=True)
    whole = RENDERER.frame(build, Request("eye", SIZE)).linear
    part = RENDERER.frame(build, Request("eye", SIZE, (180, 60, 300, 200))).linear
    assert np.abs(part - whole[60:200, 180:300]).max() <= 1e-6 * whole.max()
    x = int(np.abs(whole[135, :, 0] / whole.max() - 0.5).argmin())
    sample = core_sample(RENDERER, build, Request("eye", SIZE), x, 135)
    (lights,) = [v.facts["lights"] for v in sample.layers if "lights" in v.facts]
    assert 0 < lights[0]["visible"] < 1 and np.allclose(sample.linear, whole[135, x], rtol=1e-4)


def test_a_lamps_texels_and_bytes_by_hand():
    """Its six maps look 90 degrees wide: 2 x 8 m / 512 are 31.3 mm at 8 m, six of 512 x 512 x 4 bytes are 6 MiB; 10 mm take 2048."""
    assert pytest.approx(0.0313, abs=1e-4) == 2 * 8 / 512 and 2 ** math.ceil(math.log2(2 * 8 / 0.010)) == 2048
    frame = RENDERER.frame(lamp_over_a_plate(), Request("eye", SIZE), SHADOWED)
    assert shadow_cost(frame).bytes == 6 * 512 * 512 * 4 == 6 * 2**20
    judge, s = Judge(RENDERER, frame), surfaces_of(frame, 8)
    assert judge.texel_m(0, s, np.full(len(s), 8.0)) == pytest.approx(0.03125)
    assert 30 / math.tan(LOW) == pytest.approx(45.6, abs=0.05), "m of shadow of a stack of 30 m"
