"""What a light's shadow maps hold where surfaces look them up: depths, gaps in metres, and the ray of each texel's centre."""

from dataclasses import dataclass

import numpy as np

from eddyfall.core.shade.lights import DIRECTIONAL, Lights, incoming_all
from eddyfall.core.shade.shadow_maps import (
    ALONG_NORMAL,
    CONSTANT_M,
    EDGE,
    FAR_M,
    NEAR_M,
    OVER,
    PAGE,
    PAGED,
    PAGED_MAP,
    PAGES_X,
    PAGES_Y,
    PERSPECTIVE,
    START,
    TABLE,
    TEXEL_M,
    ShadowMaps,
)
from eddyfall.core.truth.surfaces import Surfaces


@dataclass(frozen=True)
class Reading:
    """n surfaces and the t texels of the filter of each. k (n,): map that serves it, -1 none; texel_m, shift_m (n,): size of a texel there
    and how far the look-up moves the surface along its normal.

    blocks (n, t): the texel's depth darkens the surface. before_m (n, t): how far before the surface's own plane that depth stands, along
    the ray of the texel's centre; -inf where the texel holds nothing or lies outside. start, along (n, t, 3): that ray, from the near
    end of the map away from the light. room_m (n,): way from the surface to the map's near end."""

    k: np.ndarray
    texel_m: np.ndarray
    shift_m: np.ndarray
    blocks: np.ndarray
    before_m: np.ndarray
    start: np.ndarray
    along: np.ndarray
    room_m: np.ndarray


def serving_map(surfaces: Surfaces, light: int, lights: Lights, maps: ShadowMaps) -> np.ndarray:
    """(n,) number of the map that serves each surface; -1: none does."""
    n, first, count = len(surfaces), int(lights.first_map[light]), int(lights.maps[light])
    if not count:
        return np.full(n, -1)
    if lights.technique[light] == PAGED:
        return _paged_level(surfaces, first, count, maps)
    if lights.kind[light] == DIRECTIONAL:
        depth = surfaces.range_m if maps.by_range else surfaces.depth_m
        info = maps.info[first : first + count]
        inside = (info[None, :, NEAR_M] <= depth[:, None]) & (depth[:, None] < info[None, :, FAR_M])
        return np.where(inside.any(axis=1), first + inside.argmax(axis=1), -1)
    if count == 1:
        return np.full(n, first)
    away = surfaces.place - lights.place[light]
    axis = np.abs(away).argmax(axis=1)
    return np.asarray(first + 2 * axis + (np.take_along_axis(away, axis[:, None], 1)[:, 0] <= 0))


def _paged_level(surfaces: Surfaces, first: int, count: int, maps: ShadowMaps) -> np.ndarray:
    """(n,) the level for each surface's range, or the finest coarser one whose page is there; -1: none."""
    wanted = np.maximum(maps.pixel_m * surfaces.range_m, 1e-12) / maps.info[first, TEXEL_M]
    k = first + np.clip(np.floor(np.log2(wanted) + 0.5).astype(int), 0, count - 1)
    open_ones = np.arange(len(surfaces))
    place = np.concatenate([surfaces.place, np.ones((len(surfaces), 1))], axis=1)
    while len(open_ones):
        for number in np.unique(k[open_ones]):
            at = open_ones[k[open_ones] == number]
            texel = np.floor(place[at] @ maps.matrix[number, :2].T).astype(int)
            missing = _page_texels(int(number), texel[:, 0], texel[:, 1], maps) < 0
            k[at[missing]] += 1
            open_ones = np.setdiff1d(open_ones, at[~missing])
        open_ones = open_ones[k[open_ones] < first + count]
    return np.where(k < first + count, k, -1)


