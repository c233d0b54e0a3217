"""The autopsy of a pixel's shadows: each planted cause is the test that is named, and its critical value holds on either side."""

from dataclasses import replace

import numpy as np
import pytest

from eddyfall.core.bake.maps.run import bake
from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.scene.changes import apply_change, set_leaf
from eddyfall.core.scene.model import Light
from eddyfall.core.truth.autopsy import shadow_autopsy
from eddyfall.demo.shapes import Shape
from plain_rays import plain_hits
from scenes import Thing, build_of, floor, merged
from sizes import of_many

SIZE = (320, 180)
TOWARDS = np.array([0.0, 0.5, -0.866])  # the sun stands behind the screen, 30 degrees up
AT = (160, 94)  # a place on the floor well inside the screen's shadow
RENDERER = Renderer()


def yard(setup=None, screen=None, lamps=()):
    """A floor seen from 3 m up, and an upright screen of 4 x 1.5 m at z = -10, whose shadow falls towards the eye."""
    screen = screen or Shape().box((-2, 0, -10.05), (2, 1.5, -10), 1.0)
    raw = {
        "viewpoints": {"eye": {"eye": [0, 3, 0], "target": [0, 0, -9], "fov_y_deg": 50}},
        "lights": {"sun": {"kind": "sun", "illuminance_lux": 10.0, "towards": list(map(float, TOWARDS))}},
        "shadow": {"reach_m": 60.0, "near_m": 0.5},
    }
    for key, value in (setup or {}).items():
        raw[key] = {**raw.get(key, {}), **value}
    return build_of(Thing("floor", floor(0.0, near=-2.0, far=60.0)), Thing("screen", screen), setup=raw, lamps=lamps)


def of_sun(build, at=AT):
    return next(v for v in shadow_autopsy(RENDERER, build, Request("eye", SIZE), *at).lights if v.light == "sun")


def drawn_at(build, at=AT):
    x, y = at
    return float(RENDERER.frame(build, Request("eye", SIZE), "linear").buffers["sun_visibility"][y, x])


def test_a_shadow_that_is_due_and_drawn_agrees_and_names_what_wrote_it():
    found = of_sun(yard())
    assert (found.due, found.as_flagged, found.verdict, found.lost_at) == (True, True, "agrees", None)
    assert found.drawn == pytest.approx(drawn_at(yard())) and found.drawn < 0.5
    assert found.caster == "screen" and found.wrote == ("screen",)
    assert all(t.passed for t in found.tests), [t.name for t in found.tests if not t.passed]
    # The way to the screen along the ray: its horizontal distance over the cosine of the sun's elevation.
    place = shadow_autopsy(RENDERER, yard(), Request("eye", SIZE), *AT).place_m
    assert found.caster_m == pytest.approx((10 + place[2]) / (0.866 / np.linalg.norm(TOWARDS)), rel=1e-3)


SUN = {"kind": "sun", "illuminance_lux": 10.0, "towards": [float(v) for v in TOWARDS]}
ONE_SIDED = Shape().quad((-2, 0, -10), (4, 0, 0), (0, 1.5, 0))  # its front looks to the eye, away from the sun
CAUSES = {
    "shadows are on": ({"shadow": {"enabled": False}}, None),
    "the light casts": ({"lights": {"sun": {**SUN, "casts": False}}}, None),
    "the surface receives": ({"nodes": {"floor": {"receives": False}}}, None),
    "the caster casts": ({"nodes": {"screen": {"casts": False}}}, None),
    "its shader is in the shadow pass": (
        {"shaders": {"bare": {"passes": {"shadow": False}}}, "materials": {"grey": {"shader": "bare"}}}, None,
    ),
    "a face of it turned to the light is drawn": ({}, ONE_SIDED),
    "a map serves this depth": ({"shadow": {"reach_m": 4.0}}, None),
    "texels' centres meet a caster": ({"shadow": {"reach_m": 60.0, "cascades": 1, "resolution": 64}},
                                      Shape().box((-0.04, 0, -10.05), (0.04, 1.5, -10), 1.0)),
    "the bias is below the gap": ({"shadow": {"reach_m": 60.0, "bias_texels": 16.0, "cascades": 1, "resolution": 256}}, None),
}  # fmt: skip


