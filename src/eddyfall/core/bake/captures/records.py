"""What probes and light grids have in common: captured for each light set, kept, stored as pictures, recorded with stamps, found stale.

A capture is stale if something that it saw, a light, the sky or itself changed, or if something new stands in its sight. Unlike bakes, it
sees all that is drawn and stands still, casting or not, blended or not, with all that its material says."""

from collections.abc import Callable, Collection
from dataclasses import dataclass, fields, replace
from typing import Any, Literal

import numpy as np

from eddyfall.core.bake.captures.kept import KEPT
from eddyfall.core.bake.light.light_scene import baked_lights, light_stamp
from eddyfall.core.bake.maps.run import light_sets
from eddyfall.core.bake.maps.stamps import Stamps, colours_of, scene_stamp, surface_of, with_scenes
from eddyfall.core.errors import ChangeError
from eddyfall.core.frame.render import Frame, Renderer, Request
from eddyfall.core.frame.stage import make_state
from eddyfall.core.hashing import digest, freeze
from eddyfall.core.materials.shown import shown_on
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.maps import drawn_materials
from eddyfall.core.scene.model import STRAIGHT, Image, Material, TextureUse
from eddyfall.core.scene.receivers import NO_SET
from eddyfall.core.scene.setup.tables import BakedScene, CapturedProbe, Viewpoint
from eddyfall.core.shade.probes import middles_of
from eddyfall.core.truth.reference.path_scene import PathScene, path_scene

PATHS_AT_ONCE = 65_536
SINCE = (
    "specular",
    "specular_rgb",
    "gloss",
    "clearcoat",
    "clearcoat_texture",
    "clearcoat_roughness",
    "clearcoat_roughness_texture",
    "clearcoat_normal_texture",
    "clearcoat_normal_scale",
)  # of a material, told where they are not as they were before there were any
VIEW = "capture"
LOOKS = 64  # edge of the map that new things are looked for with
Place = tuple[float, float, float]
Captures = tuple[str, str | None]  # probe or grid, and light set
Traced = tuple[np.ndarray, tuple[str, ...]]  # codes of its picture, drawables that were seen


@dataclass(frozen=True)
class Kind:
    """One of the two. word: "probe" or "grid", as setup tables `probes`, `probe_maps` have it. own(build, entry, light set): stamp of what
    a capture depends on besides what it sees; middle(entry): a place that sees what it does; trace(renderer, build, entry, light set)."""

    word: Literal["probe", "grid"]
    own: Callable[[Build, Any, str | None], str]
    middle: Callable[[Any], Place]
    trace: Callable[[Renderer, Build, Any, str | None], Traced]

    def entries(self, build: Build) -> dict[str, Any]:
        """All there are, by name."""
        entries: dict[str, Any] = getattr(build.setup, f"{self.word}s")
        return entries

    def records(self, build: Build) -> dict[str, dict[str, CapturedProbe]]:
        """What was captured, by name and light set."""
        records: dict[str, dict[str, CapturedProbe]] = getattr(build.setup, f"{self.word}_maps")
        return records


@dataclass(frozen=True)
class Fit:
    """The state of a probe or grid in a light set: missing (never captured), or why what it holds no longer fits (empty: it does)."""

    name: str
    light_set: str | None
    missing: bool
    why: tuple[str, ...]

    @property
    def fresh(self) -> bool:
        return not self.missing and not self.why


def from_place(renderer: Renderer, build: Build, place: Place, light_set: str | None) -> tuple[Frame, PathScene]:
    """(a frame as far as its lights, the scene of paths) of what stands still in a build, as a place sees it in a light set, whatever its
    viewpoints say."""
    target = (place[0], place[1], place[2] - 1.0)
    view = Viewpoint(eye=place, target=target, role="reference", light_set=light_set)
    nodes = {k: n.model_copy(update={"drawn": False}) if n.moves else n for k, n in build.setup.nodes.items()}
    setup = build.setup.model_copy(update={"viewpoints": {**build.setup.viewpoints, VIEW: view}, "nodes": nodes})
    seen = build.with_setup(setup)
    frame = renderer.frame(seen, Request(VIEW, (16, 16)), "lights")
    return frame, path_scene(renderer, seen, frame)


def seen_stamps(build: Build, geometry: Geometry, light_set: str | None) -> Stamps:
    """Stamps of all that a capture may see in a light set, and of the lights that shine."""
    build = shown_on(build, None).build
    state = make_state(build, geometry, frozenset(), False)
    materials = drawn_materials(build)
    drawables = {}
    for i, d in enumerate(geometry.things):
        if state.drawn[i] and state.colour_pass[i] and not state.moves[i]:
            look = _look(build, materials[d.material]) if d.material >= 0 else None
            drawn_as = bool(state.double_sided[i]), int(state.blend[i]), bool(state.casts[i])
            drawables[d.name] = digest(surface_of(geometry, i), look, *drawn_as, *colours_of(geometry, i))[:12]
    lights = tuple(baked_lights(build, light_set))
    return Stamps(drawables, {light.name: light_stamp(light) for light in lights}, lights)


def _look(build: Build, material: Material) -> list[Any]:
    """All that a material says, its pictures by what they hold."""
    told: list[Any] = []
    for field in fields(material):
        value = getattr(material, field.name)
        if isinstance(value, TextureUse):
            turn = value.turn if value.turn != STRAIGHT else ()
            told.append([build.scene.images[value.image].pixels, value.uv_set, value.wrap_u, value.wrap_v, *turn])
        elif field.name != "name" and not (field.name in SINCE and value == field.default):
            told.append(_plain(value))
    return told


