"""CIEDE2000 between two 8-bit sRGB pictures (Sharma, Wu & Dalal 2005; Lab of CIE 15, D65 white of the sRGB primaries)."""

import math

import numpy as np
from numba import njit, prange

from eddyfall.core.kernel import helper
from eddyfall.core.shade.srgb import DECODE_TABLE

# sRGB to XYZ from the BT.709 primaries and D65 (0.3127, 0.3290), rows divided by the white point.
VISIBLE_DIFFERENCE = 2.0  # between two pixels seen one after the other; common practice, no source
_PRIMARIES = np.array([[0.64, 0.33, 0.03], [0.30, 0.60, 0.10], [0.15, 0.06, 0.79]])
_WHITE = np.array([0.3127, 0.3290, 1 - 0.3127 - 0.3290]) / 0.3290
_TO_XYZ = (_PRIMARIES / _PRIMARIES[:, 1:2]).T
_TO_XYZ = _TO_XYZ * np.linalg.solve(_TO_XYZ, _WHITE)
TO_RELATIVE_XYZ = np.ascontiguousarray(_TO_XYZ / _WHITE[:, None])


@helper
def _f(t):
    return t ** (1.0 / 3.0) if t > 216.0 / 24389.0 else (24389.0 / 27.0 * t + 16.0) / 116.0


@helper
def lab_of(r, g, b, matrix, table):
    """CIE Lab of sRGB bytes."""
    lr, lg, lb = table[r], table[g], table[b]
    x = _f(matrix[0, 0] * lr + matrix[0, 1] * lg + matrix[0, 2] * lb)
    y = _f(matrix[1, 0] * lr + matrix[1, 1] * lg + matrix[1, 2] * lb)
    z = _f(matrix[2, 0] * lr + matrix[2, 1] * lg + matrix[2, 2] * lb)
    return 116.0 * y - 16.0, 500.0 * (x - y), 200.0 * (y - z)


@helper
def ciede2000(l1, a1, b1, l2, a2, b2):
    """CIEDE2000 of two Lab colours, kL = kC = kH = 1 (equations 2 to 22 of the paper)."""
    c_mean = 0.5 * (math.sqrt(a1 * a1 + b1 * b1) + math.sqrt(a2 * a2 + b2 * b2))
    c7 = c_mean**7
    g = 0.5 * (1.0 - math.sqrt(c7 / (c7 + 6103515625.0)))
    p1, p2 = (1.0 + g) * a1, (1.0 + g) * a2
    c1, c2 = math.sqrt(p1 * p1 + b1 * b1), math.sqrt(p2 * p2 + b2 * b2)
    h1 = math.degrees(math.atan2(b1, p1)) % 360.0 if c1 > 0.0 else 0.0
    h2 = math.degrees(math.atan2(b2, p2)) % 360.0 if c2 > 0.0 else 0.0
    dl, dc = l2 - l1, c2 - c1
    dh = 0.0
    if c1 * c2 > 0.0:
        dh = h2 - h1
        if dh > 180.0:
            dh -= 360.0
        elif dh < -180.0:
            dh += 360.0
    big_dh = 2.0 * math.sqrt(c1 * c2) * math.sin(math.radians(0.5 * dh))
    lm, cm = 0.5 * (l1 + l2), 0.5 * (c1 + c2)
    hm = h1 + h2
    if c1 * c2 > 0.0:
        if abs(h1 - h2) <= 180.0:
            hm = 0.5 * (h1 + h2)
        elif h1 + h2 < 360.0:
            hm = 0.5 * (h1 + h2 + 360.0)
        else:
            hm = 0.5 * (h1 + h2 - 360.0)
    t = (
        1.0 - 0.17 * math.cos(math.radians(hm - 30.0)) + 0.24 * math.cos(math.radians(2.0 * hm))
        + 0.32 * math.cos(math.radians(3.0 * hm + 6.0)) - 0.20 * math.cos(math.radians(4.0 * hm - 63.0))
    )  # fmt: skip
    turn = 30.0 * math.exp(-(((hm - 275.0) / 25.0) ** 2))
    cm7 = cm**7
    rc = 2.0 * math.sqrt(cm7 / (cm7 + 6103515625.0))
    l50 = (lm - 50.0) ** 2
    sl, sc, sh = 1.0 + 0.015 * l50 / math.sqrt(20.0 + l50), 1.0 + 0.045 * cm, 1.0 + 0.015 * cm * t
    rt = -math.sin(math.radians(2.0 * turn)) * rc
    x, y, z = dl / sl, dc / sc, big_dh / sh
    return math.sqrt(max(x * x + y * y + z * z + rt * y * z, 0.0))


