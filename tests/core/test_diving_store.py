"""The diving store: every seeded fault of what came from elsewhere is found and cured, no healthy twin is, repairs leave nothing."""

import pytest

from eddyfall.core.intake import open_build
from eddyfall.core.intake.arrival import arrivals
from eddyfall.core.likeness.twins import missing, twins
from eddyfall.core.lineup import line_up
from eddyfall.core.scene.changes import apply_changes
from eddyfall.core.sweep import sweep
from eddyfall.demo.diving_store import make_diving_store, write_diving_store


@pytest.fixture(scope="module")
def store(renderer):
    build, truth = make_diving_store()
    return build, truth, sweep(build, renderer=renderer).findings


def test_exactly_the_seeded_causes_are_found_and_no_twin(store):
    _, truth, findings = store
    assert {(f.code, f.suspicion.cause) for f in findings} == {(row["code"], row["cause"]) for row in truth["findings"]}
    for row in truth["findings"]:
        found = next(f for f in findings if (f.code, f.suspicion.cause) == (row["code"], row["cause"]))
        assert set(row["subjects"]) <= set(found.suspicion.subjects) and found.severity in ("blocking", "visible")
        assert found.best is not None and found.best.verdict == "cures"
    for twin in truth["healthy"]:
        assert all(twin["subject"] not in f.suspicion.subjects for f in findings if f.code == twin["twin_of"])
    lamp = next(f for f in findings if f.suspicion.cause == "signal_lamp")
    assert any("loses blink" in text for text in lamp.best.side_effects)


def test_repairs_leave_nothing_and_what_is_written_says_it_too(store, renderer, tmp_path):
    build, _, findings = store
    repaired = apply_changes(build, [f.best.change for f in findings])
    assert not sweep(repaired, renderer=renderer).findings
    paths = write_diving_store(tmp_path)
    assert open_build(paths["glb"]).scene.materials == build.scene.materials


@pytest.mark.parametrize(("cause", "subject", "view", "symptom"), [
    ("old_lacquer", "helmet_copper", "helmets", "flat colour"), ("bonded_gauge_print", "bonded_gauge_print", "gauges", "wrong gloss"),
])  # fmt: skip
def test_a_line_up_clears_it_with_what_the_sweep_offers(store, renderer, cause, subject, view, symptom):
    build, _, findings = store
    finding = next(f for f in findings if f.suspicion.cause == cause)
    told = line_up(build, view, finding.suspicion.regions[view], symptom, subject=subject)
    assert told.base_score > 0 and [t for t in told.trials if t.verdict == "clears it"]
    # What clears the spot and is kept ends the finding, with all that it spoils.
    best = next(t for t in told.trials if t.verdict == "clears it")
    assert best.change is not None
    left = sweep(apply_changes(build, [best.change]), renderer=renderer)
    assert finding.fingerprint not in {f.fingerprint for f in left.findings}, best.title


def test_a_handwheel_of_a_hundredth_and_a_lost_elbow_are_told_on_arrival(store):
    scene = store[0].scene
    [small] = [a for a in arrivals(scene) if a.code == "import.scale"]
    assert small.subject == "handwheel_5" and small.value == pytest.approx(0.01, rel=0.01)
    [gone] = missing(scene)
    [first, *_] = twins(scene, gone)
    assert gone.name == "air_elbow_2" and first.mesh.startswith("air_elbow") and not first.aligned.mirrored
    assert first.end_fit_m < 1e-4
