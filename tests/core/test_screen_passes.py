"""Occlusion, bounce and reflection from the frame alone: what they bring and lose, what each dial does, what they hold in memory."""

import math

import numpy as np
import pytest

from eddyfall.core.bake.maps.run import bake
from eddyfall.core.defects.survey import Survey
from eddyfall.core.defects.target_budget import FAMILY
from eddyfall.core.frame.core_sample import core_sample
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.frame.schedule import schedule
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.changes import apply_change, set_leaf
from eddyfall.core.scene.model import Image, Material, TextureUse
from eddyfall.demo.shapes import Shape
from light_rooms import MATT, SPOT, glow, looking, mirror_room, shining_hall
from scenes import Thing, build_of

SIZE = (480, 270)
COPY = {"depth": {"copy_from": "opaque"}}
RENDERER = Renderer()


def linear(build, view="eye", **request):
    return RENDERER.frame(build, Request(view, SIZE, **request), "linear").linear


def lux_at_spot(build, view):
    """Illuminance that a view's frame shows at SPOT, or the mean around the frame's middle if it looks there."""
    picture = linear(build, view)
    frame = RENDERER.frame(build, Request(view, SIZE), "visible")
    away = np.array(SPOT) - np.array(frame.camera.eye)
    half, depth = math.tan(frame.camera.fov_y_rad / 2), away @ frame.camera.forward
    x = int(((away @ frame.camera.axes[0]) / (depth * half * frame.camera.aspect) + 1) / 2 * SIZE[0])
    y = int((1 - (away @ frame.camera.axes[1]) / (depth * half)) / 2 * SIZE[1])
    return float(picture[y - 6 : y + 6, x - 6 : x + 6].mean()) / 0.5 * math.pi


def bounced(**dials):
    return {"bounce": {"enabled": True, "rays": 16, "steps": 64, **dials}, **COPY}


def stops(lux):
    return math.log2(lux / 208.7)


def test_bounce_loses_what_is_not_on_the_frame_and_a_margin_brings_back_what_lies_beside_it():
    """.392 of the wall's light is on the frame of the near view; 64 steps find .97 of that: -.98 and a little."""
    assert lux_at_spot(shining_hall(**COPY), "near") == pytest.approx(40.0, rel=1e-3)
    assert stops(lux_at_spot(shining_hall(**bounced()), "near")) == pytest.approx(-0.98, abs=0.06)
    # 64 px of this frame are 128 px of one of 960 x 540.
    assert stops(lux_at_spot(shining_hall(**bounced(margin_px=64)), "near")) == pytest.approx(-0.20, abs=0.08)
    assert stops(lux_at_spot(shining_hall(**bounced(margin_px=64)), "before the wall")) == pytest.approx(-2.38, abs=0.03)


def test_rays_into_the_world_find_it_wherever_it_is():
    for view in ("near", "before the wall"):
        assert lux_at_spot(shining_hall(**bounced(fallback="world")), view) == pytest.approx(208.7, rel=0.04)


def test_rays_into_the_world_bring_the_mean_colour_under_direct_light():
    """A wall of .8 and black stripes, half and half, under 1000 lx: 400 lm/m2, of which the floor gets a view factor of .12048. Its back
    brings nothing."""
    stripes = np.zeros((2, 64, 4), np.uint8)
    stripes[..., 3], stripes[:, ::2, :3] = 255, 231  # sRGB of .8: IEC 61966-2-1
    for turned_away, due in ((False, 0.12048 * 0.4 * 1000), (True, 0.0)):
        corner, along = ((0, 0, 2.4), (0, 0, 7.2)) if turned_away else ((0, 0, 9.6), (0, 0, -7.2))
        wall = Thing("wall", Shape().quad(corner, along, (0, 3, 0)), Material("wall", base_texture=TextureUse(0), **MATT))
        floor = Thing("floor", Shape().quad((0, 0, 12), (12, 0, 0), (0, 0, -12)), Material("floor", (0.5, 0.5, 0.5, 1), **MATT))
        build = build_of(
            wall, floor, images=(Image("stripes", freeze(stripes)),),
            setup={
                "viewpoints": {"eye": looking((6.0, 1.6, 6.0), SPOT)}, "sky": {"ambient": False},
                "lights": {"sun": {"kind": "sun", "illuminance_lux": 1000.0, "towards": [1, 0, 0], "casts": False}},
                **bounced(fallback="world", steps=1, rays=64, reach_m=0.01),
            },
        )  # fmt: skip
        assert lux_at_spot(build, "eye") == pytest.approx(due, rel=0.03, abs=1e-6)


def test_a_fade_at_the_edge_gives_way_to_the_fallback():
    whole, faded = (linear(shining_hall(**bounced(edge_fade_px=px)), "near") for px in (0, 90))
    spot = slice(129, 141), slice(234, 246), 0
    assert faded[spot].mean() < 0.95 * whole[spot].mean() and (faded <= whole + 1e-6).all()


def test_without_a_depth_copy_nothing_is_found():
    build = shining_hall(**{**bounced(), "depth": {"copy_from": "none"}})
    assert np.array_equal(linear(build, "near"), linear(shining_hall(**COPY), "near"))


