"""What a pass is, and what its settings are cut from. Passes import this and the rooms below, never each other."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any, Generic, TypeVar

import numpy as np

from eddyfall.core.raster.depth_format import DepthFormat
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import Change
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.resolve import Resolved
from eddyfall.core.scene.setup import Setup
from eddyfall.core.scene.setup.sections.depth import Depth
from eddyfall.core.scene.setup.sections.shadow import Faces, Softness, Technique
from eddyfall.core.scene.setup.tables import SHADOWS_THROUGH, LightSetup
from eddyfall.core.shade.blend import FIRST_BLENDED, REFRACTING, blends
from eddyfall.core.shade.surface import Rays, Surfaces

Values = Mapping[str, Any]


@dataclass(frozen=True)
class Camera:
    """A perspective camera: rotation rows are right, up, back in world space; fov in radians; aspect = width / height.
    clip: a plane n.x + d = 0, unit n, in the stead of the near plane: nothing is drawn where n.x + d < 0. sorts_from: the place that draw
    order is told from, if it is not the eye: that between two eyes."""

    eye: tuple[float, float, float]
    rotation: tuple[tuple[float, ...], ...]
    fov_y_rad: float
    aspect: float
    clip: tuple[float, float, float, float] | None = None
    sorts_from: tuple[float, float, float] | None = None

    @cached_property
    def axes(self) -> np.ndarray:
        return np.array(self.rotation, np.float64)

    @property
    def forward(self) -> np.ndarray:
        return np.asarray(-self.axes[2])

    def view_depth(self, points: np.ndarray) -> np.ndarray:
        """Depth along the view in metres of world points (..., 3)."""
        return np.asarray((np.asarray(points, np.float64) - np.array(self.eye)) @ self.forward)


@dataclass(frozen=True)
class Pixels:
    """Which pixels are drawn: full frame size, the window of it (x0, y0, x1, y1; half open), sub-pixel jitter."""

    size: tuple[int, int]
    window: tuple[int, int, int, int]
    jitter: tuple[float, float] = (0.0, 0.0)

    @property
    def shape(self) -> tuple[int, int]:
        return self.window[3] - self.window[1], self.window[2] - self.window[0]

    @property
    def origin(self) -> tuple[int, int]:
        return self.window[0], self.window[1]


@dataclass(frozen=True)
class View:
    """Camera and pixels together, with what follows from both."""

    camera: Camera
    pixels: Pixels

    def clip_matrix(self, depth: DepthFormat) -> np.ndarray:
        """float32 (4, 4) world to clip, y up, depth 0..1, jitter included."""
        camera, (width, height) = self.camera, self.pixels.size
        view = np.eye(4)
        view[:3, :3] = camera.axes
        view[:3, 3] = -camera.axes @ np.array(camera.eye)
        a, b = depth.ab
        f = 1.0 / np.tan(camera.fov_y_rad / 2)
        jx, jy = self.pixels.jitter
        projection = np.array(
            [[f / camera.aspect, 0, 2 * jx / width, 0], [0, f, -2 * jy / height, 0], [0, 0, -a, b], [0, 0, -1, 0]]
        )
        matrix = projection @ view
        if camera.clip is not None:
            matrix[2] = _oblique(matrix[3], np.array(camera.clip), self, depth)
        return np.ascontiguousarray(matrix.astype(np.float32))

    @cached_property
    def rays(self) -> Rays:
        """Unjittered eye rays; pixel positions count from the frame's top left corner."""
        camera, (width, height) = self.camera, self.pixels.size
        half_h = np.tan(camera.fov_y_rad / 2)
        half_w = half_h * camera.aspect
        right, up = camera.axes[0], camera.axes[1]
        return Rays(
            np.array(camera.eye, np.float64),
            np.ascontiguousarray(camera.forward - right * half_w + up * half_h),
            np.ascontiguousarray(right * (2 * half_w / width)),
            np.ascontiguousarray(up * (-2 * half_h / height)),
        )

    @cached_property
    def ray_lengths(self) -> np.ndarray:
        """(h, w) Euclidean metres per metre of view depth at each pixel of the window."""
        x0, y0, x1, y1 = self.pixels.window
        jx, jy = self.pixels.jitter
        half_h = np.tan(self.camera.fov_y_rad / 2)
        sx = ((np.arange(x0, x1) + 0.5 + jx) / self.pixels.size[0] * 2 - 1) * half_h * self.camera.aspect
        sy = ((np.arange(y0, y1) + 0.5 + jy) / self.pixels.size[1] * 2 - 1) * half_h
        return np.asarray(np.sqrt(1.0 + sx[None, :] ** 2 + sy[:, None] ** 2))


