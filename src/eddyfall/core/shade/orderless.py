"""Blended layers of a pixel put together without sorting things: their average (McGuire and Bavoil 2013, all weights 1; from memory), the
nearest of them in order, or both.

The average of what covers is their colours by coverage, sum p / sum (1 - k), over as much as they cover together, 1 - product of k. What
only adds light is added, what multiplies darkens all; what cuts what lies behind it has no place in an average and cuts nothing there."""

import numpy as np
from numba import njit, prange

SCALE = 1e-9  # coverage below which nothing is averaged


@njit(cache=True, parallel=True, nogil=True, error_model="numpy")
def composed(starts, order, k, p, q, dark, exact, averaged, layer):
    """Fragments order[starts[i]] .. of each pixel, the nearest first, laid into layer (n, 6), C and T: so many of the nearest in order, the
    rest averaged or left out; dark (n,) bool: those that multiply."""
    for i in prange(len(starts) - 1):
        first, last = starts[i], starts[i + 1]
        cut = min(first + exact, last)
        for c in range(3):
            value, through = 0.0, 1.0
            if averaged:
                value, through = average(order, cut, last, k, p, q, dark, c)
            for m in range(cut - 1, first - 1, -1):
                n = order[m]
                value = k[n, c] * value + p[n, c]
                through = k[n, c] * through + q[n]
            layer[i, c], layer[i, 3 + c] = value, through


@njit(cache=True, nogil=True, error_model="numpy")
def average(order, first, last, k, p, q, dark, c):
    """(C, T) of channel c of the fragments order[first] .. order[last - 1], averaged."""
    laid, covers, adds, behind, darkens = 0.0, 0.0, 0.0, 1.0, 1.0
    for m in range(first, last):
        n = order[m]
        if q[n] > 0.0:
            continue
        if dark[n]:
            darkens *= k[n, c]
        elif k[n, c] >= 1.0:
            adds += p[n, c]
        else:
            laid += p[n, c]
            covers += 1.0 - k[n, c]
            behind *= k[n, c]
    value = adds
    if covers > SCALE:
        value += laid / covers * (1.0 - behind)
    return value * darkens, behind * darkens


def average_plain(k: np.ndarray, p: np.ndarray, q: np.ndarray, dark: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Plain twin: (C (3,), T (3,)) of fragments k, p (n, 3), q (n,), dark (n,) bool, averaged."""
    keeps, dark = (q <= 0)[:, None], dark[:, None]
    adds = keeps & ~dark & (k >= 1)
    covers = keeps & ~dark & (k < 1)
    coverage = np.where(covers, 1 - k, 0).sum(axis=0)
    behind, darkens = np.where(covers, k, 1).prod(axis=0), np.where(dark, k, 1).prod(axis=0)
    mean = np.where(covers, p, 0).sum(axis=0) / np.maximum(coverage, SCALE)
    value = np.where(adds, p, 0).sum(axis=0) + np.where(coverage > SCALE, mean * (1 - behind), 0)
    return value * darkens, behind * darkens
