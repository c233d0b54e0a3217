"""The build as paths of the reference see it: what they meet, what blocks light, what shines. Made from a frame that was drawn."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from eddyfall.core.frame.render import Frame, Renderer
from eddyfall.core.frame.stage import MaterialState, material_states
from eddyfall.core.hashing import freeze
from eddyfall.core.passes.contract import Textures
from eddyfall.core.passes.sections import sky_colours, with_picture
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.setup.sections.fog import Fog
from eddyfall.core.scene.setup.sections.sky import Sky
from eddyfall.core.scene.setup.tables import LightSetup
from eddyfall.core.shade.blend import VOLUME
from eddyfall.core.shade.clear_coat import Coats
from eddyfall.core.shade.columns import BASE, EMISSIVE, ROUGHNESS, UNLIT
from eddyfall.core.shade.lights import Lights
from eddyfall.core.shade.sky import SkyLight
from eddyfall.core.shade.sky_maps import SkyMaps, solid_of_rows
from eddyfall.core.shade.srgb import REC709_LUMA
from eddyfall.core.shade.surface import Soup, Surfaces, soup_of
from eddyfall.core.shade.through import SeenThrough
from eddyfall.core.shade.volumes import Volumes
from eddyfall.core.truth.reference.panes import BODY, SHEET, SMOOTH, THIN, Panes
from eddyfall.core.truth.reference.walks import Emitters, SkyCells
from eddyfall.core.truth.seen_through import KINDS_THROUGH
from eddyfall.core.truth.visibility import intended, rays_of
from eddyfall.core.uv.report import edges

MOST_CELLS = 512  # columns of cells that a sky picture is picked by


@dataclass(frozen=True)
class PathScene:
    """met: rays' view of all that is drawn; blocking: of all that is meant to cast and lets no light through; bending: that, and all
    glass that rays to what shines and to the sky are not asked for through; tinting, veiling: what lamps, and what shines, lose some of
    on their straight way, told by `seen`; soup, surfaces, coats: as the kernels read them; double_sided, covers (d,) uint8: drawn from both
    sides, let light by as their alpha says; sides: the first, or a body of glass; panes: what lets light through; mist: its boxes; lights
    as the frame has them, sizes (l,) their diameters (m, or m for each m of a sun's distance), blocked (l,) bool: whether anything blocks
    them; sky as it is seen, sky_lights: whether surfaces get any of it; fog None: there is none; step_m: how far rays start off a
    surface; far_m: beyond all that is there."""

    met: RayScene
    blocking: RayScene
    bending: RayScene
    tinting: RayScene | None
    veiling: RayScene | None
    seen: SeenThrough
    soup: Soup
    surfaces: Surfaces
    coats: Coats
    double_sided: np.ndarray
    sides: np.ndarray
    covers: np.ndarray
    panes: Panes
    mist: Volumes
    lights: Lights
    light_names: tuple[str, ...]
    sizes: np.ndarray
    blocked: np.ndarray
    emitters: Emitters
    sky: SkyLight
    sky_lights: bool
    cells: SkyCells
    fog: Fog | None
    step_m: float
    far_m: float

    @property
    def has_glass(self) -> bool:
        """Whether anything lets light through."""
        return bool(self.panes.kind.any())

    @property
    def no_sky(self) -> SkyLight:
        """A sky that gives nothing."""
        return SkyLight(np.zeros(3), np.zeros(3), np.zeros(3))


def path_scene(renderer: Renderer, build: Build, frame: Frame) -> PathScene:
    """What paths see of a build, a frame of which was drawn at least up to its lights; trees of rays and tables are kept in the memo."""
    state, geometry, textures = frame.stage.state, frame.geometry, frame.buffers["textures"]
    # Faces of boxes of mist are left out: what fills them has none.
    drawn = np.asarray(state.drawn & state.colour_pass & ~state.camera_hidden & (state.blend != VOLUME))
    drawn[geometry.plate] = not state.camera_hidden[geometry.plate]
    emitters = renderer.derive(emitters_of, frame.known("caster_geometry"), drawn, state.material, frame.known("textures")).value
    cells = renderer.derive(cells_of, frame.known("sky_maps")).value
    maps: SkyMaps = frame.buffers["sky_maps"]
    fog = frame.stage.resolved[Fog]
    low, high = geometry.scene_bounds
    size = float(np.abs(np.concatenate([low, high])).max()) if len(geometry.drawables) > 1 else 1.0
    told = [build.setup.lights.get(light.name, LightSetup()) for light in frame.stage.lights]
    panes = panes_of(renderer, build, frame, drawn)
    glass, meant = panes.kind > 0, intended(frame)
    over = drawn & np.isin(state.blend, KINDS_THROUGH)  # what is blended and covers or darkens what lies behind it
    dims = (over | glass) & state.casts
    covers = state.blended & drawn
    return PathScene(
        met=rays_of(renderer, frame, drawn),
        blocking=rays_of(renderer, frame, meant & ~glass),
        bending=rays_of(renderer, frame, (meant & ~glass) | (glass & (panes.straight == 0))),
        tinting=rays_of(renderer, frame, dims).solid if dims.any() else None,
        veiling=rays_of(renderer, frame, over | glass).solid if (over | glass).any() else None,
        seen=SeenThrough.of(state),
        soup=soup_of(geometry, state.material),
        surfaces=textures.surfaces,
        coats=frame.buffers["coats"],
        double_sided=state.double_sided.astype(np.uint8),
        sides=(state.double_sided | (panes.kind == BODY)).astype(np.uint8),
        covers=covers.astype(np.uint8),
        panes=panes,
        mist=mist_of(frame),
        lights=frame.buffers["lights"],
        light_names=tuple(light.name for light in frame.stage.lights),
        sizes=np.array([light.look_up.size for light in frame.stage.lights]),
        blocked=np.array([entry.casts is not False for entry in told], bool),
        emitters=emitters,
        sky=with_picture(sky_colours(frame.stage), maps),
        sky_lights=frame.stage.resolved[Sky].ambient,
        cells=cells,
        fog=fog if fog.enabled else None,
        step_m=max(min(1e-4, 5e-6 * geometry.diagonal_m), size * 2e-6),
        far_m=4 * size + geometry.diagonal_m + float(np.linalg.norm(frame.camera.eye)),
    )


def panes_of(renderer: Renderer, build: Build, frame: Frame, drawn: np.ndarray) -> Panes:
    """What lets light through by what its material says, whatever the renderer makes of it."""
    state, geometry = frame.stage.state, frame.geometry
    by_material = np.array([lets(m) for m in material_states(build)], bool)
    kind = np.where(drawn & by_material[state.material] & ~state.blended, np.where(state.bends, SHEET, THIN), 0)
    kind[geometry.plate] = 0
    for d in np.flatnonzero(kind == SHEET):
        if renderer.derive(is_closed, frame.known("caster_geometry"), int(d)).value:
            kind[d] = BODY
    rough = frame.buffers["textures"].surfaces.factors[state.material, ROUGHNESS] + state.rougher
    return Panes(
        kind.astype(np.uint8), np.where(kind > 0, state.transmission, 0.0), state.thickness, state.rougher,
        state.double_sided.astype(np.uint8), ((kind == THIN) & (rough < SMOOTH)).astype(np.uint8),
    )  # fmt: skip


def lets(m: MaterialState) -> bool:
    """Whether a material lets light through, by what it says itself."""
    return m.blend in ("opaque", "cutout") and m.transmits != "none" and m.transmission > 0


def is_closed(geometry: Geometry, drawable: int) -> bool:
    """Whether a drawable has an inside: no edge of it is a border."""
    d = geometry.drawables[drawable]
    found = edges(geometry.positions[geometry.triangles[d.first : d.last]])
    return found.total > 0 and found.boundary == 0


def mist_of(frame: Frame) -> Volumes:
    """Boxes of mist that a frame draws."""
    state = frame.stage.state
    there = np.flatnonzero(state.drawn & state.colour_pass & ~state.camera_hidden & (state.blend == VOLUME) & (state.per_m > 0))
    bounds = np.asarray(frame.geometry.bounds[there], float)
    return Volumes(state.per_m[there], state.volume_rgb[there], *(np.ascontiguousarray(bounds[:, k]) for k in (0, 1)))


def emitters_of(geometry: Geometry, drawn: np.ndarray, material: np.ndarray, textures: Textures) -> Emitters:
    """Shining triangles, picked by area times the luminance of their material."""
    shines = _luminance(textures.surfaces)[material[geometry.owner]] * drawn[geometry.owner]
    c = geometry.positions[geometry.triangles].astype(np.float64)
    area = np.linalg.norm(np.cross(c[:, 1] - c[:, 0], c[:, 2] - c[:, 0]), axis=1) / 2
    power = shines * area
    chosen = np.flatnonzero(power > 0)
    pick = np.zeros(len(power))
    if len(chosen):
        pick[chosen] = power[chosen] / power[chosen].sum()
    cumulative = np.cumsum(pick[chosen])
    if len(cumulative):
        cumulative[-1] = 1.0
    return Emitters(freeze(chosen), freeze(cumulative), freeze(pick))


def _luminance(surfaces: Surfaces) -> np.ndarray:
    """(m,) luminance that each material shines with at most; unlit ones shine their colour."""
    f = surfaces.factors
    return np.asarray(np.where(f[:, UNLIT] > 0, f[:, BASE : BASE + 3] @ REC709_LUMA, f[:, EMISSIVE : EMISSIVE + 3] @ REC709_LUMA))


def cells_of(maps: SkyMaps) -> SkyCells:
    """Cells of a sky picture by what they give: luminance times solid angle."""
    if not len(maps.levels):
        return SkyCells(freeze(np.zeros(0)), freeze(np.zeros((0, 0))), freeze(np.zeros((0, 0))))
    _, width, height = (int(v) for v in maps.levels[0])
    light = maps.texels[: width * height].reshape(height, width, 3).astype(np.float64) @ REC709_LUMA
    # Between its texels a picture is looked up in between: an eighth of a texel's light falls to each side of it.
    light = 0.75 * light + 0.125 * (np.roll(light, 1, axis=1) + np.roll(light, -1, axis=1))
    light = 0.75 * light + 0.125 * (np.vstack([light[:1], light[:-1]]) + np.vstack([light[1:], light[-1:]]))
    light = light * solid_of_rows(height)[:, None]
    while width > MOST_CELLS and not width % 2 and not height % 2:
        light = light.reshape(height // 2, 2, width // 2, 2).sum(axis=(1, 3))
        height, width = light.shape
    light = light + 1e-3 * light.mean()
    chance = light / light.sum()
    rows = chance.sum(axis=1)
    columns = np.cumsum(chance / rows[:, None], axis=1)
    columns[:, -1] = 1.0
    cumulative = np.cumsum(rows)
    cumulative[-1] = 1.0
    return SkyCells(freeze(cumulative), freeze(columns), freeze(chance))
