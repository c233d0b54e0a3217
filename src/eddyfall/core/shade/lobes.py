"""The stand-in's BRDF as paths need it: its two layers apart, the chance with which a direction is drawn, and drawing one.

The coat is drawn by its visible normals (Heitz 2018, Sampling the GGX Distribution of Visible Normals), the layer under it by the cosine;
which of the two, by what each reflects of even light. `shade.brdf.reflected` is the BRDF that this has to agree with."""

import math

import numpy as np
from numba import njit

from eddyfall.core.kernel import light_helper
from eddyfall.core.rays.sampling import about, cosine_point, within
from eddyfall.core.shade.brdf import ggx_d, schlick, smith_v
from eddyfall.core.shade.coat import coat_at, edge_at

LEAST_SHARE = 0.1  # of directions for each layer that reflects anything at all


@light_helper
def share_of_coat(albedo, f0, i, rough, n_dot_v):
    """Share of directions that are drawn for the coat of row i: as much as it reflects of even light, next to the layer under it."""
    a, b, edge = coat_at(n_dot_v, rough, 0), coat_at(n_dot_v, rough, 1), edge_at(n_dot_v)
    coat, under = 0.0, 0.0
    for c in range(3):
        f90 = min(1.0, 50.0 * f0[i, c])
        coat += f0[i, c] * a + f90 * b
        under += albedo[i, c] * (1.0 - (f0[i, c] * (1.0 - edge) + f90 * edge))
    if coat <= 0.0:
        return 0.0
    if under <= 0.0:
        return 1.0
    return min(max(coat / (coat + under), LEAST_SHARE), 1.0 - LEAST_SHARE)


@light_helper
def layers(albedo, f0, i, rough, split, nx, ny, nz, vx, vy, vz, lx, ly, lz):
    """(what the layer under the coat reflects r, g, b, what the coat does r, g, b, chance of the direction per sr): BRDF times n.l of light
    from l towards v; all zero where l is behind the surface."""
    n_dot_l = nx * lx + ny * ly + nz * lz
    if n_dot_l <= 0.0:
        return 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    n_dot_v = max(nx * vx + ny * vy + nz * vz, 1e-4)
    hx, hy, hz = vx + lx, vy + ly, vz + lz
    inv = 1.0 / max(math.sqrt(hx * hx + hy * hy + hz * hz), 1e-12)
    n_dot_h = max((nx * hx + ny * hy + nz * hz) * inv, 0.0)
    v_dot_h = max((vx * hx + vy * hy + vz * hz) * inv, 0.0)
    alpha = max(rough * rough, 2e-3)
    d = ggx_d(n_dot_h, alpha)
    coat = d * smith_v(n_dot_l, n_dot_v, alpha) * n_dot_l
    under = n_dot_l / math.pi
    r = schlick(f0[i, 0], min(1.0, 50.0 * f0[i, 0]), v_dot_h)
    g = schlick(f0[i, 1], min(1.0, 50.0 * f0[i, 1]), v_dot_h)
    b = schlick(f0[i, 2], min(1.0, 50.0 * f0[i, 2]), v_dot_h)
    a2 = alpha * alpha
    seen = 0.5 * d / (n_dot_v + math.sqrt(a2 + (1.0 - a2) * n_dot_v * n_dot_v))  # G1(v) D / (4 n.v)
    return (
        albedo[i, 0] * under * (1.0 - r), albedo[i, 1] * under * (1.0 - g), albedo[i, 2] * under * (1.0 - b), coat * r, coat * g,
        coat * b, split * seen + (1.0 - split) * under,
    )  # fmt: skip


