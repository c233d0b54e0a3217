"""Reflection probes and planar mirrors: what they show, against closed forms and rays; what they are off by; what is told of them."""

from dataclasses import replace

import numpy as np
import pytest

from eddyfall.core.bake.captures.capture import capture, fits
from eddyfall.core.defects.reflection_symptoms import shares_of_mirrored
from eddyfall.core.defects.registry import code_of
from eddyfall.core.errors import ChangeError, SetupError
from eddyfall.core.frame.core_sample import core_sample
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.hashing import freeze
from eddyfall.core.lineup import line_up
from eddyfall.core.lineup.spot import make_spot
from eddyfall.core.scene.changes import Change, Operation, apply_change, apply_changes, rename_clashes
from eddyfall.core.scene.model import Material
from eddyfall.core.scene.setup import parse_setup
from eddyfall.core.shade.brdf import ggx_d
from eddyfall.core.shade.probes import (
    FAR_M,
    blurred_levels,
    middles_of,
    seen_depths,
    shares_at,
    shown_by,
    solid_angles,
    ways_into,
)
from eddyfall.core.sweep import sweep
from eddyfall.core.truth.reference.path_scene import path_scene
from eddyfall.core.truth.reference.shown import Shown
from eddyfall.core.truth.reflections.probed import parallax_px, places_of, probed
from eddyfall.demo.meter_house import make_meter_house
from eddyfall.demo.shapes import Shape
from light_rooms import FRAME, MATT, glow, looking, mirror_room
from scenes import Thing, build_of

ROOM = {"place_m": [0, 1.5, 3], "low_m": [-4, 0, 0], "high_m": [4, 3, 6]}
SMALL = (480, 270)


@pytest.fixture(scope="module")
def renderer():
    return Renderer()


def with_probe(**leaves):
    return capture(mirror_room(probes={"hall": {**ROOM, **leaves}}))[0]


@pytest.fixture(scope="module")
def boxed():
    return with_probe()


def door_of(renderer, build, size=FRAME):
    """(pixels, middle column and row) of what shines in the panel."""
    y, x = np.nonzero(renderer.frame(build, Request("eye", size), "linear").linear.mean(axis=2) > 40)
    return len(x), float(x.mean()) + 0.5 if len(x) else 0.0, float(y.mean()) + 0.5 if len(x) else 0.0


# Maps


def test_texels_of_a_map_share_the_sphere():
    for edge in (64, 128):
        angles = solid_angles(edge)
        assert angles.sum() == pytest.approx(4 * np.pi)
        # The mean of x^2 over a sphere is 1/3; odd ones are nought.
        ways = middles_of(edge)
        assert (ways**2 * angles[:, None]).sum(axis=0) / (4 * np.pi) == pytest.approx([1 / 3] * 3, abs=1e-3)
        assert np.abs((ways * angles[:, None]).sum(axis=0)).max() < 1e-9


def test_blurred_levels_are_what_lobes_of_their_roughness_gather():
    """Against the integral over all texels: GGX about the mirrored direction, seen head-on, weighted by the cosine (Karis 2013)."""
    edge = 64
    ways, angles = middles_of(edge), solid_angles(edge)
    light = 1 + 4 * np.maximum(ways @ [0.6, 0.0, 0.8], 0) ** 8 + 2 * (ways[:, 1] > 0.5)
    levels = blurred_levels(np.repeat(light[:, None], 3, axis=1).reshape(edge, edge, 3).astype(np.float32))
    assert [len(level) for level in levels] == [64, 32, 16, 8, 4, 2, 1] and sum(level.size for level in levels) / 3 * 8 == 43_688
    for k in (2, 3, 4):
        alpha = (k / 4) ** 2
        for row, n in enumerate(middles_of(edge >> k)[::7]):
            cosine = np.maximum(ways @ n, 0)
            half = ways + n
            half /= np.linalg.norm(half, axis=1, keepdims=True)
            d = np.array([ggx_d(c, alpha) for c in half @ n])
            weight = d / 4 * cosine * angles  # directions come by D(h) / 4 about the normal; each counts by its cosine
            due = (light * weight).sum() / weight.sum()
            assert levels[k].reshape(-1, 3)[row * 7, 0] == pytest.approx(due, rel=0.04), (k, n)


