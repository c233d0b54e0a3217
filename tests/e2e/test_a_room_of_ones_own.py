"""The guide's section, pass and code, kept outside of the tree and named to the site, as a browser shows them."""

import re

from browser_helpers import api, barriers, bring, with_setup
from scenes import Thing, build_of, flat, wall, write_build


def test_settings_pass_and_code_of_ones_own_are_seen_in_the_browser(page, tmp_path):
    build = build_of(Thing("leaf", wall(6, half=1), flat("green", (0.02, 0.8, 0.02))), Thing("wall", wall(9), flat("white", 0.7)))
    project = bring(page, "With a room of its own", *with_setup(write_build(build, tmp_path, "leaf")))
    # The code: a column of the tide table, a finding with its evidence, a case with its own symptom and lever.
    page.get_by_role("link", name="Sweep", exact=True).click()
    page.get_by_role("button", name=re.compile("^Sweep")).click()
    page.get_by_role("heading", name="Build 1: 1 defect").wait_for(timeout=240_000)
    found = page.get_by_role("list", name="Findings by impact").get_by_role("listitem")
    assert "leaf is <too> green" in found.inner_text() and "toy.too-green" in found.inner_text()
    assert "toy.too-green" in page.get_by_role("columnheader", name="Surface").get_attribute("title")
    page.get_by_role("button", name="Open case").click()
    page.get_by_role("heading", name="leaf is <too> green").wait_for()
    assert page.get_by_label("Symptom").input_value() == "greenness"
    page.get_by_role("button", name=re.compile("^Line-up")).click()
    page.get_by_role("button", name=re.compile("the toy's lever")).first.wait_for()
    # The section: a part of the settings with a unit, what it affects, and a measured effect.
    page.get_by_role("link", name="Set-up", exact=True).click()
    row = page.get_by_role("row", name=re.compile("lens.soft"))
    assert "toy blur" in row.inner_text() and "blurred over 9 x 9" in row.inner_text()
    page.get_by_role("button", name="Try a value for lens.soft").click()
    page.get_by_label("Value of lens.soft").select_option("yes")
    page.get_by_role("button", name="Measure it at eye").click()
    page.get_by_text(re.compile(r"[1-9]\S*\s% of the frame changes visibly")).wait_for()
    assert barriers(page) == []
    page.get_by_label("Reason").fill("a soft lens")
    page.get_by_role("button", name="Keep as one change").click()
    page.get_by_text("Kept: a soft lens (demo)").wait_for()
    # The pass: the last stratum of a core sample, which still adds up.
    case = f"/api/projects/{project}/builds/1/cases/1"
    sample = api(page, "GET", f"{case}/core-sample/head?x=480&y=270")[1]
    assert sample["layers"][-1]["pass"] == "toy blur"
    assert all(abs(a - b) <= 1e-4 * max(abs(b), 1e-3) for a, b in zip(sample["sum"], sample["linear"]))
