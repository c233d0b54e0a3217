"""Light that reaches a surface row directly, radiance in nits: of each light what arrives, dimmed by its shadow, reflected to the eye."""

import math
from typing import Any

import numpy as np
from numba import njit, prange

from eddyfall.core.kernel import light_helper
from eddyfall.core.shade.brdf import lobes, reflected, schlick
from eddyfall.core.shade.columns import ALBEDO_RGB, DISTANCE, EMITTED, F0, F0_RGB, NORMAL, NORMAL_XYZ, ROUGH
from eddyfall.core.shade.lights import DIRECTIONAL, Lights, incoming, incoming_plain, light_visibility
from eddyfall.core.shade.shadow_maps import TRACED, ShadowMaps

NO_TINTS = np.zeros((0, 0, 0, 3), np.float32)


@light_helper
def direct_at(
    rows, index, x, y, z, vx, vy, vz, fx, fy, fz, view_depth, receives, mapped, lights, maps, traced, ty, tx, tints, cy, cx
):
    """(r, g, b, sun visibility): reflected direct light of surface row `index` at world (x, y, z) seen from unit direction v, on a face
    with normal f.

    traced[ty, tx, i]: what rays and marches let through of a light; tints[cy, cx, i, c]: what things that it goes through leave of it,
    where anything is tinted (cy >= 0). mapped: its lightmap holds the light of baked lights.
    Sun visibility is that of the first sun, 1 where it does not shine on the face."""
    r = g = b = 0.0
    sun = -1.0
    nx, ny, nz = np.float64(rows[index, NORMAL]), np.float64(rows[index, NORMAL + 1]), np.float64(rows[index, NORMAL + 2])
    rough = np.float64(rows[index, ROUGH])
    for i in range(lights.kind.shape[0]):
        if mapped and lights.baked[i]:
            continue
        lx, ly, lz, share, distance = incoming(i, x, y, z, lights)
        n_dot_l, spec, v_dot_h = lobes(nx, ny, nz, vx, vy, vz, lx, ly, lz, rough)
        visible = 1.0
        if n_dot_l > 0.0 and share > 0.0:
            if receives:
                if lights.technique[i] == TRACED:
                    visible = np.float64(traced[ty, tx, i])
                else:
                    visible = light_visibility(
                        i, x, y, z, nx, ny, nz, fx, fy, fz, n_dot_l, view_depth, distance, lights, maps
                    )  # fmt: skip
                    visible *= np.float64(traced[ty, tx, i])
            if visible > 0.0:
                k = n_dot_l * share * visible
                for c in range(3):
                    f0 = np.float64(rows[index, F0 + c])
                    fresnel = schlick(f0, min(1.0, 50.0 * f0), v_dot_h)
                    value = (rows[index, c] / math.pi * (1.0 - fresnel) + spec * fresnel) * k * lights.power[i, c]
                    if receives and cy >= 0:
                        value *= np.float64(tints[cy, cx, i, c])
                    if c == 0:
                        r += value
                    elif c == 1:
                        g += value
                    else:
                        b += value
        if sun < 0.0 and lights.kind[i] == DIRECTIONAL:
            sun = visible
    return r, g, b, max(sun, 0.0) if sun >= 0.0 else 1.0


def direct_plain(
    row: np.ndarray,
    place: np.ndarray,
    view: np.ndarray,
    view_depth: float,
    receives: bool,
    mapped: bool,
    lights: Lights,
    maps: ShadowMaps,
    traced: np.ndarray | None = None,
    face: np.ndarray | None = None,
    tints: np.ndarray | None = None,
) -> list[tuple[np.ndarray, float]]:
    """Plain twin: for each light (radiance rgb it adds, its visibility); place in m, view unit vector to the eye; face: normal of the
    face, if it is not the row's; traced (n,): what rays let through (None: all); tints (n, 3): what is left of
    light by what it goes through."""
    result = []
    normal = row[NORMAL_XYZ]
    face = normal if face is None else face
    for i in range(len(lights.kind)):
        if mapped and lights.baked[i]:
            result.append((np.zeros(3), 1.0))
            continue
        towards, share, distance = incoming_plain(i, place, lights)
        n_dot_l = float(row[NORMAL_XYZ] @ towards)
        visible = 1.0
        if receives and n_dot_l > 0 and share > 0:
            if lights.technique[i] == TRACED:
                visible = 1.0 if traced is None else float(traced[i])
            else:
                visible = float(light_visibility(i, *place, *normal, *face, n_dot_l, view_depth, distance, lights, maps))
                visible *= 1.0 if traced is None else float(traced[i])
        shine = reflected(row[ALBEDO_RGB], row[F0_RGB], float(row[ROUGH]), row[NORMAL_XYZ], view, towards)
        through = tints[i] if tints is not None and receives else np.ones(3)
        result.append((shine * share * visible * lights.power[i] * through, visible))
    return result


