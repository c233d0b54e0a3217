"""Kernels of light paths: where they start, how they go on, what they find. One row a path; arrays only.

Written out for speed; `tests/outside/test_bake_light.py` holds the whole of them to closed formulas and to another renderer.
"""

import math

import numpy as np
from numba import njit, prange

from eddyfall.core.kernel import helper
from eddyfall.core.raster.rasterise import sample_alpha
from eddyfall.core.rays.sampling import about, cosine_point, even_point, mixed, random
from eddyfall.core.shade.coat import average_at
from eddyfall.core.shade.lights import DIRECTIONAL, incoming
from eddyfall.core.shade.met import met_face, met_material, met_normal
from eddyfall.core.shade.sky import picture_radiance, sky_radiance


@njit(cache=True, nogil=True)
def cut_through(prim, u, v, owner, triangles, alpha_uv, material, cutoff, factor, table, levels, alpha):
    """(n,) bool: whether a hit falls into a hole of a cutout."""
    through = np.zeros(len(prim), np.bool_)
    for i in range(len(prim)):
        m = material[owner[prim[i]]]
        if m < 0:
            continue
        value = factor[m]
        if table[m, 5]:
            a, b, c = triangles[prim[i], 0], triangles[prim[i], 1], triangles[prim[i], 2]
            w = 1.0 - u[i] - v[i]
            at_u = alpha_uv[a, 0] * w + alpha_uv[b, 0] * u[i] + alpha_uv[c, 0] * v[i]
            at_v = alpha_uv[a, 1] * w + alpha_uv[b, 1] * u[i] + alpha_uv[c, 1] * v[i]
            value *= sample_alpha(at_u, at_v, 0.0, table, m, levels, alpha)
        through[i] = value < cutoff[m]
    return through


@helper
def _within(parts, k, x, y):
    """Whether a point lies in part k."""
    a = (parts[k, 1, 0] - parts[k, 0, 0]) * (y - parts[k, 0, 1]) - (parts[k, 1, 1] - parts[k, 0, 1]) * (x - parts[k, 0, 0])
    b = (parts[k, 2, 0] - parts[k, 1, 0]) * (y - parts[k, 1, 1]) - (parts[k, 2, 1] - parts[k, 1, 1]) * (x - parts[k, 1, 0])
    c = (parts[k, 0, 0] - parts[k, 2, 0]) * (y - parts[k, 2, 1]) - (parts[k, 0, 1] - parts[k, 2, 1]) * (x - parts[k, 2, 0])
    return (a >= 0.0 and b >= 0.0 and c >= 0.0) or (a <= 0.0 and b <= 0.0 and c <= 0.0)