def test_a_crop_is_the_same_slice_with_a_margin_too():
    dials = {"reach_m": 6.0, "steps": 16, "rays": 2, "rounds": 1}
    build = shining_hall(**bounced(**dials, margin_px=24, divisor=2))
    crop = (100, 130, 220, 200)
    part, whole = linear(build, "near", crop=crop), linear(build, "near")
    assert np.array_equal(part, whole[130:200, 100:220])
    frame = RENDERER.uncut(build, Request("near", SIZE, crop=crop), "linear")
    assert frame.pixels.window == (-24, -24, 480 + 24, 270 + 24)


def mirror_floor(**more):
    """A polished floor before a wall of nine shining stripes."""
    stripes = [
        Thing(f"stripe{k}", Shape().quad((-4.5 + k, 0, -6), (1, 0, 0), (0, 4, 0)), glow(f"stripe{k}", 10.0 * (k + 1)))
        for k in range(9)
    ]
    floor = Thing("floor", Shape().quad((-4.5, 0, 0), (9, 0, 0), (0, 0, -6)), Material("steel", metallic=1.0, roughness=0.0))
    setup = {"viewpoints": {"eye": looking((0, 1.2, 1.5), (0, 0.6, -6))}, "sky": {"ambient": False}, **COPY, **more}
    return build_of(floor, *stripes, setup=setup)


def reflecting(**dials):
    return {"reflect": {"enabled": True, "rays": 1, "steps": 256, "thickness_m": 0.4, **dials}}


def test_a_polished_floor_shows_the_stripes_at_their_mirrored_places():
    build = mirror_floor(**reflecting())
    frame = RENDERER.frame(build, Request("eye", SIZE), "linear")
    floor = frame.drawable == 0
    rays = np.stack(np.meshgrid(np.arange(SIZE[0]) + 0.5, np.arange(SIZE[1]) + 0.5), axis=-1)
    half = math.tan(frame.camera.fov_y_rad / 2)
    across, up = (rays[..., 0] / SIZE[0] * 2 - 1) * half * frame.camera.aspect, (1 - rays[..., 1] / SIZE[1] * 2) * half
    way = frame.camera.forward + across[..., None] * frame.camera.axes[0] + up[..., None] * frame.camera.axes[1]
    mirrored = way * (1, -1, 1)
    below = np.array(frame.camera.eye) * (1, -1, 1)
    t = (-6 - below[2]) / mirrored[..., 2]
    x, y = below[0] + t * mirrored[..., 0], below[1] + t * mirrored[..., 1]
    stripe = np.floor(x + 4.5)
    sure = floor & (np.abs(x) < 4.4) & (y > 0.2) & (y < 2.5)
    sure &= np.abs((x + 4.5) % 1 - 0.5) < 0.4
    off = np.abs(frame.linear[sure][:, 0] / (10 * (stripe[sure] + 1)) - 1)
    assert sure.sum() > 3000 and (off < 0.02).mean() > 0.97


def test_a_panel_that_looks_back_stays_black_and_gets_its_light_from_the_world():
    """A door behind the eye is on no frame: a mirror finds nothing, whatever its dials; a ray into the world finds it."""
    panel = (slice(70, 235), slice(70, 410))
    black = linear(mirror_room(**COPY, **reflecting(steps=512, margin_px=256)))[panel]
    assert black.max() < 1e-6
    lit = linear(mirror_room(**COPY, **reflecting(fallback="world")))[panel]
    door = (lit[..., 0] > 99).sum()
    # 8 890 px of 960 x 540 show the door, by mirrored rays.
    assert door == pytest.approx(8890 / 4, rel=0.03)


def test_an_even_sky_is_not_counted_twice():
    """Under an even sky an open floor gets what it had; in the corner of dark walls light is taken away."""
    sky = {"zenith_rgb": [1, 1, 1], "horizon_rgb": [1, 1, 1], "ground_rgb": [1, 1, 1], "ambient": True}
    floor = Thing("floor", Shape().quad((-5, 0, 5), (10, 0, 0), (0, 0, -10)), Material("floor", (0.5, 0.5, 0.5, 1), **MATT))
    wall = Thing("wall", Shape().quad((-5, 0, -1), (10, 0, 0), (0, 9, 0)), Material("wall", (0.0, 0.0, 0.0, 1), **MATT))
    dials = {"fallback": "sky", "steps": 96, "rays": 64, "thickness_m": 1.0}
    view = {"viewpoints": {"eye": looking((0, 4, 7), (0, 0.5, -1), 70)}, "sky": sky}

    def made(*things, **more):
        return linear(build_of(*things, setup={**view, **more}))[..., 0]

    alone = made(floor, **bounced(**dials))
    assert np.abs(alone - made(floor, **COPY))[150:].max() < 1e-6
    with_wall, before = made(floor, wall, **bounced(**dials)), made(floor, wall, **COPY)
    frame = RENDERER.frame(build_of(floor, wall, setup=view), Request("eye", SIZE), "visible")
    foot = np.flatnonzero(frame.drawable[:, 240] == 0)[2]
    assert before[foot, 240] == pytest.approx(0.5, rel=0.02)
    assert with_wall[foot, 225:255].mean() == pytest.approx(0.25, rel=0.15), "a wall takes half of the light at its foot"