def _page_texels(k: int, column: np.ndarray, row: np.ndarray, maps: ShadowMaps) -> np.ndarray:
    """Plain twin of `page_texel` for arrays of any shape."""
    nx, ny = int(maps.pages[k, PAGES_X]), int(maps.pages[k, PAGES_Y])
    inside = (column >= 0) & (row >= 0) & (column < nx * PAGE) & (row < ny * PAGE)
    px, py = np.where(inside, column // PAGE, 0), np.where(inside, row // PAGE, 0)
    slot = maps.table[int(maps.pages[k, TABLE]) + py * nx + px]
    where = int(maps.info[k, START]) + slot.astype(np.int64) * PAGE * PAGE + (row - py * PAGE) * PAGE + (column - px * PAGE)
    return np.where(inside & (slot >= 0), where, -1)


def read_maps(surfaces: Surfaces, light: int, lights: Lights, maps: ShadowMaps, moved: bool = True) -> Reading:
    """What the maps of a light hold for each surface, moved by the bias and for the filter as the look-up does, or where it is."""
    side = int(maps.filter_px[light])
    n, t = len(surfaces), side * side
    k = serving_map(surfaces, light, lights, maps)
    towards, distance = incoming_all(light, surfaces.place, lights)
    facing = np.einsum("nk,nk->n", surfaces.normal, towards)
    slant = np.sqrt(np.maximum(1 - facing * facing, 0)) + maps.bias[light, OVER]
    scale = np.ones(n) if lights.kind[light] == DIRECTIONAL else distance
    texel = np.where(k >= 0, maps.info[np.maximum(k, 0), TEXEL_M] if len(maps.info) else 0.0, 0.0) * scale
    shift = texel * maps.bias[light, ALONG_NORMAL] * slant * moved
    out = Reading(
        k.copy(),
        texel,
        shift,
        np.zeros((n, t), bool),
        np.full((n, t), -np.inf),
        np.zeros((n, t, 3)),
        np.zeros((n, t, 3)),
        np.full(n, np.inf),
    )
    for number in np.unique(k[k >= 0]):
        at = np.flatnonzero(k == number)
        _read(out, at, surfaces.of(at), int(number), shift[at], light, lights, maps)
    return out


def _read(
    out: Reading, at: np.ndarray, s: Surfaces, k: int, shift: np.ndarray, light: int, lights: Lights, maps: ShadowMaps
) -> None:
    """Fill in the rows `at` from map k."""
    m, info = maps.matrix[k], maps.info[k]
    paged = bool(maps.pages[k, PAGED_MAP])
    moved = s.place + s.normal * shift[:, None]
    clip = np.concatenate([moved, np.ones((len(s), 1))], axis=1) @ m.T
    edge = int(info[EDGE])
    d = clip[:, 2] / clip[:, 3]
    if paged:
        u, v = clip[:, 0], clip[:, 1]
    else:
        u, v = (clip[:, 0] / clip[:, 3] * 0.5 + 0.5) * edge, (0.5 - clip[:, 1] / clip[:, 3] * 0.5) * edge
    side = int(maps.filter_px[light])
    steps = np.arange(side) - side // 2
    across, down = np.tile(steps, side), np.repeat(steps, side)
    column, row = np.floor(u).astype(int)[:, None] + across, np.floor(v).astype(int)[:, None] + down
    if info[PERSPECTIVE] > 0:
        column, row = np.clip(column, 0, edge - 1), np.clip(row, 0, edge - 1)
    if paged:
        where = _page_texels(k, column, row, maps)
        inside = where >= 0
        cx, cy = column + 0.5, row + 0.5
    else:
        inside = (column >= 0) & (row >= 0) & (column < edge) & (row < edge)
        where = int(info[START]) + row * edge + column
        cx, cy = (column + 0.5) / edge * 2 - 1, 1 - (row + 0.5) / edge * 2
    stored = maps.pool if paged else maps.depth
    held = np.where(inside, stored[np.where(inside, where, 0)], np.float32(1.0)).astype(np.float64)
    inverse = np.linalg.inv(m)
    here, gap, bias = _behind(s, moved, d, held, (across, down), k, light, lights, maps, inverse)
    darker = (bias == 0)[:, None] | (gap > bias[:, None])
    out.blocks[at] = inside & (here > held) & darker & (clip[:, 3] > 0)[:, None]
    near, beyond = (_unprojected(inverse, cx, cy, np.full(cx.shape, z)) for z in (0.0, 0.5))
    along = beyond - near
    along /= np.linalg.norm(along, axis=2, keepdims=True)
    with np.errstate(divide="ignore", invalid="ignore"):
        stands = np.einsum("ntk,ntk->nt", _unprojected(inverse, cx, cy, held) - near, along)
        falls = np.einsum("nk,ntk->nt", s.face, along)
        plane = np.einsum("ntk,nk->nt", s.place[:, None] - near, s.face) / falls
    something = inside & (held < 1.0) & np.isfinite(stands) & np.isfinite(plane)
    out.before_m[at] = np.where(something, plane - np.where(something, stands, 0.0), -np.inf)
    out.start[at], out.along[at] = near, along
    middle = side // 2 * (side + 1)
    out.room_m[at] = np.einsum("nk,nk->n", s.place - near[:, middle], along[:, middle])


def _behind(
    s: Surfaces,
    moved: np.ndarray,
    d: np.ndarray,
    held: np.ndarray,
    steps: tuple[np.ndarray, np.ndarray],
    k: int,
    light: int,
    lights: Lights,
    maps: ShadowMaps,
    inverse: np.ndarray,
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """(d (n, t) that each texel is held against, gap (n, t) behind it and bias (n,), both in m along the light): plain twin of what
    `map_visibility` reckons with. steps: columns and rows (t,) of the filter's texels off the middle."""
    _, slope, _, _, along_plane = maps.bias[light]
    perspective, paged = maps.info[k, PERSPECTIVE] > 0, bool(maps.pages[k, PAGED_MAP])
    plane = np.concatenate([s.face, -np.einsum("nk,nk->n", s.face, moved)[:, None]], axis=1) @ inverse
    with np.errstate(divide="ignore", invalid="ignore"):
        du, dv = -plane[:, 0] / plane[:, 2], -plane[:, 1] / plane[:, 2]
    if not paged:
        du, dv = du * 2 / maps.info[k, EDGE], -dv * 2 / maps.info[k, EDGE]
    metres = np.full(len(s), 1 / np.linalg.norm(maps.matrix[k, 2, :3]))
    if perspective:
        metres = np.linalg.norm(moved - lights.place[light], axis=1)
    here = np.repeat(d[:, None], held.shape[1], axis=1)
    if along_plane:
        here = here + steps[0] * du[:, None] + steps[1] * dv[:, None]
    with np.errstate(divide="ignore", invalid="ignore"):
        gap = (here - held) * metres[:, None] / (1 - held if perspective else 1.0)
        deeper = np.maximum(np.abs(du), np.abs(dv)) * metres / (1 - d if perspective else 1.0)
    bias = maps.bias[light, CONSTANT_M] + (slope * deeper if slope > 0 else np.zeros(len(s)))
    return here, gap, bias


def _unprojected(inverse: np.ndarray, x: np.ndarray, y: np.ndarray, z: np.ndarray) -> np.ndarray:
    """(n, t, 3) world places of clip coordinates."""
    with np.errstate(divide="ignore", invalid="ignore"):
        p = np.stack([x, y, z, np.ones(x.shape)], axis=-1) @ inverse.T
        return np.asarray(p[..., :3] / p[..., 3:])


def own_tolerance_m(reading: Reading, facing: np.ndarray, maps: ShadowMaps, span_m: float) -> np.ndarray:
    """(n,) metres within which a map's depth is the surface's own: float32 depth over the scene, corners snapped to 1/256 texel on the
    slope. facing (n,): cosine between face and light; span_m: depth of the scene along it."""
    slope = np.sqrt(np.maximum(1 - facing**2, 0)) / np.maximum(facing, 1e-3)
    return np.asarray(1e-4 + span_m * 4e-7 + reading.texel_m * slope / 64)
