"""Bakes receivers: cuts them into tiles, has the tiles gathered somewhere, puts pages together, finishes, encodes and records them."""

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, field, replace
from functools import partial
from typing import Any

import numpy as np

from eddyfall.core.bake.light.footprint import Footprint
from eddyfall.core.bake.light.gather import SITES_AT_ONCE, Gathered, Job, gather
from eddyfall.core.bake.light.jobs import job_of, receiver_footprint
from eddyfall.core.bake.light.light_scene import LitScene, light_scene
from eddyfall.core.bake.maps.finish import Finish, Raw, finished
from eddyfall.core.bake.maps.stamps import Stamps, gather_stamp, scene_stamp, stale, stamps, surface_stamp, with_scenes
from eddyfall.core.bake.maps.store import STORE, StoredLight, raw_key
from eddyfall.core.compute import Executor, Here
from eddyfall.core.errors import ChangeError
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import operation
from eddyfall.core.scene.drawables import Geometry, pack
from eddyfall.core.scene.model import Image
from eddyfall.core.scene.receivers import NO_SET, Receiver, receivers, uv_of
from eddyfall.core.scene.setup.sections.bake import Bake
from eddyfall.core.scene.setup.tables import BakedMap, BakedScene
from eddyfall.core.shade.lightmap_codes import to_codes
from eddyfall.core.uv.charts import measure_charts

MOST_OVER = 250

Progress = Callable[[str, float], None]
Map = tuple[str, str | None]  # receiver and light set


@dataclass(frozen=True)
class BakeResult:
    """build: with the new lightmaps. done, left: (receiver, light set) baked and, if it was stopped, not. raws by (receiver, set);
    rays traced; reused: receivers whose gathered light was still at hand."""

    build: Build
    done: tuple[Map, ...]
    left: tuple[Map, ...]
    raws: dict[Map, Raw] = field(repr=False)
    rays: int = 0
    reused: int = 0


def light_sets(build: Build) -> list[str | None]:
    """The light sets that are baked: all that the build names, else the lights as they say themselves."""
    return list(build.setup.light_sets) or [None]


def bake(
    build: Build,
    names: Sequence[str] | None = None,
    sets: Sequence[str | None] | None = None,
    *,
    bake_settings: Bake | None = None,
    everything: bool = False,
    executor: Executor | None = None,
    progress: Progress = lambda what, share: None,
    cancelled: Callable[[], bool] = lambda: False,
    on_receiver: Callable[[str, str | None], None] = lambda name, light_set: None,
    preview_samples: int | None = None,
    only: Collection[Map] | None = None,
    gathers: bool = True,
) -> BakeResult:
    """Bake what is missing or stale: of the receivers named (default: all), in the light sets given (default: all).

    everything: bake what is fresh too. preview_samples: gather no more than this where the light is not at hand yet. only: these maps and
    no others. gathers: False leaves out what would have to be gathered. Cancelling keeps every receiver that is finished. The result is
    the same to the bit whatever the executor.
    """
    settings = bake_settings or build.setup[Bake]
    geometry = pack(build.scene, build.setup)
    wanted: list[tuple[Receiver, str | None]] = []
    for light_set in sets if sets is not None else light_sets(build):
        if everything:
            chosen = receivers(build, geometry, settings)
        else:
            chosen = [s.receiver for s in stale(build, geometry, light_set, settings, names) if not s.fresh]
        chosen = [r for r in chosen if names is None or r.name in names]
        wanted += [(r, light_set) for r in chosen if only is None or (r.name, light_set) in only]
    done: list[Map] = []
    raws: dict[Map, Raw] = {}
    met_scenes: dict[str, BakedScene] = {}
    rays = reused = 0
    scenes: dict[str | None, tuple[LitScene, Stamps]] = {}
    for number, (receiver, light_set) in enumerate(wanted):
        if cancelled():
            break
        label = receiver.name + (f", {light_set}" if light_set else "")
        progress(f"baking {label}", number / len(wanted))
        if light_set not in scenes:
            scenes = {light_set: (light_scene(build, geometry, light_set), stamps(build, geometry, light_set))}
        scene, now = scenes[light_set]
        gathering = settings
        key = raw_key(gather_stamp(build, geometry, receiver, settings, light_set), scene_stamp(now))
        if preview_samples is not None and STORE.get(key) is None:
            gathering = settings.model_copy(update={"samples": min(settings.samples, preview_samples)})
            key = raw_key(gather_stamp(build, geometry, receiver, gathering, light_set), scene_stamp(now))
        if not gathers and STORE.get(key) is None:
            continue
        share = partial(_share, progress, f"baking {label}", number, len(wanted))
        made = _gathered(geometry, receiver, scene, gathering, key, executor or Here(), cancelled, share)
        if made is None:
            break
        raw, over_names, met_lights, met_drawables, traced = made
        rays += traced
        reused += int(traced == 0)
        record = BakedMap(
            image="",
            surface=surface_stamp(build, geometry, receiver, settings, light_set),
            raw=key,
            scene=scene_stamp(now),
            lights={n: now.lights[n] for n in met_lights if n in now.lights},
            drawables={n: now.drawables[n] for n in met_drawables if n in now.drawables},
            over=over_names[:MOST_OVER],
        )  # fmt: skip
        build = attach(build, receiver.name, light_set, finished(raw, Finish.from_bake(settings)), raw.over, record, settings)
        raws[receiver.name, light_set] = raw
        met_scenes[scene_stamp(now)] = BakedScene(drawables=now.drawables, lights=now.lights)
        done.append((receiver.name, light_set))
        on_receiver(receiver.name, light_set)
    if met_scenes:
        build = with_scenes(build, met_scenes)
    left = tuple((r.name, s) for r, s in wanted if (r.name, s) not in done)
    progress("done", 1.0)
    return BakeResult(build, tuple(done), left, raws, rays, reused)


