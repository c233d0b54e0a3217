"""The reference: what the camera of a frame ought to see, by following paths of light (Kajiya 1986, the rendering equation).

The stand-in's own materials, lights, sky and fog; shadows, bounced and mirrored light as they are. Progressive: a tally grows by samples
until it is told to stop, and can be put away and taken up again."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from eddyfall.core.passes.contract import Camera, Pixels, View
from eddyfall.core.rays.queries import Hits, RayScene
from eddyfall.core.shade.clear_coat import share_plain
from eddyfall.core.shade.columns import ALBEDO_RGB, DISTANCE, EMITTED_RGB, F0_RGB, NORMAL_XYZ, OPEN, REFLECTING, ROUGH
from eddyfall.core.shade.fog import transmittance
from eddyfall.core.shade.sky import sky_colours_along
from eddyfall.core.shade.surface import Rays, surface_rows
from eddyfall.core.shade.through import go_through
from eddyfall.core.truth.reference.arriving import Arrived, arrive
from eddyfall.core.truth.reference.panes import CERTAIN, through_mist
from eddyfall.core.truth.reference.path_scene import PathScene
from eddyfall.core.truth.reference.secondary import Secondary
from eddyfall.core.truth.reference.tally import (
    BACKGROUND,
    BOUNCE,
    EMISSION,
    FOG,
    LAYERS,
    PARTS,
    REFLECTION,
    SKY_COAT,
    SKY_UNDER,
    Tally,
)
from eddyfall.core.truth.reference.walks import (
    A_VERTEX,
    COVERED,
    PIXEL,
    Walk,
    add_to,
    ask_emitters,
    ask_light,
    ask_sky,
    begin,
    lay_split,
    meet,
    no_coats,
    numbers_of,
    scatter,
)

Top = tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]  # of Walk: top, clear, top_rough, top_split
VALUES_AT_ONCE = 2_097_152  # triples: paths times parts and lights
FIRST_SAMPLES = 2  # of a tally's first round: with them its noise can be told


@dataclass(frozen=True, kw_only=True)
class Asked:
    """bounces: how often light is reflected, at the most, before it arrives at what is seen, as bakes count them (0: lamps, sky and what
    shines light it directly, and nothing else does); spread: whether samples are spread over their pixels, or all go through
    the middle as the stand-in's do; seed."""

    bounces: int = 8
    spread: bool = False
    seed: int = 1


