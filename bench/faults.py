"""What dies comes back: processes killed at random moments, a launcher started again, builds deleted while they are worked on.

Meanwhile people upload, sweep and keep. What the server has answered with success must be there at the end, and nothing may be stuck.
"""

import http.client
import json
import os
import random
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from readers import PASSWORD, Client, Stack, people, start

KILLS, BACK_S = 40, 30.0
VICTIMS = ("web", "studio", "front", "worker", "keeper", "postmaster", "launcher")
NETS = """
import sys
from pathlib import Path
from scenes import net_build, write_build
write_build(net_build(), Path(sys.argv[1]), "nets")
"""


@dataclass
class Ledger:
    """What the server has said yes to."""

    uploads: list[int] = field(default_factory=list)  # jobs
    sweeps: list[tuple[int, int]] = field(default_factory=list)  # build, sweep
    kept: list[tuple[int, str]] = field(default_factory=list)  # build, title
    deleted: list[int] = field(default_factory=list)
    troubles: list[str] = field(default_factory=list)


class Worker:
    """Somebody who works on, whatever the server answers."""

    def __init__(self, where: tuple[str, int], files: tuple[bytes, bytes], over: threading.Event, seed: int) -> None:
        self.where, self.said, self.files, self.over, self.dice = where, Ledger(), files, over, random.Random(seed)
        self.client: Client | None = None
        self.project = 0

    def ask(self, method: str, path: str, body: Any = None, version: int | None = None) -> tuple[int, Any]:
        """(status, JSON); status 0 where the connection broke: whether it was done is then not known."""
        try:
            if self.client is None:
                self.client = Client(self.where, "demo", "weirgate")
            status, data = self.client.send(method, path, body, version)
            return status, json.loads(data) if data else None
        except (OSError, RuntimeError, ValueError, http.client.HTTPException):
            self.client = None
            time.sleep(0.3)
            return 0, None

    def until(self, ready: Callable[[], Any], seconds: float = 120) -> Any:
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            if value := ready():
                return value
            time.sleep(0.3)
        return None

    def upload(self) -> int | None:
        """Bring a build in; returns its number."""
        scene, setup = self.files
        edge = "soundings"
        parts = [("scene", "nets.glb", scene), ("setup", "nets.setup.json", setup)]
        body = b"".join(
            f'--{edge}\r\nContent-Disposition: form-data; name="{name}"; filename="{file}"\r\n\r\n'.encode() + data + b"\r\n"
            for name, file, data in parts
        )
        status, job = self.ask("POST", f"/api/projects/{self.project}/builds", (body + f"--{edge}--\r\n".encode(), edge))
        if status != 202:
            return None
        self.said.uploads.append(job["id"])
        path = f"/api/projects/{self.project}/jobs/{job['id']}"
        done = self.until(
            lambda: (j := self.ask("GET", path)[1]) and isinstance(j, dict) and j.get("state") in ("done", "failed") and j
        )
        return done["build"] if done else None

    def run(self) -> None:
        """Projects, uploads, sweeps, cases, keeps, and now and then a deletion in the middle of a sweep."""
        project = self.until(lambda: (r := self.ask("POST", "/api/projects", {"name": "faults"})) and r[0] == 201 and r[1])
        self.project = project["id"]
        while not self.over.is_set():
            number = self.upload()
            if number is None:
                continue
            base = f"/api/projects/{self.project}/builds/{number}"
            status, sweep = self.ask("POST", base + "/sweeps", {})
            if status != 201:
                continue
            if self.dice.random() < 0.25:
                if self.ask("DELETE", base)[0] == 204:
                    self.said.deleted.append(number)
                continue
            self.said.sweeps.append((number, sweep["id"]))
            path = f"{base}/sweeps/{sweep['id']}"
            done = self.until(
                lambda p=path: (s := self.ask("GET", p)[1]) and s.get("job", {}).get("state") in ("done", "failed") and s
            )
            if not done or not done["items"]:
                continue
            status, case = self.ask("POST", base + "/cases", {"finding": done["items"][0]["id"]})
            if status != 201:
                continue
            status, after = self.ask("POST", f"{base}/cases/{case['number']}/keep", {"remedy": 0}, case["version"])
            if status == 200:
                self.said.kept.append((number, after["kept"][0]["title"]))