def test_a_map_of_128_texels_takes_174760_bytes():
    levels = blurred_levels(np.ones((128, 128, 3), np.float32))
    assert sum(len(level) ** 2 for level in levels) * 8 == 174_760
    assert all(level == pytest.approx(1.0, abs=1e-5) for level in levels)


def test_what_a_probe_may_see_follows_from_distances():
    """A wall 2 m before one half of a room that is 10 m deep: behind it places get next to nothing (Majercik et al. 2019)."""
    ways = middles_of(64)
    distance = np.where(ways[:, 0] > 0, 2.0 / np.maximum(ways[:, 0], 0.2), 10.0).reshape(64, 64)
    build = with_probe(sees=True, low_m=[-20, -20, -20], high_m=[20, 20, 20])
    probes = Renderer().frame(build, Request("eye", (16, 16)), "shaded").buffers["probes"]
    probes = probes._replace(depths=seen_depths(distance)[None], place=np.zeros((1, 3)))
    behind, before, aside = shares_at(probes, np.array([[6.0, 0, 0], [1.5, 0, 0], [-6.0, 0, 0]]))[:, 0]
    assert behind < 0.01 and before == pytest.approx(1.0) and aside == pytest.approx(1.0)
    assert seen_depths(np.full((32, 32), FAR_M))[:, 0] == pytest.approx(FAR_M)


# Where they show things


def test_a_room_of_ten_metres_mirrored_three_off_its_middle():
    """Box projection (Lagarde and Zanuttini 2012, from memory): from 3 m off the middle at 45 degrees the wall is met at (5, 2); the probe
    sees that at atan2(2, 5) = 21.8014 degrees, and without a box it is shown 23.1986 degrees off."""
    build = with_probe(place_m=[0, 0, 0], low_m=[-5, -5, -5], high_m=[5, 5, 5])
    probes = Renderer().frame(build, Request("eye", (16, 16)), "shaded").buffers["probes"]
    way = np.array([[1.0, 1.0, 0.0]]) / np.sqrt(2)
    x, y, _ = ways_into(probes, 0, np.array([[3.0, 0.0, 0.0]]), way)[0]
    assert np.degrees(np.arctan2(y, x)) == pytest.approx(21.8014095, abs=1e-6)
    x, y, _ = ways_into(probes._replace(boxed=np.zeros(1, np.uint8)), 0, np.array([[3.0, 0.0, 0.0]]), way)[0]
    assert np.degrees(np.arctan2(y, x)) - 21.8014095 == pytest.approx(23.1985905, abs=1e-6)


@pytest.mark.parametrize(
    ("leaves", "off_px"), [({"boxed": False}, 96.2), ({}, 0.0), ({"high_m": [4, 3, 8]}, 38.5)], ids=["no box", "room", "too deep"]
)
def test_the_door_is_shown_where_its_mirror_image_belongs_or_so_many_px_off(renderer, leaves, off_px):
    """By hand: the door's middle (2.5, 1.6, 6) is mirrored at (2.5, 1.6, -6); a probe at (0, 1.5, 3) shows there what it sees along the
    mirrored ray, (0.833, 1.5, 6) without a box, and that belongs 96.2 px away."""
    build = with_probe(size=16, samples=1, **leaves)
    frame = renderer.frame(build, Request("eye", FRAME), "linear")
    at = places_of(frame, FRAME[0] * FRAME[1])
    middle = np.array([2.5, 1.6, 6.0])
    there = int(np.argmin(np.abs(at.x + 0.5 - (480 + 270 / np.tan(np.radians(27.5)) * 2.5 / 9)) + np.abs(at.y + 0.5 - 270)))
    one = at.of(np.array([there]))
    seen, _, _ = Shown(frame, path_scene(renderer, build, frame).met).shown(0, one.place, one.way)
    assert parallax_px(frame, one, seen)[0] == pytest.approx(off_px, abs=0.8)
    assert np.linalg.norm(one.place + one.way * (6 / one.way[0, 2]) - middle) < 0.05


