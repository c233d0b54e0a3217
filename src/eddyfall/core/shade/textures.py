"""Mip chains and texture sampling as graphics hardware does it (OpenGL ES 3.0, 3.8.10): 8-bit levels, trilinear, anisotropic."""

from typing import NamedTuple

import numpy as np
from numba import njit

from eddyfall.core.raster.rasterise import wrap
from eddyfall.core.scene.model import Image, Material, TextureUse
from eddyfall.core.shade.srgb import DECODE_TABLE, LINEAR_TABLE, encode

WRAPS = {"repeat": 0, "mirror": 1, "clamp": 2}


class TextureStore(NamedTuple):
    """All textures of a build. texels (n, 4) uint8; levels (l, 3) int64 offset, width, height; slots (s, 7) int32: first
    level, number of levels, wrap u, wrap v, nearest, uv set, colour (1) or data (0); tables (2, 256) float32 decode."""

    texels: np.ndarray
    levels: np.ndarray
    slots: np.ndarray
    tables: np.ndarray


def mip_chain(pixels: np.ndarray, colour: bool) -> list[np.ndarray]:
    """All levels of uint8 (h, w, 4), floor halving, 2x2 box; colours average in linear light and are stored as sRGB again."""
    chain = [pixels]
    while max(chain[-1].shape[:2]) > 1:
        chain.append(_halved(chain[-1], colour))
    return chain


