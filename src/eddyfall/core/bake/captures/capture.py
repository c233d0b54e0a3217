"""Reflection probes: what each sees all around, captured by the reference's paths."""

from collections.abc import Callable, Collection
from typing import Any

import numpy as np

from eddyfall.core.bake.captures.records import (
    PATHS_AT_ONCE,
    Captures,
    Fit,
    Kind,
    Traced,
    captured_of,
    chosen_of,
    fits_of,
    from_place,
)
from eddyfall.core.bake.maps.stamps import sky_stamp
from eddyfall.core.errors import ChangeError
from eddyfall.core.frame.render import Renderer
from eddyfall.core.hashing import digest
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import operation
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.setup import normalised, parse_setup
from eddyfall.core.scene.setup.sections.bake import Bake
from eddyfall.core.scene.setup.tables import Probe
from eddyfall.core.shade.lightmap_codes import to_codes
from eddyfall.core.shade.probes import FAR_M, ways_of
from eddyfall.core.truth.reference.around import around
from eddyfall.core.truth.reference.path_scene import PathScene
from eddyfall.core.truth.reference.trace import keys_of
from eddyfall.core.truth.reference.walks import PIXEL, numbers_of

VERSION = 1  # counted up when maps are captured otherwise


def fits(build: Build, geometry: Geometry, renderer: Renderer, names: Collection[str] | None = None) -> list[Fit]:
    """The state of every probe that is on (or of some), in every light set."""
    return fits_of(PROBES, build, geometry, renderer, names)


def capture(
    build: Build, only: Collection[Captures] | None = None, *, everything: bool = False, renderer: Renderer | None = None,
    progress: Callable[[str, float], None] = lambda what, share: None,
) -> tuple[Build, tuple[Captures, ...]]:  # fmt: skip
    """(the build with probes captured, which): as `captured_of` has it."""
    return captured_of(PROBES, build, only, everything=everything, renderer=renderer, progress=progress)


def _own(build: Build, probe: Probe, light_set: str | None) -> str:
    place, bounces = [float(v) for v in probe.place_m], build.setup[Bake].bounces
    return digest(VERSION, place, probe.size, probe.samples, bounces, *sky_stamp(build, light_set))[:12]


def _traced(renderer: Renderer, build: Build, probe: Probe, light_set: str | None) -> Traced:
    """(codes (edge, edge, 4), drawables that were seen) of a probe."""
    frame, scene = from_place(renderer, build, probe.place_m, light_set)
    light, distance, drawables = seen_from(renderer, scene, probe.place_m, probe.size, probe.samples, build.setup[Bake].bounces)
    values = np.concatenate([light, distance[:, None]], axis=1).reshape(probe.size, probe.size, 4)
    return to_codes(values, "half", 1.0), tuple(frame.geometry.drawables[d].name for d in drawables)


PROBES = Kind("probe", _own, lambda probe: probe.place_m, _traced)


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


@operation("probes.capture")
def capture_probes(build: Build, params: dict[str, Any]) -> Build:
    """Capture what is missing or stale of `probes` (default: all that are on), in all light sets. ChangeError for probes that do not
    exist."""
    return capture(build, chosen_of(PROBES, build, params.get("probes")))[0]


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