def grow(
    scene: PathScene, camera: Camera, tally: Tally, asked: Asked, samples: int, between: Callable[[], None] = lambda: None
) -> Tally:
    """A tally with so many samples more of each pixel. between() is called now and then; what it raises ends the work, and the tally that
    was given stays as it was."""
    rays = View(camera, Pixels(tally.size, (0, 0, *tally.size))).rays
    n, grown = len(tally.pixels), tally.copy()
    at_once = max(1, VALUES_AT_ONCE // (tally.sums.shape[1] * max(samples, 1)))
    for at in range(0, n, at_once):
        between()
        part = slice(at, min(at + at_once, n))
        grown.add(part, *_traced(scene, rays, tally, asked, part, samples), samples)
    grown.count += samples
    return grown


@dataclass(frozen=True)
class Seen:
    """What n eye rays end on: drawable (n,), -1: the sky; rows (n, 15) of its surfaces; the paths that stand on them; the ways there."""

    drawable: np.ndarray
    rows: np.ndarray
    walk: Walk
    arrived: Arrived

    @property
    def direction(self) -> np.ndarray:
        """(n, 3) unit directions in which they end."""
        return self.arrived.direction

    @property
    def reflecting(self) -> np.ndarray:
        """Paths that stand on something that reflects any light."""
        reflects = (self.rows[:, REFLECTING].sum(axis=1) > 0) | (self.walk.clear > 0)
        return np.flatnonzero((self.drawable >= 0) & reflects)


def seen_by(scene: PathScene, rays: Rays, x: np.ndarray, y: np.ndarray, key: np.ndarray) -> Seen:
    """What the eye sees through pixel positions x, y (n,): culled faces are passed, blended ones as their alpha says, glass and mist as
    they let light through."""
    direction = rays.d0 + x[:, None] * rays.du + y[:, None] * rays.dv
    direction /= np.linalg.norm(direction, axis=1, keepdims=True)
    way = arrive(scene, np.tile(rays.eye, (len(x), 1)), direction, key, COVERED, culled=True, fogged=True)
    hits = way.hits
    drawable = np.where(hits.triangle >= 0, scene.soup.owner[hits.triangle], -1)
    place, (x, y) = _places(rays, direction, way, x, y)
    rows = surface_rows(x, y, hits.triangle, rays, scene.soup, scene.surfaces)
    if scene.has_glass:
        rows[:, ALBEDO_RGB] *= way.left[:, None].astype(np.float32)
        rows[:, F0_RGB] = np.minimum(rows[:, F0_RGB] * way.gloss.astype(np.float32), 1.0)
    place = np.where(np.isnan(place), rays.eye + direction * rows[:, DISTANCE, None].astype(np.float64), place)
    coats = _coats_at(scene, rays, x, y, hits.triangle, drawable)
    return Seen(drawable, rows, _walk(scene, rows, place, way.direction, hits, key, coats), way)


def _places(rays: Rays, direction: np.ndarray, way: Arrived, x: np.ndarray, y: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """((n, 3) where ways end that were turned, nan for straight ones; (2, n) the pixel positions x, y at which the eye would see that:
    there their surfaces are looked up). What lies behind the eye is looked up as if it were before it."""
    place, at = np.full((len(x), 3), np.nan), np.stack([x, y])
    turned = np.flatnonzero(way.turned & (way.hits.triangle >= 0))
    if len(turned):
        place[turned] = way.start[turned] + way.direction[turned] * way.hits.distance[turned, None]
        solved = np.linalg.solve(np.column_stack([rays.d0, rays.du, rays.dv]), (place[turned] - rays.eye).T)
        ahead = solved[0] > 1e-9
        at[:, turned[ahead]] = solved[1:, ahead] / solved[0, ahead]
    return place, at


def keys_of(pixels: np.ndarray, width: int, seed: int, samples: int, sample_from: int = 0) -> np.ndarray:
    """(n samples,) keys of the random numbers of pixels (n, 2) x y of a frame so wide, in the order of pixels, then samples."""
    key = np.zeros(len(pixels) * samples, np.uint64)
    begin(key, seed, pixels[:, 1] * width + pixels[:, 0], samples, sample_from)
    return key


Traced = tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]


def _traced(scene: PathScene, rays: Rays, tally: Tally, asked: Asked, part: slice, samples: int) -> Traced:
    """(what each sample brought (n, parts + 2 lights, 3), (n, 3) what is left of what lies behind all blended surfaces, glass and mist: 0
    where the path ends on one, (n, 3) the same with what fog leaves, first drawable)."""
    pixels, arrives = tally.pixels[part], len(PARTS) + len(scene.light_names)
    key = keys_of(pixels, tally.size[0], asked.seed, samples, tally.count)
    x, y = (np.repeat(pixels[:, k] + 0.5, samples) for k in (0, 1))
    if asked.spread:
        x, y = x - 0.5 + numbers_of(key, PIXEL), y - 0.5 + numbers_of(key, PIXEL + 1)
    eye = seen_by(scene, rays, x, y, key)
    found = np.zeros((len(key), arrives + len(scene.light_names), 3))
    follow(scene, eye.walk, eye.reflecting, asked.bounces, found)
    there = eye.drawable >= 0
    top, clear = eye.walk.top[there], eye.walk.clear[there]
    lets = 1 - share_plain(clear, np.einsum("nk,nk->n", top, eye.walk.out[there]))
    found[there, EMISSION] = eye.rows[there][:, EMITTED_RGB] * lets[:, None]
    found[~there, BACKGROUND] = sky_colours_along(eye.direction[~there], scene.sky)
    way, clear = eye.arrived, eye.arrived.weight
    fades = np.ones(len(key))
    if scene.fog is not None:
        far = np.where(way.turned, way.whole, eye.rows[:, DISTANCE])
        fades = np.where(there, transmittance(far, scene.fog.fog_per_m), 1.0 - scene.fog.covers_sky)
        found *= fades[:, None, None]
        passed = np.where(way.hazed > 0, transmittance(way.hazed, scene.fog.fog_per_m), 1.0)
        found[:, FOG] = (passed - fades)[:, None] * np.array(scene.fog.rgb)
    found *= clear[:, None]
    found[:, FOG] += way.haze
    layer = there & ((scene.covers[eye.drawable] > 0) | (scene.panes.kind[eye.drawable] > 0))
    brought = found[layer, :arrives].sum(axis=1)  # what blended surfaces, glass and mist in front bring is one part
    found[layer, :arrives] = 0.0
    found[layer, LAYERS] = brought
    found[:, LAYERS] += way.glow
    left = np.where(layer[:, None], 0.0, clear)
    return found, left, left * fades[:, None], eye.drawable


def faced(scene: PathScene, triangle: np.ndarray, direction: np.ndarray) -> np.ndarray:
    """(n, 3) unit normals of triangles (n,) on the side that rays (n, 3) meet."""
    corners = scene.soup.positions[scene.soup.triangles[triangle]].astype(np.float64)
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300)
    return np.asarray(normal * -np.sign(np.einsum("nk,nk->n", normal, direction))[:, None])


