"""Edges on the Draw order sheet as they are used: a rim is measured, its case worked, the cure proved and handed over."""

import re

from browser_helpers import bring, command_line, fits_in_every_way, hand_over, sweep_to_the_end
from edge_scenes import leaf_on, leaves_before
from scenes import write_build


def test_a_leaf_with_a_white_rim_is_put_right(page, tmp_path):
    path = write_build(leaves_before(0.05, leaf_on((255, 255, 255)), "MASK"), tmp_path, "leaves")
    project = bring(page, "Leaves", path, path.with_suffix(".setup.json"))
    page.get_by_role("link", name="Sweep", exact=True).click()
    sweep_to_the_end(page)
    page.get_by_text("leaf shows a rim").first.wait_for()
    # From the finding to the sheet, which has measured what it is about.
    page.get_by_role("link", name="Draw order").last.click()
    page.get_by_role("heading", name="leaf shows a rim at eye").wait_for(timeout=240_000)
    row = page.get_by_test_id("edges").get_by_role("row").nth(1).inner_text()
    _, said = command_line("edges", path, "--viewpoint", "eye")
    (leaf,) = said["materials"]
    assert str(leaf["averaged_px"]) in re.sub(r"[^\d.\n]", "", row) and "straight" in row
    page.get_by_text("put right", exact=True).wait_for(timeout=60_000)
    fits_in_every_way(page)
    # Its case, by the keys of the bench.
    page.goto(f"/p/{project}/b/1/sweep")
    page.get_by_text("leaf shows a rim").first.wait_for()
    page.get_by_role("button", name="Open case").first.click()
    page.wait_for_url(re.compile(r"/bench/"))
    page.keyboard.press("l")
    page.get_by_role("button", name=re.compile("average the colours of leaf")).first.click(timeout=240_000)
    page.keyboard.press("k")
    page.get_by_text("1 kept").wait_for(timeout=240_000)
    page.get_by_role("button", name="Prove it everywhere").click()
    page.get_by_text("✓ Proved").wait_for(timeout=240_000)
    page.goto(f"/p/{project}/b/1/draw-order?from=eye&measure=1")
    page.get_by_test_id("edges").get_by_text("averaged multiplied").wait_for(timeout=240_000)
    page.get_by_role("link", name="Ledger", exact=True).click()
    hand_over(page, tmp_path / "out")
    code, said = command_line("edges", tmp_path / "out" / "leaves.glb", "--viewpoint", "eye")
    assert code == 0 and said["materials"][0]["filtered"] == "premultiplied"
