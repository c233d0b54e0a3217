"""How much of even light a surface's coat reflects: the glTF BRDF integrated over the hemisphere, in tables.

Split sum (Karis 2013, from memory): specular albedo = F0 A + F90 B, with A and B by n.v and roughness; what the coat lets through to
the diffuse layer is 1 - (F0 (1 - C) + F90 C), with C by n.v. The tables hold our own BRDF (GGX, height-correlated Smith, Schlick), so
that light from all around gives what the integral of `reflected` gives. Where the layers of that BRDF add up to more than one (near
white, at grazing angles) they are scaled to one: a surface gives off no more than arrives.
"""

import math

import numpy as np

from eddyfall.core.kernel import light_helper
from eddyfall.core.shade.columns import ALBEDO_RGB, F0_RGB, ROUGH

SIZE = 32  # entries along the square root of n.v, and along roughness
SAMPLES = 512


def _points(n: int) -> tuple[np.ndarray, np.ndarray]:
    """n Hammersley points (Hammersley 1960), in the middle of their cells."""
    i = np.arange(n)
    bits = np.array([int(f"{k:032b}"[::-1], 2) for k in i], np.float64) / 2.0**32
    return (i + 0.5) / n, bits + 0.5 / n


def specular_split(n_dot_v: np.ndarray, roughness: np.ndarray, samples: int = SAMPLES) -> np.ndarray:
    """(..., 2) A and B for arrays of n.v and roughness, by half vectors drawn from the GGX distribution."""
    nv = np.maximum(np.asarray(n_dot_v, float), 1e-4)[..., None]
    a2 = np.maximum(np.asarray(roughness, float) ** 2, 2e-3)[..., None] ** 2
    u, w = _points(samples)
    nh = np.sqrt((1 - w) / (1 + (a2 - 1) * w))
    sh = np.sqrt(np.maximum(1 - nh * nh, 0))
    vh = np.sqrt(1 - nv * nv) * sh * np.cos(2 * np.pi * u) + nv * nh
    nl = 2 * vh * nh - nv
    lit = (nl > 0) & (vh > 0)
    nl = np.where(lit, nl, 1.0)
    smith = 0.5 / (nl * np.sqrt(nv * nv * (1 - a2) + a2) + nv * np.sqrt(nl * nl * (1 - a2) + a2))
    weight = np.where(lit, 4 * smith * nl * vh / np.maximum(nh, 1e-9), 0.0)
    edge = (1 - np.clip(vh, 0, 1)) ** 5
    return np.stack([(weight * (1 - edge)).mean(axis=-1), (weight * edge).mean(axis=-1)], axis=-1)


def diffuse_edge(n_dot_v: np.ndarray, samples: int = SAMPLES) -> np.ndarray:
    """(...) C: mean of (1 - v.h)^5 over cosine-weighted directions of light."""
    nv = np.asarray(n_dot_v, float)[..., None]
    u, w = _points(samples)
    nl, sl = np.sqrt(w), np.sqrt(1 - w)
    vl = np.sqrt(1 - nv * nv) * sl * np.cos(2 * np.pi * u) + nv * nl
    vh = np.sqrt(np.maximum((1 + vl) / 2, 0))  # half the angle between view and light
    return np.asarray(((1 - np.clip(vh, 0, 1)) ** 5).mean(axis=-1))


_nv, _rough = (np.arange(SIZE) / (SIZE - 1)) ** 2, np.arange(SIZE) / (SIZE - 1)
SPLIT = np.ascontiguousarray(specular_split(_nv[:, None] + 0 * _rough, 0 * _nv[:, None] + _rough))  # (n.v, roughness, A and B)
EDGE = diffuse_edge(_nv)
# Mean over views, cosine-weighted: what diffuse light loses or keeps on the whole. (roughness, A and B)
AVERAGE: np.ndarray = np.asarray(np.trapezoid(SPLIT * 2 * _nv[:, None, None], _nv, axis=0))


def even_plain(row: np.ndarray, n_dot_v: float) -> tuple[np.ndarray, np.ndarray]:
    """Plain twin: ((3,), (3,)) shares of even light from all around that a surface row reflects diffusely and by its coat."""
    along, rough = math.sqrt(n_dot_v), float(row[ROUGH])
    over_rough = np.array([[np.interp(rough, _rough, SPLIT[i, :, k]) for k in (0, 1)] for i in range(SIZE)])
    a, b = (float(np.interp(along, np.sqrt(_nv), over_rough[:, k])) for k in (0, 1))
    edge = float(np.interp(along, np.sqrt(_nv), EDGE))
    f0 = np.asarray(row[F0_RGB], float)
    f90 = np.minimum(1.0, 50 * f0)
    diffuse, coat = row[ALBEDO_RGB] * (1 - (f0 * (1 - edge) + f90 * edge)), f0 * a + f90 * b
    too_much = np.maximum(diffuse + coat, 1.0)
    return diffuse / too_much, coat / too_much


@light_helper
def coat_at(n_dot_v, roughness, k):
    """A (k 0) or B (k 1) at n.v and roughness."""
    x = np.sqrt(min(max(n_dot_v, 0.0), 1.0)) * (SIZE - 1)
    y = min(max(roughness, 0.0), 1.0) * (SIZE - 1)
    i, j = min(int(x), SIZE - 2), min(int(y), SIZE - 2)
    fx, fy = x - i, y - j
    low = SPLIT[i, j, k] * (1.0 - fy) + SPLIT[i, j + 1, k] * fy
    high = SPLIT[i + 1, j, k] * (1.0 - fy) + SPLIT[i + 1, j + 1, k] * fy
    return low * (1.0 - fx) + high * fx


@light_helper
def edge_at(n_dot_v):
    """C at n.v."""
    x = np.sqrt(min(max(n_dot_v, 0.0), 1.0)) * (SIZE - 1)
    i = min(int(x), SIZE - 2)
    return EDGE[i] + (EDGE[i + 1] - EDGE[i]) * (x - i)


@light_helper
def average_at(roughness, k):
    """A (k 0) or B (k 1), mean over views."""
    y = min(max(roughness, 0.0), 1.0) * (SIZE - 1)
    j = min(int(y), SIZE - 2)
    return AVERAGE[j, k] + (AVERAGE[j + 1, k] - AVERAGE[j, k]) * (y - j)
