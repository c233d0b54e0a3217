"""The interface as it is used: real server, real worker, real browser; numbers on the screen against the command line's."""

import re
from dataclasses import replace
from functools import partial

import pytest

from browser_helpers import FOCUSED, api, barriers, bring, command_line, hand_over, sweep_to_the_end, tab_to
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.model import Image, Material, SkyPicture, TextureUse
from eddyfall.core.scene.sky_pictures import sky_bytes
from eddyfall.demo.pictures import grating
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of, floor, net_build, write_build
from skies import made

SHEETS = {
    "projects": "/", "intake": "/p/1/b/1/intake", "set-up": "/p/1/b/1/set-up", "sweep": "/p/1/b/1/sweep", "cases": "/p/1/b/1/bench",
    "bench": "/p/1/b/1/bench/1", "proved": "/p/1/b/1/bench/2", "ledger": "/p/1/b/1/ledger", "account": "/account",
}  # fmt: skip


NOTHING_BEYOND = "() => document.documentElement.scrollWidth <= window.innerWidth"
BRIGHTNESS = """() => {
    const data = document.querySelector('canvas').getContext('2d').getImageData(0, 0, 960, 540).data;
    let sum = 0;
    for (let i = 0; i < data.length; i += 4) sum += data[i];
    return sum / (data.length / 4);
}"""


def figures(text):
    """Numbers in a line of the interface (thin-space thousands)."""
    return [float(v) for v in re.findall(r"-?\d+(?:\.\d+)?(?:e-?\d+)?", text.replace("\u202f", ""))]


def test_from_a_file_to_a_repaired_one(page, tmp_path):
    files = tmp_path / "in"
    files.mkdir()
    path = write_build(net_build(), files, "nets")
    project = bring(page, "From a file", path, path.with_suffix(".setup.json"))
    page.get_by_role("link", name="Sweep", exact=True).click()
    sweep_to_the_end(page)
    code, found = command_line("sweep", path)
    assert code == 1
    shown = page.get_by_role("list", name="Findings by impact").get_by_role("listitem").first.inner_text()
    assert f"{found['findings'][0]['impact']['share'] * 100:.2f}" in shown and "depth.missing-prepass" in shown
    page.get_by_role("button", name="Open case").click()
    page.get_by_role("heading", name=found["findings"][0]["title"]).wait_for()
    # The core sample on the screen is the command line's.
    page.get_by_label("pixel to drill").fill("420, 280")
    page.get_by_label("pixel to drill").press("Enter")
    _, sample = command_line("core-sample", path, "--viewpoint", "eye", "--at", "420,280")
    page.wait_for_function(
        "v => document.querySelector('[data-testid=linear]')?.textContent.includes(v)", arg=f"{sample['linear'][1]:.4g}"
    )
    assert figures(page.get_by_test_id("linear").inner_text()) == pytest.approx(sample["linear"], rel=1e-3)
    # So are the line-up's trials, in order.
    spot = page.get_by_label("Spot x, y, width, height").input_value()
    page.keyboard.press("Escape")
    page.get_by_role("button", name=re.compile("^Line-up")).click()
    page.get_by_role("button", name=re.compile("write prepass depth")).first.wait_for()
    page.get_by_text("clears it", exact=True).first.wait_for()
    _, lineup = command_line("lineup", path, "--viewpoint", "eye", "--spot", spot.replace(" ", ""), "--symptom", "see-through")
    prints = page.get_by_role("list", name="Trials by rank").get_by_role("listitem")
    page.wait_for_function(
        "n => document.querySelectorAll('[aria-label=\"Trials by rank\"] > li').length === n", arg=len(lineup["trials"])
    )
    for i, trial in enumerate(lineup["trials"]):
        text = prints.nth(i).inner_text()
        assert trial["title"] in text
        assert f"{trial['before']:.4g}".rstrip("0") in text.replace("\u202f", "")
    page.get_by_role("button", name="Keep this fix").click()
    page.get_by_text("1 kept").wait_for()
    page.get_by_role("button", name="Prove it everywhere").click()
    page.get_by_text("✓ Proved").wait_for(timeout=240_000)
    page.get_by_role("link", name="Ledger", exact=True).click()
    page.get_by_text("/shaders/net/passes/depth").wait_for()
    hand_over(page, tmp_path / "out")
    assert command_line("sweep", tmp_path / "out" / "nets.glb")[0] == 0
    assert api(page, "GET", f"/api/projects/{project}/builds/1/ledger")[1]["changes"][0]["kept_by"] == "demo"


