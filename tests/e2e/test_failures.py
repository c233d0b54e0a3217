"""What dies comes back, and leaves nothing by halves: worker, web process, database."""

import os
import re
import signal
import socket
import time
from pathlib import Path
from urllib.parse import urlsplit

import pytest

from browser_helpers import api, api_version, bring, sign_in, with_setup
from eddyfall.site.cluster import Cluster
from scenes import net_build, write_build


def sweeps(page, project):
    return api(page, "GET", f"/api/projects/{project}/builds/1/sweeps?limit=200")[1]


@pytest.fixture
def nets(page, tmp_path):
    """The number of a project that is swept in a second or two."""
    return bring(page, "Nets", *with_setup(write_build(net_build(), tmp_path, "nets")))


@pytest.mark.long
@pytest.mark.parametrize(("whose", "after_s", "least"), [("nets", 0.0, 1), ("demo", 2.5, 3)])
def test_a_killed_worker_ends_as_done_or_failed_and_never_by_halves(page, stack, nets, whose, after_s, least):
    project = nets if whose == "nets" else 1
    known = {s["id"] for s in sweeps(page, project)}
    for _ in range(8):  # a sweep of the nets may end before the kill: then another is asked for
        now = sweep_with_its_worker_killed(page, stack, project, after_s)
        known.add(now["id"])
        if now["job"]["attempts"] == 2:
            break
    assert now["job"]["state"] == "done" and now["job"]["attempts"] == 2
    prints = [f["fingerprint"] for f in now["items"]]
    assert len(prints) == len(set(prints)) >= least
    assert {s["id"] for s in sweeps(page, project)} == known


def sweep_with_its_worker_killed(page, stack, project, after_s):
    """A sweep as it ended, its worker killed some time after it was seen to run."""
    status, body = api(page, "POST", f"/api/projects/{project}/builds/1/sweeps", {})
    assert status == 201
    stack.until(lambda: sweeps(page, project)[0]["job"]["state"] != "waiting")
    time.sleep(after_s)
    stack.kill("worker")
    while True:
        now = api(page, "GET", f"/api/projects/{project}/builds/1/sweeps/{body['id']}")[1]
        if now["job"]["state"] != "done":
            assert now["items"] == [] and now["tide"] == [], "no half result is shown"
        if now["job"]["state"] in ("done", "failed"):
            return now
        time.sleep(0.5)


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


@pytest.mark.parametrize("name", ["studio", "front", "keeper"])
def test_every_process_that_is_killed_comes_back(page, stack, name, tmp_path):
    """The one that draws, the one in front, and the one that brings builds in."""
    stack.kill(name)
    stack.until(stack.answers, 30)
    size = {"studio": 301, "front": 302, "keeper": 303}[name]
    asked = "([p, w]) => fetch(`${p}?width=${w}&height=200`).then(a => a.status)"
    stack.until(lambda: page.evaluate(asked, ["/api/projects/1/builds/1/frames/quay", size]) == 200, 60)
    if name == "keeper":
        assert bring(page, "Nets again", *with_setup(write_build(net_build(), tmp_path, "nets"))) > 1


def test_a_killed_postmaster_is_started_again_and_a_sweep_loses_no_attempt(page, stack, nets):
    api(page, "POST", f"/api/projects/{nets}/builds/1/sweeps", {})
    stack.until(lambda: sweeps(page, nets)[0]["job"]["state"] != "waiting")
    os.kill(int(Cluster(stack.state)._noted(0)), signal.SIGKILL)
    status = api(page, "GET", "/api/projects")[0]
    assert status in (200, 503), status
    stack.until(lambda: api(page, "GET", "/api/health")[0] == 200, 60)
    stack.until(lambda: sweeps(page, nets)[0]["job"]["state"] == "done", 90)
    job = sweeps(page, nets)[0]["job"]
    assert job["attempts"] == 1, job
    page.goto("/p/1/b/1/ledger")
    page.get_by_role("heading", name="1 change kept, in order").wait_for(timeout=60_000)


def test_a_killed_launcher_finds_what_it_left_and_takes_over(page, stack):
    before = {name: stack.pid(name) for name in ("web", "studio", "front", "worker", "keeper")}
    address = stack.address
    stack.kill_launcher()
    assert stack.address == address, "on the same port"
    assert all(not Path(f"/proc/{pid}").exists() for pid in before.values())
    page.goto("/p/1/b/1/ledger")
    page.get_by_role("heading", name="1 change kept, in order").wait_for(timeout=60_000)


