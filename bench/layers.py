"""Blended layers: capture against the pass itself, a replay against it, flips of two thousand cards against drawing every frame."""

import statistics
import time
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np

from eddyfall.core.frame.memo import Memo
from eddyfall.core.frame.moves import path_of
from eddyfall.core.frame.render import DEFAULT_SIZE, Renderer, Request
from eddyfall.core.hashing import freeze
from eddyfall.core.intake import finish_build
from eddyfall.core.layers.capture import layers_of
from eddyfall.core.layers.flips import flips, overlap_at
from eddyfall.core.passes import blended
from eddyfall.core.passes.draw_order import draw_order, sorting
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.model import Material, Mesh, Node, Scene
from eddyfall.core.scene.setup import parse_setup
from eddyfall.demo.glasshouse import make_glasshouse
from eddyfall.demo.shapes import Shape

CARDS, FRAMES, DRAWN = 2000, 120, 6


def layers(show: Callable[[str, float, str, str, bool], None]) -> None:
    """The glasshouse from the left of its walk; cards strewn over a field."""
    frame = Renderer().frame(make_glasshouse()[0], Request("walk_left", DEFAULT_SIZE), "linear")
    inputs, section = {n: frame.buffers[n] for n in blended.PASS.reads}, blended.section(frame.stage)
    drawn = _seconds(lambda: blended.PASS.run(inputs, section))
    captured = _seconds(lambda: layers_of(frame))
    found = layers_of(frame)
    turn = np.zeros(len(frame.geometry.drawables), np.int64)
    turn[found.order[::-1]] = np.arange(len(found.order))
    replayed = _seconds(lambda: found.by_drawable(turn))
    show("capture of all fragments, times the blended pass", captured / drawn, "", "<= 1.6", captured / drawn <= 1.6)
    show("the blended pass, times a replay in another order", drawn / replayed, "", ">= 5", drawn / replayed >= 5)
    _flips(show)


def _flips(show: Callable[[str, float, str, str, bool], None]) -> None:
    build = _field()
    renderer, request = Renderer(Memo(2**30)), Request("eye", DEFAULT_SIZE)
    frame = renderer.frame(build, request, "linear")
    path, by = path_of(build, "walk", DEFAULT_SIZE[0] / DEFAULT_SIZE[1]), sorting(frame.stage)
    chosen = np.flatnonzero(frame.stage.state.blended)
    taken = _seconds(lambda: flips(frame.geometry, path, by, chosen, DEFAULT_SIZE), 1)
    found = {frozenset((f.first, f.second)) for f in flips(frame.geometry, path, by, chosen, DEFAULT_SIZE)}
    times = np.linspace(0, path.keys[-1].t_s, FRAMES)
    places = []
    for t in times:
        place = np.zeros(len(frame.geometry.drawables), int)
        order = draw_order(frame.geometry, chosen, path.at(float(t)), by)
        place[order] = np.arange(len(order))
        places.append(place[chosen])
    swapped = set()
    for t, before, after in zip(times[1:], places, places[1:]):
        one, other = np.nonzero(np.triu((before[:, None] < before) != (after[:, None] < after), 1))
        camera = path.at(float(t))
        swapped |= {
            frozenset((int(chosen[a]), int(chosen[b]))) for a, b in zip(one, other)
            if overlap_at(frame.geometry, camera, DEFAULT_SIZE, int(chosen[a]), int(chosen[b]))
        }  # fmt: skip
    some = times[:: FRAMES // DRAWN]
    each = _seconds(lambda: [renderer.frame(build, replace(request, camera=path.at(float(t))), "linear") for t in some], 1) / len(
        some
    )
    print(
        f"{CARDS} cards, {len(found)} pairs change places in sight, {len(found & swapped)} of them seen between {FRAMES} frames too"
    )
    show(
        f"drawing {FRAMES} frames, times finding all flips between them",
        each * FRAMES / taken,
        "",
        ">= 20",
        each * FRAMES / taken >= 20,
    )


def _field() -> Build:
    """Cards of half a metre to a metre and a half, strewn over a field, and a walk past them."""
    rng = np.random.default_rng(1)
    material = Material("sheet", base_rgba=(0.5, 0.5, 0.5, 0.5), unlit=True, alpha_mode="BLEND", double_sided=True)
    meshes = []
    for k in range(CARDS):
        x, y, z, half = rng.uniform(-20, 20), rng.uniform(-2, 4), rng.uniform(-40, -4), rng.uniform(0.2, 0.8)
        meshes.append(
            Mesh(f"c{k}", (Shape().quad((x - half, y - half, z), (2 * half, 0, 0), (0, 2 * half, 0)).primitive(0, None),))
        )
    nodes = [Node(f"c{k}", freeze(np.eye(4)), mesh=k) for k in range(CARDS)]
    keys = {n: {"t_s": t, "eye": [x, 1.6, 0], "target": [x, 1.6, -1]} for n, t, x in (("a", 0, -3), ("b", 4, 3))}
    raw: dict[str, Any] = {
        "eddyfall_setup": 1, "viewpoints": {"eye": {"eye": [0, 1.6, 0], "target": [0, 1.6, -1]}}, "moves": {"walk": {"keys": keys}},
        "order": {"key": "range"},
    }  # fmt: skip
    return finish_build(Scene(tuple(meshes), tuple(nodes), (material,), (), ()), parse_setup(raw), raw, [])


def _seconds(action: Callable[[], Any], times: int = 5) -> float:
    taken = []
    for _ in range(times):
        start = time.perf_counter()
        action()
        taken.append(time.perf_counter() - start)
    return statistics.median(taken)
