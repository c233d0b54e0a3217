"""Captures reflection probes: what each sees all around, by the reference's paths, as a picture in the scene and a record in the setup."""

from collections.abc import Callable, Collection
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from eddyfall.core.bake.captures.kept import KEPT
from eddyfall.core.bake.maps.run import light_sets
from eddyfall.core.bake.maps.stamps import Stamps, scene_stamp, sky_stamp, stamps, with_scenes
from eddyfall.core.errors import ChangeError
from eddyfall.core.frame.render import Frame, Renderer, Request
from eddyfall.core.hashing import digest, freeze
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import operation
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.model import Image
from eddyfall.core.scene.receivers import NO_SET
from eddyfall.core.scene.setup import normalised, parse_setup
from eddyfall.core.scene.setup.sections.bake import Bake
from eddyfall.core.scene.setup.tables import BakedScene, CapturedProbe, Probe, Viewpoint
from eddyfall.core.shade.lightmap_codes import to_codes
from eddyfall.core.shade.probes import FAR_M, middles_of, ways_of
from eddyfall.core.truth.reference.around import around
from eddyfall.core.truth.reference.path_scene import PathScene, path_scene
from eddyfall.core.truth.reference.trace import keys_of
from eddyfall.core.truth.reference.walks import PIXEL, numbers_of

PATHS_AT_ONCE = 65_536
VERSION = 1  # counted up when maps are captured otherwise
VIEW = "capture"
LOOKS = 64  # edge of the map that new things are looked for with
Captures = tuple[str, str | None]  # probe and light set


@dataclass(frozen=True)
class Fit:
    """A probe's state in a light set: missing (never captured), or why what it shows no longer fits (empty: it does)."""

    probe: str
    light_set: str | None
    missing: bool
    why: tuple[str, ...]

    @property
    def fresh(self) -> bool:
        return not self.missing and not self.why


def from_place(
    renderer: Renderer, build: Build, place: tuple[float, float, float], light_set: str | None
) -> tuple[Frame, PathScene]:
    """(a frame as far as its lights, the scene of paths) of a build as a place sees it in a light set, whatever its viewpoints say."""
    target = (place[0], place[1], place[2] - 1.0)
    view = Viewpoint(eye=place, target=target, role="reference", light_set=light_set)
    nodes = {
        k: n.model_copy(update={"drawn": False}) if n.moves else n for k, n in build.setup.nodes.items()
    }  # what stands still
    setup = build.setup.model_copy(update={"viewpoints": {**build.setup.viewpoints, VIEW: view}, "nodes": nodes})
    seen = build.with_setup(setup)
    frame = renderer.frame(seen, Request(VIEW, (16, 16)), "lights")
    return frame, path_scene(renderer, seen, frame)


def own_stamp(build: Build, probe: Probe, light_set: str | None) -> str:
    """Stamp of what a capture depends on besides what it sees."""
    bounces = build.setup[Bake].bounces
    return digest(VERSION, [float(v) for v in probe.place_m], probe.size, probe.samples, bounces, *sky_stamp(build, light_set))[
        :12
    ]


def fits(build: Build, geometry: Geometry, renderer: Renderer, names: Collection[str] | None = None) -> list[Fit]:
    """The state of every probe that is on (or of some), in every light set."""
    found = []
    for light_set in light_sets(build):
        now: Stamps | None = None
        for name, probe in build.setup.probes.items():
            if not probe.on or (names is not None and name not in names):
                continue
            record = build.setup.probe_maps.get(name, {}).get(light_set or NO_SET)
            if record is None or record.image not in build.scene.image_keys:
                found.append(Fit(name, light_set, True, ()))
                continue
            now = now or stamps(build, geometry, light_set)
            own = own_stamp(build, probe, light_set)
            found.append(
                Fit(name, light_set, False, tuple(why_stale(build, renderer, probe.place_m, record, own, now, light_set)))
            )
    return found


