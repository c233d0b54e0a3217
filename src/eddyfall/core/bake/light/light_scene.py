"""The build as a bake sees it: what blocks and reflects light, and what shines. Plain arrays, so that it can be sent to workers."""

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from embreex.mesh_construction import TriangleMesh
from embreex.rtcore_scene import EmbreeScene

from eddyfall.core.frame.stage import alpha_forms, alpha_tests, make_cutouts, make_lights, make_state, make_textures
from eddyfall.core.hashing import digest
from eddyfall.core.materials.shown import shown_on
from eddyfall.core.passes.contract import DrawableState, LightState
from eddyfall.core.raster.rasterise import Cutouts
from eddyfall.core.rays.queries import TREE_BYTES
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.maps import drawn_materials
from eddyfall.core.scene.model import sky_named, vec3
from eddyfall.core.scene.resolve import sky_in_set
from eddyfall.core.scene.setup.sections.sky import Sky
from eddyfall.core.scene.setup.tables import LightSetup, Shader
from eddyfall.core.shade.lights import DIRECTIONAL, Lights
from eddyfall.core.shade.sky import SkyLight
from eddyfall.core.shade.sky_maps import make_sky_maps
from eddyfall.core.shade.surface import Surfaces
from eddyfall.core.shade.textures import build_store
from eddyfall.core.truth.sky_sun import sun_in, turned


@dataclass
class LitScene:
    """World arrays of the build (as Geometry has them) and how light meets them.

    prim (p,) int64: triangle of each blocker; double_sided (drawables,) uint8; material (drawables,) row of `surfaces`; sky: dark if it
    lights nothing; direct (lights,) bool: its direct light is baked; casts (lights,) bool: it is
    blocked; focus (f, 2, 3) focus regions, none = everywhere; step_m how far rays start off a surface, beyond float32's error;
    hidden_m: a face this near that is turned towards a surface lies against it.
    """

    positions: np.ndarray
    normals: np.ndarray
    uv0: np.ndarray
    uv1: np.ndarray
    colours: np.ndarray
    triangles: np.ndarray
    owner: np.ndarray
    prim: np.ndarray
    double_sided: np.ndarray
    material: np.ndarray
    surfaces: Surfaces
    cutouts: Cutouts
    alpha_uv: np.ndarray
    lights: Lights
    light_names: tuple[str, ...]
    direct: np.ndarray
    casts: np.ndarray
    sky: SkyLight
    focus: np.ndarray
    step_m: float
    hidden_m: float = 0.01
    _embree: Any = field(default=None, repr=False)

    def __getstate__(self) -> dict[str, Any]:
        return {**self.__dict__, "_embree": None}

    @property
    def embree(self) -> Any:
        """The ray scene, made when first asked for (in each process for itself)."""
        if self._embree is None:
            scene = EmbreeScene()
            corners = np.ascontiguousarray(self.positions[self.triangles[self.prim]], np.float32)
            mesh = TriangleMesh(scene, corners) if len(corners) else None
            self._embree = (scene, mesh)
        return self._embree[0]

    @property
    def held_bytes(self) -> int:
        """Bytes of embree's tree, which is made when first asked for."""
        return TREE_BYTES * len(self.prim)

    @property
    def has_cutouts(self) -> bool:
        return bool((self.cutouts.material[self.owner[self.prim]] >= 0).any())


def blockers(build: Build, state: DrawableState) -> np.ndarray:
    """(d,) bool: drawables that block and reflect light in a bake."""
    bakes = np.array([build.setup.shaders.get(s, Shader()).passes.bake for s in state.shader], bool)
    return np.asarray(state.casts & state.drawn & bakes & ~state.blended & ~state.moves)


