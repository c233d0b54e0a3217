"""Proof of a repair: what ends, what is left, what else moves, from every viewpoint and role."""

import numpy as np
import pytest

from eddyfall.core.defects.depth_prepass import CODE
from eddyfall.core.frame.render import Renderer
from eddyfall.core.scene.changes import apply_change, set_leaf
from eddyfall.core.sweep import sweep
from eddyfall.core.sweep.proof import proof_json, prove, sharing
from scenes import net_build

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

    document = json.loads(json.dumps(proof_json(proof_of(net, ("shaders", "net", "passes", "depth"), True))))
    assert {"proved", "why", "ended", "left", "made", "views"} == set(document)
    assert {"viewpoint", "role", "changed", "on_cause", "elsewhere", "siblings"} == set(document["views"][0])
    assert np.isfinite(document["views"][0]["changed"])
