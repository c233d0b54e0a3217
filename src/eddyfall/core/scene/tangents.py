"""Tangents that vertices carry, (v, 4): a direction, and on which side of the normal the bitangent lies (glTF 2.0, 3.7.2.1)."""

import numpy as np

from eddyfall.core.scene.model import Primitive


def tangents_of(part: Primitive) -> np.ndarray:
    """(v, 4) float32 tangents of a part; their last number is 0 where it has none."""
    found = part.attributes.get("TANGENT")
    return np.zeros((len(part.positions), 4), np.float32) if found is None else found


def turned(tangents: np.ndarray, linear: np.ndarray) -> np.ndarray:
    """Tangents (v, 4) by a matrix (3, 3), or by one each (v, 3, 3): unit again, and on the other side where it mirrors."""
    along = np.einsum("...ij,...j->...i", linear, tangents[:, :3].astype(np.float64))
    along /= np.maximum(np.linalg.norm(along, axis=1, keepdims=True), 1e-30)
    side = np.where(np.linalg.det(linear) < 0, -1.0, 1.0) * tangents[:, 3]
    return np.concatenate([along, np.reshape(side, (-1, 1))], axis=1).astype(np.float32)
