"""Where a probe would stand best for some places, and the box of the room around it: both found by rays."""

import numpy as np

from eddyfall.core.rays.queries import RayScene
from eddyfall.core.shade.facing import face_normals
from eddyfall.core.shade.probes import middles_of

LOOKS = 32  # edge of the map of directions that a box is fitted by
FACING = 0.7  # cosine between a wall and its axis
HEIGHTS_M = (0.5, 1.0, 1.5, 2.5)  # off the surfaces, that a probe is tried at
TRIED = 24
THICK_M = 0.01  # how far beyond walls a box reaches, so that what is on them is inside


def fitted_box(met: RayScene, place: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(low, high) (3,) m of the box whose faces lie where rays from a place (3,) meet most that stands across each axis; as far as they
    reach where nothing does."""
    ways = middles_of(LOOKS)
    hits = met.hits(np.tile(place, (len(ways), 1)), ways)
    there = hits.triangle >= 0
    low, high = place - 1.0, place + 1.0
    if not there.any():
        return low, high
    g, ways = met.geometry, ways[there]
    ends = place + ways * hits.distance[there, None]
    normals = face_normals(g.positions, g.triangles, hits.triangle[there], ways)
    for axis in range(3):
        for side, box in ((-1, low), (1, high)):
            walls = (normals[:, axis] * side < -FACING) & (ways[:, axis] * side > 0)
            beyond = ways[:, axis] * side > 0
            if walls.any():
                box[axis] = np.median(ends[walls, axis]) + side * THICK_M
            elif beyond.any():
                box[axis] = (ends[beyond, axis] * side).max() * side + side * THICK_M
    return np.minimum(low, place - THICK_M), np.maximum(high, place + THICK_M)


def best_place(met: RayScene, places: np.ndarray, normals: np.ndarray) -> np.ndarray:
    """(3,) m: of places some way off surfaces (n, 3) with normals (n, 3), and of the middle of the box around each, the one that sees most
    of them."""
    chosen = np.unique(np.linspace(0, len(places) - 1, TRIED).astype(int))
    tried = [places[k] + normals[k] * h for k in chosen for h in HEIGHTS_M]
    tried += [np.mean(fitted_box(met, p), axis=0) for p in tried[:: max(len(tried) // 8, 1)]]
    looked_at = places[np.unique(np.linspace(0, len(places) - 1, 256).astype(int))]
    best, most = tried[0], -1.0
    for place in tried:
        way = looked_at - place
        away = np.linalg.norm(way, axis=1)
        hits = met.hits(np.tile(place, (len(way), 1)), way / np.maximum(away, 1e-9)[:, None])
        seen = float(((hits.triangle < 0) | (hits.distance > away - 0.02)).mean())
        spread = float(np.linalg.norm(place - looked_at.mean(axis=0)))
        if seen - 1e-3 * spread > most:
            best, most = place, seen - 1e-3 * spread
    return np.asarray(best)
