"""Cards cut down to what their picture shows: each quad becomes the convex polygon of few corners that holds all that is not clear.

The polygon is the smaller of two: the hull with those edges taken away whose neighbours, drawn on, add the least area; and the least one
whose edges look in evenly spread directions. Both are common practice, without a source."""

import math
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import ConvexHull, QhullError

from eddyfall.core.errors import ChangeError
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import operation
from eddyfall.core.scene.maps import drawn_materials, wrapped
from eddyfall.core.scene.model import Primitive
from eddyfall.core.scene.setup.tables import MaterialSetup

CLEAR, SAFE_MIP = 2, 1  # codes of alpha that count as nothing; mip level up to which nothing of the rest is cut off
CORNERS, TURNS, MOST_MIP = (3, 16), 24, 6  # that may be asked for; rotations tried of evenly spread edges;
# the highest safe_mip
LEAST_TEXELS, MOST_TEXELS = 2, 4096  # along a card's sides
FLAT = 1e-4  # of a quad's size: what is off its plane, or off a parallelogram


@dataclass(frozen=True)
class Trim:
    """A quad's polygon: corners (n, 2) as shares along its two sides; the share of its area that is saved."""

    corners: np.ndarray
    saved: float


def reach(mip: int) -> float:
    """Texels beyond what shows that look-ups at a mip level still take from it: its cells, and half a cell between them."""
    return float(1.5 * 2**mip - 1)


def trimmed(alpha: np.ndarray, corners: int, safe_mip: int = SAFE_MIP) -> Trim | None:
    """The polygon of a card that shows all of an alpha picture (h, w) 0..1 once; None if nothing of it shows. corners: at the most, before
    what lies beyond the card is cut off; safe_mip: up to that level nothing that shows is lost."""
    height, width = alpha.shape
    there = alpha > CLEAR / 255
    if not there.any():
        return None
    rows, columns = np.nonzero(there)
    margin = reach(safe_mip)
    low, high = np.array([columns, rows], float).T - margin, np.array([columns, rows], float).T + 1 + margin
    edge = np.concatenate([low, high, np.stack([low[:, 0], high[:, 1]], 1), np.stack([high[:, 0], low[:, 1]], 1)])
    edge = np.clip(edge, 0, (width, height))
    try:
        hull = edge[ConvexHull(edge).vertices]
    except QhullError:
        return None
    found = min((_fewer(hull, corners), _even(hull, corners)), key=area)
    inside = clipped(found, (0.0, 0.0, float(width), float(height)))
    return Trim(inside / (width, height), 1 - area(inside) / (width * height))


def area(polygon: np.ndarray) -> float:
    """Area of a polygon (n, 2)."""
    x, y = polygon[:, 0], polygon[:, 1]
    return float(abs(x @ np.roll(y, -1) - y @ np.roll(x, -1)) / 2)


def _fewer(hull: np.ndarray, corners: int) -> np.ndarray:
    """A convex polygon around a hull (n, 2), counter-clockwise, with its cheapest edges taken away one after the other."""
    points = hull
    while len(points) > corners:
        n = len(points)
        before, a, b, after = np.roll(points, 1, 0), points, np.roll(points, -1, 0), np.roll(points, -2, 0)
        along, back = a - before, b - after
        cross = along[:, 0] * back[:, 1] - along[:, 1] * back[:, 0]
        with np.errstate(divide="ignore", invalid="ignore"):
            gap = b - a
            t = (gap[:, 0] * back[:, 1] - gap[:, 1] * back[:, 0]) / cross
            s = (gap[:, 0] * along[:, 1] - gap[:, 1] * along[:, 0]) / cross
        added = np.abs(gap[:, 0] * along[:, 1] - gap[:, 1] * along[:, 0]) * t / 2
        added = np.where((t > 0) & (s > 0) & np.isfinite(t), added, np.inf)  # neighbours that never meet beyond the edge
        k = int(np.argmin(added))
        if not np.isfinite(added[k]):
            break
        meet = a[k] + t[k] * along[k]
        points = np.delete(np.where(np.arange(n)[:, None] == k, meet, points), (k + 1) % n, axis=0)
    return points


