"""Pass 3: shadow depth. Sun cascades (and a far tier) fitted to the full view frustum; cube or single maps of other lights."""

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.passes.contract import Camera, LightState, Pass, Stage, Values
from eddyfall.core.passes.off_switches import off_by_leaf
from eddyfall.core.passes.registry import register
from eddyfall.core.passes.sun_maps import along_sun, draw_map, sun_axes
from eddyfall.core.raster.rasterise import clear
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.setup.sections.shadow import Faces, Shadow
from eddyfall.core.shade.cascades import Slice, cascade_slices
from eddyfall.core.shade.lights import DIRECTIONAL, POINT, Lights
from eddyfall.core.shade.shadow_maps import CASCADES, EDGE, START, TECHNIQUES, ShadowMaps, of_planes

LIGHT_NEAR_M = 0.02
BITS = {"float32": 32, "unorm24": 24, "unorm16": 16}


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
    reach_by: str
    fit: str
    snap: bool
    depth_range: str
    map_format: str
    join_blend: float
    light_resolution: int
    casts_both: np.ndarray


def section(stage: Stage) -> ShadowSection:
    s, shadow = stage.state, stage.resolved[Shadow]
    return ShadowSection(
        lights=tuple(light.as_drawn for light in stage.lights),
        enabled=shadow.enabled,
        slices=(shadow.near_m, shadow.reach_m, shadow.cascades, shadow.split_lambda, shadow.resolution),
        far=(shadow.far_reach_m, shadow.far_resolution),
        reach_by=shadow.reach_by,
        fit=shadow.fit,
        snap=shadow.snap,
        depth_range=shadow.depth_range,
        map_format=shadow.map_format,
        join_blend=shadow.join_blend,
        light_resolution=shadow.light_resolution,
        casts_both=s.casts_both,
    )


def run(inputs: Values, section: ShadowSection) -> dict[str, Any]:
    lights: tuple[LightState, ...] = section.lights
    camera: Camera = inputs["camera"]
    maps: list[tuple[np.ndarray, np.ndarray]] = []
    first, counts, of_map = [], [], []
    casters = inputs["cascades_casters"]
    for number, light in enumerate(lights):
        first.append(len(maps))
        if section.enabled and light.casts and light.technique == "cascades":
            maps += _maps_of(light, inputs, section)
        counts.append(len(maps) - first[-1])
        of_map += [number] * counts[-1]
    on = [section.enabled and light.casts for light in lights]
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
        np.array([TECHNIQUES[v.technique] if casts else CASCADES for v, casts in zip(lights, on)], np.int32),
    )
    edges = [int(info[EDGE]) for _, info in maps]
    depth = np.empty(max(sum(e * e for e in edges), 1), np.float32)
    clear(depth)
    offset = 0
    for (matrix, info), edge, number in zip(maps, edges, of_map):
        info[START] = offset
        part = depth[offset : offset + edge * edge].reshape(edge, edge)
        bits = BITS[section.map_format] if lights[number].kind == DIRECTIONAL else 32
        faces = lights[number].faces
        draw_map(matrix, part, inputs, casters[number], section.casts_both, faces, bits)
        if lights[number].kind == DIRECTIONAL and section.depth_range == "slice_clamped":
            _clamp_to_near(matrix, part, inputs, casters[number], section.casts_both, faces)
        offset += edge * edge
    matrices = np.stack([m for m, _ in maps]) if maps else np.zeros((0, 4, 4))
    shadow_maps = ShadowMaps(
        matrices, of_planes(matrices), _rows([info for _, info in maps], 6), depth, np.zeros((len(lights), 5)),
        np.ones(len(lights), np.int64), 0, np.array(camera.eye, np.float64), int(section.reach_by == "range"), section.join_blend,
        np.zeros((len(maps), 4), np.int32), np.zeros(0, np.int32), np.zeros(0, np.float32), 0.0, np.zeros((len(lights), 3)),
    )  # fmt: skip
    return {"lights": table, "shadow_maps": shadow_maps}


def map_bytes(section: ShadowSection) -> int:
    """Bytes of all shadow maps, four a texel (two in unorm16): a sun's cascades and far tier, six maps of a point light, one of a spot.
    A paged map and rays are counted by their own passes."""
    _, _, count, _, _ = section.slices
    far_reach, far_resolution = section.far
    far = far_resolution**2 if far_reach > 0 else 0
    total = 0
    for light in section.lights:
        if section.enabled and light.casts and light.technique == "cascades":
            edge = _edge(light, section)
            if light.kind == DIRECTIONAL:
                total += (count * edge**2 + far) * (2 if section.map_format == "unorm16" else 4)
            else:
                total += 4 * edge**2 * (6 if light.kind == POINT else 1)
    return max(int(total), 4)


