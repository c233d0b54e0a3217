"""Edges of screen triangles on the fixed-point grid: which pixels a triangle covers, for every kernel that fills one.

Corners are integers in 1/SUBPIXEL px, pixel centres too, so that an edge value is exact and neighbours share no pixel and leave none out.
"""

import numpy as np
from numba import njit

from eddyfall.core.kernel import helper
from eddyfall.core.raster.project import SUBPIXEL


@njit(cache=True, inline="always")
def edge(ax, ay, bx, by, px, py):
    """Twice the signed area of a, b and p: not negative where p lies on the inner side of the edge from a to b."""
    return (bx - ax) * (py - ay) - (by - ay) * (px - ax)


@njit(cache=True, inline="always")
def owns(ax, ay, bx, by):
    """Top-left rule for positively oriented triangles with rows running down: top edges run right, left edges run up."""
    return (ay == by and bx > ax) or by < ay


@helper
def upright(fixed, i):
    """(x0, y0, x1, y1, x2, y2, b, c): corners of triangle i, positively oriented; b, c: which of its corners come second and third."""
    x0, y0, x1, y1, x2, y2 = fixed[i, 0], fixed[i, 1], fixed[i, 2], fixed[i, 3], fixed[i, 4], fixed[i, 5]
    if edge(x0, y0, x1, y1, x2, y2) < 0:
        return x0, y0, x2, y2, x1, y1, 2, 1
    return x0, y0, x1, y1, x2, y2, 1, 2


@helper
def biases(x0, y0, x1, y1, x2, y2):
    """What is added to the values of the edges opposite of corner 0, 1 and 2: -1 where the triangle does not own its edge's pixels."""
    k0 = 0 if owns(x1, y1, x2, y2) else -1
    k1 = 0 if owns(x2, y2, x0, y0) else -1
    k2 = 0 if owns(x0, y0, x1, y1) else -1
    return k0, k1, k2


@helper
def covers(x0, y0, x1, y1, x2, y2, k0, k1, k2, px, py):
    """Whether a triangle covers the pixel centre (px, py)."""
    if edge(x1, y1, x2, y2, px, py) + k0 < 0 or edge(x2, y2, x0, y0, px, py) + k1 < 0:
        return False
    return edge(x0, y0, x1, y1, px, py) + k2 >= 0


@helper
def row_span(x0, y0, x1, y1, x2, y2, k0, k1, k2, low, y, count):
    """(first, last) of the `count` pixels from x `low` on of row y that a triangle covers; empty if last < first."""
    px, py = np.int64(low) * SUBPIXEL + SUBPIXEL // 2, np.int64(y) * SUBPIXEL + SUBPIXEL // 2
    first, last = np.int64(0), np.int64(count - 1)
    first, last = _span(edge(x1, y1, x2, y2, px, py) + k0, (y1 - y2) * SUBPIXEL, first, last)
    first, last = _span(edge(x2, y2, x0, y0, px, py) + k1, (y2 - y0) * SUBPIXEL, first, last)
    first, last = _span(edge(x0, y0, x1, y1, px, py) + k2, (y0 - y1) * SUBPIXEL, first, last)
    return first, last


@helper
def _span(e, step, first, last):
    """The pixels of first..last (0 or more) of a row at which an edge value e + k step is not negative; empty if last < first."""
    if step > 0:
        if e < 0:
            first = max(first, (step - 1 - e) // step)
    elif e < 0:
        last = np.int64(-1)
    elif step < 0:
        last = min(last, e // -step)
    return first, last
