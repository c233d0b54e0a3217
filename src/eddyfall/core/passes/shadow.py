"""Pass 3: shadow depth. Sun cascades (and a far tier) fitted to the full view frustum; cube or single maps of other lights."""

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.passes.contract import Camera, LightState, Pass, Stage, Values
from eddyfall.core.passes.off_switches import off_by_leaf
from eddyfall.core.passes.registry import register
from eddyfall.core.raster.depth_format import DepthCode
from eddyfall.core.raster.project import project
from eddyfall.core.raster.rasterise import rasterise
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.setup.sections.shadow import Shadow
from eddyfall.core.shade.cascades import Slice, cascade_slices
from eddyfall.core.shade.lights import DIRECTIONAL, POINT, Lights, ShadowMaps

LIGHT_NEAR_M = 0.02


def light_near_m(diagonal_m: float) -> float:
    """Near plane of a lamp's map: 20 mm; less in a small scene, and in a vast one as much as its depth needs."""
    return max(min(LIGHT_NEAR_M, diagonal_m / 1000), diagonal_m / 100_000)


@dataclass(frozen=True, kw_only=True)
class ShadowSection:
    """What the pass is set by."""

    lights: tuple[LightState, ...]
    enabled: bool
    slices: tuple[float, float, int, float, int]
    far: tuple[float, int]
    light_resolution: int
    casters: np.ndarray
    double_sided: np.ndarray


def section(stage: Stage) -> ShadowSection:
    s, shadow = stage.state, stage.resolved[Shadow]
    return ShadowSection(
        lights=stage.lights,
        enabled=shadow.enabled,
        slices=(shadow.near_m, shadow.reach_m, shadow.cascades, shadow.split_lambda, shadow.resolution),
        far=(shadow.far_reach_m, shadow.far_resolution),
        light_resolution=shadow.light_resolution,
        casters=s.casts & s.shadow_pass & s.drawn & ~s.blended,
        double_sided=s.double_sided,
    )


def run(inputs: Values, section: ShadowSection) -> dict[str, Any]:
    lights: tuple[LightState, ...] = section.lights
    maps: list[tuple[np.ndarray, np.ndarray]] = []
    first, counts = [], []
    for light in lights:
        first.append(len(maps))
        if section.enabled and light.casts:
            maps += _maps_of(light, inputs, section)
        counts.append(len(maps) - first[-1])
    table = Lights(
        np.array([v.kind for v in lights], np.int32),
        _rows([v.place for v in lights], 3),
        _rows([v.towards for v in lights], 3),
        _rows([v.power for v in lights], 3),
        np.array([v.range_m for v in lights], np.float64),
        _rows([v.cone for v in lights], 2),
        np.array(first, np.int32),
        np.array(counts, np.int32),
        np.array([v.bakes == "full" for v in lights], np.uint8),
    )
    edges = [int(info[0]) for _, info in maps]
    depth = np.ones(max(sum(e * e for e in edges), 1), np.float32)
    offset = 0
    for (matrix, info), edge in zip(maps, edges):
        info[4] = offset
        _draw_map(matrix, depth[offset : offset + edge * edge].reshape(edge, edge), inputs, section)
        offset += edge * edge
    matrices = np.stack([m for m, _ in maps]) if maps else np.zeros((0, 4, 4))
    shadow_maps = ShadowMaps(matrices, _rows([info for _, info in maps], 6), depth, 0.0, 1)
    return {"lights": table, "shadow_maps": shadow_maps}


def map_bytes(section: ShadowSection) -> int:
    """Bytes of all shadow maps, four a texel: a sun's cascades and far tier, six maps of a point light, one of a spot."""
    _, _, count, _, resolution = section.slices
    far_reach, far_resolution = section.far
    of_sun = count * resolution**2 + (far_resolution**2 if far_reach > 0 else 0)
    texels = 0
    for light in section.lights:
        if section.enabled and light.casts:
            texels += of_sun if light.kind == DIRECTIONAL else section.light_resolution**2 * (6 if light.kind == POINT else 1)
    return 4 * max(int(texels), 1)


def _rows(values: list[Any], width: int) -> np.ndarray:
    return np.array(values, np.float64).reshape(-1, width)


def _maps_of(light: LightState, inputs: Values, section: ShadowSection) -> list[tuple[np.ndarray, np.ndarray]]:
    """(matrix, info row of `ShadowMaps`) of each map of a light."""
    geometry: Geometry = inputs["caster_geometry"]
    camera: Camera = inputs["camera"]
    result = []
    if light.kind == DIRECTIONAL:
        near_m, reach_m, count, blend, resolution = section.slices
        far_reach, far_resolution = section.far
        slices = cascade_slices(
            near_m, reach_m, count, blend, resolution, camera.fov_y_rad, camera.aspect, far_reach, far_resolution
        )
        for i, part in enumerate(slices):
            edge = resolution if i < count else far_resolution
            matrix = sun_matrix(part, camera, np.array(light.towards), geometry.scene_bounds)
            info = np.array([edge, part.near_m, part.far_m, part.texel_m, 0, 0], np.float64)
            result.append((matrix, info))
        return result
    edge = section.light_resolution
    faces = [_look_along(f) for f in range(6)] if light.kind == POINT else [_look_to(np.array(light.towards))]
    half = (
        math.pi / 4
        if light.kind == POINT
        else min(math.acos(min(max(-light.cone[1] / max(light.cone[0], 1e-9), -1), 1)) + 0.02, 1.5)
    )
    for axes in faces:
        matrix = light_matrix(axes, np.array(light.place), half, light_near_m(geometry.diagonal_m))
        info = np.array([edge, 0, np.inf, 2 * math.tan(half) / edge, 0, 1], np.float64)
        result.append((matrix, info))
    return result


