"""Light gathered for texels by tracing paths: direct light from every lamp and the sun, sky and emission by cosine-weighted rays,
bounced light along them (Kajiya 1986, the rendering equation; Lambertian surfaces only).

Irradiance in lux for R, G, B. Every random number is a hash of (receiver, texel, sample, dimension), and a texel's samples are summed
in their order, so a result depends neither on how work is cut nor on where it runs.
"""

from dataclasses import dataclass, replace

import numpy as np

from eddyfall.core.bake.light.footprint import Footprint
from eddyfall.core.bake.light.light_scene import LitScene
from eddyfall.core.bake.light.path_kernels import add_value, arrive, begin, cosine_rays, cut_through, sums, towards_light
from eddyfall.core.rays.threads import traced

MAX_LAYERS = 64
ANY_UV = 2
SITES_AT_ONCE = 131_072


@dataclass(frozen=True)
class Job:
    """Texels of one receiver. triangles (t,) world triangles the footprint's triangle numbers index; page (3,) low u, low v, side of the
    page in tiles; uv_set 0, 1 or ANY_UV; seed of the receiver; samples and bounces; sample_from: number of the first sample;
    everywhere: focus regions do not count."""

    footprint: Footprint
    triangles: np.ndarray
    page: tuple[float, float, float]
    uv_set: int
    seed: int
    samples: int
    bounces: int
    sample_from: int = 0
    everywhere: bool = False


def any_uv(vertices: int) -> np.ndarray:
    """(vertices, 2) float32: UVs by which a place on any triangle can be told although the mesh has none that would do."""
    return np.random.default_rng(1).random((vertices, 2), np.float32)


@dataclass(frozen=True)
class Gathered:
    """By texel of the job (m, ...): mean irradiance of all samples and of those that are not hidden (m, 3) float64, variance of one
    sample's luminance (m,), share of samples hidden (m,), the drawable that most first rays met (-1: none has more than half);
    lights (l,) and drawables (d,) bool that any path met; rays traced."""

    mean: np.ndarray
    seen_mean: np.ndarray
    variance: np.ndarray
    hidden: np.ndarray
    over: np.ndarray
    lights: np.ndarray
    drawables: np.ndarray
    rays: int