def faults(show: Callable[[str, float, str, str, bool], Any], kills: int = KILLS) -> None:
    """Kill at random moments and print how long each thing took to come back, and what was lost."""
    with tempfile.TemporaryDirectory(prefix="eddyfall-faults-") as folder:
        Path(folder).chmod(0o755)
        env = {**os.environ, "PYTHONPATH": os.pathsep.join([str(Path(__file__).parents[1] / p) for p in ("src", "tests")])}
        subprocess.run([sys.executable, "-c", NETS, folder], env=env, check=True)
        files = (Path(folder, "nets.glb").read_bytes(), Path(folder, "nets.setup.json").read_bytes())
        stack = start(Path(folder))
        people(stack, 1)
        over = threading.Event()
        workers = [Worker(stack.where, files, over, k) for k in range(2)]
        threads = [threading.Thread(target=w.run, daemon=True) for w in workers]
        for thread in threads:
            thread.start()
        try:
            dice, back = random.Random(3), []
            for number in range(kills):
                time.sleep(dice.uniform(0.5, 6.0))
                victim = dice.choice(VICTIMS) if number >= len(VICTIMS) else VICTIMS[number]
                killed = time.monotonic()
                stack = _kill(stack, victim, Path(folder))
                took = _back(stack, killed)
                back.append(took)
                print(f"{number + 1:3d} {victim:10s} killed; all is well again after {took:5.1f} s", flush=True)
            over.set()
            for thread in threads:
                thread.join(200)
            show("longest until all is well again", max(back), "s", f"<= {BACK_S:g}", max(back) <= BACK_S)
            lost = [line for worker in workers for line in _lost(stack, worker)]
            for line in lost[:20]:
                print("  ", line)
            counts = {k: sum(len(getattr(w.said, k)) for w in workers) for k in ("uploads", "sweeps", "kept", "deleted")}
            print("said yes to " + ", ".join(f"{n} {k}" for k, n in counts.items()))
            show("lost or stuck", len(lost), "", "0", not lost)
        finally:
            over.set()
            stack.process.send_signal(signal.SIGTERM)
            stack.process.wait(60)


def _kill(stack: Stack, victim: str, folder: Path) -> Stack:
    if victim == "launcher":
        stack.process.kill()
        stack.process.wait()
        return start(folder)
    if victim == "postmaster":
        from eddyfall.site.cluster import Cluster

        pid = int(Cluster(stack.state)._noted(0))
    else:
        pid = _pid(stack, victim)
    os.kill(pid, signal.SIGKILL)
    return stack


def _pid(stack: Stack, name: str) -> int:
    return int((stack.state / f"{name}.pid").read_text().split()[0])


def _back(stack: Stack, killed: float) -> float:
    """Seconds until every process runs and the health route says that every part is well, twice in a row."""
    well = 0
    while time.monotonic() - killed < 120:
        try:
            status, data = Client(stack.where).get("/api/health")
            run = all(Path(f"/proc/{_pid(stack, name)}/cmdline").read_bytes() for name in VICTIMS[:5])
            well = well + 1 if run and status == 200 and json.loads(data)["ok"] else 0
        except (OSError, ValueError, http.client.HTTPException):
            well = 0
        if well == 2:
            break
        time.sleep(0.25)
    return time.monotonic() - killed


def _lost(stack: Stack, worker: Worker) -> list[str]:
    """What was said yes to and is not there, and what has not ended."""
    client, said, lost = Client(stack.where, "demo", "weirgate"), worker.said, []
    get = lambda path: json.loads(client.get(path)[1])  # noqa: E731
    end, project = time.monotonic() + 120, f"/api/projects/{worker.project}"
    while time.monotonic() < end and any(j["state"] in ("waiting", "running") for j in get(f"{project}/jobs?limit=200")):
        time.sleep(0.5)
    jobs = {j["id"]: j for page in range(5) for j in get(f"{project}/jobs?limit=200&offset={page * 200}")}
    lost += [
        f"{j['about']} is {j['state']}: {j['message']}" for j in jobs.values() if j["state"] in ("waiting", "running", "failed")
    ]
    lost += [f"upload {n} is not known" for n in said.uploads if n not in jobs]
    builds = {b["number"] for page in range(5) for b in get(f"{project}/builds?limit=200&offset={page * 200}")}
    wanted = {jobs[n]["build"] for n in said.uploads if n in jobs} - {None}
    lost += [f"build {n} is gone" for n in wanted - builds - set(said.deleted)]
    lost += [
        f"sweep {s} of build {n} is gone" for n, s in said.sweeps if client.get(f"{project}/builds/{n}/sweeps/{s}")[0] != 200
    ]
    for number in builds:
        base = f"{project}/builds/{number}"
        if client.get(f"{base}/files/scene")[0] != 200:
            lost.append(f"{base}: its file is gone")
        for sweep in get(f"{base}/sweeps"):
            for item in get(f"{base}/sweeps/{sweep['id']}")["items"]:
                if item["has_picture"] and client.get(f"{base}/findings/{item['id']}/picture")[0] != 200:
                    lost.append(f"{base}: a picture is gone")
        titles = [c["title"] for c in get(f"{base}/ledger")["changes"]]
        lost += [f"{base}: {t!r} was kept and is gone" for n, t in said.kept if n == number and t not in titles]
    return lost


__all__ = ["PASSWORD", "faults"]

if __name__ == "__main__":
    faults(lambda *row: print(*row), int(sys.argv[1]) if len(sys.argv) > 1 else KILLS)
