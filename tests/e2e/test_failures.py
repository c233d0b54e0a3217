"""What dies comes back, and leaves nothing by halves: worker, web process, database."""

import os
import re
import time

import pytest

from browser_helpers import api, bring, sign_in, with_setup
from eddyfall.site.cluster import Cluster
from scenes import net_build, write_build


def sweeps(page, project):
    return api(page, "GET", f"/api/projects/{project}/builds/1/sweeps?limit=200")[1]


@pytest.fixture
def nets(page, tmp_path):
    """The number of a project that is swept in a second or two."""
    return bring(page, "Nets", *with_setup(write_build(net_build(), tmp_path, "nets")))


@pytest.mark.parametrize(("whose", "after_s", "least"), [("nets", 0.3, 1), ("demo", 2.5, 3)])
def test_a_killed_worker_ends_as_done_or_failed_and_never_by_halves(page, stack, nets, whose, after_s, least):
    project = nets if whose == "nets" else 1
    known = {s["id"] for s in sweeps(page, project)}
    status, body = api(page, "POST", f"/api/projects/{project}/builds/1/sweeps", {})
    assert status == 201
    stack.until(lambda: sweeps(page, project)[0]["job"]["state"] == "running")
    time.sleep(after_s)
    stack.kill("worker")
    one = lambda: api(page, "GET", f"/api/projects/{project}/builds/1/sweeps/{body['id']}")[1]  # noqa: E731
    while True:
        now = one()
        if now["job"]["state"] != "done":
            assert now["items"] == [] and now["tide"] == [], "no half result is shown"
        if now["job"]["state"] in ("done", "failed"):
            break
        time.sleep(0.5)
    assert now["job"]["state"] == "done" and now["job"]["attempts"] == 2
    prints = [f["fingerprint"] for f in now["items"]]
    assert len(prints) == len(set(prints)) >= least
    assert {s["id"] for s in sweeps(page, project)} == known | {body["id"]}


def test_a_sweep_is_cancelled_from_the_page(page):
    page.goto("/p/1/b/1/sweep")
    page.get_by_role("button", name="Sweep again").click()
    page.get_by_role("button", name="sweep of build 1").click()
    page.get_by_role("button", name="Cancel").click()
    page.get_by_text("The last sweep was cancelled.").wait_for(timeout=60_000)


def test_the_page_recovers_from_a_killed_web_process(page, stack):
    page.goto("/p/1/b/1/ledger")
    page.get_by_role("heading", name="1 change kept, in order").wait_for()
    stack.kill("web")
    page.get_by_role("link", name="Set-up").click()
    page.get_by_role("heading", name="Settings as quay sees them").wait_for(timeout=60_000)


def test_both_recover_from_a_restarted_database(page, stack, nets):
    page.goto(f"/p/{nets}/b/1/sweep")
    page.get_by_role("button", name=re.compile("^Sweep")).wait_for()
    Cluster(stack.state).restart()
    page.goto("/p/1/b/1/intake")
    page.get_by_role("heading", name="Build 1: ").wait_for(timeout=60_000)
    page.goto(f"/p/{nets}/b/1/sweep")
    stack.until(lambda: api(page, "POST", f"/api/projects/{nets}/builds/1/sweeps", {})[0] == 201, 60)
    stack.until(lambda: sweeps(page, nets)[0]["job"]["state"] == "done", 150)


def test_a_second_start_on_the_same_state_is_refused(page, stack):
    import subprocess
    import sys
    from pathlib import Path

    environment = {**os.environ, "PYTHONPATH": str(Path(__file__).parents[2] / "src")}
    command = [sys.executable, "-m", "eddyfall.site.launch", "demo", "--state", str(stack.state)]
    run = subprocess.run(command, capture_output=True, text=True, env=environment)
    assert run.returncode == 1 and stack.address in run.stderr
    # Making a user beside a running demo leaves that running, and its own user in it.
    command = [sys.executable, "-m", "eddyfall.site.launch", "first-user", "ana", "--state", str(stack.state)]
    run = subprocess.run(command, capture_output=True, text=True, env={**environment, "EDDYFALL_PASSWORD": "a-long-password"})
    assert run.returncode == 0 and "ana can sign in now" in run.stdout, run.stderr
    assert stack.answers()
    page.context.clear_cookies()
    sign_in(page)
    run = subprocess.run(command, capture_output=True, text=True, env={**environment, "EDDYFALL_PASSWORD": "a-long-password"})
    assert run.returncode == 1 and "there already" in run.stderr


def test_the_demo_is_only_served_on_loopback(stack):
    import subprocess
    import sys
    from pathlib import Path

    environment = {**os.environ, "PYTHONPATH": str(Path(__file__).parents[2] / "src")}
    run = subprocess.run([sys.executable, "-m", "eddyfall.site.launch", "demo", "--bind", "0.0.0.0"], capture_output=True, text=True,
                         env=environment)  # fmt: skip
    assert run.returncode == 2 and "loopback" in run.stderr
