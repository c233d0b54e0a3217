"""Kernels of the reference's paths: which light their vertices are asked for, where they go on, what they meet. One row a path.

A path carries two weights from its first vertex on: what it brought by the layer under the coat there, and what by the coat, so that
bounced and mirrored light stay apart. Lights and rays are combined by the power heuristic (Veach and Guibas 1995).

Arrays that a parallel loop writes to are taken out of their tuple before it: numba (0.68) loses `tuple.array[i] = number` inside one."""

import math
from typing import NamedTuple

import numpy as np
from numba import njit, prange

from eddyfall.core.kernel import helper, light_helper
from eddyfall.core.rays.sampling import mixed, random
from eddyfall.core.shade.clear_coat import coat_share
from eddyfall.core.shade.columns import BASE_ALPHA, DIELECTRIC_F0, F0_TINT
from eddyfall.core.shade.lights import DIRECTIONAL, incoming
from eddyfall.core.shade.lobes import LEAST_SHARE, alone, drawn, layers, share_of_coat
from eddyfall.core.shade.met import blurred, met_face, met_material, met_normal, spanned
from eddyfall.core.shade.sky import in_picture, picture_radiance, sky_radiance
from eddyfall.core.shade.vertex_colours import vertex_colour

# Dimensions of a path's random numbers: so many for each vertex, in these places. Two for each light lie beyond them.
PIECES = 8  # of the vertices, that lights are asked for side by side
A_VERTEX = 16
LOBE, DIRECTION, EMITTER, EMITTER_AT, SKY_ROW, SKY_AT, STAYS, COVERED, PIXEL = 0, 1, 3, 4, 6, 7, 9, 10, 14
A_LIGHT = 4096
SURE = 4  # vertices before paths that carry little are ended at random


class Walk(NamedTuple):
    """n paths, each at a vertex. place, facing, normal, out (n, 3): where, unit normals of the face and for shading, unit direction back;
    albedo, f0 (n, 3), rough (n,); split (n,) share of directions drawn for the coat; weight (n, 6): by the first vertex's under layer
    r, g, b, by its coat r, g, b; chance (n,) per sr of the direction that led here; key (n,) of its random numbers. Of a clear coat over
    all that: top (n, 3) its normal, clear (n,) its strength (0: none), top_rough (n,), top_split (n,) share of directions drawn for it."""

    place: np.ndarray
    facing: np.ndarray
    normal: np.ndarray
    out: np.ndarray
    albedo: np.ndarray
    f0: np.ndarray
    rough: np.ndarray
    split: np.ndarray
    weight: np.ndarray
    chance: np.ndarray
    key: np.ndarray
    top: np.ndarray
    clear: np.ndarray
    top_rough: np.ndarray
    top_split: np.ndarray


def no_coats(n: int) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """top, clear, top_rough, top_split of n paths none of which stands on a clear coat."""
    return np.zeros((n, 3)), np.zeros(n), np.zeros(n), np.zeros(n)


class Emitters(NamedTuple):
    """Triangles that shine: triangle (e,), cumulative (e,) chance to be picked, pick (t,) chance of each world triangle (0: does not)."""

    triangle: np.ndarray
    cumulative: np.ndarray
    pick: np.ndarray


class SkyCells(NamedTuple):
    """A sky picture cut into cells, picked by what they give: rows (h,) and columns (h, w) cumulative, chance (h, w) of each; empty (0, 0)
    where there is no picture."""

    rows: np.ndarray
    columns: np.ndarray
    chance: np.ndarray


@njit(cache=True, parallel=True, nogil=True)
def begin(key, seed, pixel, samples, sample_from):
    """A key for each sample of each pixel."""
    for m in prange(len(pixel)):
        for s in range(samples):
            key[m * samples + s] = mixed(mixed(np.uint64(seed) ^ mixed(np.uint64(pixel[m]))) + np.uint64(sample_from + s))


