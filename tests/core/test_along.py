"""A move looked along: what is forecast beside what is drawn at every pose, what drifts and what does not, and what can help."""

import math
from dataclasses import replace

import numpy as np
import pytest

from eddyfall.core.bake.maps.run import bake
from eddyfall.core.errors import RequestError
from eddyfall.core.frame.moves import path_of
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.scene.model import Material
from eddyfall.core.truth.moving.along import Asked, along, move_of, spot_of
from eddyfall.core.truth.reference.classes import BEHIND, CLASSES, OFF, ON
from eddyfall.core.truth.reference.where import where_light
from eddyfall.demo.shapes import Shape
from light_rooms import FRAME, MATT, SPOT, glow, looking, shining_hall
from scenes import Thing, build_of

SIZE = (480, 270)
BOUNCE = {"enabled": True, "steps": 128, "rays": 4}
VISIT = {
    "a": {"t_s": 0, "viewpoint": "turned 30"}, "b": {"t_s": 1, "viewpoint": "turned 42"}, "c": {"t_s": 3, "viewpoint": "near"},
    "d": {"t_s": 4, "viewpoint": "before the wall"},
}  # fmt: skip


def visited(keys=VISIT, **setup):
    bounce = {"bounce": BOUNCE, "depth": {"copy_from": "opaque"}, **setup}
    return shining_hall(moves={"visit": {"keys": keys, "rate_hz": 10}}, **bounce)


def looked_along(build, size=SIZE, **asked):
    path = path_of(build, "visit", size[0] / size[1])
    return along(Renderer(), build, Asked(path=path, request=Request(path.viewpoint, size), **asked))


@pytest.fixture(scope="module")
def visit():
    return looked_along(visited(), at=SPOT, every=2)


@pytest.mark.long
def test_light_on_the_frame_is_forecast_as_each_pose_has_it(visit):
    """Against rays classified in a frame of each pose, which knows nothing of what was followed before."""
    build = visited()
    path = path_of(build, "visit", FRAME[0] / FRAME[1])
    for k in (0, 7, 14, 22, 30, 38):
        request = Request(path.viewpoint, FRAME, camera=path.at(visit.t_s[k]))
        true = where_light(Renderer(), build, request, at=SPOT, samples=4096)
        if visit.seen[k] == 0:
            continue
        on_frame = visit.light[k, ON] + visit.due[k] - visit.light[k].sum()
        due = true.row("on the frame").bounce + true.due - true.from_others
        assert math.log2(on_frame / due) == pytest.approx(0.0, abs=0.05), k


def test_a_walk_up_to_the_wall_drifts_as_its_view_factors_say(visit):
    """Shares of the wall's light that are on the frame (a polygon's view factor, Lambert 1760): .870, .527, .392, none."""
    drawn = np.flatnonzero(np.isfinite(visit.measured))
    assert visit.due[0] / 0.5 * math.pi == pytest.approx(208.7, rel=0.02)
    for t, stops in ((0.0, -0.16), (1.0, -0.70), (3.0, -0.98), (4.0, -2.38)):
        k = int(np.argmin(np.abs(visit.t_s - t)))
        assert math.log2(visit.measured[k] / visit.due[k]) == pytest.approx(stops, abs=0.08)
        assert math.log2(visit.predicted[k] / visit.due[k]) == pytest.approx(stops, abs=0.08)
    assert np.abs(np.log2(visit.predicted[drawn] / visit.measured[drawn])).max() < 0.12
    worst_drawn = drawn[np.argmin(visit.measured[drawn] / visit.due[drawn])]
    assert abs(visit.worst - worst_drawn) <= 1 and not visit.holds
    assert visit.drift == pytest.approx(2.22, abs=0.12) and visit.measured_drift == pytest.approx(2.22, abs=0.12)


def test_why_and_from_when_on_and_that_no_margin_helps_where_all_is_behind(visit):
    assert visit.cause == CLASSES[BEHIND]
    (first, _), *_ = visit.exceeds
    shares = visit.light[:, ON] + visit.due - visit.light.sum(axis=1)
    lost = np.log2(shares / np.nanmax(shares))
    assert first == pytest.approx(visit.t_s[np.flatnonzero(lost < -0.25)[0]], abs=0.11)
    helps = {h.remedy: h for h in visit.helps}
    assert not any(h.enough for name, h in helps.items() if not name.startswith("a bake"))
    assert helps["a bake, a probe, rays into the world"].enough


def test_a_margin_helps_where_what_is_lost_lies_beside_the_frame():
    keys = {"a": VISIT["a"], "b": {"t_s": 1, "viewpoint": "turned 42"}}
    found = looked_along(visited(keys), at=SPOT)
    assert found.cause == CLASSES[OFF] and found.exceeds
    margin = next(h for h in found.helps if h.remedy.startswith("a margin"))
    assert margin.enough
    px = int(margin.remedy.split()[3])
    cured = looked_along(visited(keys, bounce={**BOUNCE, "margin_px": px}), at=SPOT)
    assert cured.holds and cured.measured_drift <= 0.25
    assert cured.measured_drift == pytest.approx(margin.drift, abs=0.1), "what the forecast of the remedy says is then drawn"