def _rows(values: list[Any], width: int) -> np.ndarray:
    return np.array(values, np.float64).reshape(-1, width)


def _edge(light: LightState, section: ShadowSection) -> int:
    """Texels along each map of a light; a sun's far tier has its own."""
    return light.resolution or (section.slices[4] if light.kind == DIRECTIONAL else section.light_resolution)


def _maps_of(light: LightState, inputs: Values, section: ShadowSection) -> list[tuple[np.ndarray, np.ndarray]]:
    """(matrix, info row of `ShadowMaps`) of each map of a light."""
    geometry: Geometry = inputs["caster_geometry"]
    camera: Camera = inputs["camera"]
    result = []
    if light.kind == DIRECTIONAL:
        near_m, reach_m, count, blend, _ = section.slices
        resolution = _edge(light, section)
        far_reach, far_resolution = section.far
        slices = cascade_slices(
            near_m, reach_m, count, blend, resolution, camera.fov_y_rad, camera.aspect, far_reach, far_resolution,
            section.reach_by == "range",
        )  # fmt: skip
        for i, part in enumerate(slices):
            edge = resolution if i < count else far_resolution
            matrix, texel_m = sun_matrix(part, edge, camera, np.array(light.towards), geometry.scene_bounds, section)
            info = np.array([edge, part.near_m, part.far_m, texel_m, 0, 0], np.float64)
            result.append((matrix, info))
        return result
    edge = _edge(light, section)
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


def sun_matrix(
    part: Slice, edge: int, camera: Camera, towards: np.ndarray, bounds: tuple[np.ndarray, np.ndarray], section: ShadowSection
) -> tuple[np.ndarray, float]:
    """((4, 4) float64 world to clip of one cascade of edge x edge texels, its texel in m): its sphere across, or its outline as the sun
    sees it; the scene in depth, or its slice; moved by whole texels if it snaps."""
    axes = sun_axes(towards)
    corners = axes @ (np.array(camera.eye)[:, None] + _slice_corners(part, camera).T)
    centre, radius = axes @ (np.array(camera.eye) + camera.forward * part.centre_m), part.radius_m
    if section.fit == "tight":
        low, high = corners.min(axis=1), corners.max(axis=1)
        centre, radius = (low + high) / 2, float((high - low)[:2].max() / 2)
    texel = 2 * radius / edge
    if section.snap:
        centre[:2] = np.floor(centre[:2] / texel) * texel
    nearest, farthest = along_sun(towards, bounds)
    if section.depth_range != "scene":
        nearest, farthest = min(nearest, float(corners[2].max()) + 0.5), max(farthest, float(corners[2].min()) - 0.5)
    matrix = np.eye(4)
    matrix[0, :3], matrix[0, 3] = axes[0] / radius, -centre[0] / radius
    matrix[1, :3], matrix[1, 3] = axes[1] / radius, -centre[1] / radius
    matrix[2, :3], matrix[2, 3] = -axes[2] / (nearest - farthest), nearest / (nearest - farthest)
    return matrix, texel


def _slice_corners(part: Slice, camera: Camera) -> np.ndarray:
    """(8, 3) corners of a slice of the view frustum, from the eye."""
    t = math.tan(camera.fov_y_rad / 2)
    right, up, back = camera.axes
    depths = (part.starts_m, part.far_m)
    return np.array([z * (i * t * camera.aspect * right + j * t * up - back) for z in depths for i in (-1, 1) for j in (-1, 1)])


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


def _clamp_to_near(
    matrix: np.ndarray, depth: np.ndarray, inputs: Values, casters: np.ndarray, casts_both: np.ndarray, faces: Faces
) -> None:
    """What lies before the near end of a map stands at that end."""
    ahead = np.array(matrix)
    nearest, _ = along_sun(matrix[2, :3] * -1.0, inputs["caster_geometry"].scene_bounds)
    span = max(nearest * np.linalg.norm(matrix[2, :3]) - matrix[2, 3], 0.0) + 1.0  # in depths of this map
    ahead[2] = matrix[2] / span
    ahead[2, 3] += 1.0
    before = np.ones_like(depth)
    draw_map(ahead, before, inputs, casters, casts_both, faces)
    depth[before < 1.0] = 0.0


PASS = register(
    Pass(
        number=3,
        name="shadow",
        does="shadow depth of each casting light: sun cascades and far tier, cube or single maps",
        reads=("caster_geometry", "camera", "alpha_uv", "shadow_cutouts", "cascades_casters"),
        writes=("lights", "shadow_maps"),
        by_content=("lights",),
        section=section,
        other_bytes=map_bytes,
        run=run,
        off=(off_by_leaf("shadow.enabled", False, "shadows off"),),
    )
)
