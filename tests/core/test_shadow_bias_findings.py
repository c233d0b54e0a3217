"""A bias of none and one of too much are findings, each cured by what is offered; a bias between them is neither."""

import numpy as np
import pytest

from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.scene.changes import apply_change, set_leaf
from eddyfall.core.sweep import sweep
from eddyfall.core.truth.autopsy import shadow_autopsy
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of, merged
from sizes import of_many

RENDERER = Renderer()
SIZE = (480, 270)
FLOOR = Shape().quad((-20, 0, 5), (40, 0, 0), (0, 0, -45))


def yard(sun=None, towards=(0.0, 0.5, -0.866), thick=0.05, **setup):
    """A floor with a board on edge and a crate, the sun behind them, looked at from near by."""
    raw = {
        "viewpoints": {"eye": {"eye": [0, 2, -1.0], "target": [0, 0, -5.0], "fov_y_deg": 50}},
        "lights": {"sun": {"kind": "sun", "illuminance_lux": 10.0, "towards": list(towards), **(sun or {})}},
        "shadow": {"near_m": 0.5, "cascades": 1, "reach_m": 20.0, "resolution": 2048},
    }
    board = Thing("board", Shape().box((-1.5, 0, -5 - thick), (0.5, 1.0, -5), 1.0))
    crate = Thing("crate", Shape().box((1.0, 0, -4.9), (1.8, 0.8, -4.2), 1.0))
    return build_of(Thing("floor", FLOOR), board, crate, setup=merged(raw, setup))


def found_in(build):
    return {f.code: f for f in sweep(build, size=SIZE, renderer=RENDERER).findings if f.code.startswith("shadow.")}


def test_no_bias_is_acne_of_its_light_and_every_way_that_is_offered_cures_it():
    found = found_in(yard({"bias_normal_texels": 0.0}))
    assert set(found) == {"shadow.acne"}
    acne = found["shadow.acne"]
    assert acne.suspicion.cause == "lights.sun" and acne.suspicion.value > 10_000
    assert len(acne.remedies) >= 3 and {r.verdict for r in acne.remedies} == {"cures"}
    assert all("sun: " in r.change.title and not r.new_findings for r in acne.remedies)


def test_too_much_is_detached_by_what_can_be_reckoned_and_its_remedies_do_not_bring_acne():
    found = found_in(yard({"bias_normal_texels": 0.0, "bias_mm": 400.0}))
    assert set(found) == {"shadow.detached"}
    detached = found["shadow.detached"]
    # b sin(theta) less the board's own thickness: the map holds the face that the sun meets, 50 mm farther back.
    assert detached.suspicion.cause == "lights.sun"
    assert detached.suspicion.value == pytest.approx(400 * 0.866 - 50, rel=0.1) and detached.suspicion.limit >= 20
    said = {r.change.title: r.verdict for r in detached.remedies}
    assert {v for t, v in said.items() if "march" not in t} == {"cures"}, "a bias that keeps contact and shades nothing"
    assert {v for t, v in said.items() if "march" in t} == {"masks"}, "in the frame, not in the maps"
    assert not detached.best.new_findings


def test_the_twin_between_them_and_the_projects_own_bias_are_silent():
    solved = found_in(yard({"bias_normal_texels": 0.0}))["shadow.acne"].best.change
    assert found_in(apply_change(yard({"bias_normal_texels": 0.0}), solved)) == {}
    assert found_in(yard()) == {}


def test_in_random_yards_the_planted_bias_is_named_and_the_twin_is_silent():
    rng, named = np.random.default_rng(12), 0
    for number in range(of_many(12, 4)):
        up, around = np.radians(rng.uniform(30, 50)), rng.uniform(-0.6, 0.6)
        towards = [float(np.sin(around) * np.cos(up)), float(np.sin(up)), float(-np.cos(around) * np.cos(up))]
        own = {"bias_normal_texels": 0.0}
        planted = own if number % 2 else {**own, "bias_mm": float(rng.uniform(400, 700))}
        found = found_in(yard(planted, towards, thick=float(rng.uniform(0.03, 0.1))))
        named += set(found) == {"shadow.acne" if number % 2 else "shadow.detached"}
        assert found_in(yard({**own, "bias_slope": 3.0}, towards)) == {}, towards
    assert named >= of_many(11, 4), named


def test_an_autopsy_names_the_lights_own_bias_and_its_critical_value_holds():
    build = yard({"bias_normal_texels": 0.0, "bias_mm": 400.0})
    at = (200, 141)  # on the floor, a hand before the board
    sun = shadow_autopsy(RENDERER, build, Request("eye", SIZE), *at).lights[0]
    assert sun.due and sun.drawn >= 0.5 and sun.caster == "board", sun
    test = next(t for t in sun.tests if t.leaf == "lights.sun.bias_mm")
    assert not test.passed and test.unit == "mm" and test.value == 400.0 and 0 < test.critical < 400.0
    for share, dark in ((0.97, True), (1.05, False)):
        change = set_leaf(build, ("lights", "sun", "bias_mm"), test.critical * share, scope="node", title="t")
        frame = RENDERER.frame(apply_change(build, change), Request("eye", SIZE), "lit")
        assert (frame.buffers["sun_visibility"][at[1], at[0]] < 0.5) == dark, (share, test.critical)
    assert sun.retried is not None and sun.retried.drawn < 0.5


def test_a_larger_filter_over_acne_is_a_mask():
    """It blurs the specks, and the surface shades itself as before."""
    build = yard(shadow={"bias_texels": 0.0, "filter_px": 1})
    acne = found_in(build)["shadow.acne"]
    said = {r.change.title: r.verdict for r in acne.remedies}
    assert acne.suspicion.cause == "shadow.bias_texels" and said.pop("shadow filter 3 x 3") == "masks"
    assert set(said.values()) == {"cures"}
