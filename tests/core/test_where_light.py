"""Where the light is: rays from a surface by what they meet, against geometry worked out by hand; the most each remedy can bring."""

import math

import numpy as np
import pytest

from eddyfall.core.bake.maps.run import bake
from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.scene.model import Material
from eddyfall.core.truth.reference.answers import OUTCOMES
from eddyfall.core.truth.reference.classes import CLASSES, classified
from eddyfall.core.truth.reference.where import where_light
from eddyfall.core.truth.visibility import rays_of
from eddyfall.demo.shapes import Shape
from light_rooms import FRAME, MATT, SPOT, glow, looking, mirror_room, shining_hall
from scenes import Thing, build_of


@pytest.fixture(scope="module")
def hall():
    return shining_hall()


@pytest.mark.parametrize(
    "view, share, stops",
    [("turned 30", 0.870, -0.16), ("turned 42", 0.527, -0.70), ("near", 0.392, -0.98), ("before the wall", 0.0, -2.38)],
)  # fmt: skip
def test_how_much_of_a_walls_light_is_on_the_frame_is_geometry(hall, view, share, stops):
    found = where_light(Renderer(), hall, Request(view, FRAME), at=SPOT, samples=8192)
    assert found.due / 0.5 * math.pi == pytest.approx(208.7, rel=0.02) and found.places == 1
    assert found.row("on the frame").bounce / found.from_others == pytest.approx(share, abs=0.012)
    assert found.ceilings[0].remedy.startswith("dials") and found.ceilings[0].stops == pytest.approx(stops, abs=0.03)
    assert found.ceilings[-1].stops == pytest.approx(0.0, abs=1e-9), "what reaches the world reaches all of it"
    if view == "before the wall":
        assert found.row("behind the camera").bounce / found.from_others > 0.99


@pytest.mark.parametrize("view, stops", [("turned 42", -0.34), ("near", -0.20), ("before the wall", -2.38)])
def test_a_margin_holds_what_lies_beside_the_frame_and_nothing_behind(hall, view, stops):
    found = where_light(Renderer(), hall, Request(view, FRAME), at=SPOT, samples=8192)
    _, more, held = next(m for m in found.margin if m[0] == 128)
    direct = found.due - found.from_others
    assert more == pytest.approx(0.867, abs=1e-3)  # (960 + 256) x (540 + 256) of 960 x 540 px
    assert math.log2((direct + held) / found.due) == pytest.approx(stops, abs=0.04)


@pytest.fixture(scope="module")
def panel_room():
    return mirror_room()


def test_a_mirror_that_looks_back_finds_nothing_on_the_frame(panel_room):
    # By mirrored rays through 238 740 px of the panel: 179 228 end behind the camera, 59 512 beside the frame, none on it.
    request = Request("eye", FRAME, (136, 133, 824, 476))
    found = where_light(Renderer(), panel_room, request, samples=1, places=4096, bounces=1)
    assert found.row("behind the camera").share == pytest.approx(179_228 / 238_740, abs=0.012)
    assert found.row("off the frame").share == pytest.approx(59_512 / 238_740, abs=0.012)
    assert found.row("on the frame").share < 1e-3
    door = [where for name, where, _ in found.sources if name == "door"]
    assert door == ["behind the camera"]
    assert sum(r.share for r in found.rows) == pytest.approx(1.0)


def lit_floor(*more, **setup):
    floor = Thing("floor", Shape().quad((-3, 0, 0), (6, 0, 0), (0, 0, -6)), Material("floor", (0.5, 0.5, 0.5, 1), **MATT))
    return build_of(
        floor, *more, setup={"viewpoints": {"eye": looking((0, 2.5, 4), (0, 0.8, -3))}, "sky": {"ambient": False}, **setup}
    )


def test_what_stands_behind_a_thing_is_hidden_by_it():
    lamp = Thing("lamp", Shape().quad((-0.4, 0.2, -3.0), (0.8, 0, 0), (0, 0.6, 0)), glow("lamp", 100))
    screen = Thing("screen", Shape().box((-1.5, 0.0, -1.2), (1.5, 1.9, -1.1)), Material("screen", (0.2, 0.2, 0.2, 1), **MATT))
    found = where_light(Renderer(), lit_floor(lamp, screen), Request("eye", FRAME), at=(0.0, 0.0, -2.0), samples=512, bounces=0)
    assert found.row("hidden").bounce > 0.95 * found.from_others and found.hidden_by[0][0] == "screen"
    second = next(c for c in found.ceilings if c.remedy == "a second layer of depth")
    assert second.nits > 0.95 * found.from_others > found.ceilings[0].nits


def test_the_far_side_of_a_sheet_is_told_apart():
    sheet = Material("sheet", (0, 0, 0, 1), emissive=(100,) * 3, double_sided=True, **MATT)
    poster = Thing("poster", Shape().quad((-1, 0.3, -2.0), (2, 0, 0), (0, 1, 0)), sheet)
    found = where_light(Renderer(), lit_floor(poster), Request("eye", FRAME), at=(0.0, 0.0, -3.5), samples=512, bounces=0)
    assert found.row("other side of a sheet").bounce > 0.9 * found.from_others


