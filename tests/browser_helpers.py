"""What browser tests share besides fixtures: signing in, a new project, requests with the page's session, the command line."""

import json
import os
import re
import subprocess
import sys
import zipfile
from pathlib import Path

from axe_playwright_python.sync_playwright import Axe

ROOT = Path(__file__).parents[1]
FOCUSED = """() => {
    const e = document.activeElement;
    if (e === document.body) return '';  // nothing has the focus; its text is the whole page's
    return e.getAttribute('aria-label') || e.labels?.[0]?.innerText || e.innerText || '';
}"""


def api(page, method, path, body=None):
    """A request with the page's own session; returns (status, body)."""
    return api_version(page, method, path, body, None)


def api_version(page, method, path, body, version):
    """The same, made on a version of what it changes."""
    return page.evaluate(
        """async ([method, path, body, version]) => {
            const token = /csrftoken=([^;]+)/.exec(document.cookie)?.[1] ?? '';
            const answer = await fetch(path, {method, headers: {'X-CSRFToken': token, 'Content-Type': 'application/json',
                                                        ...(version === null ? {} : {'If-Match': String(version)})},
                                              body: body === null ? undefined : JSON.stringify(body)});
            return [answer.status, await answer.json().catch(() => null)];
        }""",
        [method, path, body, version],
    )


def sign_in(page):
    """From any page to the projects of the demo's user."""
    page.goto("/")
    page.get_by_label("Name").fill("demo")
    page.get_by_label("Password").fill("weirgate")
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("heading", name="Projects").wait_for()


def bring(page, name, *paths):
    """A new project with a build from files; returns its number."""
    page.goto("/")
    page.get_by_text("you are lead").first.wait_for()
    page.get_by_label("New project").fill(name)
    page.get_by_role("button", name="Make it").click()
    page.wait_for_url(re.compile(r"/p/\d+$"))
    page.get_by_label("Scene and settings files").set_input_files([str(p) for p in paths])
    page.get_by_role("button", name="Bring it in").click()
    page.get_by_role("heading", name=re.compile("Build 1: ")).wait_for()
    return int(re.search(r"/p/(\d+)/", page.url)[1])


def fits_in_every_way(page):
    """In both themes and at three widths nothing hinders anybody, and nothing reaches beyond the window."""
    for theme in ("nightwatch", "survey"):
        page.evaluate("t => { document.documentElement.dataset.theme = t }", theme)
        for width in (1024, 1920, 1280):
            page.set_viewport_size({"width": width, "height": 800})
            assert barriers(page, theme) == []
            assert page.evaluate("() => document.documentElement.scrollWidth <= window.innerWidth"), (theme, width)


def with_setup(path):
    """A scene file and the settings beside it."""
    return path, path.with_suffix(".setup.json")


def hand_over(page, folder):
    """Writes the hand over from the ledger's sheet, downloads it and unpacks it into a folder."""
    page.get_by_role("button", name="Write the hand over").click()
    with page.expect_download(timeout=120_000) as download:
        page.get_by_role("link", name=re.compile("Download the ZIP")).click(timeout=120_000)
    with zipfile.ZipFile(download.value.path()) as archive:
        archive.extractall(folder)


def barriers(page, theme="survey"):
    """Serious and critical findings of axe: rule, element, what it says. Themes differ in colour alone: only the first is asked all."""
    page.wait_for_function("() => document.getAnimations().every(a => a.playState !== 'running')")  # colours that still change
    rules = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "best-practice"] if theme == "survey" else None
    only = {"type": "tag", "values": rules} if rules else {"type": "rule", "values": ["color-contrast"]}
    found = Axe().run(page, options={"runOnly": only, "resultTypes": ["violations"]}).response["violations"]
    return [(v["id"], v["nodes"][0]["html"][:160], v["nodes"][0].get("failureSummary", "")[:200])
            for v in found if v["impact"] in ("serious", "critical")]  # fmt: skip


def tab_to(page, name):
    """Tab until an element of that name (an expression) has the focus."""
    for _ in range(200):
        page.keyboard.press("Tab")
        if re.search(name, page.evaluate(FOCUSED)):
            return
    raise AssertionError(f"{name} cannot be reached by Tab")


def command_line(*args):
    """Exit code and JSON of a command."""
    environment = {**os.environ, "PYTHONPATH": str(ROOT / "src")}
    run = subprocess.run(
        [sys.executable, "-m", "eddyfall.cli", *map(str, args), "--json", "-"], capture_output=True, text=True, env=environment
    )
    return run.returncode, json.loads(run.stdout) if run.stdout else run.stderr


def sweep_to_the_end(page):
    page.get_by_role("button", name=re.compile("^Sweep")).click()
    page.get_by_role("heading", name=re.compile(r"Build 1: (\d+ defect|clean)")).wait_for(timeout=300_000)
