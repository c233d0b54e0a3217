"""Convex polygons of a few corners, for kernels: half-plane clipping, areas, and the plain twin of a triangle intersection."""

import numpy as np

from eddyfall.core.kernel import helper

MOST = 16


@helper
def polygon_area(poly, n):
    """Signed area of corners poly[:n] (shoelace)."""
    total = 0.0
    for i in range(1, n - 1):
        total += (poly[i, 0] - poly[0, 0]) * (poly[i + 1, 1] - poly[0, 1]) - (poly[i + 1, 0] - poly[0, 0]) * (
            poly[i, 1] - poly[0, 1]
        )
    return 0.5 * total


@helper
def clip_half(poly, n, ax, ay, bx, by, sign, out):
    """Keep the part of poly[:n] on the left of a -> b (sign 1) or on its right (-1), into `out`; returns its corners."""
    made = 0
    ex, ey = (bx - ax) * sign, (by - ay) * sign
    for i in range(n):
        j = i + 1 if i + 1 < n else 0
        di = ex * (poly[i, 1] - ay) - ey * (poly[i, 0] - ax)
        dj = ex * (poly[j, 1] - ay) - ey * (poly[j, 0] - ax)
        if di >= 0.0:
            out[made, 0], out[made, 1] = poly[i, 0], poly[i, 1]
            made += 1
        if (di > 0.0 and dj < 0.0) or (di < 0.0 and dj > 0.0):
            s = di / (di - dj)
            out[made, 0] = poly[i, 0] + s * (poly[j, 0] - poly[i, 0])
            out[made, 1] = poly[i, 1] + s * (poly[j, 1] - poly[i, 1])
            made += 1
    return made


@helper
def intersect(tris, i, j, a, b):
    """Corners of the intersection of counter-clockwise triangles i and j, left in buffer `a`; returns their number."""
    for k in range(3):
        a[k, 0], a[k, 1] = tris[i, k, 0], tris[i, k, 1]
    n = 3
    for k in range(3):
        m = k + 1 if k < 2 else 0
        n = clip_half(a, n, tris[j, k, 0], tris[j, k, 1], tris[j, m, 0], tris[j, m, 1], 1.0, b)
        if n < 3:
            return 0
        for c in range(n):
            a[c, 0], a[c, 1] = b[c, 0], b[c, 1]
    return n


def intersection_area_plain(first: np.ndarray, second: np.ndarray) -> float:
    """Plain twin: area of the intersection of two triangles (3, 2), either winding (Sutherland & Hodgman 1974)."""

    def area(p: np.ndarray) -> float:
        x, y = p[:, 0], p[:, 1]
        return 0.5 * float(x @ np.roll(y, -1) - y @ np.roll(x, -1)) if len(p) > 2 else 0.0

    subject = first if area(first) > 0 else first[::-1]
    clip = second if area(second) > 0 else second[::-1]
    for a, b in zip(clip, np.roll(clip, -1, axis=0)):
        kept: list[np.ndarray] = []
        side = (b[0] - a[0]) * (subject[:, 1] - a[1]) - (b[1] - a[1]) * (subject[:, 0] - a[0])
        for i in range(len(subject)):
            j = (i + 1) % len(subject)
            if side[i] >= 0:
                kept.append(subject[i])
            if side[i] * side[j] < 0:
                kept.append(subject[i] + side[i] / (side[i] - side[j]) * (subject[j] - subject[i]))
        subject = np.array(kept).reshape(-1, 2)
    return area(subject)
