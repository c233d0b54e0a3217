"""Kernels for what paths go through: panes and bodies of glass, met face by face, and boxes of mist.

A thin wall lets by what all reflections between its two faces leave (`shade.optics.slab`), and so does an open sheet that stands for a
slab. Into a closed body a ray is bent at each face (Snell's law, Fresnel's equations); in it light is taken up by the law of Beer and
Lambert. Rough faces are turned to a normal of their microsurface, drawn by its visible normals (Walter et al. 2007, Microfacet Models for
Refraction; Heitz 2018): through a thin wall goes what it would mirror, turned over. Whether a ray goes through or stays is drawn by chance,
and what is left weighed by it.

As in `walks`, arrays that a parallel loop writes to are taken out of their tuple before it."""

import math
from typing import NamedTuple

import numpy as np
from numba import njit, prange

from eddyfall.core.kernel import light_helper
from eddyfall.core.rays.sampling import random
from eddyfall.core.shade.columns import BASE, IOR, METALLIC, ROUGHNESS, SIGMA, THICKNESS
from eddyfall.core.shade.glass import MAP, THICKNESS_ROLE, TRANSMISSION_ROLE, mirrored_by, slab_lets
from eddyfall.core.shade.lobes import drawn
from eddyfall.core.shade.met import met_face, met_normal
from eddyfall.core.shade.tints import texel
from eddyfall.core.shade.vertex_colours import vertex_colour

SMOOTH = 0.02  # roughness below which a face bends all rays alike
MOST_CHANCE = 0.98  # of going through: what stays is never left without a path
THIN, SHEET, BODY = 1, 2, 3  # walls without an inside; open sheets that stand for a slab; closed bodies
CERTAIN = 1e30  # chance per sr of a direction that nothing else would be asked for in its stead
TURN, ACROSS, ALONG = 0, 1, 2  # dimensions of a crossing's random numbers


class Panes(NamedTuple):
    """By drawable (d,): kind, 0 for what lets nothing through; share of what is not mirrored that goes through it; thickness, where an open
    sheet's comes from; rougher; double_sided, straight uint8: smooth walls, through which rays to what shines are asked for."""

    kind: np.ndarray
    share: np.ndarray
    thickness: np.ndarray
    rougher: np.ndarray
    double_sided: np.ndarray
    straight: np.ndarray


class Way(NamedTuple):
    """n rays on their way. start, direction (n, 3); weight (n, 3) of what they bring; turned (n,) uint8: whether they left the straight
    line, or crossed what nothing is asked for through; left (n,), gloss (n, 3): of what they end on, the share of what lies under its
    coat that is not glass, and by how much its mirroring is another than Schlick's curve has it for one face."""

    start: np.ndarray
    direction: np.ndarray
    weight: np.ndarray
    turned: np.ndarray
    left: np.ndarray
    gloss: np.ndarray


@light_helper
def _as_f0(mirrored, cosine):
    """The share mirrored straight on by which Schlick's curve comes to this share at an angle of a cosine."""
    grazing = (1.0 - cosine) ** 5
    return min(max((mirrored - grazing) / max(1.0 - grazing, 1e-6), 0.0), 1.0)


@light_helper
def _seen_in(rough, cosine):
    """Share of a microsurface of that roughness that is seen at an angle of a cosine: Smith's G1 for GGX (Heitz 2014)."""
    a2 = rough * rough * rough * rough
    return 2.0 * cosine / (cosine + math.sqrt(a2 + (1.0 - a2) * cosine * cosine))


