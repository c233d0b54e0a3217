"""What browser tests share besides fixtures: signing in, requests with the page's session, the command line."""

import json
import os
import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).parents[1]


def api(page, method, path, body=None):
    """A request with the page's own session; returns (status, body)."""
    return page.evaluate(
        """async ([method, path, body]) => {
            const token = /csrftoken=([^;]+)/.exec(document.cookie)?.[1] ?? '';
            const answer = await fetch(path, {method, headers: {'X-CSRFToken': token, 'Content-Type': 'application/json'},
                                              body: body === null ? undefined : JSON.stringify(body)});
            return [answer.status, await answer.json().catch(() => null)];
        }""",
        [method, path, body],
    )


def sign_in(page):
    """From any page to the projects of the demo's user."""
    page.goto("/")
    page.get_by_label("Name").fill("demo")
    page.get_by_label("Password").fill("weirgate")
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("heading", name="Projects").wait_for()


def command_line(*args):
    """Exit code and JSON of a command."""
    environment = {**os.environ, "PYTHONPATH": str(ROOT / "src")}
    run = subprocess.run(
        [sys.executable, "-m", "eddyfall.cli", *map(str, args), "--json", "-"], capture_output=True, text=True, env=environment
    )
    return run.returncode, json.loads(run.stdout) if run.stdout else run.stderr
