"""A new delivery in the browser: rehearsed over a build with kept edits, answered, let go by keys; accepted by mouse."""

import re

from playwright.sync_api import expect

from browser_helpers import api, api_version, barriers, bring, with_setup
from deliveries import MOVED, YARD, ledger, second
from scenes import write_build

EDITS = (("nodes.box_1.draw_rank", 4), ("materials.clear.double_sided", True))


def keep(page, project):
    """Keep three edits of a build, as its sheets would."""
    base = f"/api/projects/{project}/builds/1/ledger"
    for change in (*ledger(YARD, *EDITS), MOVED):
        version = api(page, "GET", base)[1]["version"]
        status, told = api_version(page, "POST", base, {"change": change.model_dump(mode="json")}, version)
        assert status == 201, told


def rehearse(page, path):
    page.get_by_label("Scene and settings files").set_input_files(path)
    page.get_by_role("button", name=re.compile("Rehearse it over build")).click()
    expect(page.get_by_role("heading", name="second.glb: 1 asked, 2 moved")).to_be_visible(timeout=60_000)


def test_a_delivery_is_answered_and_accepted_by_mouse_and_let_go_by_keys(page, tmp_path):
    path = write_build(YARD, tmp_path, "yard")
    delivered, names = second(tmp_path)
    keep(page, bring(page, "Yard deliveries", *with_setup(path)))
    page.reload()

    # By keys: the asked row is the first; it is answered, told of, rehearsed anew, and let go.
    rehearse(page, delivered)
    row = page.locator("tr[data-edit='lamp:0']")
    row.focus()
    page.keyboard.press("Enter")
    expect(page.get_by_text("it was delivered otherwise, and you changed it")).to_be_visible()
    page.keyboard.press("ArrowDown")
    expect(page.locator("tr[data-edit]:focus")).to_contain_text("nodes.box_1.draw_rank")
    expect(page.locator("tr[data-edit]:focus")).to_contain_text(f"now nodes.{names['box_1']}.draw_rank")
    page.keyboard.press("ArrowUp")
    page.keyboard.press("k")
    expect(row).to_contain_text("asked: yours")
    accept = page.get_by_role("button", name="Accept as a build")
    expect(accept).to_be_disabled()
    shown = page.get_by_label("Frames before and after").get_by_role("heading")
    before = shown.inner_text()
    page.keyboard.press("]")
    expect(shown).not_to_have_text(before)
    assert barriers(page) == []
    page.get_by_role("button", name="Rehearse with 1 answer").press("Enter")
    expect(accept).to_be_enabled(timeout=60_000)
    page.get_by_role("button", name="Let it go").press("Enter")
    expect(page.get_by_role("heading", name=re.compile("^Build 1:"))).to_be_visible()
    expect(page.get_by_label("Deliveries", exact=True)).to_have_count(0)

    # By mouse: answered otherwise, accepted; the new build has what was shown.
    rehearse(page, delivered)
    row.get_by_role("button", name=re.compile("D$")).click()
    page.get_by_role("button", name="Rehearse with 1 answer").click()
    expect(accept).to_be_enabled(timeout=60_000)
    pictures = page.get_by_label("Frames before and after").locator("img")
    expect(pictures).to_have_count(2)
    for picture in pictures.all():
        expect(picture).to_have_js_property("complete", True)
    accept.click()
    expect(page.get_by_role("heading", name=re.compile("^Build 2:"))).to_be_visible(timeout=60_000)
    expect(page.get_by_text("delivered over build 1, with its settings")).to_be_visible()
    page.get_by_role("link", name="Ledger").click()
    kept = page.get_by_role("table").first
    expect(kept).to_contain_text("materials.clear.double_sided")
    expect(kept).not_to_contain_text("lamp on")
    page.goto(page.url.replace("/b/2/ledger", "/b/1/intake"))
    expect(page.get_by_text("accepted as build 2")).to_be_visible()
