"""Moves of a camera: through their keys, on a curve without cusps, turned evenly, cut where they say so; what is no move is refused."""

import json
import math

import numpy as np
import pytest
from scipy.interpolate import CubicHermiteSpline
from scipy.spatial.transform import Rotation

from eddyfall.core.errors import RequestError, SetupError
from eddyfall.core.frame.moves import MOST_POSES, between, path_of, stock_move
from eddyfall.core.frame.stage import make_camera
from eddyfall.core.scene.setup import parse_setup, read_setup
from eddyfall.demo.shapes import Shape
from light_rooms import looking
from scenes import Thing, build_of

EYES = {"a": (0.0, 1.6, 0.0), "b": (1.0, 1.6, 0.2), "c": (1.2, 1.8, 3.0), "d": (6.0, 1.5, 3.5)}
ASPECT = 16 / 9


def walk(**more):
    """Four keys a second or two apart, each with its own direction."""
    moments = {"a": 0.0, "b": 1.0, "c": 3.0, "d": 4.0}
    targets = {"a": (0, 1, -5), "b": (3, 1, -5), "c": (6, 0, 3), "d": (9, 3, 3)}
    views = {name: looking(eye, targets[name], 40 + 10 * k) for k, (name, eye) in enumerate(EYES.items())}
    keys = {name: {"t_s": t, "viewpoint": name, **more.get(name, {})} for name, t in moments.items()}
    keys["b"] = {"t_s": 1.0, "eye": list(EYES["b"]), "target": list(targets["b"]), "fov_y_deg": 50, **more.get("b", {})}
    setup = {"viewpoints": views, "moves": {"round": {"keys": keys, "rate_hz": 10}}}
    return build_of(Thing("floor", Shape().quad((-20, 0, 20), (40, 0, 0), (0, 0, -40))), setup=setup)


def test_a_move_stands_at_each_key_at_its_moment_and_is_looked_at_as_often_as_it_says():
    path = path_of(walk(), "round", ASPECT)
    assert path.viewpoint == "a" and len(path.moments) == 41 and path.moments[-1] == 4.0
    for t, name in ((0.0, "a"), (1.0, "b"), (3.0, "c"), (4.0, "d"), (-1.0, "a"), (9.0, "d")):
        expected = make_camera(walk(), name, ASPECT)
        assert np.allclose(path.at(t).eye, expected.eye, atol=1e-9) and np.allclose(path.at(t).axes, expected.axes, atol=1e-9)
        assert path.at(t).fov_y_rad == pytest.approx(expected.fov_y_rad)


@pytest.mark.parametrize("seed", range(5))
def test_the_curve_is_the_hermite_curve_of_its_centripetal_tangents(seed):
    """A Catmull-Rom segment with knots by the root of distance is the cubic through p1, p2 whose end tangents are those of the
    parabolas through three neighbours (Yuksel, Schaefer, Keyser 2011, from memory), here by SciPy's Hermite spline."""
    p = np.random.default_rng(seed).uniform(-3, 3, (4, 3))
    d = np.sqrt(np.linalg.norm(np.diff(p, axis=0), axis=1))
    m1 = (p[1] - p[0]) / d[0] - (p[2] - p[0]) / (d[0] + d[1]) + (p[2] - p[1]) / d[1]
    m2 = (p[2] - p[1]) / d[1] - (p[3] - p[1]) / (d[1] + d[2]) + (p[3] - p[2]) / d[2]
    spline = CubicHermiteSpline([0.0, d[1]], p[1:3], [m1, m2])
    for share in (0.0, 0.25, 0.5, 0.8, 1.0):
        assert between(*p, share) == pytest.approx(spline(share * d[1]), abs=1e-9)


def test_uneven_keys_on_a_line_are_passed_without_turning_back():
    """What the centripetal curve is for: neither cusp nor loop between two keys, where even knots overshoot."""
    p = [np.array([x, 0.0, 0.0]) for x in (0.0, 5.0, 5.1, 9.0)]
    x = [between(p[0], p[1], p[2], p[3], s)[0] for s in np.linspace(0, 1, 50)]
    assert (np.diff(x) > 0).all()
    assert between(None, p[1], p[1], None, 0.5) == pytest.approx(p[1]), "one that stands still stands still"


def test_between_keys_it_turns_evenly_about_one_axis():
    path, build = path_of(walk(), "round", ASPECT), walk()
    a, b = (Rotation.from_matrix(make_camera(build, name, ASPECT).axes) for name in "ab")
    whole = (b * a.inv()).magnitude()
    for share in (0.25, 0.5, 0.75):
        now = Rotation.from_matrix(path.at(share).axes)
        assert (now * a.inv()).magnitude() == pytest.approx(share * whole, abs=1e-9)
        assert (b * now.inv()).magnitude() == pytest.approx((1 - share) * whole, abs=1e-9)