@njit(cache=True, parallel=True, nogil=True)
def cross(rays, prim, u, v, t, key, dimension, turn, soup, surf, panes, step, way, stays):
    """Rays (m,) of a way at faces of glass: where they go on, or that they stay there, stays (m,) bool."""
    start, direction, weight, turned, left, gloss = way.start, way.direction, way.weight, way.turned, way.left, way.gloss
    for k in prange(len(rays)):
        i, p = rays[k], prim[k]
        d = soup.owner[p]
        before = turned[i]
        if panes.straight[d] == 0:  # rays to what shines are blocked by it: what comes through it comes this way alone
            turned[i] = 1
        m, kind = soup.material[d], panes.kind[d]
        c0, c1, c2 = soup.triangles[p, 0], soup.triangles[p, 1], soup.triangles[p, 2]
        b0 = 1.0 - u[k] - v[k]
        ex, ey, ez = met_face(soup.positions, c0, c1, c2)
        nx, ny, nz, length = met_normal(soup.normals, c0, c1, c2, b0, u[k], v[k], ex, ey, ez)
        nx, ny, nz = nx / length, ny / length, nz / length
        vx, vy, vz = -direction[i, 0], -direction[i, 1], -direction[i, 2]
        px = b0 * soup.positions[c0, 0] + u[k] * soup.positions[c1, 0] + v[k] * soup.positions[c2, 0]
        py = b0 * soup.positions[c0, 1] + u[k] * soup.positions[c1, 1] + v[k] * soup.positions[c2, 1]
        pz = b0 * soup.positions[c0, 2] + u[k] * soup.positions[c1, 2] + v[k] * soup.positions[c2, 2]
        stays[k] = False
        behind = ex * vx + ey * vy + ez * vz < 0.0
        if behind:
            ex, ey, ez, nx, ny, nz = -ex, -ey, -ez, -nx, -ny, -nz
            if kind != BODY and panes.double_sided[d] == 0:  # a wall that is seen from behind is not there
                start[i, 0], start[i, 1], start[i, 2] = px - ex * step, py - ey * step, pz - ez * step
                continue
        if nx * vx + ny * vy + nz * vz < 1e-3:  # a normal that is turned away is the face's
            nx, ny, nz = ex, ey, ez
        factors, used = surf.factors, surf.used
        rough = factors[m, ROUGHNESS]
        if used[m, 1] >= 0:
            rough *= texel(
                soup.triangles, soup.uv0, soup.uv1, p, u[k], v[k], used[m, 1], surf.slots, surf.levels, surf.tables, surf.texels
            )[1]
        rough = min(rough + panes.rougher[d], 1.0)
        hx, hy, hz = nx, ny, nz
        number = key[i] + np.uint64(p) * np.uint64(0x9E3779B97F4A7C15) + np.uint64(turn) * np.uint64(0xD1B54A32D192ED03)
        if rough >= SMOOTH:
            lx, ly, lz = drawn(
                rough, 1.0, nx, ny, nz, vx, vy, vz, 0.0, random(number, dimension + ACROSS), random(number, dimension + ALONG)
            )
            hx, hy, hz = vx + lx, vy + ly, vz + lz
            inv = 1.0 / max(math.sqrt(hx * hx + hy * hy + hz * hz), 1e-12)
            hx, hy, hz = hx * inv, hy * inv, hz * inv
        cosine = min(max(hx * vx + hy * vy + hz * vz, 1e-6), 1.0)
        ior = max(factors[m, IOR], 1.0)
        chosen = random(number, dimension + TURN)
        if kind == BODY and behind:  # from inside of it
            for c in range(3):
                weight[i, c] *= math.exp(-factors[m, SIGMA + c] * t[k])
            face = mirrored_by(cosine, ior)
            if chosen < face:
                ox, oy, oz = 2.0 * cosine * hx - vx, 2.0 * cosine * hy - vy, 2.0 * cosine * hz - vz
                side = step
            else:
                beyond = math.sqrt(max(1.0 - ior * ior * (1.0 - cosine * cosine), 0.0))
                along = ior * cosine - beyond
                ox, oy, oz = along * hx - ior * vx, along * hy - ior * vy, along * hz - ior * vz
                side = -step
            _go_on(i, px, py, pz, ex, ey, ez, nx, ny, nz, ox, oy, oz, side, rough, start, direction, weight)
            continue
        r, g, b, share = (
            factors[m, BASE],
            factors[m, BASE + 1],
            factors[m, BASE + 2],
            panes.share[d] * (1.0 - factors[m, METALLIC]),
        )
        vr, vg, vb, _ = vertex_colour(soup.colours, c0, c1, c2, b0, u[k], v[k])
        r, g, b = r * vr, g * vg, b * vb
        if used[m, 0] >= 0:
            tr, tg, tb, _ = texel(
                soup.triangles, soup.uv0, soup.uv1, p, u[k], v[k], used[m, 0], surf.slots, surf.levels, surf.tables, surf.texels
            )
            r, g, b = r * tr, g * tg, b * tb
        if used[m, TRANSMISSION_ROLE] >= 0:
            share *= texel(
                soup.triangles,
                soup.uv0,
                soup.uv1,
                p,
                u[k],
                v[k],
                used[m, TRANSMISSION_ROLE],
                surf.slots,
                surf.levels,
                surf.tables,
                surf.texels,
            )[0]
        face, normal = mirrored_by(cosine, 1.0 / ior), max(((ior - 1.0) / (ior + 1.0)) ** 2, 1e-9)
        if kind == BODY:
            chance = min(share * (1.0 - face), MOST_CHANCE)
            if chosen >= chance:
                for c in range(3):
                    weight[i, c] /= 1.0 - chance
                left[i] = 1.0 - share
                more = _as_f0(face, cosine) / normal
                gloss[i, 0], gloss[i, 1], gloss[i, 2] = more, more, more
                stays[k], turned[i] = True, before
                continue
            through = share * (1.0 - face) / chance
            weight[i, 0], weight[i, 1], weight[i, 2] = (
                weight[i, 0] * through * r,
                weight[i, 1] * through * g,
                weight[i, 2] * through * b,
            )
            bx, by, bz, _ = _bent(vx, vy, vz, hx, hy, hz, cosine, 1.0 / ior)
            _go_on(i, px, py, pz, ex, ey, ez, nx, ny, nz, bx, by, bz, -step, rough, start, direction, weight)
            continue
        path, bx, by, bz = 0.0, 0.0, 0.0, 0.0
        if kind == SHEET:
            bx, by, bz, within = _bent(vx, vy, vz, nx, ny, nz, min(max(nx * vx + ny * vy + nz * vz, 1e-6), 1.0), 1.0 / ior)
            path = factors[m, THICKNESS] / max(within, 1e-3)
            if panes.thickness[d] == MAP and used[m, THICKNESS_ROLE] >= 0:
                path *= texel(
                    soup.triangles, soup.uv0, soup.uv1, p, u[k], v[k], used[m, THICKNESS_ROLE], surf.slots, surf.levels, surf.tables,
                    surf.texels,
                )[1]  # fmt: skip
        ar, ag = r * math.exp(-factors[m, SIGMA] * path), g * math.exp(-factors[m, SIGMA + 1] * path)
        ab = b * math.exp(-factors[m, SIGMA + 2] * path)
        kr, kg, kb = slab_lets(face, ar), slab_lets(face, ag), slab_lets(face, ab)
        mean = share * (kr + kg + kb) / 3.0
        chance = min(mean, MOST_CHANCE)
        if chosen >= chance:
            for c in range(3):
                weight[i, c] /= 1.0 - chance
            left[i] = 1.0 - share
            gloss[i, 0] = _as_f0(face * (1.0 + ar * kr), cosine) / normal
            gloss[i, 1] = _as_f0(face * (1.0 + ag * kg), cosine) / normal
            gloss[i, 2] = _as_f0(face * (1.0 + ab * kb), cosine) / normal
            stays[k], turned[i] = True, before
            continue
        weight[i, 0] *= share * kr / chance
        weight[i, 1] *= share * kg / chance
        weight[i, 2] *= share * kb / chance
        ox, oy, oz = -vx, -vy, -vz
        if rough >= SMOOTH:  # what would be mirrored, turned over
            lx, ly, lz = 2.0 * cosine * hx - vx, 2.0 * cosine * hy - vy, 2.0 * cosine * hz - vz
            over = 2.0 * (lx * nx + ly * ny + lz * nz)
            ox, oy, oz = lx - over * nx, ly - over * ny, lz - over * nz
        _go_on(
            i,
            px + path * bx,
            py + path * by,
            pz + path * bz,
            ex,
            ey,
            ez,
            nx,
            ny,
            nz,
            ox,
            oy,
            oz,
            -step,
            rough,
            start,
            direction,
            weight,
        )


