"""The account of a frame against its reference: exact in nits, silent where the two must agree, each planted cause in its own part."""

import dataclasses

import numpy as np
import pytest

from eddyfall.core.bake.maps.run import bake
from eddyfall.core.errors import RequestError
from eddyfall.core.frame.memo import Memo
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.scene.model import Light, Material
from eddyfall.core.shade.srgb import REC709_LUMA
from eddyfall.core.truth.reference.account import FLOOR_STOPS, ROWS, account, differences
from eddyfall.core.truth.reference.of_frame import Wanted, compare
from eddyfall.core.truth.reference.tally import Tally
from eddyfall.core.truth.reference.trace import Asked
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of

LAMBERT = {"metallic": 0.0, "ior": 1.0}
SIZE = (96, 54)
FINE = {"shadow": {"reach_m": 12, "resolution": 4096, "cascades": 1, "filter_px": 1, "bias_texels": 1.0}}
SUN = {"sun": {"kind": "sun", "illuminance_lux": 30.0, "towards": [-0.5, 0.8, 0.3]}}
FLOOR = Thing("floor", Shape().quad((-20, 0, 20), (40, 0, 0), (0, 0, -40)), Material("floor", (0.6, 0.5, 0.4, 1), **LAMBERT))
BOX = Thing(
    "box", Shape().box((-0.5, 0, -0.5), (0.5, 1.0, 0.5)), Material("box", (0.3, 0.5, 0.7, 1), roughness=0.4, metallic=0.0)
)


def yard(*more, **setup):
    view = {"viewpoints": {"eye": {"eye": [1.5, 2.5, 3.5], "target": [0.3, 0.3, 0], "fov_y_deg": 45}}}
    return build_of(FLOOR, BOX, *more, setup={**view, **FINE, "lights": SUN, "sky": {"ambient": False}, **setup})


def held_against(build, samples=16, bounces=0, crop=None, **asked):
    wanted = Wanted(request=Request("eye", SIZE, crop), samples=samples, asked=Asked(bounces=bounces, **asked))
    return compare(Renderer(Memo(256 * 1024**2)), build, wanted)


def rows(found):
    return {row.part: row for row in found.account.rows}


def test_where_the_two_must_agree_the_account_is_within_its_floor():
    found = held_against(yard())
    assert abs(found.account.stops) <= FLOOR_STOPS
    assert not [row.part for row in found.account.rows if row.shown]


@pytest.mark.parametrize("ior, rough, nits", [(1.0, 1.0, 12.61), (1.5, 0.9, 13.06)], ids=["matt", "coated"])
def test_a_casting_in_shade_shows_the_same_in_both(ior, rough, nits):
    # Reflectance .22 in even light of 180 lx: rho E / pi = 12.61 nit; with a coat of .04 at roughness .9, seen square on, 13.06.
    even = [180 / np.pi] * 3
    material = Material("gate", (0.22, 0.22, 0.22, 1), roughness=rough, metallic=0.0, ior=ior)
    build = build_of(
        Thing("gate", Shape().quad((-2, -2, -5), (4, 0, 0), (0, 4, 0)), material),
        setup={
            "viewpoints": {"eye": {"eye": [0, 0, 0], "target": [0, 0, -1], "fov_y_deg": 4}},
            "sky": {"ambient": True, "zenith_rgb": even, "horizon_rgb": even, "ground_rgb": even},
        },
    )  # fmt: skip
    found = compare(Renderer(), build, Wanted(request=Request("eye", (16, 9)), samples=256, asked=Asked(bounces=2)))
    assert found.account.standin == pytest.approx(nits, rel=1e-3)
    assert found.account.reference == pytest.approx(nits, rel=0.01)
    assert not any(row.shown for row in found.account.rows)


