"""Random numbers of paths, and directions drawn by them. Every number is a hash of who asks and for what, so that a result depends
neither on how work is cut nor on where it runs. For compiled kernels."""

import math

import numpy as np

from eddyfall.core.kernel import helper


@helper
def mixed(x):
    """64 well-mixed bits of a counter (Steele, Lea and Flood 2014, SplitMix64)."""
    x = x + np.uint64(0x9E3779B97F4A7C15)
    x = (x ^ (x >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    x = (x ^ (x >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return x ^ (x >> np.uint64(31))


@helper
def random(key, dimension):
    """A number in [0, 1) of a path and dimension."""
    return np.float64(mixed(key + np.uint64(dimension) * np.uint64(0xD1342543DE82EF95)) >> np.uint64(11)) * (
        1.0 / 9007199254740992.0
    )


@helper
def even_point(s, scramble):
    """Point s of a (0, 2)-sequence in base 2, digits scrambled by `scramble`: every 2^k points lie one in each column and row of 2^k
    (Sobol' 1967; the first two dimensions, as in PBRT 4e, 8.7, from memory)."""
    x, y = np.uint64(0), np.uint64(0)
    step = np.uint64(1) << np.uint64(31)
    bits = np.uint64(s)
    bit = np.uint64(1) << np.uint64(31)
    while bits != np.uint64(0):
        if bits & np.uint64(1):
            x ^= bit
            y ^= step
        bits >>= np.uint64(1)
        bit >>= np.uint64(1)
        step ^= step >> np.uint64(1)
    x ^= scramble & np.uint64(0xFFFFFFFF)
    y ^= scramble >> np.uint64(32)
    return (np.float64(x) + 0.5) / 4294967296.0, (np.float64(y) + 0.5) / 4294967296.0


@helper
def cosine_point(first, second):
    """(x, y, z) of a cosine-weighted direction about +z, from two numbers in [0, 1), by Malley's method (PBRT 4e, A.5.3)."""
    r, phi = math.sqrt(first), 2.0 * math.pi * second
    x, y = r * math.cos(phi), r * math.sin(phi)
    return x, y, math.sqrt(max(1.0 - r * r, 0.0))


@helper
def about(nx, ny, nz, x, y, z):
    """World direction of (x, y, z) in a basis whose third axis is the unit vector n, made without branches (Duff et al. 2017, Building an
    Orthonormal Basis, Revisited)."""
    sign = 1.0 if nz >= 0.0 else -1.0
    a = -1.0 / (sign + nz)
    b = nx * ny * a
    return (
        x * (1.0 + sign * nx * nx * a) + y * b + z * nx,
        x * sign * b + y * (sign + ny * ny * a) + z * ny,
        -x * sign * nx - y * ny + z * nz,
    )


@helper
def within(nx, ny, nz, x, y, z):
    """The other way: (x, y, z) of a world direction in the basis of `about`."""
    sign = 1.0 if nz >= 0.0 else -1.0
    a = -1.0 / (sign + nz)
    b = nx * ny * a
    return (
        x * (1.0 + sign * nx * nx * a) + y * sign * b - z * sign * nx,
        x * b + y * (sign + ny * ny * a) - z * ny,
        x * nx + y * ny + z * nz,
    )