def test_a_scene_that_is_not_ours_without_settings(page, tmp_path):
    path = write_build(net_build(), tmp_path, "bare", with_setup=False)
    bring(page, "Without settings", path)
    page.get_by_text("came without settings").wait_for()
    page.get_by_text(re.compile("fixed at EV100")).wait_for()
    frames = page.get_by_role("img", name=re.compile("frame of fitted_"))
    page.wait_for_function("() => [...document.querySelectorAll('img[alt^=\"frame of\"]')].every(i => i.naturalWidth === 480)")
    assert frames.count() == 4, "three around it, and one that shows what is hidden from those"
    page.get_by_role("link", name="Sweep", exact=True).click()
    sweep_to_the_end(page)


def test_a_spot_is_dragged_and_a_pixel_drilled_with_the_mouse(page):
    page.goto("/p/1/b/1/bench")
    page.get_by_label("What is wrong").fill("something by the tower")
    page.get_by_role("button", name="Open a case").click()
    page.get_by_text("drag one on the picture").wait_for()
    box = page.get_by_test_id("picture").bounding_box()
    at = lambda x, y: (box["x"] + x / 960 * box["width"], box["y"] + y / 540 * box["height"])  # noqa: E731
    page.mouse.move(*at(200, 100))
    page.mouse.down()
    page.mouse.move(*at(300, 180), steps=5)
    page.mouse.up()
    page.wait_for_function("() => [...document.querySelectorAll('input')].some((i) => /^(199|200), (99|100), /.test(i.value))")
    page.mouse.click(*at(480, 300))
    page.wait_for_function("() => /^4(79|80), (299|300)$/.test(document.querySelector('[aria-label=\"pixel to drill\"]').value)")
    page.get_by_test_id("linear").wait_for()


def test_findings_are_shown_while_the_rest_of_the_sweep_runs(page, demo_files):
    bring(page, "Watched", demo_files["glb"], demo_files["setup"])
    page.get_by_role("link", name="Sweep", exact=True).click()
    page.get_by_role("button", name="Sweep", exact=True).click()
    so_far = page.get_by_role("region", name="Found so far")
    so_far.get_by_text("measured; remedies are being tried").first.wait_for(timeout=240_000)
    assert so_far.get_by_role("listitem").count() == 9
    page.wait_for_function(
        "() => /proved/.test(document.querySelector('[aria-label=\"Found so far\"] li:has(svg)')?.textContent ?? '')",
        timeout=240_000,
    )
    so_far.wait_for(state="detached", timeout=240_000)
    page.get_by_role("heading", name="Build 1: 9 defects").wait_for()
    assert page.get_by_role("list", name="Findings by impact").get_by_role("listitem").count() == 9


def test_a_walk_over_all_sheets_by_mouse_and_by_keys(page):
    sheets = {"Intake": "triangles in", "Set-up": "Settings as", "Sweep": "Build 1:", "Bench": "Cases of build 1",
              "Lightmaps": "ightmap", "Ledger": "change"}  # fmt: skip
    page.goto("/p/1/b/1/intake")
    nav = page.get_by_role("navigation", name="Sheets")
    for name, heading in sheets.items():
        nav.get_by_role("link", name=name, exact=True).click()
        page.get_by_role("heading", level=1, name=re.compile(heading)).wait_for()
        assert nav.get_by_role("link", name=name, exact=True).get_attribute("aria-current") == "page"
    for name, heading in sheets.items():
        for _ in range(60):
            page.keyboard.press("Tab")
            if page.evaluate(FOCUSED) == name:
                break
        page.keyboard.press("Enter")
        page.get_by_role("heading", level=1, name=re.compile(heading)).wait_for()
    page.keyboard.press("?")
    page.get_by_role("dialog").get_by_text("Line-up").first.wait_for()


