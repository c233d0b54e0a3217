"""The whole stack as a user starts it, on a port and in a state folder of its own, and a real browser."""

import os
import signal
import subprocess
import sys
import tempfile
import time
import urllib.request
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

import pytest
from playwright.sync_api import sync_playwright

from browser_helpers import sign_in
from guide import recipe

ROOT = Path(__file__).parents[2]
CHROMIUM = ["--no-sandbox", "--disable-background-networking", "--disable-component-update", "--disable-sync", "--no-first-run"]


@dataclass
class Stack:
    """A running demo: how it is started, its state folder, its address and launcher."""

    command: list[str]
    environment: dict[str, str]
    state: Path
    log: BinaryIO
    address: str = ""
    process: subprocess.Popen | None = None

    def pid(self, name: str) -> int:
        return int((self.state / f"{name}.pid").read_text().split()[0])

    def kill(self, name: str) -> None:
        """Kill a process of the site with -9, as a machine short of memory would, and wait until another runs."""
        before = self.pid(name)
        os.kill(before, signal.SIGKILL)
        self.until(lambda: self.pid(name) != before)

    def kill_launcher(self) -> None:
        """Kill the launcher with -9 and start another on the same state folder, which takes over what was left running."""
        self.process.kill()
        self.process.wait()
        self.launch()

    def launch(self) -> None:
        """Start it and wait until it answers."""
        (self.state / "address").unlink(missing_ok=True)
        self.process = subprocess.Popen(self.command, env=self.environment, stdout=self.log, stderr=subprocess.STDOUT)
        self.until(lambda: (self.state / "address").exists() or self.process.poll() is not None, 240)
        assert self.process.poll() is None, "the site did not start"
        self.address = (self.state / "address").read_text()

    def answers(self) -> bool:
        """Whether the web process takes requests."""
        try:
            urllib.request.urlopen(self.address + "api/session", timeout=5).close()
        except OSError:
            return False
        return True

    @staticmethod
    def until(ready, seconds: float = 90):
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            if ready():
                return
            time.sleep(0.1)
        raise AssertionError("waited in vain")


def own_rooms(folder: Path) -> list[str]:
    """The guide's section, pass and code as modules outside of the tree. The code asks for more green than the demo has anywhere."""
    rooms = {
        "toy_lens": recipe("python section"),
        "toy_blur": recipe("python pass").replace("eddyfall.core.scene.setup.sections.lens", "toy_lens"),
        "toy_green": recipe("python code").replace("+ 20\n", "+ 90\n"),
    }
    for name, text in rooms.items():
        (folder / f"{name}.py").write_text(text)
    return list(rooms)


@pytest.fixture(scope="session")
def stack():
    with tempfile.TemporaryDirectory(prefix="eddyfall-e2e-") as folder:
        Path(folder).chmod(0o755)
        state = Path(folder) / "state"
        environment = {k: v for k, v in os.environ.items() if not k.startswith(("DJANGO", "EDDYFALL_S"))}
        own = Path(folder) / "own"
        own.mkdir()
        environment |= {"PYTHONPATH": f"{ROOT / 'src'}:{own}", "EDDYFALL_EXTRAS": ",".join(own_rooms(own)),
                        "EDDYFALL_JOB_SILENT_S": "6", "EDDYFALL_DEMO_HALL_SWEEP": "0"}  # fmt: skip
        environment.pop("DATABASE_URL", None)
        log = (Path(folder) / "log").open("w+b")
        command = [sys.executable, "-m", "eddyfall.site.launch", "demo", "--state", str(state), "--port", "8600"]
        running = Stack(command, environment, state, log)
        try:
            running.launch()
            running.until((state / "ready").exists, 600)
            yield running
        finally:
            running.process.send_signal(signal.SIGTERM)
            running.process.wait(60)
            print((Path(folder) / "log").read_text()[-4000:])


@pytest.fixture(scope="session")
def browser():
    with sync_playwright() as playwright:
        yield playwright.chromium.launch(executable_path="/usr/bin/chromium", args=CHROMIUM)


@pytest.hookimpl(wrapper=True)
def pytest_runtest_makereport(item, call):
    """What a failed test's pages showed stands beside the failure: a wait in vain says nothing of what was there instead."""
    report = yield
    if call.when == "call" and report.failed and (browser := item.funcargs.get("browser")):
        for page in [p for context in browser.contexts for p in context.pages]:
            shown = page.evaluate("() => document.body.innerText.slice(0, 1500)")
            report.sections.append((f"page {page.url}", shown))
    return report


@pytest.fixture
def page(browser, stack):
    """A signed-in page that fails the test on any error of its scripts."""
    context = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=stack.address, accept_downloads=True)
    stack.until(stack.answers)
    page = context.new_page()
    errors = []
    page.on("pageerror", lambda e: errors.append(str(e)))
    page.set_default_timeout(30_000)
    sign_in(page)
    yield page
    context.close()
    assert errors == []
