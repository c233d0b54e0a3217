"""Runs the schedule for one build and viewpoint, remembering every pass by hash(inputs, section)."""

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field, replace
from time import perf_counter
from typing import Any

import numpy as np

from eddyfall.core.errors import RequestError
from eddyfall.core.frame.clock import Clock
from eddyfall.core.frame.derive import Known, derive
from eddyfall.core.frame.extent import Window
from eddyfall.core.frame.grid_store import grid_store
from eddyfall.core.frame.lightmap_store import StoredRule, lightmap_store
from eddyfall.core.frame.memo import Memo
from eddyfall.core.frame.mirrors import Mirrored, mirror_planes, pictures
from eddyfall.core.frame.probe_store import probe_store
from eddyfall.core.frame.schedule import margin_of, passes_for, support_of
from eddyfall.core.frame.stage import (
    alpha_forms,
    alpha_tests,
    coats_of,
    coverage_keepers,
    cuts_by,
    error_paint,
    make_camera,
    make_cutouts,
    make_shadow_cutouts,
    make_stage,
    make_state,
    make_textures,
    material_store,
    plain_cutouts,
    shadow_alpha_tests,
)
from eddyfall.core.hashing import digest
from eddyfall.core.materials.shown import shown_on
from eddyfall.core.passes import contract
from eddyfall.core.passes.contract import Camera, DrawableState, Pass, Pixels, Stage
from eddyfall.core.passes.registry import passes
from eddyfall.core.raster.depth_format import DepthFormat
from eddyfall.core.raster.rasterise import Cutouts
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.drawables import Geometry, pack
from eddyfall.core.scene.maps import overridden_maps
from eddyfall.core.scene.model import sky_named
from eddyfall.core.scene.resolve import Resolved, resolve
from eddyfall.core.scene.setup.sections.bake import Bake
from eddyfall.core.scene.setup.sections.exposure import Exposure
from eddyfall.core.scene.setup.sections.fog import Fog
from eddyfall.core.scene.setup.sections.refract import Refract
from eddyfall.core.scene.setup.sections.screen import FROM_FRAME
from eddyfall.core.scene.setup.sections.sky import Sky
from eddyfall.core.scene.setup.sections.textures import Textures
from eddyfall.core.shade.sky_maps import make_sky_maps

MAX_EDGE = 8192
DEFAULT_SIZE = (960, 540)


@dataclass(frozen=True)
class Request:
    """What to draw. size (width, height) px; crop (x0, y0, x1, y1) px, half open, of that size; role None takes the viewpoint's.

    hidden: drawables left out of camera passes; plate: (4, 3) world corners of an opaque card in camera passes; paint: flat
    colours by drawable. Shadow passes see none of the three. camera: one that stands elsewhere than the viewpoint's, whose settings hold
    all the same. bare: without fog and without what works from the frame alone.
    """

    viewpoint: str
    size: tuple[int, int] = DEFAULT_SIZE
    crop: tuple[int, int, int, int] | None = None
    target: str | None = None
    role: str | None = None
    jitter: tuple[float, float] = (0.0, 0.0)
    hidden: frozenset[int] = frozenset()
    plate: np.ndarray | None = field(default=None, compare=False)
    paint: tuple[tuple[int, tuple[float, float, float]], ...] = ()
    camera: Camera | None = None
    bare: bool = False

    @property
    def window(self) -> tuple[int, int, int, int]:
        return self.crop or (0, 0, *self.size)