def test_a_lost_shadow_is_shown_with_the_test_that_lost_it(page):
    sweeps = api(page, "GET", "/api/projects/1/builds/1/sweeps")[1]
    items = api(page, "GET", f"/api/projects/1/builds/1/sweeps/{sweeps[-1]['id']}")[1]["items"]
    lost = next(f for f in items if f["document"]["code"] == "shadow.out-of-reach")
    number = api(page, "POST", "/api/projects/1/builds/1/cases", {"finding": lost["id"]})[1]["number"]
    page.goto(f"/p/1/b/1/bench/{number}")
    page.get_by_label("pixel to drill").fill("560, 262")
    page.get_by_label("pixel to drill").press("Enter")
    shadows = page.get_by_role("region", name="Shadows at this pixel")
    shadows.get_by_text("Lost at: a map serves this depth").wait_for()
    sample = api(page, "GET", f"/api/projects/1/builds/1/cases/{number}/autopsy/before?x=560&y=262")[1]["lights"][0]
    depth = next(t for t in sample["tests"] if t["leaf"] == "shadow.reach_m")
    assert sample["caster"] == "far_pier_hoist" and depth["margin"] == pytest.approx(360 - depth["value"])
    assert "the shadow is there" in shadows.inner_text() and "far_pier_hoist" in shadows.inner_text()
    assert barriers(page) == []


def far_hoist():
    """A hoist 385 m off before a wall, beyond a reach of 360 m, and its near twin."""
    walls, far, near = Shape(), Shape(), Shape()
    for hoist, x, z in ((far, 16.0, -385.0), (near, -14.0, -300.0)):
        walls.box((x - 13, 0, z - 5), (x + 13, 11, z - 4), 1.0, "xXYzZ")
        for post in (-7.0, 0.0, 7.0):
            hoist.box((x + post - 0.4, 0, z - 0.8), (x + post + 0.4, 8.2, z), 1.0, "xXYzZ")
        hoist.box((x - 8, 8.1, z - 0.9), (x + 8, 9.0, z + 0.1), 1.0)
    view = {"eye": [0.0, 9.0, 0.0], "target": [2.0, 4.0, -360.0], "fov_y_deg": 11}
    return build_of(
        Thing("ground", floor(0.0, near=1.0, far=460.0, half=200.0)), Thing("walls", walls), Thing("far_hoist", far),
        Thing("near_hoist", near),
        setup={
            "viewpoints": {"long_reach": view, "aside": {**view, "target": [0.0, 4.0, -360.0]}},
            "lights": {"sun": {"kind": "sun", "illuminance_lux": 2.0, "towards": [-0.5, 0.55, 0.67]}},
            "sky": {"zenith_rgb": [0.1, 0.1, 0.2], "horizon_rgb": [0.3, 0.3, 0.3], "ground_rgb": [0.1, 0.1, 0.1]},
            "depth": {"near_m": 0.5}, "shadow": {"reach_m": 360.0},
        },
    )  # fmt: skip


def grille():
    """A level grille with a mesh finer than the shadow map's texels, over a floor under a sun overhead."""
    bars = Material("bars", base_texture=TextureUse(0), alpha_mode="MASK", alpha_cutoff=0.35, double_sided=True)
    sheet = Shape().quad((-4, 4, 4), (8, 0, 0), (0, 0, -8), 0.2)
    setup = {
        "viewpoints": {"eye": {"eye": [0, 12, 9], "target": [0, 0, 0], "fov_y_deg": 50}},
        "lights": {"sun": {"kind": "sun", "illuminance_lux": 3.0, "towards": [0, 1, 0]}},
        "shadow": {"reach_m": 18.0, "resolution": 1024, "cascades": 1},
    }
    things = (Thing("floor", floor(0.0, near=-20, far=20)), Thing("sheet", sheet, bars))
    return build_of(*things, images=(Image("bars", grating((128, 128, 128))),), setup=setup)