def _coats_at(scene: PathScene, rays: Rays, x: np.ndarray, y: np.ndarray, triangle: np.ndarray, drawable: np.ndarray) -> Top:
    """Clear coats of what eye rays through x, y (n,) px meet: their normals, strengths, roughness; shares of directions are open."""
    coats, n = scene.coats, len(x)
    if coats.surfaces is None:
        return no_coats(n)
    strength = np.where(drawable >= 0, coats.strength[scene.soup.material[drawable]], 0.0)
    over = surface_rows(x, y, np.where(strength > 0, triangle, -1).astype(triangle.dtype), rays, scene.soup, coats.surfaces)
    return over[:, NORMAL_XYZ].astype(np.float64), strength * over[:, OPEN], over[:, ROUGH].astype(np.float64), np.zeros(n)


def _walk(
    scene: PathScene, rows: np.ndarray, place: np.ndarray, direction: np.ndarray, hits: Hits, key: np.ndarray, coats: Top
) -> Walk:
    """Paths at what the eye sees, at places (n, 3); rows of what it does not see are blank. Normals that are turned away from the side that
    is seen are a fault of the mesh: they are turned back."""
    n = len(rows)
    facing, normal = faced(scene, hits.triangle, direction), rows[:, NORMAL_XYZ].astype(np.float64)
    normal = np.where(np.einsum("nk,nk->n", facing, normal)[:, None] < 0, -normal, normal)
    return Walk(
        place, facing, normal, -direction,
        rows[:, ALBEDO_RGB].astype(np.float64), rows[:, F0_RGB].astype(np.float64), rows[:, ROUGH].astype(np.float64), np.zeros(n),
        np.zeros((n, 6)), np.zeros(n), key, *coats,
    )  # fmt: skip


def follow(
    scene: PathScene, walk: Walk, alive: np.ndarray, bounces: int, found: np.ndarray, secondary: Secondary | None = None,
    first: int = 0,
) -> None:  # fmt: skip
    """Follow paths from what they stand on, and add what they bring by part; secondary notes where it came from. first: number of the
    vertex that they stand on, 0: the first; paths at a later one bring all of it as their weights say, as bounced and mirrored light."""
    n, lights = len(walk.place), len(scene.light_names)
    under, coat, sky_under, sky_coat = (np.zeros((n, 3)) for _ in range(4))
    for vertex in range(first, first + bounces + 1):
        if not len(alive):
            break
        lay_split(alive, walk)
        for i in range(lights):
            if vertex > 0:
                _ask(scene, walk, alive, vertex, under, coat, light=i)
                continue
            arrives, free = np.zeros((2, n, 3)), np.zeros((2, n, 3))
            _ask(scene, walk, alive, vertex, *arrives, light=i, free=free)
            found[:, len(PARTS) + i], found[:, len(PARTS) + lights + i] = arrives.sum(axis=0), free.sum(axis=0)
        if len(scene.emitters.triangle):
            _ask(scene, walk, alive, vertex, under, coat, secondary=secondary if vertex == 0 else None)
        sky = (sky_under, sky_coat) if vertex == 0 else (under, coat)
        if scene.sky_lights and len(scene.sky.levels):
            _ask(scene, walk, alive, vertex, *sky, of_sky=True)
        start, direction = np.empty((len(alive), 3)), np.empty((len(alive), 3))
        goes = np.zeros(len(alive), bool)
        scatter(alive, walk, vertex, scene.step_m, start, direction, goes)
        alive, start, direction = alive[goes], start[goes], direction[goes]
        way = arrive(scene, start, direction, walk.key[alive], (vertex + 1) * A_VERTEX + COVERED, culled=False)
        start, direction, hits = way.start, way.direction, way.hits
        if scene.has_glass or len(scene.mist.per_m):
            under[alive] += walk.weight[alive, :3] * way.glow
            coat[alive] += walk.weight[alive, 3:] * way.glow
            walk.weight[alive] *= np.tile(way.weight, 2)
            walk.chance[alive[way.turned]] = CERTAIN
        if secondary is not None and vertex == 0:
            place = start + direction * np.where(hits.triangle >= 0, hits.distance, 0.0)[:, None]
            secondary.went_on(alive, walk.weight[alive], place, faced(scene, hits.triangle, direction), hits.triangle)
        goes_on = np.zeros(len(alive), bool)
        meet(
            alive, hits.triangle, hits.u, hits.v, hits.distance, direction, scene.soup, scene.double_sided, scene.surfaces,
            scene.sky if scene.sky_lights else scene.no_sky, scene.cells, scene.emitters, walk, under, coat, *sky, goes_on, way.left,
            way.gloss, scene.coats.means,
        )  # fmt: skip
        alive = alive[goes_on]
    if secondary is not None:
        secondary.settle(under, coat, sky_under, sky_coat)
    found[:, BOUNCE], found[:, REFLECTION], found[:, SKY_UNDER], found[:, SKY_COAT] = under, coat, sky_under, sky_coat