@njit(cache=True, nogil=True)
def numbers_of(key, dimension):
    """(n,) number in [0, 1) of each key."""
    out = np.empty(len(key))
    for i in range(len(key)):
        out[i] = random(key[i], dimension)
    return out


@njit(cache=True, parallel=True, nogil=True)
def lay_split(alive, walk):
    """Share of directions for the coat, at each vertex."""
    split, top_split = walk.split, walk.top_split
    for k in prange(len(alive)):
        i = alive[k]
        cosine = 0.0
        for axis in range(3):
            cosine += walk.normal[i, axis] * walk.out[i, axis]
        split[i] = share_of_coat(walk.albedo, walk.f0, i, walk.rough[i], min(max(cosine, 1e-4), 1.0))
        top_split[i] = 0.0
        if walk.clear[i] > 0.0:
            share = _covered(walk, i)
            rest = 0.0
            for c in range(3):
                rest += (walk.albedo[i, c] + walk.f0[i, c]) / 3.0
            top_split[i] = min(max(share / max(share + (1.0 - share) * rest, 1e-9), LEAST_SHARE), 1.0 - LEAST_SHARE)


@light_helper
def _covered(walk, i):
    """Share of what is seen of vertex i that its clear coat stands for."""
    return coat_share(
        walk.clear[i], walk.top[i, 0] * walk.out[i, 0] + walk.top[i, 1] * walk.out[i, 1] + walk.top[i, 2] * walk.out[i, 2]
    )


@light_helper
def _at_vertex(walk, i, lx, ly, lz):
    """As `lobes.layers`, of vertex i; a clear coat's lobe is its coat's."""
    dr, dg, db, sr, sg, sb, chance = layers(
        walk.albedo, walk.f0, i, walk.rough[i], walk.split[i], walk.normal[i, 0], walk.normal[i, 1], walk.normal[i, 2],
        walk.out[i, 0], walk.out[i, 1], walk.out[i, 2], lx, ly, lz,
    )  # fmt: skip
    if walk.clear[i] > 0.0:
        share, split = _covered(walk, i), walk.top_split[i]
        left = 1.0 - share
        value, seen = alone(
            walk.top_rough[i],
            walk.top[i, 0],
            walk.top[i, 1],
            walk.top[i, 2],
            walk.out[i, 0],
            walk.out[i, 1],
            walk.out[i, 2],
            lx,
            ly,
            lz,
        )
        dr, dg, db = dr * left, dg * left, db * left
        sr, sg, sb = sr * left + value * share, sg * left + value * share, sb * left + value * share
        chance = chance * (1.0 - split) + seen * split
    return dr, dg, db, sr, sg, sb, chance


@light_helper
def _faces(walk, i, lx, ly, lz):
    return walk.facing[i, 0] * lx + walk.facing[i, 1] * ly + walk.facing[i, 2] * lz > 0.0


@light_helper
def _bring(walk, i, first, dr, dg, db, sr, sg, sb, er, eg, eb, value, k):
    """What light e brings that a vertex reflects by its layers d and s: row k of value (n, 6), by the first vertex's two layers."""
    if first:
        value[k, 0], value[k, 1], value[k, 2] = dr * er, dg * eg, db * eb
        value[k, 3], value[k, 4], value[k, 5] = sr * er, sg * eg, sb * eb
    else:
        r, g, b = (dr + sr) * er, (dg + sg) * eg, (db + sb) * eb
        value[k, 0], value[k, 1], value[k, 2] = walk.weight[i, 0] * r, walk.weight[i, 1] * g, walk.weight[i, 2] * b
        value[k, 3], value[k, 4], value[k, 5] = walk.weight[i, 3] * r, walk.weight[i, 4] * g, walk.weight[i, 5] * b
    total = 0.0
    for c in range(6):
        total += value[k, c]
    return total


@light_helper
def _set_out(walk, i, lx, ly, lz, far, step, start, direction, distance, k):
    for axis in range(3):
        start[k, axis] = walk.place[i, axis] + walk.facing[i, axis] * step
    direction[k, 0], direction[k, 1], direction[k, 2] = lx, ly, lz
    distance[k] = far


