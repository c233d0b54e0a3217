"""Proof of a repair: what ends, what is left, what else moves, from every viewpoint and role."""

import numpy as np
import pytest
from scipy.ndimage import distance_transform_cdt

from bake_scenes import UNIT_PAGE, baked_setup, matt, panel
from eddyfall.core.bake.maps.run import bake
from eddyfall.core.defects.depth_prepass import CODE
from eddyfall.core.defects.survey import SIGNAL_RGB
from eddyfall.core.frame.render import Renderer, render
from eddyfall.core.handover.documents.proofs import ProofDocument
from eddyfall.core.scene.changes import apply_change, set_leaf
from eddyfall.core.scene.model import Material
from eddyfall.core.sweep import sweep
from eddyfall.core.sweep.proof import prove, sharing
from eddyfall.core.sweep.run import OUTLINE_PX
from eddyfall.demo.shapes import Shape
from glass_scenes import two_panes
from layer_scenes import mist_and_cutter
from light_rooms import MATT, shining_hall
from light_rooms import VIEWS as VIEWS_OF_HALL
from scenes import Thing, build_of, net_build

SIZE = (320, 180)
VIEWS = {
    "eye": {"eye": [0, 0, 0], "target": [0, 0, -1], "fov_y_deg": 4},
    "aside": {"eye": [0, 30, 0], "target": [0, 30, 1], "fov_y_deg": 40},
    "edit": {"eye": [0, 0, 0], "target": [0, 0, -1], "fov_y_deg": 4, "role": "edit"},
}


@pytest.fixture(scope="module")
def net():
    build = net_build(viewpoints=VIEWS, roles={"edit": {"set": {"depth": {"copy_from": "opaque"}}}, "play": {}})
    [found] = [f for f in sweep(build, size=SIZE).findings if f.code == CODE]
    return build, found


def test_a_sweep_tells_what_it_measured_and_then_each_cause_as_it_is_proved():
    told = []
    result = sweep(net_build(viewpoints=VIEWS), size=SIZE, on_found=told.append)
    first = [u.suspicion.fingerprint for u in told if u.finding is None]
    proved = {u.finding.fingerprint: u.finding for u in told if u.finding is not None}
    assert set(first) == set(proved) == {f.fingerprint for f in result.findings} and len(told) == 2 * len(result.findings)
    assert all(u.finding is None for u in told[: len(first)]), "what was measured is told before anything is proved"
    for found in result.findings:
        known = proved[found.fingerprint]
        assert (known.severity, known.impact, known.remedies) == (found.severity, found.impact, found.remedies)


def proof_of(net, path, value, scope="shader"):
    build, found = net
    after = apply_change(build, set_leaf(build, path, value, scope=scope, title="t"))
    cause = sharing(Renderer(), build, "fender_net")
    return prove(build, after, cause, found.fingerprint, size=SIZE, renderer=Renderer())


def test_the_repair_is_proved_and_moves_only_the_net(net):
    proof = proof_of(net, ("shaders", "net", "passes", "depth"), True)
    assert proof.proved and proof.made == () and len(proof.ended) == 1
    assert proof.left == ("aside: nothing is drawn, it looks past everything",)
    eye, aside, edit = proof.views
    assert eye.on_cause == eye.changed > 0.1 and eye.elsewhere == 0
    assert set(eye.siblings) == {"fender_net"} and eye.siblings["fender_net"] == round(eye.on_cause * SIZE[0] * SIZE[1])
    assert aside.changed == 0 and aside.siblings == {}
    assert edit.role == "edit" and edit.changed == 0, "where the copy is taken after the opaque pass nothing was wrong"


def test_a_cure_that_changes_the_rest_is_not_proved(net):
    proof = proof_of(net, ("fog", "enabled"), False, "project")
    assert not proof.proved and "changes away from the cause" in proof.why and len(proof.ended) == 1
    assert max(v.elsewhere for v in proof.views) > 0.1


def test_a_change_that_cures_nothing_is_not_proved(net):
    proof = proof_of(net, ("shadow", "bias_texels"), 3.0, "project")
    assert not proof.proved and proof.why == "the finding is still there" and len(proof.left) == 2


def test_it_is_plain_json(net):
    import json

    document = json.loads(ProofDocument.from_core(proof_of(net, ("shaders", "net", "passes", "depth"), True)).model_dump_json())
    assert {"proved", "why", "ended", "left", "made", "views", "moves"} == set(document)
    assert {"viewpoint", "role", "changed", "on_cause", "elsewhere", "siblings", "shadow_edges", "light_truer"} == set(
        document["views"][0]
    )
    assert np.isfinite(document["views"][0]["changed"])


def test_a_finding_without_a_picture_of_its_own_shows_its_subject_outlined():
    # A floor outside every focus region is told by numbers alone.
    floor = panel("floor", (-4, -1, -6), (8, 0, 0), (0, 0, -6), matt("floor", 0.5), UNIT_PAGE)
    post = Thing("post", Shape().box((-1, -1, -9), (0, 2, -8)), matt("post", 0.5))
    setup = {
        **baked_setup([floor], resolution=16, samples=4),
        "sky": {"zenith_rgb": [1, 1, 1], "horizon_rgb": [1, 1, 1]},
        "focus_regions": {"hall": {"low_m": [50, 0, 0], "high_m": [60, 5, 5]}},
        "viewpoints": {"eye": {"eye": [0, 3, 0], "target": [0, -1, -8], "fov_y_deg": 50}},
    }
    build = bake(build_of(floor, post, setup=setup)).build
    result = sweep(build, size=(320, 180))
    found = next(f for f in result.findings if f.code == "bake.uncovered")
    assert all(e.picture is None for e in found.evidence)
    frame = render(build, "eye", size=(320, 180))
    subject = frame.drawable == [d.name for d in frame.geometry.drawables].index("floor")
    marked = (found.picture == np.array(SIGNAL_RGB)).all(axis=2)
    # A line along the inner side of its border: how far each pixel lies within is counted in steps by SciPy.
    steps = distance_transform_cdt(np.pad(subject, 1), "taxicab")[1:-1, 1:-1]
    assert np.array_equal(marked, subject & (steps <= OUTLINE_PX)) and 200 < marked.sum() < subject.sum() / 2


