"""The tow-path yard: every seeded shadow fault is found and cured, no healthy twin is, and the repaired yard has none left."""

import numpy as np
import pytest

from eddyfall.core.defects.registry import families
from eddyfall.core.defects.survey import Survey
from eddyfall.core.frame.memo import Memo
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.lineup import line_up
from eddyfall.core.scene.changes import apply_changes, apply_together, rename_clashes
from eddyfall.core.sweep import sweep
from eddyfall.core.sweep.run import SWEEP_MEMO_BYTES
from eddyfall.core.truth.leftovers import leftovers
from eddyfall.demo.yard import make_yard


@pytest.fixture(scope="module")
def yard():
    return make_yard()


@pytest.fixture(scope="module")
def renderer():
    return Renderer(Memo(SWEEP_MEMO_BYTES))


@pytest.fixture(scope="module")
def swept(yard, renderer):
    return sweep(yard[0], renderer=renderer)


def test_exactly_the_seeded_causes_are_found(yard, swept):
    wanted = {(row["code"], row["cause"]) for row in yard[1]["findings"]}
    assert {(f.code, f.suspicion.cause) for f in swept.findings} == wanted
    for row in yard[1]["findings"]:
        found = next(f for f in swept.findings if (f.code, f.suspicion.cause) == (row["code"], row["cause"]))
        assert set(row["subjects"]) <= set(found.suspicion.subjects), row
        assert {r.role: r.leaf for r in found.roles if not r.seen} == row["hidden_in_roles"], row


def test_no_healthy_twin_is_reported(yard, swept):
    for twin in yard[1]["healthy"]:
        for found in swept.findings:
            if found.code == twin["twin_of"]:
                assert twin["subject"] not in found.suspicion.cause, twin
                assert twin["subject"] not in found.suspicion.subjects or found.suspicion.cause != twin["subject"], twin


def test_every_remedy_that_is_offered_cures_and_breaks_nothing_new(swept):
    for found in swept.findings:
        kept = [r.verdict for r in found.remedies if r.change.title.startswith("keep the coverage")]
        assert kept == (["masks"] if found.code == "blend.coverage" else []), (
            "a level of one alpha passes as a whole or not at all"
        )
        marched = [r.verdict for r in found.remedies if "contact shadows by a march" in r.change.title]
        assert marched == (["masks"] if found.code == "shadow.detached" else []), "it adds in the frame what the maps lack"
        assert found.remedies and all(
            r.verdict == "cures"
            for r in found.remedies
            if "a march" not in r.change.title and "keep the coverage" not in r.change.title
        ), (
            found.code,
            [(r.change.title, r.verdict) for r in found.remedies],
        )
        assert not found.best.new_findings, found.code


def test_costs_are_exact(swept):
    tier = next(r for f in swept.findings if f.code == "shadow.out-of-reach" for r in f.remedies if "far tier" in r.change.title)
    assert {c.name: c.value for c in tier.costs}["memory"] == 16 * 2**20
    free = next(r for f in swept.findings if f.code == "shadow.out-of-reach" for r in f.remedies if "lambda" in r.change.title)
    assert {c.name: c.value for c in free.costs}["memory"] == 0
    stack = next(f for f in swept.findings if f.suspicion.cause == "stack")
    assert all({c.name: c.value for c in r.costs}["memory"] == 0 for r in stack.remedies)
    assert {c.name: c.value for c in stack.best.costs}["draws"] > 0


def test_padding_that_is_offered_is_a_little_more_than_the_critical_one(yard, swept):
    for cause in ("mooring_gear", "crane_hook"):
        found = next(f for f in swept.findings if f.suspicion.cause == cause)
        needed = next(e.value for e in found.suspicion.evidence if e.measure == "padding that would keep it")
        change = next(r.change for r in found.remedies if "pad" in r.change.title)
        pad = apply_changes(yard[0], [change]).setup.nodes[cause].bounds_padding_m
        assert needed < pad <= needed + 0.02, (cause, needed, pad)


@pytest.mark.long
def test_the_repaired_yard_sweeps_clean_but_for_limits_that_leave_out_nothing_any_more(yard, swept, renderer):
    build = apply_changes(yard[0], rename_clashes([f.best.change for f in swept.findings]))
    survey, left_over = Survey(build, renderer, pictures=False), next(f for f in families() if f.name == "shadow leftovers")
    # With all that was left out padded, a limit changes no pixel; without the limit, paddings change none.
    for _ in range(3):
        found = left_over.inspect(survey.on(build))
        if not found:
            break
        build = apply_together(build, [s.candidates[0].change for s in found])
    assert [(s.code, s.cause) for family in families() for s in family.inspect(survey.on(build))] == []


@pytest.mark.long
def test_leftovers_name_the_barrows_padding_and_no_setting_that_is_needed(yard, renderer):
    found = leftovers(renderer, yard[0], size=(320, 180))
    assert [".".join(s.path) for s in found.settings if not s.needed] == ["nodes.barrow.bounds_padding_m"]
    needed = {".".join(s.path) for s in found.settings if s.needed}
    assert {
        "shadow.reach_m",
        "shadow.casters_from",
        "nodes.padded_gear.bounds_padding_m",
        "lights.flood_mast.technique",
    } <= needed


def test_the_kiosk_alone_has_a_shadow_budget_and_is_over_it(yard, renderer):
    family = next(f for f in families() if f.name == "shadow budget")
    [over] = family.inspect(Survey(yard[0], renderer, "kiosk", pictures=False))
    # Four maps of 2048 and a pool of 4096 pages are 64 MiB each, three lamps of six maps of 512 are 6 MiB each; rays have a tree.
    assert over.limit == 128 and 64 + 64 + 18 < over.value < 64 + 64 + 18 + 1
    assert family.inspect(Survey(yard[0], renderer, pictures=False)) == []


def test_a_line_up_on_the_false_shadow_finds_who_throws_it(yard, swept, renderer):
    found = next(f for f in swept.findings if f.code == "shadow.unasked")
    view = found.impact.viewpoint
    result = line_up(yard[0], view, found.suspicion.regions[view], "false shadow", subject="ground", renderer=renderer)
    cleared = [t.title for t in result.trials if t.verdict == "clears it"]
    assert result.base_score > 0.01 and "let old_crane not cast" in cleared, [
        (t.title, t.verdict, t.before, t.after) for t in result.trials
    ]


def test_frames_of_the_yard_are_worth_looking_at(yard, renderer):
    for view in yard[0].setup.viewpoints:
        display = renderer.frame(yard[0], Request(view, (320, 180))).display
        assert 40 < display.mean() < 200 and display.std() > 15, view
        assert (display.max(axis=2) == 255).mean() < 0.1 and np.isfinite(display).all()
