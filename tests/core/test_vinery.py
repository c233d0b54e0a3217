"""The vinery: every seeded fault of edges, coverage, order in mist and shadows is found, no healthy twin is, repairs leave nothing."""

import pytest

from eddyfall.core.defects.registry import code_of
from eddyfall.core.lineup import line_up
from eddyfall.core.scene.changes import apply_changes
from eddyfall.core.sweep import sweep
from eddyfall.demo.vinery import make_vinery


@pytest.fixture(scope="module")
def house(renderer):
    build, truth = make_vinery()
    return build, truth, sweep(build, renderer=renderer).findings


def test_exactly_the_seeded_causes_are_found_and_no_twin(house):
    _, truth, findings = house
    assert {(f.code, f.suspicion.cause) for f in findings} == {(row["code"], row["cause"]) for row in truth["findings"]}
    for row in truth["findings"]:
        found = next(f for f in findings if (f.code, f.suspicion.cause) == (row["code"], row["cause"]))
        assert set(row["subjects"]) <= set(found.suspicion.subjects) and found.severity in ("blocking", "visible")
        assert found.best is not None and found.best.verdict == "cures"
    for twin in truth["healthy"]:
        assert all(twin["subject"] not in f.suspicion.subjects for f in findings if f.code == twin["twin_of"])


@pytest.mark.long
def test_repairs_leave_nothing(house, renderer):
    build, _, findings = house
    repaired = apply_changes(build, [f.best.change for f in findings])
    assert not sweep(repaired, renderer=renderer).findings


@pytest.mark.long
@pytest.mark.parametrize(("cause", "subject", "view"), [
    ("vine_leaves", "vine_leaves", "leaves"), ("stencil", "stencil", "signs"), ("far_hedge", "far_hedge", "hedges"),
])  # fmt: skip
def test_line_ups_of_cases_clear_what_the_sweep_offers(house, cause, subject, view):
    build, _, findings = house
    finding = next(f for f in findings if f.suspicion.cause == cause)
    told = line_up(build, view, finding.suspicion.regions[view], code_of(finding.code).symptom, subject=subject)
    by = {t.title: t.verdict for t in told.trials}
    assert by[finding.best.change.title] == "clears it", by