def test_clients_that_never_finish_their_headers_hold_nobody_up(page, stack):
    where = urlsplit(stack.address)
    halves = [socket.create_connection((where.hostname, where.port), 5) for _ in range(120)]
    for line in halves:
        line.sendall(b"POST /api/session HTTP/1.1\r\nHost: 127.0.0.1\r\nX-Slow: a")
    page.goto("/p/1/b/1/ledger")
    page.get_by_role("heading", name="1 change kept, in order").wait_for()
    assert stack.answers()
    for line in halves:
        line.close()


def test_a_stranger_who_sends_a_large_body_is_told_before_it_is_sent(page, stack):
    where = urlsplit(stack.address)
    with socket.create_connection((where.hostname, where.port), 20) as line:
        line.sendall(
            b"POST /api/projects/1/builds HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Type: multipart/form-data; boundary=x\r\n"
            b"Content-Length: 1000000000\r\n\r\n--x\r\n"
        )
        answer = line.recv(4000)
    assert answer.startswith(b"HTTP/1.1 401") and b"sign in first" in answer
    with socket.create_connection((where.hostname, where.port), 20) as line:
        line.sendall(b"POST /api/projects HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 1000000000\r\n\r\n")
        answer = line.recv(4000)
    assert answer.startswith(b"HTTP/1.1 413") and b'"detail"' in answer


def test_a_line_up_that_its_client_dropped_ends_and_stores_nothing(page, stack, nets):
    base = f"/api/projects/{nets}/builds/1"
    case = {"viewpoint": "eye", "symptom": "see-through", "spot": [300, 230, 120, 80]}
    status, case = api(page, "POST", base + "/cases", case)
    assert status == 201, case
    page.evaluate(
        """async (path) => {
            const token = /csrftoken=([^;]+)/.exec(document.cookie)[1], gone = new AbortController();
            const answer = await fetch(path, {method: 'POST', headers: {'X-CSRFToken': token}, signal: gone.signal});
            await answer.body.getReader().read();
            gone.abort();
        }""",
        f"{base}/cases/{case['number']}/line-up?try_all=true",
    )
    waits = lambda: api(page, "GET", "/api/health")[1]["parts"]["studio"]["waiting"]  # noqa: E731
    stack.until(lambda: api(page, "GET", f"{base}/frames/eye?width=333&height=222")[0] == 200, 60)  # the renderer is free again
    assert waits() == {"draw": 0, "measure": 0, "open": 0}
    after = api(page, "GET", f"{base}/cases/{case['number']}")[1]
    assert after["version"] == case["version"] and after["trials"] == [] and after["lineup"] is None
    status, edited = api_version(page, "PATCH", f"{base}/cases/{case['number']}", {"title": "still mine"}, case["version"])
    assert status == 200, edited


def test_one_who_asks_for_thirty_new_frames_does_not_keep_another_waiting(page, stack, nets):
    """A second person's frame comes before most of the first one's thirty."""
    done = page.evaluate(
        """async (base) => {
            const ended = [];
            const many = Array.from({length: 20}, (_, k) => fetch(`${base}?width=${500 + k}&height=300`).then(a => ended.push(a.status)));
            await new Promise(r => setTimeout(r, 300));
            const list = await fetch('/api/projects').then(a => a.status);
            const before = ended.length;
            await Promise.all(many);
            return [list, before, ended];
        }""",
        "/api/projects/1/builds/1/frames/gallery",
    )
    status, before, ended = done
    assert status == 200 and before < 20, "a list does not wait for frames"
    assert set(ended) <= {200, 429}, ended


def test_a_second_start_on_the_same_state_is_refused(page, stack):
    import subprocess
    import sys

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

    environment = {**os.environ, "PYTHONPATH": str(Path(__file__).parents[2] / "src")}
    run = subprocess.run([sys.executable, "-m", "eddyfall.site.launch", "demo", "--bind", "0.0.0.0"], capture_output=True, text=True,
                         env=environment)  # fmt: skip
    assert run.returncode == 2 and "loopback" in run.stderr
