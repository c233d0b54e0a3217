"""Mip chains and texture sampling as graphics hardware does it (OpenGL ES 3.0, 3.8.10): 8-bit levels, trilinear, anisotropic."""

import math
import threading
import weakref
from collections import OrderedDict
from typing import NamedTuple

import numpy as np

from eddyfall.core.kernel import light_helper
from eddyfall.core.raster.rasterise import neighbours, wrap
from eddyfall.core.scene.model import STRAIGHT, Image, Material, TextureUse, Turn, turned_by
from eddyfall.core.shade.alpha_forms import AS_IT_IS, Form, stored_as
from eddyfall.core.shade.srgb import DECODE_TABLE, LINEAR_TABLE, encode

WRAPS = {"repeat": 0, "mirror": 1, "clamp": 2}
ROUND = 1e-4  # of the ratio of a footprint's sides: what float32 corners leave of a square one is no reason for another tap
DECODING = (LINEAR_TABLE, DECODE_TABLE, DECODE_TABLE)  # of data, of colour, of colour that is divided
DIVIDED = 2  # what a slot holds: colours multiplied by alpha, divided by it when they are looked up


class TextureStore(NamedTuple):
    """All textures of a build. texels (n, 4) uint8; levels (l, 3) int64 offset, width, height; slots (s, 8) int32: first
    level, number of levels, wrap u, wrap v, nearest, uv set, colour (1), data (0) or colour that is divided by alpha (2), row of `tables`
    with what is done to its coordinates first (0: nothing); tables (3 + t, 256) float32: decoding, then six numbers each, as
    `TextureUse.turn` has them."""

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


CHAINS_BYTES = 128 << 20  # of mip chains that are kept, so that another way to draw one picture leaves the others as they are
_chains: "OrderedDict[tuple[int, bool, bool, Form], tuple[weakref.ref[Image], list[np.ndarray]]]" = OrderedDict()
_chains_lock = threading.Lock()


def kept_chain(image: Image, colour: bool, mips: bool, form: Form) -> list[np.ndarray]:
    """`mip_chain` of an image as a form stores it (without mips: its finest level), remembered for as long as the image lives and there is
    room; not to be written to."""
    key = (id(image), colour, mips, form)
    with _chains_lock:
        known = _chains.get(key)
        if known is not None and known[0]() is image:
            _chains.move_to_end(key)
            return known[1]
    pixels = stored_as(image.pixels, form)
    chain = mip_chain(pixels, colour) if mips else [pixels]
    with _chains_lock:
        _chains[key] = weakref.ref(image), chain
        room = CHAINS_BYTES - sum(level.nbytes for of, made in _chains.values() if of() is not None for level in made)
        for old in [k for k, (of, _) in _chains.items() if of() is None]:
            del _chains[old]
        while room < 0 and _chains:
            room += sum(level.nbytes for level in _chains.popitem(last=False)[1][1])
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


def build_store(
    images: tuple[Image, ...], materials: tuple[Material, ...], mips: bool, forms: tuple[Form, ...] = ()
) -> tuple[TextureStore, np.ndarray]:
    """The store, and (materials + 1, 7) int32 slots of base, metallic-roughness, normal, emissive, occlusion, transmission,
    thickness (-1: none); default last. forms: by material, how its base picture is stored; none: as it is."""
    slots: list[tuple[int, ...]] = []
    known: dict[tuple[TextureUse, bool, Form], int] = {}
    chains: dict[tuple[int, bool, Form], tuple[int, int]] = {}
    levels: list[tuple[int, int, int]] = []
    texels: list[np.ndarray] = []
    turns: dict[Turn, int] = {}
    offset = 0
    table = np.full((len(materials) + 1, 7), -1, np.int32)
    for m, material in enumerate(materials):
        for column, use in enumerate(material.uses.values()):
            if use is None:
                continue
            colour = column in (0, 3)
            form = forms[m] if forms and column == 0 else AS_IT_IS
            if (use, colour, form) not in known:
                if (use.image, colour, form) not in chains:
                    chain = kept_chain(images[use.image], colour, mips, form)
                    chains[use.image, colour, form] = (len(levels), len(chain))
                    for level in chain:
                        levels.append((offset, level.shape[1], level.shape[0]))
                        texels.append(level.reshape(-1, 4))
                        offset += level.shape[0] * level.shape[1]
                first, count = chains[use.image, colour, form]
                known[use, colour, form] = len(slots)
                kind = DIVIDED if form.divided else int(colour)
                row = 0
                if use.turn != STRAIGHT:
                    row = turns.setdefault(use.turn, len(DECODING) + len(turns))
                slots.append((first, count, WRAPS[use.wrap_u], WRAPS[use.wrap_v], int(use.nearest), use.uv_set, kind, row))
            table[m, column] = known[use, colour, form]
    store = TextureStore(
        np.concatenate(texels) if texels else np.zeros((1, 4), np.uint8),
        np.array(levels or [(0, 1, 1)], np.int64),
        np.array(slots or [(0, 1, 0, 0, 0, 0, 0, 0)], np.int32),
        np.stack([*DECODING, *(np.pad(np.array(turn, np.float32), (0, 250)) for turn in turns)]),
    )
    return store, table


