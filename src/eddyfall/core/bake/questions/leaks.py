"""Texels that hold both sides of an occluder, over a whole lightmap: where, how far the wrong light reaches, how strong it is."""

from dataclasses import dataclass, replace

import numpy as np

from eddyfall.core.bake.light.gather import samples_of
from eddyfall.core.bake.light.jobs import job_of, receiver_footprint
from eddyfall.core.bake.light.light_scene import LitScene
from eddyfall.core.bake.questions.sides import blocked, lift_of, sides
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.receivers import Receiver, uv_of
from eddyfall.core.scene.setup.sections.bake import Bake
from eddyfall.core.shade.srgb import luminance
from eddyfall.core.uv.overlap import measure_overlap

CONTRAST = 1.1
LEAST_SHARE = 0.02
PROBES = 32  # each odd one lies half a texel away from the even one before it
SAMPLES = 64


@dataclass(frozen=True)
class Leak:
    """One occluder on one receiver. reaches in mm, from the occluder to the border of the mixed texel and to the next texel's centre (the
    largest over its texels); contrast: how much brighter the texel is than its dark side; texels (n,) page numbers; point and normal
    of the occluder's line; triangles that a cut along it adds."""

    occluder: str
    reach_nearest_mm: float
    reach_linear_mm: float
    contrast: float
    texels: np.ndarray
    point_m: np.ndarray
    normal: np.ndarray
    cut_triangles: int


def find_leaks(geometry: Geometry, receiver: Receiver, scenes: list[LitScene], bake: Bake) -> list[Leak]:
    """Leaks of a receiver, one for each occluder, as strong as they are in the worst of some light sets."""
    if not scenes:
        return []
    scene = scenes[0]
    owned, triangles = receiver_footprint(geometry, receiver)
    if not len(owned.texel):
        return []
    texel_m = texel_size_m(geometry, receiver, triangles)
    probe = job_of(receiver, owned, triangles, bake, samples=PROBES, bounces=0)
    places = samples_of(replace_lights(scene), probe)
    lift = lift_of(scene, texel_m)
    start = (places.place + places.facing * lift)[:, 0::2].reshape(-1, 3)
    end = (places.place + places.facing * lift)[:, 1::2].reshape(-1, 3)
    flat = (places.facing[:, 0::2] * places.facing[:, 1::2]).sum(axis=2).reshape(-1) > 0.99
    uv = receiver.page_uv(uv_of(geometry, receiver.uv_set)[geometry.triangles[triangles]])
    doubled = measure_overlap(uv, np.ones(len(uv)), receiver.resolution, as_is=receiver.wraps).collided
    alone = ~np.logical_or.reduceat(
        doubled[owned.triangle], owned.first[:-1]
    )  # where surfaces share texels, that is another fault
    seen = ~places.hidden
    flat &= (seen[:, 0::2] & seen[:, 1::2]).reshape(-1)
    suspect = (blocked(scene, start, end) & flat).reshape(len(owned.texel), -1).any(axis=1) & alone
    if not suspect.any():
        return []
    few = owned.only(suspect)
    lit = [samples_of(s, job_of(receiver, few, triangles, bake, samples=max(SAMPLES, bake.samples))) for s in scenes]
    got = lit[0]
    groups: dict[str, list[tuple[int, float, float, float, np.ndarray, np.ndarray]]] = {}
    for k in range(len(few.texel)):
        open_to = ~got.hidden[k]
        if open_to.sum() < 8:
            continue
        place, facing = got.place[k][open_to], got.facing[k][open_to]
        label = sides(scene, place, facing, texel_m)
        share = float((label != 0).mean())
        if share < LEAST_SHARE:
            continue
        mixed, inside, other = max(_mixed(luminance(found.light[k][open_to]), label) for found in lit)
        if mixed < CONTRAST:
            continue
        name, point, normal = _occluder(geometry, scene, place + facing * lift, label)
        if not name:
            continue
        border = float(point @ normal)
        dark_side = label == 0 if inside <= other else label != 0
        away = np.sign(float((place[dark_side] @ normal).mean()) - border)
        parts = slice(few.first[k], few.first[k + 1])
        corners = part_corners(geometry, receiver, few.uv[parts], triangles[few.triangle[parts]])
        reach = float(((corners @ normal - border) * away).max())
        step = half_texel_m(geometry, receiver, int(triangles[few.triangle[parts][0]]), normal)
        groups.setdefault(name, []).append((int(few.texel[k]), reach, reach + step, mixed, point, normal))
    return [_leak(name, rows, geometry, triangles) for name, rows in sorted(groups.items()) if len(rows) > 1 or rows[0][3] > 1.5]