@njit(cache=True, parallel=True, nogil=True)
def ask_light(light, size, alive, walk, lights, vertex, step, which, value, start, direction, distance):
    """Rays to a light, from the vertices it can shine on: path, what it brings if nothing is in the way, ray. size: its diameter in m, a
    sun's for each m of distance; rays then go to a place of its disc. Returns how many."""
    n, made = len(alive), np.zeros(PIECES, np.int64)
    for piece in prange(PIECES):
        low, high = n * piece // PIECES, n * (piece + 1) // PIECES
        made[piece] = _lights_asked(
            low, high, light, size, alive, walk, lights, vertex, step, which, value, start, direction, distance
        )
    return _closed_up(n, made, which, value, start, direction, distance)


@njit(cache=True, nogil=True)
def _closed_up(n, made, which, value, start, direction, distance):
    """Rows that each piece of n wrote from its own beginning on, moved so that they follow each other; returns how many there are."""
    to = made[0]
    for piece in range(1, PIECES):
        low = n * piece // PIECES
        for k in range(low, low + made[piece]):
            which[to], distance[to] = which[k], distance[k]
            for c in range(6):
                value[to, c] = value[k, c]
            for axis in range(3):
                start[to, axis], direction[to, axis] = start[k, axis], direction[k, axis]
            to += 1
    return to


@light_helper
def _lights_asked(low, high, light, size, alive, walk, lights, vertex, step, which, value, start, direction, distance):
    made = low
    for k in range(low, high):
        i = alive[k]
        lx, ly, lz, share, d = incoming(light, walk.place[i, 0], walk.place[i, 1], walk.place[i, 2], lights)
        if share <= 0.0 or not _faces(walk, i, lx, ly, lz):
            continue
        dr, dg, db, sr, sg, sb, _ = _at_vertex(walk, i, lx, ly, lz)
        p = lights.power
        if _bring(
            walk, i, vertex == 0, dr, dg, db, sr, sg, sb, share * p[light, 0], share * p[light, 1], share * p[light, 2], value, made
        ) <= 0.0:  # fmt: skip
            continue
        sun = lights.kind[light] == DIRECTIONAL
        if size > 0.0:
            at = vertex * A_LIGHT + A_LIGHT + 2 * light
            radius, angle = 0.5 * size * math.sqrt(random(walk.key[i], at)), 2.0 * math.pi * random(walk.key[i], at + 1)
            far = 1.0 if sun else d
            ux, uy, uz = (0.0, 1.0, 0.0) if abs(ly) < 0.9 else (1.0, 0.0, 0.0)
            ax, ay, az = ly * uz - lz * uy, lz * ux - lx * uz, lx * uy - ly * ux
            inv = 1.0 / math.sqrt(ax * ax + ay * ay + az * az)
            ax, ay, az = ax * inv, ay * inv, az * inv
            bx, by, bz = ly * az - lz * ay, lz * ax - lx * az, lx * ay - ly * ax
            across, up = radius * math.cos(angle), radius * math.sin(angle)
            lx, ly, lz = lx * far + across * ax + up * bx, ly * far + across * ay + up * by, lz * far + across * az + up * bz
            d = math.sqrt(lx * lx + ly * ly + lz * lz)
            lx, ly, lz = lx / d, ly / d, lz / d
        which[made] = i
        _set_out(walk, i, lx, ly, lz, 1e30 if sun else d - 2.0 * step, step, start, direction, distance, made)
        made += 1
    return made - low


@helper
def _found(cumulative, number):
    """Index of the first entry beyond a number."""
    low, high = 0, len(cumulative) - 1
    while low < high:
        middle = (low + high) // 2
        if cumulative[middle] > number:
            high = middle
        else:
            low = middle + 1
    return low