@pytest.mark.long
def test_a_lost_hole_is_measured_mended_and_measured_again(page, tmp_path):
    path = write_build(grille(), tmp_path, "grille")
    bring(page, "Grille", path, path.with_suffix(".setup.json"))
    page.get_by_role("link", name="Sweep", exact=True).click()
    sweep_to_the_end(page)
    assert "shadow.hole-lost" in page.get_by_role("list", name="Findings by impact").inner_text()
    page.get_by_role("link", name="Shadow reach").last.click()
    page.get_by_role("button", name="Measure the shadows of sun").click()
    row = page.get_by_test_id("fineness").get_by_role("row", name=re.compile("Holes of bars"))
    shown = row.inner_text()
    _, [fine] = command_line("shadow-fineness", path, "--viewpoint", "eye")
    drawn, true = (round(fine["holes"][0][k] * 100) for k in ("drawn", "true"))
    assert figures(shown)[:2] == [drawn, true] and "beyond its limit" in shown
    page.get_by_role("button", name="Draw both sides of its end").click()
    pictures = page.get_by_test_id("bar-ends").get_by_role("img")
    page.wait_for_function("() => [...document.querySelectorAll('[data-testid=bar-ends] img')].every(i => i.naturalWidth > 0)")
    assert pictures.count() == 2
    page.get_by_role("button", name=re.compile("keep bars: shadow mip bias -[0-9]")).click()
    page.get_by_text("none beyond a limit").wait_for(timeout=60_000)
    assert "beyond" not in row.inner_text() and barriers(page) == []


def court():
    """A stack on level ground under nothing but a sky picture that still holds its sun."""
    ground, stack = Shape().quad((-20, 0, 20), (40, 0, 0), (0, 0, -40)), Shape().box((-0.5, 0, -0.5), (0.5, 4, 0.5))
    view = {"eye": [14, 9, 16], "target": [0, 0, -2], "fov_y_deg": 40}
    build = build_of(
        Thing("ground", ground),
        Thing("stack", stack),
        setup={
            "viewpoints": {"gate": view},
            "sky": {"picture": "noon.exr"},
            "exposure": {"mode": "fixed", "ev100": 14},
            "shadow": {"reach_m": 60.0},
        },
    )
    return replace(build, scene=build.scene.with_sky(SkyPicture("noon.exr", freeze(made(256, fine=16)))))


@pytest.mark.long
def test_the_sun_of_a_sky_is_found_put_beside_it_as_a_light_and_handed_over(page, tmp_path):
    path = write_build(court(), tmp_path, "court")
    (tmp_path / "noon.exr").write_bytes(sky_bytes(made(256, fine=16)))
    project = bring(page, "Court", path, path.with_suffix(".setup.json"))
    page.get_by_role("link", name="Sweep", exact=True).click()
    sweep_to_the_end(page)
    assert "shadow.sky-sun-off" in page.get_by_role("list", name="Findings by impact").inner_text()
    page.goto(f"/p/{project}/b/1/shadow-reach")
    page.get_by_text("of the light on level ground throws no shadow").wait_for(timeout=60_000)
    _, found = command_line("sun-of", tmp_path / "noon.exr")
    sky = api(page, "GET", f"/api/projects/{project}/builds/1/shadows/gate/sky")[1]
    assert sky["found"] == found and sky["share"] == pytest.approx(0.718, abs=0.004) and sky["due_px"] > 100
    rows = page.get_by_test_id("sky-sun")
    assert figures(rows.get_by_role("row", name="Its shade is due at").inner_text()) == [round(found["stops"], 2)]
    page.wait_for_function("() => [...document.querySelectorAll('section[aria-label=Sky] img')].every(i => i.naturalWidth > 0)")
    assert barriers(page) == []
    page.get_by_role("link", name="Sweep", exact=True).click()
    page.get_by_role("button", name="Open case").click()
    page.get_by_role("button", name=re.compile("noon.exr without its sun")).click()
    page.get_by_role("button", name="Keep this fix").click()
    page.get_by_text("1 kept").wait_for()
    page.get_by_role("button", name="Prove it everywhere").click()
    page.get_by_text("✓ Proved").wait_for(timeout=240_000)
    page.goto(f"/p/{project}/b/1/shadow-reach")
    page.get_by_text("no sun to trust").wait_for(timeout=60_000)
    page.get_by_role("link", name="Ledger", exact=True).click()
    hand_over(page, tmp_path / "out")
    assert command_line("sweep", tmp_path / "out" / "court.glb")[0] == 0