@njit(cache=True, parallel=True, nogil=True)
def _picture(first, second, matrix, table, out):
    height, width = out.shape
    for y in prange(height):
        for x in range(width):
            r1, g1, b1 = first[y, x, 0], first[y, x, 1], first[y, x, 2]
            r2, g2, b2 = second[y, x, 0], second[y, x, 1], second[y, x, 2]
            if r1 == r2 and g1 == g2 and b1 == b2:
                out[y, x] = 0.0
                continue
            l1, a1, bb1 = lab_of(r1, g1, b1, matrix, table)
            l2, a2, bb2 = lab_of(r2, g2, b2, matrix, table)
            out[y, x] = ciede2000(l1, a1, bb1, l2, a2, bb2)


def delta_e_2000(first: np.ndarray, second: np.ndarray) -> np.ndarray:
    """(h, w) float32 CIEDE2000 of two uint8 sRGB pictures (h, w, 3). ValueError if their shapes differ."""
    if first.shape != second.shape:
        raise ValueError(f"pictures differ in shape: {first.shape} and {second.shape}")
    out = np.empty(first.shape[:2], np.float32)
    _picture(np.ascontiguousarray(first), np.ascontiguousarray(second), TO_RELATIVE_XYZ, DECODE_TABLE, out)
    return out


@helper
def lab_of_light(r, g, b, matrix):
    """CIE Lab of linear sRGB light, 1 being white."""
    x = _f(matrix[0, 0] * r + matrix[0, 1] * g + matrix[0, 2] * b)
    y = _f(matrix[1, 0] * r + matrix[1, 1] * g + matrix[1, 2] * b)
    z = _f(matrix[2, 0] * r + matrix[2, 1] * g + matrix[2, 2] * b)
    return 116.0 * y - 16.0, 500.0 * (x - y), 200.0 * (y - z)


@njit(cache=True, parallel=True, nogil=True)
def _light(first, second, matrix, out):
    for n in prange(len(out)):
        l1, a1, b1 = lab_of_light(first[n, 0], first[n, 1], first[n, 2], matrix)
        l2, a2, b2 = lab_of_light(second[n, 0], second[n, 1], second[n, 2], matrix)
        out[n] = ciede2000(l1, a1, b1, l2, a2, b2)


def delta_e_of_light(first: np.ndarray, second: np.ndarray) -> np.ndarray:
    """(...) float32 CIEDE2000 of linear light (..., 3) that a display shows from 0 to 1, before it is rounded to bytes. ValueError if
    shapes differ."""
    if first.shape != second.shape:
        raise ValueError(f"pictures differ in shape: {first.shape} and {second.shape}")
    a, b = (np.clip(light, 0.0, 1.0).astype(np.float64).reshape(-1, 3) for light in (first, second))
    out = np.empty(len(a), np.float32)
    _light(a, b, TO_RELATIVE_XYZ, out)
    return out.reshape(first.shape[:-1])


def changed_share(first: np.ndarray, second: np.ndarray, limit: float = VISIBLE_DIFFERENCE) -> float:
    """Share of pixels whose CIEDE2000 is above `limit`."""
    return float((delta_e_2000(first, second) > limit).mean())