@helper
def _area(positions, c0, c1, c2):
    ex, ey, ez = spanned(positions, c0, c1, c2)
    return 0.5 * math.sqrt(ex * ex + ey * ey + ez * ez)


@njit(cache=True, nogil=True)
def ask_emitters(
    alive, walk, emitters, soup, double_sided, surf, coats, vertex, step, which, value, start, direction, distance, prim
):
    """Rays to one place of one shining triangle each, prim. As `ask_light`."""
    made, base = 0, vertex * A_VERTEX
    for k in range(len(alive)):
        i = alive[k]
        key = walk.key[i]
        p = emitters.triangle[_found(emitters.cumulative, random(key, base + EMITTER))]
        root = math.sqrt(random(key, base + EMITTER_AT))
        u = root * (1.0 - random(key, base + EMITTER_AT + 1))
        v = root - u
        b0 = 1.0 - root
        c0, c1, c2 = soup.triangles[p, 0], soup.triangles[p, 1], soup.triangles[p, 2]
        lx = b0 * soup.positions[c0, 0] + u * soup.positions[c1, 0] + v * soup.positions[c2, 0] - walk.place[i, 0]
        ly = b0 * soup.positions[c0, 1] + u * soup.positions[c1, 1] + v * soup.positions[c2, 1] - walk.place[i, 1]
        lz = b0 * soup.positions[c0, 2] + u * soup.positions[c1, 2] + v * soup.positions[c2, 2] - walk.place[i, 2]
        d2 = lx * lx + ly * ly + lz * lz
        d = math.sqrt(max(d2, 1e-30))
        lx, ly, lz = lx / d, ly / d, lz / d
        ex, ey, ez = met_face(soup.positions, c0, c1, c2)
        cosine = -(ex * lx + ey * ly + ez * lz)
        drawable = soup.owner[p]
        if (cosine <= 0.0 and double_sided[drawable] == 0) or abs(cosine) < 1e-9 or not _faces(walk, i, lx, ly, lz):
            continue
        dr, dg, db, sr, sg, sb, chance = _at_vertex(walk, i, lx, ly, lz)
        if chance <= 0.0:
            continue
        _, _, _, er, eg, eb, _, _ = met_material(
            surf, soup.material[drawable], soup.uv0, soup.uv1, soup.colours, c0, c1, c2, b0, u, v
        )
        m = soup.material[drawable]
        if coats.shape[0] > 0 and coats[m, 0] > 0.0:
            nx, ny, nz, length = met_normal(soup.normals, c0, c1, c2, b0, u, v, ex, ey, ez)
            lets = 1.0 - coat_share(coats[m, 0], (nx * lx + ny * ly + nz * lz) / length)
            er, eg, eb = er * lets, eg * lets, eb * lets
        asked = emitters.pick[p] / _area(soup.positions, c0, c1, c2) * d2 / abs(cosine)
        share = asked / (asked * asked + chance * chance)  # power heuristic over `asked`
        if _bring(walk, i, vertex == 0, dr, dg, db, sr, sg, sb, er * share, eg * share, eb * share, value, made) <= 0.0:
            continue
        which[made], prim[made] = i, p
        _set_out(walk, i, lx, ly, lz, d * (1.0 - 1e-4) - 2.0 * step, step, start, direction, distance, made)
        made += 1
    return made


@light_helper
def _chance_of_cell(x, y, z, sky, cells):
    """Chance per sr with which a direction's cell is picked."""
    h, w = cells.chance.shape
    u, v = in_picture(x, y, z, sky.turn)
    row, column = min(int(v * h), h - 1), min(int(u * w), w - 1)
    sine = math.sqrt(max(1.0 - y * y, 1e-12))
    return cells.chance[row, column] * h * w / (2.0 * math.pi * math.pi * sine)