def why_stale(
    build: Build,
    renderer: Renderer,
    place: tuple[float, float, float],
    record: CapturedProbe,
    own: str,
    now: Stamps,
    light_set: str | None,
) -> list[str]:
    """Why what was captured at a place no longer fits; own: its stamp as it is now. Empty: it does."""
    why = ["it, the sky or how it is captured changed"] if record.own != own else []
    if record.scene == scene_stamp(now):
        return why
    for name, stamp in sorted(record.lights.items()):
        if now.lights.get(name) != stamp:
            why.append(f"light {name} {'changed' if name in now.lights else 'no longer shines'}")
    why += [f"light {name} shines now" for name in sorted(now.lights) if name not in record.lights]
    gone = [name for name, stamp in sorted(record.drawables.items()) if now.drawables.get(name) != stamp]
    why += [f"{name} {'changed' if name in now.drawables else 'is gone'}" for name in gone]
    then = build.setup.baked_scenes.get(record.scene, BakedScene()).drawables
    new = {name for name, stamp in now.drawables.items() if then.get(name) != stamp} - set(gone)
    if new:
        frame, scene = from_place(renderer, build, place, light_set)
        ways = middles_of(LOOKS)
        hits = scene.met.hits(np.tile(np.array(place), (len(ways), 1)), ways)
        seen = {frame.geometry.drawables[d].name for d in np.unique(scene.soup.owner[hits.triangle[hits.triangle >= 0]])}
        why += [f"{name} stands in its sight now" for name in sorted(new & seen)]
    return why


def capture(
    build: Build, only: Collection[Captures] | None = None, *, everything: bool = False,
    renderer: Renderer | None = None, progress: Callable[[str, float], None] = lambda what, share: None,
) -> tuple[Build, tuple[Captures, ...]]:  # fmt: skip
    """(the build with probes captured, which): what is missing or stale, of some or of all; everything: what is fresh, too. What
    `renderer.between` or progress raise ends it, and the build stays as it was."""
    renderer = renderer or Renderer()
    geometry = renderer.geometry(build)
    wanted = [
        f
        for f in fits(build, geometry, renderer)
        if (everything or not f.fresh) and (only is None or (f.probe, f.light_set) in only)
    ]
    done: list[Captures] = []
    scenes: dict[str, BakedScene] = {}
    for number, fit in enumerate(wanted):
        progress(f"capturing {fit.probe}" + (f", {fit.light_set}" if fit.light_set else ""), number / len(wanted))
        now = stamps(build, geometry, fit.light_set)
        probe = build.setup.probes[fit.probe]
        own, scene = own_stamp(build, probe, fit.light_set), scene_stamp(now)
        key = digest("probe", own, scene)[:40]
        known = KEPT.get(key)
        codes, seen = known or _captured(renderer, build, probe, fit.light_set)
        if known is None:
            KEPT.put(key, codes, seen)
        record = CapturedProbe(
            image="", own=own, scene=scene, lights=dict(now.lights), drawables={n: now.drawables[n] for n in seen if n in now.drawables}
        )  # fmt: skip
        build = _attached(build, fit, codes, record)
        scenes[scene] = BakedScene(drawables=now.drawables, lights=now.lights)
        done.append((fit.probe, fit.light_set))
    progress("done", 1.0)
    return (with_scenes(build, scenes) if scenes else build), tuple(done)


def _captured(renderer: Renderer, build: Build, probe: Probe, light_set: str | None) -> tuple[np.ndarray, tuple[str, ...]]:
    """(codes (edge, edge, 4), drawables that were seen) of a probe."""
    frame, scene = from_place(renderer, build, probe.place_m, light_set)
    light, distance, drawables = seen_from(renderer, scene, probe.place_m, probe.size, probe.samples, build.setup[Bake].bounces)
    values = np.concatenate([light, distance[:, None]], axis=1).reshape(probe.size, probe.size, 4)
    return to_codes(values, "half", 1.0), tuple(frame.geometry.drawables[d].name for d in drawables)


