"""The order of the passes, checked from what each says it reads and writes, and the pass table that follows from it."""

from collections.abc import Iterable, Iterator
from typing import Any

from eddyfall.core.frame.lightmap_store import StoredRule
from eddyfall.core.frame.stage import make_stage, make_state
from eddyfall.core.passes.contract import SETTING_OF_LIGHT, SETTING_OF_STATE, DrawableState, LightState, Pass, Stage
from eddyfall.core.passes.registry import passes
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.drawables import pack
from eddyfall.core.scene.model import Scene
from eddyfall.core.scene.resolve import Resolved, resolve
from eddyfall.core.scene.setup import Setup, parse_setup
from eddyfall.core.scene.setup.leaf import Section
from eddyfall.core.scene.setup.registry import name_of

# What every frame is given before its first pass, and the settings that this is made by.
MAPS = ("materials.maps.image", "materials.maps.on", "materials.shader", "shaders.slots.default", "shaders.slots.on")
GIVEN: dict[str, tuple[str, ...]] = {
    "geometry": (),
    "caster_geometry": (),
    "textures": (
        *MAPS,
        "materials.blend",
        "materials.colours_hold",
        "materials.filtered",
        "textures.anisotropy",
        "textures.mip_bias",
        "textures.mips",
    ),
    "coats": ("textures.anisotropy", "textures.mip_bias", "textures.mips"),
    "alpha_uv": MAPS,
    "cutouts": (
        *MAPS,
        "materials.blend",
        "materials.coverage_kept",
        "materials.cut_by",
        "textures.mips",
    ),
    "shadow_cutouts": (
        *MAPS,
        "materials.blend",
        "materials.shadow_alpha_test",
        "materials.shadow_coverage_kept",
        "materials.shadow_mip_bias",
        "materials.shadow_through",
        "textures.mips",
    ),
    "lightmaps": tuple(f"bake.{name}" for name in StoredRule._fields),
    "grids": ("grid_maps", "grids"),
    "mirrors": ("mirrors", "shaders.passes.mirror"),
    "probes": ("probe_maps", "probes"),
    "sky_maps": ("sky.picture", "sky.picture_nits", "sky.yaw_deg"),
    "camera": (),
    "pixels": (),
    "frame_size": (),
}
TABLE_SIZE = (1920, 1080)  # px for which the pass table tells bytes


def schedule() -> tuple[Pass[Any], ...]:
    """All passes in the order they are drawn. ValueError if a pass reads what nothing before it writes, or writes what is given."""
    ordered = passes()
    check_schedule(ordered)
    return ordered


def check_schedule(ordered: Iterable[Pass[Any]]) -> None:
    """ValueError if a pass reads what nothing before it writes, or two that do not read a buffer both write it."""
    known = set(GIVEN)
    for p in ordered:
        missing = [name for name in p.reads if name not in known]
        if missing:
            raise ValueError(f"pass {p.name} reads {missing[0]}, which nothing before it writes")
        lost = [name for name in p.writes if name in known and (name not in p.reads or name in GIVEN)]
        if lost:
            raise ValueError(f"pass {p.name} writes {lost[0]} over what an earlier pass wrote, without reading it")
        known.update(p.writes)


def passes_for(buffer: str, before: str | None = None) -> tuple[Pass[Any], ...]:
    """The passes that the last version of a buffer needs (or the version that pass `before` is given), in order. KeyError if nothing
    writes it."""
    ordered = schedule()
    if before is not None:
        ordered = ordered[: [p.name for p in ordered].index(before)]
    if not any(buffer in p.writes for p in ordered):
        raise KeyError(buffer)
    chosen, wanted = [], {buffer}
    for p in reversed(ordered):
        if wanted & set(p.writes):
            chosen.append(p)
            wanted = (wanted - set(p.writes)) | set(p.reads)
    return tuple(reversed(chosen))


def support_of(chosen: Iterable[Pass[Any]], setup: Setup | None = None) -> int | None:
    """How far passes look sideways one after the other, in px; None if one of them needs the whole frame, or does by what a setup says."""
    total = 0
    for p in chosen:
        if p.support_px is None or (setup is not None and p.whole_frame_if is not None and p.whole_frame_if(setup)):
            return None
        total += p.support_px
    return total


def margin_of(chosen: Iterable[Pass[Any]], resolved: Resolved) -> int | None:
    """Px of a margin around the whole frame that passes need as it is set; None if none of them needs more than its own pixels."""
    asked = [p.beyond_px(resolved) for p in chosen if p.beyond_px is not None]
    return max((px for px in asked if px is not None), default=None)