def _mixed(y: np.ndarray, label: np.ndarray) -> tuple[float, float, float]:
    """(how much brighter a texel's mean is than its dark side, mean of the side with most of it, mean of the rest)."""
    inside, other = float(y[label == 0].mean()), float(y[label != 0].mean())
    # A black side has no ratio: a thousandth of the bright one stands for it.
    return float(y.mean()) / max(min(inside, other), 1e-3 * max(inside, other), 1e-12), inside, other


def _leak(
    name: str,
    rows: list[tuple[int, float, float, float, np.ndarray, np.ndarray]],
    geometry: Geometry,
    triangles: np.ndarray,
) -> Leak:
    worst = max(rows, key=lambda r: r[1])
    point, normal = worst[4], worst[5]
    corners = geometry.positions[geometry.triangles[triangles]].astype(np.float64)
    height = (corners - point) @ normal
    cut = ((height > 1e-6).any(axis=1) & (height < -1e-6).any(axis=1)).sum()
    return Leak(
        name,
        worst[1] * 1000,
        max(r[2] for r in rows) * 1000,
        max(r[3] for r in rows),
        np.array([r[0] for r in rows]),
        point,
        normal,
        int(cut) * 2,
    )


def _occluder(geometry: Geometry, scene: LitScene, place: np.ndarray, label: np.ndarray) -> tuple[str, np.ndarray, np.ndarray]:
    """(name, point on it, its normal) of what stands between the closest places of two sides."""
    a, b = place[label == 0], place[label != 0]
    i, j = np.unravel_index(int(((a[:, None] - b[None]) ** 2).sum(axis=2).argmin()), (len(a), len(b)))
    towards = b[j] - a[i]
    length = float(np.linalg.norm(towards))
    hit = scene.embree.run(
        a[i][None].astype(np.float32), (towards / length)[None].astype(np.float32), query="INTERSECT", output=True
    )
    if hit["primID"][0] < 0 or hit["tfar"][0] > length:
        return "", place[0], place[0]
    triangle = int(scene.prim[hit["primID"][0]])
    corners = geometry.positions[geometry.triangles[triangle]].astype(np.float64)
    normal = np.cross(corners[1] - corners[0], corners[2] - corners[0])
    normal /= max(float(np.linalg.norm(normal)), 1e-30)
    point = a[i] + towards / length * float(hit["tfar"][0])
    return geometry.drawables[geometry.owner[triangle]].name, point, normal


def part_corners(geometry: Geometry, receiver: Receiver, parts: np.ndarray, triangles: np.ndarray) -> np.ndarray:
    """(n, 3) world places of the corners of parts (s, 3, 2) in texels, on their world triangles (s,)."""
    result = []
    for part, triangle in zip(parts, triangles):
        index = geometry.triangles[triangle]
        p = geometry.positions[index].astype(np.float64)
        uv = receiver.page_uv(uv_of(geometry, receiver.uv_set)[index]) * receiver.resolution
        weights = np.linalg.solve(np.stack([uv[1] - uv[0], uv[2] - uv[0]], axis=1), (part - uv[0]).T)
        result.append(p[0] + weights.T @ np.stack([p[1] - p[0], p[2] - p[0]]))
    return np.concatenate(result)


def half_texel_m(geometry: Geometry, receiver: Receiver, triangle: int, across: np.ndarray) -> float:
    """Metres along a direction (3,) of half a texel of the page on a world triangle: bilinear look-ups reach on so far.

    Texels need not be square: dP/du and dP/dv solve the triangle's own edges, and a texel's extent along the direction is the length of
    both seen along it (plain linear algebra, derived)."""
    index = geometry.triangles[triangle]
    p = geometry.positions[index].astype(np.float64)
    uv = receiver.page_uv(uv_of(geometry, receiver.uv_set)[index]) * receiver.resolution
    steps = np.linalg.lstsq(uv[1:] - uv[0], p[1:] - p[0], rcond=None)[0]
    return float(np.linalg.norm(steps @ across) / 2)


def texel_size_m(geometry: Geometry, receiver: Receiver, triangles: np.ndarray) -> float:
    """Metres a texel spans, from the receiver's whole area on its page."""
    corners = geometry.positions[geometry.triangles[triangles]].astype(np.float64)
    uv = receiver.page_uv(uv_of(geometry, receiver.uv_set)[geometry.triangles[triangles]]) * receiver.resolution
    area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1).sum()
    d1, d2 = uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]
    texels = np.abs(d1[:, 0] * d2[:, 1] - d1[:, 1] * d2[:, 0]).sum()
    return float(np.sqrt(area / texels)) if texels > 0 else 1e-3


def replace_lights(scene: LitScene) -> LitScene:
    """The scene with no light on, for finding places only."""
    dark = replace(scene, light_names=(), _embree=None)
    scene.embree  # noqa: B018  (made once, shared)
    dark._embree = scene._embree
    return dark