def test_a_reach_is_mended_from_sweep_to_hand_over_by_mouse_and_then_by_keys(page, tmp_path):
    path = write_build(far_hoist(), tmp_path, "reach")
    project = bring(page, "Reach", path, path.with_suffix(".setup.json"))
    base = f"/p/{project}/b/1"
    page.get_by_role("link", name="Sweep", exact=True).click()
    sweep_to_the_end(page)
    # A finding leads to the sheet, where the longer reach at the same first texel is kept; its case proves it.
    page.get_by_role("link", name="Shadow reach").last.click()
    title = page.get_by_role("heading", level=1, name=re.compile(r"far_hoist stands [0-9]+ m beyond its shadow"))
    title.wait_for(timeout=60_000)
    section = api(page, "GET", f"/api/projects/{project}/builds/1/shadows/long_reach?light=sun")[1]
    code, [theirs] = command_line("shadows", path, "--viewpoint", "long_reach")
    assert code == 1 and section == theirs and section["casters"][0]["name"] == "far_hoist"
    page.get_by_test_id("marked").click(position={"x": 10, "y": 10})
    page.get_by_role("alert").get_by_text("only sky").wait_for()
    page.get_by_role("button", name=re.compile("keep shadow reach [0-9]+ m with split lambda")).click()
    page.get_by_role("link", name=re.compile("prove it there")).click()
    page.get_by_text("1 kept").wait_for()
    page.get_by_role("button", name="Prove it everywhere").click()
    page.get_by_text("✓ Proved").wait_for(timeout=120_000)
    page.get_by_role("link", name="Ledger", exact=True).click()
    page.get_by_text("/shadow/split_lambda").first.wait_for()
    hand_over(page, tmp_path / "out")
    code, [mended] = command_line("shadows", tmp_path / "out" / "reach.glb", "--viewpoint", "long_reach")
    assert mended["casters"][0]["lost_at"] is None and mended["tiers"][0]["texel_m"] <= section["tiers"][0]["texel_m"]
    page.get_by_role("link", name="Bench", exact=True).click()
    page.get_by_role("link", name=re.compile("far_hoist")).first.click()
    page.get_by_text("1 kept").wait_for()
    page.keyboard.press("d")
    page.get_by_text("nothing kept yet").wait_for()

    # The same without a mouse.
    go_to = partial(tab_to, page)
    go_to("^Sweep$")
    page.keyboard.press("Enter")
    page.get_by_role("list", name="Findings by impact").wait_for()
    go_to("^Shadow reach$")
    go_to("^Shadow reach$")
    page.keyboard.press("Enter")
    title.wait_for(timeout=60_000)
    page.evaluate("() => document.activeElement.blur()")
    page.keyboard.press("ArrowDown")
    page.keyboard.press("ArrowUp")
    page.keyboard.press("End")
    page.get_by_text(re.compile("^360 m: no map serves this")).wait_for()
    page.keyboard.press("ArrowLeft")
    page.get_by_text(re.compile("cascade 4, texel")).wait_for()
    page.keyboard.press("Enter")
    page.get_by_text("Lost at: a map serves this depth").first.wait_for()
    page.keyboard.press("Escape")
    page.get_by_text("Test chain: far_hoist").wait_for()
    page.keyboard.press(".")
    page.keyboard.press(",")
    page.get_by_text("Test chain: far_hoist").wait_for()
    assert barriers(page) == []
    go_to("^keep shadow reach [0-9]+ m with split lambda")
    page.keyboard.press("Enter")
    page.get_by_role("heading", level=1, name="Every shadow that is due is drawn").wait_for(timeout=60_000)
    go_to("prove it there")
    page.keyboard.press("Enter")
    page.get_by_text("1 kept").wait_for()
    go_to("^Ledger$")
    page.keyboard.press("Enter")
    go_to("Write the hand over")
    page.keyboard.press("Enter")
    page.get_by_role("link", name=re.compile("Download the ZIP")).first.wait_for(timeout=120_000)
    assert base in page.url