def seen_from(
    renderer: Renderer, scene: PathScene, place: tuple[float, float, float], edge: int, samples: int, bounces: int
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """((edge * edge, 3) nits and (edge * edge,) m on the mean over each texel of an octahedral map, numbers of the drawables seen) of a
    place."""
    texels = edge * edge
    light, distance, seen = np.zeros((texels, 3)), np.zeros(texels), set[int]()
    for first in range(0, texels, max(1, PATHS_AT_ONCE // samples)):
        renderer.between()
        part = np.arange(first, min(first + max(1, PATHS_AT_ONCE // samples), texels))
        key = keys_of(np.stack([part % edge, part // edge], axis=1), edge, 1, samples)
        texel = np.repeat(part, samples)
        across, up = numbers_of(key, PIXEL), numbers_of(key, PIXEL + 1)
        direction = ways_of(texel, edge, across, up)
        found, hits = around(scene, np.tile(np.array(place, float), (len(key), 1)), direction, key, bounces)
        met = hits.triangle >= 0
        light[part] = found.reshape(-1, samples, 3).mean(axis=1)
        distance[part] = np.where(met, np.minimum(hits.distance, FAR_M), FAR_M).reshape(-1, samples).mean(axis=1)
        seen |= set(np.unique(scene.soup.owner[hits.triangle[met]]).tolist())
    return light, distance, np.array(sorted(seen), int)


def _attached(build: Build, fit: Fit, codes: np.ndarray, record: CapturedProbe) -> Build:
    """The build with a map in its scene as a picture and its record in its setup."""
    codes = freeze(codes)
    image = f"probe {fit.probe}" + (f" ({fit.light_set})" if fit.light_set else "")
    maps = {**build.setup.probe_maps.get(fit.probe, {}), fit.light_set or NO_SET: record.model_copy(update={"image": image})}
    setup = build.setup.model_copy(update={"probe_maps": {**build.setup.probe_maps, fit.probe: maps}})
    return replace(build, scene=build.scene.with_image(Image(image, freeze((codes // 257).astype(np.uint8)), codes)), setup=setup)


@operation("probes.capture")
def capture_probes(build: Build, params: dict[str, Any]) -> Build:
    """Capture what is missing or stale of `probes` (default: all that are on), in all light sets. ChangeError for probes that do not
    exist."""
    names = params.get("probes")
    if names is not None and (not isinstance(names, list) or not all(isinstance(n, str) for n in names)):
        raise ChangeError("probes must be a list of names")
    unknown = [n for n in names or () if n not in build.setup.probes]
    if unknown:
        there = ", ".join(build.setup.probes) or "none"
        raise ChangeError(f"probe {unknown[0]!r} does not exist; there are: {there}")
    only = None if names is None else {(n, s) for n in names for s in light_sets(build)}
    return capture(build, only)[0]


@operation("probes.place")
def place_probe(build: Build, params: dict[str, Any]) -> Build:
    """Put a probe somewhere, or change one that is there, and capture it: `probe` its name, `set` what is said of it in the setup, `others`
    what is said of other probes, by name, `settings` of the project by section and field that go with it. ChangeError for what makes no
    sense."""
    name, told = params.get("probe"), params.get("set", {})
    if not isinstance(name, str) or not name or not isinstance(told, dict):
        raise ChangeError("probe must be a name, and set what is said of it")
    document = normalised(build.setup)
    document["probes"][name] = {**document["probes"].get(name, {}), **told}
    for holder, what in ((document["probes"], "others"), (document, "settings")):
        for key, fields in params.get(what, {}).items():
            if not isinstance(fields, dict) or not isinstance(holder.get(key), dict):
                raise ChangeError(f"{what}.{key} does not exist")
            holder[key] = {**holder[key], **fields}
    placed = build.with_setup(parse_setup(document))
    return capture_probes(placed, {"probes": [name]})
