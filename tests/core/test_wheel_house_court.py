"""The wheel-house court: a sky that keeps its sun, a gate whose shade is there twice; both are found and cured, nothing else is."""

import numpy as np
import pytest

from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.intake import open_build
from eddyfall.core.lineup import line_up
from eddyfall.core.scene.changes import apply_changes
from eddyfall.core.sweep import sweep
from eddyfall.core.truth.sky_sun import sun_in
from eddyfall.demo.court import SUN, SUN_LUX, make_court, write_court


@pytest.fixture(scope="module")
def court():
    return make_court()


@pytest.fixture(scope="module")
def swept(court):
    return sweep(court[0])


def test_exactly_the_seeded_causes_are_found_and_each_is_cured(court, swept):
    wanted = {(row["code"], row["cause"]) for row in court[1]["findings"]}
    assert {(f.code, f.suspicion.cause) for f in swept.findings} == wanted
    for row in court[1]["findings"]:
        found = next(f for f in swept.findings if f.code == row["code"])
        assert set(row["subjects"]) <= set(found.suspicion.subjects)
        assert found.remedies[0].verdict == "cures" and found.impact.share > 0.01
    for row in court[1]["healthy"]:
        assert not any(row["subject"] in (f.suspicion.cause, *f.suspicion.subjects) for f in swept.findings), row


@pytest.mark.long
def test_the_repaired_court_has_none_left_and_its_shade_is_dark(court, swept):
    repaired = apply_changes(court[0], [f.remedies[0].change for f in swept.findings])
    assert sweep(repaired).findings == ()
    before, after = (Renderer().frame(b, Request("loft"), "linear").linear for b in (court[0], repaired))
    share = after.mean(axis=2) / before.mean(axis=2)
    due = swept.findings[[f.code for f in swept.findings].index("shadow.sky-sun-off")].suspicion.pixels["loft"]
    assert 0.5 * due < (share < 0.5).sum() < 2 * due and np.median(share) == pytest.approx(1.0, abs=0.02)


def test_its_sky_goes_through_its_files(tmp_path):
    opened = open_build(write_court(tmp_path)["glb"])
    sun = sun_in(opened.scene.skies[0])
    assert opened.notes == () and sun.lux == pytest.approx(SUN_LUX, rel=0.02)
    assert np.degrees(np.arccos(np.dot(sun.towards, np.array(SUN) / np.linalg.norm(SUN)))) < 0.1


@pytest.mark.long
def test_line_ups_on_what_is_seen_clear_with_what_the_sweep_offers(court, swept):
    symptoms = {"shadow.doubled": ("false shadow", "store_room"), "shadow.sky-sun-off": ("missing shadow", "paving")}
    for found in swept.findings:
        view = max(found.suspicion.pixels, key=lambda v: found.suspicion.pixels[v])
        symptom, subject = symptoms[found.code]
        result = line_up(court[0], view, found.suspicion.regions[view], symptom, subject=subject)
        said = {t.title: t.verdict for t in result.trials}
        assert said.get(found.remedies[0].change.title) == "clears it", (found.code, said)