def light_scene(build: Build, geometry: Geometry, light_set: str | None) -> LitScene:
    """What a bake of one light set (None: lights as they say themselves) sees of a build."""
    build = shown_on(build, None).build
    state = make_state(build, geometry, frozenset(), False)
    taking_part = blockers(build, state)
    textures = make_textures(
        build, geometry, build_store(build.scene.images, drawn_materials(build), True, alpha_forms(build)), 0.0, 1
    )
    states = baked_lights(build, light_set)
    low, high = geometry.scene_bounds
    size = float(np.abs(np.concatenate([low, high])).max()) if len(geometry.drawables) > 1 else 1.0
    regions = build.setup.focus_regions.values()
    return LitScene(
        geometry.positions,
        geometry.normals,
        geometry.uv0,
        geometry.uv1,
        geometry.colours,
        geometry.triangles,
        geometry.owner,
        np.flatnonzero(taking_part[geometry.owner]),
        state.double_sided.astype(np.uint8),
        state.material,
        textures.surfaces,
        make_cutouts(alpha_tests(build), geometry, textures),
        textures.alpha_uv,
        light_arrays(states),
        tuple(light.name for light in states),
        np.array([light.bakes == "full" for light in states], bool),
        np.array([build.setup.lights.get(light.name, LightSetup()).casts is not False for light in states], bool),
        _baked_sky(build, light_set),
        np.array([(r.low_m, r.high_m) for r in regions], np.float64).reshape(-1, 2, 3),
        max(min(1e-4, 5e-6 * geometry.diagonal_m), size * 2e-6),
        geometry.diagonal_m / 2000,
    )


def baked_lights(build: Build, light_set: str | None) -> list[LightState]:
    """Lights that bakes hold anything of; the sun of a sky picture among them: paths find a disc that small too seldom, so that it is
    asked for as a light, and the picture is met without it."""
    states = [light for light in make_lights(build, light_set) if light.bakes != "nothing"]
    sky = sky_in_set(build.setup, build.setup[Sky], light_set)
    picture = sky_named(build.scene.skies, sky.picture)
    if picture is not None and sky.ambient:
        sun = sun_in(picture)
        if sun.verdict != "none":
            power = vec3(np.array(sun.rgb) * sun.strongest_lux * sky.picture_nits)
            towards = turned(sun.towards, sky.yaw_deg)
            states.append(
                LightState(
                    name=f"sun in {picture.name}", kind=DIRECTIONAL, place=(0.0, 0.0, 0.0), towards=towards, power=power, range_m=0.0,
                    cone=(1.0, 0.0), casts=True, bakes="full",
                )
            )  # fmt: skip
    return states


def _baked_sky(build: Build, light_set: str | None) -> SkyLight:
    """The sky that paths meet; dark if it lights nothing."""
    sky = sky_in_set(build.setup, build.setup[Sky], light_set)
    radiance = np.array([sky.zenith_rgb, sky.horizon_rgb, sky.ground_rgb], np.float64)
    if not sky.ambient:
        return SkyLight(*radiance * 0.0)
    picture = sky_named(build.scene.skies, sky.picture)
    left = None if picture is None else sun_in(picture).sky
    return SkyLight(*radiance)._replace(**make_sky_maps(left, sky.picture_nits, sky.yaw_deg)._asdict())


def light_arrays(states: list[LightState]) -> Lights:
    """Light states as the kernels read them, without shadow maps."""
    n = len(states)
    return Lights(
        np.array([s.kind for s in states], np.int32),
        np.array([s.place for s in states], np.float64).reshape(n, 3),
        np.array([s.towards for s in states], np.float64).reshape(n, 3),
        np.array([s.power for s in states], np.float64).reshape(n, 3),
        np.array([s.range_m for s in states], np.float64),
        np.array([s.cone for s in states], np.float64).reshape(n, 2),
        np.zeros(n, np.int32),
        np.zeros(n, np.int32),
        np.zeros(n, np.uint8),
        np.zeros(n, np.int32),
    )


def light_stamp(light: LightState) -> str:
    """Content hash of all that a bake takes from a light."""
    return digest(light.kind, light.place, light.towards, light.power, light.range_m, light.cone, light.casts, light.bakes)[:12]