@pytest.mark.parametrize("name", CAUSES)
def test_each_cause_is_the_test_that_lost_it(name):
    setup, screen = CAUSES[name]
    build = yard(setup, screen)
    found = of_sun(build)
    assert found.due and found.verdict == "missing" and found.drawn >= 0.5, found
    assert found.lost_at == name, [(t.name, t.passed) for t in found.tests]
    assert drawn_at(build) >= 0.5


PLANTED = {
    "shadows are on": {"shadow": {"enabled": False}},
    "the light casts": {"lights": {"sun": {"casts": False}}},
    "the surface receives": {"nodes": {"floor": {"receives": False}}},
    "the caster casts": {"nodes": {"screen": {"casts": False}}},
    "its shader is in the shadow pass": {
        "shaders": {"bare": {"passes": {"shadow": False}}}, "materials": {"grey": {"shader": "bare"}},
    },
    "a map serves this depth": {"shadow": {"reach_m": 2.0}},
    "the bias is below the gap": {"shadow": {"bias_texels": 16.0, "resolution": 128, "cascades": 1}},
}  # fmt: skip


def test_in_random_yards_the_planted_cause_is_named_and_the_healthy_twin_agrees():
    rng, named, tried = np.random.default_rng(5), 0, 0
    causes = list(PLANTED)
    for number in range(of_many(120, 32)):
        up, around = np.radians(rng.uniform(20, 60)), rng.uniform(-0.8, 0.8)
        sun = [float(np.sin(around) * np.cos(up)), float(np.sin(up)), float(-np.cos(around) * np.cos(up))]
        wide, high, z = rng.uniform(1, 6), rng.uniform(0.5, 3), rng.uniform(-14, -6)
        screen = Shape().box((-wide / 2, 0, z - 0.3), (wide / 2, high, z), 1.0)
        base = {"lights": {"sun": {**SUN, "towards": sun}}, "shadow": {"resolution": 1024, "cascades": 2, "reach_m": 30.0}}
        # A place in the middle of the shadow: half way from the foot of the screen to the tip of its shadow, a third off the middle.
        length = high / np.tan(up)
        x, depth = (rng.uniform(-0.3, 0.3) * wide - np.sin(around) * length / 2, z + np.cos(around) * length / 2)
        clip = RENDERER.frame(yard(base, screen), Request("eye", SIZE), "drawable")
        place = np.array([x, 0.0, depth])
        eye = np.array(clip.camera.eye)
        right, above, back = clip.camera.axes
        away = place - eye
        half = np.tan(clip.camera.fov_y_rad / 2)
        at = (int((away @ right / -(away @ back) / half / (SIZE[0] / SIZE[1]) * 0.5 + 0.5) * SIZE[0]),
              int((0.5 - away @ above / -(away @ back) / half * 0.5) * SIZE[1]))  # fmt: skip
        if (
            not (0 <= at[0] < SIZE[0] and 0 <= at[1] < SIZE[1])
            or clip.geometry.drawables[clip.drawable[at[1], at[0]]].name != "floor"
        ):
            continue
        healthy = of_sun(yard(base, screen), at)
        if healthy.verdict == "edge":
            continue
        assert healthy.verdict == "agrees" and healthy.due, (number, healthy)
        cause = causes[number % len(causes)]
        setup = {k: {**base.get(k, {}), **v} for k, v in {**base, **PLANTED[cause]}.items()}
        if cause == "the light casts":
            setup["lights"] = {"sun": {**base["lights"]["sun"], "casts": False}}
        found = of_sun(yard(setup, screen), at)
        if found.drawn < 0.5:
            continue  # what was planted is too weak to lose it here: a low bias, say
        tried += 1
        named += found.lost_at == cause
    assert tried >= of_many(60, 16) and named >= 0.95 * tried, (named, tried)


def test_every_test_stands_in_the_chain_whatever_fails_before_it():
    both = yard({"nodes": {"screen": {"casts": False}}, "shadow": {"reach_m": 4.0}})
    failed = [t.name for t in of_sun(both).tests if not t.passed]
    assert failed == ["the caster casts", "a map serves this depth"] and of_sun(both).lost_at == "the caster casts"


