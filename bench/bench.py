"""Speed and memory of the core, printed as medians and ratios of one run. Run it with ./run bench [NAME ...].

--save FILE keeps the figures as JSON; --compare FILE prints beside each what it is to an earlier run's (more than 1: it has grown).

Every figure stands beside its bound. Times depend on the machine and its neighbours, so nothing here is a test.
"""

import argparse
import json
import resource
import statistics
import subprocess
import sys
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import shapely

from arrivals import arrivals
from browser import browser
from eddyfall.core.bake.light.gather import gather
from eddyfall.core.bake.light.jobs import job_of, receiver_footprint
from eddyfall.core.bake.light.light_scene import light_scene
from eddyfall.core.bake.maps.run import tiles_of
from eddyfall.core.frame.memo import Memo
from eddyfall.core.frame.render import DEFAULT_SIZE, Renderer, Request
from eddyfall.core.hashing import freeze
from eddyfall.core.lineup import line_up
from eddyfall.core.rays.threads import processors
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import apply_change, set_leaf
from eddyfall.core.scene.drawables import pack
from eddyfall.core.scene.model import Light, Material, Mesh, Node, Scene
from eddyfall.core.scene.receivers import receiver_named
from eddyfall.core.scene.setup import parse_setup
from eddyfall.core.scene.setup.sections.bake import Bake
from eddyfall.core.sweep import sweep
from eddyfall.core.sweep.run import SWEEP_MEMO_BYTES
from eddyfall.core.truth.bias import ground_of
from eddyfall.core.truth.bias.proving import change_to
from eddyfall.core.truth.bias.solve import Bias
from eddyfall.core.truth.judge import Judge
from eddyfall.core.truth.moving.along import move_of
from eddyfall.core.truth.moving.anchors import anchors_of
from eddyfall.core.truth.moving.forecast import forecast
from eddyfall.core.truth.reference.of_frame import Wanted
from eddyfall.core.truth.reference.path_scene import path_scene
from eddyfall.core.truth.reference.tally import Tally
from eddyfall.core.truth.reference.trace import Asked, grow
from eddyfall.core.uv.charts import measure_charts
from eddyfall.core.uv.overlap import colliding_pairs, measure_overlap, pair_areas
from eddyfall.core.uv.packing import pack_charts
from eddyfall.demo.gallery import make_gallery
from eddyfall.demo.hall import make_hall
from eddyfall.demo.shapes import Shape
from eddyfall.demo.walk import worst_spot
from eddyfall.demo.write import make_demo
from eddyfall.demo.yard import make_yard
from faults import faults
from layers import layers
from readers import readers
from server_memory import server_memory

LAMPS = 8
REGION = 192


def seconds(action: Callable[[], Any], times: int = 5, before: Callable[[], Any] = lambda: None) -> float:
    """Median time of an action; `before` is done each time and not counted."""
    taken = []
    for _ in range(times):
        before()
        start = time.perf_counter()
        action()
        taken.append(time.perf_counter() - start)
    return statistics.median(taken)


FIGURES: dict[str, float] = {}
EARLIER: dict[str, float] = {}


def show(what: str, value: float, unit: str, bound: str, met: bool) -> None:
    FIGURES[what] = value
    then = EARLIER.get(what)
    ratio = f"  {value / then:6.2f} times the earlier {then:.3f}" if then else ""
    print(f"{what:66s} {value:10.3f} {unit:6s} {bound:12s} {'met' if met else 'MISSED'}{ratio}", flush=True)


def shares(of: str, renderer: Renderer) -> None:
    """What each pass and each family takes of it."""
    rows = [(kind, renderer.clock.shares(prefix)) for kind, prefix in (("frames: ", "pass "), ("families: ", "family "))]
    named = {name for prefix in ("pass ", "family ") for name, _ in renderer.clock.shares() if name.startswith(prefix)}
    rows.append(("else: ", [row for row in renderer.clock.shares() if row[0] not in named]))
    for kind, found in rows:
        if found:
            print(f"  {of}, {kind}" + ", ".join(f"{name} {share * 100:.1f} %" for name, share in found), flush=True)


