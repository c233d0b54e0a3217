"""What real glass lets through: Fresnel's equations and all reflections inside, summed without interference (Born and Wolf 1.5, 7.6)."""

import math
from collections.abc import Iterable

import numpy as np


def fresnel(cosine: float, ior: float) -> float:
    """Share of unpolarised light that a face of index `ior` mirrors, met from air at an angle of that cosine; 1 beyond the critical angle
    (for an index below 1)."""
    sine2 = (1 - cosine * cosine) / ior**2
    if sine2 >= 1:
        return 1.0
    inside = math.sqrt(1 - sine2)
    across, along = (cosine - ior * inside) / (cosine + ior * inside), (ior * cosine - inside) / (ior * cosine + inside)
    return (across**2 + along**2) / 2


def slab(face: float, absorbed: np.ndarray | float = 1.0) -> tuple[np.ndarray, np.ndarray]:
    """(mirrored, let through) of a slab whose two faces mirror `face` each and whose body leaves `absorbed` of what crosses it once, with
    all reflections inside."""
    a = np.asarray(absorbed, float)
    through = (1 - face) ** 2 * a / (1 - (face * a) ** 2)
    return face + face * a * through, through


def stacked(slabs: Iterable[tuple[np.ndarray, np.ndarray]]) -> np.ndarray:
    """Let through by slabs one behind the other, (mirrored, let through) each, with all reflections between them."""
    mirrored, through = np.zeros(()), np.ones(())
    for r, t in slabs:
        between = 1 - mirrored * r
        mirrored, through = mirrored + through**2 * r / between, through * t / between
    return np.asarray(through)


def slab_shift(thickness_m: float, cosine: float, ior: float) -> float:
    """m by which a slab moves a ray aside, parallel to itself (Hecht, Optics 4.4): t sin (1 - cos / sqrt(n^2 - sin^2))."""
    sine = math.sqrt(1 - cosine * cosine)
    return thickness_m * sine * (1 - cosine / math.sqrt(ior * ior - sine * sine))
