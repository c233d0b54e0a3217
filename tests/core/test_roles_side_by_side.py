"""Two roles side by side: what each differing setting does alone and with others, and what ends with a session."""

import json

import pytest

from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.handover.package import setup_patch, write_package
from eddyfall.core.intake import open_build
from eddyfall.core.scene.resolve import resolve
from eddyfall.core.scene.setup.sections.screen import Bounce
from eddyfall.core.truth.roles import side_by_side
from light_rooms import looking, shining_hall
from scenes import write_build

SIZE = (240, 135)


def hall(**roles):
    views = {"near": looking((6.0, 1.6, 6.0), (3.0, 0.0, 6.0))}
    return shining_hall(
        roles={"play": {}, **roles}, viewpoints=views, exposure={"mode": "fixed", "ev100": 6.0}, fog={"fog_per_m": 0.1}
    )


def held(build, first="edit", second="play"):
    found = side_by_side(Renderer(), build, Request("near", SIZE), first, second)
    return found, {d.leaf: d for d in found.leaves}


def test_one_ev_more_reads_one_stop():
    """EV 100 of 5 lets in twice the light of EV 100 of 6 (ISO 2720, exposure value)."""
    found, leaves = held(hall(edit={"set": {"exposure": {"ev100": 5.0}}}))
    assert found.whole.stops == pytest.approx(1.0, abs=1e-6) and list(leaves) == ["exposure.ev100"]
    leaf = leaves["exposure.ev100"]
    assert (leaf.first, leaf.first_winner, leaf.second, leaf.second_winner) == (5.0, "role edit", 6.0, "project")
    assert leaf.alone.stops == pytest.approx(1.0, abs=1e-6) and leaf.rest.stops == 0 and leaf.says == ""


def test_what_does_nothing_and_what_only_does_with_others_is_told():
    edit = {"fog": {"enabled": True, "fog_per_m": 0.2, "rgb": [400.0, 0.0, 0.0]}, "shadow": {"resolution": 512}}
    found, leaves = held(hall(edit={"set": edit}))
    assert set(leaves) == {"fog.enabled", "fog.fog_per_m", "fog.rgb", "shadow.resolution"}
    assert leaves["shadow.resolution"].says == "nothing here"
    assert leaves["fog.rgb"].says == leaves["fog.fog_per_m"].says == "only with others" and leaves["fog.enabled"].says == ""
    assert leaves["fog.enabled"].rest.nothing and found.whole.share > 0.5
    assert leaves["fog.rgb"].rest.stops != pytest.approx(found.whole.stops, abs=0.05)


def test_roles_that_are_not_there_and_one_alone_are_refused():
    with pytest.raises(RequestError, match="role 'night' does not exist"):
        held(hall(), "night")
    with pytest.raises(RequestError, match="two are needed"):
        held(hall(), "play", "play")
    found, leaves = held(hall(), "output", "reference")
    assert leaves == {} and found.whole.nothing and found.roles == ("play", "edit", "output", "reference")


def test_what_a_role_sets_for_the_session_is_drawn_but_not_handed_over(tmp_path):
    on = {"bounce": {"enabled": True, "fallback": "world"}}
    path = write_build(hall(edit={"set": on, "session": True}, output={"set": on}), tmp_path, "hall")
    build = open_build(path)
    assert resolve(build.setup, role="edit")[Bounce].enabled and held(build)[0].whole.stops > 0.2
    assert [op["path"] for op in setup_patch(build, build)] == ["/roles/edit/set/bounce"]
    written = write_package(build, build, (), tmp_path / "out", "hall", [path])
    roles = json.loads(written["setup"].read_text())["roles"]
    assert roles["edit"] == {"set": {}, "session": True} and roles["output"]["set"] == on
    again = open_build(written["glb"])
    assert not resolve(again.setup, role="edit")[Bounce].enabled and held(again)[0].whole.nothing
