"""Speed of the bench in the browser: first frame after an upload, core sample, line-up, frames a second of wipe and exposure."""

import json
import os
import re
import signal
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from playwright.sync_api import Page, sync_playwright

from eddyfall.core.scene.gltf_write import write_glb
from eddyfall.core.scene.model import Material, Mesh, Node, Scene
from eddyfall.demo.shapes import Shape
from eddyfall.demo.write import write_demo

ROOT = Path(__file__).parents[1]
# Counts animation frames while `step` is called once in each, for two seconds.
FRAMES = """async (step) => {
    const act = new Function('i', step);
    const times = [];
    for (let i = 0; times.length < 2 || times.at(-1) - times[0] < 2000; i++) {
        act(i);
        times.push(await new Promise(requestAnimationFrame));
    }
    return 1000 * (times.length - 1) / (times.at(-1) - times[0]);
}"""
SLIDE = """const range = document.querySelector('input[type=range]');
Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value').set.call(range, String(1 + 0.1 * (i % 20)));
range.dispatchEvent(new Event('input', {bubbles: true}));"""
WIPE = """const wipe = document.querySelector('[aria-label=wipe]');
wipe.dispatchEvent(new KeyboardEvent('keydown', {key: i % 40 < 20 ? 'ArrowLeft' : 'ArrowRight', bubbles: true}));"""

PAN = """const page = document.querySelector('[role=application]'), box = page.getBoundingClientRect();
const at = (type, x, y) => page.dispatchEvent(new PointerEvent(type, {bubbles: true, pointerId: 1, button: 0, clientX: x, clientY: y}));
if (i === 0) { page.setPointerCapture = () => {}; at('pointerdown', box.x + 200, box.y + 200); }
at('pointermove', box.x + 200 + 180 * Math.sin(i / 25), box.y + 200 + 180 * Math.sin(i / 40));"""


def large_page(folder: Path) -> Path:
    """A build with one lightmap of 4096 texels and as many charts; returns its GLB, settings beside it."""
    shape, uv, cells = Shape(), [], 64
    for k in range(cells * cells):
        x, y = k % cells, k // cells
        shape.quad((x * 0.1, 0.0, -y * 0.1), (0.09, 0, 0), (0, 0, -0.09))
        low, high = np.array([x, y]) / cells + 2 / 4096, np.array([x + 1, y + 1]) / cells - 2 / 4096
        uv += [(low[0], high[1]), (high[0], high[1]), (high[0], low[1]), (low[0], low[1])]
    mesh = Mesh("sheet", (shape.primitive(0, np.array(uv)),))
    scene = Scene((mesh,), (Node("sheet", np.eye(4), mesh=0),), (Material("paint"),))
    folder.mkdir()
    (folder / "sheet.glb").write_bytes(write_glb(scene))
    view = {"eye": [3.2, 5, 2], "target": [3.2, 0, -3.2], "fov_y_deg": 50}
    setup = {"eddyfall_setup": 1, "viewpoints": {"eye": view}, "bake": {"resolution": 4096}}
    (folder / "sheet.setup.json").write_text(json.dumps(setup))
    return folder / "sheet.glb"


def browser(show: Callable[[str, float, str, str, bool], None]) -> None:
    """Start the demo in a state folder of its own, drive it, and print what it takes."""
    with tempfile.TemporaryDirectory(prefix="eddyfall-bench-") as folder:
        Path(folder).chmod(0o755)
        state = Path(folder) / "state"
        command = [sys.executable, "-m", "eddyfall.site.launch", "demo", "--state", str(state), "--port", "8700"]
        environment = {**os.environ, "PYTHONPATH": str(ROOT / "src"), "EDDYFALL_DEMO_HALL_SWEEP": "0"}
        process = subprocess.Popen(command, env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        try:
            while not (state / "address").exists():
                if process.poll() is not None:
                    raise RuntimeError("the demo did not start")
                time.sleep(0.2)
            with sync_playwright() as playwright:
                chromium = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=["--no-sandbox"])
                page = chromium.new_page(viewport={"width": 1280, "height": 800}, base_url=(state / "address").read_text())
                _measure(page, Path(folder), show)
        finally:
            process.send_signal(signal.SIGTERM)
            process.wait(60)