@njit(cache=True, nogil=True)
def ask_sky(alive, walk, sky, cells, vertex, step, which, value, start, direction, distance):
    """Rays to one place of a sky picture each. As `ask_light`."""
    made, base = 0, vertex * A_VERTEX
    h, w = cells.chance.shape
    for k in range(len(alive)):
        i = alive[k]
        key = walk.key[i]
        number = random(key, base + SKY_ROW)
        row = _found(cells.rows, number)
        below = cells.rows[row - 1] if row > 0 else 0.0
        within_row = (number - below) / max(cells.rows[row] - below, 1e-300)
        column = _found(cells.columns[row], min(within_row, 1.0 - 1e-12))
        u, v = (column + random(key, base + SKY_AT)) / w, (row + random(key, base + SKY_AT + 1)) / h
        angle, polar = (u - 0.5) * 2.0 * math.pi, v * math.pi
        px, pz, ly = math.sin(polar) * math.sin(angle), -math.sin(polar) * math.cos(angle), math.cos(polar)
        lx, lz = px * sky.turn[0] + pz * sky.turn[1], pz * sky.turn[0] - px * sky.turn[1]
        if not _faces(walk, i, lx, ly, lz):
            continue
        dr, dg, db, sr, sg, sb, chance = _at_vertex(walk, i, lx, ly, lz)
        if chance <= 0.0:
            continue
        asked = _chance_of_cell(lx, ly, lz, sky, cells)
        if asked <= 0.0:
            continue
        er, eg, eb = picture_radiance(lx, ly, lz, 0.0, sky)
        share = asked / (asked * asked + chance * chance)
        if _bring(walk, i, vertex == 0, dr, dg, db, sr, sg, sb, er * share, eg * share, eb * share, value, made) <= 0.0:
            continue
        which[made] = i
        _set_out(walk, i, lx, ly, lz, 1e30, step, start, direction, distance, made)
        made += 1
    return made


@njit(cache=True, nogil=True)
def add_to(which, value, blocked, under, coat):
    """Add what came (n, 6), where nothing blocked it (n,) bool, to what paths brought by the first vertex's two layers, (n, 3) each."""
    for k in range(len(which)):
        if blocked[k]:
            continue
        for c in range(3):
            under[which[k], c] += value[k, c]
            coat[which[k], c] += value[k, 3 + c]


@njit(cache=True, parallel=True, nogil=True)
def scatter(alive, walk, vertex, step, start, direction, goes):
    """Where paths go on from their vertices; weights and chances with it."""
    base = vertex * A_VERTEX
    w, chances = walk.weight, walk.chance
    for k in prange(len(alive)):
        i = alive[k]
        key = walk.key[i]
        goes[k] = False
        lobe = random(key, base + LOBE)
        if walk.clear[i] > 0.0 and lobe < walk.top_split[i]:
            lx, ly, lz = drawn(
                walk.top_rough[i], 1.0, walk.top[i, 0], walk.top[i, 1], walk.top[i, 2], walk.out[i, 0], walk.out[i, 1], walk.out[i, 2],
                0.0, random(key, base + DIRECTION), random(key, base + DIRECTION + 1),
            )  # fmt: skip
        else:
            if walk.clear[i] > 0.0:
                lobe = (lobe - walk.top_split[i]) / (1.0 - walk.top_split[i])
            lx, ly, lz = drawn(
                walk.rough[i], walk.split[i], walk.normal[i, 0], walk.normal[i, 1], walk.normal[i, 2], walk.out[i, 0], walk.out[i, 1],
                walk.out[i, 2], lobe, random(key, base + DIRECTION), random(key, base + DIRECTION + 1),
            )  # fmt: skip
        if not _faces(walk, i, lx, ly, lz):
            continue
        dr, dg, db, sr, sg, sb, chance = _at_vertex(walk, i, lx, ly, lz)
        if chance <= 0.0:
            continue
        if vertex == 0:
            w[i, 0], w[i, 1], w[i, 2] = dr / chance, dg / chance, db / chance
            w[i, 3], w[i, 4], w[i, 5] = sr / chance, sg / chance, sb / chance
        else:
            for c in range(2):
                w[i, 3 * c] *= (dr + sr) / chance
                w[i, 3 * c + 1] *= (dg + sg) / chance
                w[i, 3 * c + 2] *= (db + sb) / chance
        most = 0.0
        for c in range(6):
            most = max(most, w[i, c])
        if most <= 0.0:
            continue
        if vertex >= SURE:
            stays = min(most, 0.95)
            if random(key, base + STAYS) >= stays:
                continue
            for c in range(6):
                w[i, c] /= stays
        chances[i] = chance
        for axis in range(3):
            start[k, axis] = walk.place[i, axis] + walk.facing[i, axis] * step
        direction[k, 0], direction[k, 1], direction[k, 2] = lx, ly, lz
        goes[k] = True


