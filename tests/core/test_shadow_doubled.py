"""Shadows laid over lightmaps: right where the lightmap lies in the light, doubled where it lies in that shade already."""

import math
from dataclasses import replace

import numpy as np
import pytest

from bake_scenes import UNIT_PAGE
from eddyfall.core.defects.shadow_doubled import CODE, FAMILY
from eddyfall.core.defects.survey import Survey
from eddyfall.core.frame.core_sample import core_sample
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.changes import Change, Operation, apply_change, set_leaf
from eddyfall.core.scene.model import Light, Material, SkyPicture
from eddyfall.core.sweep import sweep
from eddyfall.core.truth.sky_sun import sun_in
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of
from skies import SKY_LUX, SUN_LUX, TOWARDS, made

KEPT = SKY_LUX / (SUN_LUX + SKY_LUX)  # .2818: what shade has of the light in the open
MATTE = Material("matte", base_rgba=(0.5, 0.5, 0.5, 1.0), metallic=0.0, roughness=1.0, ior=1.0)
SIZE = (320, 180)
OPEN, SHADE = (4.0, 0.0, -4.0), tuple(-1.6 * TOWARDS / TOWARDS[1] * [1, 0, 1])
SKY = SkyPicture("sky.exr", sun_in(SkyPicture("noon.exr", freeze(made(128, fine=32)))).sky)


def baked(build):
    return apply_change(build, Change(id="bake", scope="project", operation=Operation(name="bake.run", params={})))


def court(post_bakes=True, **light):
    """Lightmapped ground with a post on it under a sun and the sky around it; the post baked, or set there afterwards."""
    ground = Thing("ground", Shape().quad((-8, 0, 8), (16, 0, 0), (0, 0, -16)), MATTE, lightmap=UNIT_PAGE)
    post = Thing(
        "post", Shape().box((-0.3, 0, -0.3), (0.3, 4, 0.3)), Material("paint", base_rgba=(0, 0, 0, 1), metallic=0.0, ior=1.0)
    )
    sun = {"kind": "sun", "illuminance_lux": 68_000.0, "towards": TOWARDS.tolist(), "lightmap_shade": KEPT}
    setup = {
        "viewpoints": {"gate": {"eye": [9, 7, 11], "target": [0, 0, -1], "fov_y_deg": 50}},
        "lights": {"sun": {**sun, **light}},
        "sky": {"picture": "sky.exr"},
        "shadow": {"reach_m": 60.0},
        "meshes": {"ground": {"lightmap_uv": 1}},
        "bake": {"resolution": 256, "samples": 64, "bounces": 0, "encoding": "linear16", "range_lux": 80_000.0},
        "materials": {"paint": {"shader": "moving"}},
        "shaders": {"moving": {"passes": {"bake": post_bakes}}},
    }
    build = build_of(ground, post, setup=setup)
    return replace(build, scene=replace(build.scene, skies=(SKY,)))


@pytest.fixture(scope="module")
def builds():
    return baked(court()), baked(court(post_bakes=False))


def lux_at(build, place):
    """Illuminance of level ground as it is drawn: pi x radiance / reflectance."""
    frame = Renderer().frame(build, Request("gate", (640, 360)))
    y, x = (int(v) for v in at(frame, place))
    return float(np.median(frame.linear[y - 1 : y + 2, x - 1 : x + 2])) * math.pi / 0.5


def at(frame, place):
    """(row, column) of a place."""
    camera, (width, height) = frame.camera, frame.pixels.size
    x, y, z = np.array(camera.axes) @ (np.array(place) - np.array(camera.eye))
    half = math.tan(camera.fov_y_rad / 2)
    return (0.5 - y / -z / half / 2) * height, (x / -z / (half * camera.aspect) / 2 + 0.5) * width


def without(build):
    return apply_change(build, set_leaf(build, ("lights", "sun", "lightmap_shade"), None, scope="project", title="alone"))


def suspicions(build):
    return FAMILY.inspect(Survey(build, Renderer(), size=SIZE))


def test_a_shadow_laid_over_baked_shade_leaves_4131_lx_of_14661(builds):
    """By hand: 14 661 lx in the shade of 52 035 in the open; times that share again 4 131 lx, 1.83 stops too dark."""
    there, _ = builds
    assert lux_at(there, OPEN) == pytest.approx(SUN_LUX + SKY_LUX, rel=0.02)
    assert lux_at(without(there), SHADE) == pytest.approx(SKY_LUX, rel=0.05)
    assert lux_at(there, SHADE) == pytest.approx(4131, rel=0.05)
    (s,) = suspicions(there)
    assert s.code == CODE and s.cause == "sun" and s.value == pytest.approx(1.83, abs=0.03)
    assert s.subjects == ("post", "ground") and s.pixels["gate"] > 100


def test_a_shadow_of_what_was_not_baked_is_right(builds):
    _, moving = builds
    assert lux_at(moving, SHADE) == pytest.approx(SKY_LUX, rel=0.03), "what is left of the lightmap is the sky"
    assert suspicions(moving) == []


def test_its_remedy_cures_and_says_what_the_shadow_was_right_for(builds):
    result = sweep(builds[0], size=SIZE)
    (found,) = [f for f in result.findings if f.code == CODE]
    (remedy,) = found.remedies
    assert remedy.verdict == "cures" and found.impact.kind == "measured"
    assert suspicions(apply_change(builds[0], remedy.change)) == []


def test_without_the_leaf_nothing_is_drawn_or_found(builds):
    there, _ = builds
    assert suspicions(without(there)) == []
    dark = apply_change(there, set_leaf(there, ("lights", "sun", "lightmap_shade"), 1.0, scope="project", title="all stays"))
    a, b = (Renderer().frame(v, Request("gate", SIZE)).linear for v in (without(there), dark))
    assert np.allclose(a, b, rtol=1e-6)