def test_a_mirror_and_a_probe_with_a_box_show_the_door_and_one_without_does_not(renderer, boxed):
    """1.2 m by 2.2 m seen 9 m away, its foot cut off by the panel: 69.2 by 126.8 px, its middle 144.1 px beside the frame's."""
    flat = mirror_room(mirrors={"panel": {"node": "panel"}})
    count, x, _ = door_of(renderer, flat)
    assert count == pytest.approx(69.2 * 126.8, rel=0.02) and x == pytest.approx(480 + 144.1, abs=0.6)
    count, x, _ = door_of(renderer, boxed)
    assert count == pytest.approx(69.2 * 126.8, rel=0.1) and x == pytest.approx(480 + 144.1, abs=1.5)
    unboxed = with_probe(boxed=False)
    assert abs(door_of(renderer, unboxed)[1] - (480 + 144.1)) > 90
    lost = {}
    for name, build in (("mirror", flat), ("boxed", boxed), ("unboxed", unboxed), ("none", mirror_room())):
        request = Request("eye", FRAME)
        lost[name] = shares_of_mirrored(renderer, build, make_spot(renderer.frame(build, request), request, 6))
    assert lost["mirror"] == (0, 0) and sum(lost["boxed"]) < 0.02 and lost["unboxed"][1] > 0.9 and lost["none"] == (1, 0)


def test_a_mirror_shows_no_more_than_what_lies_before_it_and_is_alike_in_crops(renderer):
    """What stands behind the panel's plane, between the mirrored eye and it, is left out (Lengyel 2005)."""
    behind = Thing("crate", Shape().quad((-1, 1, -1.0), (2, 0, 0), (0, 1, 0)), glow("crate", 5000))
    room = mirror_room(mirrors={"panel": {"node": "panel"}}, more=(behind,))
    assert "crate" in [d.name for d in renderer.geometry(room).drawables]
    request = Request("eye", FRAME)
    whole = renderer.frame(room, request, "linear").linear
    plain = mirror_room(mirrors={"panel": {"node": "panel"}})
    assert whole.max() < 1000 and np.array_equal(whole, renderer.frame(plain, request, "linear").linear)
    crop = (500, 200, 700, 330)
    part = renderer.frame(room, replace(request, crop=crop), "linear").linear
    assert np.array_equal(part, whole[crop[1] : crop[3], crop[0] : crop[2]])
    halved = mirror_room(mirrors={"panel": {"node": "panel", "divisor": 2}})
    assert door_of(renderer, halved)[0] == pytest.approx(door_of(renderer, room)[0], rel=0.03)


def test_what_has_no_mirror_pass_is_missing_in_mirrors_alone(renderer):
    setup = {"shaders": {"plain": {"passes": {"mirror": False}}}, "materials": {"door": {"shader": "plain"}}}
    build = mirror_room(mirrors={"panel": {"node": "panel"}}, **setup)
    assert door_of(renderer, build)[0] == 0
    request = Request("eye", FRAME)
    missing, wrong = shares_of_mirrored(renderer, build, make_spot(renderer.frame(build, request), request, 6))
    assert missing > 0.6 and wrong == 0  # the rest is what the door lights


def test_core_samples_of_mirrors_and_probes_add_up(renderer, boxed):
    for build in (boxed, mirror_room(mirrors={"panel": {"node": "panel"}})):
        for x, y in ((240 + 72, 130), (200, 120)):
            sample = core_sample(renderer, build, Request("eye", SMALL), x, y)
            drawn = renderer.frame(build, Request("eye", SMALL), "linear").linear[y, x]
            assert sample.sum == pytest.approx(drawn, rel=1e-4, abs=1e-6)