@njit(cache=True, parallel=True, nogil=True)
def meet(
    alive,
    prim,
    u,
    v,
    t,
    direction,
    soup,
    double_sided,
    surf,
    sky,
    cells,
    emitters,
    walk,
    under,
    coat,
    sky_under,
    sky_coat,
    goes_on,
    left,
    gloss,
    coats,
):
    """What each ray finds: sky, or a surface that may shine; moves the path there. A face that is met from behind and has no back ends
    it. left (n,), gloss (n, 3): what glass leaves under its coat, and by how much more it mirrors; coats
    (m, 2): strength and roughness of clear coats, (0, 2) where there are none."""
    w, chances, albedo, f0s, roughs = walk.weight, walk.chance, walk.albedo, walk.f0, walk.rough
    places, facing, normal, back = walk.place, walk.facing, walk.normal, walk.out
    top, clear, top_rough = walk.top, walk.clear, walk.top_rough
    for k in prange(len(alive)):
        i = alive[k]
        p = prim[k]
        goes_on[k] = False
        if p < 0:
            share = 1.0
            if sky.levels.shape[0]:
                r, g, b = picture_radiance(direction[k, 0], direction[k, 1], direction[k, 2], 0.0, sky)
                asked = _chance_of_cell(direction[k, 0], direction[k, 1], direction[k, 2], sky, cells)
                share = chances[i] * chances[i] / (chances[i] * chances[i] + asked * asked)
            else:
                up = direction[k, 1]
                r, g, b = sky_radiance(up, 0, sky), sky_radiance(up, 1, sky), sky_radiance(up, 2, sky)
            r, g, b = r * share, g * share, b * share
            sky_under[i, 0] += w[i, 0] * r
            sky_under[i, 1] += w[i, 1] * g
            sky_under[i, 2] += w[i, 2] * b
            sky_coat[i, 0] += w[i, 3] * r
            sky_coat[i, 1] += w[i, 4] * g
            sky_coat[i, 2] += w[i, 5] * b
            continue
        c0, c1, c2 = soup.triangles[p, 0], soup.triangles[p, 1], soup.triangles[p, 2]
        ex, ey, ez = met_face(soup.positions, c0, c1, c2)
        drawable = soup.owner[p]
        cosine = ex * direction[k, 0] + ey * direction[k, 1] + ez * direction[k, 2]
        side = 1.0
        if cosine > 0.0:
            if double_sided[drawable] == 0:
                continue
            side = -1.0
        b0 = 1.0 - u[k] - v[k]
        m = soup.material[drawable]
        r, g, b, er, eg, eb, metal, rough = met_material(surf, m, soup.uv0, soup.uv1, soup.colours, c0, c1, c2, b0, u[k], v[k])
        nx, ny, nz, length = met_normal(soup.normals, c0, c1, c2, b0, u[k], v[k], ex, ey, ez)
        inv = side / length
        strength = coats[m, 0] if coats.shape[0] > 0 else 0.0
        if er + eg + eb > 0.0:
            if strength > 0.0:
                lets = 1.0 - coat_share(strength, (nx * direction[k, 0] + ny * direction[k, 1] + nz * direction[k, 2]) * inv)
                er, eg, eb = er * lets, eg * lets, eb * lets
            share = 1.0
            if emitters.pick[p] > 0.0:
                asked = emitters.pick[p] / _area(soup.positions, c0, c1, c2) * t[k] * t[k] / max(abs(cosine), 1e-12)
                share = chances[i] * chances[i] / (chances[i] * chances[i] + asked * asked)
            under[i, 0] += w[i, 0] * er * share
            under[i, 1] += w[i, 1] * eg * share
            under[i, 2] += w[i, 2] * eb * share
            coat[i, 0] += w[i, 3] * er * share
            coat[i, 1] += w[i, 4] * eg * share
            coat[i, 2] += w[i, 5] * eb * share
        if r + g + b <= 0.0 and surf.factors[m, DIELECTRIC_F0] <= 0.0 and strength <= 0.0:
            continue
        keep = 1.0 - metal
        f0 = surf.factors[m, DIELECTRIC_F0] * keep
        under_coat = keep * left[k]
        albedo[i, 0], albedo[i, 1], albedo[i, 2] = r * under_coat, g * under_coat, b * under_coat
        f0s[i, 0] = min((f0 * surf.factors[m, F0_TINT] + r * metal) * gloss[k, 0], 1.0)
        f0s[i, 1] = min((f0 * surf.factors[m, F0_TINT + 1] + g * metal) * gloss[k, 1], 1.0)
        f0s[i, 2] = min((f0 * surf.factors[m, F0_TINT + 2] + b * metal) * gloss[k, 2], 1.0)
        roughs[i] = rough
        for axis in range(3):
            places[i, axis] = b0 * soup.positions[c0, axis] + u[k] * soup.positions[c1, axis] + v[k] * soup.positions[c2, axis]
            back[i, axis] = -direction[k, axis]
        facing[i, 0], facing[i, 1], facing[i, 2] = ex * side, ey * side, ez * side
        normal[i, 0], normal[i, 1], normal[i, 2] = nx * inv, ny * inv, nz * inv
        clear[i] = strength
        if strength > 0.0:
            top_rough[i] = coats[m, 1]
            top[i, 0], top[i, 1], top[i, 2] = nx * inv, ny * inv, nz * inv
        goes_on[k] = True


