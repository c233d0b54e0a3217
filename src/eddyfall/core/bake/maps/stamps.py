"""Stamps: what a lightmap was baked from, and so which lightmaps no longer fit the build.

A receiver's map depends on the receiver itself, on the lights that reached it and on the drawables its light paths met. Each has a
stamp, a hash of its content. A map is stale if one of them changed, went, or if something new gets in the way of its paths.
"""

from collections import OrderedDict
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.bake.light.light_scene import baked_lights, light_stamp
from eddyfall.core.bake.maps.surface import surface_digest
from eddyfall.core.frame.lightmap_store import stored_map
from eddyfall.core.frame.stage import alpha_forms, make_state
from eddyfall.core.hashing import digest
from eddyfall.core.materials.shown import shown_on
from eddyfall.core.passes.contract import LightState
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.maps import drawn_materials
from eddyfall.core.scene.model import STRAIGHT, sky_named
from eddyfall.core.scene.receivers import Receiver, receivers, triangles_of, uv_of
from eddyfall.core.scene.resolve import sky_in_set
from eddyfall.core.scene.setup.sections.bake import Bake
from eddyfall.core.scene.setup.sections.sky import Sky, SkyColours
from eddyfall.core.scene.setup.tables import BakedMap, BakedScene, Shader
from eddyfall.core.shade.alpha_forms import AS_IT_IS
from eddyfall.core.truth.sky_sun import sun_in


@dataclass(frozen=True)
class Stamps:
    """Stamps of a build for one light set: of every drawable that takes part in bakes, of every light that shines."""

    drawables: dict[str, str]
    lights: dict[str, str]
    light_states: tuple[LightState, ...]


@dataclass(frozen=True)
class Staleness:
    """A receiver's state: `missing` (never baked), or why its map no longer fits (empty: it does). texels (h, w) bool: texels most of
    whose light came past something that changed; all of them where the receiver itself changed."""

    receiver: Receiver
    missing: bool
    why: tuple[str, ...]
    texels: np.ndarray | None

    @property
    def fresh(self) -> bool:
        return not self.missing and not self.why


def stamps(build: Build, geometry: Geometry, light_set: str | None) -> Stamps:
    """Stamps of all that can matter to a bake."""
    build = shown_on(build, None).build
    state = make_state(build, geometry, frozenset(), False)
    drawables = {}
    for i, d in enumerate(geometry.things):
        takes_part = build.setup.shaders.get(state.shader[i], Shader()).passes.bake and not state.blended[i]
        if not (state.drawn[i] and state.casts[i] and takes_part) or state.moves[i]:
            continue
        surface = surface_of(geometry, i)
        look = _look(build, d.material) if d.material >= 0 else None
        drawables[d.name] = digest(surface, look, bool(state.double_sided[i]), int(state.blend[i]), *colours_of(geometry, i))[:12]
    lights = tuple(baked_lights(build, light_set))
    return Stamps(drawables, {light.name: light_stamp(light) for light in lights}, lights)


def surface_of(geometry: Geometry, drawable: int) -> str:
    """Stamp of a drawable's triangles, where they are."""
    used = triangles_of(geometry, (drawable,))
    return _surface(np.ascontiguousarray(geometry.positions[geometry.triangles[used]]))


def colours_of(geometry: Geometry, drawable: int) -> list[str]:
    """Stamp of the colours that a drawable's corners carry; nothing where all are white, so that older stamps stay fresh."""
    if not len(geometry.colours):
        return []
    found = geometry.colours[geometry.triangles[triangles_of(geometry, (drawable,))]]
    return [] if bool((found == 1).all()) else [digest(np.ascontiguousarray(found))]


_surfaces: OrderedDict[str, str] = OrderedDict()
SURFACES = 4096


def _surface(places: np.ndarray) -> str:
    """surface_digest, kept by the triangles it is of."""
    key = digest(places)
    if key not in _surfaces:
        _surfaces[key] = surface_digest(places)
        while len(_surfaces) > SURFACES:
            _surfaces.popitem(last=False)
    return _surfaces[key]


def _look(build: Build, index: int) -> list[Any]:
    """What light paths take from a material, as floats whatever kind of number the file or program gave."""
    material = drawn_materials(build)[index]
    numbers = [*material.base_rgba, material.metallic, *material.emissive, material.alpha_cutoff, material.unlit]
    if material.metallic > 0:
        numbers.append(material.roughness)  # a metal's light goes by it; nothing else's does
    uses = (material.base_texture, material.metallic_roughness_texture, material.emissive_texture)
    textures = [
        (build.scene.images[u.image].pixels, u.uv_set, u.wrap_u, u.wrap_v, *(u.turn if u.turn != STRAIGHT else ()))
        for u in uses if u is not None
    ]  # fmt: skip
    look: list[Any] = [[float(v) for v in numbers], textures]
    forms = alpha_forms(build)
    # Of a picture that is stored as it is nothing is said, so that what was baked before there were others stays fresh.
    return [*look, tuple(forms[index])] if forms and forms[index] != AS_IT_IS else look