@dataclass(frozen=True)
class Frame:
    """A rendered window: every buffer by name, the stage it was drawn from, camera and pixels."""

    buffers: dict[str, Any]
    stage: Stage
    geometry: Geometry
    camera: Camera
    pixels: Pixels
    keys: dict[str, str] = field(default_factory=dict)

    def known(self, name: str) -> Known:
        """A buffer with the key that stands for all it was made from."""
        return Known(self.buffers[name], self.keys[name])

    @property
    def linear(self) -> np.ndarray:
        """(h, w, 3) float32 scene-linear radiance before exposure."""
        return np.asarray(self.buffers["linear"])

    @property
    def display(self) -> np.ndarray:
        """(h, w, 3) uint8 sRGB."""
        return np.asarray(self.buffers["display"])

    @property
    def drawable(self) -> np.ndarray:
        """(h, w) int32 front opaque drawable, -1 where there is none."""
        return np.asarray(self.buffers["drawable"])

    @property
    def pane(self) -> np.ndarray:
        """(h, w) int32 front drawable of those that are drawn from a copy of what is behind, -1 where there is none."""
        return np.broadcast_to(self.buffers["pane"], self.pixels.shape)

    @property
    def front(self) -> np.ndarray:
        """(h, w) int32 drawable in front of those that are not blended, -1 where there is none."""
        pane = self.pane if "pane" in self.buffers else -1
        return np.where(pane >= 0, pane, self.drawable)

    @property
    def depth_format(self) -> DepthFormat:
        return self.stage.depth_format

    @property
    def view_depth(self) -> np.ndarray:
        """(h, w) metres along the view of the main depth buffer."""
        return self.depth_format.view_depth(self.buffers["depth"])

    @property
    def draw_list(self) -> list[str]:
        """Names of the drawables in view, front to back."""
        return [self.geometry.drawables[i].name for i in self.buffers["in_view"]]