@light_helper
def _bent(vx, vy, vz, hx, hy, hz, cosine, ratio):
    """(x, y, z, cosine) of the ray -v beyond a face of normal h, by Snell's law, ratio: index on this side over that beyond."""
    within = math.sqrt(max(1.0 - ratio * ratio * (1.0 - cosine * cosine), 0.0))
    along = ratio * cosine - within
    return along * hx - ratio * vx, along * hy - ratio * vy, along * hz - ratio * vz, within


@light_helper
def _go_on(i, px, py, pz, ex, ey, ez, nx, ny, nz, ox, oy, oz, side, rough, start, direction, weight):
    """Ray i goes on from a place along o, off the face by `side`; what a rough face hides of that way is lost."""
    inv = 1.0 / max(math.sqrt(ox * ox + oy * oy + oz * oz), 1e-12)
    ox, oy, oz = ox * inv, oy * inv, oz * inv
    if rough >= SMOOTH:
        cosine = nx * ox + ny * oy + nz * oz
        seen = _seen_in(rough, abs(cosine)) if cosine * side > 0.0 else 0.0
        for c in range(3):
            weight[i, c] *= seen
    start[i, 0], start[i, 1], start[i, 2] = px + ex * side, py + ey * side, pz + ez * side
    direction[i, 0], direction[i, 1], direction[i, 2] = ox, oy, oz


