"""Homogeneous fog: transmittance exp(-sigma d) (Beer-Lambert), C = T C + (1 - T) F."""

import math

import numpy as np
from numba import njit, prange


def transmittance(distance_m: np.ndarray, fog_per_m: float) -> np.ndarray:
    """T for distances in metres (infinity gives 0, also at zero density: what reads as far is drowned in fog)."""
    distance_m = np.asarray(distance_m, np.float64)
    with np.errstate(invalid="ignore"):
        return np.where(np.isinf(distance_m), 0.0, np.exp(-fog_per_m * np.where(np.isinf(distance_m), 0.0, distance_m)))


def fogged(colour: np.ndarray, t: np.ndarray, fog_rgb: np.ndarray) -> np.ndarray:
    """T C + (1 - T) F; colour (..., 3), t (...)."""
    t = np.asarray(t)[..., None]
    return t * colour + (1.0 - t) * fog_rgb


@njit(cache=True, parallel=True, nogil=True)
def _fog_buffer(colour, distance, visible, fog_per_m, fog_rgb, covers_sky, out):
    height, width = visible.shape
    for y in prange(height):
        for x in range(width):
            d = distance[y, x]
            t = 0.0 if math.isinf(d) else math.exp(-fog_per_m * d)
            if visible[y, x] < 0:
                t = 1.0 - (1.0 - t) * covers_sky
            for c in range(3):
                out[y, x, c] = t * colour[y, x, c] + (1.0 - t) * fog_rgb[c]


def fog_buffer(
    colour: np.ndarray, distance_m: np.ndarray, visible: np.ndarray, fog_per_m: float, fog_rgb: np.ndarray, covers_sky: float
) -> np.ndarray:
    """(h, w, 3) float32 fogged colour; distance_m (h, w) float64; where visible < 0 only `covers_sky` of the fog is drawn."""
    out = np.empty_like(colour)
    _fog_buffer(colour, distance_m, visible, float(fog_per_m), fog_rgb, float(covers_sky), out)
    return out