def with_lamps(build: Build) -> Build:
    """The build with eight point lights along the quay."""
    scene, lights, nodes = build.scene, list(build.scene.lights), list(build.scene.nodes)
    for i in range(LAMPS):
        matrix = np.eye(4)
        matrix[:3, 3] = (-20 + 6 * i, 12, 2)
        lights.append(Light(f"bench_lamp_{i}", "point", intensity=50000.0))
        nodes.append(Node(f"bench_lamp_{i}", freeze(matrix), light=len(lights) - 1))
    return replace(build, scene=replace(scene, lights=tuple(lights), nodes=tuple(nodes)))


def frame() -> None:
    """A frame with shadow maps reused and redrawn."""
    build = with_lamps(make_demo()[0])
    renderer = Renderer(Memo(2 * 1024**3))
    triangles = len(renderer.geometry(build).triangles)
    step = iter(range(1, 1000))

    def turned(leaf: tuple[str, ...]) -> Build:
        # A value never seen before, so that no picture is remembered; the geometry and textures are.
        return apply_change(build, set_leaf(build, leaf, 0.11 + next(step) * 1e-3, scope="project", title="bench"))

    def reused() -> None:
        view = build.setup.viewpoints["quay"]
        eye = view.eye or (0.0, 0.0, 0.0)
        moved = view.model_copy(update={"eye": (eye[0], eye[1] + next(step) * 1e-4, eye[2])})
        setup = build.setup.model_copy(update={"viewpoints": {**build.setup.viewpoints, "quay": moved}})
        renderer.frame(replace(build, setup=setup), Request("quay"))

    renderer.frame(build, Request("quay"))
    redrawn_s = seconds(reused)
    names: set[str] = set()

    def same_shadows() -> None:
        # The near plane reaches every camera pass and no shadow pass.
        renderer.ran.clear()
        renderer.frame(turned(("depth", "near_m")), Request("quay"))
        names.update(renderer.ran)

    reused_s = seconds(same_shadows)
    print(f"frame 960x540, {triangles} triangles, {LAMPS} lamps and the sun; reused: {', '.join(sorted(names))} ran")
    show("frame, shadow maps reused", reused_s, "s", "<= 0.35", reused_s <= 0.35)
    show("frame, everything redrawn after the camera moved", redrawn_s, "s", "<= 0.6", redrawn_s <= 0.6)
    shares("frame", renderer)


def trial() -> None:
    """One fog trial and one material trial on a spot."""
    build = make_demo()[0]
    renderer = Renderer(Memo(2 * 1024**3))
    request = Request("quay", (960, 540), (500, 180, 500 + REGION, 180 + REGION))
    renderer.frame(build, request)
    step = iter(range(1, 1000))

    def fog() -> None:
        change = set_leaf(build, ("fog", "fog_per_m"), 0.01 + next(step) * 1e-4, scope="project", title="bench")
        renderer.frame(apply_change(build, change), request)

    def depth() -> None:
        change = set_leaf(build, ("depth", "near_m"), 0.11 + next(step) * 1e-3, scope="project", title="bench")
        renderer.frame(apply_change(build, change), request)

    for what, action in (("trial on 192x192, fog only", fog), ("trial on 192x192, every camera pass", depth)):
        taken = seconds(action, 9)
        show(what, taken, "s", "<= 0.06", taken <= 0.06)


def bias() -> None:
    """Twenty-four biases of a lamp by thresholds of one gather, against as many frames; false pixels and lost points the same in both."""
    build, request = make_yard()[0], Request("slip")
    light, edge = "slip_lamp_bare", 24
    renderer = Renderer(Memo(2 * 1024**3))
    ground_s = seconds(lambda: ground_of(renderer, build, request, light), 3)
    ground = ground_of(renderer, build, request, light)
    biases = [Bias(constant_mm=round(1.7**k / 2, 3), slope=0.25 * (k % 4)) for k in range(edge)]
    look_up = ground.judge.look_up(ground.light).unbiased

    def by_thresholds() -> list[tuple[int, int]]:
        steps = ground.steps(look_up)
        return [(steps.false_px(b.constant_mm / 1000, b.slope), steps.lost_points(b.constant_mm / 1000, b.slope)) for b in biases]

    def by_frames(shift: float) -> list[tuple[int, int]]:
        found = []
        for b in biases:
            moved = replace(b, constant_mm=b.constant_mm + shift)
            frame = renderer.frame(apply_change(build, change_to(build, light, moved)), request, "lit")
            found.append(ground.drawn_in(Judge(renderer, frame)))
        return found

    same = by_thresholds() == by_frames(0.0)
    step = iter(range(1, 100))
    drawn_s, said_s = seconds(lambda: by_frames(next(step) * 1e-6), 3), seconds(by_thresholds, 5)
    print(f"{edge} biases of a lamp, counts {'the same' if same else 'DIFFER'}; its ground, shared by both, {ground_s:.3f} s")
    show("biases by thresholds, times faster than by frames", drawn_s / said_s, "x", ">= 8", same and drawn_s / said_s >= 8)