def test_rays_fall_back_on_what_a_probe_shows_along_them(renderer):
    """The door is behind the eye: no ray through the frame finds it, the probe holds it."""
    probes = {"hall": ROOM}
    build, _ = capture(mirror_room(probes=probes, depth={"copy_from": "opaque"}, reflect={"enabled": True, "fallback": "probe"}))
    count, x, _ = door_of(renderer, build)
    assert count == pytest.approx(69.2 * 126.8, rel=0.1) and x == pytest.approx(624.1, abs=1.5)


# What is told of them


def halves(probes=None, **setup):
    """Two rooms of 4 m by 6 m, a partition between them at x = 4: the first lit by a shining panel, the other by a dim lamp, with polished
    floors. The eye stands in the dark one, or in the lit one."""

    def wall(name, *face, material=None):
        return Thing(name, Shape().quad(*face), material or Material(name, (0.5, 0.5, 0.5, 1), **MATT))

    polished = Material("polished", (0.02, 0.02, 0.02, 1), metallic=0.0, roughness=0.2, ior=2.5)
    return build_of(
        wall("lit floor", (0, 0, 6), (4, 0, 0), (0, 0, -6), material=polished),
        wall("dark floor", (4.1, 0, 6), (3.9, 0, 0), (0, 0, -6), material=polished),
        wall("ceiling", (0, 3, 0), (8, 0, 0), (0, 0, 6)), wall("back", (8, 0, 6), (-8, 0, 0), (0, 3, 0)),
        wall("front", (0, 0, 0), (8, 0, 0), (0, 3, 0)), wall("left", (0, 0, 6), (0, 0, -6), (0, 3, 0)),
        wall("right", (8, 0, 0), (0, 0, 6), (0, 3, 0)), wall("partition", (4, 0, 0), (0, 0, 6), (0, 3, 0)),
        wall("partition's other side", (4.1, 0, 6), (0, 0, -6), (0, 3, 0)),
        Thing("panel", Shape().quad((0.01, 1, 4), (0, 0, -2), (0, 1, 0)), glow("panel", 500)),
        Thing("lamp", Shape().quad((7.99, 1, 2), (0, 0, 2), (0, 1, 0)), glow("lamp", 10)),
        setup={
            "viewpoints": {"dark": looking((7.5, 1.6, 5.5), (5, 0, 2)), "lit": looking((3.5, 1.6, 5.5), (1, 0, 2))},
            "sky": {"ambient": False}, "probes": probes or {}, **setup,
        },
    )  # fmt: skip


def cures_of(finding):
    return [r.change.title for r in finding.remedies if r.verdict == "cures"]


THROUGH = {"place_m": [2, 1.5, 3], "low_m": [0, 0, 0], "high_m": [8, 3, 6], "size": 64}
EACH = {
    "lit": {"place_m": [2, 1.5, 3], "low_m": [-0.01, -0.01, -0.01], "high_m": [4.01, 3.01, 6.01], "size": 64},
    "dark": {"place_m": [6, 1.5, 3], "low_m": [4.09, -0.01, -0.01], "high_m": [8.01, 3.01, 6.01], "size": 64},
}


def found_in(build, codes=("reflect.",), renderer=None):
    return [f for f in sweep(build, renderer=renderer).findings if f.suspicion.code.startswith(codes)]


@pytest.mark.long
def test_a_box_through_a_partition_leaks_and_each_cure_is_measured():
    build, _ = capture(halves(probes={"both": THROUGH}))
    (leak,) = [f for f in found_in(build) if f.suspicion.code == "reflect.leak"]
    assert leak.suspicion.cause == "both" and leak.suspicion.subjects[0] == "dark floor" and leak.suspicion.value > 1
    # Weights by distances dim the leak, but not where the partition is near: thin walls leak with them (Majercik et al. 2019).
    verdicts = [(r.change.title, r.verdict) for r in leak.remedies]
    assert verdicts == [
        ("fit the box of probe both to its room", "cures"),
        ("a probe of its own where both does not see", "cures"),
        ("probe both leaves alone what it does not see", "masks"),
    ]


def test_a_probe_for_each_room_is_no_finding():
    build, done = capture(halves(probes=EACH))
    assert len(done) == 2 and found_in(build) == []