def test_what_is_blended_is_not_in_the_copy_and_the_sky_is_by_itself():
    card = Material("card", (0, 0, 0, 1), emissive=(100,) * 3, alpha_mode="BLEND", double_sided=True, **MATT)
    build = lit_floor(Thing("card", Shape().quad((-1, 0.3, -2.0), (2, 0, 0), (0, 1, 0)), card))
    found = where_light(Renderer(), build, Request("eye", FRAME), at=(0.0, 0.0, -1.2), samples=512, bounces=0)
    assert found.row("not in the copy").bounce == pytest.approx(found.from_others, rel=0.02) and found.from_others > 0
    assert found.row("sky").bounce == 0 and {r.where for r in found.rows} == set(CLASSES)


@pytest.mark.parametrize("seed", range(20))
def test_classes_are_those_of_rays_from_the_eye(seed):
    """Random boxes in a room, places of their surfaces: what a ray from the eye to each meets first says the same as the depth buffer."""
    rng = np.random.default_rng(seed)
    boxes = []
    for i in range(5):
        low = rng.uniform((-2.5, 0.0, -5.5), (1.5, 1.2, -1.0))
        boxes.append(Thing(f"box{i}", Shape().box(tuple(low), tuple(low + rng.uniform(0.3, 1.0, 3))), glow(f"box{i}", 10)))
    faces = (
        ((-3, 0, 1), (6, 0, 0), (0, 0, -7)), ((-3, 0, -6), (6, 0, 0), (0, 3, 0)), ((3, 0, -6), (0, 0, 7), (0, 3, 0)),
        ((3, 0, 1), (-6, 0, 0), (0, 3, 0)),
    )  # fmt: skip
    walls = [Thing(f"wall{i}", Shape().quad(*face), glow(f"wall{i}", 1)) for i, face in enumerate(faces)]
    view = looking(rng.uniform((-1, 1, 0), (1, 2, 0.5)), rng.uniform((-2, 0, -4), (2, 2, -3)))
    build = build_of(*boxes, *walls, setup={"viewpoints": {"eye": view}, "sky": {"ambient": False}})
    renderer = Renderer()
    frame = renderer.frame(build, Request("eye", FRAME), "linear")
    g, everything = frame.geometry, np.arange(len(frame.geometry.drawables)) != frame.geometry.plate
    rays = rays_of(renderer, frame, everything)
    start = np.tile([0.0, 2.5, -2.0], (600, 1))
    away = rng.normal(size=(600, 3))
    met = rays.hits(start, away / np.linalg.norm(away, axis=1, keepdims=True))
    there = met.triangle >= 0
    away = (away / np.linalg.norm(away, axis=1, keepdims=True))[there]
    place, triangle = start[there] + away * met.distance[there, None], met.triangle[there]
    c = g.positions[g.triangles[triangle]].astype(float)
    facing = np.cross(c[:, 1] - c[:, 0], c[:, 2] - c[:, 0])
    facing *= -np.sign(np.einsum("nk,nk->n", facing, away))[:, None]
    found, off_px, before = classified(frame, place, facing, np.zeros(len(place), bool))
    eye, camera = np.array(frame.camera.eye), frame.camera
    towards = place - eye
    depth = towards @ camera.forward
    half = math.tan(camera.fov_y_rad / 2)
    across, up = towards @ camera.axes[0] / (depth * half * camera.aspect), towards @ camera.axes[1] / (depth * half)
    inside = (depth > 0) & (np.abs(across) <= 1) & (np.abs(up) <= 1)
    assert np.array_equal(found == CLASSES.index("behind the camera"), depth <= 0)
    assert np.array_equal(found == CLASSES.index("off the frame"), (depth > 0) & ~inside)
    first = rays.hits(np.tile(eye, (len(place), 1)), towards)
    hidden = inside & (first.distance < 1 - 2e-3)
    same = (found == CLASSES.index("hidden")) == hidden
    assert same.mean() >= 0.98, "all but what lies within a pixel of an edge"
    sure = hidden & (found == CLASSES.index("hidden"))
    assert (before[sure] == g.owner[first.triangle[sure]]).mean() >= 0.95
    assert (off_px[found != CLASSES.index("off the frame")] == 0).all()


def marching(**dials):
    return {"bounce": {"enabled": True, "steps": 64, **dials}, "depth": {"copy_from": "opaque"}}