def gather_stamp(build: Build, geometry: Geometry, receiver: Receiver, bake: Bake, light_set: str | None) -> str:
    """Stamp of all of a receiver that gathering depends on: its triangles' places and lightmap UVs, its size, samples and bounces, the
    sky, the focus regions."""
    used = triangles_of(geometry, receiver.drawables)
    corners = geometry.triangles[used]
    return digest(
        np.ascontiguousarray(geometry.positions[corners]),
        np.ascontiguousarray(geometry.normals[corners]),
        np.ascontiguousarray(uv_of(geometry, receiver.uv_set)[corners]),
        (receiver.resolution, receiver.low, receiver.side, receiver.wraps, bake.samples, bake.bounces),
        *sky_stamp(build, light_set),
        dict(build.setup.focus_regions),
    )[:12]


def sky_stamp(build: Build, light_set: str | None) -> list[Any]:
    """What gathering takes from the sky; without a picture, what it took before there were any, so that lightmaps of then stay fresh."""
    sky = sky_in_set(build.setup, build.setup[Sky], light_set)
    picture = sky_named(build.scene.skies, sky.picture)
    colours = SkyColours(**{name: getattr(sky, name) for name in SkyColours.model_fields})
    return [colours] if picture is None else [colours, sun_in(picture).sky, sky.picture_nits, sky.yaw_deg]


def surface_stamp(build: Build, geometry: Geometry, receiver: Receiver, bake: Bake, light_set: str | None) -> str:
    """Stamp of a receiver: what gathering depends on, and how its map is finished and stored."""
    finishing = (bake.hidden, bake.denoise, bake.dilate_texels, bake.range_lux, bake.encoding, bake.dither)
    return digest(gather_stamp(build, geometry, receiver, bake, light_set), finishing)[:12]


def stale(
    build: Build, geometry: Geometry, light_set: str | None = None, bake: Bake | None = None, names: Sequence[str] | None = None
) -> list[Staleness]:
    """The state of every receiver of a build (or of some, by name) in one light set."""
    from eddyfall.core.bake.maps.newly_met import newly_met  # it traces rays: only needed where something is new

    bake = bake or build.setup[Bake]
    everyone = [r for r in receivers(build, geometry, bake) if names is None or r.name in names]
    records = {r.name: stored_map(build, r.name, light_set) for r in everyone}
    if not any(records.values()):
        return [Staleness(r, True, (), None) for r in everyone]
    now = stamps(build, geometry, light_set)
    altered = [
        (r, found.record)
        for r in everyone
        if (found := records[r.name]) is not None
        and found.record.scene != scene_stamp(now)
        and not changed(found.record, now)
        and _anything_new(build, found.record, now)
    ]
    met = newly_met(build, geometry, light_set, altered, bake)
    result = []
    for r in everyone:
        found = records[r.name]
        if found is None:
            result.append(Staleness(r, True, (), None))
            continue
        gone = {n for n, s in found.record.drawables.items() if now.drawables.get(n) != s}
        lamps = {n for n, s in found.record.lights.items() if now.lights.get(n) != s}
        new_drawables, new_lights, new_texels = met.get(r.name, (frozenset(), frozenset(), None))
        why = []
        own = surface_stamp(build, geometry, r, bake, light_set) != found.record.surface
        if own:
            why.append("the receiver or how it is baked changed")
        why += [f"light {n} {'changed' if n in now.lights else 'no longer shines'}" for n in sorted(lamps)]
        why += [f"light {n} reaches it now" for n in sorted(new_lights - lamps)]
        why += [f"{n} {'changed' if n in now.drawables else 'is gone'}" for n in sorted(gone)]
        why += [f"{n} stands in its light now" for n in sorted(new_drawables - gone)]
        texels = np.zeros(found.over.shape, bool)
        if own or lamps or new_lights:
            texels[:] = True
        for number, name in enumerate(found.record.over, 1):
            if name in gone:
                texels |= found.over == number
        if new_texels is not None and new_texels.shape == texels.shape:
            texels |= new_texels
        result.append(Staleness(r, False, tuple(why), texels))
    return result


def changed(record: BakedMap, now: Stamps) -> bool:
    """Whether something that a record names has changed or gone: it is stale then, whatever else may be new."""
    return any(now.drawables.get(n) != s for n, s in record.drawables.items()) or any(
        now.lights.get(n) != s for n, s in record.lights.items()
    )


def _anything_new(build: Build, record: BakedMap, now: Stamps) -> bool:
    """Whether anything is there that was not when the record was made. Where things only went, paths that never met them are as before."""
    then = build.setup.baked_scenes.get(record.scene)
    if then is None:
        return True
    return any(then.drawables.get(n) != s for n, s in now.drawables.items()) or any(
        then.lights.get(n) != s for n, s in now.lights.items()
    )


def with_scenes(build: Build, scenes: dict[str, BakedScene]) -> Build:
    """The build with what its lightmaps and probes were made from, by scene stamp, and nothing that none of them was."""
    tables = (build.setup.lightmaps, build.setup.probe_maps, build.setup.grid_maps)
    used = {record.scene for table in tables for records in table.values() for record in records.values()}
    known = {**build.setup.baked_scenes, **scenes}
    return build.with_setup(build.setup.model_copy(update={"baked_scenes": {k: v for k, v in known.items() if k in used}}))


def scene_stamp(now: Stamps) -> str:
    """Stamp of all that light can meet and all that shines: if it is the same, nothing is new."""
    return digest(sorted(now.drawables.items()), sorted(now.lights.items()))[:12]


__all__ = [
    "Staleness",
    "Stamps",
    "gather_stamp",
    "scene_stamp",
    "sky_stamp",
    "stale",
    "stamps",
    "surface_of",
    "surface_stamp",
    "with_scenes",
]