@njit(cache=True, parallel=True, nogil=True)
def through_mist(rays, start, direction, far, low, high, per_m, rgb, weight, glow):
    """Rays (m,) through boxes (b,) of mist, as far as (m,) m: what they bring is dimmed, and what the mist itself shines is added to glow
    (n, 3). Where boxes lie over each other, both are there."""
    count = len(per_m)
    for k in prange(len(rays)):
        i = rays[k]
        edges, near, end = np.empty(2 * count), np.empty(count), np.empty(count)
        n = 0
        for d in range(count):
            near[d], end[d] = 0.0, far[k]
            for axis in range(3):
                e, v = start[k, axis], direction[k, axis]
                if abs(v) < 1e-12:
                    if e < low[d, axis] or e > high[d, axis]:
                        end[d] = 0.0
                    continue
                a, b = (low[d, axis] - e) / v, (high[d, axis] - e) / v
                near[d], end[d] = max(near[d], min(a, b)), min(end[d], max(a, b))
            if end[d] > near[d]:
                edges[n], edges[n + 1] = near[d], end[d]
                n += 2
        cuts = np.sort(edges[:n])
        for j in range(n - 1):
            middle, density = (cuts[j] + cuts[j + 1]) / 2, 0.0
            r, g, b = 0.0, 0.0, 0.0
            for d in range(count):
                if near[d] < middle < end[d]:
                    density += per_m[d]
                    r, g, b = r + per_m[d] * rgb[d, 0], g + per_m[d] * rgb[d, 1], b + per_m[d] * rgb[d, 2]
            if density <= 0.0:
                continue
            keeps = math.exp(-density * (cuts[j + 1] - cuts[j]))
            added = (1.0 - keeps) / density
            glow[i, 0] += weight[i, 0] * r * added
            glow[i, 1] += weight[i, 1] * g * added
            glow[i, 2] += weight[i, 2] * b * added
            for c in range(3):
                weight[i, c] *= keeps
