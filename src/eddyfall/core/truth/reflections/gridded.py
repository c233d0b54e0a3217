"""What light grids give to things that move, against what arrives there: places that no grid holds, points that cannot see the place they
light, and the step between a thing that moves and a baked one of the same material, each against what is due to it."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from eddyfall.core.frame.grid_store import GridStore, grid_store
from eddyfall.core.frame.render import Frame, Renderer, Request
from eddyfall.core.passes.coated import is_coated
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.build import Build
from eddyfall.core.screen.bundles import even_rays, seeds_of, shares_of_even_light
from eddyfall.core.shade.grids import BAND, Grids, corners_of, gathered, harmonics, points_of
from eddyfall.core.shade.srgb import REC709_LUMA
from eddyfall.core.truth.reference.around import around
from eddyfall.core.truth.reference.path_scene import PathScene, path_scene
from eddyfall.core.truth.reference.shown import still_of
from eddyfall.core.truth.reference.trace import keys_of
from eddyfall.core.truth.reflections.probed import eye_ways, surface_places

PLACES, RAYS, BOUNCES = 256, 32, 3
SLACK_M = 0.02


@dataclass(frozen=True)
class Gridded:
    """A thing that moves, at a viewpoint. grids: those that hold it; uncovered: share of its pixels that none does. drawn, due: mean lx
    that it gets of light from around. unseen: share of what it gets from points that do not see it; leak_stops: by how much the others
    alone would change it. seam_stops: how much further off what is due it is than neighbour, a baked thing of its material (empty: none is
    seen); off_stops: it alone."""

    drawable: str
    pixels: int
    grids: tuple[str, ...]
    uncovered: float
    drawn: float
    due: float
    unseen: float
    leak_stops: float
    off_stops: float
    seam_stops: float
    neighbour: str


def gridded(renderer: Renderer, build: Build, request: Request) -> list[Gridded]:
    """Everything that moves and is seen in a frame, most pixels first."""
    frame = renderer.frame(build, replace(request, crop=None), "linear")
    state = frame.stage.state
    count = np.bincount(frame.drawable[frame.drawable >= 0], minlength=len(state.moves))
    movers = [int(d) for d in np.argsort(-count) if state.moves[d] and count[d] >= 16 and state.solid[d]]
    if not movers:
        return []
    store: GridStore = renderer.derive(grid_store, build, frame.stage.resolved.light_set).value
    scene = path_scene(renderer, build, frame)
    still = still_of(renderer, frame)
    return [_of(frame, scene, still, store, d, int(count[d])) for d in movers]


def _of(frame: Frame, scene: PathScene, still: RayScene, store: GridStore, drawable: int, pixels: int) -> Gridded:
    names = [d.name for d in frame.geometry.drawables]
    x, y, place, normal = _some(frame, drawable)
    lux, which = gathered(store.grids, place, normal)
    due = arriving(scene, frame, x, y, place, normal)
    drawn = np.where(which[:, None] >= 0, lux, _even(frame, x, y))
    unseen, leak = _leak(still, store.grids, place, normal, lux, which)
    off = _stops(drawn, due)
    seam, neighbour = _seam(frame, scene, drawable, off)
    held = tuple(store.names[g] for g in np.unique(which[which >= 0]))
    return Gridded(
        drawable=names[drawable], pixels=pixels, grids=held, uncovered=float((which < 0).mean()), drawn=_lum(drawn), due=_lum(due),
        unseen=unseen, leak_stops=leak, off_stops=off, seam_stops=seam, neighbour=neighbour,
    )  # fmt: skip


def _some(frame: Frame, drawable: int) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    y, x = np.nonzero(frame.drawable == drawable)
    some = np.unique(np.linspace(0, len(y) - 1, PLACES).astype(int))
    place, normal = surface_places(frame, x[some], y[some])
    return x[some], y[some], place, normal


def arriving(scene: PathScene, frame: Frame, x: np.ndarray, y: np.ndarray, place: np.ndarray, normal: np.ndarray) -> np.ndarray:
    """(n, 3) lx that truly arrive from around at places (n, 3), seen at pixels x, y (n,)."""
    seeds, total = seeds_of(x, y, 4), np.zeros((len(place), 3))
    keys = keys_of(np.stack([x, y], axis=1), 1 << 16, 5, RAYS).reshape(len(place), RAYS)
    for ray in range(RAYS):
        ways, _ = even_rays(normal, seeds, ray)
        total += around(scene, place, ways, np.ascontiguousarray(keys[:, ray]), BOUNCES)[0]
    return np.asarray(total / RAYS * np.pi)


def _even(frame: Frame, x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """(n, 3) lx of even light that lights pixels as drawn: what they send back of it over what they reflect."""
    rows = frame.buffers["surface"][y, x]
    under, coat = shares_of_even_light(rows, -eye_ways(frame, x, y))
    if is_coated(frame.buffers):
        share = frame.buffers["coat_share"][y, x][:, None]
        under = under * (1 - share)
        coat = coat * (1 - share) + shares_of_even_light(frame.buffers["coat_rows"][y, x], -eye_ways(frame, x, y))[1] * share
    sent = (frame.buffers["shaded"][y, x] - frame.buffers["lit"][y, x]).astype(np.float64)
    return np.asarray(np.divide(sent, under + coat, out=np.zeros_like(sent), where=under + coat > 1e-6) * np.pi)


def _leak(
    still: RayScene, grids: Grids, place: np.ndarray, normal: np.ndarray, lux: np.ndarray, which: np.ndarray
) -> tuple[float, float]:
    """(share of what is got that comes from points which do not see the place, stops that the others alone would change it by)."""
    total = hidden = 0.0
    seen_only = lux.copy()
    for g in np.unique(which[which >= 0]):
        mine = np.flatnonzero(which == g)
        first, shape = int(grids.first[g]), tuple(int(n) for n in grids.counts[g])
        points = points_of(grids.low[g], grids.high[g], shape)  # type: ignore[arg-type]
        numbers, shares = corners_of(place[mine], int(g), grids)
        values = np.empty((len(mine), 8, 3))
        sees = np.zeros((len(mine), 8), bool)
        for k in range(8):
            at = points[numbers[:, k] - first]
            values[:, k] = _irradiance(grids, numbers[:, k], normal[mine], int(g))
            sees[:, k] = _sees(still, at, place[mine])
        weight = shares * (values @ REC709_LUMA)
        total += float(weight.sum())
        hidden += float((weight * ~sees).sum())
        kept = shares * sees
        some = kept.sum(axis=1) > 1e-6
        alone = np.einsum("nk,nkc->nc", kept, values) / np.maximum(kept.sum(axis=1, keepdims=True), 1e-9)
        seen_only[mine[some]] = np.maximum(alone[some], 0.0)
    if total <= 0:
        return 0.0, 0.0
    return hidden / total, abs(_stops(lux[which >= 0], seen_only[which >= 0]))


def _irradiance(grids: Grids, points: np.ndarray, normal: np.ndarray, g: int) -> np.ndarray:
    """(n, 3) lx that points (n,) alone give to normals (n, 3)."""
    weights = harmonics(normal) * grids.bands[g][BAND]
    lux = np.einsum("nk,nkc->nc", weights, grids.numbers[points].astype(np.float64))
    return np.asarray(np.maximum(lux, 0.0))


def _sees(still: RayScene, eye: np.ndarray, place: np.ndarray) -> np.ndarray:
    way = place - eye
    away = np.linalg.norm(way, axis=1)
    hits = still.hits(eye, way / np.maximum(away, 1e-9)[:, None])
    return np.asarray((hits.triangle < 0) | (hits.distance >= away - SLACK_M - 1e-3 * away))


def _seam(frame: Frame, scene: PathScene, drawable: int, off: float) -> tuple[float, str]:
    """(stops that a thing is further off what is due than a baked one of its material, that one's name)."""
    state, d = frame.stage.state, frame.geometry.drawables
    count = np.bincount(frame.drawable[frame.drawable >= 0], minlength=len(d))
    beside = [k for k in np.argsort(-count) if count[k] >= 16 and state.mapped[k] and d[k].material == d[drawable].material]
    if not beside:
        return 0.0, ""
    k = int(beside[0])
    x, y, place, normal = _some(frame, k)
    other = _stops(_even(frame, x, y), arriving(scene, frame, x, y, place, normal))
    return abs(off - other), d[k].name


def _lum(lux: np.ndarray) -> float:
    return float((lux @ REC709_LUMA).mean()) if len(lux) else 0.0


def _stops(drawn: np.ndarray, due: np.ndarray) -> float:
    a, b = _lum(drawn), _lum(due)
    least = 1e-6 * max(a, b, 1e-30)
    return math.log2(max(a, least) / max(b, least))