def _share(progress: Progress, what: str, number: int, total: int, share: float) -> None:
    progress(what, (number + share) / total)


def _gathered(
    geometry: Geometry, receiver: Receiver, scene: LitScene | None, settings: Bake, key: str, executor: Executor,
    cancelled: Callable[[], bool], share: Callable[[float], None],
) -> tuple[Raw, tuple[str, ...], list[str], list[str], int] | None:  # fmt: skip
    """(raw, names of what `over` indexes, lights and drawables met, rays) of a receiver; None if it was cancelled."""
    known = STORE.get(key)
    if known is not None:
        raw, names = known
        over = tuple(n[2:] for n in names if n.startswith("o "))
        return raw, over, [n[2:] for n in names if n.startswith("l ")], [n[2:] for n in names if n.startswith("d ")], 0
    assert scene is not None
    owned, triangles = receiver_footprint(geometry, receiver)
    whole = job_of(receiver, owned, triangles, settings)
    tiles = tiles_of(whole)
    results: list[Gathered | None] = [None] * len(tiles)
    for count, (number, result) in enumerate(executor.run(gather, scene, tiles), 1):
        results[number] = result
        share(count / len(tiles))
        if cancelled():
            return None
    parts = [r for r in results if r is not None]
    raw, over_ids = assemble(geometry, receiver, owned, triangles, parts, settings.samples)
    over = tuple(geometry.drawables[i].name for i in over_ids)
    met_lights = [n for i, n in enumerate(scene.light_names) if any(p.lights[i] for p in parts)]
    met: list[int] = np.flatnonzero(np.logical_or.reduce([p.drawables for p in parts])).tolist() if parts else []
    met_drawables = [geometry.drawables[i].name for i in met]
    STORE.put(key, raw, (*(f"o {n}" for n in over), *(f"l {n}" for n in met_lights), *(f"d {n}" for n in met_drawables)))
    return raw, over, met_lights, met_drawables, sum(p.rays for p in parts)


def settled(build: Build, drawables: Sequence[str], preview_samples: int | None = None) -> Build:
    """The build with the lightmaps of some drawables baked again where they no longer fit: how a change looks once it is baked."""
    if not build.setup.lightmaps:
        return build
    geometry = pack(build.scene, build.setup)
    wanted = set(drawables)
    names = [
        r.name
        for r in receivers(build, geometry)
        if r.name in build.setup.lightmaps
        and any(geometry.drawables[d].name in wanted or geometry.drawables[d].node in wanted for d in r.drawables)
    ]
    return bake(build, names, preview_samples=preview_samples).build if names else build


def raw_of(
    build: Build, geometry: Geometry, receiver: Receiver, light_set: str | None, settings: Bake, scene: Callable[[], LitScene]
) -> Raw:
    """What the bake of a receiver's stored lightmap gathered; gathered anew, for the scene as it is now, where that is not at hand."""
    record = build.setup.lightmaps.get(receiver.name, {}).get(light_set or NO_SET)
    known = STORE.get(record.raw) if record is not None else None
    if known is not None and known[0].covered.shape[0] == receiver.resolution:
        return known[0]
    now = scene_stamp(stamps(build, geometry, light_set))
    key = raw_key(gather_stamp(build, geometry, receiver, settings, light_set), now)
    made = _gathered(
        geometry, receiver, None if STORE.get(key) else scene(), settings, key, Here(), lambda: False, lambda share: None
    )
    assert made is not None
    return made[0]