@light_helper
def _bilinear(u, v, slots, s, offset, w, h, tables, texels):
    """Rgba of one level at (u, v). Scalars only: a row view would cost a reference count for each texel."""
    d = slots[s, 6]
    if slots[s, 4] == 1:
        i = offset + wrap(int(np.floor(v * h)), h, slots[s, 3]) * w + wrap(int(np.floor(u * w)), w, slots[s, 2])
        return (
            np.float64(tables[d, texels[i, 0]]), np.float64(tables[d, texels[i, 1]]), np.float64(tables[d, texels[i, 2]]),
            texels[i, 3] / 255.0,
        )  # fmt: skip
    xa, xb, fx = neighbours(u, w, slots[s, 2])
    ya, yb, fy = neighbours(v, h, slots[s, 3])
    ya, yb = offset + ya * w, offset + yb * w
    wa, wb, wc, wd = (1.0 - fx) * (1.0 - fy), fx * (1.0 - fy), (1.0 - fx) * fy, fx * fy
    a, b, c, e = ya + xa, ya + xb, yb + xa, yb + xb
    red = (
        tables[d, texels[a, 0]] * wa + tables[d, texels[b, 0]] * wb + tables[d, texels[c, 0]] * wc + tables[d, texels[e, 0]] * wd
    )
    green = (
        tables[d, texels[a, 1]] * wa + tables[d, texels[b, 1]] * wb + tables[d, texels[c, 1]] * wc + tables[d, texels[e, 1]] * wd
    )
    blue = (
        tables[d, texels[a, 2]] * wa + tables[d, texels[b, 2]] * wb + tables[d, texels[c, 2]] * wc + tables[d, texels[e, 2]] * wd
    )
    return red, green, blue, (texels[a, 3] * wa + texels[b, 3] * wb + texels[c, 3] * wc + texels[e, 3] * wd) / 255.0


@light_helper
def mip_level(ux, vx, uy, vy, w, h, bias, most_taps):
    """(level, taps, tap step u, v): N = min(ceil(Pmax / Pmin), most_taps), level = log2(Pmax / N) + bias
    (EXT_texture_filter_anisotropic). ux .. vy: uv change for one pixel right and one down; w, h: base size in texels."""
    px = np.sqrt((ux * w) ** 2 + (vx * h) ** 2)
    py = np.sqrt((uy * w) ** 2 + (vy * h) ** 2)
    long, short = (px, py) if px > py else (py, px)
    su, sv = (ux, vx) if px > py else (uy, vy)
    taps = 1
    if most_taps > 1 and long > 1.0:
        taps = most_taps
        if short * most_taps > long:
            taps = int(np.ceil(long / short - ROUND))
    taps = max(taps, 1)
    return np.log2(max(long / taps, 1e-9)) + bias, taps, su, sv


@light_helper
def turned(u, v, slots, s, tables):
    """Coordinates at which the picture of slot s is read."""
    row = slots[s, 7]
    if row == 0:
        return u, v
    return (
        tables[row, 0] * np.float64(u) + tables[row, 1] * np.float64(v) + tables[row, 2],
        tables[row, 3] * np.float64(u) + tables[row, 4] * np.float64(v) + tables[row, 5],
    )


@light_helper
def turned_way(u, v, slots, s, tables):
    """The same of a difference of coordinates."""
    row = slots[s, 7]
    if row == 0:
        return u, v
    return (
        tables[row, 0] * np.float64(u) + tables[row, 1] * np.float64(v),
        tables[row, 3] * np.float64(u) + tables[row, 4] * np.float64(v),
    )