def lineup() -> None:
    """A whole line-up on the worst spot of the demo, all levers tried, told per 24 trials."""
    build = make_demo()[0]
    view, spot = worst_spot(sweep(build), "depth.missing-prepass")
    counts = []

    def run() -> None:
        counts.append(len(line_up(build, view, spot, "see-through", try_all=True, renderer=Renderer(Memo(2 * 1024**3))).trials))

    taken = seconds(run, 3)
    show(f"line-up of {counts[-1]} trials on a cold memo", taken, "s", "<= 3", taken <= 3)
    show("the same, told for 24 trials", taken * 24 / counts[-1], "s", "<= 3", taken * 24 / counts[-1] <= 3)


def sweeps() -> None:
    """A whole sweep of the demo on a cold memo."""
    build = make_demo()[0]
    used: list[Renderer] = []

    def run() -> None:
        used.append(Renderer(Memo(SWEEP_MEMO_BYTES)))
        sweep(build, renderer=used[-1])

    taken = seconds(run, 3)
    show("sweep of the demo", taken, "s", "<= 20", taken <= 20)
    shares("sweep", used[-1])


def many() -> None:
    """A sweep of a thousand decals in the plane of one wall, against one of a single decal in the same scene."""
    one, thousand = (seconds(lambda n=n: sweep(decals(n), renderer=Renderer(Memo(SWEEP_MEMO_BYTES))), 3) for n in (1, 1000))  # type: ignore[misc]
    show("sweep of a thousand like findings over that of one", thousand / one, "times", "<= 3", thousand / one <= 3)