@light_helper
def face_normal(positions, triangles, t):
    """Unit normal of triangle t, on the side from which its corners run counter-clockwise."""
    a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
    ax, ay, az = np.float64(positions[a, 0]), np.float64(positions[a, 1]), np.float64(positions[a, 2])
    px, py, pz = positions[b, 0] - ax, positions[b, 1] - ay, positions[b, 2] - az
    qx, qy, qz = positions[c, 0] - ax, positions[c, 1] - ay, positions[c, 2] - az
    x, y, z = py * qz - pz * qy, pz * qx - px * qz, px * qy - py * qx
    inv = 1.0 / max(math.sqrt(x * x + y * y + z * z), 1e-30)
    return x * inv, y * inv, z * inv


@njit(cache=True, parallel=True, nogil=True)
def _direct_buffer(
    rows,
    visible,
    drawable,
    triangle,
    positions,
    triangles,
    receives,
    mapped,
    ox,
    oy,
    jx,
    jy,
    rays,
    lights,
    maps,
    traced,
    tints,
    out,
    sun,
):
    height, width = visible.shape
    whole = np.int64(traced.shape[0] == height and traced.shape[1] == width)
    tinted = tints.shape[0] == height and tints.shape[1] == width
    for py in prange(height):
        for px in range(width):
            if visible[py, px] < 0:
                continue
            i = py * width + px
            x, y = ox + px + 0.5 + jx, oy + py + 0.5 + jy
            dx = rays.d0[0] + x * rays.du[0] + y * rays.dv[0]
            dy = rays.d0[1] + x * rays.du[1] + y * rays.dv[1]
            dz = rays.d0[2] + x * rays.du[2] + y * rays.dv[2]
            length = math.sqrt(dx * dx + dy * dy + dz * dz)
            depth = rows[i, DISTANCE] / length
            fx = fy = fz = 0.0
            if maps.by_plane == 1:
                fx, fy, fz = face_normal(positions, triangles, triangle[py, px])
            r, g, b, s = direct_at(
                rows, i, rays.eye[0] + dx * depth, rays.eye[1] + dy * depth, rays.eye[2] + dz * depth,
                -dx / length, -dy / length, -dz / length, fx, fy, fz, depth, receives[drawable[py, px]], mapped[drawable[py, px]], lights,
                maps, traced, np.int64(py) * whole, np.int64(px) * whole, tints, np.int64(py) if tinted else np.int64(-1), np.int64(px),
            )  # fmt: skip
            out[py, px, 0] = r + rows[i, EMITTED]
            out[py, px, 1] = g + rows[i, EMITTED + 1]
            out[py, px, 2] = b + rows[i, EMITTED + 2]
            sun[py, px] = s


def direct_buffer(
    surface: np.ndarray,
    visible: np.ndarray,
    drawable: np.ndarray,
    faces: tuple[np.ndarray, np.ndarray, np.ndarray],
    receives: np.ndarray,
    mapped: np.ndarray,
    origin: tuple[int, int],
    jitter: tuple[float, float],
    rays: Any,
    lights: Lights,
    maps: ShadowMaps,
    traced: np.ndarray,
    tints: np.ndarray = NO_TINTS,
) -> tuple[np.ndarray, np.ndarray]:
    """((h, w, 3) direct and emitted radiance, (h, w) visibility of the first sun). faces: triangle (h, w) of each pixel,
    positions (v, 3) and triangles (t, 3) of the scene. traced (h, w, lights) float32 what rays let through of
    each light; (1, 1, lights) if none is traced. tints (h, w, lights, 3) float32 of it; (0, 0, 0, 3) where nothing is tinted."""
    out = np.zeros((*visible.shape, 3), np.float32)
    sun = np.ones(visible.shape, np.float32)
    rows = surface.reshape(-1, surface.shape[2])
    _direct_buffer(
        rows,
        visible,
        drawable,
        *faces,
        receives,
        mapped,
        origin[0],
        origin[1],
        jitter[0],
        jitter[1],
        rays,
        lights,
        maps,
        traced,
        tints,
        out,
        sun,
    )
    return out, sun
