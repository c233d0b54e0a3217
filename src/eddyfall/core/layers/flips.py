"""Where along a move two blended drawables change places in the draw order, and how much of the picture then pops.

Keys are followed between moments with a bound on how fast their difference can change (a range is 1-Lipschitz in the eye, a depth along
the view turns no faster than the view), so that no change of sign is stepped over but two within a thousandth of a second; each is
then halved down to a millionth."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import Literal

import numpy as np
from scipy.spatial.transform import Rotation, Slerp

from eddyfall.core.compare.ciede2000 import VISIBLE_DIFFERENCE
from eddyfall.core.frame.moves import MovePath
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.layers.capture import Layers, captured
from eddyfall.core.layers.pairs import LEAST_PIXELS, apart, shown_as
from eddyfall.core.passes.contract import Camera, Pixels, View
from eddyfall.core.passes.draw_order import Sorting, keys_from
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.drawables import Geometry

CLOSE_S = 1e-6
APART_S = 1e-3  # two changes within less are none
PARTS = 32  # of the way between two keys, at first
Turn = Literal["right to wrong", "wrong to right", "wrong both ways", "harmless"]


@dataclass(frozen=True)
class Flip:
    """At t_s two drawables change places: `first` was drawn first before it, `second` is after it. eye: where the camera is."""

    first: int
    second: int
    t_s: float
    eye: tuple[float, float, float]


@dataclass(frozen=True)
class Pop:
    """What a flip does to the picture at its pose: pixels that change visibly (CIEDE2000 above 2), sum of nits, largest CIEDE2000, pixels
    that are visibly off the true order before and after, where (h, w) bool, and the frame itself as drawn (h, w, 3) uint8."""

    flip: Flip
    pixels: int
    nit_px: float
    worst: float
    off_before: int
    off_after: int
    where: np.ndarray
    shown: np.ndarray

    @property
    def turn(self) -> Turn:
        """Whether it makes the picture wrong, puts it right, or neither."""
        if self.pixels < LEAST_PIXELS:
            return "harmless"
        if min(self.off_before, self.off_after) >= LEAST_PIXELS:
            return "wrong both ways"
        return "right to wrong" if self.off_after > self.off_before else "wrong to right"


def flips(
    geometry: Geometry, path: MovePath, by: Sorting, chosen: np.ndarray, size: tuple[int, int] | None = None
) -> list[Flip]:  # fmt: skip
    """Every flip of two of the drawables (k,) along a move, in order of time. Those of unlike rank, or of one shared point, have none. size
    (px): only those whose boxes on a frame of that size overlap as they change places."""
    if by.method != "sorted":
        return []  # things have no order that could change
    chosen = np.asarray(chosen, int)
    may = _may(by, chosen)
    # The widest that two of its corners or points lie apart: what a turning view sees of a pair.
    corners = geometry.bounds[chosen]
    points = np.where(np.isnan(by.place[chosen]), corners.mean(axis=1), by.place[chosen])
    reach = np.linalg.norm(corners[:, 1] - corners[:, 0], axis=1) / 2
    found: list[Flip] = []
    for start, end in _stretches(path):
        way, times = Way(path, start, end), np.linspace(start, end, PARTS + 1)
        boxes = None if size is None else [boxes_on(geometry, chosen, path.at(float(t)), size) for t in times]
        parts = [_near(may, None if boxes is None or size is None else (boxes[k], boxes[k + 1], size)) for k in range(PARTS)]
        a, b = (np.repeat(t, [len(p[0]) for p in parts]) for t in (times[:-1], times[1:]))
        one, other = (np.concatenate([p[k] for p in parts]) for k in (0, 1))
        wide = np.linalg.norm(points[one] - points[other], axis=1) + reach[one] + reach[other]
        slope = {"range": np.full(len(one), 2 * way.speed), "view_depth": way.turning * wide}.get(by.key, np.zeros(len(one)))
        # Every drawable's key at the ends of all parts first; then only in the middle of what may hold a change.
        eyes, forward = way.at(times)
        each = np.stack([_keys_of_all(geometry, chosen, eyes[k], forward[k], by) for k in range(PARTS + 1)])
        part = np.repeat(np.arange(PARTS), [len(p[0]) for p in parts])
        at_a, at_b = (each[part + end, one] - each[part + end, other] for end in (0, 1))
        while len(a):
            crosses = (at_a < 0) != (at_b < 0)
            done = b - a <= CLOSE_S
            for n in np.flatnonzero(crosses & done):
                found.append(_flip(path, (chosen[one[n]], chosen[other[n]]), float(a[n] + b[n]) / 2, bool(at_a[n] > 0)))
            maybe = (np.abs(at_a) + np.abs(at_b) < slope * (b - a)) & (b - a > APART_S)
            on = (crosses | maybe) & ~done
            a, b, one, other, slope, at_a, at_b = (v[on] for v in (a, b, one, other, slope, at_a, at_b))
            middle = (a + b) / 2
            at_middle = _ahead(geometry, chosen, way, by, middle, one, other)
            a, b = np.concatenate([a, middle]), np.concatenate([middle, b])
            at_a, at_b = np.concatenate([at_a, at_middle]), np.concatenate([at_middle, at_b])
            one, other, slope = (np.concatenate([v, v]) for v in (one, other, slope))
    found.sort(key=lambda f: f.t_s)
    if size is None:
        return found
    return [f for f in found if overlap_at(geometry, path.at(f.t_s), size, f.first, f.second)]


def _keys_of_all(geometry: Geometry, chosen: np.ndarray, eye: np.ndarray, forward: np.ndarray, by: Sorting) -> np.ndarray:
    """(k,) keys of all the chosen from one eye (3,)."""
    shape = (len(chosen), 3)
    return keys_from(geometry, chosen, np.broadcast_to(eye, shape), np.broadcast_to(forward, shape), by)


def _ahead(
    geometry: Geometry, chosen: np.ndarray, way: Way, by: Sorting, times: np.ndarray, one: np.ndarray, other: np.ndarray
) -> np.ndarray:  # fmt: skip
    """(n,) m by which `one` (n,) of the chosen has a larger key than `other` (n,) at moments (n,)."""
    moments, at = np.unique(times, return_inverse=True)
    eyes, forward = (v[at] for v in way.at(moments))
    first, second = (keys_from(geometry, chosen[which], eyes, forward, by) for which in (one, other))
    return np.asarray(first - second)


def _may(by: Sorting, chosen: np.ndarray) -> np.ndarray:
    """(k, k) bool, of each pair once: of one rank, and not of one shared point."""
    rank, place = by.rank[chosen], by.place[chosen]
    may = rank[:, None] == rank[None]
    own = np.flatnonzero(~np.isnan(place[:, 0]))
    may[np.ix_(own, own)] &= (place[own][:, None] != place[own][None]).any(axis=2)
    return np.asarray(np.triu(may, 1))


def _near(
    may: np.ndarray, between: tuple[np.ndarray, np.ndarray, tuple[int, int]] | None
) -> tuple[np.ndarray, np.ndarray]:  # fmt: skip
    """Pairs that may change places in a part of the way: all, or those whose boxes at its ends overlap, each grown by how far it moves and
    cut to the frame."""
    if between is None:
        one, other = np.nonzero(may)
        return one, other
    first, last, (width, height) = between
    moved = np.abs(last - first).max(axis=1, keepdims=True) + 1.0
    low = np.maximum(np.minimum(first, last)[:, :2] - moved, 0.0)
    high = np.minimum(np.maximum(first, last)[:, 2:] + moved, (width, height))
    # Swept along x: of those in sight, each with those that begin before it ends.
    seen = np.flatnonzero((low < high).all(axis=1))
    seen = seen[np.argsort(low[seen, 0], kind="stable")]
    until = np.searchsorted(low[seen, 0], high[seen, 0])
    count = np.maximum(until - np.arange(len(seen)) - 1, 0)
    a = np.repeat(np.arange(len(seen)), count)
    b = np.arange(len(a)) - np.repeat(np.cumsum(count) - count, count) + a + 1
    one, other = np.minimum(seen[a], seen[b]), np.maximum(seen[a], seen[b])
    over = may[one, other] & (low[one, 1] < high[other, 1]) & (low[other, 1] < high[one, 1])
    return one[over], other[over]


class Way:
    """A move between two keys: the eye on a cubic, the view turning evenly. speed (m/s), turning (1/s): what neither exceeds, the first by
    the control points of the cubic's derivative."""

    def __init__(self, path: MovePath, start: float, end: float) -> None:
        self.start, self.long = start, end - start
        shares = np.array([0.0, 1 / 3, 2 / 3, 1.0])
        inside = float(np.nextafter(end, start))
        cameras = [path.at(min(start + float(s) * self.long, inside)) for s in shares]
        self.cubic = np.linalg.solve(np.vander(shares, 4, increasing=True), np.array([c.eye for c in cameras]))
        derived = np.array([self.cubic[1], self.cubic[1] + self.cubic[2], self.cubic[1] + 2 * self.cubic[2] + 3 * self.cubic[3]])
        self.speed = float(np.linalg.norm(derived, axis=1).max()) / self.long
        self.turns = Slerp([0.0, 1.0], Rotation.from_matrix(np.stack([cameras[0].axes, cameras[-1].axes])))
        rotation = cameras[0].axes.T @ cameras[-1].axes
        self.turning = math.acos(min(max((float(np.trace(rotation)) - 1) / 2, -1.0), 1.0)) / self.long

    def at(self, times: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """((m, 3) eyes, (m, 3) forward) at moments (m,) in s."""
        share = np.clip((times - self.start) / self.long, 0.0, 1.0)
        return np.vander(share, 4, increasing=True) @ self.cubic, -self.turns(share).as_matrix()[:, 2]


def _flip(path: MovePath, pair: tuple[int, int], t: float, first_was_farther: bool) -> Flip:
    first, second = pair if first_was_farther else (pair[1], pair[0])
    return Flip(int(first), int(second), t, path.at(t).eye)


def _stretches(path: MovePath) -> list[tuple[float, float]]:
    """Spans of time between neighbouring keys over which the camera moves on without a cut."""
    return [(a.t_s, b.t_s) for a, b in pairwise(path.keys) if not b.cut and b.t_s > a.t_s]


def pop_of(renderer: Renderer, build: Build, request: Request, path: MovePath, flip: Flip) -> Pop:
    """What a flip does at its pose: the layers of that frame, replayed with the two in either order."""
    layers = captured(renderer, build, replace(request, camera=path.at(flip.t_s), crop=None), least=2)
    before, after = (layers.by_drawable(_turns(layers, a, b)) for a, b in ((flip.first, flip.second), (flip.second, flip.first)))
    delta = apart(layers.frame, before, after)
    off_before, off_after = (
        int((apart(layers.frame, of, layers.sorted) > VISIBLE_DIFFERENCE)[delta > 0].sum()) for of in (before, after)
    )
    seen = delta > VISIBLE_DIFFERENCE
    nits = float(np.abs(before - after).mean(axis=2).sum())
    shown = shown_as(layers.frame, layers.frame.linear)
    return Pop(flip, int(seen.sum()), nits, float(delta.max(initial=0.0)), off_before, off_after, seen, shown)


def _turns(layers: Layers, first: int, second: int) -> np.ndarray:
    """(drawables,) turns as they are drawn, the two given in the order given: where the two tie they are neighbours."""
    turn = np.full(len(layers.frame.geometry.drawables), len(layers.order), np.int64)
    turn[layers.order] = np.arange(len(layers.order))
    if first in layers.order and second in layers.order:
        turn[[first, second]] = np.sort(turn[[first, second]])
    return turn


def overlap_at(geometry: Geometry, camera: Camera, size: tuple[int, int], a: int, b: int) -> bool:
    """Whether the boxes of two drawables overlap on a frame."""
    boxes = boxes_on(geometry, np.array([a, b]), camera, size)
    low, high = np.maximum(boxes[:, :2].max(axis=0), 0.0), np.minimum(boxes[:, 2:].min(axis=0), size)
    return bool((low < high).all())


def boxes_on(geometry: Geometry, chosen: np.ndarray, camera: Camera, size: tuple[int, int]) -> np.ndarray:
    """(k, 4) x0, y0, x1, y1 px: boxes of drawables' bounds on a frame; the whole frame of those that reach behind the eye, nothing of those
    that lie behind it."""
    bounds = geometry.bounds[np.asarray(chosen, int)]
    corners = np.stack([bounds[:, [i >> 2 & 1, i >> 1 & 1, i & 1], [0, 1, 2]] for i in range(8)], axis=1)
    rays = View(camera, Pixels(size, (0, 0, *size))).rays
    depth = camera.view_depth(corners)
    on = (corners - rays.eye) / np.where(depth > 0, depth, 1.0)[..., None] - rays.d0
    x, y = on @ rays.du / (rays.du @ rays.du), on @ rays.dv / (rays.dv @ rays.dv)
    boxes = np.stack([x.min(axis=1), y.min(axis=1), x.max(axis=1), y.max(axis=1)], axis=1)
    boxes[depth.min(axis=1) <= 0] = (0.0, 0.0, *size)
    boxes[depth.max(axis=1) <= 0] = (-2.0, -2.0, -1.0, -1.0)
    return boxes