def tiles_of(job: Job) -> list[Job]:
    """The job cut into tiles of at most SITES_AT_ONCE paths."""
    m = len(job.footprint.texel)
    step = max(1, SITES_AT_ONCE // job.samples)
    tiles = []
    for start in range(0, m, step):
        keep = np.zeros(m, bool)
        keep[start : start + step] = True
        tiles.append(replace(job, footprint=job.footprint.only(keep)))
    return tiles


def assemble(
    geometry: Geometry, receiver: Receiver, owned: Footprint, triangles: np.ndarray, parts: Sequence[Gathered], samples: int
) -> tuple[Raw, list[int]]:
    """(pages of a receiver from its tiles in order, drawables that raw.over numbers from 1)."""
    edge = owned.edge

    def page(values: np.ndarray, fill: float, dtype: Any) -> np.ndarray:
        grid = np.full((edge * edge, *values.shape[1:]), fill, dtype)
        grid[owned.texel] = values
        return grid.reshape(edge, edge, *values.shape[1:])

    def joined(name: str, width: int | None = None) -> np.ndarray:
        shape = (0,) if width is None else (0, width)
        return np.concatenate([getattr(p, name) for p in parts]) if parts else np.zeros(shape)

    uv = uv_of(geometry, receiver.uv_set)[geometry.triangles[triangles]]
    charts = measure_charts(receiver.page_uv(uv), geometry.positions[geometry.triangles[triangles]], edge).chart
    over = joined("over").astype(np.int64)
    ids = [int(i) for i in np.unique(over[over >= 0])][:MOST_OVER]
    number = np.zeros(len(over), np.int32)
    for n, i in enumerate(ids, 1):
        number[over == i] = n
    raw = Raw(
        page(joined("mean", 3), 0, np.float32),
        page(joined("seen_mean", 3), 0, np.float32),
        page(joined("variance"), 0, np.float32),
        page(joined("hidden"), 0, np.float32),
        owned.covered,
        page(charts[owned.largest_triangle()], -1, np.int32),
        page(number, 0, np.int32),
        samples,
    )
    return raw, ids


def attach(
    build: Build, name: str, light_set: str | None, values: np.ndarray, over: np.ndarray, record: BakedMap, settings: Bake
) -> Build:
    """The build with a receiver's lightmap stored in its scene as a picture and recorded in its setup."""
    scale = 1.0
    if settings.encoding != "half":
        scale = settings.range_lux or float(values.max()) or 1.0
    codes = to_codes(values, settings.encoding, scale, settings.dither)
    full = 255 if settings.encoding == "srgb8" else 65535
    alpha = np.where(over > 0, over, full).astype(codes.dtype)
    codes = freeze(np.dstack([codes, alpha]))
    key = f"lightmap {name}" + (f" ({light_set})" if light_set else "")
    wide = None if settings.encoding == "srgb8" else codes
    pixels = codes if wide is None else freeze((codes // 257).astype(np.uint8))
    record = record.model_copy(update={"image": key, "encoding": settings.encoding, "scale_lux": scale})
    maps = {**build.setup.lightmaps.get(name, {}), light_set or NO_SET: record}
    setup = build.setup.model_copy(update={"lightmaps": {**build.setup.lightmaps, name: maps}})
    return replace(build, scene=build.scene.with_image(Image(key, pixels, wide)), setup=setup)


@operation("bake.run", takes_light=True)
def run_bake(build: Build, params: dict[str, Any], light: StoredLight | None = None) -> Build:
    """Bake what is missing or stale of `receivers` (default: all) in `light_sets` (default: all), or of `maps`, a list of [receiver,
    light set or null]. Names that are not there any more are passed over in `maps`, which a bake job writes; elsewhere they are errors.
    light: where gathered light comes from, and whether what is not there is gathered (it is by default)."""
    light = light or StoredLight()
    names, sets = params.get("receivers"), params.get("light_sets")
    if "maps" in params:
        only = _maps(params["maps"])
        known = set(light_sets(build))
        kept = [m for m in only if m[1] in known]
        wanted_sets = [s for s in light_sets(build) if s in {m[1] for m in kept}]
        return bake(build, sorted({m[0] for m in kept}), wanted_sets, only=frozenset(kept), gathers=light.gathers).build
    for value in (names, sets):
        if value is not None and (not isinstance(value, list) or not all(v is None or isinstance(v, str) for v in value)):
            raise ChangeError("receivers and light_sets must be lists of names")
    unknown = [s for s in sets or () if s is not None and s not in build.setup.light_sets]
    if unknown:
        raise ChangeError(f"light set {unknown[0]!r} does not exist")
    there = {r.name for r in receivers(build, pack(build.scene, build.setup))}
    missing = [n for n in names or () if n not in there]
    if missing:
        raise ChangeError(f"receiver {missing[0]!r} does not exist")
    return bake(build, names, sets, gathers=light.gathers).build


def _maps(value: Any) -> list[Map]:
    """Pairs of receiver and light set; ChangeError if they are none."""
    good = isinstance(value, list) and all(
        isinstance(m, list) and len(m) == 2 and isinstance(m[0], str) and (m[1] is None or isinstance(m[1], str)) for m in value
    )
    if not good:
        raise ChangeError("maps must be a list of [receiver, light set or null]")
    return [(name, light_set) for name, light_set in value]