def _oblique(w: np.ndarray, clip: np.ndarray, view: View, depth: DepthFormat) -> np.ndarray:
    """(4,) row of depth whose near plane is a plane of the world, and whose far plane touches the frustum's farthest corner; w: the row of
    w. Depth then no longer tells distances (Lengyel 2005, from memory)."""
    far = 1e6 if depth.far_m is None else depth.far_m
    eye, rays, (width, height) = np.array(view.camera.eye), view.rays, view.pixels.size
    corners = (
        np.array([[0, 0], [width, 0], [0, height], [width, height]]) * 1.5 - np.array([width, height]) * 0.25
    )  # margins, too
    reach = max(float(clip[:3] @ (eye + far * (rays.d0 + x * rays.du + y * rays.dv)) + clip[3]) for x, y in corners)
    scaled = clip * (far / max(reach, 1e-9))
    return np.asarray(w - scaled if depth.reversed else scaled)


@dataclass(frozen=True)
class MirrorPicture:
    """What a planar mirror shows: drawables (k,); its plane, n.x + offset = 0 with unit normal (3,), and how far off it a place still is on
    it; picture (h, w, 3) nits of the frame's window (x0, y0, x1, y1) px."""

    drawables: np.ndarray
    normal: np.ndarray
    offset: float
    slack_m: float
    window: tuple[int, int, int, int]
    picture: np.ndarray


@dataclass(frozen=True, kw_only=True)
class LookUp:
    """How a light's shadow maps are looked up. The place is moved along its normal by normal_texels x (sine of its angle to the light +
    over) texels, then lifted towards the light by constant_m and by `slope` texels of its own slope in the map; along_plane: each texel of
    the filter, filter_px across, is held against the depth that the face's plane has there. softness by search: the filter is as wide as
    the penumbra of a light of a size (a sun: m at a distance of 1 m; a lamp: m), up to search_texels."""

    constant_m: float = 0.0
    slope: float = 0.0
    normal_texels: float = 0.0
    over: float = 0.0
    along_plane: bool = False
    filter_px: int = 1
    softness: Softness = "box"
    size: float = 0.0
    search_texels: int = 0

    @property
    def soft(self) -> bool:
        """Whether the filter is as wide as a search makes it."""
        return self.softness == "search" and self.size > 0

    @property
    def unbiased(self) -> "LookUp":
        """The same filter with no bias at all."""
        return LookUp(filter_px=self.filter_px, softness=self.softness, size=self.size, search_texels=self.search_texels)


@dataclass(frozen=True)
class LightState:
    """One light that shines: sun towards (unit), point or spot at place; power rgb in lux or candela. resolution: edge of its maps, None as
    the project says; faces: which of them the maps draw; lightmap_shade: what its shadow leaves of lightmaps, None: all;
    disc_size: its size (as `LookUp` has it) if its shadow is softened by soft_rays rays, else 0."""

    name: str
    kind: int
    place: tuple[float, float, float]
    towards: tuple[float, float, float]
    power: tuple[float, float, float]
    range_m: float
    cone: tuple[float, float]
    casts: bool
    bakes: str = "full"
    technique: Technique = "cascades"
    look_up: LookUp = LookUp()
    resolution: int | None = None
    faces: Faces = "front"
    lightmap_shade: float | None = None
    disc_size: float = 0.0
    soft_rays: int = 16
    contact_m: float = 0.0
    contact_thick_m: float = 0.1

    @property
    def as_drawn(self) -> "LightState":
        """All of it that its maps are drawn by: the look-up comes later."""
        return replace(
            self, look_up=LookUp(), lightmap_shade=None, disc_size=0.0, soft_rays=0, contact_m=0.0, contact_thick_m=0.0
        )