@pytest.mark.parametrize("technique", ["cascades", "rays"])
def test_the_twin_of_a_pixel_and_a_crop_are_the_frame(builds, technique):
    build = apply_change(builds[0], set_leaf(builds[0], ("lights", "sun", "technique"), technique, scope="project", title="by"))
    renderer = Renderer()
    whole = renderer.frame(build, Request("gate", SIZE))
    part = renderer.frame(build, Request("gate", SIZE, (100, 40, 220, 140))).linear
    assert np.abs(part - whole.linear[40:140, 100:220]).max() <= 1e-6 * whole.linear.max()
    y, x = (int(v) for v in at(whole, SHADE))
    sample = core_sample(renderer, build, Request("gate", SIZE), x, y)
    assert np.allclose(sample.linear, whole.linear[y, x], rtol=1e-4)
    (layer,) = [v for v in sample.layers if "lightmap" in v.facts]
    assert layer.facts["lightmap"]["kept_in_shadows"] == pytest.approx(KEPT)


def test_a_lamp_darkens_only_what_it_reaches():
    ground = Thing("ground", Shape().quad((-8, 0, 8), (16, 0, 0), (0, 0, -16)), MATTE, lightmap=UNIT_PAGE)
    post = Thing("post", Shape().box((-1.2, 0, -0.3), (-0.9, 2, 0.3)), MATTE)
    lamp = (Light("lamp", "point", intensity=800.0, range_m=4.0), (0.0, 1.0, 0.0))
    setup = {
        "viewpoints": {"gate": {"eye": [0, 14, 0.1], "target": [0, 0, 0], "fov_y_deg": 60}},
        "lights": {"lamp": {"casts": True, "lightmap_shade": 0.5}},
        "sky": {"zenith_rgb": [100] * 3, "horizon_rgb": [100] * 3, "ground_rgb": [100] * 3},
        "meshes": {"ground": {"lightmap_uv": 1}},
        "bake": {"resolution": 128, "samples": 64, "bounces": 0, "encoding": "linear16", "range_lux": 2000.0},
    }
    build = baked(build_of(ground, post, setup=setup, lamps=(lamp,)))
    alone = apply_change(build, set_leaf(build, ("lights", "lamp", "lightmap_shade"), None, scope="project", title="alone"))
    a, b = (Renderer().frame(v, Request("gate", (400, 400))).linear[..., 0] for v in (alone, build))
    darker = b < a * 0.99
    assert darker.sum() > 200 and np.median((b / a)[darker]) == pytest.approx(0.5, abs=0.01)
    frame = Renderer().frame(build, Request("gate", (400, 400)))
    y, x = np.nonzero(darker)
    middle = at(frame, (0, 0, 0))
    metres = 14 * 2 * math.tan(math.radians(30)) / 400
    assert np.hypot(y - middle[0], x - middle[1]).max() * metres < 4.05
    (s,) = suspicions(build)
    assert s.cause == "lamp" and s.value == pytest.approx(1.0, abs=0.1)


def test_a_spot_darkens_nothing_beyond_its_cone():
    ground = Thing("ground", Shape().quad((-8, 0, 8), (16, 0, 0), (0, 0, -16)), MATTE, lightmap=UNIT_PAGE)
    shelf = Thing("shelf", Shape().box((-8, 1.0, -0.2), (8, 1.1, 0.2)), MATTE)
    spot = Light("spot", "spot", intensity=800.0, inner_cone_rad=0.3, outer_cone_rad=0.5)
    setup = {
        "viewpoints": {"gate": {"eye": [0, 14, 0.1], "target": [0, 0, 0], "fov_y_deg": 60}},
        "lights": {"spot": {"casts": True, "lightmap_shade": 0.5}},
        "sky": {"zenith_rgb": [100] * 3, "horizon_rgb": [100] * 3, "ground_rgb": [100] * 3},
        "meshes": {"ground": {"lightmap_uv": 1}},
        "bake": {"resolution": 64, "samples": 16, "bounces": 0, "encoding": "linear16", "range_lux": 2000.0},
    }
    scene = build_of(ground, shelf, setup=setup, lamps=((spot, (0.0, 4.0, 0.0)),))
    # The spot shines along its own -Z: turned to look down.
    node = scene.scene.node_number["spot"]
    down = np.array([[1, 0, 0, 0], [0, 0, 1, 4.0], [0, -1, 0, 0], [0, 0, 0, 1]], float)
    down[:3, :3] = [[1, 0, 0], [0, 0, 1], [0, -1, 0]]
    turned = replace(scene.scene.nodes[node], matrix=freeze(down))
    build = baked(replace(scene, scene=scene.scene.with_node(node, turned)))
    alone = apply_change(build, set_leaf(build, ("lights", "spot", "lightmap_shade"), None, scope="project", title="alone"))
    a, b = (Renderer().frame(v, Request("gate", (400, 400))).linear[..., 0] for v in (alone, build))
    frame = Renderer().frame(build, Request("gate", (400, 400)))
    y, x = np.nonzero(b < a * 0.99)
    middle = at(frame, (0, 0, 0))
    metres = 14 * 2 * math.tan(math.radians(30)) / 400
    assert len(x) > 50 and np.hypot(y - middle[0], x - middle[1]).max() * metres < 4 * math.tan(0.5) + 0.15
    for k in range(0, len(x), max(len(x) // 5, 1)):
        sample = core_sample(Renderer(), build, Request("gate", (400, 400)), int(x[k]), int(y[k]))
        assert np.allclose(sample.linear, frame.linear[y[k], x[k]], rtol=1e-4)
