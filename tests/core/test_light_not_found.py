"""Light that passes lose which have the frame alone: what no dial finds and what dials find, and only remedies that can do are tried."""

import pytest

from eddyfall.core.defects.light_not_found import FAMILY
from eddyfall.core.defects.reflection_symptoms import shares_of_mirrored
from eddyfall.core.defects.survey import Survey
from eddyfall.core.frame.memo import Memo
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.lineup import line_up
from eddyfall.core.lineup.spot import make_spot
from eddyfall.core.scene.model import Material
from eddyfall.core.sweep import sweep
from eddyfall.demo.gallery import make_gallery
from eddyfall.demo.shapes import Shape
from light_rooms import MATT, glow, looking, mirror_room, shining_hall
from scenes import Thing, build_of

COPY = {"copy_from": "opaque"}
BOUNCE = {"enabled": True, "steps": 64, "rays": 4}


def hall(view, **dials):
    return only(shining_hall(bounce={**BOUNCE, **dials}, depth=COPY), view)


def only(build, view):
    views = {name: v for name, v in build.setup.viewpoints.items() if name == view}
    return build.with_setup(build.setup.model_copy(update={"viewpoints": views}))


def inspected(build):
    return FAMILY.inspect(Survey(build, Renderer(Memo(1 << 30))))


def test_a_floor_that_gets_its_light_from_beside_the_frame_is_told_with_a_margin_that_holds_it():
    """From near by .392 of the wall's light is on the frame at the middle; a margin of 128 px holds nearly all of the rest."""
    (found,) = inspected(hall("near"))
    assert found.code == "bounce.off-screen" and found.subjects == ("floor",)
    assert 0.7 < found.value < 1.4 and "off the frame" in found.title
    still = {e.measure.split(" with ")[1]: e.value for e in found.evidence if e.predicted and " with " in e.measure}
    sways = next(e for e in found.evidence if e.measure == "drift of floor while the camera sways at near")
    assert sways.predicted and 0 < sways.value < 1.5
    assert still["dials alone"] == pytest.approx(found.value, abs=0.1) and still["a margin as wide as can be"] < 0.25
    titles = [c.change.title for c in found.candidates]
    assert titles[0].startswith("bounce with a margin of") and len(titles) == 2


def test_where_all_of_it_is_behind_the_camera_no_rim_is_tried():
    (found,) = inspected(hall("before the wall"))
    assert found.value > 2 and "behind the camera" in found.title
    assert [c.change.title for c in found.candidates] == ["bounce falls back on rays into the world"]


def test_what_is_on_the_frame_and_stepped_over_is_told_apart():
    codes = {s.code: s for s in inspected(hall("level", steps=4))}
    assert "bounce.missed" in codes
    assert codes["bounce.missed"].candidates[0].change.title == "bounce in 16 steps"
    result = sweep(hall("level", steps=8))
    missed = next(f for f in result.findings if f.code == "bounce.missed")
    assert next(r for r in missed.remedies if "32 steps" in r.change.title).verdict == "cures"


def test_nothing_is_told_where_the_pass_is_off_or_finds_it_or_the_world_is_asked():
    assert inspected(only(shining_hall(depth=COPY), "before the wall")) == []
    assert inspected(hall("before the wall", fallback="world")) == []


def test_a_mirror_that_loses_the_door_is_told_and_cured_by_rays_into_the_world():
    build = mirror_room(depth=COPY, reflect={"enabled": True, "rays": 1, "steps": 128}, bounce={**BOUNCE, "fallback": "world"})
    (found,) = sweep(build, size=(480, 270)).findings
    assert found.code == "reflect.off-screen" and found.suspicion.subjects == ("panel",)
    assert found.remedies[0].verdict == "cures" and found.remedies[0].change.title == "reflect falls back on rays into the world"


@pytest.fixture(scope="module")
def gallery():
    return make_gallery()


@pytest.fixture(scope="module")
def swept(gallery):
    return sweep(gallery[0])


def test_in_the_gallery_exactly_the_seeded_causes_are_found_and_each_is_cured(gallery, swept):
    wanted = {(row["code"], row["cause"]) for row in gallery[1]["findings"]}
    assert {(f.code, f.suspicion.cause) for f in swept.findings} == wanted
    for row in gallery[1]["findings"]:
        found = next(f for f in swept.findings if f.code == row["code"])
        assert set(row["subjects"]) <= set(found.suspicion.subjects) and found.remedies[0].verdict == "cures"
    for row in gallery[1]["healthy"]:
        assert not any(row["subject"] in f.suspicion.subjects for f in swept.findings if f.code == row["twin_of"]), row


@pytest.mark.long
def test_a_line_up_on_the_dark_board_clears_it_with_what_the_sweep_offers(gallery, swept):
    found = next(f for f in swept.findings if f.code == "reflect.off-screen")
    spot = tuple(v // 2 for v in found.suspicion.regions["gauges"])
    result = line_up(gallery[0], "gauges", spot, "missing reflection", subject="gauge_board", size=(480, 270))
    said = {t.title: t for t in result.trials}
    cured = said["reflect falls back on rays into the world"]
    assert result.unit == "share" and result.base_score > 0.9 and cured.after < 0.05
    assert cured.verdict.startswith("clears it") and result.trials[0].title == cured.title
    assert all(t.verdict != "clears it" for t in result.trials if " steps" in t.title or "thick" in t.title), said


def test_reflections_that_take_the_wrong_thing_are_scored_by_it():
    """A post before a shining wall, in a polished floor: taken to be metres thick, it is met by what passes behind it."""
    wall = Thing("wall", Shape().quad((-6, 0, -8), (12, 0, 0), (0, 6, 0)), glow("wall", 50))
    post = Thing("post", Shape().box((-0.6, 0.6, -3.2), (0.6, 1.4, -3.0)), Material("post", (0.1, 0.1, 0.1, 1), **MATT))
    floor = Thing("floor", Shape().quad((-6, 0, 4), (12, 0, 0), (0, 0, -12)), Material("steel", metallic=1.0, roughness=0.0))
    shares = {}
    for thickness in (0.3, 6.0):
        setup = {
            "viewpoints": {"eye": looking((0, 1.5, 3), (0, 0.6, -4))}, "sky": {"ambient": False}, "depth": COPY,
            "reflect": {"enabled": True, "rays": 1, "steps": 128, "thickness_m": thickness},
        }  # fmt: skip
        build, renderer = build_of(wall, post, floor, setup=setup), Renderer()
        request = Request("eye", (480, 270), (150, 150, 330, 240))
        spot = make_spot(renderer.frame(build, request), request, 2)
        shares[thickness] = shares_of_mirrored(renderer, build, spot)
    assert shares[0.3][1] < 0.05 and shares[6.0][1] > shares[0.3][1] + 0.05, shares


def test_what_does_not_answer_light_from_around_is_not_blamed_on_the_pass():
    """Its base shader asks for none: the floor loses nothing that the pass could bring."""
    raw = {"shaders": {"deaf": {"answers": {"ambient": False}}}, "materials": {"floor": {"shader": "deaf"}}}
    assert inspected(only(shining_hall(bounce=BOUNCE, depth=COPY, **raw), "near")) == []