@pytest.mark.parametrize("seed", range(4))
def test_parts_add_up_to_the_difference_at_each_pixel(seed):
    rng = np.random.default_rng(seed)
    card = Thing(
        "card", Shape().quad((-0.2, 0.2, 1.2), (0.9, 0, 0), (0, 0.9, 0)),
        Material("card", (*rng.uniform(0.1, 0.9, 3), 0.4), alpha_mode="BLEND", metallic=0.0, double_sided=True),
    )  # fmt: skip
    metal = Thing("ball", Shape().box((0.8, 0.2, -0.2), (1.2, 0.8, 0.3)), Material("steel", metallic=1.0, roughness=0.3))
    build = yard(
        card, metal,
        fog={"enabled": True, "fog_per_m": float(rng.uniform(0, 0.2)), "rgb": [4, 5, 6]},
        sky={"ambient": True, "zenith_rgb": [3, 4, 6], "horizon_rgb": [5, 5, 5], "ground_rgb": [1, 1, 1]},
    )  # fmt: skip
    found = held_against(build, samples=4, bounces=2)
    apart = differences(found.parts, found.reference.tally)
    total = sum(apart.values())
    want = found.frame.linear.reshape(-1, 3) - found.reference.tally.radiance
    scale = np.abs(found.frame.linear).max()
    assert np.abs(total - want).max() <= 1e-5 * scale
    assert set(apart) == set(ROWS)


def beyond(found, part):
    """Only this part is told, and how many stops of it."""
    told = [row.part for row in found.account.rows if row.shown]
    assert told == [part]
    return rows(found)[part].stops


def test_a_shadow_that_is_not_drawn_is_told_as_shadow():
    found = held_against(yard(shadow={**FINE["shadow"], "reach_m": 0.5}), crop=(46, 23, 64, 38))
    assert beyond(found, "shadow") > 0.3
    light = found.account.by_light[0]
    assert light[0] == "sun" and light[1] > light[2]


def test_what_a_lightmap_holds_is_bounce_and_what_its_coat_mirrors_is_reflection():
    card = Shape().quad((-2, -2, -5), (4, 0, 0), (0, 4, 0))
    steel = Material("steel", (0.8, 0.8, 0.8, 1), metallic=1.0, roughness=0.6)
    found = {}
    for name, material in (("metal", steel), ("matt", Material("matt", (0.5, 0.5, 0.5, 1), **LAMBERT))):
        build = build_of(
            Thing("gate", card, material, lightmap=np.array([[0, 1], [1, 1], [1, 0], [0, 0]], float)),
            setup={
                "viewpoints": {"eye": {"eye": [0, 0, 0], "target": [0, 0, -1], "fov_y_deg": 4}},
                "lights": {"sun": {"kind": "sun", "illuminance_lux": 100.0, "towards": [0, 0, 1]}},
                "bake": {"resolution": 16, "samples": 4},
            },
        )  # fmt: skip
        found[name] = held_against(bake(build).build, samples=2)
    matt, metal = found["matt"], found["metal"]
    assert matt.parts.mirrored.max() == 0 and matt.parts.even.mean() > 10 and matt.parts.held.all()
    assert abs(matt.account.stops) < FLOOR_STOPS and not any(row.shown for row in matt.account.rows)
    assert metal.parts.mirrored.mean() > 10 and np.abs(metal.parts.even).max() < 1e-4 * metal.parts.mirrored.mean()


def test_light_from_around_that_the_stand_in_lacks_is_told_as_bounce():
    wall = Thing("wall", Shape().quad((-4, 0, -0.8), (8, 0, 0), (0, 4, 0)), Material("wall", (0.9, 0.2, 0.1, 1), **LAMBERT))
    found = held_against(yard(wall), samples=64, bounces=4)
    told = [row.part for row in found.account.rows if row.shown]
    assert told[0] == "bounce" and rows(found)["bounce"].luminance < 0
    assert set(told) <= {"bounce", "reflection"}


def test_fog_at_the_distance_of_what_lies_behind_is_told_as_fog():
    shaders = {"no depth": {"passes": {"depth": False}}}
    fog = {"enabled": True, "fog_per_m": 0.15, "rgb": [30, 30, 30]}
    build = yard(shaders=shaders, materials={"box": {"shader": "no depth"}}, fog=fog, depth={"copy_from": "prepass"})
    assert beyond(held_against(build, crop=(32, 13, 52, 36)), "fog") > 0.1