def decals(bad: int, count: int = 1000) -> Build:
    """A wall with so many decals, the first `bad` of them in its very plane, the others a hand before it."""
    side = int(np.ceil(np.sqrt(count)))
    meshes, nodes = [], []
    white, red = (
        Material("white", (0.8, 0.8, 0.8, 1.0), metallic=0.0, unlit=True),
        Material("red", (0.8, 0.1, 0.1, 1.0), metallic=0.0, unlit=True),
    )
    shapes = [(Shape().quad((-20, -12, -20), (40, 0, 0), (0, 24, 0)), 0)]
    for i in range(count):
        x, y, gap = -19 + 38 * (i % side) / side, -11 + 22 * (i // side) / side, 0.0 if i < bad else 0.1
        shapes.append((Shape().quad((x, y, -20 + gap), (30 / side, 0, 0), (0, 16 / side, 0)), 1))
    for i, (shape, material) in enumerate(shapes):
        meshes.append(Mesh(f"card{i}", (shape.primitive(material),)))
        nodes.append(Node(f"card{i}", freeze(np.eye(4)), mesh=i))
    raw = {"eddyfall_setup": 1, "viewpoints": {"eye": {"eye": [0, 0, 0], "target": [0, 0, -1], "fov_y_deg": 60}}}
    return Build(Scene(tuple(meshes), tuple(nodes), (white, red)), parse_setup(raw), raw)


def random_triangles(count: int, width: float, size: float) -> np.ndarray:
    """(count, 3, 2) counter-clockwise triangles about `size` large, scattered over a square."""
    rng = np.random.default_rng(4)
    corners = rng.random((count, 1, 2)) * width + rng.normal(size=(count, 3, 2)) * size
    (ux, uy), (vx, vy) = (corners[:, 1] - corners[:, 0]).T, (corners[:, 2] - corners[:, 0]).T
    turn = ux * vy < uy * vx
    corners[turn] = corners[turn][:, [0, 2, 1]]
    return np.ascontiguousarray(corners)


def overlap() -> None:
    """Overlap areas against shapely on the same candidate pairs, and stacked copies."""
    corners = random_triangles(200_000, 1000.0, 4.2)
    pairs = colliding_pairs(corners, 0.0)
    shapes = shapely.polygons(corners)
    ours_s = seconds(lambda: pair_areas(corners, pairs), 3)
    theirs_s = seconds(lambda: shapely.area(shapely.intersection(shapes[pairs[:, 0]], shapes[pairs[:, 1]])), 1)
    print(f"areas of {len(pairs)} pairs of {len(corners)} triangles: {ours_s:.3f} s, shapely {theirs_s:.2f} s")
    show("areas of the same pairs, times faster than shapely", theirs_s / ours_s, "x", ">= 100", theirs_s / ours_s >= 100)

    def tree() -> None:
        found = shapely.STRtree(shapes).query(shapes)
        first, second = found[:, found[0] < found[1]]
        shapely.area(shapely.intersection(shapes[first], shapes[second]))

    both_s, tree_s = seconds(lambda: pair_areas(corners, colliding_pairs(corners, 0.0)), 3), seconds(tree, 1)
    show(
        "finding the pairs too, times faster than STRtree + intersection", tree_s / both_s, "x", ">= 100", tree_s / both_s >= 100
    )
    cells = np.stack(np.meshgrid(np.arange(60), np.arange(30)), -1).reshape(-1, 1, 2)
    low = np.concatenate([cells + np.array([[0, 0], [1, 0], [0, 1]]), cells + np.array([[1, 0], [1, 1], [0, 1]])])
    stacked = np.ascontiguousarray(np.tile(low * 4.0 + 3.0, (50, 1, 1))) / 256
    area = np.ones(len(stacked))
    taken = seconds(lambda: measure_overlap(stacked, area, 256), 3)
    show(f"50 stacked copies of {len(low)} triangles", taken, "s", "<= 0.3", taken <= 0.3)


MEMORY = """
from pathlib import Path
from eddyfall.demo.tiny import tiny_build
from eddyfall.demo.write import make_demo
from eddyfall.demo.yard import make_yard
from eddyfall.core.frame.memo import size_of
from eddyfall.core.frame.render import Renderer
from eddyfall.core.sweep import sweep
# VmHWM belongs to the address space; ru_maxrss would be handed down from the process that started this one.
peak = lambda: int(Path("/proc/self/status").read_text().split("VmHWM:")[1].split()[0]) / 1024
sweep(tiny_build())
warm = peak()
build = make_demo()[0]
decoded = (size_of(build.scene) + size_of(Renderer().geometry(build))) / 2**20
sweep(build)
print(warm, decoded, peak())
"""


BAKE_MEMORY = """
from pathlib import Path
from eddyfall.core.bake.maps.run import bake
from eddyfall.core.bake.maps.store import STORE
from eddyfall.core.scene.setup.tables import NodeSetup
from eddyfall.demo.gallery import make_gallery
from eddyfall.demo.hall import make_hall
peak = lambda: int(Path("/proc/self/status").read_text().split("VmHWM:")[1].split()[0]) / 1024
STORE.folder = None
build = make_hall(samples=1)[0]
warm = peak()
finer = {"bake": build.setup[Bake].model_copy(update={"samples": 16}),
         "nodes": {**build.setup.nodes, "wall_north": NodeSetup(lightmap_size=1024)}}
bake(build.with_setup(build.setup.model_copy(update=finer)), ["wall_north"], ["lamps_on"])
print(warm, 1024 * 1024, peak())
"""


def memory() -> None:
    """Peak memory of a sweep over the warm process, in a process of its own."""
    run = subprocess.run([sys.executable, "-c", MEMORY], capture_output=True, text=True, check=True)
    warm, decoded, peak = (float(v) for v in run.stdout.split())
    bound = 4 * decoded + 150
    print(f"warm process {warm:.0f} MiB, decoded scene {decoded:.0f} MiB, peak {peak:.0f} MiB")
    show("memory of a sweep over the warm process", peak - warm, "MiB", f"<= {bound:.0f}", peak - warm <= bound)


def grid_of(count: int) -> Build:
    """`count` drawables that together cover the same pixels: one wall cut into cards."""
    columns = int(np.sqrt(count))
    rows = count // columns
    width, height = 16.0 / columns, 9.0 / rows
    meshes, nodes = [], []
    material = Material("card", base_rgba=(0.5, 0.5, 0.5, 1.0), metallic=0.0)
    for r in range(rows):
        for c in range(columns):
            shape = Shape().quad((-8 + c * width, -4.5 + r * height, -9.0), (width, 0, 0), (0, height, 0))
            meshes.append(Mesh(f"card_{r}_{c}", (shape.primitive(0, None),)))
            nodes.append(Node(f"card_{r}_{c}", freeze(np.eye(4)), mesh=len(meshes) - 1))
    setup = {
        "eddyfall_setup": 1,
        "viewpoints": {"eye": {"eye": [0, 0, 0], "target": [0, 0, -1], "fov_y_deg": 50}},
        "lights": {"sun": {"kind": "sun", "illuminance_lux": 3.0, "towards": [0.2, 0.5, 1.0]}},
    }
    return Build(Scene(tuple(meshes), tuple(nodes), (material,)), parse_setup(setup))


def growth() -> None:
    """Time of a first frame with 1k and with 16k drawables on the same pixels."""
    taken = []
    for count in (1024, 16384):
        build = grid_of(count)
        build.content_hash  # noqa: B018  (hashing is intake's work)
        taken.append(seconds(lambda build=build: Renderer().frame(build, Request("eye")), 3))
    print(f"first frame with 1,024 drawables {taken[0]:.3f} s, with 16,384 drawables {taken[1]:.3f} s")
    show("growth from 1k to 16k drawables", taken[1] / taken[0], "x", "<= 24", taken[1] / taken[0] <= 24)


class _Recorder:
    """Stands in for the ray scene: passes every call on and keeps it."""

    def __init__(self, scene: Any) -> None:
        self.scene, self.calls = scene, []

    def run(self, start: np.ndarray, direction: np.ndarray, **how: Any) -> Any:
        self.calls.append((start, direction, how))
        return self.scene.run(start, direction, **how)


def bakes() -> None:
    """Gathering against bare ray calls on the same rays; packing."""
    build, _ = make_hall(samples=12)
    geometry = pack(build.scene, build.setup)
    scene = light_scene(build, geometry, "lamps_on")
    receiver = receiver_named(build, geometry, "floor_west")
    owned, triangles = receiver_footprint(geometry, receiver)
    tiles = tiles_of(job_of(receiver, owned, triangles, build.setup[Bake], samples=64))
    real = scene.embree
    recorder = _Recorder(real)
    scene._embree = (recorder, scene._embree[1])
    rays = sum(gather(scene, t).rays for t in tiles)
    scene._embree = (real, scene._embree[1])

    def bare() -> None:
        for start, direction, how in recorder.calls:
            real.run(start, direction, **how)

    def bare_on_all() -> None:
        with ThreadPoolExecutor(processors()) as pool:
            list(pool.map(lambda call: real.run(call[0], call[1], **call[2]), recorder.calls))

    ours, theirs = seconds(lambda: [gather(scene, t) for t in tiles], 3), seconds(bare, 3)
    on_all = seconds(bare_on_all, 3)
    print(f"bake of {len(owned.texel)} texels, 64 samples: {rays / 1e6:.2f} M rays, {rays / ours / 1e6:.2f} M rays/s")
    show("bake, share of the rays/s of bare calls on the same rays", theirs / ours, "", ">= 0.6", theirs / ours >= 0.6)
    print(f"   of bare calls spread over {processors()} processors: {on_all / ours:.3f}")
    run = subprocess.run([sys.executable, "-c", BAKE_MEMORY], capture_output=True, text=True, check=True)
    warm, texels, peak_mib = (float(v) for v in run.stdout.split())
    print(f"memory of a bake of {texels / 1e6:.1f} M texels over the warm process: {peak_mib - warm:.0f} MiB")
    rng = np.random.default_rng(5)
    sizes = rng.uniform(0.2, 1.4, (400, 2))
    corners = np.array([[[0, 0], [w, 0], [w, h]] for w, h in sizes] + [[[0, 0], [w, h], [0, h]] for w, h in sizes])
    uv = corners + np.tile(np.arange(400)[:, None, None] * [2.0, 0.0], (2, 1, 1))
    flat = np.concatenate([uv, np.zeros((800, 3, 1))], axis=2)
    taken = seconds(lambda: pack_charts(uv, flat, 1024, 4), 1)
    packed = measure_charts(pack_charts(uv, flat, 1024, 4), flat, 1024)
    filled = sum(abs(c.uv_area) for c in packed.charts)
    print(f"pack of 400 charts with 4 texels between them: {taken:.2f} s, {filled * 100:.0f} % of the page filled")


def paths() -> None:
    """Following the reference's paths against bare ray calls on the same rays."""
    build, _ = make_hall(samples=12)
    renderer, request = Renderer(Memo(2 * 1024**3)), Request("hall", (240, 135))
    frame = renderer.frame(build, request, "traced")
    scene, pixels = path_scene(renderer, build, frame), Wanted(request=request).pixels()
    empty = Tally.empty(scene.light_names, pixels, request.size, "")
    recorders = [_Recorder(rays._scene) for rays in (scene.met, scene.blocking)]
    scene.met._scene, scene.blocking._scene = recorders
    grow(scene, frame.camera, empty, Asked(bounces=4), 4)
    scene.met._scene, scene.blocking._scene = (r.scene for r in recorders)

    def bare() -> None:
        for recorder in recorders:
            for start, direction, how in recorder.calls:
                recorder.scene.run(start, direction, **how)

    rays = sum(len(start) for recorder in recorders for start, _, _ in recorder.calls)
    # In turns, since the machine's speed changes while it is measured.
    turns = [(seconds(lambda: grow(scene, frame.camera, empty, Asked(bounces=4), 4), 1), seconds(bare, 1)) for _ in range(5)]
    ours, theirs = min(a for a, _ in turns), min(b for _, b in turns)
    print(f"reference of {len(pixels)} px, 4 samples, 4 bounces: {rays / 1e6:.2f} M rays, {rays / ours / 1e6:.2f} M rays/s")
    show("reference, share of the rays/s of bare calls on the same rays", theirs / ours, "", ">= 0.5", theirs / ours >= 0.5)


def moves() -> None:
    """A sway of 121 poses forecast, against as many frames of which one was drawn before."""
    build, _ = make_gallery()
    request = Request("gauges", DEFAULT_SIZE)
    path = move_of(Renderer(), build, "sway", "gauges", request)
    cameras = [path.at(float(t)) for t in path.moments]
    renderer = Renderer(Memo(2 * 1024**3))
    start = renderer.frame(build, replace(request, camera=cameras[0]), "linear")
    scene = path_scene(renderer, build, start)
    anchors = anchors_of(scene, start, replace(request, crop=(60, 420, 560, 530)), 64)

    def forecasted() -> None:
        forecast(Renderer(), build, request, cameras, scene, start, anchors, 256, 8, lambda what, share: None)

    some = cameras[1::24]
    forecasted()
    ours = seconds(forecasted, 2)
    theirs = seconds(lambda: [renderer.frame(build, replace(request, camera=c)) for c in some], 1) / len(some) * len(cameras)
    print(f"forecast of {len(cameras)} poses at {len(anchors)} places: {ours:.1f} s; as many frames of 960 x 540: {theirs:.0f} s")
    show("frames' time over the forecast's, 121 poses", theirs / ours, "", ">= 20", theirs / ours >= 20)


PARTS: dict[str, Callable[[], None]] = {
    "moves": moves,
    "layers": lambda: layers(show),
    "arrivals": lambda: arrivals(show),
    "paths": paths,
    "bake": bakes,
    "frame": frame,
    "trial": trial,
    "bias": bias,
    "lineup": lineup,
    "sweep": sweeps,
    "many": many,
    "overlap": overlap,
    "memory": memory,
    "growth": growth,
    "browser": lambda: browser(show),
    "readers": lambda: readers(show),
    "server-memory": lambda: server_memory(show),
    "faults": lambda: faults(show),
}


def main(arguments: list[str]) -> int:
    parser = argparse.ArgumentParser("bench", description=__doc__)
    parser.add_argument("names", nargs="*", metavar="NAME", help=", ".join(PARTS))
    parser.add_argument("--save", type=Path, metavar="FILE", help="keep the figures as JSON")
    parser.add_argument("--compare", type=Path, metavar="FILE", help="figures of an earlier run to print ratios to")
    args = parser.parse_args(arguments)
    names = args.names
    if args.compare:
        EARLIER.update(json.loads(args.compare.read_text()))
    unknown = [n for n in names if n not in PARTS]
    if unknown:
        print(f"no such part: {unknown[0]}; there are: {', '.join(PARTS)}", file=sys.stderr)
        return 2
    for name in names or PARTS:
        PARTS[name]()
    if args.save:
        args.save.write_text(json.dumps(FIGURES, indent=1) + "\n")
    print(f"peak memory of this run {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:.0f} MiB, in {Path.cwd().name}")
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