def test_the_critical_reach_passes_on_one_side_and_fails_on_the_other():
    build = yard({"shadow": {"reach_m": 4.0}})
    test = next(t for t in of_sun(build).tests if t.leaf == "shadow.reach_m")
    assert test.margin == pytest.approx(4.0 - test.value) and test.critical == pytest.approx(test.value)
    for reach, dark in ((test.critical * 0.999, False), (test.critical * 1.001, True)):
        after = apply_change(build, set_leaf(build, ("shadow", "reach_m"), reach, scope="project", title="t"))
        assert (drawn_at(after) < 0.5) == dark, reach


def test_what_would_lose_it_next_is_drawn_and_said():
    # A thin post beyond the reach: a longer one serves it, and then no texel's centre meets it.
    post = Shape().box((-0.04, 0, -10.05), (0.04, 1.5, -10), 1.0)
    found = of_sun(yard({"shadow": {"reach_m": 4.0, "cascades": 1, "resolution": 64}}, post))
    assert found.lost_at == "a map serves this depth"
    assert found.retried is not None and found.retried.lost_at == "texels' centres meet a caster" and found.retried.drawn >= 0.5
    whole = of_sun(yard({"shadow": {"reach_m": 4.0}}))
    assert whole.retried is not None and whole.retried.lost_at is None and whole.retried.drawn < 0.5


def test_the_critical_bias_passes_on_one_side_and_fails_on_the_other():
    build = yard({"shadow": {"reach_m": 60.0, "bias_texels": 16.0, "cascades": 1, "resolution": 256}})
    test = next(t for t in of_sun(build).tests if t.leaf == "shadow.bias_texels")
    step = 16.0 / 95
    for bias, dark in ((test.critical - 0.01, True), (test.critical + 1.01 * step, False)):
        after = apply_change(build, set_leaf(build, ("shadow", "bias_texels"), float(bias), scope="project", title="t"))
        assert (drawn_at(after) < 0.5) == dark, bias