def pass_table() -> list[dict[str, Any]]:
    """One row for each pass, in order: number, name, does, reads, writes, settings, support_px, off, bytes at 1920 x 1080 with one sun."""
    stage = _plain_stage()
    return [
        {
            "number": p.number, "name": p.name, "does": p.does, "reads": list(p.reads), "writes": list(p.writes),
            "settings": settings_of(p), "support_px": p.support_px, "off": [o.says for o in p.off],
            "bytes": bytes_of(p, TABLE_SIZE, stage),
        }
        for p in schedule()
    ]  # fmt: skip


def bytes_of(p: Pass[Any], size: tuple[int, int], stage: Stage) -> int:
    """Bytes that what a pass writes takes for a frame of a size (width, height)."""
    section = p.section(stage)
    return sum(target.bytes(*size) for target in (*p.targets, *p.held(section))) + p.other_bytes(section)


def passes_after(name: str) -> list[str]:
    """Names of the passes that a change to pass `name` makes run again."""
    ordered = schedule()
    touched = {w for p in ordered if p.name == name for w in p.writes}
    result = [name]
    for p in ordered:
        if p.name != name and touched & set(p.reads):
            touched |= set(p.writes)
            result.append(p.name)
    return result


def settings_of(p: Pass[Any]) -> list[str]:
    """The settings a pass is given, in alphabetical order: those that its section reads, found by letting it read.

    A whole section of the setup that is handed on counts as all of it."""
    read = {leaf for name in p.reads for leaf in GIVEN.get(name, ())}
    stage = _plain_stage()
    kept = p.section(_WatchedStage(stage, read))  # type: ignore[arg-type]
    read |= {value._name for value in vars(kept).values() if isinstance(value, _Leaves)}
    if any(isinstance(value, _Lights) for value in vars(kept).values()):
        read |= {"lights", "shadow.technique"}
    whole = {name for name in read if "." not in name}
    return sorted(name for name in read if name and (name in whole or name.split(".")[0] not in whole))


def _plain_stage() -> Stage:
    """The stage of a build with nothing in it but a sun, so that what a sun's shadow takes is counted."""
    sun = {"kind": "sun", "illuminance_lux": 1.0}
    build = Build(Scene(), parse_setup({"eddyfall_setup": 1, "lights": {"sun": sun}}))
    state = make_state(build, pack(build.scene, build.setup), frozenset(), False, frozenset())
    return make_stage(build, state, resolve(build.setup))


class _WatchedStage:
    """A stage that notes which settings are read of it."""

    def __init__(self, stage: Stage, read: set[str]) -> None:
        self._stage, self._read = stage, read

    def __getattr__(self, name: str) -> Any:
        match name:
            case "resolved":
                return _Sections(self._stage.resolved, self._read)
            case "state":
                return _State(self._stage.state, self._read)
            case "lights":
                return _Lights(self._stage.lights, self._read)
            case "depth_format":
                self._read |= {"depth.format", "depth.reversed", "depth.near_m", "depth.far_m"}
        return getattr(self._stage, name)


class _Sections:
    def __init__(self, resolved: Any, read: set[str]) -> None:
        self._resolved, self._read = resolved, read

    def __getitem__(self, kind: type[Section]) -> Any:
        return _Leaves(self._resolved[kind], name_of(kind), self._read)


class _Leaves:
    def __init__(self, section: Any, name: str, read: set[str]) -> None:
        self._section, self._name, self._read = section, name, read

    def __getattr__(self, name: str) -> Any:
        self._read.add(f"{self._name}.{name}")
        return getattr(self._section, name)


class _Lights:
    """Lights that note what is read of each; handed on whole they count as all of it."""

    def __init__(self, lights: tuple[LightState, ...], read: set[str]) -> None:
        self._lights, self._read = lights, read

    def __iter__(self) -> Iterator[Any]:
        return (_Light(light, self._read) for light in self._lights)


class _Light:
    def __init__(self, light: LightState, read: set[str]) -> None:
        self._light, self._read = light, read

    def __getattr__(self, name: str) -> Any:
        self._read |= SETTING_OF_LIGHT.get(name, {"lights"})
        return getattr(self._light, name)


class _State:
    def __init__(self, state: DrawableState, read: set[str]) -> None:
        self._state, self._read = state, read

    def __getattr__(self, name: str) -> Any:
        if name in SETTING_OF_STATE:
            of = SETTING_OF_STATE[name]
            self._read |= {of} if isinstance(of, str) else {*of}
        return getattr(self._state, name)
