"""Eye rays of some pixels and the faces that they look at: three numbers a row, so compiled; in NumPy each step would be an array."""

import math

import numpy as np
from numba import njit


def ray_directions(d0: np.ndarray, du: np.ndarray, dv: np.ndarray, x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """(n, 3) unit directions of eye rays at x, y (n,) px from the frame's top left corner: d0 + x du + y dv, made one long."""
    return _ray_directions(d0, du, dv, np.asarray(x, np.float64), np.asarray(y, np.float64))


def face_normals(positions: np.ndarray, triangles: np.ndarray, triangle: np.ndarray, directions: np.ndarray) -> np.ndarray:
    """(n, 3) unit normals of faces `triangle` (n,), on the side that directions (n, 3) look at; zero of a face without area."""
    return _face_normals(positions, triangles, np.asarray(triangle, np.int64), directions)


@njit(cache=True)
def _ray_directions(d0, du, dv, x, y):
    result = np.empty((len(x), 3))
    for n in range(len(x)):
        a, b, c = (
            (d0[0] + x[n] * du[0]) + y[n] * dv[0],
            (d0[1] + x[n] * du[1]) + y[n] * dv[1],
            (d0[2] + x[n] * du[2]) + y[n] * dv[2],
        )
        length = math.sqrt(a * a + b * b + c * c)
        result[n, 0], result[n, 1], result[n, 2] = a / length, b / length, c / length
    return result


@njit(cache=True)
def _face_normals(positions, triangles, triangle, directions):
    result = np.empty((len(triangle), 3))
    for n in range(len(triangle)):
        a, b, c = triangles[triangle[n], 0], triangles[triangle[n], 1], triangles[triangle[n], 2]
        ox, oy, oz = np.float64(positions[a, 0]), np.float64(positions[a, 1]), np.float64(positions[a, 2])
        ux, uy, uz = positions[b, 0] - ox, positions[b, 1] - oy, positions[b, 2] - oz
        vx, vy, vz = positions[c, 0] - ox, positions[c, 1] - oy, positions[c, 2] - oz
        x, y, z = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
        length = max(math.sqrt(x * x + y * y + z * z), 1e-30)
        if x * directions[n, 0] + y * directions[n, 1] + z * directions[n, 2] > 0:
            length = -length
        result[n, 0], result[n, 1], result[n, 2] = x / length, y / length, z / length
    return result