@dataclass(frozen=True)
class DrawableState:
    """By drawable, (d,): blend kind code, and what setup and shader say of it. triangles: in which order its own are drawn (as
    `draw_order` numbers them); sort_place: (d, 3) m of the point it shares, nan: its own; sort_member: its turn among those that share
    it. Of what refracts: bends, thickness (index of THICKNESSES), transmission, inside_blend, rougher, hides. writes_depth: index of
    WRITES_DEPTH; shadow_through: index of SHADOWS_THROUGH. Of volumes: extinction per_m, volume_rgb (d, 3) nits, volume_sort (index of
    VOLUME_SORTS)."""

    blend: np.ndarray
    double_sided: np.ndarray
    material: np.ndarray
    shader: tuple[str, ...]
    colour_pass: np.ndarray
    depth_pass: np.ndarray
    shadow_pass: np.ndarray
    fogs: np.ndarray
    answers_direct: np.ndarray
    answers_ambient: np.ndarray
    drawn: np.ndarray
    casts: np.ndarray
    receives: np.ndarray
    rank: np.ndarray
    triangles: np.ndarray
    key_shift_m: np.ndarray
    sort_place: np.ndarray
    sort_member: np.ndarray
    sort_mesh: np.ndarray
    padding_m: np.ndarray
    draw_distance_m: np.ndarray
    camera_hidden: np.ndarray
    mapped: np.ndarray
    casts_both: np.ndarray
    dense: np.ndarray
    in_mirrors: np.ndarray
    mirrors: np.ndarray
    moves: np.ndarray
    bends: np.ndarray
    thickness: np.ndarray
    transmission: np.ndarray
    inside_blend: np.ndarray
    rougher: np.ndarray
    hides: np.ndarray
    writes_depth: np.ndarray
    shadow_through: np.ndarray
    per_m: np.ndarray
    volume_rgb: np.ndarray
    volume_sort: np.ndarray

    @property
    def solid(self) -> np.ndarray:
        """uint8: opaque or cutout."""
        return (self.blend < FIRST_BLENDED).astype(np.uint8)

    @property
    def blended(self) -> np.ndarray:
        """bool: neither opaque nor cutout, nor drawn from a copy of what is behind."""
        return blends(self.blend)

    @property
    def blocks(self) -> np.ndarray:
        """bool: what light does not go through, or not through all of it."""
        return np.asarray(np.isin(self.shadow_through, [SHADOWS_THROUGH.index(v) for v in ("whole", "dithered")]))

    @property
    def refracts(self) -> np.ndarray:
        """bool: shows what is behind from a copy of the opaque picture."""
        return np.asarray(self.blend == REFRACTING)


# Which leaf of the setup each field of a drawable's state follows from, for the list of what a pass is set by.
SETTING_OF_STATE: dict[str, str | tuple[str, ...]] = {
    "blend": "materials.blend",
    "double_sided": "materials.double_sided",
    "material": "materials",
    "shader": "materials.shader",
    "colour_pass": "shaders.passes.colour",
    "depth_pass": "shaders.passes.depth",
    "shadow_pass": "shaders.passes.shadow",
    "fogs": "shaders.fogs",
    "answers_direct": "shaders.answers.direct",
    "answers_ambient": "shaders.answers.ambient",
    "drawn": "nodes.drawn",
    "casts": "nodes.casts",
    "receives": "nodes.receives",
    "rank": "nodes.draw_rank",
    "triangles": "materials.triangles",
    "key_shift_m": "nodes.key_shift_m",
    "sort_place": "sort_points",
    "sort_member": "sort_points",
    "sort_mesh": "sort_points",
    "padding_m": "nodes.bounds_padding_m",
    "draw_distance_m": "nodes.draw_distance_m",
    "mapped": "meshes.lightmap_uv",
    "casts_both": "materials.casts_both_sides",
    "dense": "meshes.dense",
    "in_mirrors": "shaders.passes.mirror",
    "mirrors": "mirrors.node",
    "moves": "nodes.moves",
    "bends": "materials.transmits",
    "thickness": "materials.thickness",
    "transmission": "materials.transmission",
    "inside_blend": "materials.inside",
    "rougher": "materials.rougher",
    "hides": "materials.hides",
    "writes_depth": "materials.writes_depth",
    "shadow_through": ("materials.blend", "materials.shadow_through"),
    "per_m": "volumes",
    "volume_rgb": "volumes",
    "volume_sort": "volumes",
    "refracts": "materials.transmits",
    "solid": "materials.blend",
    "blended": "materials.blend",
    "blocks": ("materials.blend", "materials.shadow_through"),
}


# The same of a light's state, where a pass takes no more than that.
SOFT = {"softness", "diameter_deg", "diameter_m", "search_texels"}
LOOK_UP = {"bias_mm", "bias_slope", "bias_normal_texels", "bias_along_plane", "filter_px", *SOFT}
AFTER_MAPS = {*LOOK_UP, "lightmap_shade", "soft_rays", "contact_m", "contact_thick_m"}  # what the maps are not drawn by
SETTING_OF_LIGHT = {
    "technique": {"lights.technique", "shadow.technique"},
    "casts": {"lights.casts"},
    "kind": {"lights.kind", "lights.on"},
    "towards": {"lights.towards", "lights.on"},
    "bakes": {"lights.bakes"},
    "look_up": {"shadow.bias_texels", "shadow.filter_px"} | {f"lights.{name}" for name in LOOK_UP},
    "as_drawn": {"shadow.technique"} | {f"lights.{name}" for name in LightSetup.model_fields if name not in AFTER_MAPS},
    "lightmap_shade": {"lights.lightmap_shade"},
    "soft_rays": {"lights.soft_rays"},
    "disc_size": {"lights.softness", "lights.diameter_deg", "lights.diameter_m"},
    "contact_m": {"lights.contact_m"},
    "contact_thick_m": {"lights.contact_thick_m"},
    "faces": {"lights.faces"},
}


