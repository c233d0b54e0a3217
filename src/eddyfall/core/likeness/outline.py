"""Outlines of shapes, as they are drawn with their dimensions: edges between what is turned to the eye and what is not, and open ones."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from eddyfall.core.likeness.shapes import Shape

WELD = 1e-5  # of a shape's size: corners nearer than that are one
CREASE = np.cos(np.radians(40.0))  # faces that meet at a sharper angle have a line between them
MOST = 600


@dataclass(frozen=True)
class Outline:
    """Lines (n, 2, 2) m on the plane that a shape is looked at along its thinnest axis; box: its width and height there and its depth, m;
    axes: which of x, y, z run to the right, up and away."""

    lines: np.ndarray
    box: tuple[float, float, float]
    axes: tuple[int, int, int]


def outline_of(shape: Shape, axes: tuple[int, int, int] | None = None) -> Outline:
    """The outline of a shape, seen along its thinnest axis, or as others are that it is held against."""
    low, high = shape.box
    size = high - low
    if axes is None:
        away = int(np.argmin(size))
        up = 1 if away != 1 else 2
        axes = (3 - away - up, up, away)
    right, up, away = axes
    corners = shape.corners.reshape(-1, 3)
    weld = max(float(size.max()) * WELD, 1e-9)
    _, place, point = np.unique(np.round(corners / weld).astype(np.int64), axis=0, return_index=True, return_inverse=True)
    faces = point.reshape(-1, 3)
    normal = np.cross(shape.corners[:, 1] - shape.corners[:, 0], shape.corners[:, 2] - shape.corners[:, 0])
    length = np.linalg.norm(normal, axis=1, keepdims=True)
    kept = (length[:, 0] > 0) & (faces[:, 0] != faces[:, 1]) & (faces[:, 1] != faces[:, 2]) & (faces[:, 0] != faces[:, 2])
    faces, normal = faces[kept], (normal / np.maximum(length, 1e-300))[kept]
    edges = np.concatenate([faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 0]]])
    owner = np.tile(np.arange(len(faces)), 3)
    edges = np.sort(edges, axis=1)
    order = np.lexsort((edges[:, 1], edges[:, 0]))
    edges, owner = edges[order], owner[order]
    first = np.r_[True, (edges[1:] != edges[:-1]).any(axis=1)]
    starts, ends = np.flatnonzero(first), np.r_[np.flatnonzero(first)[1:], len(edges)]
    drawn = []
    for a, b in zip(starts, ends):
        if b - a != 2:
            drawn.append(edges[a])
            continue
        one, other = normal[owner[a]], normal[owner[a + 1]]
        if one[away] * other[away] < 0 or float(one @ other) < CREASE:
            drawn.append(edges[a])
    if not drawn:
        return Outline(np.zeros((0, 2, 2)), (float(size[right]), float(size[up]), float(size[away])), axes)
    lines = corners[place][np.array(drawn)][:, :, [right, up]]
    longest = np.argsort(-np.linalg.norm(lines[:, 1] - lines[:, 0], axis=1), kind="stable")[:MOST]
    return Outline(lines[np.sort(longest)], (float(size[right]), float(size[up]), float(size[away])), axes)
