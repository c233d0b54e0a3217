"""Glass on the Draw order sheet as it is used: what is lost, why a pane is shut, the case, the cure, proof, hand over."""

import re

import pytest

from browser_helpers import bring, command_line, fits_in_every_way, hand_over, sweep_to_the_end
from glass_scenes import two_panes
from scenes import write_build


@pytest.mark.long
def test_a_pane_that_is_lost_and_one_that_is_shut_are_put_right(page, tmp_path):
    path = write_build(two_panes(materials={"near glass": {"transmits": "none"}}), tmp_path, "panes")
    project = bring(page, "Panes", path, path.with_suffix(".setup.json"))
    page.get_by_role("link", name="Sweep", exact=True).click()
    sweep_to_the_end(page)
    page.get_by_text("near glass lets no light through: material").first.wait_for()
    # The sheet: which glass is shut, and the chain of a pixel by mouse and by keys.
    page.get_by_role("link", name="Draw order").last.click()
    page.get_by_role("heading", name="near glass lets no light through: material").wait_for(timeout=240_000)
    box = page.get_by_test_id("either").bounding_box()
    page.mouse.click(box["x"] + box["width"] * 0.6, box["y"] + box["height"] * 0.5)
    page.get_by_role("heading", name="near_pane: material does not hold").wait_for(timeout=60_000)
    assert page.get_by_test_id("chain").get_by_role("row").count() == 14
    _, said = command_line("glass", path, "--viewpoint", "eye", "--at", "576,270")
    assert said["first_broken"] == "material" and said["drawable"] == "near_pane"
    page.get_by_role("heading", name="Behind glass").click()
    x, y = (int(v) for v in re.findall(r"\d+", page.get_by_role("heading", name="Layers at").inner_text()))
    page.keyboard.press("Shift+ArrowRight")
    page.get_by_role("heading", name=f"Layers at {x + 10}, {y}").wait_for(timeout=60_000)
    fits_in_every_way(page)
    # Its case: the remedy says what it brings to light.
    page.goto(f"/p/{project}/b/1/sweep")
    page.get_by_text("near glass lets no light through").first.wait_for()
    page.get_by_role("button", name="Open case").first.click()
    remedy = page.get_by_role("button", name=re.compile("let near glass show what is behind it"))
    assert "new: far_pane is not seen through near_pane" in remedy.first.inner_text()
    remedy.first.click()
    page.get_by_role("button", name="Keep this fix").click()
    page.get_by_text("1 kept").wait_for(timeout=240_000)
    # What is lost behind it now, from the sheet's own button.
    page.goto(f"/p/{project}/b/1/draw-order?from=eye")
    page.get_by_role("heading", name="far_pane is not seen through near_pane").wait_for(timeout=240_000)
    page.get_by_test_id("lost").get_by_text("in no copy").wait_for()
    page.keyboard.press("p")
    page.get_by_test_id("chain").get_by_text("far_pane not in it").wait_for(timeout=60_000)
    page.get_by_role("button", name="Open a case").click()
    page.wait_for_url(re.compile(r"/bench/"))
    page.get_by_role("button", name=re.compile("^Line-up")).click()
    page.get_by_role("button", name=re.compile("draw 2 layers that let light through")).first.click(timeout=240_000)
    page.get_by_role("button", name="Keep this fix").click()
    page.get_by_text("2 kept").or_(page.get_by_text("1 kept")).first.wait_for(timeout=240_000)
    page.get_by_role("button", name="Prove it everywhere").click()
    page.get_by_text("✓ Proved").wait_for(timeout=240_000)
    page.goto(f"/p/{project}/b/1/draw-order?from=eye")
    page.get_by_role("heading", name="Nothing is lost behind glass at eye").wait_for(timeout=240_000)
    page.get_by_role("link", name="Ledger", exact=True).click()
    hand_over(page, tmp_path / "out")
    code, said = command_line("glass", tmp_path / "out" / "panes.glb", "--viewpoint", "eye")
    assert code == 0 and said["lost"] == said["shut"] == []
