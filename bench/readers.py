"""Fifty people who read at once, alone and beside clients that mean ill: how long lists, findings and pictures at hand take."""

import http.client
import json
import os
import random
import signal
import socket
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections import defaultdict
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any
from urllib.parse import quote, urlsplit

ROOT = Path(__file__).parents[1]
READERS, PEOPLE, THOUGHT_S, NEW_FRAMES, LENGTH_S = 50, 25, 0.5, 0.03, 60.0
PASSWORD = "soundings-of-the-weir"
MAKE_PEOPLE = """
import sys, django
django.setup()
from eddyfall.workbench.models import Membership, Project
from eddyfall.workbench.services.accounts import make_user
for k in range(int(sys.argv[1])):
    user = make_user(f"reader_{k}", sys.argv[2])
    for project in Project.objects.all():
        Membership.objects.create(project=project, user=user, role="viewer")
"""


@dataclass
class Stack:
    """A demo started for the bench: where it listens, its state folder, its launcher."""

    address: str
    state: Path
    process: "subprocess.Popen[bytes]"

    @property
    def where(self) -> tuple[str, int]:
        parts = urlsplit(self.address)
        return parts.hostname or "127.0.0.1", parts.port or 80


def start(folder: Path, **environment: str) -> Stack:
    """Start the demo in a state folder of its own and wait until it answers."""
    state = folder / "state"
    command = [sys.executable, "-m", "eddyfall.site.launch", "demo", "--state", str(state), "--port", "8700"]
    env = {**os.environ, "PYTHONPATH": str(ROOT / "src"), "EDDYFALL_DEMO_HALL_SWEEP": "0", **environment}
    (state / "address").unlink(missing_ok=True)
    process = subprocess.Popen(command, env=env, stdout=subprocess.DEVNULL, stderr=sys.stderr)
    while not (state / "address").exists():
        if process.poll() is not None:
            raise RuntimeError("the demo did not start")
        time.sleep(0.2)
    return Stack((state / "address").read_text(), state, process)


def people(stack: Stack, count: int) -> None:
    """Users that may read every project, made beside the running site."""
    from eddyfall.site.cluster import Cluster

    env = {
        **os.environ, "PYTHONPATH": str(ROOT / "src"), "DATABASE_URL": Cluster(stack.state).start(),
        "DJANGO_SETTINGS_MODULE": "eddyfall.site.settings", "EDDYFALL_SECRET_KEY": (stack.state / "secret.key").read_text(),
    }  # fmt: skip
    subprocess.run([sys.executable, "-c", MAKE_PEOPLE, str(count), PASSWORD], env=env, check=True)


class Client:
    """A signed-in browser's connection."""

    def __init__(self, where: tuple[str, int], username: str = "", password: str = "") -> None:
        self.where, self.cookies = where, dict[str, str]()
        self.line = http.client.HTTPConnection(*where, timeout=120)
        if username:
            self.get("/api/session")
            status, _ = self.send("POST", "/api/session", {"username": username, "password": password})
            if status != 200:
                raise RuntimeError(f"{username} could not sign in: {status}")

    def get(self, path: str) -> tuple[int, bytes]:
        return self.send("GET", path)

    def send(self, method: str, path: str, body: Any = None, version: int | None = None) -> tuple[int, bytes]:
        """(status, body); what only reads once more where the connection was closed meanwhile. body: JSON, or a form and its edge."""
        headers = {"Cookie": "; ".join(f"{k}={v}" for k, v in self.cookies.items()), "Content-Type": "application/json",
                   "X-CSRFToken": self.cookies.get("csrftoken", "")}  # fmt: skip
        if version is not None:
            headers["If-Match"] = str(version)
        data: Any = None
        if isinstance(body, tuple):
            data, headers["Content-Type"] = body[0], f"multipart/form-data; boundary={body[1]}"
        elif body is not None:
            data = json.dumps(body)
        for again in (True, False):
            try:
                self.line.request(method, path, data, headers)
                answer = self.line.getresponse()
                found = answer.read()
                break
            except (http.client.HTTPException, ConnectionError, OSError):
                self.line.close()
                self.line = http.client.HTTPConnection(*self.where, timeout=120)
                if not again or method != "GET":
                    raise
        for name, value in answer.headers.items():
            if name.lower() == "set-cookie":
                key, _, rest = value.partition("=")
                self.cookies[key] = rest.split(";")[0]
        return answer.status, found


@dataclass
class Tally:
    """Seconds by kind of request, and what was not answered."""

    times: dict[str, list[float]] = field(default_factory=lambda: defaultdict(list))
    failed: list[str] = field(default_factory=list)
    later: int = 0
    lock: threading.Lock = field(default_factory=threading.Lock)

    def p95(self, kind: str) -> float:
        values = sorted(self.times[kind])
        return values[min(int(len(values) * 0.95), len(values) - 1)] if values else 0.0


def paths_of(client: Client) -> tuple[list[str], list[str], list[str]]:
    """(lists and findings, pictures at hand, builds with a viewpoint to draw anew) of the demo."""
    lists, pictures, views = ["/api/projects", "/api/session", "/api/symptoms"], [], []
    for project in json.loads(client.get("/api/projects")[1]):
        base = f"/api/projects/{project['id']}"
        lists += [f"{base}/builds", f"{base}/jobs", f"{base}/members", f"{base}/events"]
        build = f"{base}/builds/1"
        lists += [build, f"{build}/ledger", f"{build}/cases", f"{build}/sweeps", f"{build}/setup"]
        for sweep in json.loads(client.get(f"{build}/sweeps")[1])[:1]:
            if sweep["job"]["state"] == "done":
                lists += [f"{build}/sweeps/{sweep['id']}"] * 3
                items = json.loads(client.get(f"{build}/sweeps/{sweep['id']}")[1])["items"]
                pictures += [f"{build}/findings/{f['id']}/picture" for f in items if f["has_picture"]]
        for case in json.loads(client.get(f"{build}/cases")[1]):
            lists.append(f"{build}/cases/{case['number']}")
        for view in json.loads(client.get(build)[1])["viewpoints"][:3]:
            frame = f"{build}/frames/{quote(view['key'])}"
            pictures.append(frame)
            views.append(frame)
            client.get(frame)
    return lists, pictures, views