def test_eleven_names_fit_the_header(page):
    page.goto("/p/1/b/1/sweep")
    nav = page.get_by_role("navigation", name="Sheets")
    nav.get_by_role("link", name="Lightmaps").wait_for()
    # Placeholders for sheets to come, as long as their names will be.
    page.evaluate("""() => {
        const nav = document.querySelector('nav[aria-label=Sheets]');
        const last = nav.lastElementChild;
        for (const name of ['Surfaces', 'Shots']) {
            const copy = last.cloneNode(true);
            copy.textContent = name;
            nav.insertBefore(copy, last);
        }
    }""")
    fits = "() => { const h = document.querySelector('header'); return h.scrollWidth <= h.clientWidth }"
    assert page.evaluate(fits) and nav.get_by_role("link").count() == 11
    assert page.evaluate("() => [...document.querySelectorAll('header nav a')].every(a => a.getClientRects().length === 1)")
    page.set_viewport_size({"width": 1100, "height": 800})
    nav.get_by_role("button", name="Topics").click()
    nav.get_by_role("link", name="Lightmaps").click()
    page.wait_for_url(re.compile("/lightmaps$"))
    nav.get_by_role("button", name="Topics").filter(has_text="Lightmaps").wait_for()


@pytest.mark.parametrize("theme", ["survey", "nightwatch"])
def test_no_sheet_has_serious_barriers(page, theme):
    page.evaluate("t => localStorage.setItem('theme', t)", theme)
    for name, path in SHEETS.items():
        page.goto(path)
        page.wait_for_load_state("networkidle")
        for width in (1280, 1024, 1920):
            page.set_viewport_size({"width": width, "height": 800})
            serious = barriers(page, theme)
            assert serious == [], (name, theme, width, serious)
            assert page.evaluate(NOTHING_BEYOND), (name, width, "the page is wider than the window")


def test_the_sign_in_has_no_serious_barriers(browser, stack):
    page = browser.new_page(base_url=stack.address)
    page.goto("/")
    page.get_by_role("button", name="Sign in").wait_for()
    assert barriers(page) == []
    page.close()


def test_signing_in_leads_to_the_page_that_was_asked_for(browser, stack):
    page = browser.new_page(base_url=stack.address)
    page.goto("/p/1/b/1/ledger")
    page.get_by_label("Name").fill("demo")
    page.get_by_label("Password").fill("weirgate")
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("heading", name="1 change kept, in order").wait_for()
    page.close()


def test_the_whole_path_by_keyboard_alone(browser, stack, tmp_path):
    context = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=stack.address)
    page = context.new_page()
    page.set_default_timeout(30_000)
    page.goto("/")
    page.get_by_label("Name").wait_for()

    go_to = partial(tab_to, page)
    go_to("^Name")
    page.keyboard.type("demo")
    page.keyboard.press("Tab")
    page.keyboard.type("weirgate")
    page.keyboard.press("Enter")
    page.get_by_role("link", name="Weirgate Pump Station").wait_for()
    go_to("^Weirgate Pump Station")
    page.keyboard.press("Enter")
    page.get_by_role("heading", name=re.compile("Build 1: 9 defects")).wait_for()
    go_to(r"^Open case \d$")
    page.keyboard.press("Enter")
    page.get_by_role("heading", name=re.compile("rope_net")).wait_for()
    go_to("pixel to drill")
    page.keyboard.press("Control+a")
    page.keyboard.type("500, 60")
    page.keyboard.press("Enter")
    page.get_by_text("(sky)").first.wait_for()
    page.evaluate("() => document.activeElement.blur()")
    page.keyboard.press("l")
    page.get_by_role("button", name=re.compile("Line-up [0-9]+ %")).wait_for()
    page.get_by_role("button", name=re.compile("^Line-up\\s*L")).wait_for(timeout=60_000)
    page.keyboard.press("]")
    page.keyboard.press("[")
    page.get_by_role("button", name=re.compile("write prepass depth"), pressed=True).first.wait_for()
    page.keyboard.press("k")
    page.get_by_text("1 kept").wait_for()
    go_to("Prove it everywhere")
    page.keyboard.press("Enter")
    page.get_by_text("✓ Proved").wait_for(timeout=120_000)
    page.evaluate("() => document.activeElement.blur()")
    page.keyboard.press("d")
    page.get_by_text("nothing kept yet").wait_for()
    go_to("^Ledger$")
    page.keyboard.press("Enter")
    page.get_by_role("heading", name="1 change kept, in order").wait_for()
    page.get_by_text("1 dropped").wait_for()
    context.close()