def _measure(page: Page, folder: Path, show: Callable[[str, float, str, str, bool], Any]) -> None:
    page.goto("/")
    page.get_by_label("Name").fill("demo")
    page.get_by_label("Password").fill("weirgate")
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("link", name="Weirgate Pump Station").click()
    paths = write_demo(folder / "demo", seed=7)
    times = []
    for _ in range(3):
        page.goto("/p/1/b/1/intake")
        page.get_by_label("Scene and settings files").set_input_files([str(paths["glb"]), str(paths["setup"])])
        page.get_by_role("button", name="Bring it in").click()
        page.get_by_text("reading it").wait_for()
        start = time.perf_counter()
        page.get_by_role("heading", name=re.compile("Build [2-9]: ")).wait_for()
        page.wait_for_function("() => document.querySelector('img[alt=\"frame of quay\"]')?.naturalWidth === 480")
        times.append(time.perf_counter() - start)
    first = statistics.median(times)
    show("first frame after an upload's end (demo-sized)", first, "s", "<= 3", first <= 3)
    page.goto("/p/1/b/1/bench/1")
    page.get_by_test_id("linear").wait_for()
    times = []
    for x in range(300, 700, 50):
        before = page.get_by_test_id("linear").inner_text()
        page.get_by_label("pixel to drill").fill(f"{x}, {x // 2}")
        start = time.perf_counter()
        page.get_by_label("pixel to drill").press("Enter")
        page.wait_for_function("b => document.querySelector('[data-testid=linear]').textContent !== b", arg=before, polling=20)
        times.append(time.perf_counter() - start)
    sample = statistics.median(times)
    show("spot to core sample on the screen", sample, "s", "<= 0.5", sample <= 0.5)
    times, firsts = [], []
    for _ in range(3):
        start = time.perf_counter()
        page.get_by_role("button", name=re.compile("^Line-up")).click()
        page.get_by_role("button", name=re.compile("Line-up [0-9]+ %")).wait_for()
        page.wait_for_function("() => document.querySelectorAll('[aria-label=\"Trials by rank\"] > li').length > 0", polling=20)
        firsts.append(time.perf_counter() - start)
        page.get_by_role("button", name=re.compile("^Line-up\\s*L")).wait_for()
        times.append(time.perf_counter() - start)
    lineup = statistics.median(times)
    print(f"first trial on the screen after {statistics.median(firsts):.2f} s")
    show("line-up in the browser, to the end", lineup, "s", "<= 5", lineup <= 5)
    page.get_by_role("slider", name="wipe").wait_for()
    rate = page.evaluate(FRAMES, WIPE)
    show("wiping", rate, "fps", ">= 60", round(rate) >= 60)
    page.get_by_role("slider", name="Exposure").fill("1")
    page.locator("canvas").first.wait_for()
    page.wait_for_timeout(1500)
    rate = page.evaluate(FRAMES, SLIDE)
    show("scrubbing exposure, two frames on the screen", rate, "fps", ">= 60", round(rate) >= 60)
    path = large_page(folder / "sheet")
    page.goto("/")
    page.get_by_label("New project").fill("large page")
    page.get_by_role("button", name="Make it").click()
    page.get_by_label("Scene and settings files").set_input_files([str(path), str(path.with_suffix(".setup.json"))])
    page.get_by_role("button", name="Bring it in").click()
    page.get_by_role("heading", name=re.compile("Build 1: ")).wait_for()
    page.goto(page.url.replace("intake", "lightmaps/sheet"))
    page.get_by_text(re.compile("4096.*texels/m")).wait_for()
    page.wait_for_load_state("networkidle")
    for _ in range(3):
        page.get_by_role("button", name="larger").click()
    page.wait_for_timeout(1000)
    rate = page.evaluate(FRAMES, PAN)
    show("moving a chart page of 4096 texels and 4096 charts", rate, "fps", ">= 60", round(rate) >= 60)