@pytest.mark.long
def test_what_does_not_change_does_not_drift():
    still = {"a": VISIT["c"] | {"t_s": 0}, "b": VISIT["c"] | {"t_s": 1}}
    found = looked_along(visited(still), at=SPOT, every=5)
    assert found.drift < 0.02 and found.measured_drift < 0.02 and found.holds and not found.exceeds and found.cause == ""
    no_bounce = looked_along(visited(bounce={"enabled": False}), at=SPOT, every=10)
    assert no_bounce.holds and no_bounce.drift < 1e-6, "darker than is due at every moment by the same"
    assert math.log2(no_bounce.measured[0] / no_bounce.due[0]) == pytest.approx(-2.38, abs=0.05)
    world = looked_along(visited(bounce={**BOUNCE, "fallback": "world"}), at=SPOT, every=10)
    assert world.holds and world.measured_drift < 0.1


@pytest.mark.long
def test_light_that_lies_in_a_lightmap_does_not_drift():
    build = visited(bake={"resolution": 64, "samples": 256}, meshes={"floor": {"lightmap_uv": 0}})
    found = looked_along(bake(build).build, at=SPOT, every=10)
    assert found.holds and found.measured_drift < 0.05


def test_what_comes_into_the_frame_is_no_drift():
    """A bright crate on the floor that a turn brings into the frame: anchors stay what they were."""
    things = [
        Thing("floor", Shape().quad((-20, 0, 20), (40, 0, 0), (0, 0, -40)), Material("floor", (0.2, 0.2, 0.2, 1), **MATT)),
        Thing("lamp", Shape().quad((6, 0.1, -4), (2, 0, 0), (0, 1, 0)), glow("lamp", 900)),
    ]
    keys = {"a": {"t_s": 0, "viewpoint": "eye"}, "b": {"t_s": 1, "eye": [0, 1.6, 0], "target": [2, 0.4, -4]}}
    setup = {
        "viewpoints": {"eye": looking((0, 1.6, 0), (0, 0.4, -4))}, "moves": {"visit": {"keys": keys, "rate_hz": 8}},
        "lights": {"sun": {"kind": "sun", "illuminance_lux": 30.0, "towards": [0, 1, 0]}},
    }  # fmt: skip
    found = looked_along(build_of(*things, setup=setup), every=2, anchors=48)
    assert found.holds and found.measured_drift < 0.05 and 0 < found.seen[-1] < found.seen[0]


def test_a_stock_move_starts_at_its_viewpoint():
    build, request = visited(), Request("near", SIZE)
    path = move_of(Renderer(), build, "approach", "near", request)
    gone = np.linalg.norm(np.array(path.at(4).eye) - path.at(0).eye)
    assert gone == pytest.approx(0.6 * 3.4, rel=0.1), "six tenths of the way to what lies ahead"
    with pytest.raises(RequestError, match="starts at a viewpoint"):
        move_of(Renderer(), build, "sway", None, request)


@pytest.mark.parametrize(
    "asked, says",
    [
        ({"at": (90.0, 0.0, 0.0)}, "no surface"), ({"samples": 0}, "samples"), ({"anchors": 0}, "anchors"), ({"every": 0}, "at least 1"),
        ({"limit_stops": 0.0}, "limit"), ({"at": (0.0, 2.9, 9.5)}, "in sight at no moment"),
    ],
)  # fmt: skip
def test_what_cannot_be_looked_at_is_said(asked, says):
    with pytest.raises(RequestError, match=says):
        looked_along(visited({"a": VISIT["d"] | {"t_s": 0}, "b": VISIT["d"] | {"t_s": 1}}), **asked)


def test_it_can_be_ended_between_poses():
    class Ended(Exception):
        pass

    def end(what, share):
        raise Ended

    build = visited()
    path = path_of(build, "visit", 16 / 9)
    with pytest.raises(Ended):
        along(Renderer(), build, replace(Asked(path=path, request=Request(path.viewpoint, SIZE)), at=SPOT), end)


def test_a_region_of_a_viewpoint_is_followed_along_a_move_that_starts_elsewhere():
    """Anchors are of what the viewpoint shows, wherever the move begins; what is drawn has both ends of the range."""
    keys = {"a": VISIT["a"], "b": VISIT["c"] | {"t_s": 1}}
    build, request = visited(keys), Request("near", SIZE, (200, 110, 280, 160))
    path = path_of(build, "visit", SIZE[0] / SIZE[1])
    spot = spot_of(build, "visit", "near", request)
    found = along(Renderer(), build, Asked(path=path, request=request, spot=spot, anchors=16))
    assert np.abs(np.array(found.spot) - SPOT).max() < 1.5, "before the eye of near, not of the move's beginning"
    drawn = np.flatnonzero(np.isfinite(found.measured))
    ends = {int(np.nanargmax(found.away)), int(np.nanargmin(found.away))}
    assert ends <= set(drawn.tolist()) and found.measured_drift == pytest.approx(found.drift, abs=0.1)
    assert spot_of(build, "sway", "near", request) is None and spot_of(build, "visit", None, request) is None