def _even(hull: np.ndarray, corners: int) -> np.ndarray:
    """The least polygon around a hull whose edges look in so many evenly spread directions, over some rotations."""
    best, least = hull, math.inf
    for turn in range(TURNS):
        angle = 2 * math.pi * (np.arange(corners) + turn / TURNS) / corners
        normal = np.stack([np.cos(angle), np.sin(angle)], 1)
        reach = (hull @ normal.T).max(axis=0)
        after = np.roll(normal, -1, 0)
        over = normal[:, 0] * after[:, 1] - normal[:, 1] * after[:, 0]
        x = (reach * after[:, 1] - np.roll(reach, -1) * normal[:, 1]) / over
        y = (np.roll(reach, -1) * normal[:, 0] - reach * after[:, 0]) / over
        polygon = np.stack([x, y], 1)
        if area(polygon) < least:
            best, least = polygon, area(polygon)
    return best


def clipped(polygon: np.ndarray, box: tuple[float, float, float, float]) -> np.ndarray:
    """A convex polygon cut to a box x0, y0, x1, y1 (Sutherland and Hodgman 1974)."""
    for axis, limit, sign in ((0, box[0], 1.0), (1, box[1], 1.0), (0, box[2], -1.0), (1, box[3], -1.0)):
        inside, kept = (polygon[:, axis] - limit) * sign, []
        for k in range(len(polygon)):
            n = (k + 1) % len(polygon)
            if inside[k] >= 0:
                kept.append(polygon[k])
            if (inside[k] > 0 > inside[n]) or (inside[k] < 0 < inside[n]):
                share = inside[k] / (inside[k] - inside[n])
                kept.append(polygon[k] + share * (polygon[n] - polygon[k]))
        polygon = np.array(kept)
    return polygon


@operation("mesh.trim")
def trim(build: Build, params: dict[str, Any]) -> Build:
    """Cut the cards of `mesh` down to what their base picture shows up to mip level `safe_mip` (1), with `corners` (8) at the most.
    ChangeError for an unknown mesh, other numbers, or a part that is no set of flat cards with a picture laid straight on them."""
    key, corners, safe = params.get("mesh"), params.get("corners", 8), params.get("safe_mip", SAFE_MIP)
    if not isinstance(key, str) or key not in build.scene.mesh_keys:
        raise ChangeError(f"mesh {key!r} does not exist")
    if not isinstance(corners, int) or isinstance(corners, bool) or not CORNERS[0] <= corners <= CORNERS[1]:
        raise ChangeError(f"corners must be a whole number from {CORNERS[0]} to {CORNERS[1]}")
    if not isinstance(safe, int) or isinstance(safe, bool) or not 0 <= safe <= MOST_MIP:
        raise ChangeError(f"safe_mip must be a whole number from 0 to {MOST_MIP}")
    index = build.scene.mesh_keys.index(key)
    mesh = build.scene.meshes[index]
    parts = tuple(_trimmed_part(build, key, p, corners, safe) for p in mesh.primitives)
    return replace(build, scene=build.scene.with_mesh(index, replace(mesh, primitives=parts)))


def shown_of(build: Build, material: int | None) -> np.ndarray | None:
    """(h, w) 0..1: how much a material's base picture shows at its texels, its factor taken into account: its alpha, and what multiplied
    colours add without any; None if it has no picture, or is drawn as if there were no alpha."""
    if material is None:
        return None
    m, entry = drawn_materials(build)[material], build.setup.materials.get(build.scene.material_keys[material], MaterialSetup())
    kind = entry.blend or m.alpha_mode
    if m.base_texture is None or kind in ("opaque", "OPAQUE"):
        return None
    pixels = build.scene.images[m.base_texture.image].pixels
    alpha = pixels[..., 3] * m.base_rgba[3]
    return np.asarray((np.maximum(alpha, pixels[..., :3].max(axis=2)) if kind == "premultiplied" else alpha) / 255)


def savings(build: Build, mesh: int, corners: int = 8) -> float | None:
    """The share of a mesh's area that trimming would save; None where it cannot be trimmed, or no part of it shows."""
    kept = whole = 0.0
    for part in build.scene.meshes[mesh].primitives:
        try:
            quads = _quads(part)
        except ChangeError:
            return None
        for quad in quads:
            found = _trim_of(build, part, quad, corners, SAFE_MIP)
            if found is None:
                return None
            size = float(np.linalg.norm(np.cross(*(part.positions[quad[[1, 3]]] - part.positions[quad[0]]).astype(float))))
            whole, kept = whole + size, kept + size * (1 - found.saved)
    return 1 - kept / whole if whole else None


