"""The demo's sweep against its truth table: exactly the seeded causes, no healthy twin, and clean after the repair."""

import json

import numpy as np
import pytest

from eddyfall.core.compare.ciede2000 import delta_e_2000
from eddyfall.core.frame.render import Request
from eddyfall.core.scene.changes import apply_change, apply_changes, rename_clashes
from eddyfall.core.sweep import sweep


@pytest.fixture(scope="module")
def truth(demo_files):
    return json.loads(demo_files["truth"].read_text())


@pytest.fixture(scope="module")
def repaired(demo, demo_sweep):
    return apply_changes(demo, rename_clashes([f.best.change for f in demo_sweep.findings]))


def test_it_is_a_build_worth_looking_at(demo, renderer):
    geometry = renderer.geometry(demo)
    assert len(geometry.triangles) >= 120_000
    assert len(demo.scene.images) >= 6
    roles = [v.role for v in demo.setup.viewpoints.values()]
    assert len(roles) == 6 and roles.count("edit") == 1
    assert np.linalg.norm(geometry.scene_bounds[1] - geometry.scene_bounds[0]) > 500


def test_exactly_the_seeded_causes_are_found(demo_sweep, truth):
    assert {(f.code, f.suspicion.cause) for f in demo_sweep.findings} == {(t["code"], t["cause"]) for t in truth["findings"]}
    for row in truth["findings"]:
        found = next(f for f in demo_sweep.findings if (f.code, f.suspicion.cause) == (row["code"], row["cause"]))
        assert set(row["subjects"]) <= set(found.suspicion.subjects)


def test_no_healthy_twin_is_reported(demo_sweep, truth):
    for twin in truth["healthy"]:
        for found in demo_sweep.findings:
            if found.code == twin["twin_of"]:
                assert twin["subject"] not in found.suspicion.subjects, twin


def test_a_role_that_hides_a_defect_is_named_with_the_leaf(demo_sweep, truth):
    for row in truth["findings"]:
        found = next(f for f in demo_sweep.findings if (f.code, f.suspicion.cause) == (row["code"], row["cause"]))
        hidden = {r.role: r.leaf for r in found.roles if not r.seen}
        assert hidden == row["hidden_in_roles"], row["code"]


def test_measured_impact_is_the_difference_with_and_without_the_remedy(demo, demo_sweep, renderer):
    for found in demo_sweep.findings:
        if found.impact.kind != "measured":
            assert found.impact.why
            continue
        view = found.impact.viewpoint
        pair = [renderer.frame(b, Request(view, (480, 270))).display for b in (demo, apply_change(demo, found.best.change))]
        share = float((delta_e_2000(*pair) > 2).mean())
        assert found.impact.share == pytest.approx(share, abs=2e-4), found.code


def test_findings_come_by_impact_measured_before_exposed(demo_sweep):
    kinds = [f.impact.kind for f in demo_sweep.findings]
    assert kinds == sorted(kinds, key=["measured", "exposed", "none"].index)
    shares = [f.impact.share for f in demo_sweep.findings if f.impact.kind == "measured"]
    assert shares == sorted(shares, reverse=True)


def test_the_repaired_build_sweeps_clean(repaired, renderer):
    assert sweep(repaired, renderer=renderer).findings == ()


def test_the_best_remedies_change_nothing_elsewhere(demo_sweep):
    for found in demo_sweep.findings:
        assert found.best.collateral < 0.001, found.code
        assert found.best.new_findings == ()


@pytest.mark.long
def test_nothing_in_the_finding_hash_depends_on_numbers(demo, demo_sweep, renderer):
    smaller = sweep(demo, size=(480, 270), renderer=renderer, budget=0)  # what is found, without its remedies
    assert {f.fingerprint for f in smaller.findings} <= {f.fingerprint for f in demo_sweep.findings}
    assert {f.code for f in smaller.findings} >= {"depth.missing-prepass", "depth.coincident", "uv.overlap"}
