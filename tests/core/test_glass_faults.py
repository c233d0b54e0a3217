"""Findings of glass and line-ups on it: what is lost, what is shut, what each remedy does, silence where all is well."""

import pytest

from eddyfall.core.lineup import line_up
from eddyfall.core.sweep import sweep
from glass_scenes import behind_panes, clear, pane, pane_and_mist, two_panes
from layer_scenes import card, unlit
from scenes import build_of

SIZE = (320, 180)


def found(build, **more):
    return {
        (f.suspicion.code, f.suspicion.cause): f
        for f in sweep(build, size=SIZE, **more).findings
        if f.suspicion.code.startswith(("glass", "order", "blend"))
    }


def verdicts(finding):
    return {r.change.title: r.verdict for r in finding.remedies}


def test_a_pane_in_no_copy_is_a_finding_with_its_remedies():
    """Peeled, or laid straight before the copy, it is back; dirt leaves it lost."""
    ((key, one),) = found(two_panes()).items()
    assert key == ("glass.layer-lost", "far_pane") and one.suspicion.title == "far_pane is not seen through near_pane: in no copy"
    assert one.suspicion.facts["panes"] == ["near_pane"]
    told = verdicts(one)
    assert told.pop("roughen near glass by 0.15") in ("no effect", "masks")
    assert told.pop("dirty near glass: 30% goes through") == "no effect", "in the dark it hides nothing"
    assert told == {"draw 2 layers that let light through": "cures", "lay far glass straight, before the copy is taken": "cures"}


def test_glass_that_is_shut_is_told_with_every_broken_link():
    build = two_panes({"enabled": False}, materials={"near glass": {"transmits": "none"}})
    told = found(build)
    assert set(told) == {("glass.chain-broken", "near glass"), ("glass.chain-broken", "far glass")}
    near = told["glass.chain-broken", "near glass"]
    assert near.suspicion.title == "near glass lets no light through: material and project"
    (remedy,) = near.remedies
    assert remedy.verdict == "cures" and remedy.new_findings == ("far_pane is not seen through near_pane: in no copy",)
    assert remedy.change.scope == "project"


def test_hidden_mist_and_mist_that_is_drawn_over():
    ((key, one),) = found(pane_and_mist()).items()
    assert key == ("glass.layer-lost", "mist")
    over = next(r for r in one.remedies if "not hide" in r.change.title)
    assert over.verdict == "cures" and over.new_findings == ("mist is drawn over pane, which lies before it",)
    ((key, other),) = found(pane_and_mist(materials={"clear": {"hides": False}})).items()
    assert key == ("order.stage-mismatch", "mist") and other.remedies[0].new_findings


@pytest.mark.parametrize(
    "build",
    [
        behind_panes(pane("one", -2.0, clear())),
        two_panes({"layers": 2}),
        behind_panes(pane("one", -2.0, clear()), card("mist", (-1, 1), (1, 2), -1.0, unlit("mist", 0.5, 0.5))),
        build_of(card("bank", (-30, 30), (-20, 22), -12.0, unlit("bank", 0.5)), pane("inert", 3.0, clear())),
    ],
)
def test_healthy_and_unseen_glass_says_nothing(build):
    """One pane, two that are peeled, mist before a pane, glass that is behind the viewer while refraction is off."""
    assert not found(build)


def test_line_ups_try_what_brings_it_back():
    """Refraction off is no way to see what is behind glass."""
    told = {t.title: t for t in line_up(two_panes(), "eye", (140, 70, 180, 110), "glass vanishes", size=SIZE).trials}
    for title in ("draw 2 layers that let light through", "lay far glass straight, before the copy is taken"):
        assert told[title].verdict == "clears it"
    assert told["refraction off"].verdict == "no effect" and told["refraction off"].after > told["refraction off"].before
    shut = two_panes({"enabled": False}, materials={"near glass": {"transmits": "none"}})
    line = line_up(shut, "eye", (140, 70, 180, 110), "see-through wrongly", size=SIZE)
    by = {t.title: t.verdict for t in line.trials}
    assert line.subject == "near_pane" and by["let near glass show what is behind it and switch refraction on"] == "clears it"
    assert by["switch refraction on"] == by["let near glass show what is behind it"] == "no effect"


@pytest.mark.long
def test_dirt_masks_what_is_lost_where_it_shines_itself(renderer):
    """Under an even sky a dirty pane is bright by itself: a darker one behind it, that is in no copy, is lost as before and shows no more.
    In the dark dirt hides nothing: what is left of the light is off by the same share."""
    even = {"ambient": True, **{k: [1.0, 1.0, 1.0] for k in ("zenith_rgb", "horizon_rgb", "ground_rgb")}}
    for sky, verdict in ((even, "masks"), ({"ambient": False}, "no effect")):
        far = pane("far_pane", -3.0, clear("far glass", rgb=(0.8, 0.8, 0.8)), x=(-0.5, 2.0))
        build = behind_panes(pane("near_pane", -2.0, clear("near glass")), far, sky=sky)
        (lost,) = [f for f in sweep(build, renderer=renderer).findings if f.code == "glass.layer-lost"]
        told = {r.change.title: r for r in lost.remedies}
        assert told["dirty near glass: 30% goes through"].verdict == verdict
        assert lost.best.change.title != "dirty near glass: 30% goes through"