def test_acne_is_a_false_shadow_that_the_surface_wrote_itself():
    build = yard({"shadow": {"reach_m": 60.0, "bias_texels": 0.0, "filter_px": 1, "resolution": 256}})
    visible = RENDERER.frame(build, Request("eye", SIZE), "linear").buffers["sun_visibility"]
    dark = [(int(x), int(y)) for y, x in np.argwhere(visible < 0.5)]
    found = [of_sun(build, at) for at in dark[:: max(len(dark) // 60, 1)]]
    false = [f for f in found if f.verdict == "false"]
    assert false and all(f.wrote == ("floor",) and not f.due for f in false)


def test_where_none_is_due_it_says_by_how_much_the_light_clears_what():
    # Towards the screen the floor is lit: straight behind its shadow's tip the sun clears the top edge.
    shown = shadow_autopsy(RENDERER, yard(), Request("eye", SIZE), 160, 106)
    [sun] = shown.lights
    assert not sun.due and sun.verdict == "agrees" and sun.clears == "screen"
    z = shown.place_m[2]
    top = np.degrees(np.arctan2(1.5, abs(-10 - z)))
    assert sun.clears_deg == pytest.approx(30 - top, abs=0.2), "rings of .1 degrees"


def test_what_stands_behind_the_caster_is_named():
    two = Shape().box((-2, 0, -10.05), (2, 1.5, -10), 1.0)
    build = yard({"nodes": {"screen": {"casts": False}}})
    assert of_sun(build).behind == ()
    more = build_of(
        Thing("floor", floor(0.0, near=-2.0, far=60.0)), Thing("screen", two), Thing("hall", Shape().box((-9, 0, -14), (9, 6, -12), 1.0)),
        setup=build.raw_setup,
    )  # fmt: skip
    found = of_sun(more)
    assert found.as_flagged and found.caster == "hall", "off, the hall still shades it"


def test_a_lamp_is_asked_too():
    lamp = (Light("lamp", "point", intensity=50.0), (0.0, 2.5, -13.0))
    build = yard({"lights": {"lamp": {"casts": True}}}, lamps=(lamp,))
    lamps = {v.light: v for v in shadow_autopsy(RENDERER, build, Request("eye", SIZE), *AT).lights}
    assert lamps["lamp"].verdict in ("agrees", "edge") and not any("map serves" in t.name for t in lamps["lamp"].tests)
    weak = yard({"lights": {"lamp": {"casts": True}}}, lamps=((replace(lamp[0], range_m=2.0), lamp[1]),))
    lamps = {v.light: v for v in shadow_autopsy(RENDERER, weak, Request("eye", SIZE), *AT).lights}
    assert (lamps["lamp"].verdict, lamps["lamp"].tests, lamps["sun"].verdict) == ("out of reach", (), "agrees")
    silent = yard({"lights": {"lamp": {"casts": False}}}, lamps=(lamp,))
    found = {v.light: v for v in shadow_autopsy(RENDERER, silent, Request("eye", SIZE), *AT).lights}["lamp"]
    # From 2.5 m at z = -13 over the edge at 1.5 m and z = -10 the shadow ends at z = -5.5.
    assert found.due and found.verdict == "missing" and found.lost_at == "the light casts"


def test_light_that_stands_in_a_lightmap_is_not_judged_by_shadow_maps():
    build = yard({"bake": {"resolution": 16, "samples": 4, "bounces": 0}, "meshes": {"floor": {"lightmap_uv": 0}}})
    found = of_sun(bake(build).build)
    assert found.due and found.verdict == "baked" and found.lost_at is None and found.retried is None


def test_the_sky_has_no_shadow():
    with pytest.raises(RequestError, match="only sky"):
        shadow_autopsy(RENDERER, yard(), Request("eye", SIZE), 160, 2)
    with pytest.raises(RequestError, match="outside"):
        shadow_autopsy(RENDERER, yard(), Request("eye", SIZE), 999, 2)


def test_a_shadow_goes_with_who_wrote_it_unless_something_else_stands_behind():
    # The reverse question, held to drawing the frame without that caster and to rays that meet triangles one by one.
    rng, tried, alone = np.random.default_rng(3), 0, 0
    for _ in range(of_many(24, 6)):
        high, z = rng.uniform(1.0, 2.0), rng.uniform(-11, -9)
        setup = {"shadow": {"reach_m": 60.0, "resolution": 2048, "cascades": 2}}
        wall = Thing("wall", Shape().box((-2.5, 0, z - 0.3), (rng.uniform(-1, 2.5), high, z), 1.0))
        hall = Thing("hall", Shape().box((rng.uniform(-3, 0.5), 0, -16), (3, rng.uniform(3, 6), -15), 1.0))
        build = build_of(Thing("floor", floor(0.0, near=-2.0, far=60.0)), wall, hall, setup=merged(yard().raw_setup, setup))
        visible = RENDERER.frame(build, Request("eye", SIZE), "linear").buffers["sun_visibility"]
        dark = np.argwhere(visible[60:] == 0)
        for y, x in dark[:: max(len(dark) // 6, 1)]:
            found = of_sun(build, (int(x), int(y) + 60))
            if found.verdict != "agrees" or len(found.wrote) != 1:
                continue
            writer = found.wrote[0]
            without = apply_change(build, set_leaf(build, ("nodes", writer, "casts"), False, scope="node", title="t"))
            still = drawn_at(without, (int(x), int(y) + 60)) < 0.5
            others = [n for n in {found.caster, *found.behind} if n not in (writer, None)]
            g = RENDERER.geometry(build)
            names = {d.name: i for i, d in enumerate(g.drawables)}
            chosen = np.isin(g.owner, [names[n] for n in ("wall", "hall", "floor") if n != writer])
            place = shadow_autopsy(RENDERER, build, Request("eye", SIZE), int(x), int(y) + 60, follow=False).place_m
            towards = TOWARDS / np.linalg.norm(TOWARDS)
            met, _ = plain_hits(g.positions[g.triangles[chosen]], (place + towards * 1e-3 + [0, 1e-3, 0])[None], towards[None])
            assert bool(others) == bool(met[0] >= 0), (writer, others)
            tried += 1
            alone += not others
            assert still == bool(others), (writer, others, found)
    least = of_many(10, 2)
    assert tried >= of_many(60, 15) and least <= alone <= tried - least, (tried, alone)


def test_the_critical_resolution_makes_a_thin_shadow_as_wide_as_the_filter():
    post = Shape().box((-0.04, 0, -10.05), (0.04, 1.5, -10), 1.0)
    build = yard({"shadow": {"reach_m": 60.0, "cascades": 1, "resolution": 256}}, post)
    test = next(t for t in of_sun(build).tests if t.leaf == "shadow.resolution")
    texel = float(RENDERER.frame(build, Request("eye", SIZE), "lit").buffers["shadow_maps"].info[0, 3])
    # Measured in sixteenths of a texel on either side.
    assert not test.passed and test.value == pytest.approx(0.08 / texel, abs=2 / 16) and test.critical > 256
    for resolution, dark in ((256, False), (min(int(test.critical), 8192), True)):
        after = apply_change(build, set_leaf(build, ("shadow", "resolution"), resolution, scope="project", title="t"))
        assert (drawn_at(after) < 0.5) == dark, (resolution, drawn_at(after), test)


def test_other_roles_and_targets_stand_beside_it():
    build = yard({
        "shadow": {"reach_m": 4.0}, "roles": {"play": {}, "edit": {"set": {"shadow": {"reach_m": 50.0}}}},
        "targets": {"kiosk": {"set": {"shadow": {"enabled": False}}}},
    })  # fmt: skip
    found = shadow_autopsy(RENDERER, build, Request("eye", SIZE), *AT)
    there = {(e.target, e.role): e.lights[0] for e in found.elsewhere}
    assert set(there) == {(None, "edit"), ("kiosk", None), ("kiosk", "edit")}
    assert (there[None, "edit"].verdict, there[None, "edit"].lost_at) == ("agrees", None)
    assert there["kiosk", None].lost_at == "shadows are on"


def test_padding_at_its_critical_value_is_drawn_and_said():
    build = yard({"shadow": {"technique": "rays", "ray_limit_deg": 30.0}})
    found = of_sun(build)
    assert found.technique == "rays" and found.lost_at == "it survives the technique's cull"
    test = next(t for t in found.tests if t.name == found.lost_at)
    assert (
        test.leaf == "nodes.screen.bounds_padding_m"
        and test.critical > 0
        and test.margin == pytest.approx(test.limit - test.value)
    )
    assert found.retried is not None and found.retried.drawn == 0.0 and found.retried.lost_at is None
    almost = apply_change(
        build, set_leaf(build, ("nodes", "screen", "bounds_padding_m"), test.critical * 0.99, scope="node", title="t")
    )
    assert drawn_at(almost) == 1.0


def test_what_the_frame_leaves_out_is_kept_by_its_critical_padding_or_draw_distance():
    from_behind = {"lights": {"sun": {**SUN, "towards": [0.0, 0.5, 0.866]}}, "shadow": {"casters_from": "frame"}}
    behind = Shape().box((-2, 0, 3), (2, 8, 3.05), 1.0)
    near = {"nodes": {"screen": {"draw_distance_m": 2.0, "bounds_padding_m": 50.0}}}
    for setup, leaf in ((from_behind, "bounds_padding_m"), ({**from_behind, **near}, "draw_distance_m")):
        build = yard(setup, behind)
        found = of_sun(build)
        test = next(t for t in found.tests if t.name == "it survives the technique's cull")
        assert found.lost_at == test.name and test.leaf == f"nodes.screen.{leaf}"
        assert test.critical > 0 and test.margin < 0
        assert found.retried is not None and found.retried.drawn == 0.0 and found.retried.lost_at is None
        for value, drawn in ((test.critical * 0.999, 1.0), (test.critical * 1.001, 0.0)):
            path = ("nodes", "screen", leaf)
            assert drawn_at(apply_change(build, set_leaf(build, path, value, scope="node", title="t"))) == drawn