def test_a_hostile_file_is_one_message_and_nothing_else(page, tmp_path):
    (tmp_path / "bad.glb").write_bytes(b"glTF\x02\0\0\0")
    page.goto("/p/1/b/1/intake")
    page.get_by_label("Scene and settings files").set_input_files(str(tmp_path / "bad.glb"))
    page.get_by_role("button", name="Bring it in").click()
    page.get_by_text("bad.glb: the GLB is cut off in its header").wait_for()
    assert len(api(page, "GET", "/api/projects/1/builds")[1]) == 1


def test_exposure_and_wipe_keep_up(page):
    """Not a timed test: that exposure repaints the picture and wiping moves the clip, without a request for each step."""
    page.goto("/p/1/b/1/bench/1")
    page.get_by_role("slider", name="wipe").wait_for()
    page.get_by_role("slider", name="Exposure").fill("2")
    page.wait_for_function("() => document.querySelectorAll('canvas').length >= 2")  # both frames' light is here
    page.wait_for_function(f"() => ({BRIGHTNESS})() > 0")
    bright = page.evaluate(BRIGHTNESS)
    requests = []
    page.on("request", lambda r: requests.append(r.url))
    page.get_by_role("slider", name="Exposure").fill("-2")
    page.wait_for_function(f"([b]) => ({BRIGHTNESS})() < b * 0.6", arg=[bright])
    page.get_by_role("slider", name="wipe").press("ArrowLeft")
    assert [u for u in requests if "frames" in u] == []


def slip():
    """A board on edge on a floor; the sun behind it has no shadow bias at all."""
    ground = Shape().quad((-20, 0, 5), (40, 0, 0), (0, 0, -45))
    return build_of(
        Thing("ground", ground), Thing("board", Shape().box((-1.5, 0, -5.05), (0.5, 1.0, -5), 1.0)),
        setup={
            "viewpoints": {"slip": {"eye": [0, 2, -1.0], "target": [0, 0, -5.0], "fov_y_deg": 50}},
            "lights": {"sun": {"kind": "sun", "illuminance_lux": 5.0, "towards": [0, 0.5, -0.866], "bias_normal_texels": 0.0}},
            "shadow": {"near_m": 0.5, "cascades": 1, "reach_m": 20.0, "resolution": 2048},
        },
    )  # fmt: skip


@pytest.mark.long
def test_a_bias_is_solved_on_the_sheet_kept_and_handed_over(page, tmp_path):
    path = write_build(slip(), tmp_path, "slip")
    project = bring(page, "Slip", path, path.with_suffix(".setup.json"))
    page.get_by_role("link", name="Sweep", exact=True).click()
    sweep_to_the_end(page)
    page.get_by_text("Surfaces shade themselves").first.wait_for()
    page.get_by_role("link", name="Shadow reach").last.click()
    page.get_by_role("heading", level=1, name=re.compile("lacks light of sun that is due")).wait_for(timeout=60_000)
    page.get_by_role("button", name="Solve the bias of sun").click()
    table = page.get_by_test_id("bias")
    table.wait_for(timeout=60_000)
    solved = api(page, "GET", f"/api/projects/{project}/builds/1/shadow-bias?light=sun")[1]
    code, theirs = command_line("shadow-bias", path, "--light", "sun")
    assert code == 1 and solved == theirs and not solved["set_to"]["inside"]
    chosen = solved["chosen"]["bias"]["words"]
    page.get_by_text(f"smallest that keeps both limits: {chosen}").wait_for()
    row = table.get_by_role("row").filter(has_text=chosen).filter(has=page.get_by_role("button", name="Keep"))
    assert "drawn" in row.inner_text() and barriers(page) == []
    row.get_by_role("button", name="Keep").click()
    page.get_by_role("heading", level=1, name="Every shadow that is due is drawn").wait_for(timeout=60_000)
    page.get_by_role("link", name="Ledger", exact=True).click()
    page.get_by_text("/lights/sun/bias").first.wait_for()
    hand_over(page, tmp_path / "out")
    code, mended = command_line("shadow-bias", tmp_path / "out" / "slip.glb", "--light", "sun")
    assert code == 0 and mended["set_to"]["inside"] and mended["set_to"]["bias"]["words"] == chosen