@light_helper
def sample(u, v, ux, vx, uy, vy, slots, s, levels, tables, texels, bias, most_taps):
    """Filtered rgba (linear) of texture slot s at (u, v) with its pixel footprint."""
    if slots[s, 7] > 0:
        u, v = turned(u, v, slots, s, tables)
        ux, vx = turned_way(ux, vx, slots, s, tables)
        uy, vy = turned_way(uy, vy, slots, s, tables)
    return sample_at(u, v, ux, vx, uy, vy, slots, s, levels, tables, texels, bias, most_taps)


@light_helper
def sample_at(u, v, ux, vx, uy, vy, slots, s, levels, tables, texels, bias, most_taps):
    """The same at coordinates of the picture itself."""
    first = slots[s, 0]
    level, taps, su, sv = mip_level(ux, vx, uy, vy, levels[first, 1], levels[first, 2], bias, most_taps)
    level = min(max(level, 0.0), float(slots[s, 1] - 1))
    base = int(level)
    part = level - base
    low = first + base
    r = g = b = a = 0.0
    for tap in range(taps):
        shift = (tap + 0.5) / taps - 0.5
        tu, tv = u + su * shift, v + sv * shift
        r0, g0, b0, a0 = _bilinear(tu, tv, slots, s, levels[low, 0], levels[low, 1], levels[low, 2], tables, texels)
        if part > 0.0:
            r1, g1, b1, a1 = _bilinear(
                tu, tv, slots, s, levels[low + 1, 0], levels[low + 1, 1], levels[low + 1, 2], tables, texels
            )
            r0 += part * (r1 - r0)
            g0 += part * (g1 - g0)
            b0 += part * (b1 - b0)
            a0 += part * (a1 - a0)
        r += r0
        g += g0
        b += b0
        a += a0
    if slots[s, 6] == DIVIDED:
        over = 1.0 / a if a > 0.0 else 0.0
        return r * over, g * over, b * over, a / taps
    return r / taps, g / taps, b / taps, a / taps


def sample_plain(
    store: TextureStore, slot: int, uv: np.ndarray, duv_dx: np.ndarray, duv_dy: np.ndarray, bias: float, most_taps: int
) -> tuple[np.ndarray, float]:
    """Plain twin of `sample`: (rgba (4,), mip level). uv and its derivatives are (2,)."""
    s = store.slots[slot]
    if s[7]:
        origin, at, right, down = turned_by(store.tables[s[7], :6], np.array([np.zeros(2), uv, duv_dx, duv_dy], float))
        uv, duv_dx, duv_dy = at, right - origin, down - origin
    size = store.levels[s[0], 1:3].astype(float)
    px, py = np.linalg.norm(duv_dx * size), np.linalg.norm(duv_dy * size)
    step = duv_dx if px > py else duv_dy
    long, short = max(px, py), min(px, py)
    taps = 1
    if most_taps > 1 and long > 1:
        taps = max(min(math.ceil(float(long / short) - ROUND), most_taps), 1) if short > 0 else most_taps
    level = min(max(float(np.log2(max(float(long) / taps, 1e-9))) + bias, 0.0), float(s[1] - 1))
    total = np.zeros(4)
    for tap in range(taps):
        at = uv + step * ((tap + 0.5) / taps - 0.5)
        low = _bilinear_plain(store, s, at, int(level))
        part = level - int(level)
        total += low if part == 0 else low + part * (_bilinear_plain(store, s, at, int(level) + 1) - low)
    total /= taps
    if s[6] == DIVIDED:
        total[:3] = total[:3] / total[3] if total[3] > 0 else 0.0
    return total, float(level)


def _bilinear_plain(store: TextureStore, slot: np.ndarray, uv: np.ndarray, level: int) -> np.ndarray:
    offset, w, h = (int(v) for v in store.levels[slot[0] + level])
    texels = store.texels[offset : offset + w * h].reshape(h, w, 4)
    linear = np.concatenate([store.tables[slot[6]][texels[..., :3]], texels[..., 3:] / 255.0], axis=2)
    xy = uv * np.array([w, h]) - 0.5

    def at(x: int, y: int) -> np.ndarray:
        return linear[wrap(y, h, slot[3]), wrap(x, w, slot[2])]

    if slot[4]:
        return np.asarray(at(*np.floor(uv * np.array([w, h])).astype(int)))
    (x, y), (fx, fy) = np.floor(xy).astype(int), xy - np.floor(xy)
    top = at(x, y) * (1 - fx) + at(x + 1, y) * fx
    return top * (1 - fy) + (at(x, y + 1) * (1 - fx) + at(x + 1, y + 1) * fx) * fy