def test_what_changed_since_a_probe_was_captured_is_told_and_captured_anew():
    build, _ = capture(halves(probes=EACH))
    renderer = Renderer()
    assert all(f.fresh for f in fits(build, renderer.geometry(build), renderer))
    gone = apply_change(
        build, Change(id="m", scope="node", operation=Operation(name="node.move", params={"node": "panel", "by_m": [0, 0, 100]}))
    )
    state = {f.name: f for f in fits(gone, renderer.geometry(gone), renderer)}
    assert state["lit"].why == ("panel changed",) and state["dark"].fresh
    (stale,) = [f for f in found_in(gone) if f.suspicion.code == "reflect.stale"]
    assert stale.suspicion.cause == "lit" and stale.suspicion.value > 0.25
    assert cures_of(stale) == ["capture probe lit anew"]


def test_what_casts_nothing_and_takes_no_part_in_bakes_is_seen_all_the_same():
    hidden = {"nodes": {"door": {"casts": False}}, "shaders": {"unbaked": {"passes": {"bake": False}}}}
    build, _ = capture(
        mirror_room(probes={"hall": {**ROOM, "size": 16, "samples": 1}}, materials={"door": {"shader": "unbaked"}}, **hidden)
    )
    renderer = Renderer()
    assert all(f.fresh for f in fits(build, renderer.geometry(build), renderer))
    away = Change(id="m", scope="node", operation=Operation(name="node.move", params={"node": "door", "by_m": [-1, 0, 0]}))
    dull = Operation(name="material.metallic", params={"material": "brass", "value": 0.5})
    for change, why in ((away, "door changed"), (Change(id="r", scope="material", operation=dull), "panel changed")):
        after = apply_change(build, change)
        (fit,) = fits(after, renderer.geometry(after), renderer)
        assert fit.why == (why,)
        again, done = capture(after)
        assert done == (("hall", None),) and all(f.fresh for f in fits(again, renderer.geometry(again), renderer))


def test_a_coarse_map_in_a_smooth_mirror_and_a_step_between_two_probes_are_told():
    coarse = capture(mirror_room(probes={"hall": {**ROOM, "size": 16}}))[0]
    (gloss,) = [f for f in found_in(coarse) if f.suspicion.code == "reflect.gloss"]
    # 270 / tan 27.5 deg px a radian times a quarter turn over 16 texels.
    assert gloss.suspicion.value == pytest.approx(518.7 * np.pi / 2 / 16, rel=1e-3)
    floor = Material("polished", (0.02, 0.02, 0.02, 1), metallic=0.0, roughness=0.5, ior=2.5)
    hall = build_of(
        Thing("floor", Shape().quad((-6, 0, 3), (12, 0, 0), (0, 0, -6)), floor),
        Thing("left", Shape().quad((-6, 0, 3), (0, 0, -6), (0, 3, 0)), glow("left", 300)),
        Thing("right", Shape().quad((6, 0, -3), (0, 0, 6), (0, 3, 0)), glow("right", 5)),
        setup={
            "viewpoints": {"eye": looking((0, 1.6, 2.9), (0, 0, 0))}, "sky": {"ambient": False},
            "probes": {
                "a": {"place_m": [-4, 1, 0], "low_m": [-6.1, -0.1, -3.1], "high_m": [0, 3.1, 3.1], "size": 32},
                "b": {"place_m": [4, 1, 0], "low_m": [0, -0.1, -3.1], "high_m": [6.1, 3.1, 3.1], "size": 32},
            },
        },
    )  # fmt: skip
    seams = [f for f in found_in(capture(hall)[0]) if f.suspicion.code == "reflect.seam"]
    assert (
        seams
        and {s.suspicion.cause for s in seams} <= {"a", "b"}
        and all("gives way to probe" in s.suspicion.title for s in seams)
    )
    assert cures_of(seams[0]), [(r.change.title, r.verdict) for r in seams[0].remedies]


