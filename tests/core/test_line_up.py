"""Line-up: single changes on a spot, each really rendered, ranked by what they do and break."""

from dataclasses import replace

import numpy as np
import pytest

from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import Request, render
from eddyfall.core.lineup import line_up
from eddyfall.core.lineup.run import MOST_TRIALS
from eddyfall.core.scene.changes import SCOPE_ORDER, apply_change, set_leaf
from eddyfall.core.sweep.proof import prove
from eddyfall.demo.shapes import Shape
from eddyfall.demo.walk import worst_spot
from scenes import GREY, Thing, build_of, merged, net_build

NET_SPOT = (150, 60, 80, 60)


def title(result, text):
    found = [t for t in result.trials if text in t.title]
    assert len(found) == 1, [t.title for t in result.trials]
    return found[0]


@pytest.fixture(scope="module")
def nets(demo, demo_sweep, renderer):
    view, spot = worst_spot(demo_sweep, "depth.missing-prepass")
    return line_up(demo, view, spot, "see-through", renderer=renderer), view, spot


def test_on_the_net_the_prepass_comes_first_and_breaks_nothing(nets):
    result = nets[0]
    first = result.trials[0]
    assert first.title.startswith("write prepass depth")
    assert first.verdict == "clears it" and first.collateral == 0
    assert first.also_changed > 0, "the nets elsewhere share the cause"
    for switched in ("fog off", "no depth copy"):
        assert title(result, switched).verdict == "clears it but breaks something else"
        assert title(result, switched).collateral > 0.01
    opaque = title(result, "depth copy from: opaque")
    if opaque.verdict == "clears it":
        assert SCOPE_ORDER.index(opaque.change.scope) > SCOPE_ORDER.index(first.change.scope)


def test_alpha_shadow_and_blend_are_ruled_out(nets):
    result = nets[0]
    for lever in result.trials:
        if lever.pass_name in ("shadow", "direct", "blended"):
            assert lever.verdict == "no effect", lever.title
    assert any(t.pass_name == "shadow" for t in result.trials)
    alpha = [t for t in result.trials if "alpha" in t.title or "cutout" in t.title or "blend" in t.title]
    assert alpha and all(t.verdict == "no effect" for t in alpha)


def test_each_picture_is_a_real_render_of_the_changed_build(nets, demo, renderer):
    result, view, (x, y, w, h) = nets
    for trial in result.trials:
        if trial.change is None:
            continue
        fresh = render(apply_change(demo, trial.change), view, crop=(x, y, x + w, y + h), memo=renderer.memo)
        np.testing.assert_array_equal(trial.picture, fresh.display)


def test_ranked_by_verdict_then_collateral_then_scope(nets):
    from eddyfall.core.lineup.run import VERDICTS

    order = [(VERDICTS.index(t.verdict), round(t.collateral, 4)) for t in nets[0].trials]
    assert order == sorted(order)
    assert len(nets[0].trials) <= MOST_TRIALS


def test_identity_is_confirmed_and_changes_nothing_else(nets):
    paint = next(t for t in nets[0].trials if t.verdict == "confirms identity")
    assert paint.change is None and paint.before == paint.after


def test_the_score_is_the_spread_over_what_stands_behind():
    # Net of the worked case of netting that looks see-through: .30 at 12 m; behind it bank at 85 m, and by the plate 0.5 m
    # behind, and the sky.
    result = line_up(net_build(), "eye", NET_SPOT, "see-through", size=(320, 180))
    t = lambda d: np.exp(-0.03 * d)  # noqa: E731
    fogged = lambda d: t(d) * 0.30 + (1 - t(d)) * 0.66  # noqa: E731
    plate, sky = fogged(12.5), 0.66
    assert result.base_score == pytest.approx(sky - plate, abs=0.01)
    assert result.trials[0].title.startswith("write prepass depth")
    assert result.trials[0].after == pytest.approx(0, abs=1e-3)


def test_a_healthy_net_scores_nothing():
    healthy = net_build(shaders={"net": {"passes": {"depth": True}}})
    result = line_up(healthy, "eye", NET_SPOT, "see-through", size=(320, 180))
    assert result.base_score < 1e-3
    assert all(t.verdict in ("no effect", "confirms identity") for t in result.trials)


def test_a_copy_set_by_a_target_is_tried_where_it_wins():
    build = net_build(
        depth={"near_m": 0.05, "copy_from": "opaque"}, targets={"slate": {"set": {"depth": {"copy_from": "prepass"}}}}
    )
    result = line_up(build, "eye", NET_SPOT, "see-through", size=(320, 180), target="slate")
    trial = title(result, "depth copy from: opaque")
    assert trial.change.scope == "target" and trial.after == pytest.approx(0, abs=1e-3)