@njit(cache=True, nogil=True)
def lets_through(prim, u, v, direction, key, dimension, culled, soup, double_sided, covers, surf):
    """(n,) bool: rays that go on through what they met: a blended surface lets as much light by as its alpha leaves. culled: faces seen
    from behind that are not drawn let all by. covers (d,) uint8: blended drawables."""
    through = np.zeros(len(prim), np.bool_)
    for k in range(len(prim)):
        p = prim[k]
        drawable = soup.owner[p]
        c0, c1, c2 = soup.triangles[p, 0], soup.triangles[p, 1], soup.triangles[p, 2]
        if culled and double_sided[drawable] == 0:
            ex, ey, ez = met_face(soup.positions, c0, c1, c2)
            if ex * direction[k, 0] + ey * direction[k, 1] + ez * direction[k, 2] > 0.0:
                through[k] = True
                continue
        if covers[drawable] == 0:
            continue
        m = soup.material[drawable]
        b0 = 1.0 - u[k] - v[k]
        _, _, _, alpha = vertex_colour(soup.colours, c0, c1, c2, b0, u[k], v[k])
        alpha *= surf.factors[m, BASE_ALPHA]
        s = surf.used[m, 0]
        if s >= 0:
            uv = soup.uv0 if surf.slots[s, 5] == 0 else soup.uv1
            _, _, _, a = blurred(
                surf,
                s,
                b0 * uv[c0, 0] + u[k] * uv[c1, 0] + v[k] * uv[c2, 0],
                b0 * uv[c0, 1] + u[k] * uv[c1, 1] + v[k] * uv[c2, 1],
            )
            alpha *= a
        through[k] = random(key[k] + np.uint64(p) * np.uint64(0x9E3779B97F4A7C15), dimension) >= alpha
    return through