@njit(cache=True, parallel=True, nogil=True)
def begin(texel, first, parts, area, part_triangle, world, positions, normals, triangles, uvs, page, edge, seed, samples, sample_from,
           key, place, facing, normal):  # fmt: skip
    """Start of each path: a point of the surface inside the texel, by area, with the face's and the shading normal."""
    for m in prange(len(texel)):
        total = 0.0
        for k in range(first[m], first[m + 1]):
            total += area[k]
        low_x, low_y = 1e300, 1e300
        for k in range(first[m], first[m + 1]):
            for corner in range(3):
                low_x, low_y = min(low_x, parts[k, corner, 0]), min(low_y, parts[k, corner, 1])
        corner_x, corner_y = math.floor(low_x + 1e-6), math.floor(low_y + 1e-6)
        for s in range(samples):
            i = m * samples + s
            key[i] = mixed(mixed(seed ^ np.uint64(texel[m])) + np.uint64(sample_from + s))
            across, down = even_point(sample_from + s, mixed(seed ^ np.uint64(texel[m]) ^ np.uint64(0xA5A5A5A5)))
            x, y = corner_x + across, corner_y + down
            k = -1
            if abs(total - 1.0) < 1e-6:  # one surface fills the texel: spread the samples evenly over its square
                for candidate in range(first[m], first[m + 1]):
                    if _within(parts, candidate, x, y):
                        k = candidate
                        break
            if k < 0:
                wanted = across * total
                k = first[m]
                while k < first[m + 1] - 1 and wanted >= area[k]:
                    wanted -= area[k]
                    k += 1
                root = math.sqrt(down)
                b1, b2 = root * (1.0 - random(key[i], 2)), root * random(key[i], 2)
                b0 = 1.0 - b1 - b2
                x = b0 * parts[k, 0, 0] + b1 * parts[k, 1, 0] + b2 * parts[k, 2, 0]
                y = b0 * parts[k, 0, 1] + b1 * parts[k, 1, 1] + b2 * parts[k, 2, 1]
            t = world[part_triangle[k]]
            c0, c1, c2 = triangles[t, 0], triangles[t, 1], triangles[t, 2]
            scale = edge / page[2]
            u0, v0 = (uvs[c0, 0] - page[0]) * scale, (uvs[c0, 1] - page[1]) * scale
            u1, v1 = (uvs[c1, 0] - page[0]) * scale - u0, (uvs[c1, 1] - page[1]) * scale - v0
            u2, v2 = (uvs[c2, 0] - page[0]) * scale - u0, (uvs[c2, 1] - page[1]) * scale - v0
            det = u1 * v2 - u2 * v1
            w1, w2 = 1.0 / 3.0, 1.0 / 3.0
            if abs(det) > 1e-300:
                w1, w2 = ((x - u0) * v2 - (y - v0) * u2) / det, ((y - v0) * u1 - (x - u0) * v1) / det
            w0 = 1.0 - w1 - w2
            facing[i, 0], facing[i, 1], facing[i, 2] = met_face(positions, c0, c1, c2)
            for axis in range(3):
                place[i, axis] = w0 * positions[c0, axis] + w1 * positions[c1, axis] + w2 * positions[c2, axis]
                normal[i, axis] = w0 * normals[c0, axis] + w1 * normals[c1, axis] + w2 * normals[c2, axis]
            inv = math.sqrt(normal[i, 0] ** 2 + normal[i, 1] ** 2 + normal[i, 2] ** 2)
            if inv > 1e-12 and normal[i, 0] * facing[i, 0] + normal[i, 1] * facing[i, 1] + normal[i, 2] * facing[i, 2] > 0.0:
                for axis in range(3):
                    normal[i, axis] /= inv
            else:
                for axis in range(3):
                    normal[i, axis] = facing[i, axis]


@njit(cache=True, nogil=True)
def towards_light(alive, place, normal, facing, weight, lights, light, step, which, value, start, direction, distance):
    """Shadow rays of the living paths to one light, those it can shine on only: path, irradiance it adds if nothing is in the way, and the
    ray, from off the face to short of the light. Returns how many."""
    made = 0
    for k in range(len(alive)):
        i = alive[k]
        lx, ly, lz, share, d = incoming(light, place[i, 0], place[i, 1], place[i, 2], lights)
        cosine = normal[i, 0] * lx + normal[i, 1] * ly + normal[i, 2] * lz
        if share <= 0.0 or cosine <= 0.0 or facing[i, 0] * lx + facing[i, 1] * ly + facing[i, 2] * lz <= 0.0:
            continue
        total = 0.0
        for c in range(3):
            value[made, c] = weight[i, c] * cosine * share * lights.power[light, c]
            total += value[made, c]
        if total <= 0.0:
            continue
        which[made] = i
        for axis in range(3):
            start[made, axis] = place[i, axis] + facing[i, axis] * step
        direction[made, 0], direction[made, 1], direction[made, 2] = lx, ly, lz
        distance[made] = 1e30 if lights.kind[light] == DIRECTIONAL else d - 2.0 * step
        made += 1
    return made


@njit(cache=True, nogil=True)
def add_value(which, value, light):
    for k in range(len(which)):
        for c in range(3):
            light[which[k], c] += value[k, c]


@njit(cache=True, parallel=True, nogil=True)
def cosine_rays(alive, key, place, normal, facing, bounce, step):
    """(starts off the face, directions), cosine-weighted about the shading normals."""
    n = len(alive)
    start, direction = np.empty((n, 3)), np.empty((n, 3))
    for k in prange(n):
        i = alive[k]
        x, y, z = cosine_point(random(key[i], 3 + 2 * bounce), random(key[i], 4 + 2 * bounce))
        direction[k, 0], direction[k, 1], direction[k, 2] = about(normal[i, 0], normal[i, 1], normal[i, 2], x, y, z)
        below = direction[k, 0] * facing[i, 0] + direction[k, 1] * facing[i, 1] + direction[k, 2] * facing[i, 2]
        if below < 0.0:  # a bent normal can point a ray into the face; mirror it back
            for axis in range(3):
                direction[k, axis] -= 2.0 * below * facing[i, axis]
        for axis in range(3):
            start[k, axis] = place[i, axis] + facing[i, axis] * step
    return start, direction


