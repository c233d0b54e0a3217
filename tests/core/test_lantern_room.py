"""The lantern room: every seeded fault of glass is found, no healthy twin is, repairs bring back what is behind."""

import pytest

from eddyfall.core.defects.registry import code_of
from eddyfall.core.frame.render import Request
from eddyfall.core.layers.chain import measured_at
from eddyfall.core.lineup import line_up
from eddyfall.core.scene.changes import apply_changes
from eddyfall.core.sweep import sweep
from eddyfall.demo.lantern_room import make_lantern_room


@pytest.fixture(scope="module")
def room(renderer):
    build, truth = make_lantern_room()
    return build, truth, sweep(build, renderer=renderer).findings


def test_exactly_the_seeded_causes_are_found_and_no_twin(room):
    _, truth, findings = room
    assert {(f.code, f.suspicion.cause) for f in findings} == {(row["code"], row["cause"]) for row in truth["findings"]}
    for row in truth["findings"]:
        found = next(f for f in findings if (f.code, f.suspicion.cause) == (row["code"], row["cause"]))
        assert set(row["subjects"]) <= set(found.suspicion.subjects) and found.severity == "blocking"
    for twin in truth["healthy"]:
        assert all(twin["subject"] not in f.suspicion.subjects for f in findings if f.code == twin["twin_of"])


@pytest.mark.long
def test_repairs_leave_nothing_but_the_mist_over_its_pane(room, renderer):
    """What is blended behind a pane can be hidden by it or drawn over it; nothing here draws it in its place."""
    build, _, findings = room
    repaired = apply_changes(build, [f.best.change for f in findings if f.best])
    left = sweep(repaired, renderer=renderer, budget=0).findings
    assert {(f.code, f.suspicion.cause) for f in left} == {("order.stage-mismatch", "weir_mist")}


def test_the_chain_of_each_broken_glass_is_named(room, renderer):
    build, _, findings = room
    for cause, link in (("sealed_glass", "shader"), ("sample_block_glass", "thickness")):
        finding = next(f for f in findings if f.suspicion.cause == cause)
        (view,) = finding.suspicion.pixels
        x, y = finding.suspicion.facts["at"]
        told, kept = measured_at(renderer, build, Request(view), x, y)
        assert told.material == cause and told.broken[0].name == link and kept.max() < 0.1 * max(told.due)
        mended = apply_changes(build, [finding.best.change])
        told, kept = measured_at(renderer, mended, Request(view), x, y)
        assert not told.broken and kept == pytest.approx(told.due, rel=0.12)


@pytest.mark.long
def test_line_ups_of_cases_clear_what_the_sweep_offers(room):
    build, _, findings = room
    for cause, subject, view in (("green_pane", "green_pane", "panes"), ("sealed_glass", "sealed_gauge", "gauges")):
        finding = next(f for f in findings if f.suspicion.cause == cause)
        x, y, w, h = finding.suspicion.regions[view]
        spot = (x + w // 4, y + h // 4, w // 2, h // 2)
        told = line_up(build, view, spot, code_of(finding.code).symptom, subject=subject)
        by = {t.title: t.verdict for t in told.trials}
        assert by[finding.best.change.title] == "clears it" == told.trials[0].verdict