@dataclass(frozen=True)
class Stage:
    """Everything the settings of passes are cut from. A pass sees only what its `section` takes out of it."""

    resolved: Resolved
    state: DrawableState
    lights: tuple[LightState, ...]
    paint: tuple[tuple[int, tuple[float, float, float]], ...] = ()

    @property
    def depth_format(self) -> DepthFormat:
        d = self.resolved[Depth]
        return DepthFormat(d.format, d.reversed, d.near_m, d.far_m)


@dataclass(frozen=True)
class Textures:
    """Material tables and texels of a build, and the UVs (v, 2) that each vertex's alpha texture takes."""

    surfaces: Surfaces
    alpha_uv: np.ndarray


@dataclass(frozen=True)
class Asked:
    """What an off-switch is asked about: a frame of a build, and the drawable that the question is about."""

    build: Build
    stage: Stage
    geometry: Geometry
    in_view: np.ndarray
    subject: int


@dataclass(frozen=True, kw_only=True)
class OffSwitch:
    """How the effect of a pass is switched off by itself. says: in short, for the pass table. changes(asked): (change, because) for
    each single change that does it there; none where it is off already."""

    says: str
    changes: Callable[[Asked], list[tuple[Change, str]]]


@dataclass(frozen=True, kw_only=True)
class Target:
    """A buffer of the frame's own size that a pass writes: bytes a texel; one texel for divisor x divisor pixels; with its mips or
    without; kept: it is also needed in the next frame, so that it stands in memory twice; margin_px: so much wider on each
    side. A pass that hands a buffer on while it is off says 0 bytes; what it holds while on, its `held` says."""

    name: str
    texel_bytes: int
    divisor: int = 1
    mips: bool = False
    kept: bool = False
    margin_px: int = 0

    def bytes(self, width: int, height: int) -> int:
        """Bytes it takes for a frame of width x height px; mip levels halve, rounded down, to one texel."""
        w, h = (-(-(edge + 2 * self.margin_px) // self.divisor) for edge in (width, height))
        total = w * h
        while self.mips and max(w, h) > 1:
            w, h = max(w // 2, 1), max(h // 2, 1)
            total += w * h
        return total * self.texel_bytes * (2 if self.kept else 1)


S = TypeVar("S")


@dataclass(frozen=True, kw_only=True)
class Pass(Generic[S]):
    """One step of the renderer, whole in its module: nothing else has to know it.

    number: its place in the order. reads, writes: names of buffers; a pass may write a buffer that an earlier one wrote, those after it
    then read the new version. section(stage): a frozen dataclass of all the settings it may use. run(inputs, section): its outputs.
    targets: those of its outputs that have a texel for each pixel. held(section): targets that a real-time renderer keeps for it as it is
    set, besides. other_bytes(section): what else it keeps in memory. support_px: how
    far it looks sideways (0: only its own pixel; None: it needs the whole frame); a crop is drawn that much larger and cut;
    whole_frame_if(setup): whether it needs the whole frame by what is set; beyond_px(resolved): whether it does, and how many px of a
    margin around it, None: it does not. off: its off-switches. by_content: those of its outputs, small ones, whose key is the hash of what
    they hold, not of what they were made from: what reads them need not run again where they came out the same. twin(recorder): the same at
    one pixel in plain Python, which lays its strata on a core sample (see `recorder`)."""

    number: float
    name: str
    does: str
    reads: tuple[str, ...]
    writes: tuple[str, ...]
    section: Callable[[Stage], S]
    run: Callable[[Values, S], dict[str, Any]]
    targets: tuple[Target, ...] = ()
    held: Callable[[S], tuple[Target, ...]] = lambda section: ()
    other_bytes: Callable[[S], int] = lambda section: 0
    support_px: int | None = 0
    whole_frame_if: Callable[[Setup], bool] | None = None
    beyond_px: Callable[[Resolved], int | None] | None = None
    off: tuple[OffSwitch, ...] = ()
    by_content: tuple[str, ...] = ()
    twin: Callable[[Any], None] | None = None
