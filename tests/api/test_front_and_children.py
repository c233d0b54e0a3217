"""nginx as it is set up in front, and the processes of a site: kept running, found again after their launcher was killed, and no others."""

import json
import re
import shutil
import signal
import socket
import ssl
import subprocess
import sys
import time
import urllib.error
import urllib.request

import pytest

from eddyfall.site.children import Child, alive, end_left_behind, started_at
from eddyfall.site.cluster import ClusterError, free_port
from eddyfall.site.front import UPLOAD, Front, program

SLEEP = [sys.executable, "-c", "import time; time.sleep(600)"]


def test_every_route_that_takes_files_may_be_large_in_front():
    """And no other one."""
    from eddyfall.workbench.api import api

    values = {"project_id": 3, "number": 1, "viewpoint": "eye", "delivery_id": 1}
    for path, methods in api.get_openapi_schema()["paths"].items():
        takes = any("multipart/form-data" in o.get("requestBody", {}).get("content", {}) for o in methods.values())
        made = re.sub(r"{(\w+)}", lambda m: str(values.get(m[1], 1)), path)
        assert bool(re.match(UPLOAD, made)) == takes, path


def until(ready, seconds=30):
    end = time.monotonic() + seconds
    while not ready():
        assert time.monotonic() < end, "waited in vain"
        time.sleep(0.02)


@pytest.fixture
def certificate(tmp_path):
    if shutil.which("openssl") is None:
        pytest.skip("no openssl to make a certificate with")
    key, cert = tmp_path / "key.pem", tmp_path / "cert.pem"
    subprocess.run(
        ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", "/CN=localhost", "-keyout", key, "-out", cert],
        check=True, capture_output=True,
    )  # fmt: skip
    return str(cert), str(key)


def front(folder, **options):
    folder.mkdir(exist_ok=True)
    return Front("127.0.0.1", free_port(18600), folder, 50_000_000, folder / "files", **options)


@pytest.fixture
def runs(tmp_path):
    started = []

    def run(one):
        process = subprocess.Popen(one.command())
        started.append(process)
        until(lambda: socket.socket().connect_ex((one.bind, one.port)) == 0)
        return one

    yield run
    for process in started:
        process.terminate()
        process.wait()


def ask(url, **options):
    try:
        with urllib.request.urlopen(urllib.request.Request(url, **options), timeout=10, context=unchecked()) as answer:
            return answer.status, answer.headers, answer.read()
    except urllib.error.HTTPError as error:
        return error.code, error.headers, error.read()


def unchecked():
    context = ssl.create_default_context()
    context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
    return context


@pytest.mark.parametrize("options", [{}, {"proxies": ("10.0.0.0/8", "2001:db8::1")}, {"https_outside": True}])
def test_every_setting_makes_a_configuration_that_nginx_takes(tmp_path, options):
    one = front(tmp_path / "run with space", **options)
    one.command()
    done = subprocess.run(
        [program(), "-t", "-p", str(one.run), "-c", str(one.run / "nginx.conf"), "-e", "stderr"], capture_output=True
    )
    assert done.returncode == 0, done.stderr.decode()


def test_what_is_no_address_is_no_proxy(tmp_path):
    with pytest.raises(ClusterError, match="no address"):
        front(tmp_path / "run", proxies=("10.0.0.1; evil on",)).command()


def test_errors_of_the_front_are_json_too(tmp_path, runs):
    one = runs(front(tmp_path / "run"))
    for path, options, expected in (
        ("api/projects", {}, 503),
        ("api/projects", {"data": b"x" * (3 << 20), "method": "POST"}, 413),
        ("api/projects/1/builds", {"data": b"x", "method": "POST"}, 503),
    ):
        status, headers, body = ask(one.address + path, **options)
        assert status == expected and json.loads(body)["detail"], (path, status, body)
        assert status != 503 or int(headers["Retry-After"]) > 0
    with socket.create_connection((one.bind, one.port), 10) as line:
        line.sendall(b"GET /api/a%00b HTTP/1.1\r\nHost: x\r\n\r\n")
        answer = line.recv(2000)
    assert answer.startswith(b"HTTP/1.1 400") and b'"detail"' in answer
    status, _, body = ask(one.address)
    assert status == 503 and body.startswith(b"Eddyfall is starting again")


def test_more_sign_ins_than_an_office_makes_are_refused_at_the_front(tmp_path, runs):
    one = runs(front(tmp_path / "run"))
    found = [ask(one.address + "api/session", data=b"{}", method="POST")[0] for _ in range(90)]
    assert 429 in found and found[:50].count(429) == 0, found
    assert ask(one.address + "api/session")[0] == 503, "asking who is signed in is not limited"


def test_it_speaks_https_with_a_certificate(tmp_path, runs, certificate):
    one = runs(front(tmp_path / "run", certificate=certificate[0], key=certificate[1]))
    assert one.address.startswith("https://")
    assert ask(one.address + "api/session")[0] == 503


def test_a_child_that_dies_is_started_again_with_a_note_of_it(tmp_path):
    said = []
    child = Child("web", tmp_path, lambda: SLEEP)
    child.start()
    first = child.process.pid
    assert (tmp_path / "web.pid").read_text() == f"{first} {started_at(first)}"
    child.process.send_signal(signal.SIGKILL)
    child.process.wait()

    def back():
        child.look(said.append)
        return child.process.pid != first and alive(child.process.pid)

    until(back)
    assert len(said) == 1 and "web ended (-9)" in said[0]
    child.ask_to_end()
    child.end(time.monotonic() + 5)
    assert not alive(child.process.pid) and not (tmp_path / "web.pid").exists()


def test_what_dies_at_once_is_started_again_ever_later(tmp_path):
    child, said = Child("web", tmp_path, lambda: [sys.executable, "-c", "raise SystemExit(3)"]), []
    child.start()
    end = time.monotonic() + 4
    while time.monotonic() < end:
        child.look(said.append)
        time.sleep(0.02)
    assert 2 <= len(said) <= 5, "not twenty times a second"
    child.end(time.monotonic())


def test_what_a_killed_launcher_left_is_ended_with_all_it_started(tmp_path):
    both = (
        "import subprocess, sys, time; subprocess.Popen([sys.executable, '-c', 'import time; time.sleep(600)']); time.sleep(600)"
    )
    child = Child("web", tmp_path, lambda: [sys.executable, "-c", both])
    child.start()
    leader = child.process.pid
    family = lambda: subprocess.run(["ps", "-o", "pid=", "-s", str(leader)], capture_output=True, text=True).stdout.split()  # noqa: E731
    until(lambda: len(family()) == 2)
    child.process.kill()  # its own child is left alone, as when a master process dies
    child.process.wait()
    said = []
    assert end_left_behind(tmp_path, ("web", "worker"), said.append) == ["web"]
    until(lambda: not family())
    assert "Taking over" in said[0] and not (tmp_path / "web.pid").exists()
    assert end_left_behind(tmp_path, ("web",), said.append) == []


def test_a_process_that_only_has_the_number_is_left_alone(tmp_path):
    other = subprocess.Popen(SLEEP, start_new_session=True)
    try:
        (tmp_path / "web.pid").write_text(f"{other.pid} 1")
        assert end_left_behind(tmp_path, ("web",), print) == []
        assert alive(other.pid)
    finally:
        other.kill()
        other.wait()