def _halved(level: np.ndarray, colour: bool) -> np.ndarray:
    h, w = level.shape[:2]
    rows = level[: max(h // 2 * 2, 1)]
    both = rows[:, : max(w // 2 * 2, 1)]
    table = DECODE_TABLE if colour else LINEAR_TABLE
    rgb, alpha = table[both[..., :3]], LINEAR_TABLE[both[..., 3:]]
    values = np.concatenate([rgb, alpha], axis=2)
    if values.shape[0] > 1:
        values = (values[0::2] + values[1::2]) * np.float32(0.5)
    if values.shape[1] > 1:
        values = (values[:, 0::2] + values[:, 1::2]) * np.float32(0.5)
    if colour:
        values[..., :3] = _encode_fast(values[..., :3])
    return (values * 255.0 + 0.5).astype(np.uint8)


_ENCODE_STEPS = 1 << 14
_ENCODE_TABLE = encode(np.arange(_ENCODE_STEPS + 1) / _ENCODE_STEPS).astype(np.float32)


def _encode_fast(light: np.ndarray) -> np.ndarray:
    small = light < 0.01
    table = _ENCODE_TABLE[(light * _ENCODE_STEPS + 0.5).astype(np.int32)]
    if small.any():
        table[small] = encode(light[small])
    return table


def build_store(images: tuple[Image, ...], materials: tuple[Material, ...], mips: bool) -> tuple[TextureStore, np.ndarray]:
    """The store, and (materials + 1, 4) int32 slots of base, metallic-roughness, normal, emissive (-1: none); last row: default."""
    slots: list[tuple[int, ...]] = []
    known: dict[tuple[TextureUse, bool], int] = {}
    chains: dict[tuple[int, bool], tuple[int, int]] = {}
    levels: list[tuple[int, int, int]] = []
    texels: list[np.ndarray] = []
    offset = 0
    table = np.full((len(materials) + 1, 4), -1, np.int32)
    for m, material in enumerate(materials):
        uses = (material.base_texture, material.metallic_roughness_texture, material.normal_texture, material.emissive_texture)
        for column, use in enumerate(uses):
            if use is None:
                continue
            colour = column in (0, 3)
            if (use, colour) not in known:
                if (use.image, colour) not in chains:
                    pixels = images[use.image].pixels
                    chain = mip_chain(pixels, colour) if mips else [pixels]
                    chains[use.image, colour] = (len(levels), len(chain))
                    for level in chain:
                        levels.append((offset, level.shape[1], level.shape[0]))
                        texels.append(level.reshape(-1, 4))
                        offset += level.shape[0] * level.shape[1]
                first, count = chains[use.image, colour]
                known[use, colour] = len(slots)
                slots.append((first, count, WRAPS[use.wrap_u], WRAPS[use.wrap_v], int(use.nearest), use.uv_set, int(colour)))
            table[m, column] = known[use, colour]
    store = TextureStore(
        np.concatenate(texels) if texels else np.zeros((1, 4), np.uint8),
        np.array(levels or [(0, 1, 1)], np.int64),
        np.array(slots or [(0, 1, 0, 0, 0, 0, 0)], np.int32),
        np.stack([LINEAR_TABLE, DECODE_TABLE]),
    )
    return store, table


@njit(cache=True)
def _bilinear(u, v, slot, level, tables, texels):
    offset, w, h = level[0], level[1], level[2]
    table = tables[slot[6]]
    x, y = u * w - 0.5, v * h - 0.5
    if slot[4] == 1:
        t = texels[offset + wrap(int(np.floor(y + 0.5)), h, slot[3]) * w + wrap(int(np.floor(x + 0.5)), w, slot[2])]
        return float(table[t[0]]), float(table[t[1]]), float(table[t[2]]), t[3] / 255.0
    xf, yf = np.floor(x), np.floor(y)
    fx, fy = x - xf, y - yf
    xa, xb = wrap(int(xf), w, slot[2]), wrap(int(xf) + 1, w, slot[2])
    ya, yb = wrap(int(yf), h, slot[3]), wrap(int(yf) + 1, h, slot[3])
    a, b = texels[offset + ya * w + xa], texels[offset + ya * w + xb]
    c, d = texels[offset + yb * w + xa], texels[offset + yb * w + xb]
    wa, wb, wc, wd = (1.0 - fx) * (1.0 - fy), fx * (1.0 - fy), (1.0 - fx) * fy, fx * fy
    red = table[a[0]] * wa + table[b[0]] * wb + table[c[0]] * wc + table[d[0]] * wd
    green = table[a[1]] * wa + table[b[1]] * wb + table[c[1]] * wc + table[d[1]] * wd
    blue = table[a[2]] * wa + table[b[2]] * wb + table[c[2]] * wc + table[d[2]] * wd
    return red, green, blue, (a[3] * wa + b[3] * wb + c[3] * wc + d[3] * wd) / 255.0


@njit(cache=True)
def mip_level(ux, vx, uy, vy, slot, levels, bias, most_taps):
    """(level, taps, tap step u, v): N = min(ceil(Pmax / Pmin), most_taps), level = log2(Pmax / N) + bias
    (EXT_texture_filter_anisotropic; CHECKS T12). ux .. vy: uv change for one pixel right and one down."""
    w, h = levels[slot[0], 1], levels[slot[0], 2]
    px = np.sqrt((ux * w) ** 2 + (vx * h) ** 2)
    py = np.sqrt((uy * w) ** 2 + (vy * h) ** 2)
    long, short = (px, py) if px > py else (py, px)
    su, sv = (ux, vx) if px > py else (uy, vy)
    taps = 1
    if most_taps > 1 and short > 0.0:
        taps = int(min(np.ceil(long / short - 1e-9), float(most_taps)))
    elif most_taps > 1 and long > 1.0:
        taps = most_taps
    taps = max(taps, 1)
    return np.log2(max(long / taps, 1e-9)) + bias, taps, su, sv


@njit(cache=True)
def sample(u, v, ux, vx, uy, vy, slot, levels, tables, texels, bias, most_taps):
    """Filtered rgba (linear) of one texture at (u, v) with its pixel footprint."""
    level, taps, su, sv = mip_level(ux, vx, uy, vy, slot, levels, bias, most_taps)
    level = min(max(level, 0.0), float(slot[1] - 1))
    base = int(level)
    part = level - base
    r = g = b = a = 0.0
    for tap in range(taps):
        shift = (tap + 0.5) / taps - 0.5
        r0, g0, b0, a0 = _bilinear(u + su * shift, v + sv * shift, slot, levels[slot[0] + base], tables, texels)
        if part > 0.0:
            r1, g1, b1, a1 = _bilinear(u + su * shift, v + sv * shift, slot, levels[slot[0] + base + 1], tables, texels)
            r0 += part * (r1 - r0)
            g0 += part * (g1 - g0)
            b0 += part * (b1 - b0)
            a0 += part * (a1 - a0)
        r += r0
        g += g0
        b += b0
        a += a0
    return r / taps, g / taps, b / taps, a / taps


def sample_plain(
    store: TextureStore, slot: int, uv: np.ndarray, duv_dx: np.ndarray, duv_dy: np.ndarray, bias: float, most_taps: int
) -> tuple[np.ndarray, float]:
    """Plain twin of `sample`: (rgba (4,), mip level). uv and its derivatives are (2,)."""
    s = store.slots[slot]
    size = store.levels[s[0], 1:3].astype(float)
    px, py = np.linalg.norm(duv_dx * size), np.linalg.norm(duv_dy * size)
    step = duv_dx if px > py else duv_dy
    long, short = max(px, py), min(px, py)
    taps = 1
    if most_taps > 1:
        taps = int(min(np.ceil(long / short - 1e-9), most_taps)) if short > 0 else (most_taps if long > 1 else 1)
    taps = max(taps, 1)
    level = min(max(np.log2(max(long / taps, 1e-9)) + bias, 0.0), s[1] - 1)
    total = np.zeros(4)
    for tap in range(taps):
        at = uv + step * ((tap + 0.5) / taps - 0.5)
        low = _bilinear_plain(store, s, at, int(level))
        part = level - int(level)
        total += low if part == 0 else low + part * (_bilinear_plain(store, s, at, int(level) + 1) - low)
    return total / taps, float(level)


def _bilinear_plain(store: TextureStore, slot: np.ndarray, uv: np.ndarray, level: int) -> np.ndarray:
    offset, w, h = (int(v) for v in store.levels[slot[0] + level])
    texels = store.texels[offset : offset + w * h].reshape(h, w, 4)
    linear = np.concatenate([store.tables[slot[6]][texels[..., :3]], texels[..., 3:] / 255.0], axis=2)
    xy = uv * np.array([w, h]) - 0.5

    def at(x: int, y: int) -> np.ndarray:
        return linear[wrap(y, h, slot[3]), wrap(x, w, slot[2])]

    if slot[4]:
        return at(int(np.floor(xy[0] + 0.5)), int(np.floor(xy[1] + 0.5)))
    (x, y), (fx, fy) = np.floor(xy).astype(int), xy - np.floor(xy)
    top = at(x, y) * (1 - fx) + at(x + 1, y) * fx
    return top * (1 - fy) + (at(x, y + 1) * (1 - fx) + at(x + 1, y + 1) * fx) * fy
