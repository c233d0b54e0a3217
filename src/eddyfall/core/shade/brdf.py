"""The glTF metallic-roughness BRDF: Lambert under a GGX coat (glTF 2.0, appendix B; Walter et al. 2007; Heitz 2014)."""

import math

import numpy as np

from eddyfall.core.kernel import light_helper


@light_helper
def ggx_d(n_dot_h, alpha):
    """GGX normal distribution, Walter et al. 2007 eq. 33."""
    a2 = alpha * alpha
    t = n_dot_h * n_dot_h * (a2 - 1.0) + 1.0
    return a2 / (math.pi * t * t)


@light_helper
def smith_v(n_dot_l, n_dot_v, alpha):
    """Height-correlated Smith visibility G / (4 n.l n.v), Heitz 2014."""
    a2 = alpha * alpha
    s = n_dot_l * math.sqrt(n_dot_v * n_dot_v * (1.0 - a2) + a2) + n_dot_v * math.sqrt(n_dot_l * n_dot_l * (1.0 - a2) + a2)
    return 0.5 / max(s, 1e-9)


@light_helper
def schlick(f0, f90, cosine):
    """Schlick 1994 eq. 15, with the grazing value f90."""
    m = 1.0 - min(max(cosine, 0.0), 1.0)
    m2 = m * m
    return f0 + (f90 - f0) * m2 * m2 * m


@light_helper
def lobes(nx, ny, nz, vx, vy, vz, lx, ly, lz, roughness):
    """(n.l, specular without Fresnel, v.h) of one light direction."""
    n_dot_l = nx * lx + ny * ly + nz * lz
    if n_dot_l <= 0.0:
        return 0.0, 0.0, 0.0
    n_dot_v = max(nx * vx + ny * vy + nz * vz, 1e-4)
    hx, hy, hz = vx + lx, vy + ly, vz + lz
    inv = 1.0 / max(math.sqrt(hx * hx + hy * hy + hz * hz), 1e-12)
    n_dot_h = max((nx * hx + ny * hy + nz * hz) * inv, 0.0)
    v_dot_h = max((vx * hx + vy * hy + vz * hz) * inv, 0.0)
    alpha = max(roughness * roughness, 2e-3)
    return n_dot_l, ggx_d(n_dot_h, alpha) * smith_v(n_dot_l, n_dot_v, alpha), v_dot_h


def reflected(
    albedo: np.ndarray, f0: np.ndarray, roughness: float, normal: np.ndarray, view: np.ndarray, light: np.ndarray
) -> np.ndarray:
    """Plain twin: BRDF times n.l, (3,) per unit illuminance on a face turned to the light. Vectors are unit (3,)."""
    n_dot_l = float(normal @ light)
    if n_dot_l <= 0:
        return np.zeros(3)
    n_dot_v = max(float(normal @ view), 1e-4)
    h = (view + light) / np.linalg.norm(view + light)
    a2 = max(roughness**2, 2e-3) ** 2
    d = a2 / (math.pi * (max(normal @ h, 0) ** 2 * (a2 - 1) + 1) ** 2)
    v = 0.5 / (n_dot_l * math.sqrt(n_dot_v**2 * (1 - a2) + a2) + n_dot_v * math.sqrt(n_dot_l**2 * (1 - a2) + a2))
    f90 = grazing(f0)
    fresnel = f0 + (f90 - f0) * (1 - min(max(float(view @ h), 0), 1)) ** 5
    return (albedo / math.pi * (1 - fresnel) + d * v * fresnel) * n_dot_l


def grazing(f0: np.ndarray) -> np.ndarray:
    """Reflectance at grazing angles: 1, but 0 for a surface that does not reflect at all (common practice, no source)."""
    return np.minimum(1.0, 50.0 * np.asarray(f0))
