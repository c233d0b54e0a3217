"""Memory of the site through many frames, many builds and many readers of a large one: it stays within what it was given."""

import json
import os
import signal
import struct
import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from faults import NETS
from readers import Client, Stack, start

BUDGET_MIB, FRAMES, BUILDS, PARALLEL = 1536, 200, 20, 8
LARGE_VERTICES = 13_000_000
WORKING_MIB = 1400  # beyond what it was given: what one question takes while it works on the largest build
WEB_MIB = 640


def large_glb(vertices: int) -> bytes:
    """A sheet of so many vertices, as a GLB."""
    side = int(vertices**0.5)
    x, y = np.meshgrid(np.arange(side, dtype=np.float32), np.arange(side, dtype=np.float32))
    positions = np.stack([x * 0.01, np.sin(x * 0.05) * 0.3, -y * 0.01], axis=-1).reshape(-1, 3).astype(np.float32)
    normals = np.tile(np.array([0, 1, 0], np.float32), (len(positions), 1))
    step = max(side // 1000, 1)  # few triangles: it is vertices that are counted here
    at = np.arange(0, side - step, step)
    a = (at[:, None] * side + at[None]).reshape(-1).astype(np.uint32)
    corners = np.stack([a, a + step, a + side * step, a + step, a + side * step + step, a + side * step], axis=-1).astype(
        np.uint32
    )
    arrays = [positions.tobytes(), normals.tobytes(), corners.tobytes()]
    views, offset = [], 0
    for data in arrays:
        views.append({"buffer": 0, "byteOffset": offset, "byteLength": len(data)})
        offset += len(data)
    document = {
        "asset": {"version": "2.0"}, "buffers": [{"byteLength": offset}], "bufferViews": views,
        "accessors": [
            {"bufferView": 0, "componentType": 5126, "count": len(positions), "type": "VEC3"},
            {"bufferView": 1, "componentType": 5126, "count": len(positions), "type": "VEC3"},
            {"bufferView": 2, "componentType": 5125, "count": corners.size, "type": "SCALAR"},
        ],
        "meshes": [{"name": "sheet", "primitives": [{"attributes": {"POSITION": 0, "NORMAL": 1}, "indices": 2}]}],
        "nodes": [{"name": "sheet", "mesh": 0}], "scenes": [{"nodes": [0]}], "scene": 0,
    }  # fmt: skip
    text = json.dumps(document).encode()
    text += b" " * (-len(text) % 4)
    body = struct.pack("<II", len(text), 0x4E4F534A) + text + struct.pack("<II", offset, 0x004E4942) + b"".join(arrays)
    return struct.pack("<4sII", b"glTF", 2, 12 + len(body)) + body


class Watch:
    """The largest resident memory of the web process's and the studio's sessions, looked at ten times a second."""

    def __init__(self, stack: Stack) -> None:
        self.stack, self.over = stack, threading.Event()
        self.most = {"web": 0, "studio": 0}
        threading.Thread(target=self._look, daemon=True).start()

    def _look(self) -> None:
        page = os.sysconf("SC_PAGE_SIZE")
        while not self.over.wait(0.1):
            for name in self.most:
                try:
                    leader = (self.stack.state / f"{name}.pid").read_text().split()[0]
                    total = 0
                    for entry in Path("/proc").iterdir():
                        if entry.name.isdigit() and (entry / "stat").read_text().rpartition(")")[2].split()[3] == leader:
                            total = max(total, int((entry / "statm").read_text().split()[1]) * page)
                    self.most[name] = max(self.most[name], total)
                except (OSError, IndexError):
                    continue


def bring(client: Client, project: int, scene: bytes, setup: bytes | None) -> int:
    """Upload a build and wait for it; returns its number."""
    edge = "soundings"
    body = f'--{edge}\r\nContent-Disposition: form-data; name="scene"; filename="a.glb"\r\n\r\n'.encode() + scene + b"\r\n"
    if setup is not None:
        body += (
            f'--{edge}\r\nContent-Disposition: form-data; name="setup"; filename="a.setup.json"\r\n\r\n'.encode()
            + setup
            + b"\r\n"
        )
    status, data = client.send("POST", f"/api/projects/{project}/builds", (body + f"--{edge}--\r\n".encode(), edge))
    job = json.loads(data)
    while status == 202 and job["state"] in ("waiting", "running"):
        time.sleep(0.5)
        job = json.loads(client.get(f"/api/projects/{project}/jobs/{job['id']}")[1])
    if job.get("build") is None:
        raise RuntimeError(f"{status}: {job}")
    return int(job["build"])


def server_memory(show: Callable[[str, float, str, str, bool], Any]) -> None:
    """Print the largest memory of web and studio through frames, builds and readers of a large build."""
    with tempfile.TemporaryDirectory(prefix="eddyfall-memory-") as folder:
        Path(folder).chmod(0o755)
        scene, setup = nets(Path(folder))
        stack = start(Path(folder), EDDYFALL_MEMORY_MIB=str(BUDGET_MIB))
        try:
            client = Client(stack.where, "demo", "weirgate")
            watch = Watch(stack)
            for k in range(FRAMES):
                client.get(f"/api/projects/1/builds/1/frames/quay?width={700 + k}&height={400 + k % 100}")
            after_frames = dict(watch.most)
            project = json.loads(client.send("POST", "/api/projects", {"name": "many"})[1])["id"]
            for _ in range(BUILDS):
                number = bring(client, project, scene, setup)
                client.get(f"/api/projects/{project}/builds/{number}/frames/eye")
            view = {"eye": {"eye": [18, 6, 4], "target": [18, 0, -18], "fov_y_deg": 60}}
            large = bring(
                client, project, large_glb(LARGE_VERTICES), json.dumps({"eddyfall_setup": 1, "viewpoints": view}).encode()
            )
            base = f"/api/projects/{project}/builds/{large}"
            paths = [
                base,
                base + "/setup",
                base + "/frames/eye",
                base + "/ledger",
                base + "/lightmaps",
                base + "/core-sample/eye?x=400&y=300",
            ]
            answers: list[int] = []

            def read(k: int) -> None:
                mine = Client(stack.where)
                mine.cookies = dict(client.cookies)
                answers.extend(mine.get(path)[0] for path in paths[k % 2 :])

            threads = [threading.Thread(target=read, args=(k,)) for k in range(PARALLEL)]
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join()
            watch.over.set()
            health = json.loads(client.get("/api/health")[1])["parts"]["studio"]
        finally:
            stack.process.send_signal(signal.SIGTERM)
            stack.process.wait(60)
    print(f"{FRAMES} frames: web {after_frames['web'] >> 20} MiB, studio {after_frames['studio'] >> 20} MiB; {PARALLEL} readers of "
          f"{LARGE_VERTICES / 1e6:.0f} M vertices were answered {sorted(set(answers))}")  # fmt: skip
    within = health["remembered_bytes"] <= health["budget_bytes"]
    show("remembered by the studio", health["remembered_bytes"] / 2**20, "MiB", f"<= {BUDGET_MIB}", within)
    web = watch.most["web"] / 2**20
    show("web, at most", web, "MiB", f"<= {WEB_MIB}", web <= WEB_MIB)
    frames = after_frames["studio"] / 2**20
    show("studio through 200 frames, at most", frames, "MiB", f"<= {BUDGET_MIB * 1.15:.0f}", frames <= BUDGET_MIB * 1.15)
    rest = health["resident_bytes"] / 2**20
    show("studio at rest afterwards", rest, "MiB", f"<= {BUDGET_MIB}", rest <= BUDGET_MIB)
    most, bound = watch.most["studio"] / 2**20, BUDGET_MIB + WORKING_MIB
    show(f"studio while {PARALLEL} read a large build, at most", most, "MiB", f"<= {bound}", most <= bound)


def nets(folder: Path) -> tuple[bytes, bytes]:
    """A small build's files."""
    import subprocess
    import sys

    root = Path(__file__).parents[1]
    env = {**os.environ, "PYTHONPATH": os.pathsep.join([str(root / "src"), str(root / "tests")])}
    subprocess.run([sys.executable, "-c", NETS, str(folder)], env=env, check=True)
    return (folder / "nets.glb").read_bytes(), (folder / "nets.setup.json").read_bytes()


if __name__ == "__main__":
    server_memory(lambda *row: print(*row))
