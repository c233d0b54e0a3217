"""The draw order along a move: a lane for each blended drawable, where lanes cross, what pops there, which pairs are off on the way."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from itertools import combinations

import numpy as np

from eddyfall.core.frame.moves import MovePath
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.layers.capture import captured
from eddyfall.core.layers.flips import Flip, Pop, flips, overlap_at, pop_of
from eddyfall.core.layers.pairs import LEAST_PIXELS, Pair, wrong_pairs
from eddyfall.core.passes.draw_order import Sorting, blended_in, draw_order, sorting
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.drawables import Geometry

MOST_LANES, MOST_COMPARED, MOST_POPS, MOST_MOMENTS = 24, 64, 24, 241
LOOKS = 13  # poses at which pairs are looked for that are off without changing places
LOOKED_AT = (480, 270)  # px of these frames


@dataclass(frozen=True)
class Look:
    """A pose that was drawn: moment in s, pairs that are visibly off there; pixels are of LOOKED_AT."""

    t_s: float
    pairs: tuple[Pair, ...]


@dataclass(frozen=True)
class Line:
    """Where a pair has equal keys: by range, the eye on nx x + nz z = c at the height of the eye (m); by depth along the view, a heading in
    degrees to the right of -z; None where it is neither (shifted keys, nearest points)."""

    first: int
    second: int
    floor: tuple[float, float, float] | None
    heading_deg: float | None


@dataclass(frozen=True)
class Flicker:
    """Two drawables that visibly change places so many times along a move, and so often within some second of it."""

    first: int
    second: int
    times: int
    in_a_second: int


@dataclass(frozen=True)
class Walked:
    """lanes: drawables (k,); t_s (p,), eyes, forward (p, 3); turns (p, k) of each lane among the lanes, 0 drawn first; pops by time; looks;
    lines of the pairs that pop; undrawn: flips that were too many to be drawn; by: what they are sorted by."""

    path: MovePath
    lanes: tuple[int, ...]
    t_s: np.ndarray
    eyes: np.ndarray
    forward: np.ndarray
    turns: np.ndarray
    pops: tuple[Pop, ...]
    looks: tuple[Look, ...]
    lines: tuple[Line, ...]
    undrawn: int
    by: Sorting
    geometry: Geometry

    @property
    def flickers(self) -> list[Flicker]:
        """Pairs that visibly change places more than once within some second, most often first."""
        moments: dict[tuple[int, int], list[float]] = {}
        for p in self.pops:
            if p.turn != "harmless":
                a, b = sorted((p.flip.first, p.flip.second))
                moments.setdefault((a, b), []).append(p.flip.t_s)
        found = [Flicker(*pair, len(t), max(sum(s <= u < s + 1.0 for u in t) for s in t)) for pair, t in moments.items()]
        return sorted((one for one in found if one.in_a_second > 1), key=lambda one: (-one.in_a_second, -one.times))

    @property
    def wrong(self) -> bool:
        """Whether anything visibly pops or is off."""
        return any(p.turn != "harmless" for p in self.pops) or any(look.pairs for look in self.looks)


def walked(
    renderer: Renderer, build: Build, path: MovePath, request: Request, progress: Callable[[str, float], None] = lambda what, share: None
) -> Walked:  # fmt: skip
    """A move looked along: request gives size, target and role; its viewpoint is the move's."""
    asked = replace(request, viewpoint=path.viewpoint, role=request.role or path.role, crop=None)
    stage = renderer.frame(build, replace(asked, size=(16, 9), camera=path.at(path.keys[0].t_s)), "linear").stage
    geometry, by, chosen = renderer.geometry(build), sorting(stage), blended_in(stage.state)
    times = path.moments if len(path.moments) <= MOST_MOMENTS else np.linspace(path.keys[0].t_s, path.keys[-1].t_s, MOST_MOMENTS)
    cameras = [path.at(float(t)) for t in times]
    shown = flips(geometry, path, by, chosen, asked.size)
    pops = []
    for number, flip in enumerate(shown[:MOST_POPS]):
        progress(f"change of places at {flip.t_s:.2f} s", 0.7 * number / min(len(shown), MOST_POPS))
        pops.append(pop_of(renderer, build, asked, path, flip))
    looks = []
    for number, t in enumerate(np.linspace(path.keys[0].t_s, path.keys[-1].t_s, LOOKS) if len(chosen) else ()):
        progress(f"order at {t:.2f} s", 0.7 + 0.3 * number / LOOKS)
        looks.append(Look(float(t), look_at(renderer, build, replace(asked, camera=path.at(float(t))), LOOKED_AT)))
    sorts = by.method == "sorted"  # else things have no turn that a lane could show
    lanes = _lanes(geometry, path, asked.size, chosen, shown, looks) if sorts else ()
    turns = np.full((len(times), len(lanes)), -1)
    for k, camera in enumerate(cameras):
        order = draw_order(geometry, np.array(lanes, int), camera, by)
        turns[k] = [int(np.flatnonzero(order == d)[0]) for d in lanes]
    pairs = dict.fromkeys((p.flip.first, p.flip.second) for p in pops if p.turn != "harmless")
    height = float(np.mean([c.eye[1] for c in cameras]))
    lines = tuple(line_of(geometry, by, a, b, height) for a, b in {tuple(sorted(pair)): None for pair in pairs})
    return Walked(
        path, lanes, times, np.array([c.eye for c in cameras]), np.array([c.forward for c in cameras]), turns, tuple(pops),
        tuple(looks), lines, len(shown) - len(pops), by, geometry,
    )  # fmt: skip


