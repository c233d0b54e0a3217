"""Light grids: what arrives at each of their points, captured by the reference's paths as spherical harmonics."""

from collections.abc import Collection
from typing import Any

import numpy as np

from eddyfall.core.bake.captures.records import (
    PATHS_AT_ONCE,
    Captures,
    Fit,
    Kind,
    Place,
    Traced,
    captured_of,
    chosen_of,
    fits_of,
    from_place,
)
from eddyfall.core.bake.maps.stamps import sky_stamp
from eddyfall.core.errors import ChangeError
from eddyfall.core.frame.grid_store import codes_of_grid
from eddyfall.core.frame.render import Renderer
from eddyfall.core.hashing import digest
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import operation
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.model import vec3
from eddyfall.core.scene.setup import normalised, parse_setup
from eddyfall.core.scene.setup.sections.bake import Bake
from eddyfall.core.scene.setup.tables import Grid
from eddyfall.core.shade.grids import DEPTH_SIDE, points_of, projected
from eddyfall.core.shade.probes import FAR_M, middles_of
from eddyfall.core.truth.reference.around import around
from eddyfall.core.truth.reference.trace import keys_of
from eddyfall.core.truth.reference.walks import numbers_of

VERSION = 2  # counted up when points are captured otherwise
GOLDEN = (np.sqrt(5.0) - 1) / 2  # of a turn, from one direction of a spiral to the next
SHARPNESS = 50.0  # power of the cosine that distances around a direction are weighted by


def grid_fits(build: Build, geometry: Geometry, renderer: Renderer, names: Collection[str] | None = None) -> list[Fit]:
    """The state of every grid that is on (or of some), in every light set."""
    return fits_of(GRIDS, build, geometry, renderer, names)


def capture_grids(
    build: Build, only: Collection[Captures] | None = None, renderer: Renderer | None = None
) -> tuple[Build, tuple[Captures, ...]]:
    """(the build with grids captured, which): as `captured_of` has it."""
    return captured_of(GRIDS, build, only, renderer=renderer)


def _own(build: Build, grid: Grid, light_set: str | None) -> str:
    box = [*(float(v) for v in (*grid.low_m, *grid.high_m)), *grid.counts]
    return digest("grid", VERSION, box, grid.samples, build.setup[Bake].bounces, *sky_stamp(build, light_set))[:12]


def _middle(grid: Grid) -> Place:
    return vec3((np.array(grid.low_m) + np.array(grid.high_m)) / 2)


def _traced(renderer: Renderer, build: Build, grid: Grid, light_set: str | None) -> Traced:
    """(codes (points, width, 4), drawables that were seen) of a grid."""
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
        ways = _even_ways(key, grid.samples)
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


def _even_ways(key: np.ndarray, samples: int) -> np.ndarray:
    """(points * samples, 3) unit directions that lie evenly over the sphere of each point: a golden spiral, shifted by numbers of the
    first path's key, so that the mean over shifts is that of all directions."""
    first, k = key[::samples], np.arange(samples)
    along = (k / samples + numbers_of(first, 0)[:, None]) % 1.0
    z, angle = 1 - 2 * along, 2 * np.pi * (k * GOLDEN + numbers_of(first, 1)[:, None])
    ring = np.sqrt(np.maximum(1 - z * z, 0))
    return np.stack([ring * np.cos(angle), ring * np.sin(angle), z], axis=-1).reshape(-1, 3)


GRIDS = Kind("grid", _own, _middle, _traced)


@operation("grids.capture")
def run_capture(build: Build, params: dict[str, Any]) -> Build:
    """Capture what is missing or stale of `grids` (default: all that are on), in all light sets. ChangeError for grids that do not
    exist."""
    return capture_grids(build, chosen_of(GRIDS, build, params.get("grids")))[0]


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