def _trim_of(build: Build, part: Primitive, quad: np.ndarray, corners: int, safe_mip: int) -> Trim | None:
    """The polygon of one quad, in shares along its sides from corner 0 to 1 and from 0 to 3."""
    shown = shown_of(build, part.material)
    use = drawn_materials(build)[part.material].base_texture if part.material is not None else None
    if shown is None or use is None or f"TEXCOORD_{use.uv_set}" not in part.attributes:
        return None
    height, width = shown.shape
    uv = use.turned(part.attributes[f"TEXCOORD_{use.uv_set}"][quad].astype(float)) * (width, height)
    across, up = uv[1] - uv[0], uv[3] - uv[0]
    n = [max(math.ceil(float(np.linalg.norm(v))), 1) for v in (across, up)]
    if min(n) < LEAST_TEXELS or max(n) > MOST_TEXELS:
        return None
    s, t = np.meshgrid((np.arange(n[0]) + 0.5) / n[0], (np.arange(n[1]) + 0.5) / n[1])
    at = np.floor(uv[0] + s[..., None] * across + t[..., None] * up).astype(np.int64)
    return trimmed(shown[wrapped(at[..., 1], height, use.wrap_v), wrapped(at[..., 0], width, use.wrap_u)], corners, safe_mip)


def _quads(part: Primitive) -> list[np.ndarray]:
    """(4,) vertices of each quad, in turn around it. ChangeError if the part is not made of flat parallelograms, or is skinned."""
    if any(name.startswith("JOINTS") for name in part.attributes):
        raise ChangeError("is skinned")
    n = len(part.positions)
    t = part.indices
    rows = np.concatenate([t[:, 0], t[:, 1]])
    columns = np.concatenate([t[:, 1], t[:, 2]])
    _, of = connected_components(coo_matrix((np.ones(len(rows)), (rows, columns)), shape=(n, n)), directed=False)
    quads = []
    for k in np.unique(of[t[:, 0]]):
        mine = t[of[t[:, 0]] == k]
        corners = np.unique(mine)
        if len(mine) != 2 or len(corners) != 4:
            raise ChangeError("has faces that are no cards of two triangles")
        own, across = np.setdiff1d(mine[0], mine[1]), np.setdiff1d(mine[1], mine[0])
        if len(own) != 1 or len(across) != 1:
            raise ChangeError("has faces that are no cards of two triangles")
        # The corner of the first triangle that the second has not stands across from the second's own.
        first = np.roll(mine[0], -int(np.flatnonzero(mine[0] == own[0])[0]))
        quad = np.array([first[0], first[1], across[0], first[2]])
        for name in ("POSITION", *(a for a in part.attributes if a.startswith("TEXCOORD"))):
            v = part.attributes[name][quad].astype(float)
            size = max(float(np.abs(v - v[0]).max()), 1e-12)
            if np.abs(v[0] + v[2] - v[1] - v[3]).max() > FLAT * size:
                raise ChangeError("has cards that are no flat parallelograms with a picture laid straight on them")
        quads.append(quad)
    return quads


def _trimmed_part(build: Build, key: str, part: Primitive, corners: int, safe_mip: int) -> Primitive:
    try:
        quads = _quads(part)
    except ChangeError as error:
        raise ChangeError(f"mesh {key!r} {error}") from None
    rows: dict[str, list[np.ndarray]] = {name: [] for name in part.attributes}
    faces, start = [], 0
    for quad in quads:
        found = _trim_of(build, part, quad, corners, safe_mip)
        if found is None:
            raise ChangeError(f"mesh {key!r} has a card without a picture whose alpha shows on it")
        s, t = found.corners[:, :1], found.corners[:, 1:]
        for name, values in part.attributes.items():
            v = values[quad].astype(float)
            rows[name].append((v[0] + s * (v[1] - v[0]) + t * (v[3] - v[0])).astype(values.dtype))
        m = len(found.corners)
        faces.append(start + np.array([(0, k, k + 1) for k in range(1, m - 1)], np.int32))
        start += m
    attributes = {name: freeze(np.concatenate(v)) for name, v in rows.items()}
    return replace(part, attributes=attributes, indices=freeze(np.concatenate(faces).astype(np.int32)))
