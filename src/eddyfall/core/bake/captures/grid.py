"""Captures light grids: what arrives at each of their points by the reference's paths, as spherical harmonics, stored and stamped."""

from collections.abc import Collection
from dataclasses import replace
from typing import Any

import numpy as np

from eddyfall.core.bake.captures.capture import PATHS_AT_ONCE, Captures, Fit, from_place, why_stale
from eddyfall.core.bake.captures.kept import KEPT
from eddyfall.core.bake.maps.run import light_sets
from eddyfall.core.bake.maps.stamps import Stamps, scene_stamp, sky_stamp, stamps, with_scenes
from eddyfall.core.errors import ChangeError
from eddyfall.core.frame.grid_store import codes_of_grid
from eddyfall.core.frame.render import Renderer
from eddyfall.core.hashing import digest, freeze
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import operation
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.model import Image, vec3
from eddyfall.core.scene.receivers import NO_SET
from eddyfall.core.scene.setup import normalised, parse_setup
from eddyfall.core.scene.setup.sections.bake import Bake
from eddyfall.core.scene.setup.tables import BakedScene, CapturedProbe, Grid
from eddyfall.core.shade.grids import DEPTH_SIDE, points_of, projected
from eddyfall.core.shade.probes import FAR_M, middles_of
from eddyfall.core.truth.reference.around import around
from eddyfall.core.truth.reference.trace import keys_of
from eddyfall.core.truth.reference.walks import numbers_of

VERSION = 1
SHARPNESS = 50.0  # power of the cosine that distances around a direction are weighted by


def own_stamp(build: Build, grid: Grid, light_set: str | None) -> str:
    """Stamp of what a capture depends on besides what it sees."""
    box = [*(float(v) for v in (*grid.low_m, *grid.high_m)), *grid.counts]
    return digest("grid", VERSION, box, grid.samples, build.setup[Bake].bounces, *sky_stamp(build, light_set))[:12]


def grid_fits(build: Build, geometry: Geometry, renderer: Renderer, names: Collection[str] | None = None) -> list[Fit]:
    """The state of every grid that is on (or of some), in every light set."""
    found = []
    for light_set in light_sets(build) if build.setup.grids else ():
        now: Stamps | None = None
        for name, grid in build.setup.grids.items():
            if not grid.on or (names is not None and name not in names):
                continue
            record = build.setup.grid_maps.get(name, {}).get(light_set or NO_SET)
            if record is None or record.image not in build.scene.image_keys:
                found.append(Fit(name, light_set, True, ()))
                continue
            now = now or stamps(build, geometry, light_set)
            middle = vec3((np.array(grid.low_m) + np.array(grid.high_m)) / 2)
            why = why_stale(build, renderer, middle, record, own_stamp(build, grid, light_set), now, light_set)
            found.append(Fit(name, light_set, False, tuple(why)))
    return found