def sun_matrix(part: Slice, camera: Camera, towards: np.ndarray, bounds: tuple[np.ndarray, np.ndarray]) -> np.ndarray:
    """(4, 4) float64 world to clip of one cascade: its sphere across, the whole scene in depth, snapped to whole texels."""
    back = towards / np.linalg.norm(towards)
    side = np.array([0.0, 0.0, 1.0]) if abs(back[1]) > 0.99 else np.array([0.0, 1.0, 0.0])
    right = np.cross(side, back)
    right /= np.linalg.norm(right)
    axes = np.stack([right, np.cross(back, right), back])
    centre = axes @ (np.array(camera.eye) + camera.forward * part.centre_m)
    centre[:2] = np.floor(centre[:2] / part.texel_m) * part.texel_m
    low, high = bounds
    corners = np.array([[x, y, z] for x in (low[0], high[0]) for y in (low[1], high[1]) for z in (low[2], high[2])])
    along = corners @ back
    nearest, farthest = along.max() + 0.5, along.min() - 0.5
    matrix = np.eye(4)
    matrix[0, :3], matrix[0, 3] = axes[0] / part.radius_m, -centre[0] / part.radius_m
    matrix[1, :3], matrix[1, 3] = axes[1] / part.radius_m, -centre[1] / part.radius_m
    matrix[2, :3], matrix[2, 3] = -back / (nearest - farthest), nearest / (nearest - farthest)
    return matrix


def light_matrix(axes: np.ndarray, place: np.ndarray, half_rad: float, near_m: float = LIGHT_NEAR_M) -> np.ndarray:
    """(4, 4) float64 world to clip of one square perspective map; far plane infinite."""
    view = np.eye(4)
    view[:3, :3] = axes
    view[:3, 3] = -axes @ place
    f = 1.0 / math.tan(half_rad)
    projection = np.array([[f, 0, 0, 0], [0, f, 0, 0], [0, 0, -1, -near_m], [0, 0, -1, 0]])
    return np.asarray(projection @ view)


def _look_along(face: int) -> np.ndarray:
    forward = np.zeros(3)
    forward[face // 2] = 1.0 if face % 2 == 0 else -1.0
    return _look_to(forward)


def _look_to(forward: np.ndarray) -> np.ndarray:
    back = -forward / np.linalg.norm(forward)
    side = np.array([0.0, 0.0, 1.0]) if abs(back[1]) > 0.99 else np.array([0.0, 1.0, 0.0])
    right = np.cross(side, back)
    right /= np.linalg.norm(right)
    return np.stack([right, np.cross(back, right), back])


def _touches(matrix: np.ndarray, bounds: np.ndarray) -> np.ndarray:
    """(d,) bool: whether boxes (d, 2, 3) may lie in the map of a light; depth is left out, since casters may stand anywhere before it."""
    pick = np.array([[x, y, z] for x in (0, 1) for y in (0, 1) for z in (0, 1)])
    corners = np.stack([bounds[:, pick[:, axis], axis] for axis in range(3)], axis=-1)
    clip = corners @ matrix[:, :3].T + matrix[:, 3]
    xy, w = clip[..., :2], clip[..., 3:]
    outside = (xy > w).all(axis=1) | (xy < -w).all(axis=1)
    return np.asarray(~(outside.any(axis=1) & (w > 0).all(axis=(1, 2))))


def _draw_map(matrix: np.ndarray, depth: np.ndarray, inputs: Values, section: ShadowSection) -> None:
    geometry: Geometry = inputs["caster_geometry"]
    casters: np.ndarray = section.casters
    edge = len(depth)
    reached = casters & _touches(matrix, geometry.bounds)
    chosen = np.flatnonzero(reached[geometry.owner]).astype(np.int32)
    cull = np.where(section.double_sided[geometry.owner[chosen]], 0, 1).astype(np.int8)
    screen = project(
        geometry.positions,
        inputs["textures"].alpha_uv,
        geometry.triangles,
        chosen,
        cull,
        matrix.astype(np.float32),
        (edge, edge),
        (0, 0, edge, edge),
    )
    no_ids = np.zeros((0, 0), np.int32)
    rasterise(screen, geometry.owner, casters.astype(np.uint8), inputs["cutouts"], DepthCode(32, 1.0), depth, no_ids, (0, 0))


PASS = register(
    Pass(
        number=3,
        name="shadow",
        does="shadow depth of each casting light: sun cascades and far tier, cube or single maps",
        reads=("caster_geometry", "camera", "textures", "cutouts"),
        writes=("lights", "shadow_maps"),
        section=section,
        other_bytes=map_bytes,
        run=run,
        off=(off_by_leaf("shadow.enabled", False, "shadows off"),),
    )
)
