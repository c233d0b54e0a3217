"""Levels of detail: which one of a node is due from an eye, and the scene as it then stands.

Everything else is asked of the first level, the finest: what is lit, baked and proved is the same from everywhere."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from eddyfall.core.scene.model import Node, Scene

NEAR_M = 1e-3


@dataclass(frozen=True)
class Levels:
    """Of a node, by number: further, the nodes that stand for it, coarser each; coverage: the least share of the picture that it covers
    for the first, the second ...; below the last that is said for every level it is not drawn."""

    node: int
    further: tuple[Node, ...]
    coverage: tuple[float, ...] = ()

    def due(self, share: float) -> int | None:
        """The level (0: the first) for a share of the picture; None: not drawn. Levels without a share of their own are never due."""
        for level, least in enumerate(self.coverage):
            if share >= least:
                return level
        if len(self.coverage) == len(self.further) + 1:
            return None
        return len(self.coverage)


def covered(corners: np.ndarray, eye: Any, axes: Any, fov_y_rad: float, aspect: float) -> float:
    """Share of a picture that the rectangle around projected corners (n, 3) m takes, whether it lies in the picture or not, 1 at the most;
    axes: rows right, up, back of the camera. What reaches behind the eye covers all. The extension leaves open how coverage is measured."""
    seen = (np.asarray(corners, float) - np.asarray(eye, float)) @ np.asarray(axes, float).T
    depth = -seen[:, 2]
    if depth.max() <= NEAR_M:
        return 0.0
    if depth.min() <= NEAR_M:
        return 1.0
    half = math.tan(fov_y_rad / 2)
    width, height = np.ptp(seen[:, 0] / depth) / (2 * half * aspect), np.ptp(seen[:, 1] / depth) / (2 * half)
    return float(min(width * height, 1.0))


def levels_due(scene: Scene, eye: Any, axes: Any, fov_y_rad: float, aspect: float) -> dict[int, int | None]:
    """By number of each node that has levels, the one that is due (None: not drawn), as `covered` measures the box of its first."""
    found = {}
    for levels in scene.levels:
        if levels.coverage and (corners := _corners(scene, levels.node)) is not None:
            found[levels.node] = levels.due(covered(corners, eye, axes, fov_y_rad, aspect))
    return found


def in_levels(scene: Scene, due: Mapping[int, int | None]) -> Scene:
    """The scene with nodes at the levels of `due`; what hangs on a node is shown with its first level alone."""
    nodes = list(scene.nodes)
    of = {levels.node: levels for levels in scene.levels}
    away = {number for number, level in due.items() if level != 0}
    while more := {i for i, n in enumerate(scene.nodes) if n.parent in away} - away:
        away |= more
    for i in away - set(due):
        nodes[i] = replace(nodes[i], mesh=None, light=None)
    for number, level in due.items():
        if level == 0:
            continue
        stands = nodes[number]
        if level is None:
            nodes[number] = replace(stands, mesh=None, skin=None, weights=())
        else:
            other = of[number].further[level - 1]
            nodes[number] = replace(stands, mesh=other.mesh, matrix=other.matrix, skin=other.skin, weights=other.weights)
    return replace(scene, nodes=tuple(nodes))


def _corners(scene: Scene, number: int) -> np.ndarray | None:
    """(8, 3) m: the corners of the box of a node's shape, in the world."""
    mesh = scene.nodes[number].mesh
    if mesh is None or not scene.meshes[mesh].primitives:
        return None
    points = np.concatenate([p.positions for p in scene.meshes[mesh].primitives]).astype(float)
    low, high = points.min(axis=0), points.max(axis=0)
    box = np.array([[x, y, z] for x in (low[0], high[0]) for y in (low[1], high[1]) for z in (low[2], high[2])])
    world = scene.world_matrices[number]
    return np.asarray(box @ world[:3, :3].T + world[:3, 3])