class Renderer:
    """Renders builds and shares what stays the same between them through one memo."""

    def __init__(self, memo: Memo | None = None) -> None:
        self.memo = Memo() if memo is None else memo
        self.ran: list[str] = []
        self.clock = Clock()
        self.between: Callable[[], None] = lambda: None  # called before each pass; what it raises ends the frame

    def derive(self, make: Callable[..., Any], *arguments: Any) -> Known:
        """What make(*arguments) gives, remembered with the passes' results under all that it read (see `derive`)."""
        with self.clock.timing("made for passes and rays"):
            return derive(self.memo, make, *arguments)

    def packed(self, build: Build) -> Known:
        """World geometry of a build, and its key."""
        return self.derive(pack, build.scene, build.setup)

    def geometry(self, build: Build) -> Geometry:
        """World geometry of a build."""
        geometry: Geometry = self.packed(build).value
        return geometry

    def frame(self, build: Build, request: Request, upto: str = "display", before: str | None = None) -> Frame:
        """Run the passes that buffer `upto` needs, and no others. RequestError for sizes, crops, names that do not exist.

        before: the name of a pass; the frame then has the buffers as they stand before it."""
        drawn = self.uncut(build, request, upto, before)
        return drawn if drawn.pixels.window == request.window else cut(drawn, request)

    def uncut(
        self, build: Build, request: Request, upto: str = "display", before: str | None = None, window: Window | None = None
    ) -> Frame:
        """The same as it is drawn, before it is cut to what is asked for: with all that its passes look at, a margin beyond the frame too;
        or a window (x0, y0, x1, y1) of px that is given, whatever they look at. RequestError as `frame`."""
        check_request(request)
        chosen = passes_for(upto, before)
        return self._drawn(build, replace(request, crop=window or window_of(build, request, chosen)), chosen)

    def _drawn(self, asked: Build, request: Request, chosen: tuple[Pass[Any], ...]) -> Frame:
        shown = shown_on(asked, request.target)
        build = shown.build
        packed = self.packed(build)
        base: Geometry = packed.value
        geometry = base if request.plate is None else base.with_plate(request.plate)
        resolved = resolve(build.setup, request.target, request.role, request.viewpoint)
        if request.bare:
            resolved = bare(resolved)
        t, b = resolved[Textures], resolved[Bake]
        stored = self.derive(material_store, build.scene, t.mips, overridden_maps(build), alpha_forms(build))
        textures = self.derive(make_textures, build, packed, stored, t.mip_bias, t.anisotropy)
        coats = self.derive(coats_of, build.scene, t.mips, t.mip_bias, t.anisotropy)
        cutouts = self.derive(make_cutouts, alpha_tests(build), packed, textures, coverage_keepers(build), cuts_by(build))
        plain = self.derive(plain_cutouts, alpha_tests(build), packed, textures)
        shadow_cutouts = self.derive(make_shadow_cutouts, shadow_alpha_tests(build), plain, packed)
        lightmaps = self.derive(lightmap_store, build, packed, StoredRule.from_bake(b), resolved.light_set)
        probes = self.derive(probe_store, build, resolved.light_set)
        grids = self.derive(grid_store, build, resolved.light_set)
        sky = resolved[Sky]
        picture = sky_named(build.scene.skies, sky.picture)
        sky_maps = self.derive(make_sky_maps, None if picture is None else picture.radiance, sky.picture_nits, sky.yaw_deg)
        mapped = frozenset(np.flatnonzero(lightmaps.value.of_drawable >= 0).tolist())
        state = self.derive(
            make_state, build, packed, request.hidden, request.plate is not None, mapped, resolved[Refract].enabled
        )
        paint = (*error_paint(shown.errors, geometry, resolved), *request.paint)
        stage = make_stage(build, state.value, resolved, paint)
        camera = request.camera or make_camera(build, request.viewpoint, request.size[0] / request.size[1])
        pixels = Pixels(request.size, request.window, request.jitter)
        plate_key = b"" if request.plate is None else np.ascontiguousarray(request.plate, np.float64).tobytes()
        known = {
            "geometry": Known(geometry, digest(packed.key, plate_key)),
            "caster_geometry": packed,
            "textures": textures,
            "coats": coats,
            # What passes take of them alone is known by its content: other colours of the same pictures change no map of shadows.
            "alpha_uv": Known(textures.value.alpha_uv, self.derive(key_of_alpha_uv, textures).value),
            "cutouts": Known(cutouts.value, self.derive(key_of_cutouts, cutouts).value),
            "shadow_cutouts": Known(shadow_cutouts.value, self.derive(key_of_cutouts, shadow_cutouts).value),
            "lightmaps": lightmaps,
            "grids": Known(grids.value.grids, grids.key),
            "probes": Known(probes.value.probes, probes.key),
            "sky_maps": sky_maps,
            "camera": Known(camera, digest(camera)),
            "pixels": Known(pixels, digest(pixels)),
            "frame_size": Known(request.size, digest(request.size)),
        }
        if any("mirrors" in p.reads for p in chosen):
            known["mirrors"] = self._mirrored(asked, request, camera, packed, state.value)
        values = {name: k.value for name, k in known.items()}
        keys = {name: k.key for name, k in known.items()}
        for p in chosen:
            section = p.section(stage)
            key = digest(p.name, [keys[name] for name in p.reads], section)
            outputs = self.memo.get(key)
            if outputs is None:
                self.between()
                start = perf_counter()
                with self.clock.timing(f"pass {p.name}"):
                    outputs = p.run({name: values[name] for name in p.reads}, section)
                self.ran.append(p.name)
                self.memo.put(key, outputs, perf_counter() - start)
            for name in p.writes:
                values[name] = outputs[name]
                keys[name] = digest(name, outputs[name]) if name in p.by_content else f"{key}/{name}"
        return Frame(values, stage, geometry, camera, pixels, keys)

    def _mirrored(self, build: Build, request: Request, camera: Camera, packed: Known, state: DrawableState) -> Known:
        """What planar mirrors show: frames from the mirrored eye, without what works from the frame alone and without fog, which lies over
        the mirror itself."""
        if not state.mirrors.any() and not any(m.on for m in build.setup.mirrors.values()):
            return Known((), "no mirrors")
        planes = self.derive(mirror_planes, build, packed).value
        hidden = request.hidden | frozenset(np.flatnonzero(~state.in_mirrors).tolist())
        plain = build.with_setup(build.setup.model_copy(update={"mirrors": {}}))
        jitter, needed = (-request.jitter[0], request.jitter[1]), passes_for("linear")

        def draw(m: Mirrored) -> Known:
            asked = replace(request, size=m.size, crop=m.crop, camera=m.camera, hidden=m.hidden, jitter=jitter, bare=True)
            return self._drawn(plain, asked, needed).known("linear")

        return pictures(planes, camera, request.size, request.window, hidden, draw)

    def picture(self, build: Build, request: Request, samples: int = 1) -> np.ndarray:
        """(h, w, 3) float32 linear, mean of `samples` frames with sub-pixel jitter (Halton 2, 3)."""
        if samples <= 1:
            return self.frame(build, request, "linear").linear
        total: np.ndarray | float = 0.0
        for i in range(1, samples + 1):
            total = total + self.frame(build, replace(request, jitter=(halton(i, 2) - 0.5, halton(i, 3) - 0.5)), "linear").linear
        return np.asarray(total / samples, np.float32)


