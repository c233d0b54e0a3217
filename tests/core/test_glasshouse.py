"""The glasshouse: every seeded fault of draw order is found, no healthy twin is, and what can be cured by whole objects is."""

import pytest

from eddyfall.core.defects.registry import code_of
from eddyfall.core.lineup import line_up
from eddyfall.core.scene.changes import apply_changes
from eddyfall.core.sweep import sweep
from eddyfall.demo.glasshouse import make_glasshouse


@pytest.fixture(scope="module")
def house():
    build, truth = make_glasshouse()
    return build, truth, sweep(build).findings


def test_exactly_the_seeded_causes_are_found_and_no_twin(house):
    _, truth, findings = house
    assert {(f.code, f.suspicion.cause) for f in findings} == {(row["code"], row["cause"]) for row in truth["findings"]}
    for row in truth["findings"]:
        found = next(f for f in findings if (f.code, f.suspicion.cause) == (row["code"], row["cause"]))
        assert set(row["subjects"]) <= set(found.suspicion.subjects)
    for twin in truth["healthy"]:
        assert all(twin["subject"] not in f.suspicion.subjects for f in findings if f.code == twin["twin_of"])


def test_the_pop_is_cured_by_the_least_shift_and_a_rank_breaks_the_pane(house):
    findings = house[2]
    flip = next(f for f in findings if f.code == "order.flip")
    assert "x = -0.263 m" in flip.suspicion.title and flip.best.change.title == "sort mist_card as if 0.763 m farther"
    rank = next(r for r in flip.remedies if "rank" in r.change.title)
    assert any("draught_pane" in title for title in rank.new_findings)


@pytest.mark.long
def test_each_cause_has_its_cure_and_crossing_banners_are_peeled(house):
    build, _, findings = house
    by_cause = {f.suspicion.cause: f for f in findings}
    banners = by_cause["banner_blue | banner_red"]
    assert "banner_red and banner_blue cross" in banners.suspicion.title
    averaged = next(r for r in banners.remedies if "average" in r.change.title)
    assert any("layers put together as weighted are off" in title for title in averaged.new_findings)
    titles = {cause: f.best.change.title for cause, f in by_cause.items() if f.best}
    assert titles == {
        "mist_card | streak_cutter": "sort mist_card as if 0.763 m farther", "seed_board": "draw seed_board as opaque",
        "trellis": "draw trellis as a cutout", "water_tank": "draw what is seen of tank_glass from behind first",
        "banner_blue | banner_red": banners.best.change.title,
    }  # fmt: skip
    assert banners.best.change.title.startswith("peel")
    repaired = apply_changes(build, [f.best.change for f in findings if f.best])
    left = {(f.code, f.suspicion.cause) for f in sweep(repaired).findings}  # what is peeled needs no order of anything any more
    assert left == {("order.leftover", "materials.tank_glass.triangles"), ("order.leftover", "nodes.mist_card.key_shift_m")}


@pytest.mark.long
def test_a_line_up_on_the_banners_says_that_no_order_clears_them_and_peeling_or_cutting_does(house):
    build, _, findings = house
    crossed = next(f for f in findings if f.code == "order.no-valid-order")
    x, y, w, h = crossed.suspicion.regions["banners"]
    result = line_up(
        build, "banners", (x + w // 4, y + h // 4, w // 2, h // 2), code_of(crossed.code).symptom, subject="banner_red"
    )
    tried = {t.title: t for t in result.trials}
    assert "draw rank 1 for banner_red" in tried and tried["draw rank 1 for banner_red"].before > 0
    clears = {t.title for t in result.trials if t.verdict == "clears it"}
    assert clears and all(title.startswith(("peel", "keep a list", "split")) for title in clears)


@pytest.mark.long
def test_a_line_up_on_the_mist_clears_the_pop_with_what_the_sweep_offers(house):
    build, _, findings = house
    flip = next(f for f in findings if f.code == "order.flip")
    x, y, w, h = flip.suspicion.regions["walk_left"]
    result = line_up(build, "walk_left", (x + w // 2, y + h // 2, 60, 60), code_of(flip.code).symptom, subject="mist_card")
    tried = {t.title: t.verdict for t in result.trials}
    assert tried["sort mist_card as if 0.763 m farther"] == "clears it" and result.trials[0].verdict == "clears it", tried
    rank = next(t for t in result.trials if "draw rank 1" in t.title)
    assert rank.verdict == "clears it but breaks something else" and any("draught_pane" in title for title in rank.new_findings)