def gather(scene: LitScene, job: Job) -> Gathered:
    """Irradiance of every texel of a job."""
    m = len(job.footprint.texel)
    parts = []
    step = max(1, SITES_AT_ONCE // job.samples)
    for start in range(0, m, step):
        chosen = np.zeros(m, bool)
        chosen[start : start + step] = True
        parts.append(_gather_batch(scene, job, job.footprint.only(chosen)))
    if not parts:
        nothing = np.zeros((0, 3))
        return Gathered(
            nothing, nothing, np.zeros(0), np.zeros(0), np.zeros(0, np.int64), np.zeros(len(scene.light_names), bool),
            np.zeros(len(scene.double_sided), bool), 0,
        )  # fmt: skip
    return Gathered(
        np.concatenate([p.mean for p in parts]),
        np.concatenate([p.seen_mean for p in parts]),
        np.concatenate([p.variance for p in parts]),
        np.concatenate([p.hidden for p in parts]),
        np.concatenate([p.over for p in parts]),
        np.logical_or.reduce([p.lights for p in parts]),
        np.logical_or.reduce([p.drawables for p in parts]),
        sum(p.rays for p in parts),
    )


class _Paths:
    """The state of all paths of a batch, one row a (texel, sample)."""

    def __init__(self, scene: LitScene, job: Job, footprint: Footprint) -> None:
        n = len(footprint.texel) * job.samples
        self.key = np.zeros(n, np.uint64)
        self.place, self.facing, self.normal = np.zeros((n, 3)), np.zeros((n, 3)), np.zeros((n, 3))
        self.weight, self.light = np.ones((n, 3)), np.zeros((n, 3))
        sets = {0: scene.uv0, 1: scene.uv1}
        uvs = sets[job.uv_set] if job.uv_set in sets else any_uv(len(scene.positions))
        begin(
            footprint.texel, footprint.first, footprint.uv, footprint.area, footprint.triangle, job.triangles,
            scene.positions, scene.normals, scene.triangles, uvs,
            np.array(job.page), footprint.edge, np.uint64(job.seed), job.samples, job.sample_from,
            self.key, self.place, self.facing, self.normal,
        )  # fmt: skip


@dataclass(frozen=True)
class Samples:
    """Every sample of some texels by itself, (m, n, ...): irradiance lux, hidden bool, drawable its first ray met, place and face normal in
    world space; lights, drawables (bool) that were met; rays traced."""

    light: np.ndarray
    hidden: np.ndarray
    first: np.ndarray
    place: np.ndarray
    facing: np.ndarray
    lights: np.ndarray
    drawables: np.ndarray
    rays: int


def _gather_batch(scene: LitScene, job: Job, footprint: Footprint) -> Gathered:
    got = samples_of(scene, replace(job, footprint=footprint))
    m, n = got.hidden.shape
    mean, seen, variance, share = sums(got.light.reshape(-1, 3), got.hidden.reshape(-1).astype(np.uint8), m, n)
    return Gathered(mean, seen, variance, share, _majority(got.first), got.lights, got.drawables, got.rays)


def samples_of(scene: LitScene, job: Job) -> Samples:
    """Trace every path of a job at once."""
    footprint = job.footprint
    m, n = len(footprint.texel), len(footprint.texel) * job.samples
    paths = _Paths(scene, job, footprint)
    begun = paths.place.copy(), paths.facing.copy()
    lights, drawables = np.zeros(len(scene.light_names), bool), np.zeros(len(scene.double_sided), bool)
    alive = np.arange(n)
    inside = np.ones(n, bool)
    if len(scene.focus) and not job.everywhere:
        at = paths.place[:, None, :]
        within = np.asarray(((at >= scene.focus[:, 0]) & (at <= scene.focus[:, 1])).all(axis=2))
        inside = np.asarray(within.any(axis=1))
    hidden, first = np.zeros(n, bool), np.full(n, -1, np.int32)
    rays = 0
    for bounce in range(job.bounces + 1):
        for i in range(len(scene.light_names)):
            if bounce == 0 and not scene.direct[i]:
                continue
            rays += _add_light(scene, paths, alive, i, lights, drawables)
        start, direction = cosine_rays(alive, paths.key, paths.place, paths.normal, paths.facing, bounce, scene.step_m)
        prim, u, v, t = _first_hit(scene, start, direction)
        rays += len(alive)
        met = prim >= 0
        drawables[scene.owner[prim[met]]] = True
        back = np.zeros(len(alive), np.uint8)
        goes_on = arrive(
            alive, prim, u, v, t, start, direction, scene.positions, scene.normals, scene.uv0, scene.uv1, scene.colours,
            scene.triangles, scene.owner, scene.double_sided, scene.material, scene.surfaces, scene.sky, scene.hidden_m,
            paths.place, paths.facing, paths.normal, paths.weight, paths.light, back,
        )  # fmt: skip
        if bounce == 0:
            hidden = back > 0
            first[met] = scene.owner[prim[met]]
            goes_on &= inside
        if bounce == job.bounces:
            break
        alive = alive[goes_on]
        if not len(alive):
            break

    def rows(values: np.ndarray) -> np.ndarray:
        return values.reshape(m, job.samples, *values.shape[1:])

    return Samples(
        rows(paths.light), rows(hidden), rows(first), rows(begun[0]), rows(begun[1]), lights, drawables, rays
    )  # fmt: skip


def _add_light(scene: LitScene, paths: _Paths, alive: np.ndarray, light: int, lights: np.ndarray, drawables: np.ndarray) -> int:
    """Add one light's unblocked direct light to the living paths; notes what it met. Returns rays traced."""
    n = len(alive)
    which, value = np.empty(n, np.int64), np.empty((n, 3))
    start, direction, distance = np.empty((n, 3), np.float32), np.empty((n, 3), np.float32), np.empty(n, np.float32)
    lit = towards_light(
        alive,
        paths.place,
        paths.normal,
        paths.facing,
        paths.weight,
        scene.lights,
        light,
        scene.step_m,
        which,
        value,
        start,
        direction,
        distance,
    )
    if lit == 0:
        return 0
    which, value = which[:lit], value[:lit]
    rays = 0
    if scene.casts[light]:
        rays = lit
        blocker = _blocked(scene, start[:lit], direction[:lit], distance[:lit])
        drawables[scene.owner[blocker[blocker >= 0]]] = True
        free = blocker < 0
        which, value = which[free], value[free]
    if len(which):
        lights[light] = True
        add_value(which, value, paths.light)
    return rays


def _blocked(scene: LitScene, start: np.ndarray, direction: np.ndarray, distance: np.ndarray) -> np.ndarray:
    """World triangle that blocks each ray within its distance, -1 if none does."""
    if not scene.has_cutouts:
        hit = traced(scene.embree, start, direction, distance, query="INTERSECT")
        return np.where(hit >= 0, scene.prim[hit], -1) if len(scene.prim) else np.full(len(start), -1)
    prim, _, _, t = _first_hit(scene, start, direction)
    return np.where((prim >= 0) & (t < distance), prim, -1)


def _first_hit(
    scene: LitScene, start: np.ndarray, direction: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """(world triangle or -1, u, v, distance) of the first solid thing on each ray; cutouts are tested at their finest level."""
    n = len(start)
    if not len(scene.prim):
        return np.full(n, -1), np.zeros(n, np.float32), np.zeros(n, np.float32), np.full(n, np.inf)
    hit = traced(scene.embree, start, direction, query="INTERSECT", output=True)
    found = hit["primID"] >= 0
    prim = np.where(found, scene.prim[hit["primID"]], -1)
    u, v, t = hit["u"], hit["v"], hit["tfar"].astype(np.float64)
    if scene.has_cutouts:
        travelled = np.zeros(n)
        active = np.flatnonzero(found)
        for _ in range(MAX_LAYERS):
            if not len(active):
                break
            through = cut_through(
                prim[active],
                u[active],
                v[active],
                scene.owner,
                scene.triangles,
                scene.alpha_uv,
                *scene.cutouts[:-1],  # at no level's bias
            )
            active = active[through]
            if not len(active):
                break
            travelled[active] = t[active] + 1e-4 * np.maximum(t[active], min(1.0, 200 * scene.hidden_m))
            again = start[active] + direction[active] * travelled[active][:, None]
            next_hit = traced(scene.embree, again, direction[active], query="INTERSECT", output=True)
            there = next_hit["primID"] >= 0
            prim[active] = np.where(there, scene.prim[next_hit["primID"]], -1)
            u[active], v[active] = next_hit["u"], next_hit["v"]
            t[active] = travelled[active] + next_hit["tfar"]
            active = active[there]
    return prim, u, v, np.where(prim >= 0, t, np.inf)


def _majority(first: np.ndarray) -> np.ndarray:
    """(m,) the drawable that more than half of each texel's first rays (m, n) met, -1 if there is none."""
    samples = first.shape[1]
    rows = np.sort(first, axis=1)
    middle = rows[:, samples // 2]  # what more than half agree on lies in the middle
    return np.where((rows == middle[:, None]).sum(axis=1) * 2 > samples, middle, -1).astype(np.int64)
