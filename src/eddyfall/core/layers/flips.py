"""Where along a move two blended drawables change places in the draw order, and how much of the picture then pops.

Keys are followed between moments with a bound on how fast their difference can change (a range is 1-Lipschitz in the eye, a depth along
the view turns no faster than the view), so that no change of sign is stepped over but two within a thousandth of a second; each is
then halved down to a millionth."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from itertools import combinations, pairwise
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
BESIDE_S = 1e-4  # before and after a flip, where the two orders are read
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


def flips(geometry: Geometry, path: MovePath, by: Sorting, chosen: np.ndarray) -> list[Flip]:
    """Every flip of two of the drawables (k,) along a move, in order of time. Those of unlike rank, or of one shared point, have none."""
    pairs = np.array([(a, b) for a, b in combinations(range(len(chosen)), 2) if _may(by, chosen[a], chosen[b])], int)
    if not len(pairs):
        return []
    # The widest that two of its corners or points lie apart: what a turning view sees of a pair.
    corners = geometry.bounds[chosen]
    points = np.where(np.isnan(by.place[chosen]), corners.mean(axis=1), by.place[chosen])
    reach = np.linalg.norm(corners[:, 1] - corners[:, 0], axis=1) / 2
    wide = np.linalg.norm(points[pairs[:, 0]] - points[pairs[:, 1]], axis=1) + reach[pairs].sum(axis=1)
    found: list[Flip] = []
    for start, end in _stretches(path):
        way = Way(path, start, end)
        slope = {"range": np.full(len(pairs), 2 * way.speed), "view_depth": way.turning * wide}.get(by.key, np.zeros(len(pairs)))

        def ahead(times: np.ndarray, which: np.ndarray, way: Way = way) -> np.ndarray:
            """(n,) m by which the first of pair which (n,) has the larger key at a moment (n,)."""
            moments, at = np.unique(times, return_inverse=True)
            keys = keys_from(geometry, chosen, *way.at(moments), by)
            return np.asarray(keys[at, pairs[which, 0]] - keys[at, pairs[which, 1]])

        times = np.linspace(start, end, PARTS + 1)
        a, b = (np.repeat(t, len(pairs)) for t in (times[:-1], times[1:]))
        which = np.tile(np.arange(len(pairs)), PARTS)
        while len(a):
            at_a, at_b = ahead(a, which), ahead(b, which)
            crosses = (at_a < 0) != (at_b < 0)
            done = b - a <= CLOSE_S
            for n in np.flatnonzero(crosses & done):
                found.append(_flip(path, chosen[pairs[which[n]]], float(a[n] + b[n]) / 2, bool(at_a[n] > 0)))
            maybe = (np.abs(at_a) + np.abs(at_b) < slope[which] * (b - a)) & (b - a > APART_S)
            on = (crosses | maybe) & ~done
            a, b, which = a[on], b[on], which[on]
            middle = (a + b) / 2
            a, b, which = np.concatenate([a, middle]), np.concatenate([middle, b]), np.concatenate([which, which])
    return sorted(found, key=lambda f: f.t_s)


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


def _may(by: Sorting, a: int, b: int) -> bool:
    shared = np.array_equal(by.place[a], by.place[b])  # nan is not equal to nan
    return bool(by.rank[a] == by.rank[b] and not shared)


def _flip(path: MovePath, pair: np.ndarray, t: float, first_was_farther: bool) -> Flip:
    first, second = (pair[0], pair[1]) if first_was_farther else (pair[1], pair[0])
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
    """Whether the bounds of two drawables may overlap on a frame: boxes of their corners on screen do, or one reaches behind the eye."""
    boxes = []
    rays = View(camera, Pixels(size, (0, 0, *size))).rays
    for d in (a, b):
        low, high = geometry.bounds[d]
        corners = np.array([[(low, high)[i >> k & 1][k] for k in range(3)] for i in range(8)])
        depth = camera.view_depth(corners)
        if depth.max() <= 0:
            return False
        if depth.min() <= 0:
            boxes.append((0.0, 0.0, float(size[0]), float(size[1])))
            continue
        on = (corners - rays.eye) / depth[:, None] - rays.d0
        x, y = on @ rays.du / (rays.du @ rays.du), on @ rays.dv / (rays.dv @ rays.dv)
        boxes.append((float(x.min()), float(y.min()), float(x.max()), float(y.max())))
    (ax0, ay0, ax1, ay1), (bx0, by0, bx1, by1) = boxes
    x0, y0, x1, y1 = max(ax0, bx0, 0.0), max(ay0, by0, 0.0), min(ax1, bx1, size[0]), min(ay1, by1, size[1])
    return x0 < x1 and y0 < y1
