"""What arrives: a rehearsal against a sweep, parts matched against pairs laid over one another, a conversion rehearsed against a sweep."""

import tempfile
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np

from eddyfall.core.delivery.matching import match_scenes
from eddyfall.core.delivery.rehearse import rehearse
from eddyfall.core.frame.render import Renderer
from eddyfall.core.hashing import freeze
from eddyfall.core.intake import open_build
from eddyfall.core.likeness.align import Target, align
from eddyfall.core.likeness.twins import placed
from eddyfall.core.scene.changes import read_changes
from eddyfall.core.scene.model import Material, Mesh, Node, Primitive, Scene
from eddyfall.core.scene.read.gltf import read_scene
from eddyfall.core.sweep import sweep
from eddyfall.core.truth.response.conversions import rehearse_conversions
from eddyfall.demo.diving_store import make_diving_store
from eddyfall.demo.second_delivery import write_deliveries
from eddyfall.demo.shapes import Shape

PARTS, PAIRS = 2000, 16

Show = Callable[[str, float, str, str, bool], None]


def arrivals(show: Show) -> None:
    """The quay's second delivery; two thousand parts under other names, where they were and shifted; the diving store."""
    with tempfile.TemporaryDirectory() as folder:
        paths = write_deliveries(Path(folder))
        old, new, changes = open_build(paths["glb"]), read_scene(paths["second"]), read_changes(paths["changes"])
        rehearsal = _seconds(lambda: rehearse(old, changes, new, renderer=Renderer()))
    swept = _seconds(lambda: sweep(old))
    print(f"rehearsal of the quay {rehearsal:.1f} s, a sweep of it {swept:.1f} s")
    show("rehearsal of a delivery, in sweeps of the build", rehearsal / swept, "", "<= 3", rehearsal / swept <= 3)
    before = _parts(np.random.default_rng(3))
    for what, after in (("where they were", _renamed(before, 0.0)), ("half a millimetre off", _renamed(before, 5e-4))):
        taken = _seconds(lambda after=after: match_scenes(before, after))  # type: ignore[misc]
        aligned = _seconds(lambda after=after: _some_pairs(before, after)) / PAIRS * PARTS * PARTS  # type: ignore[misc]
        print(
            f"{PARTS} x {PARTS} parts {what}: matched in {taken:.1f} s; all pairs aligned, by {PAIRS} of them: {aligned / 3600:.0f} h"
        )
        show(f"aligning all pairs (predicted), times matching parts {what}", aligned / taken, "", ">= 20", aligned / taken >= 20)
    store = make_diving_store()[0]
    seen = _seconds(lambda: rehearse_conversions(Renderer(), store, None, list(store.setup.viewpoints)))
    whole = _seconds(lambda: sweep(store))
    show("conversion rehearsed, in sweeps of the build", seen / whole, "", "<= 1", seen / whole <= 1)


def _parts(rng: np.random.Generator) -> Scene:
    """Boxes of sizes of their own on a field."""
    meshes, nodes = [], []
    for k in range(PARTS):
        w, h, d = rng.uniform(0.2, 1.5, 3)
        shape = Shape().box((0, 0, 0), (w, h, d), 1.0).box((w, 0, 0), (w + 0.3, h * rng.uniform(0.2, 0.9), d / 2), 1.0)
        part: Primitive = shape.primitive(0)
        meshes.append(Mesh(f"part_{k}", (part,)))
        matrix = np.eye(4)
        matrix[:3, 3] = (3.0 * (k % 45), 0, -3.0 * (k // 45))
        nodes.append(Node(f"part_{k}", freeze(matrix), mesh=k))
    return Scene(tuple(meshes), tuple(nodes), (Material("m"),))


def _renamed(scene: Scene, shift_m: float) -> Scene:
    """The same under other names in another order, each moved by so much."""
    order = np.random.default_rng(4).permutation(len(scene.nodes))
    nodes, meshes = [], []
    for k, i in enumerate(order):
        matrix = np.array(scene.nodes[i].matrix)
        matrix[0, 3] += shift_m
        nodes.append(Node(f"other_{k}", freeze(matrix), mesh=k))
        meshes.append(replace(scene.meshes[scene.nodes[i].mesh or 0], name=f"other_{k}"))
    return replace(scene, nodes=tuple(nodes), meshes=tuple(meshes))


def _some_pairs(before: Scene, after: Scene) -> None:
    rng = np.random.default_rng(5)
    for a, b in zip(rng.integers(0, PARTS, PAIRS), rng.integers(0, PARTS, PAIRS)):
        align(placed(after, int(b)), Target(placed(before, int(a))))


def _seconds(work: Callable[[], object]) -> float:
    start = time.perf_counter()
    work()
    return time.perf_counter() - start
