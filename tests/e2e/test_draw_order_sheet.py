"""The Draw order sheet as it is used: from the sweep to the pop, a rank that breaks a pane, the least shift, proof, hand over."""

import re
from functools import partial

import pytest

from browser_helpers import bring, command_line, fits_in_every_way, hand_over, sweep_to_the_end, tab_to
from layer_scenes import card, mist_and_cutter, unlit
from scenes import write_build


def walked():
    """The walk past mist and cutter from viewpoint to viewpoint, a pane before both."""
    views = {n: {"eye": [x, 1.6, 0.0], "target": [x, 1.6, -1.0], "fov_y_deg": 55} for n, x in (("left", -3), ("right", 3))}
    keys = {"a": {"t_s": 0, "viewpoint": "left"}, "b": {"t_s": 3, "viewpoint": "right"}}
    pane = card("pane", (-1.5, 1.5), (0.5, 2.5), -2.0, unlit("pane", 0.6, 0.1))
    return mist_and_cutter(more=(pane,), viewpoints=views, moves={"walk": {"keys": keys}})


@pytest.mark.long
def test_a_pop_is_found_and_mended_by_the_least_shift_from_the_sweep_to_the_hand_over(page, tmp_path):
    path = write_build(walked(), tmp_path, "mist")
    project = bring(page, "Mist", path, path.with_suffix(".setup.json"))
    page.get_by_role("link", name="Sweep", exact=True).click()
    sweep_to_the_end(page)
    page.get_by_text(re.compile(r"mist pops at x = -0\.263 m of walk: cutter changes places with it")).wait_for()
    # The sheet by mouse: the crossing, frames either side, the layers of a pixel.
    page.get_by_role("link", name="Draw order").last.click()
    page.get_by_role("heading", name="mist pops at x = −0.263 m").wait_for(timeout=240_000)
    page.get_by_test_id("prints").get_by_text(re.compile("px off")).wait_for()
    _, said = command_line("order", path, "--move", "walk")
    assert page.get_by_test_id("pops").get_by_role("row").count() == 1 + len(said["pops"])
    page.get_by_test_id("pop-0").click(force=True)
    box = page.get_by_test_id("either").bounding_box()
    page.mouse.click(box["x"] + box["width"] * 0.75, box["y"] + box["height"] * 0.5)
    page.get_by_test_id("log-true").wait_for(timeout=60_000)
    # By keys: along the move, the next pop, a pixel further.
    page.get_by_role("heading", name="Crossing chart").click()
    page.keyboard.press("Shift+ArrowRight")
    before = page.get_by_role("heading", name="Layers at").inner_text()
    page.keyboard.press("p")
    page.keyboard.press("Shift+ArrowLeft")
    assert page.get_by_role("heading", name="Layers at").inner_text() != before
    page.keyboard.press("n")
    fits_in_every_way(page)
    # The case: a rank ends the pop and cuts the pane, the shift does not.
    page.goto(f"/p/{project}/b/1/sweep")
    page.get_by_text(re.compile("mist pops at")).wait_for()
    page.get_by_role("button", name="Open case").first.click()
    rank = page.get_by_role("button", name=re.compile("draw rank 1 for cutter"))
    assert "new: cutter is drawn over pane, which is nearer" in rank.inner_text()
    page.get_by_role("button", name=re.compile("sort mist as if 0.763 m farther")).click()
    page.get_by_role("button", name="Keep this fix").click()
    page.get_by_text("1 kept").wait_for(timeout=240_000)
    page.get_by_role("button", name="Prove it everywhere").click()
    page.get_by_text("✓ Proved").wait_for(timeout=240_000)
    page.goto(f"/p/{project}/b/1/draw-order?move=walk&from=left")
    page.get_by_role("heading", name="Nothing pops along walk").wait_for(timeout=240_000)
    page.get_by_role("link", name="Ledger", exact=True).click()
    hand_over(page, tmp_path / "out")
    assert command_line("sweep", tmp_path / "out" / "mist.glb")[0] == 0
    code, said = command_line("order", tmp_path / "out" / "mist.glb", "--move", "walk")
    assert code == 0 and said["pops"] == []

    # The same without a mouse, once what was kept is dropped: finding, sheet, pop, case, shift, proof, hand over.
    go_to = partial(tab_to, page)

    def case_by_keys():
        go_to("^Bench$")
        page.keyboard.press("Enter")
        page.get_by_role("heading", name=re.compile("Cases of build 1")).wait_for()
        go_to("mist pops at")
        page.keyboard.press("Enter")
        page.get_by_role("button", name=re.compile("sort mist as if 0.763 m farther")).wait_for(timeout=60_000)

    case_by_keys()
    page.get_by_text("1 kept").first.wait_for()
    page.evaluate("() => document.activeElement.blur()")
    page.keyboard.press("d")
    page.get_by_text("nothing kept yet").wait_for()
    go_to("^Sweep$")
    page.keyboard.press("Enter")
    page.get_by_role("list", name="Findings by impact").wait_for()
    go_to("^Draw order$")
    go_to("^Draw order$")
    page.keyboard.press("Enter")
    page.get_by_role("heading", name="mist pops at x = −0.263 m").wait_for(timeout=240_000)
    page.evaluate("() => document.activeElement.blur()")
    page.keyboard.press("n")
    page.keyboard.press("p")
    page.get_by_test_id("log-true").wait_for(timeout=60_000)
    case_by_keys()
    go_to("sort mist as if 0.763 m farther")
    page.keyboard.press("Enter")
    page.evaluate("() => document.activeElement.blur()")
    page.keyboard.press("k")
    page.get_by_text("1 kept").first.wait_for(timeout=240_000)
    go_to("Prove it everywhere")
    page.keyboard.press("Enter")
    page.get_by_text("✓ Proved").wait_for(timeout=240_000)
    go_to("^Ledger$")
    page.keyboard.press("Enter")
    go_to("Write the hand over")
    page.keyboard.press("Enter")
    page.get_by_role("link", name=re.compile("Download the ZIP")).first.wait_for(timeout=240_000)
