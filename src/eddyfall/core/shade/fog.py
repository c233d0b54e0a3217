"""Homogeneous fog: transmittance exp(-sigma d) (Beer-Lambert), C = T C + (1 - T) F."""

import numpy as np


def transmittance(distance_m: np.ndarray, fog_per_m: float) -> np.ndarray:
    """T for distances in metres (infinity gives 0, also at zero density: what reads as far is drowned in fog)."""
    distance_m = np.asarray(distance_m, np.float64)
    with np.errstate(invalid="ignore"):
        return np.where(np.isinf(distance_m), 0.0, np.exp(-fog_per_m * np.where(np.isinf(distance_m), 0.0, distance_m)))


def fogged(colour: np.ndarray, t: np.ndarray, fog_rgb: np.ndarray) -> np.ndarray:
    """T C + (1 - T) F; colour (..., 3), t (...)."""
    t = np.asarray(t)[..., None]
    return t * colour + (1.0 - t) * fog_rgb