@njit(cache=True, parallel=True, nogil=True)
def arrive(alive, prim, u, v, t, start, direction, positions, normals, uv0, uv1, colours, triangles, owner, double_sided, material, surf,
            sky, hidden_m, place, facing, normal, weight, light, back):  # fmt: skip
    """What each ray finds: sky, or a surface's emission; moves the path there. Returns which paths go on; `back` marks rays
    that met a back face, or a face nearer than hidden_m that lies against the surface."""
    n = len(alive)
    goes_on = np.zeros(n, np.bool_)
    for k in prange(n):
        i = alive[k]
        p = prim[k]
        if p < 0:
            if sky.levels.shape[0]:
                red, green, blue = picture_radiance(direction[k, 0], direction[k, 1], direction[k, 2], 0.0, sky)
                light[i, 0] += weight[i, 0] * math.pi * red
                light[i, 1] += weight[i, 1] * math.pi * green
                light[i, 2] += weight[i, 2] * math.pi * blue
                continue
            for c in range(3):
                light[i, c] += weight[i, c] * math.pi * sky_radiance(direction[k, 1], c, sky)
            continue
        c0, c1, c2 = triangles[p, 0], triangles[p, 1], triangles[p, 2]
        ex, ey, ez = met_face(positions, c0, c1, c2)
        d = owner[p]
        side = 1.0
        if ex * direction[k, 0] + ey * direction[k, 1] + ez * direction[k, 2] > 0.0:
            if double_sided[d] == 0:
                back[k] = 1
                continue
            side = -1.0
        if t[k] < hidden_m and side * (ex * facing[i, 0] + ey * facing[i, 1] + ez * facing[i, 2]) < -0.9:
            back[k] = 1
        b0 = 1.0 - u[k] - v[k]
        r, g, b, er, eg, eb, metal, rough = met_material(surf, material[d], uv0, uv1, colours, c0, c1, c2, b0, u[k], v[k])
        light[i, 0] += weight[i, 0] * math.pi * er
        light[i, 1] += weight[i, 1] * math.pi * eg
        light[i, 2] += weight[i, 2] * math.pi * eb
        # What a metal reflects goes on too, evenly: as much of it as its coat reflects over all views.
        a_part, b_part = metal * average_at(rough, 0), metal * average_at(rough, 1)
        weight[i, 0] *= r * (1.0 - metal) + r * a_part + min(1.0, 50.0 * r) * b_part
        weight[i, 1] *= g * (1.0 - metal) + g * a_part + min(1.0, 50.0 * g) * b_part
        weight[i, 2] *= b * (1.0 - metal) + b * a_part + min(1.0, 50.0 * b) * b_part
        goes_on[k] = weight[i, 0] + weight[i, 1] + weight[i, 2] > 0.0
        nx, ny, nz, length = met_normal(normals, c0, c1, c2, b0, u[k], v[k], ex, ey, ez)
        inv = side / length
        for axis in range(3):
            place[i, axis] = b0 * positions[c0, axis] + u[k] * positions[c1, axis] + v[k] * positions[c2, axis]
        facing[i, 0], facing[i, 1], facing[i, 2] = ex * side, ey * side, ez * side
        normal[i, 0], normal[i, 1], normal[i, 2] = nx * inv, ny * inv, nz * inv
    return goes_on


@njit(cache=True, nogil=True)
def sums(light, hidden, m, samples):
    """Means and variance by texel, summed in the order of the samples."""
    mean, seen, variance, share = np.zeros((m, 3)), np.zeros((m, 3)), np.zeros(m), np.zeros(m)
    for k in range(m):
        count = 0
        total, squares = 0.0, 0.0
        for s in range(samples):
            i = k * samples + s
            y = 0.2126 * light[i, 0] + 0.7152 * light[i, 1] + 0.0722 * light[i, 2]
            total += y
            squares += y * y
            for c in range(3):
                mean[k, c] += light[i, c]
                if hidden[i] == 0:
                    seen[k, c] += light[i, c]
            if hidden[i] == 0:
                count += 1
        for c in range(3):
            mean[k, c] /= samples
            if count > 0:
                seen[k, c] /= count
        share[k] = 1.0 - count / samples
        variance[k] = max(squares / samples - (total / samples) ** 2, 0.0) * (samples / (samples - 1.0) if samples > 1 else 1.0)
    return mean, seen, variance, share