def test_the_worst_parallax_is_told_with_the_cure(renderer):
    build = with_probe(boxed=False)
    (one,) = probed(renderer, build, Request("eye", FRAME))
    assert one.name == "hall" and one.surfaces == ("panel",) and one.wrong > 0.05 and one.unseen == 0 and one.parallax_px[0] > 20
    (told,) = [f for f in found_in(build) if f.suspicion.code == "reflect.probe"]
    assert any("fit the box" in title for title in cures_of(told))


def test_moved_light_sets_and_what_is_at_hand(boxed, renderer):
    again, done = capture(boxed)
    assert done == () and again.content_hash == boxed.content_hash
    moved = boxed.with_setup(
        parse_setup({**boxed.setup.model_dump(mode="json"), "probes": {"hall": {**ROOM, "place_m": [1, 1.5, 3]}}})
    )
    (fit,) = fits(moved, renderer.geometry(moved), renderer)
    assert fit.why == ("it, the sky or how it is captured changed",)
    sets = mirror_room(probes={"hall": {**ROOM, "size": 16, "samples": 1}}, light_sets={"day": {}, "night": {"sky": 0}})
    assert capture(sets)[1] == (("hall", "day"), ("hall", "night"))


def test_bad_mirrors_and_torn_probes_are_one_line_and_leave_all_as_it_was(boxed, renderer):
    ball = Thing("ball", Shape().tube((0, 1, 2), (0, 2, 2), 0.4, 0.4, 24), Material("steel", metallic=1.0, roughness=0.0))
    with pytest.raises(SetupError, match=r"mirrors\.m\.node.*'ball' is not flat"):
        mirror_room(mirrors={"m": {"node": "ball"}}, more=(ball,))
    with pytest.raises(SetupError, match="not there"):
        mirror_room(mirrors={"m": {"node": "nowhere"}})
    with pytest.raises(SetupError, match=r"no room along x"):
        parse_setup({"eddyfall_setup": 1, "probes": {"p": {"low_m": [1, 0, 0], "high_m": [1, 1, 1]}}})
    with pytest.raises(SetupError):
        parse_setup({"eddyfall_setup": 1, "probes": {"p": {"place_m": [float("nan"), 0, 0]}}})
    with pytest.raises(ChangeError, match="'nobody' does not exist"):
        apply_change(
            boxed, Change(id="x", scope="project", operation=Operation(name="probes.capture", params={"probes": ["nobody"]}))
        )
    image = next(i for i in boxed.scene.images if i.name == "probe hall")
    torn = np.array(image.wide)
    torn[5, 7, 1] = np.float16(np.nan).view(np.uint16)
    broken = replace(boxed, scene=boxed.scene.with_image(replace(image, wide=freeze(torn))))
    with pytest.raises(SetupError, match="torn: texel 7, 5"):
        renderer.frame(broken, Request("eye", (16, 16)))
    probes = renderer.frame(boxed, Request("eye", (16, 16))).buffers["probes"]
    assert np.isfinite(shown_by(probes, np.ones((1, 3)), np.array([[0, 0, 1.0]]), np.zeros(1))[0]).all()


@pytest.mark.long
def test_what_only_a_mirror_or_a_probe_can_show_is_cured_by_them_and_a_thing_left_out_of_mirrors_is_told():
    build = mirror_room(depth={"copy_from": "opaque"}, reflect={"enabled": True})
    (lost,) = [f for f in found_in(build) if f.suspicion.code == "reflect.off-screen"]
    assert {"a planar mirror on panel", "a reflection probe in the room of panel"} <= set(cures_of(lost))
    assert not any("margin" in r.change.title for r in lost.remedies), "all of the door is behind the eye"
    setup = {"shaders": {"plain": {"passes": {"mirror": False}}}, "materials": {"door": {"shader": "plain"}}}
    without = mirror_room(mirrors={"panel": {"node": "panel"}}, **setup)
    (gap,) = [f for f in found_in(without) if f.suspicion.code == "reflect.missed"]
    assert gap.suspicion.title == "panel does not mirror door: base shader plain is not drawn in mirrors"
    assert gap.suspicion.value == pytest.approx(69.2 * 126.8 / 238_740, rel=0.03)
    assert cures_of(gap) == ["draw base shader plain in mirrors"]