def test_a_lamp_in_a_matt_room_agrees_and_one_that_is_not_blocked_is_told():
    wall = Thing("screen", Shape().box((-0.9, 0, 0.7), (-0.8, 1.2, 1.5)), Material("screen", (0.5, 0.5, 0.5, 1), **LAMBERT))
    lamp = ((Light("lamp", "point", intensity=60.0), (-1.6, 0.8, 1.0)),)
    view = {"viewpoints": {"eye": {"eye": [1.5, 2.5, 3.5], "target": [0.3, 0.3, 0], "fov_y_deg": 45}}}
    shadow = {**FINE["shadow"], "light_resolution": 2048}
    base = {**view, "shadow": shadow, "sky": {"ambient": False}}
    right = build_of(FLOOR, BOX, wall, lamps=lamp, setup={**base, "lights": {"lamp": {"casts": True}}})
    found = held_against(right)
    assert abs(found.account.stops) <= 3 * FLOOR_STOPS
    leaks = build_of(FLOOR, BOX, wall, lamps=lamp, setup=base)
    assert beyond(held_against(leaks), "shadow") > 0.1


def test_a_crop_and_a_few_points_tell_what_the_whole_does():
    build = yard(shadow={**FINE["shadow"], "reach_m": 0.5})
    whole, crop = held_against(build), held_against(build, crop=(30, 10, 70, 50))
    inside = np.zeros((SIZE[1], SIZE[0]), bool)
    inside[10:50, 30:70] = True
    part = account(whole.parts, whole.reference.tally, inside.reshape(-1))
    for a, b in zip(part.rows, crop.account.rows):
        assert a.luminance == pytest.approx(b.luminance, rel=1e-5, abs=1e-6)
    few = compare(Renderer(), build, Wanted(request=Request("eye", SIZE), samples=2, points=400, asked=Asked(bounces=0)))
    assert few.account.pixels == 400
    assert rows(few)["shadow"].luminance == pytest.approx(rows(whole)["shadow"].luminance, rel=0.25)


def test_pixels_whose_first_surface_is_another_are_a_row_apart():
    found = held_against(yard())
    parts = dataclasses.replace(found.parts, drawable=np.where(np.arange(SIZE[0] * SIZE[1]) < 500, 7, found.parts.drawable))
    apart = differences(parts, found.reference.tally)
    assert np.all(apart["shadow"][:500] == 0) and np.all(apart["another surface"][500:] == 0)


def test_a_sum_in_stops_is_with_that_part_alone_put_right():
    found = held_against(yard(shadow={**FINE["shadow"], "reach_m": 0.5}))
    a, shadow = found.account, rows(found)["shadow"]
    assert shadow.stops == pytest.approx(np.log2(a.standin / (a.standin - shadow.luminance)))
    standin = float((found.parts.radiance @ REC709_LUMA).mean())
    assert a.stops == pytest.approx(np.log2(standin / a.reference))


def test_what_was_remembered_is_gone_on_from_and_another_view_is_refused():
    build, renderer = yard(), Renderer(Memo(256 * 1024**2))
    wanted = Wanted(request=Request("eye", SIZE), samples=4, asked=Asked(bounces=1))
    first = compare(renderer, build, wanted)
    more = compare(renderer, build, dataclasses.replace(wanted, samples=8))
    assert compare(renderer, build, dataclasses.replace(wanted, samples=2)).account.samples == 8  # what is there already
    fresh = compare(Renderer(), build, dataclasses.replace(wanted, samples=8))
    assert first.account.samples == 4 and np.array_equal(more.reference.tally.sums, fresh.reference.tally.sums)
    with pytest.raises(RequestError, match="of another build, view, window"):
        compare(renderer, build, Wanted(request=Request("eye", (48, 27)), asked=Asked(bounces=1)), first.reference.tally)


@pytest.mark.parametrize(
    "change, words",
    [
        ({"samples": 0}, "0 samples"), ({"asked": Asked(bounces=65)}, "65 bounces"), ({"noise": 1.5}, "noise of 1.5"),
        ({"points": 0}, "0 points"),
    ],
)  # fmt: skip
def test_numbers_that_make_no_sense_are_one_error(change, words):
    with pytest.raises(RequestError, match=words):
        compare(Renderer(), yard(), dataclasses.replace(Wanted(request=Request("eye", SIZE)), **change))


def test_an_empty_tally_has_no_account_to_give():
    empty = Tally.empty((), np.zeros((0, 2), int), SIZE, "")
    assert empty.error.shape == (0,) and empty.radiance.shape == (0, 3)
