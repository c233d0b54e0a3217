"""The kiosk's flat game: every seeded fault of its order is found, no healthy twin is, repairs put barges before buoys."""

import numpy as np
import pytest

from eddyfall.core.defects.registry import code_of
from eddyfall.core.frame.render import Request
from eddyfall.core.lineup import line_up
from eddyfall.core.scene.changes import apply_changes
from eddyfall.core.sweep import sweep
from eddyfall.demo.kiosk import make_kiosk


@pytest.fixture(scope="module")
def game(renderer):
    build, truth = make_kiosk()
    return build, truth, sweep(build, renderer=renderer).findings


def test_exactly_the_seeded_causes_are_found_and_no_twin(game):
    _, truth, findings = game
    assert {(f.code, f.suspicion.cause) for f in findings} == {(row["code"], row["cause"]) for row in truth["findings"]}
    for row in truth["findings"]:
        found = next(f for f in findings if (f.code, f.suspicion.cause) == (row["code"], row["cause"]))
        assert set(row["subjects"]) <= set(found.suspicion.subjects) and found.best is not None
    for twin in truth["healthy"]:
        assert all(twin["subject"] not in f.suspicion.subjects for f in findings if f.code == twin["twin_of"])


def test_repairs_leave_nothing_and_both_sides_look_alike(game, renderer):
    """The left barge covers its buoy as the right one does: of the buoy nothing shows within the hull."""
    build, _, findings = game
    repaired = apply_changes(build, [f.best.change for f in findings])
    assert not sweep(repaired, renderer=renderer).findings
    before, after = (renderer.frame(b, Request("screen", (960, 540)), "linear").linear for b in (build, repaired))
    px = 540 / (2 * 10 * np.tan(np.radians(15)))
    column, row = int(480 - 2.2 * px), int(270 + 1.18 * px)
    red = [picture[row, column, 0] - picture[row, column, 2] for picture in (before, after)]
    assert red[0] > 0.2 > 0.1 > red[1]


def test_a_line_up_on_the_buoy_clears_it_with_what_the_sweep_offers(game):
    build, _, findings = game
    finding = next(f for f in findings if f.code == "order.stages")
    x, y, w, h = finding.suspicion.regions["screen"]
    told = line_up(build, "screen", (x + w // 4, y + h // 4, w // 2, h // 2), code_of(finding.code).symptom, subject="red_buoy")
    assert {t.title: t.verdict for t in told.trials}[finding.best.change.title] == "clears it"