def read(clients: list[Client], length_s: float, seed: int) -> Tally:
    """What people with half a second of thought meet. seed: another one asks for other frames, which nobody has drawn yet."""
    lists, pictures, views = paths_of(clients[0])
    tally, end = Tally(), time.monotonic() + length_s

    def person(number: int) -> None:
        dice, client = random.Random(seed * 1000 + number), clients[number]
        time.sleep(dice.random() * THOUGHT_S)
        while time.monotonic() < end:
            kind = "new frame" if dice.random() < NEW_FRAMES else dice.choice(["list", "list", "picture"])
            path = dice.choice({"new frame": views, "list": lists, "picture": pictures}[kind])
            if kind == "new frame":
                path += f"?width={dice.randrange(320, 960)}&height={dice.randrange(180, 540)}"
            begun = time.perf_counter()
            try:
                status, data = client.get(path)
            except Exception as error:
                status, data = 0, str(error).encode()
            took = time.perf_counter() - begun
            with tally.lock:
                tally.times[kind].append(took)
                if status == 429:
                    tally.later += 1
                elif status != 200:
                    tally.failed.append(f"{status} {path} {data[:120]!r}")
            time.sleep(THOUGHT_S)

    threads = [threading.Thread(target=person, args=(k,)) for k in range(len(clients))]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    return tally


class Hostile:
    """Half-sent headers that are renewed as they are let go, and wrong sign-ins without end."""

    def __init__(self, where: tuple[str, int], halves: int = 60, signers: int = 4) -> None:
        self.where, self.over = where, threading.Event()
        self.tried = 0
        works = [self._half] * halves + [self._sign_in] * signers
        self.threads = [threading.Thread(target=work, daemon=True, args=(k,)) for k, work in enumerate(works)]

    def __enter__(self) -> "Hostile":
        for thread in self.threads:
            thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self.over.set()

    def _half(self, number: int) -> None:
        while not self.over.is_set():
            try:
                with socket.create_connection(self.where, 5) as line:
                    line.sendall(b"POST /api/session HTTP/1.1\r\nHost: 127.0.0.1\r\nX-Slow: ")
                    while not self.over.wait(1.0):
                        line.sendall(b"a")
            except OSError:
                self.over.wait(0.2)

    def _sign_in(self, number: int) -> None:
        client = Client(self.where)
        client.get("/api/session")
        while not self.over.wait(0.05):
            try:
                client.send("POST", "/api/session", {"username": f"reader_{self.tried % 7}x", "password": "not this one"})
                self.tried += 1
            except (OSError, http.client.HTTPException):
                continue


def readers(show: Callable[[str, float, str, str, bool], Any], length_s: float = LENGTH_S) -> None:
    """Print what fifty readers meet, alone and beside hostile clients."""
    with tempfile.TemporaryDirectory(prefix="eddyfall-bench-") as folder:
        Path(folder).chmod(0o755)
        stack = start(Path(folder))
        try:
            people(stack, PEOPLE)
            clients = [Client(stack.where, f"reader_{k % PEOPLE}", PASSWORD) for k in range(READERS)]
            calm = read(clients, length_s, 1)
            # In a process of their own: they are to take the server's time, not the clock's.
            hostile = subprocess.Popen(
                [sys.executable, __file__, "hostile", *map(str, stack.where)], stdin=subprocess.PIPE, stdout=subprocess.PIPE
            )
            beside = read(clients, length_s, 2)
            tried = int(hostile.communicate()[0])
        finally:
            stack.process.send_signal(signal.SIGTERM)
            stack.process.wait(60)
    for tally, name in ((calm, "alone"), (beside, f"beside 60 half-sent headers and {tried} wrong sign-ins")):
        count = sum(map(len, tally.times.values()))
        print(f"{READERS} readers {name}: {count} requests, {len(tally.failed)} failed, {tally.later} asked to come later; new frames "
              f"{len(tally.times['new frame'])}, median {statistics.median(tally.times['new frame'] or [0]):.2f} s")  # fmt: skip
        for line in tally.failed[:5]:
            print("  ", line)
        show(f"failed requests, {name[:5]}", len(tally.failed), "", "0", not tally.failed)
        for kind, bound in (("list", 0.5), ("picture", 0.8)):
            show(f"{kind}s p95, {name[:5]}", tally.p95(kind), "s", f"<= {bound}", tally.p95(kind) <= bound)
    for kind in ("list", "picture"):
        ratio = beside.p95(kind) / max(calm.p95(kind), 1e-9)
        show(f"{kind}s beside hostile clients, against alone", ratio, "x", "<= 2", ratio <= 2)


if __name__ == "__main__":
    if sys.argv[1:2] == ["hostile"]:
        with Hostile((sys.argv[2], int(sys.argv[3]))) as meant_ill:
            sys.stdin.read()  # until told to end
        print(meant_ill.tried)
    else:
        readers(lambda *row: print(*row), float(sys.argv[1]) if len(sys.argv) > 1 else LENGTH_S)