def look_at(renderer: Renderer, build: Build, asked: Request, size: tuple[int, int]) -> tuple[Pair, ...]:
    """Pairs that are visibly off in a frame that is drawn at another size (px) than is asked for, on as much of it as LEAST_PIXELS are
    there."""
    layers = captured(renderer, build, replace(asked, size=size, crop=None), least=2)
    least = LEAST_PIXELS * size[0] * size[1] / (asked.size[0] * asked.size[1])
    return tuple(p for p in wrong_pairs(layers) if p.pixels >= max(least, 1.0))


def _lanes(
    geometry: Geometry, path: MovePath, size: tuple[int, int], chosen: np.ndarray, met: list[Flip], looks: list[Look]
) -> tuple[int, ...]:
    """Those that change places or are off, then those that lie before or behind another on some frame, in the order of the file."""
    first = {d for f in met for d in (f.first, f.second)} | {d for look in looks for p in look.pairs for d in (p.early, p.late)}
    over: set[int] = set()
    for look in looks:
        camera = path.at(look.t_s)
        for a, b in combinations(chosen[:MOST_COMPARED], 2):
            if not {a, b} <= over and overlap_at(geometry, camera, size, a, b):
                over |= {int(a), int(b)}
    return tuple(sorted([*sorted(first), *sorted(over - first)][:MOST_LANES]))


def line_of(geometry: Geometry, by: Sorting, a: int, b: int, height: float) -> Line:
    """Where the keys of two drawables are equal, for an eye at a height in m that looks level."""
    plain = by.point != "nearest" and by.key_shift_m[a] == by.key_shift_m[b]
    if not plain or by.key == "direction":
        return Line(a, b, None, None)
    points = (geometry.middles if by.point == "bounds_centre" else geometry.origins)[[a, b]]
    shared = by.place[[a, b]]
    p, q = np.where(np.isnan(shared), points, shared)
    if by.key == "range":
        n = 2 * (q - p)
        c = float(q @ q - p @ p - n[1] * height)
        return Line(a, b, (float(n[0]), float(n[2]), c), None)
    # f . (p - q) = 0 with f = (sin h, 0, -cos h)
    x, _, z = p - q
    heading = float(np.degrees(np.arctan2(z, x)))
    return Line(a, b, None, (heading + 90.0) % 180.0 - 90.0)
