"""Meshes that joints carry: where their corners stand, each blended from its joints (glTF 2.0, 3.7.3.3; linear blend skinning).

A skinned mesh stands where its joints put it, wherever its node is: what its inverse bind matrices hold besides, as the scale of quantised
positions, goes with them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from eddyfall.core.scene.model import Node, Primitive, Scene

AT_ONCE = 1 << 16  # corners posed at a time
AT_ONCE = 1 << 16  # corners posed at a time
LEAST_SUM = 1e-6  # of weights: a corner with less has no joint, and stands where the node puts it


@dataclass(frozen=True)
class Posed:
    """positions, normals (v, 3) float32 in the world; turned (v,) bool: corners that the joints mirror; linear (v, 3, 3): what they do to
    directions."""

    positions: np.ndarray
    normals: np.ndarray
    turned: np.ndarray
    linear: np.ndarray


def sets_of(part: Primitive) -> list[int]:
    """Numbers n for which a part has both JOINTS_n and WEIGHTS_n."""
    names = part.attributes
    return [n for n in range(len(names)) if f"JOINTS_{n}" in names and f"WEIGHTS_{n}" in names]


def is_skinned(scene: Scene, node: Node, part: Primitive) -> bool:
    """Whether joints carry a part as a node shows it."""
    return node.skin is not None and bool(sets_of(part))


def weights_of(part: Primitive) -> tuple[np.ndarray, np.ndarray]:
    """((v, n) joints, (v, n) weights that add up to one; all zero where there are none) of all sets of a part."""
    sets = sets_of(part)
    joints = np.concatenate([part.attributes[f"JOINTS_{n}"] for n in sets], axis=1).astype(np.int64)
    weights = np.concatenate([part.attributes[f"WEIGHTS_{n}"] for n in sets], axis=1).astype(np.float64)
    total = weights.sum(axis=1, keepdims=True)
    return joints, np.where(total > LEAST_SUM, weights / np.where(total > LEAST_SUM, total, 1.0), 0.0)


def posed(scene: Scene, number: int, part: Primitive) -> Posed:
    """Where a skinned part of node `number` stands. Each corner's matrix is the mean of its joints' by its weights; its normal goes by the
    inverse transpose of that."""
    node = scene.nodes[number]
    assert node.skin is not None
    skin, world = scene.skins[node.skin], scene.world_matrices
    of_joint = np.stack([world[joint] @ inverse for joint, inverse in zip(skin.joints, skin.inverse)])
    joints, weights = weights_of(part)
    places, normals = (np.empty((len(joints), 3), np.float32) for _ in range(2))
    by = np.empty((len(joints), 3, 3))
    mirrored = np.empty(len(joints), bool)
    for first in range(0, len(joints), AT_ONCE):
        some = slice(first, first + AT_ONCE)
        blend = np.zeros((len(joints[some]), 4, 4))
        for joint, weight in zip(joints[some].T, weights[some].T):
            blend += weight[:, None, None] * of_joint[joint]
        blend[weights[some].sum(axis=1) == 0] = world[number]
        linear = blend[:, :3, :3]
        # The cofactors are the inverse transpose times the determinant: there where the matrix is flat, too.
        cofactors = np.stack([np.cross(linear[:, k - 2], linear[:, k - 1]) for k in range(3)], axis=1)
        det = np.einsum("vj,vj->v", linear[:, 0], cofactors[:, 0])
        turned = np.einsum("vij,vj->vi", cofactors, part.attributes["NORMAL"][some].astype(np.float64))
        turned *= np.where(det < 0, -1.0, 1.0)[:, None]
        length = np.linalg.norm(turned, axis=1, keepdims=True)
        places[some] = np.einsum("vij,vj->vi", linear, part.positions[some].astype(np.float64)) + blend[:, :3, 3]
        normals[some] = np.where(length > 1e-30, turned / np.maximum(length, 1e-30), [0.0, 1.0, 0.0])
        mirrored[some], by[some] = det < 0, linear
    return Posed(places, normals, mirrored, by)


def fall_m(scene: Scene, number: int, part: Primitive) -> float:
    """How far a renderer that takes the weights of a skinned part as they are draws a corner from where it belongs, in m, at the most: it
    lies nearer to the origin of the scene by as much of its place as its weights miss one."""
    places = posed(scene, number, part).positions.astype(np.float64)
    return float((np.abs(_sums(part) - 1.0) * np.linalg.norm(places, axis=1))[_sums(part) > LEAST_SUM].max(initial=0.0))


def _sums(part: Primitive) -> np.ndarray:
    return np.asarray(
        np.concatenate([part.attributes[f"WEIGHTS_{n}"] for n in sets_of(part)], axis=1).astype(np.float64).sum(axis=1)
    )


def astray(part: Primitive) -> float:
    """By how much the weights of a corner that has any miss one, at the most: so large a share of its place a renderer that takes them as
    they are moves it towards its origin."""
    weights = _sums(part)
    there = weights > LEAST_SUM
    return float(np.abs(weights[there] - 1.0).max(initial=0.0))