def _ask(
    scene: PathScene, walk: Walk, alive: np.ndarray, vertex: int, under: np.ndarray, coat: np.ndarray, *, light: int = -1,
    of_sky: bool = False, free: np.ndarray | None = None, secondary: Secondary | None = None,
) -> None:  # fmt: skip
    """Add what a light (or the sky's picture, or what shines) brings to the vertices of the living paths; to free (2, n, 3) what it would
    bring if nothing were in its way."""
    n = len(alive)
    which, value = np.empty(n, np.int64), np.empty((n, 6))
    start, direction, distance = np.empty((n, 3)), np.empty((n, 3)), np.empty(n)
    prim = np.full(n, -1, np.int64)
    out = which, value, start, direction, distance
    if of_sky:
        made = ask_sky(alive, walk, scene.sky, scene.cells, vertex, scene.step_m, *out)
    elif light >= 0:
        made = ask_light(light, scene.sizes[light], alive, walk, scene.lights, vertex, scene.step_m, *out)
    else:
        made = ask_emitters(
            alive,
            walk,
            scene.emitters,
            scene.soup,
            scene.double_sided,
            scene.surfaces,
            scene.coats.means,
            vertex,
            scene.step_m,
            *out,
            prim,
        )
    blocked = np.zeros(made, bool)
    if free is not None:
        add_to(which[:made], value[:made], blocked, *free)
    if made and (light < 0 or scene.blocked[light]):
        blocking = scene.blocking if light >= 0 else scene.bending
        blocked = blocking.blocked(start[:made], direction[:made], distance[:made])
        dims = scene.tinting if light >= 0 else scene.veiling
        _dim(scene, dims, start[:made], direction[:made], distance[:made], value[:made], ~blocked)
    add_to(which[:made], value[:made], blocked, under, coat)
    if secondary is not None:
        kept = np.flatnonzero(~blocked)
        place = start[kept] + direction[kept] * distance[kept, None]
        secondary.was_asked(which[kept], value[kept], place, faced(scene, prim[kept], direction[kept]), prim[kept])


def _dim(
    scene: PathScene, dims: RayScene | None, start: np.ndarray, direction: np.ndarray, distance: np.ndarray, value: np.ndarray,
    which: np.ndarray,
) -> None:  # fmt: skip
    """Take from what rays (m,) bring, value (m, 6), what blended things, glass and mist take of it on their straight way of distance
    (m,) m; which (m,) bool: of some of them."""
    at = np.flatnonzero(which)
    if not len(at):
        return
    left = np.ones((len(at), 3))
    if dims is not None:

        def take(rays: np.ndarray, _: np.ndarray, __: np.ndarray, kept: np.ndarray) -> None:
            left[rays] *= kept

        go_through(
            dims, start[at], direction[at], distance[at], scene.seen, scene.surfaces, take, seen_from_end=True, whole=True
        )  # fmt: skip
    mist = scene.mist
    if len(mist.per_m):
        far, every = np.minimum(distance[at], scene.far_m), np.arange(len(at))
        through_mist(every, start[at], direction[at], far, mist.low, mist.high, mist.per_m, mist.rgb, left, np.zeros_like(left))
    if dims is not None or len(mist.per_m):
        value[at] *= np.tile(left, 2)


def rounds(tally: Tally, most: int, at_once: int = 16) -> list[int]:
    """How many samples each round adds until a tally has `most`: doubling, so that noise is told at 2, 4, 8 ..., but no more at once
    than so many."""
    plan, count = [], tally.count
    while count < most:
        step = FIRST_SAMPLES if count == 0 else min(count, at_once)
        step = min(step, most - count, _to_next_doubling(count))
        plan.append(step)
        count += step
    return plan


def _to_next_doubling(count: int) -> int:
    return FIRST_SAMPLES if count < FIRST_SAMPLES else 2 ** (int(math.log2(count)) + 1) - count