def test_at_a_cut_the_camera_is_there_at_once_and_the_curve_before_does_not_know():
    cut = path_of(walk(c={"cut": True}), "round", ASPECT)
    assert cut.at(2.99).eye == EYES["b"] and cut.at(3.0).eye == EYES["c"]
    middle = np.array(cut.at(0.5).eye)
    assert middle == pytest.approx((np.array(EYES["a"]) + EYES["b"]) / 2, abs=1e-9), "two keys alone: a straight way"


def test_stock_moves_are_what_they_say():
    camera = make_camera(walk(), "a", ASPECT)
    side = lambda c: math.degrees(math.atan2(c.forward[0], -c.forward[2]))  # noqa: E731
    turn = stock_move("turn", "a", camera, 5.0)
    assert [round(side(turn.at(t)), 6) for t in (0, 1.5, 4.5, 6)] == [0, 45, -45, 0]
    assert all(turn.at(t).eye == camera.eye for t in turn.moments)
    sway = stock_move("sway", "a", camera, 5.0)
    assert [round(side(sway.at(t)), 6) for t in (1, 2, 3)] == [15, 0, -15] and len(sway.moments) == 121
    assert np.linalg.norm(np.array(sway.at(4).eye) - camera.eye) == pytest.approx(1.0) and sway.at(4).eye[1] == camera.eye[1]
    near = stock_move("sway", "a", camera, 1.2)
    assert np.linalg.norm(np.array(near.at(4).eye) - camera.eye) == pytest.approx(0.6), "not through the wall ahead"
    assert np.linalg.norm(np.array(stock_move("approach", "a", camera, 5.0).at(9).eye) - camera.eye) == pytest.approx(3.0)


KEY = {"eye": [0, 1, 0], "target": [0, 1, -1]}


@pytest.mark.parametrize(
    "move, says",
    [
        ({"keys": {"a": {"t_s": 0, **KEY}}}, "two keys at the least"),
        ({"keys": {"a": {"t_s": 1, **KEY}, "b": {"t_s": 1, **KEY}}}, "keys 'a' and 'b' are both at 1 s"),
        ({"keys": {"a": {"t_s": 0, "viewpoint": "gone"}, "b": {"t_s": 1, **KEY}}}, "'gone' is not in viewpoints"),
        ({"keys": {"a": {"t_s": 0}, "b": {"t_s": 1, **KEY}}}, "needs a viewpoint, or eye and target"),
        ({"keys": {"a": {"t_s": 0, "viewpoint": "v", **KEY}, "b": {"t_s": 1, **KEY}}}, "needs a viewpoint, or eye and target"),
        ({"keys": {"a": {"t_s": 0, "eye": [0, 0, 0]}, "b": {"t_s": 1, **KEY}}}, "both eye and target"),
        ({"keys": {"a": {"t_s": float("nan"), **KEY}, "b": {"t_s": 1, **KEY}}}, "t_s"),
        ({"keys": {"a": {"t_s": 0, **KEY}, "b": {"t_s": 1, **KEY}}, "rate_hz": 0}, "rate_hz"),
        ({"keys": {"a": {"t_s": 0, **KEY}, "b": {"t_s": 1, **KEY}}, "role": "night"}, "role 'night' is not in roles"),
    ],
)
def test_what_is_no_move_is_refused_and_named(move, says):
    with pytest.raises(SetupError) as refused:
        parse_setup(
            {"eddyfall_setup": 1, "viewpoints": {"v": {"eye": [0, 1, 0], "target": [0, 1, -1]}}, "moves": {"round": move}}
        )
    assert says in str(refused.value) and "moves.round" in str(refused.value)


def test_keys_follow_each_other_by_their_moments_but_a_file_that_mixes_them_up_is_refused(tmp_path):
    setup = {
        "eddyfall_setup": 1,
        "moves": {"round": {"keys": {"late": {"t_s": 2, **KEY}, "a": {"t_s": 1, **KEY, "eye": [9, 1, 0]}}}},
    }
    assert [name for name, _ in parse_setup(setup).moves["round"].in_time] == ["a", "late"], "as a database gives it back"
    path = tmp_path / "x.setup.json"
    path.write_text(json.dumps(setup))
    with pytest.raises(
        SetupError, match=r"x\.setup\.json: moves\.round\.keys: key 'a' at 1 s is written after key 'late' at 2 s"
    ):
        read_setup(path)


def test_a_move_that_is_not_there_or_too_long_is_refused():
    with pytest.raises(RequestError, match=r"'flight' does not exist; there are: round, turn, approach, sway"):
        path_of(walk(), "flight", ASPECT)
    with pytest.raises(RequestError, match=f"at most {MOST_POSES}"):
        path_of(walk(d={"t_s": 1000.0}), "round", ASPECT)