@pytest.mark.long
def test_missing_shadow_of_the_far_pier_is_cleared_by_reach_and_not_by_resolution(demo, demo_sweep, renderer):
    found = next(f for f in demo_sweep.findings if f.code == "shadow.out-of-reach")
    view = found.impact.viewpoint
    x, y, w, h = found.suspicion.regions[view]
    result = line_up(demo, view, (x, y, w, h), "missing shadow", renderer=renderer)
    cleared = [t.title for t in result.trials if t.verdict.startswith("clears it")]
    assert any("shadow reach" in t for t in cleared) or any("far tier" in t for t in cleared), [
        (t.title, t.verdict, t.before, t.after) for t in result.trials
    ]
    # What is ranked first really ends the finding, everywhere: the far tier reaches the shadow, not only what casts it.
    first = result.trials[0]
    cause = frozenset(found.suspicion.subjects)
    proof = prove(demo, apply_change(demo, first.change), cause, found.fingerprint, renderer=renderer)
    assert proof.proved, (first.title, proof.why)
    finer = [t for t in result.trials if t.title == "finer shadow maps"]
    assert all(t.verdict == "no effect" for t in finer)


def test_trials_arrive_as_they_finish():
    seen = []
    result = line_up(net_build(), "eye", NET_SPOT, "see-through", size=(320, 180), on_trial=seen.append)
    assert sorted(t.title for t in seen) == sorted(t.title for t in result.trials)


@pytest.mark.parametrize(
    ("options", "words"),
    [
        ({"symptom": "ugly"}, "there are: "),
        ({"spot": (300, 0, 40, 40)}, "does not lie"),
        ({"spot": (0, 0, 0, 4)}, "does not lie"),
        ({"viewpoint": "no"}, "viewpoint 'no'"),
        ({"subject": "no"}, "drawable 'no'"),
        ({"spot": (310, 60, 10, 10)}, "nothing solid"),
    ],
)
def test_what_cannot_be_tried_is_one_error(options, words):
    arguments = {"viewpoint": "eye", "spot": NET_SPOT, "symptom": "see-through", **options}
    build = net_build()
    if "nothing solid" in words:
        build = apply_change(build, set_leaf(build, ("nodes", "fender_net", "drawn"), False, scope="node", title="t"))
    with pytest.raises(RequestError, match=words):
        line_up(build, size=(320, 180), **arguments)


def test_a_render_is_asked_of_the_window_only(nets):
    _, _, (_, _, w, h) = nets
    assert nets[0].base_picture.shape[:2] == (h, w)
    assert Request("quay").window == (0, 0, 960, 540)


def awning_build(**setup):
    """A floor under an awning that does not cast; five posts far off do not cast either, and come first in the file."""
    posts = [Thing(f"post{i}", Shape().box((20 + i, -1, -30), (20.2 + i, 2, -29.8))) for i in range(5)]
    floor = Thing("floor", Shape().quad((-10, -1.5, -1), (20, 0, 0), (0, 0, -25)))
    awning = Thing("awning", Shape().box((-2, 1, -12), (2, 1.1, -8)))
    return build_of(
        *posts, floor, awning,
        setup=merged(
            {
                "nodes": {f"post{i}": {"casts": False} for i in range(5)},
                "lights": {"sun": {"kind": "sun", "illuminance_lux": 3.0, "towards": [0.0, 1.0, 0.05]}},
                "shadow": {"reach_m": 40.0},
                "viewpoints": {"eye": {"eye": [0, 2, 2], "target": [0, -1, -12], "fov_y_deg": 50}},
            },
            setup,
        ),
    )  # fmt: skip


@pytest.mark.parametrize(
    ("switch", "first"),
    [
        ({"nodes": {"awning": {"casts": False}}}, "let awning cast"),
        ({"nodes": {"floor": {"receives": False}}}, "let floor receive shadows"),
        ({"shaders": {"cloth": {"passes": {"shadow": False}}}, "materials": {"cloth": {"shader": "cloth"}}}, "give cloth a shadow pass"),
    ],
)  # fmt: skip
def test_a_switch_that_keeps_a_shadow_out_is_found_among_many(switch, first):
    build = awning_build(**switch)
    if "shaders" in switch:
        cloth = replace(GREY, name="cloth")
        parts = (*build.scene.materials, cloth)
        awning = build.scene.meshes[-1]
        mesh = replace(awning, primitives=(replace(awning.primitives[0], material=len(parts) - 1),))
        build = replace(build, scene=replace(build.scene, materials=parts, meshes=(*build.scene.meshes[:-1], mesh)))
    result = line_up(build, "eye", (380, 330, 200, 120), "missing shadow", subject="floor")
    assert result.base_score > 0.05, "what ought to be dark is lit"
    assert result.trials[0].title == first and result.trials[0].verdict == "clears it", [
        (t.title, t.verdict, t.after) for t in result.trials
    ]
    assert not [t.title for t in result.trials if t.title.startswith("let post")]
