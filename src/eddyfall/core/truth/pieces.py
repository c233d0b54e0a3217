"""Connected pieces of meshes, so that a surface can be told from another part of the same drawable."""

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from eddyfall.core.scene.drawables import Geometry


def pieces_of(geometry: Geometry) -> np.ndarray:
    """(t,) number of the connected piece each triangle belongs to: those that share corners in one place, within one drawable."""
    owner_of_vertex = np.zeros(len(geometry.positions), np.float32)
    owner_of_vertex[geometry.triangles.ravel()] = np.repeat(geometry.owner, 3)
    places = np.ascontiguousarray(np.column_stack([geometry.positions, owner_of_vertex]), np.float32)
    # Rows in order, then numbered anew wherever one differs from the one before.
    order = np.lexsort(places.T)
    differs = (np.diff(places[order], axis=0) != 0).any(axis=1)
    number = np.empty(len(places), np.int64)
    number[order] = np.concatenate([[0], np.cumsum(differs)]) if len(places) else 0
    corner = number[geometry.triangles]
    count = int(corner.max(initial=-1)) + 1
    joined = coo_matrix(
        (np.ones(len(corner) * 2, np.int8), (np.repeat(corner[:, 0], 2), corner[:, 1:].ravel())), shape=(count, count)
    )
    _, label = connected_components(joined, directed=False)
    return np.asarray(label[corner[:, 0]])


def unit_normals(geometry: Geometry, triangle: np.ndarray) -> np.ndarray:
    """(n, 3) unit normals of triangles by their winding."""
    c = geometry.positions[geometry.triangles[triangle]].astype(np.float64)
    normal = np.cross(c[:, 1] - c[:, 0], c[:, 2] - c[:, 0])
    return np.asarray(normal / np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-30))