def key_of_alpha_uv(textures: contract.Textures) -> str:
    """A key by content of the UVs that alpha is looked up at."""
    return digest(textures.alpha_uv)


def key_of_cutouts(cutouts: Cutouts) -> str:
    """A key by content of alpha tests."""
    return digest(cutouts)


def bare(resolved: Resolved) -> Resolved:
    """Settings without fog and without what works from the frame alone, as frames in mirrors have them."""
    for kind in (*FROM_FRAME.values(), Fog):
        resolved = resolved.with_section(resolved[kind].model_copy(update={"enabled": False}))
    return resolved


def render(
    build: Build,
    viewpoint: str,
    *,
    target: str | None = None,
    size: tuple[int, int] = DEFAULT_SIZE,
    crop: tuple[int, int, int, int] | None = None,
    samples: int = 1,
    memo: Memo | None = None,
) -> Frame:
    """One frame, as the stand-in renderer draws it: linear, display, depth, prepass depth, drawable, draw list and more.

    samples > 1 averages that many jittered frames in linear light (2 to 12); the other buffers are of the unjittered one.
    """
    renderer = Renderer(memo)
    request = Request(viewpoint, size, crop, target)
    frame = renderer.frame(build, request)
    if samples <= 1:
        return frame
    from eddyfall.core.passes.display import encode_display, exposure_scale

    linear = renderer.picture(build, request, samples)
    e = frame.stage.resolved[Exposure]
    display = encode_display(linear * np.float32(exposure_scale(e.mode, e.ev100)))
    return replace(frame, buffers={**frame.buffers, "linear": linear, "display": display})


def window_of(build: Build, request: Request, chosen: Iterable[Pass[Any]]) -> Window:
    """The window (x0, y0, x1, y1) that passes draw for a request, as they are set; parts of it may lie beyond the frame."""
    chosen = tuple(chosen)
    resolved = resolve(build.setup, request.target, request.role, request.viewpoint)
    margin = margin_of(chosen, resolved)
    if margin is None:
        return grown(request, support_of(chosen, build.setup))
    width, height = request.size
    return -margin, -margin, width + margin, height + margin


def grown(request: Request, support_px: int | None) -> tuple[int, int, int, int]:
    """The window (x0, y0, x1, y1) to draw so that passes which look sideways see all they need for what is asked for."""
    width, height = request.size
    if support_px is None:
        return 0, 0, width, height
    x0, y0, x1, y1 = request.window
    return max(x0 - support_px, 0), max(y0 - support_px, 0), min(x1 + support_px, width), min(y1 + support_px, height)


def cut(frame: Frame, request: Request) -> Frame:
    """The part of a larger frame that a request asks for: its targets cut to the window, all else as it is."""
    left, top = frame.pixels.origin
    x0, y0, x1, y1 = request.window
    values, keys = dict(frame.buffers), dict(frame.keys)
    targets = {t.name: t for p in passes() for t in p.targets if t.name in values}
    for target in targets.values():
        d = target.divisor
        if values[target.name].shape[:2] != tuple(-(-edge // d) for edge in frame.pixels.shape):
            continue  # one row stands for all pixels
        values[target.name] = values[target.name][(y0 - top) // d : -(-(y1 - top) // d), (x0 - left) // d : -(-(x1 - left) // d)]
        keys[target.name] = f"{frame.keys[target.name]} {request.window}"
    pixels = Pixels(request.size, request.window, request.jitter)
    values["pixels"], keys["pixels"] = pixels, digest(pixels)
    return replace(frame, buffers=values, pixels=pixels, keys=keys)


def check_request(request: Request) -> None:
    """RequestError if size or crop make no sense."""
    width, height = request.size
    if not (1 <= width <= MAX_EDGE and 1 <= height <= MAX_EDGE):
        raise RequestError(f"size {width} x {height} px is not within 1 to {MAX_EDGE}")
    x0, y0, x1, y1 = request.window
    if not (0 <= x0 < x1 <= width and 0 <= y0 < y1 <= height):
        raise RequestError(f"region {x0},{y0} to {x1},{y1} does not lie in the {width} x {height} frame")


def halton(index: int, base: int) -> float:
    """Radical inverse of index (1, 2, ...) in a base (Halton 1960)."""
    result, f = 0.0, 1.0
    while index:
        f /= base
        result += f * (index % base)
        index //= base
    return result