def _plain(value: Any) -> Any:
    """Numbers as floats, whatever kind of number the file or program gave."""
    if isinstance(value, tuple):
        return [float(v) for v in value]
    return float(value) if isinstance(value, (int, float)) else value


def fits_of(kind: Kind, build: Build, geometry: Geometry, renderer: Renderer, names: Collection[str] | None = None) -> list[Fit]:
    """The state of everything of a kind that is on (or of some), in every light set."""
    found = []
    for light_set in light_sets(build) if kind.entries(build) else ():
        now: Stamps | None = None
        for name, entry in kind.entries(build).items():
            if not entry.on or (names is not None and name not in names):
                continue
            record = kind.records(build).get(name, {}).get(light_set or NO_SET)
            if record is None or record.image not in build.scene.image_keys:
                found.append(Fit(name, light_set, True, ()))
                continue
            now = now or seen_stamps(build, geometry, light_set)
            why = _why_stale(build, renderer, kind.middle(entry), record, now, light_set)
            own = ["it, the sky or how it is captured changed"] if record.own != kind.own(build, entry, light_set) else []
            found.append(Fit(name, light_set, False, (*own, *why)))
    return found


def _why_stale(
    build: Build, renderer: Renderer, place: Place, record: CapturedProbe, now: Stamps, light_set: str | None
) -> list[str]:
    if record.scene == scene_stamp(now):
        return []
    why = [
        f"light {name} {'changed' if name in now.lights else 'no longer shines'}"
        for name, stamp in sorted(record.lights.items())
        if now.lights.get(name) != stamp
    ]
    why += [f"light {name} shines now" for name in sorted(now.lights) if name not in record.lights]
    gone = [name for name, stamp in sorted(record.drawables.items()) if now.drawables.get(name) != stamp]
    why += [f"{name} {'changed' if name in now.drawables else 'is gone'}" for name in gone]
    then = build.setup.baked_scenes.get(record.scene, BakedScene()).drawables
    new = {name for name, stamp in now.drawables.items() if then.get(name) != stamp} - set(gone)
    if new:
        # Asked again for each trial of a sweep: what a place sees follows from what there is.
        key = f"sight of {place} in {scene_stamp(now)}"
        seen = renderer.memo.once(key, lambda: _seen_from(renderer, build, place, light_set))
        why += [f"{name} stands in its sight now" for name in sorted(new & seen)]
    return why


def _seen_from(renderer: Renderer, build: Build, place: Place, light_set: str | None) -> frozenset[str]:
    """Names of what a place sees."""
    frame, scene = from_place(renderer, build, place, light_set)
    ways = middles_of(LOOKS)
    hits = scene.met.hits(np.tile(np.array(place), (len(ways), 1)), ways)
    return frozenset(frame.geometry.drawables[d].name for d in np.unique(scene.soup.owner[hits.triangle[hits.triangle >= 0]]))


def captured_of(
    kind: Kind, build: Build, only: Collection[Captures] | None = None, *, everything: bool = False, renderer: Renderer | None = None,
    progress: Callable[[str, float], None] = lambda what, share: None,
) -> tuple[Build, tuple[Captures, ...]]:  # fmt: skip
    """(the build with what is missing or stale of a kind captured, which), of some or of all; everything: what is fresh, too. What
    `renderer.between` or progress raise ends it, and the build stays as it was."""
    renderer = renderer or Renderer()
    geometry = renderer.geometry(build)
    wanted = [f for f in fits_of(kind, build, geometry, renderer) if everything or not f.fresh]
    wanted = [f for f in wanted if only is None or (f.name, f.light_set) in only]
    scenes: dict[str, BakedScene] = {}
    for number, fit in enumerate(wanted):
        of_set = f" ({fit.light_set})" if fit.light_set else ""
        progress(f"capturing {kind.word} {fit.name}{of_set}", number / len(wanted))
        now, entry = seen_stamps(build, geometry, fit.light_set), kind.entries(build)[fit.name]
        own, scene = kind.own(build, entry, fit.light_set), scene_stamp(now)
        key = digest(kind.word, own, scene)[:40]
        known = KEPT.get(key)
        codes, seen = known or kind.trace(renderer, build, entry, fit.light_set)
        if known is None:
            KEPT.put(key, codes, seen)
        image = f"{kind.word} {fit.name}{of_set}"
        drawables = {n: now.drawables[n] for n in seen if n in now.drawables}
        record = CapturedProbe(image=image, own=own, scene=scene, lights=dict(now.lights), drawables=drawables)
        maps = {**kind.records(build).get(fit.name, {}), fit.light_set or NO_SET: record}
        setup = build.setup.model_copy(update={f"{kind.word}_maps": {**kind.records(build), fit.name: maps}})
        codes = freeze(codes)
        picture = Image(image, freeze((codes // 257).astype(np.uint8)), codes)
        build = replace(build, scene=build.scene.with_image(picture), setup=setup)
        scenes[scene] = BakedScene(drawables=now.drawables, lights=now.lights)
    progress("done", 1.0)
    return (with_scenes(build, scenes) if scenes else build), tuple((f.name, f.light_set) for f in wanted)


def chosen_of(kind: Kind, build: Build, names: Any) -> set[Captures] | None:
    """Names that an operation was given, in all light sets; None: all. ChangeError for what is no list, or not there."""
    if names is None:
        return None
    if not isinstance(names, list) or not all(isinstance(n, str) for n in names):
        raise ChangeError(f"{kind.word}s must be a list of names")
    entries = kind.entries(build)
    unknown = [n for n in names if n not in entries]
    if unknown:
        raise ChangeError(f"{kind.word} {unknown[0]!r} does not exist; there are: {', '.join(entries) or 'none'}")
    return {(n, s) for n in names for s in light_sets(build)}