@pytest.mark.long
def test_what_a_pass_finds_of_it_and_what_no_dial_of_it_can():
    """Of what is on the frame 64 steps find nearly all and 8 half; of the rest nothing, until a margin or rays into the world are drawn."""
    share = {}
    for name, dials in (("few", {"steps": 8}), ("many", {}), ("margin", {"margin_px": 128}), ("world", {"fallback": "world"})):
        found = where_light(Renderer(), shining_hall(**marching(**dials)), Request("near", FRAME), at=SPOT, samples=2048)
        (answer,) = found.answers
        assert answer.name == "bounce" and float(answer.light.sum()) == pytest.approx(found.from_others, rel=1e-6)
        on = found.row("on the frame").bounce
        share[name] = answer.of("on the frame", "found") / on
        beyond = float(answer.light[:, 0].sum()) - answer.of("on the frame", "found")
        assert (beyond > 0.3 * found.from_others) == (name == "margin")
        lost = answer.of("off the frame", "fell back" if name == "world" else "missed")
        assert lost == pytest.approx(0.608 * found.from_others - beyond, abs=0.06 * found.from_others)
        assert found.ceilings[0].remedy == "the passes as they are set"
        assert found.ceilings[0].stops == pytest.approx(
            {"few": -1.6, "many": -1.0, "margin": -0.22, "world": -0.02}[name], abs=0.12
        )
    assert share["few"] == pytest.approx(0.53, abs=0.06) and share["many"] > 0.95


def test_what_lightmaps_hold_is_not_to_be_had_again():
    """A baked floor has the wall's light: nothing of it is left for any remedy, and no pass is asked for it."""
    uv = np.array([[0, 1], [1, 1], [1, 0], [0, 0]], float)
    floor = Thing(
        "floor", Shape().quad((0, 0, 12), (12, 0, 0), (0, 0, -12)), Material("floor", (0.5, 0.5, 0.5, 1), **MATT), lightmap=uv
    )
    wall = Thing("wall", Shape().quad((0, 0, 9.6), (0, 0, -7.2), (0, 3, 0)), glow("wall", 100))
    view = {"viewpoints": {"eye": looking((1.5, 1.6, 6.0), SPOT)}, "sky": {"ambient": False}}
    build = bake(build_of(floor, wall, setup={**view, **marching(), "bake": {"resolution": 32, "samples": 16}})).build
    found = where_light(Renderer(), build, Request("eye", FRAME), places=64, samples=64)
    assert found.in_lightmaps == pytest.approx(found.from_others, rel=1e-6) and found.from_others > 1
    (answer,) = found.answers
    assert float(answer.light[:, OUTCOMES.index("not asked")].sum()) == pytest.approx(found.from_others, rel=1e-6)
    assert all(c.stops == pytest.approx(0, abs=1e-9) and c.nits == pytest.approx(0, abs=1e-9) for c in found.ceilings)


def test_light_that_fades_near_the_edge_is_told_as_missed():
    found, faded = (
        where_light(Renderer(), shining_hall(**marching(edge_fade_px=px)), Request("near", FRAME), at=SPOT, samples=1024).answers[
            0
        ]
        for px in (0, 180)
    )
    assert faded.of("on the frame", "found") < 0.85 * found.of("on the frame", "found")
    assert float(faded.light.sum()) == pytest.approx(float(found.light.sum()), rel=1e-9)


def test_a_prepass_copy_lacks_what_has_no_depth_pass():
    """The wall is on the frame, but not in a copy of the prepass that it takes no part in."""
    bare = {"shaders": {"bare": {"passes": {"depth": False}}}, "materials": {"wall": {"shader": "bare"}}}
    build = shining_hall(**{**marching(), "depth": {"copy_from": "prepass"}, **bare})
    found = where_light(Renderer(), build, Request("near", FRAME), at=SPOT, samples=256)
    assert found.row("on the frame").bounce < 1e-3 * found.from_others
    assert found.row("not in the copy").bounce > 0.3 * found.from_others
    assert float(found.answers[0].light[:, 0].sum()) == 0


def test_a_thing_before_what_shines_is_taken_for_it():
    """A screen hides a lamp; taken to be metres thick, it is met by rays that pass behind it to the lamp."""
    lamp = Thing("lamp", Shape().quad((-0.4, 0.2, -3.0), (0.8, 0, 0), (0, 0.6, 0)), glow("lamp", 100))
    screen = Thing("screen", Shape().box((-1.5, 0.0, -1.2), (1.5, 1.9, -1.1)), Material("screen", (0.2, 0.2, 0.2, 1), **MATT))
    wrong = []
    for thickness in (0.05, 3.0):
        build = lit_floor(lamp, screen, **marching(thickness_m=thickness))
        found = where_light(Renderer(), build, Request("eye", FRAME), at=(0.0, 0.0, -2.0), samples=512, bounces=0)
        wrong.append(found.answers[0].of("hidden", "wrong hit") / found.from_others)
    assert wrong[0] < 0.02 and wrong[1] > 0.2


@pytest.mark.parametrize(
    "more, words",
    [({"samples": 0}, "0 samples"), ({"places": 5000}, "5000 places"), ({"at": (0.0, 50.0, 0.0)}, "no surface at 0, 50, 0")],
)
def test_what_makes_no_sense_is_one_error(hall, more, words):
    with pytest.raises(RequestError, match=words):
        where_light(Renderer(), hall, Request("near", (96, 54)), **more)