def test_light_from_around_that_gets_truer_elsewhere_is_counted_apart_and_what_gets_worse_is_not():
    """Rays into the world light a small thing beside the floor, too, which no finding names; a pass that is off would darken it."""
    crate = Thing("crate", Shape().box((3.6, 0.0, 5.2), (4.4, 0.6, 5.8)), Material("crate", (0.5, 0.5, 0.5, 1), **MATT))
    hall = shining_hall(crate, bounce={"enabled": True, "steps": 64, "rays": 8}, depth={"copy_from": "opaque"})
    hall = hall.with_setup(hall.setup.model_copy(update={"viewpoints": {"near": hall.setup.viewpoints["near"]}}))
    renderer = Renderer()
    truer, worse = (
        prove(hall, apply_change(hall, set_leaf(hall, ("bounce", leaf), value, scope="project", title="t")), frozenset({"floor"}),
              size=(480, 270), renderer=renderer).views[0]
        for leaf, value in (("fallback", "world"), ("enabled", False))
    )  # fmt: skip
    assert truer.light_truer > 0.005 and truer.elsewhere < 0.001
    assert worse.light_truer == 0 and worse.elsewhere > 0.002


@pytest.mark.long
def test_a_proof_goes_along_the_moves_of_the_set_up():
    """Up to the shining wall the floor loses what gives it its light; with rays into the world it does not. The way back is refused."""
    keys = {"a": {"t_s": 0, "viewpoint": "near"}, "b": {"t_s": 1, "eye": [1.5, 1.6, 6.0], "target": [3.0, 0.0, 6.0]}}
    bounce = {"enabled": True, "steps": 64, "rays": 4}
    moves = {"walk": {"keys": keys, "rate_hz": 5}}
    shown = {"viewpoints": {"near": VIEWS_OF_HALL["near"]}, "exposure": {"mode": "fixed", "ev100": 7}}
    frame = {"depth": {"copy_from": "opaque"}, "moves": moves, **shown}
    lost, found = (shining_hall(bounce={**bounce, "fallback": fallback}, **frame) for fallback in ("nothing", "world"))
    proof = prove(lost, found, frozenset({"floor"}), size=SIZE, renderer=Renderer())
    (walk,) = proof.moves
    assert (walk.move, walk.surface) == ("walk", "floor") and walk.before > 0.8 and walk.after < 0.25
    assert proof.proved and "floor no longer drifts along walk" in proof.why
    back = prove(found, lost, frozenset({"floor"}), size=SIZE, renderer=Renderer())
    assert not back.proved and ("further off along walk" in back.why or "new finding" in back.why) and back.moves[0].worse
    assert ProofDocument.from_core(proof).moves[0].after == walk.after
    # A margin lifts the frame from near by, and nothing before the wall: it drifts more, and is nowhere worse.
    wide = shining_hall(bounce={**bounce, "margin_px": 128}, **frame)
    lifted = prove(lost, wide, frozenset({"floor"}), size=SIZE, renderer=Renderer())
    assert lifted.proved and lifted.moves[0].after > lifted.moves[0].before and not lifted.moves[0].worse
    still = prove(shining_hall(**shown, moves=moves), found, frozenset(), size=SIZE, renderer=Renderer())
    assert still.moves == ()


def test_what_is_blended_or_behind_glass_is_where_it_lies_and_not_elsewhere(renderer):
    """A rank for the card that cuts changes what lies under it alone; a second layer shows the pane behind, whose loss is named though it
    is too slight to be seen in a picture."""
    build = mist_and_cutter(-1.0)
    ranked = apply_change(build, set_leaf(build, ("nodes", "cutter", "draw_rank"), 1, scope="node", title="t"))
    proof = prove(build, ranked, frozenset({"cutter"}), size=SIZE, renderer=renderer)
    assert proof.proved and proof.views[0].on_cause > 0.02 and proof.views[0].elsewhere == 0, proof.why
    panes = two_panes()
    peeled = apply_change(panes, set_leaf(panes, ("refract", "layers"), 2, scope="project", title="t"))
    proof = prove(panes, peeled, frozenset({"far_pane"}), size=SIZE, renderer=renderer)
    assert (
        proof.proved and proof.views[0].elsewhere == 0 and proof.ended == ("far_pane is not seen through near_pane: in no copy",)
    )
    tinted = two_panes(materials={"far glass": {"transmission": 0.2}})
    peeled = apply_change(tinted, set_leaf(tinted, ("refract", "layers"), 2, scope="project", title="t"))
    proof = prove(tinted, peeled, frozenset({"far_pane"}), size=SIZE, renderer=renderer)
    assert proof.proved and proof.views[0].on_cause > 0.1 and proof.views[0].elsewhere == 0