@light_helper
def alone(rough, nx, ny, nz, vx, vy, vz, lx, ly, lz):
    """(the GGX lobe without Fresnel times n.l of light from l towards v, chance of the direction per sr by visible normals)."""
    n_dot_l = nx * lx + ny * ly + nz * lz
    if n_dot_l <= 0.0:
        return 0.0, 0.0
    n_dot_v = max(nx * vx + ny * vy + nz * vz, 1e-4)
    hx, hy, hz = vx + lx, vy + ly, vz + lz
    inv = 1.0 / max(math.sqrt(hx * hx + hy * hy + hz * hz), 1e-12)
    alpha = max(rough * rough, 2e-3)
    d = ggx_d(max((nx * hx + ny * hy + nz * hz) * inv, 0.0), alpha)
    a2 = alpha * alpha
    return d * smith_v(n_dot_l, n_dot_v, alpha) * n_dot_l, 0.5 * d / (n_dot_v + math.sqrt(a2 + (1.0 - a2) * n_dot_v * n_dot_v))


@light_helper
def drawn(rough, split, nx, ny, nz, vx, vy, vz, which, first, second):
    """A direction (x, y, z) that a path goes on in, from three numbers in [0, 1)."""
    if which >= split:
        x, y, z = cosine_point(first, second)
        return about(nx, ny, nz, x, y, z)
    x, y, z = within(nx, ny, nz, vx, vy, vz)
    alpha = max(rough * rough, 2e-3)
    z = max(z, 1e-4)
    # The view, stretched so that the microsurface becomes a half sphere (Heitz 2018, section 3).
    sx, sy, sz = alpha * x, alpha * y, z
    inv = 1.0 / math.sqrt(sx * sx + sy * sy + sz * sz)
    sx, sy, sz = sx * inv, sy * inv, sz * inv
    flat = sx * sx + sy * sy
    tx, ty = (-sy / math.sqrt(flat), sx / math.sqrt(flat)) if flat > 1e-14 else (1.0, 0.0)
    bx, by, bz = -sz * ty, sz * tx, sx * ty - sy * tx
    r, phi = math.sqrt(first), 2.0 * math.pi * second
    p, q = r * math.cos(phi), r * math.sin(phi)
    s = 0.5 * (1.0 + sz)
    q = (1.0 - s) * math.sqrt(max(1.0 - p * p, 0.0)) + s * q
    up = math.sqrt(max(1.0 - p * p - q * q, 0.0))
    hx, hy, hz = alpha * (p * tx + q * bx + up * sx), alpha * (p * ty + q * by + up * sy), max(q * bz + up * sz, 1e-9)
    inv = 1.0 / math.sqrt(hx * hx + hy * hy + hz * hz)
    hx, hy, hz = hx * inv, hy * inv, hz * inv
    twice = 2.0 * (x * hx + y * hy + z * hz)
    return about(nx, ny, nz, twice * hx - x, twice * hy - y, twice * hz - z)


@njit(cache=True)
def furnace(albedo, f0, rough, n_dot_v, numbers):
    """(what the layer under the coat reflects, what the coat does) of even light, (3,) each, of albedo and f0 (1, 3): mean over directions
    drawn by `numbers` (n, 3) in [0, 1). What `coat.even_plain` has from tables."""
    vx, vz = math.sqrt(1.0 - n_dot_v * n_dot_v), n_dot_v
    split = share_of_coat(albedo, f0, 0, rough, n_dot_v)
    under, coat = np.zeros(3), np.zeros(3)
    for k in range(len(numbers)):
        lx, ly, lz = drawn(rough, split, 0.0, 0.0, 1.0, vx, 0.0, vz, numbers[k, 0], numbers[k, 1], numbers[k, 2])
        r, g, b, cr, cg, cb, chance = layers(albedo, f0, 0, rough, split, 0.0, 0.0, 1.0, vx, 0.0, vz, lx, ly, lz)
        if chance <= 0.0:
            continue
        under[0] += r / chance
        under[1] += g / chance
        under[2] += b / chance
        coat[0] += cr / chance
        coat[1] += cg / chance
        coat[2] += cb / chance
    return under / len(numbers), coat / len(numbers)