@pytest.fixture(scope="module")
def meter_house():
    build, truth = make_meter_house()
    return build, truth, sweep(build).findings


def test_in_the_meter_house_exactly_the_seeded_causes_are_found_and_each_is_cured(meter_house):
    build, truth, findings = meter_house
    assert {(f.code, f.suspicion.cause) for f in findings} == {(row["code"], row["cause"]) for row in truth["findings"]}
    for row in truth["findings"]:
        found = next(f for f in findings if f.code == row["code"])
        assert set(row["subjects"]) <= set(found.suspicion.subjects) and cures_of(found), row
    repaired = apply_changes(build, rename_clashes([f.best.change for f in findings]))
    assert sweep(repaired).findings == ()


@pytest.mark.long
def test_a_line_up_on_each_finding_of_the_meter_house_clears_it_with_what_the_sweep_offers(meter_house):
    """As a case is opened on it: its code's symptom, a spot within its region at the viewpoint where most is spoilt."""
    build, _, findings = meter_house
    for f in findings:
        view = max(f.suspicion.pixels, key=lambda v: f.suspicion.pixels[v])
        x, y, w, h = f.suspicion.regions[view]
        wide, high = min(w, 110), min(h, 90)
        spot = (x + (w - wide) * 3 // 4, y + (h - high) // 2, wide, high)
        result = line_up(build, view, spot, code_of(f.code).symptom, subject=f.suspicion.subjects[0])
        said = {t.title: (t.verdict, t.before, t.after) for t in result.trials}
        assert said.get(f.best.change.title, ("not tried",))[0] == "clears it", (f.code, said)


def test_probes_hold_nothing_that_moves_and_all_of_it_moves_with_the_scene():
    """A door that moves is in no capture: whatever ends at it is shown wrongly. A scene that is shifted takes boxes and keys along."""
    moving = mirror_room(probes={"hall": {**ROOM, "size": 16, "samples": 1}}, nodes={"door": {"moves": True}})
    build, _ = capture(moving)
    renderer = Renderer()
    assert door_of(renderer, build)[0] == 0
    request = Request("eye", FRAME)
    missing, wrong = shares_of_mirrored(renderer, build, make_spot(renderer.frame(build, request), request, 6))
    assert missing == 0 and wrong > 0.6
    keys = {"a": {"t_s": 0, "eye": [0, 1, 0], "target": [0, 1, -1]}, "b": {"t_s": 1, "viewpoint": "eye"}}
    grid = {"low_m": [-1, 0, 0], "high_m": [1, 1, 1], "counts": [2, 2, 2]}
    there = mirror_room(probes={"hall": ROOM}, grids={"g": grid}, moves={"m": {"keys": keys}})
    setup = apply_change(
        there, Change(id="s", scope="project", operation=Operation(name="scene.move", params={"by_m": [10, 0, -2]}))
    ).setup
    assert setup.probes["hall"].place_m == (10, 1.5, 1) and setup.probes["hall"].high_m == (14, 3, 4)
    assert (
        setup.grids["g"].low_m == (9, 0, -2)
        and setup.moves["m"].keys["a"].eye == (10, 1, -2)
        and setup.moves["m"].keys["b"].eye is None
    )


def test_a_mirror_shows_what_has_changed_to_a_renderer_that_has_seen_it_before():
    worn, request = Renderer(), Request("eye", SMALL)
    build = mirror_room(mirrors={"panel": {"node": "panel"}})
    worn.frame(build, request, "linear")
    away = Operation(name="node.move", params={"node": "door", "by_m": [-1.5, 0, 0]})
    after = apply_change(build, Change(id="m", scope="node", operation=away))
    shown = worn.frame(after, request, "linear").linear
    assert np.array_equal(shown, Renderer().frame(after, request, "linear").linear)
    assert not np.array_equal(shown, worn.frame(build, request, "linear").linear)
