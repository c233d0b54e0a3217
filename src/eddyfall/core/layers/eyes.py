"""Two eyes of a headset that draw blended things in different orders: where along a move, and by how much either eye's picture differs.

Each eye is half a gap to the side of the camera, as a headset's are taken to be. By depth along the view both eyes have the same keys; by
range each has its own."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from eddyfall.core.compare.ciede2000 import VISIBLE_DIFFERENCE
from eddyfall.core.frame.moves import MovePath
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.layers.capture import Layers, captured
from eddyfall.core.layers.flips import overlap_at
from eddyfall.core.layers.pairs import LEAST_PIXELS, apart
from eddyfall.core.passes.contract import Camera
from eddyfall.core.passes.draw_order import Sorting, blended_in, keys_from, sorting
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.setup.sections.order import Order

Side = Literal["left", "right"]
SIDES: tuple[Side, Side] = ("left", "right")
EACH_S, CLOSE_S = 1 / 480, 1e-6  # between moments at which keys are held against each other; to which a band's ends are halved
MOST_MOMENTS, MOST_SEEN = 8192, 12  # of a move; stretches whose frames are drawn
SAME_M = 1e-9  # by which keys have to differ: what rounding leaves is no order


@dataclass(frozen=True)
class Band:
    """Between two moments of a move the eyes draw two drawables in different orders; where the camera, between them, is at its ends."""

    first: int
    second: int
    from_s: float
    to_s: float
    from_eye: tuple[float, float, float]
    to_eye: tuple[float, float, float]


@dataclass(frozen=True)
class Differs:
    """Two drawables that the eyes draw in different orders at a pose: `left` is drawn first by the left eye. pixels: of the eye in which
    more of them would look visibly otherwise in the other's order; where (h, w) bool of that eye's frame, worst CIEDE2000, the eye."""

    left: int
    right: int
    pixels: int
    worst: float
    eye: Side
    where: np.ndarray


def eye_of(camera: Camera, side: Side, gap_m: float, shared: bool) -> Camera:
    """One eye of a camera that stands between two; shared: draw order is told from between them."""
    aside = camera.axes[0] * (gap_m / 2 if side == "right" else -gap_m / 2)
    x, y, z = (float(v) for v in np.array(camera.eye) + aside)
    return replace(camera, eye=(x, y, z), sorts_from=camera.eye if shared else None)


def bands(
    geometry: Geometry, path: MovePath, by: Sorting, chosen: np.ndarray, gap_m: float, size: tuple[int, int]
) -> list[Band]:  # fmt: skip
    """Every stretch of a move on which the eyes, each sorting for itself, draw two of the drawables (k,) in different orders while their
    boxes overlap on the frame of so many px. Looked for every EACH_S, or MOST_MOMENTS times on a longer move: what is over sooner may be
    missed."""
    if by.method != "sorted" or len(chosen) < 2 or gap_m <= 0:
        return []
    start, end = path.keys[0].t_s, path.keys[-1].t_s
    times = np.linspace(start, end, min(max(int((end - start) / EACH_S), 1), MOST_MOMENTS) + 1)
    apart: dict[tuple[int, int], list[int]] = {}  # by pair of drawables, numbers of the moments at which the eyes differ
    for moment, t in enumerate(times):
        for pair in _apart_at(geometry, path.at(float(t)), by, chosen, gap_m):
            apart.setdefault(pair, []).append(moment)
    found = []
    for pair, moments in apart.items():
        for run in np.split(np.array(moments), np.flatnonzero(np.diff(moments) > 1) + 1):
            a, b = int(run[0]), int(run[-1])
            low = times[a] if a == 0 else _edge(path, geometry, by, pair, gap_m, times[a - 1], times[a])
            high = times[b] if b == len(times) - 1 else _edge(path, geometry, by, pair, gap_m, times[b + 1], times[b])
            if overlap_at(geometry, path.at(float(low + high) / 2), size, *pair):
                found.append(Band(*pair, float(low), float(high), path.at(float(low)).eye, path.at(float(high)).eye))
    return sorted(found, key=lambda band: band.from_s)


def _apart_at(
    geometry: Geometry, camera: Camera, by: Sorting, chosen: np.ndarray, gap_m: float
) -> list[tuple[int, int]]:  # fmt: skip
    """Pairs of the drawables (k,) that the eyes of a camera sort differently. Neither key of a pair differs between the eyes by more than
    they are apart, so only pairs whose keys for the left eye lie within twice that are asked about."""
    left, right = (_keys(geometry, camera, by, chosen, gap_m, side) for side in SIDES)
    rank = by.rank[chosen]
    order = np.lexsort((left, rank))
    found: list[tuple[int, int]] = []
    for step in range(1, len(order)):
        one, other = order[:-step], order[step:]
        near = (rank[one] == rank[other]) & (left[other] - left[one] <= 2 * gap_m)
        if not near.any():
            break
        turned = near & (left[other] - left[one] > SAME_M) & (right[one] - right[other] > SAME_M)
        found += [(int(min(p)), int(max(p))) for p in zip(chosen[one[turned]], chosen[other[turned]])]
    return found


def _keys(geometry: Geometry, camera: Camera, by: Sorting, which: np.ndarray, gap_m: float, side: Side) -> np.ndarray:
    """(k,) m: sort keys of drawables (k,) for an eye."""
    eye = eye_of(camera, side, gap_m, False)
    each = (len(which), 3)
    return keys_from(geometry, which, np.broadcast_to(np.array(eye.eye), each), np.broadcast_to(eye.forward, each), by)


def _edge(
    path: MovePath, geometry: Geometry, by: Sorting, pair: tuple[int, int], gap_m: float, alike_s: float, differ_s: float
) -> float:  # fmt: skip
    """The moment (s) between one at which the eyes agree about a pair and one at which they differ."""
    while abs(differ_s - alike_s) > CLOSE_S:
        middle = (alike_s + differ_s) / 2
        apart = pair in _apart_at(geometry, path.at(middle), by, np.array(pair), gap_m)
        alike_s, differ_s = (alike_s, middle) if apart else (middle, differ_s)
    return differ_s


def differing(renderer: Renderer, build: Build, request: Request, camera: Camera, gap_m: float, shared: bool) -> list[Differs]:
    """Pairs that the eyes of a camera draw in different orders, to be seen in at least so many pixels of either."""
    at = {
        s: captured(renderer, build, replace(request, camera=eye_of(camera, s, gap_m, shared), crop=None), least=2) for s in SIDES
    }
    left, right = (list(at[s].order) for s in SIDES)
    both = [d for d in left if d in right]
    found = []
    for i, a in enumerate(both):
        for b in both[i + 1 :]:
            if right.index(a) < right.index(b):
                continue
            seen = {s: _swapped(at[s], int(a), int(b)) for s in SIDES}
            side: Side = max(SIDES, key=lambda s: int((seen[s] > VISIBLE_DIFFERENCE).sum()))
            where = seen[side] > VISIBLE_DIFFERENCE
            if where.sum() >= LEAST_PIXELS:
                found.append(Differs(int(a), int(b), int(where.sum()), float(seen[side].max()), side, where))
    return found


@dataclass(frozen=True)
class ThroughBoth:
    """What two eyes make of a viewpoint, or of a move: m between them, whether they share one order; pairs that differ at the viewpoint;
    stretches of the move with what is to be seen of each in its middle (None: too many to be drawn); names of drawables."""

    viewpoint: str
    move: str | None
    gap_m: float
    shared: bool
    pairs: list[Differs]
    stretches: list[tuple[Band, list[Differs] | None]]
    names: list[str]


USUAL_MM = 64.0  # between the eyes of most people (common practice, no source)


def through_both(
    renderer: Renderer, build: Build, request: Request, path: MovePath | None, gap_mm: float | None = None
) -> ThroughBoth:
    """What two eyes so far apart (as the setup says; else as most people's) make of a viewpoint, or of a move instead."""
    frame = renderer.frame(build, request, "linear")
    order = frame.stage.resolved[Order]
    gap, shared = (gap_mm or order.eye_gap_mm or USUAL_MM) / 1000, order.eyes == "shared"
    names = [d.name for d in frame.geometry.drawables]
    if path is None:
        at = differing(renderer, build, request, frame.camera, gap, shared)
        return ThroughBoth(request.viewpoint, None, gap, shared, at, [], names)
    by, chosen = sorting(frame.stage), blended_in(frame.stage.state)
    met = [] if shared else bands(frame.geometry, path, by, chosen, gap, request.size)
    seen: list[tuple[Band, list[Differs] | None]] = [
        (b, differing(renderer, build, request, path.at((b.from_s + b.to_s) / 2), gap, shared) if k < MOST_SEEN else None)
        for k, b in enumerate(met)
    ]
    return ThroughBoth(request.viewpoint, path.name, gap, shared, [], seen, names)


def _swapped(layers: Layers, a: int, b: int) -> np.ndarray:
    """(h, w) CIEDE2000 between a frame and the same with two drawables' turns exchanged."""
    turn = np.full(len(layers.frame.geometry.drawables), len(layers.order), np.int64)
    turn[layers.order] = np.arange(len(layers.order))
    other = turn.copy()
    other[[a, b]] = turn[[b, a]]
    return apart(layers.frame, layers.by_drawable(turn), layers.by_drawable(other))