def capture_grids(
    build: Build, only: Collection[Captures] | None = None, renderer: Renderer | None = None
) -> tuple[Build, tuple[Captures, ...]]:
    """(the build with grids captured, which): what is missing or stale, of some or of all. What `renderer.between` raises ends it, and the
    build stays as it was."""
    renderer = renderer or Renderer()
    geometry = renderer.geometry(build)
    done: list[Captures] = []
    scenes: dict[str, BakedScene] = {}
    for fit in grid_fits(build, geometry, renderer):
        if fit.fresh or (only is not None and (fit.probe, fit.light_set) not in only):
            continue
        now, grid = stamps(build, geometry, fit.light_set), build.setup.grids[fit.probe]
        own, scene = own_stamp(build, grid, fit.light_set), scene_stamp(now)
        key = digest("grid", own, scene)[:40]
        known = KEPT.get(key)
        codes, seen = known or _captured(renderer, build, grid, fit.light_set)
        if known is None:
            KEPT.put(key, codes, seen)
        image = f"grid {fit.probe}" + (f" ({fit.light_set})" if fit.light_set else "")
        drawables = {n: now.drawables[n] for n in seen if n in now.drawables}
        record = CapturedProbe(image=image, own=own, scene=scene, lights=dict(now.lights), drawables=drawables)
        maps = {**build.setup.grid_maps.get(fit.probe, {}), fit.light_set or NO_SET: record}
        setup = build.setup.model_copy(update={"grid_maps": {**build.setup.grid_maps, fit.probe: maps}})
        codes = freeze(codes)
        picture = Image(image, freeze((codes // 257).astype(np.uint8)), codes)
        build = replace(build, scene=build.scene.with_image(picture), setup=setup)
        scenes[scene] = BakedScene(drawables=now.drawables, lights=now.lights)
        done.append((fit.probe, fit.light_set))
    return (with_scenes(build, scenes) if scenes else build), tuple(done)


def _captured(renderer: Renderer, build: Build, grid: Grid, light_set: str | None) -> tuple[np.ndarray, tuple[str, ...]]:
    points = points_of(np.array(grid.low_m), np.array(grid.high_m), grid.counts)
    frame, scene = from_place(renderer, build, vec3(points.mean(axis=0)), light_set)
    bounces, seen = build.setup[Bake].bounces, set[int]()
    numbers = np.zeros((len(points), 9, 3))
    depths = np.zeros((len(points), DEPTH_SIDE**2, 2))
    at_once = max(1, PATHS_AT_ONCE // grid.samples)
    around_texels = middles_of(DEPTH_SIDE)
    for first in range(0, len(points), at_once):
        renderer.between()
        part = np.arange(first, min(first + at_once, len(points)))
        key = keys_of(np.stack([part, np.zeros_like(part)], axis=1), len(points), 2, grid.samples)
        # Evenly over the sphere: z and the angle about it.
        z, angle = 1 - 2 * numbers_of(key, 0), 2 * np.pi * numbers_of(key, 1)
        ring = np.sqrt(np.maximum(1 - z * z, 0))
        ways = np.stack([ring * np.cos(angle), ring * np.sin(angle), z], axis=1)
        light, hits = around(scene, np.repeat(points[part], grid.samples, axis=0), ways, key, bounces)
        met = hits.triangle >= 0
        seen |= set(np.unique(scene.soup.owner[hits.triangle[met]]).tolist())
        far = np.where(met, np.minimum(hits.distance, FAR_M), FAR_M)
        weight = np.full(grid.samples, 4 * np.pi / grid.samples)
        for k, point in enumerate(part):
            mine = slice(k * grid.samples, (k + 1) * grid.samples)
            numbers[point] = projected(ways[mine], light[mine], weight)
            near = np.maximum(around_texels @ ways[mine].T, 0.0) ** SHARPNESS
            near /= np.maximum(near.sum(axis=1, keepdims=True), 1e-30)
            depths[point] = np.stack([near @ far[mine], near @ far[mine] ** 2], axis=1)
    return codes_of_grid(numbers, depths), tuple(frame.geometry.drawables[d].name for d in sorted(seen))


@operation("grids.capture")
def run_capture(build: Build, params: dict[str, Any]) -> Build:
    """Capture what is missing or stale of `grids` (default: all that are on), in all light sets. ChangeError for grids that do not
    exist."""
    names = params.get("grids")
    if names is not None and (not isinstance(names, list) or not all(isinstance(n, str) for n in names)):
        raise ChangeError("grids must be a list of names")
    unknown = [n for n in names or () if n not in build.setup.grids]
    if unknown:
        raise ChangeError(f"grid {unknown[0]!r} does not exist; there are: {', '.join(build.setup.grids) or 'none'}")
    return capture_grids(build, None if names is None else {(n, s) for n in names for s in light_sets(build)})[0]


@operation("grids.place")
def place_grid(build: Build, params: dict[str, Any]) -> Build:
    """Put a grid somewhere, or change one that is there, and capture it: `grid` its name, `set` what is said of it in the setup.
    ChangeError for what makes no sense."""
    name, told = params.get("grid"), params.get("set", {})
    if not isinstance(name, str) or not name or not isinstance(told, dict):
        raise ChangeError("grid must be a name, and set what is said of it")
    document = normalised(build.setup)
    document["grids"][name] = {**document["grids"].get(name, {}), **told}
    return run_capture(build.with_setup(parse_setup(document)), {"grids": [name]})