@pytest.mark.parametrize("applies_to, baked", [("sky", False), ("indirect", True)])
def test_occlusion_dims_the_sky_and_lightmaps_only_if_asked(applies_to, baked):
    sky = {"zenith_rgb": [1, 1, 1], "horizon_rgb": [1, 1, 1], "ground_rgb": [1, 1, 1], "ambient": True}
    uv = np.array([[0, 1], [1, 1], [1, 0], [0, 0]], float)
    floor = Thing(
        "floor", Shape().quad((-5, 0, 5), (10, 0, 0), (0, 0, -10)), Material("floor", (0.5, 0.5, 0.5, 1), **MATT), lightmap=uv
    )
    wall = Thing("wall", Shape().quad((-5, 0, -1), (10, 0, 0), (0, 9, 0)), Material("wall", (0.2, 0.2, 0.2, 1), **MATT))
    setup = {
        "viewpoints": {"eye": looking((0, 4, 7), (0, 0.5, -1), 70)},
        "sky": sky,
        "bake": {"resolution": 16, "samples": 16},
        **COPY,
    }
    plain = bake(build_of(floor, wall, setup=setup)).build
    dimmed = plain
    for name, value in (("enabled", True), ("reach_m", 3.0), ("applies_to", applies_to)):
        dimmed = apply_change(dimmed, set_leaf(dimmed, ("occlusion", name), value, scope="project", title="t"))
    frame = RENDERER.frame(plain, Request("eye", SIZE), "linear")
    change = linear(dimmed)[..., 0] / np.maximum(frame.linear[..., 0], 1e-9)
    on_floor, on_wall = change[frame.drawable == 0], change[frame.drawable == 1]
    assert on_wall.min() < 0.8, "the wall is lit by the sky"
    assert (on_floor.min() < 0.8) == baked and on_floor.max() <= 1 + 1e-6


def test_core_samples_add_up_with_light_found_on_the_frame():
    build = mirror_floor(**reflecting(), bounce={"enabled": True, "rays": 2, "margin_px": 16}, occlusion={"enabled": True})
    for x, y in ((240, 250), (120, 60), (300, 200)):
        sample = core_sample(RENDERER, build, Request("eye", SIZE), x, y)
        assert sample.sum == pytest.approx(sample.linear, rel=1e-4, abs=1e-6)
    told = [
        layer.state
        for layer in core_sample(RENDERER, build, Request("eye", SIZE), 240, 250).layers
        if layer.pass_name == "reflect"
    ]
    assert told and told[0].startswith("the mirror's way meets pixel 240, ")


def held_bytes(**setup):
    frame = RENDERER.frame(build_of(setup=setup), Request("eye", SIZE), "linear")
    return sum(t.bytes(1920, 1080) for p in schedule() for t in p.held(p.section(frame.stage)))


def test_bytes_that_they_hold_are_counted_texel_by_texel():
    """Half RGBA colour with its mips and a chain of depths 31.64 MiB at 1920 x 1080; with 8 + 4 + 8 B a px of reflection, 8 + 8 of bounce
    and 1 of occlusion 104.81; at half the edge 49.93."""
    mib, on = 2.0**20, {"enabled": True}
    assert held_bytes() == 0
    copies = held_bytes(reflect=on) / mib - 20 * 1920 * 1080 / mib
    assert copies == pytest.approx(31.64, abs=0.005)
    everything = {"reflect": on, "bounce": on, "occlusion": on}
    assert held_bytes(**everything) / mib == pytest.approx(104.81, abs=0.005)
    halved = {name: {**on, "divisor": 2} for name in everything}
    assert held_bytes(**halved) / mib == pytest.approx(49.93, abs=0.005)
    assert held_bytes(reflect={**on, "margin_px": 128}) > 1.35 * held_bytes(reflect=on)


def test_a_target_over_its_budget_is_told_and_only_what_keeps_it_is_offered():
    on = {"enabled": True}
    setup = {
        "reflect": on,
        "bounce": {**on, "margin_px": 64},
        "occlusion": on,
        "targets": {"pocket": {"set": {"budget": {"screen_mib": 60}}}},
    }
    build = build_of(setup=setup)
    assert FAMILY.inspect(Survey(build, RENDERER)) == []
    (found,) = FAMILY.inspect(Survey(build, RENDERER, target="pocket"))
    assert found.code == "target.over-budget" and found.limit == 60 and found.value > 104.81
    assert found.value == pytest.approx(sum(e.value for e in found.evidence[1:]), rel=1e-9)
    titles = {c.change.title: c for c in found.candidates}
    assert "no margin beyond the frame" not in titles and any("at one of 2 by 2 px" in t for t in titles)
    for candidate in found.candidates:
        after = FAMILY.inspect(Survey(apply_change(build, candidate.change), RENDERER, target="pocket"))
        assert after == [] and candidate.costs[0].value < 0
